"""Findings about customers: refunds, similar ids and names, shared accounts, short history."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlglot import exp

from fairladder.book.accounts import odd_accounts
from fairladder.book.balance import major_read
from fairladder.book.matching import likely_cause
from fairladder.book.people import IN_FILE, People
from fairladder.conditions.written import for_shell, written_text
from fairladder.findings import KNOWN, Finding, finding
from fairladder.orders.cells import SPACE
from fairladder.sqltree import column, named, select, sql
from fairladder.wording import counted, percent

#: A history of fewer days from the first to the last order is too short to judge.
SHORT_HISTORY_DAYS = 180
#: One customer above this share of spend distorts every average.
DOMINANT_SHARE = 0.2
_HELD = {"n": "COUNT(*)", "orders": "SUM(orders)", "spend": "SUM(spend)"}


def customer_findings(people: People, *, notes: bool = True) -> list[Finding]:
    """Return what an analyst should know about the customers before trusting the numbers; without
    ``notes`` only warnings and errors.
    """
    seen = _Seen(people, _totals(people))
    checks = [check for code, check in _CHECKS.items() if notes or KNOWN[code].levels != ("note",)]
    return [found for check in checks if (found := check(seen)) is not None]


@dataclass(frozen=True)
class _Seen:
    """The customers with sums from one query over all of them."""

    people: People
    totals: dict[str, Any]

    def ids(self, where: str) -> tuple[str, ...]:
        """Return the first ids that match a condition."""
        return tuple(self.people.first(self.people.relation, where))

    def held(self, sums: dict[str, Any]) -> str:
        """Describe orders and spend in words."""
        return f"{counted(int(sums['orders']), 'orders')} and {major_read(int(sums['spend']), self.people.decimals)} of spend"


_NO_ORDERS = "orders + refunds + zero_orders = 0"
_STRANGER = f'NOT "{IN_FILE}"'


#: A quick test for ids that may be damaged: they contain an E or a marker of such texts.
_SPOILED = "REGEXP_MATCHES(customer, '[0-9][eE]|^.N$|^[nN]a[nN]$|^und|^#')"


def _totals(people: People) -> dict[str, Any]:
    sums = {
        "refunds": "SUM(refunds)", "refunded": "COUNT(CASE WHEN refunds > 0 THEN 1 END)",
        "zero_orders": "SUM(zero_orders)",
        "spend": "SUM(CASE WHEN spend > 0 THEN spend END)",
        "buyers": "COUNT(CASE WHEN orders > 0 THEN 1 END)",
        "first": "MIN(CASE WHEN orders > 0 THEN first_order END)",
        "last": "MAX(CASE WHEN orders > 0 THEN last_order END)",
    }  # fmt: skip
    sums |= {
        "plain": "BOOL_AND(NOT REGEXP_MATCHES(customer, '[^!-~]'))",
        "capital": "BOOL_AND(customer = UPPER(customer))",
        "lower": "BOOL_AND(customer = LOWER(customer))",
        "zeros": "BOOL_OR(STARTS_WITH(customer, '0'))",
        "shortest": "MIN(LENGTH(customer))", "longest": "MAX(LENGTH(customer))",
        "spoiled": f"COUNT(CASE WHEN {_SPOILED} THEN 1 END)",
    }  # fmt: skip
    if people.listed:
        sums["without"] = f"COUNT(CASE WHEN {_NO_ORDERS} THEN 1 END)"
        sums["strangers"] = f"COUNT(CASE WHEN {_STRANGER} THEN 1 END)"
        sums["theirs"] = f"SUM(CASE WHEN {_STRANGER} THEN spend END)"
    query = select([named(sql(tree), name) for name, tree in sums.items()], people.relation, "seen")
    return dict(people.engine.table(query).to_pylist()[0])


def _refunds(seen: _Seen) -> Finding | None:
    if not seen.totals["refunds"]:
        return None
    customers = counted(seen.totals["refunded"], "customers")
    return finding(
        "refunds",
        int(seen.totals["refunds"]),
        examples=seen.ids("refunds > 0"),
        customers=customers,
    )


def _zero_orders(seen: _Seen) -> Finding | None:
    if not seen.totals["zero_orders"]:
        return None
    return finding(
        "zero-orders", int(seen.totals["zero_orders"]), examples=seen.ids("zero_orders > 0")
    )


def _name_twins(seen: _Seen) -> Finding | None:
    """Return the finding that one name has several ids, or None."""
    people = seen.people
    if not people.named:
        return None
    with people.kept(_several(people, column("name"))) as names:
        if not (groups := people.one(names, n="COUNT(*)")["n"]):
            return None
        with people.kept(_of_several(people, column("name"), names)) as twins:
            held = people.one(twins, **_HELD)
            some = tuple(
                f"{name}: {', '.join(ids)}" for name, ids in _first_groups(people, names, twins)
            )
    return finding(
        "name-twins",
        groups,
        examples=some,
        customers=counted(held["n"], "customers"),
        held=seen.held(held),
    )


#: An id without case, spaces and leading zeros. Ids that agree in this probably belong to one
#: customer.
_FOLDED = (
    "CASE WHEN STARTS_WITH(customer, '0') OR REGEXP_MATCHES(customer, '[^!-~]') THEN "
    "REGEXP_REPLACE(REGEXP_REPLACE(LOWER(customer), :spaces, '', 'g'), '^0+([0-9]+)$', '\\1') "
    "ELSE LOWER(customer) END"
)


def _near_twins(seen: _Seen) -> Finding | None:
    """Return the finding that ids differ only in case, spaces or leading zeros, or None."""
    people, totals = seen.people, seen.totals
    of_one_length = totals["shortest"] == totals["longest"]
    if (
        totals["plain"]
        and (totals["capital"] or totals["lower"])
        and (of_one_length or not totals["zeros"])
    ):
        return None  # normalised ids are all equal to their originals
    folded = sql(_FOLDED, spaces=exp.Literal.string(f"{SPACE}+"))
    with people.kept(_several(people, folded)) as written:
        if not (groups := people.one(written, n="COUNT(*)")["n"]):
            return None
        with people.kept(_of_several(people, folded, written)) as similar_ids:
            all_of, most = (
                people.one(similar_ids, **_HELD),
                people.one(similar_ids, "place = 1", **_HELD),
            )
            some = tuple(
                " and ".join(f"`{c}`" for c in ids)
                for _, ids in _first_groups(people, written, similar_ids)
            )
    rest = {name: all_of[name] - most[name] for name in all_of}
    money = major_read(int(rest["spend"]), people.decimals)
    return finding(
        "id-near-twins",
        groups,
        examples=some,
        money=money,
        most=seen.held(most),
        rest=seen.held(rest),
    )


#: Ids that lost digits in a spreadsheet, and texts that an export writes for a missing customer.
_EXPONENT, _NO_VALUE = (
    r"[+-]?\d+([.,]\d+)?[eE]\+?\d+",
    r"\\N|[nN]a[nN]|undefined|#REF!|#VALUE!|#NAME\?",
)


def _spoiled(seen: _Seen) -> Finding | None:
    """Return the finding that a spreadsheet or an export damaged ids, which may then belong to
    several customers, or None.
    """
    if not seen.totals["spoiled"]:
        return None
    people = seen.people
    kinds = {"numbers in scientific notation": _EXPONENT, "texts for an empty cell": _NO_VALUE}
    tests = {
        what: sql("REGEXP_FULL_MATCH(customer, :p)", p=exp.Literal.string(p))
        for what, p in kinds.items()
    }
    either = select(["*"], people.relation, "people").where(exp.or_(*tests.values()), copy=False)
    held = people.one(either, **_HELD)
    if not held["n"]:
        return None
    there = [
        what
        for what, test in tests.items()
        if people.one(select(["*"], people.relation).where(test, copy=False), n="COUNT(*)")["n"]
    ]
    ids = people.first(either)
    return finding(
        "spoiled-ids", held["n"], examples=[f"`{i}`" for i in ids],
        money=major_read(int(held["spend"]), people.decimals),
        kinds=" and ".join(there), orders=counted(int(held["orders"]), "orders"),
        condition=_without(people, ids),
    )  # fmt: skip


def _without(people: People, ids: Sequence[str]) -> str:
    """Return a condition on the orders that excludes some customers, quoted for a shell."""
    return for_shell(f"{people.id_name} NOT IN ({', '.join(map(written_text, ids))})")


def _several(people: People, key: exp.Expr) -> exp.Select:
    """Return the values that several customers share."""
    groups = select([named(key, "key")], people.relation, "people").where(
        sql(":a IS NOT NULL", a=key), copy=False
    )
    return groups.group_by(key.copy(), copy=False).having(sql("COUNT(*) > 1"), copy=False)


def _of_several(people: People, key: exp.Expr, groups: exp.Expr) -> exp.Select:
    """Return the customers who share a value; ``place`` is 1 for the one with most orders."""
    looked = select(["customer", "orders", "spend", named(key, "own")], people.relation, "people")
    place = sql("ROW_NUMBER() OVER (PARTITION BY key ORDER BY orders DESC, spend DESC, customer)")
    joined = select(["customer", "orders", "spend", "key", named(place, "place")], looked, "looked")
    return joined.join(exp.alias_(groups, "groups", table=True), on=sql("own = key"), copy=False)


def _first_groups(
    people: People, groups: exp.Expr, members: exp.Expr
) -> list[tuple[str, list[str]]]:
    """Return the first five groups with up to three ids each."""
    first = people.first(groups, name="key")
    nth = sql("ROW_NUMBER() OVER (PARTITION BY key ORDER BY customer)")
    some = select(["key", "customer", named(nth, "nth")], members, "members")
    some = some.where(column("key").isin(*map(exp.Literal.string, first)), copy=False)
    ids = people.engine.table(
        select(["key", "customer"], some, "some").where(sql("nth <= 3"), copy=False)
    ).to_pylist()
    return [(text, sorted(row["customer"] for row in ids if row["key"] == text)) for text in first]


def _odd(seen: _Seen) -> Finding | None:
    odd = odd_accounts(seen.people)
    if odd is None:
        return None
    held, ids = seen.people.one(odd, **_HELD), seen.people.first(odd)
    money = major_read(int(held["spend"]), seen.people.decimals)
    return finding(
        "odd-accounts",
        held["n"],
        examples=ids,
        money=money,
        held=seen.held(held),
        condition=_without(seen.people, ids),
    )


def _no_orders(seen: _Seen) -> Finding | None:
    if not (n := seen.totals.get("without")):
        return None
    return finding("no-orders", n, examples=seen.ids(_NO_ORDERS))


#: If a larger share of buyers or of spend has no row in the customers file, that is a warning.
_UNKNOWN_PERCENT = 1
#: Number of ids of each side that are compared to find the likely cause.
_COMPARED = 50_000


def _unknown(seen: _Seen) -> Finding | None:
    if not (n := seen.totals.get("strangers")):
        return None
    spend, buyers = int(seen.totals["theirs"] or 0), int(seen.totals["buyers"])
    many = n * 100 > _UNKNOWN_PERCENT * buyers or spend * 100 > _UNKNOWN_PERCENT * int(
        seen.totals["spend"] or 0
    )
    people = seen.people
    ours, theirs = (
        people.first(people.relation, where, count=_COMPARED)
        for where in (_STRANGER, f'"{IN_FILE}" AND {_NO_ORDERS}')
    )
    return finding(
        "unknown-customers", n, level="warning" if many else "note",
        examples=[*ours[:3], *(f"{i} (in the file)" for i in theirs[:2])],
        money=major_read(spend, people.decimals), percent=percent(n / buyers) if buyers else "none",
        cause=likely_cause(ours, theirs),
    )  # fmt: skip


def _short_history(seen: _Seen) -> Finding | None:
    first, last = seen.totals["first"], seen.totals["last"]
    if first is None or (days := (last - first).days) >= SHORT_HISTORY_DAYS:
        return None
    return finding("short-history", days, least=SHORT_HISTORY_DAYS)


def _dominant(seen: _Seen) -> Finding | None:
    everything = int(seen.totals["spend"] or 0)
    most = select(["customer", "spend"], seen.people.relation, "people").where(
        sql("orders > 0"), copy=False
    )
    top = seen.people.engine.table(
        most.order_by("spend DESC", "customer", copy=False).limit(1, copy=False)
    ).to_pylist()
    if not everything or not top or (share := int(top[0]["spend"]) / everything) <= DOMINANT_SHARE:
        return None
    money = major_read(int(top[0]["spend"]), seen.people.decimals)
    return finding(
        "one-customer-dominates",
        1,
        examples=[str(top[0]["customer"])],
        money=money,
        share=f"{100 * share:.0f}",
    )


_CHECKS: dict[str, Callable[[_Seen], Finding | None]] = {
    "refunds": _refunds, "zero-orders": _zero_orders, "name-twins": _name_twins,
    "id-near-twins": _near_twins, "spoiled-ids": _spoiled,
    "odd-accounts": _odd, "no-orders": _no_orders, "unknown-customers": _unknown,
    "short-history": _short_history,
    "one-customer-dominates": _dominant,
}  # fmt: skip

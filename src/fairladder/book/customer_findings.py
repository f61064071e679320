"""Findings that the customers tell: refunds, names and ids that look alike, accounts that are nobody's, a history that is short."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from sqlglot import exp

from fairladder.book.accounts import odd_accounts
from fairladder.book.balance import major_read
from fairladder.book.findings import Finding
from fairladder.book.people import IN_FILE, People
from fairladder.orders.cells import SPACE
from fairladder.sqltree import column, named, select, sql
from fairladder.wording import counted

#: Fewer days than this from first to last order are no history to speak of.
SHORT_HISTORY_DAYS = 180
#: One customer above this share of spend moves every average.
DOMINANT_SHARE = 0.2
_HELD = {"n": "COUNT(*)", "orders": "SUM(orders)", "spend": "SUM(spend)"}


def customer_findings(people: People) -> list[Finding]:
    """What an analyst should know about the customers before trusting the numbers."""
    seen = _Seen(people, _totals(people))
    return [finding for check in _CHECKS if (finding := check(seen)) is not None]


@dataclass(frozen=True)
class _Seen:
    """The customers, and what one look at all of them tells."""

    people: People
    totals: dict[str, Any]

    def ids(self, where: str) -> tuple[str, ...]:
        """The first of some customers."""
        return tuple(self.people.first(self.people.relation, where))

    def held(self, sums: dict[str, Any]) -> str:
        """Orders and spend in words."""
        return f"{counted(int(sums['orders']), 'orders')} and {major_read(int(sums['spend']), self.people.decimals)} of spend"


_NO_ORDERS = "orders + refunds + zero_orders = 0"
_STRANGER = f'NOT "{IN_FILE}"'


def _totals(people: People) -> dict[str, Any]:
    sums = {
        "refunds": "SUM(refunds)", "refunded": "COUNT(CASE WHEN refunds > 0 THEN 1 END)", "zero_orders": "SUM(zero_orders)",
        "spend": "SUM(CASE WHEN spend > 0 THEN spend END)",
        "first": "MIN(CASE WHEN orders > 0 THEN first_order END)", "last": "MAX(CASE WHEN orders > 0 THEN last_order END)",
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
    effect = f"orders below zero, of {counted(seen.totals['refunded'], 'customers')}, lower the spend"
    advice = 'Set `refunds = "ignore"` under [money] if spend should count purchases only.'
    return Finding("refunds", "note", int(seen.totals["refunds"]), effect, seen.ids("refunds > 0"), advice)


def _zero_orders(seen: _Seen) -> Finding | None:
    if not seen.totals["zero_orders"]:
        return None
    effect = "orders of 0 do not count as purchases"
    return Finding("zero-orders", "note", int(seen.totals["zero_orders"]), effect, seen.ids("zero_orders > 0"), "")


def _name_twins(seen: _Seen) -> Finding | None:
    """One name with several ids."""
    people = seen.people
    if not people.named:
        return None
    with people.kept(_several(people, column("name"))) as names:
        if not (groups := people.one(names, n="COUNT(*)")["n"]):
            return None
        with people.kept(_of_several(people, column("name"), names)) as twins:
            held = people.one(twins, **_HELD)
            some = tuple(f"{name}: {', '.join(ids)}" for name, ids in _first_groups(people, names, twins))
    effect = f"names belong to several ids: {counted(held['n'], 'customers')} with {seen.held(held)}"
    advice = "Customers are told apart by id. If two are one person, join them in the export."
    return Finding("name-twins", "note", groups, effect, some, advice)


def _near_twins(seen: _Seen) -> Finding | None:
    """Ids alike but for case and spaces."""
    people = seen.people
    folded = sql("REGEXP_REPLACE(LOWER(customer), :p, '', 'g')", p=exp.Literal.string(f"{SPACE}+"))
    with people.kept(_several(people, folded)) as written:
        if not (groups := people.one(written, n="COUNT(*)")["n"]):
            return None
        with people.kept(_of_several(people, folded, written)) as alike:
            rarer = people.one(alike, "orders < most", **_HELD)
            some = tuple(" and ".join(f"`{c}`" for c in ids) for _, ids in _first_groups(people, written, alike))
    effect = f"ids are alike but for case or spaces; the rarer ones hold {seen.held(rarer)}"
    advice = "If they are one customer, write the id the same way throughout the export."
    return Finding("id-near-twins", "warning", groups, effect, some, advice)


def _several(people: People, alike: exp.Expr) -> exp.Select:
    """What several customers have alike, and the most orders of any of them."""
    columns = [named(alike, "alike"), named(sql("MAX(orders)"), "most")]
    groups = select(columns, people.relation, "people").where(sql(":a IS NOT NULL", a=alike), copy=False)
    return groups.group_by(alike.copy(), copy=False).having(sql("COUNT(*) > 1"), copy=False)


def _of_several(people: People, alike: exp.Expr, groups: exp.Expr) -> exp.Select:
    """The customers of such groups."""
    looked = select(["customer", "orders", "spend", named(alike, "own")], people.relation, "people")
    joined = select(["customer", "orders", "spend", "alike", "most"], looked, "looked")
    return joined.join(exp.alias_(groups, "groups", table=True), on=sql("own = alike"), copy=False)


def _first_groups(people: People, groups: exp.Expr, members: exp.Expr) -> list[tuple[str, list[str]]]:
    """The first five groups and up to three ids of each."""
    first = people.first(groups, name="alike")
    nth = sql("ROW_NUMBER() OVER (PARTITION BY alike ORDER BY customer)")
    some = select(["alike", "customer", named(nth, "nth")], members, "members")
    some = some.where(column("alike").isin(*map(exp.Literal.string, first)), copy=False)
    ids = people.engine.table(
        select(["alike", "customer"], some, "some").where(sql("nth <= 3"), copy=False)
    ).to_pylist()
    return [(text, sorted(row["customer"] for row in ids if row["alike"] == text)) for text in first]


def _odd(seen: _Seen) -> Finding | None:
    odd = odd_accounts(seen.people)
    if odd is None:
        return None
    held = seen.people.one(odd, **_HELD)
    effect = f"customers whose ids or names look like accounts for tests, staff or guests; they hold {seen.held(held)}"
    advice = "Look at them. Leave out those that are not customers with `where`, for example customer <> '0'."
    return Finding("odd-accounts", "warning", held["n"], effect, tuple(seen.people.first(odd)), advice)


def _no_orders(seen: _Seen) -> Finding | None:
    if not (n := seen.totals.get("without")):
        return None
    return Finding(
        "no-orders", "note", n, "customers of the customers file without any order", seen.ids(_NO_ORDERS),
        "They stay in every table, without scores.",
    )  # fmt: skip


def _unknown(seen: _Seen) -> Finding | None:
    if not (n := seen.totals.get("strangers")):
        return None
    spend = major_read(int(seen.totals["theirs"] or 0), seen.people.decimals)
    return Finding(
        "unknown-customers", "warning", n, f"have orders (spend {spend}) but no row in the customers file", seen.ids(_STRANGER),
        "Ask for a newer customers file, or check that both files write ids the same way.",
    )  # fmt: skip


def _short_history(seen: _Seen) -> Finding | None:
    first, last = seen.totals["first"], seen.totals["last"]
    if first is None or (days := (last - first).days) >= SHORT_HISTORY_DAYS:
        return None
    return Finding(
        "short-history", "warning", days, f"days of history; under {SHORT_HISTORY_DAYS} say little of a lifetime", (),
        "Export a longer period before judging who has left.",
    )  # fmt: skip


def _dominant(seen: _Seen) -> Finding | None:
    everything = int(seen.totals["spend"] or 0)
    most = select(["customer", "spend"], seen.people.relation, "people").where(sql("orders > 0"), copy=False)
    top = seen.people.engine.table(most.order_by("spend DESC", "customer", copy=False).limit(1, copy=False)).to_pylist()
    if not everything or not top or (share := int(top[0]["spend"]) / everything) <= DOMINANT_SHARE:
        return None
    return Finding(
        "one-customer-dominates", "warning", 1, f"{100 * share:.0f} % of all spend is one customer's",
        (str(top[0]["customer"]),), "Look whether this is a reseller or a collective id, and read averages with care.",
    )  # fmt: skip


_CHECKS: tuple[Callable[[_Seen], Finding | None], ...] = (
    _refunds, _zero_orders, _name_twins, _near_twins, _odd, _no_orders, _unknown, _short_history, _dominant,
)  # fmt: skip

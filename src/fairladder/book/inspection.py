"""Findings that need the rows themselves: repeats, totals joined onto lines, orders shared or
split.
"""

import datetime as dt
import re
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import Any

from sqlglot import exp

from fairladder.book.lines import KeptLines
from fairladder.book.reduction import SAME
from fairladder.book.signs import Signs, of_money, repeated_level, repeated_total
from fairladder.conditions.written import none_of, where_option
from fairladder.engine.protocol import Engine
from fairladder.errors import shortened
from fairladder.findings import Finding, Level, finding
from fairladder.orders.row_kinds import is_return, kinds_of_rows
from fairladder.orders.rows import Rows
from fairladder.orders.source import FILE
from fairladder.orders.states import RowState
from fairladder.orders.status_words import is_final, says_void
from fairladder.sqltree import case, cell_column, column, day_literal, named, select, sql
from fairladder.wording import counted

_SHOWN = 5
#: Used rows with more decimals than the currency, and dates that look like day numbers of a
#: spreadsheet.
_LONG = 'state = :u AND "off" IS NOT NULL'
_SERIAL = "state = :b AND REGEXP_MATCHES(written, '^\\d{5}(\\.\\d+)?$')"


@dataclass(frozen=True)
class Inspected:
    """The kept rows and, if there are order ids, their orders."""

    kept: KeptLines
    ids_put_aside: bool
    """True if a row's ids can set it aside, so that its state depends on them."""
    outside: bool
    """True if there are rows outside the date range."""
    today: dt.date

    @property
    def rows(self) -> Rows:
        """The rows as they were read."""
        return self.kept.rows

    @property
    def engine(self) -> Engine:
        """The engine that keeps the rows."""
        return self.kept.engine

    @property
    def several_files(self) -> bool:
        """True if rows come from several files, which examples then name."""
        return bool(self.rows.source.parts) or self.rows.source.has_several_files

    @cached_property
    def lines(self) -> exp.Expr:
        """Return the rows with their final state and row number."""
        return self.kept.tree(self.ids_put_aside)

    @cached_property
    def sums(self) -> dict[str, Any]:
        """Count the rows and money of all row-by-row findings in one query."""
        tests = {
            "used": "state = :u",
            "late": "day > :d",
            "long": _LONG,
            "serial": _SERIAL,
            "bad_amounts": "state = :a",
        }
        money = {"used_money": ("used", "ABS(minor)"), "late_money": ("late", "minor"),
        "long_money": ("long", '"off"'),
                 "serial_money": ("serial", "minor")}  # fmt: skip
        values = {
            "u": RowState.USED,
            "b": RowState.BAD_DATE,
            "a": RowState.BAD_AMOUNT,
            "d": day_literal(self.today),
        }
        columns = [
            named(sql(f"COUNT(CASE WHEN {test} THEN 1 END)", **values), name)
            for name, test in tests.items()
        ]
        columns += [
            named(sql(f"COALESCE(SUM(CASE WHEN {tests[of]} THEN {cell} END), 0)", **values), name)
            for name, (of, cell) in money.items()
        ]
        sums = self.engine.table(select(columns, self.lines, "seen")).to_pylist()[0]
        return {
            name: value if isinstance(value, float) else int(value) for name, value in sums.items()
        }

    @cached_property
    def orders(self) -> exp.Expr | None:
        """Return the orders with their final state."""
        return self.kept.orders_tree(self.ids_put_aside)


def row_inspection(seen: Inspected) -> list[Finding]:
    """Search the kept rows for problems that would make the numbers wrong."""
    return [found for check in _CHECKS for found in check(seen)]


def _one(
    seen: Inspected, pattern: str, source: exp.Expr, where: str | None = None, **parts: Any
) -> dict[str, Any]:
    """Return the single row of ``SELECT pattern FROM source``."""
    query = select([sql(p, **parts) for p in pattern.split("; ")], source, "seen")
    if where:
        query = query.where(sql(where, **parts), copy=False)
    return dict(seen.engine.table(query).to_pylist()[0])


def _examples(
    seen: Inspected,
    source: exp.Expr,
    text: str,
    row: str = "row",
    where: str | None = None,
    **parts: Any,
) -> tuple[str, ...]:
    """Return the first examples by row; if there are several files, by file, with its name after
    the text.
    """
    order = [FILE, row] if seen.several_files else [row]
    whole = f"{text} || ' of ' || {FILE}" if seen.several_files else text
    query = (
        select([named(sql(whole, **parts), "example")], source, "seen")
        .order_by(*order, copy=False)
        .limit(_SHOWN, copy=False)
    )
    if where:
        query = query.where(sql(where, **parts), copy=False)
    return _shown(seen.engine.table(query).to_pylist())


def _shown(rows: list[dict[str, Any]]) -> tuple[str, ...]:
    """Return the examples as text; empty if rows have no numbers, as on a cluster."""
    return tuple(str(r["example"]) for r in rows if r["example"] is not None)


def _example_orders(seen: Inspected, orders: exp.Select) -> tuple[str, ...]:
    """Return the first of some orders (``customer``, ``order_id``, or only the latter) with the
    rows where they begin.
    """
    columns = [
        "order_id",
        "MIN(row) AS row",
        *([f"ARG_MIN({FILE}, row) AS {FILE}"] if seen.several_files else []),
    ]
    first = select([sql(c) for c in columns], _lines_of(seen, orders), "lines").group_by(
        "order_id", copy=False
    )
    return _examples(seen, first, "'order ' || order_id || ' from row ' || row")


def _lines_of(seen: Inspected, orders: exp.Select) -> exp.Select:
    """Return all rows of some orders, inside or outside the date range."""
    keys = [
        column(n)
        for n in ("customer", "order_id")
        if n in {c.alias_or_name for c in orders.selects}
    ]
    counted = select(["*"], seen.lines).where(
        sql("state IN (:u, :o)", u=RowState.USED, o=RowState.OUTSIDE), copy=False
    )
    among = exp.In(
        this=exp.Tuple(expressions=keys), query=select(keys, orders, "some").subquery(copy=False)
    )
    return counted.where(among, copy=False)


def _repeats(seen: Inspected) -> list[Finding]:
    """Return findings on rows that repeat another in every cell, within one file or across
    overlapping files.
    """
    twins = seen.engine.keep(_twins(seen))
    sums = ["within", "across", "within * minor", "across * minor"]
    counts = _one(seen, "; ".join(f"SUM({s}) AS s{i}" for i, s in enumerate(sums)), twins)
    found = []
    for code, which, n, money in (
        ("duplicate-rows", "within", counts["s0"], counts["s2"]),
        ("repeats-across-files", "across", counts["s1"], counts["s3"]),
    ):  # fmt: skip
        if n:
            first = select(
                [sql("'rows ' || LTRIM(a) || ' and ' || LTRIM(b) AS example")], twins
            ).where(sql(f"{which} > 0"), copy=False)
            examples = _shown(
                seen.engine.table(
                    first.order_by("a", "b", copy=False).limit(_SHOWN, copy=False)
                ).to_pylist()
            )
            found.append(finding(code, int(n), examples=examples, **_money(seen, money)))
    seen.engine.forget(twins)
    return found


def _twins(seen: Inspected) -> exp.Select:
    """Return groups of used rows with equal cells: copies ``within`` one file and ``across`` files,
    the amount, and two of their places.

    Of rows in several files, the file with most copies is taken as correct.
    """
    used = select(["*"], seen.lines).where(sql("state = :u", u=RowState.USED), copy=False)
    if seen.orders is not None and seen.kept.marked:
        # Only orders without a mark for each of their rows can have repeats.
        unsure = select([sql("customer"), sql("order_id")], seen.orders)
        unsure = unsure.where(
            sql("state = :u AND BIT_COUNT(marks) < lines", u=RowState.USED), copy=False
        )
        used = _lines_of(seen, unsure).where(sql("state = :u", u=RowState.USED), copy=False)
    # Row numbers as text that sorts like them, followed by the file.
    place = sql("LPAD(CAST(row AS VARCHAR), 12, ' ')") if not seen.several_files else sql(
        "LPAD(CAST(row AS VARCHAR), 12, ' ') || ' of ' || :f", f=column(FILE)
    )  # fmt: skip
    home = column(FILE) if seen.several_files else exp.Literal.string("")
    used = select(["*", named(place, "place"), named(home, "home")], used, "used")
    keys = [*(["customer", "order_id"] if seen.rows.has_orders else []), "twin"]
    columns = [
        *keys,
        "home",
        "COUNT(*) AS n",
        "MIN(place) AS a",
        "MAX(place) AS b",
        "MIN(minor) AS minor",
    ]
    by_file = select([sql(c) for c in columns], used, "used").group_by(*keys, "home", copy=False)
    whole = [
        "SUM(n) - MAX(n) AS across",
        "MAX(n) - 1 AS within",
        "MIN(a) AS a",
        "MAX(b) AS b",
        "MIN(minor) AS minor",
    ]
    grouped = select([sql(c) for c in whole], by_file, "by_file").group_by(*keys, copy=False)
    return grouped.having(sql("SUM(n) > 1"), copy=False)


def _changed_orders(seen: Inspected) -> list[Finding]:
    """Return the finding on orders that are in several files with different cells, with the money
    added by all but the last file's version.
    """
    if not seen.rows.source.parts or not seen.rows.has_orders:
        return []
    ranks = [
        (sql(":f = :n", f=column(FILE), n=exp.Literal.string(n)), exp.convert(i))
        for i, n in enumerate(seen.rows.source.part_names)
    ]
    keys = ["customer", "order_id"]
    used = select(
        [*keys, "twin", "minor", named(case(ranks, exp.convert(0)), "version")], seen.lines
    )
    used = used.where(sql("state = :u", u=RowState.USED), copy=False)
    copies = select(
        [sql(c) for c in (*keys, "twin", "version", "COUNT(*) AS n", "MIN(minor) AS minor")],
        used,
        "used",
    )
    copies = copies.group_by(*keys, "twin", "version", copy=False)
    latest = sql("MAX(version) OVER (PARTITION BY customer, order_id)")
    rows_of_twin = ["COUNT(*) AS files", "MIN(n) AS least", "MAX(n) AS most", "MIN(minor) AS minor",
    "MIN(latest) AS latest",
                    "SUM(CASE WHEN version = latest THEN n * minor END) AS last_money"]  # fmt: skip
    twins = select(
        [sql(c) for c in (*keys, *rows_of_twin)],
        select(["*", named(latest, "latest")], copies, "copies"),
        "latest",
    )
    twins = twins.group_by(*keys, "twin", copy=False)
    versions = select(
        [sql(c) for c in (*keys, "COUNT(DISTINCT version) AS versions")], used, "used"
    ).group_by(*keys, copy=False)
    money = "SUM(most * minor) - COALESCE(SUM(last_money), 0) AS more"
    orders = select(
        [sql(c) for c in (*keys, money, "MIN(files) AS files", "MIN(least - most) AS uneven")],
        twins,
        "twins",
    ).group_by(*keys, copy=False)
    on = sql("orders.customer = versions.customer AND orders.order_id = versions.order_id")
    columns = [sql("orders.customer AS customer"), sql("orders.order_id AS order_id"), sql("more")]
    changed = select(columns, exp.alias_(orders.subquery(copy=False), "orders", table=True))
    changed = changed.join(
        exp.alias_(versions.subquery(copy=False), "versions", table=True), on=on, copy=False
    )
    changed = changed.where(sql("versions > 1 AND (files < versions OR uneven < 0)"), copy=False)
    kept = seen.engine.keep(changed)
    counts = _one(seen, "COUNT(*) AS n; SUM(more) AS money", kept)
    found = []
    if counts["n"]:
        some = (
            select([sql("'order ' || order_id AS example")], kept)
            .order_by("order_id", copy=False)
            .limit(_SHOWN, copy=False)
        )
        examples = _shown(seen.engine.table(some).to_pylist())
        found.append(
            finding(
                "changed-orders",
                int(counts["n"]),
                examples=examples,
                **_money(seen, counts["money"]),
            )
        )
    seen.engine.forget(kept)
    return found


def _repeated_totals(seen: Inspected) -> list[Finding]:
    if seen.orders is None or seen.rows.scheme.orders.amount_is != "line":
        return []
    # Rows sent in two files repeat each other, which is another finding.
    alone = " AND files = 1" if seen.rows.source.parts else ""
    several = select(["*"], seen.orders).where(
        sql(f"state = :u AND lines > 1 AND least <> 0{alone}", u=RowState.USED), copy=False
    )
    everything = int(_one(seen, "COUNT(*) AS n", seen.orders, "state = :u", u=RowState.USED)["n"])
    counts = _one(
        seen, f"COUNT(*) AS orders; COUNT(CASE WHEN {SAME} THEN 1 END) AS same; "
        f"SUM(CASE WHEN {SAME} THEN amount - least END) AS money",
        several,
    )  # fmt: skip
    signs = Signs(everything, int(counts["orders"]), int(counts["same"]), int(counts["money"] or 0))
    if repeated_level(signs) is None:
        return []
    if (
        signs.few
        and seen.kept.marked
        and not _one(seen, "COUNT(*) AS n", several, f"{SAME} AND BIT_COUNT(marks) > 1")["n"]
    ):
        # all rows of each have the same cells: they were sent twice, which is another finding
        return []
    same = select([sql("customer"), sql("order_id")], several, "several").where(
        sql(SAME), copy=False
    )
    found = repeated_total(signs, seen.rows.scheme.money.decimals, _example_orders(seen, same))
    return [found] if found is not None else []


def _statuses(seen: Inspected) -> list[Finding]:
    """Return the statuses that count, with rows and money; a warning if some are not known to be
    final and `where` does not name them.
    """
    name = seen.rows.roles.get("status")
    if name is None:
        return []
    columns = [*(sql(c) for c in ("status", "COUNT(*) AS n", "SUM(minor) AS money")),
               named(sql("BOOL_OR(:v)", v=says_void(column("status"))), "void")]  # fmt: skip
    used = (
        select(columns, seen.lines)
        .where(sql("state = :u", u=RowState.USED), copy=False)
        .group_by("status", copy=False)
    )
    rows = seen.engine.table(
        used.order_by("n DESC", "status", copy=False).limit(_MOST_STATES, copy=False)
    ).to_pylist()
    if not rows:
        return []
    void = [r["status"] for r in rows if r["void"]]
    open_ones = [
        r["status"] for r in rows if r["status"] and not r["void"] and not is_final(r["status"])
    ]
    listed = "; ".join(_with_sums(seen, r["status"] or "(blank)", r["n"], r["money"]) for r in rows)
    condition = where_option(none_of(name, void or open_ones[-1:] or ["…"]))
    condition_names = seen.rows.condition is not None and not {name, "status"}.isdisjoint(
        seen.rows.condition.names
    )
    level: Level = "warning" if open_ones and not condition_names else "note"
    return [
        finding(
            "statuses",
            len(rows),
            level=level,
            column=name,
            list=listed,
            condition=condition,
            examples=open_ones,
        )
    ]


def _with_sums(seen: Inspected, text: str, rows: Any, minor: Any) -> str:
    return f"{text}: {counted(int(rows), 'rows')}, {_money(seen, minor)['money']}"


#: Number of statuses that are listed.
_MOST_STATES = 12


def _counted(seen: Inspected) -> exp.Select:
    """Return the orders that are used or outside the date range, with the sum of their rows."""
    money = "rows_amount" if seen.rows.scheme.orders.amount_is == "order" else "amount"
    columns = ["state", "customer", "order_id", "lines", f"{money} AS money"]
    assert seen.orders is not None
    return select([sql(c) for c in columns], seen.orders).where(
        sql("state IN (:u, :o)", u=RowState.USED, o=RowState.OUTSIDE), copy=False
    )


def _kinds_of_rows(seen: Inspected) -> list[Finding]:
    """Return columns that distinguish sales from payments, fees, tests and the like, if all of them
    count.
    """
    condition_names = (
        seen.rows.condition.names if seen.rows.condition is not None else frozenset[str]()
    )
    found = []
    for name, odd in kinds_of_rows(seen.rows).items():
        cell = sql("NULLIF(TRIM(CAST(:c AS VARCHAR)), '')", c=cell_column(name))
        rows = select(
            [
                named(cell, "kind"),
                named(column("#state"), "state"),
                named(column("#minor"), "minor"),
            ],
            seen.rows.tree(),
            "order_rows",
        )
        used = select(
            [sql("kind"), sql("COUNT(*) AS n"), sql("SUM(minor) AS money")], rows, "kinds"
        )
        used = used.where(sql("state = :u", u=RowState.USED), copy=False).group_by(
            "kind", copy=False
        )
        kinds = seen.engine.table(
            used.order_by("n DESC", "kind", copy=False).limit(_MOST_STATES, copy=False)
        ).to_pylist()
        counts = [
            k
            for k in kinds
            if k["kind"] in odd and not (is_return(k["kind"]) and int(k["money"] or 0) <= 0)
        ]
        if not counts or name in condition_names:
            continue
        listed = "; ".join(
            _with_sums(seen, k["kind"] or "(blank)", k["n"], k["money"]) for k in kinds
        )
        money = sum(int(k["money"] or 0) for k in counts)
        condition = where_option(none_of(name, [k["kind"] for k in counts]))
        found.append(
            finding(
                "kinds-of-rows",
                len(kinds),
                column=name,
                list=listed,
                condition=condition,
                **_money(seen, money),
            )
        )
    return found


def _shared_orders(seen: Inspected) -> list[Finding]:
    if seen.orders is None:
        return []
    several = (
        select([sql("order_id")], _counted(seen), "counted")
        .group_by("order_id", copy=False)
        .having(sql("COUNT(*) > 1"), copy=False)
    )
    if not _one(seen, "COUNT(*) AS n", several)[
        "n"
    ]:  # usually there are none, and this is the cheapest check
        return []
    among = exp.In(this=column("order_id"), query=several.subquery(copy=False))
    columns = ["order_id", "COUNT(DISTINCT customer) AS customers", "SUM(money) AS money"]
    shared = select([sql(c) for c in columns], _counted(seen), "counted").where(among, copy=False)
    shared = shared.group_by("order_id", copy=False).having(
        sql("MIN(customer) <> MAX(customer)"), copy=False
    )
    counts = _one(seen, "COUNT(*) AS n; SUM(customers) AS orders; SUM(money) AS money", shared)
    if not counts["n"]:
        return []
    examples = _example_orders(seen, select([sql("order_id")], shared, "shared"))
    orders = counted(int(counts["orders"]), "orders")
    return [
        finding(
            "shared-order",
            int(counts["n"]),
            examples=examples,
            orders=orders,
            **_money(seen, counts["money"]),
        )
    ]


def _straddling_orders(seen: Inspected) -> list[Finding]:
    if seen.orders is None or not seen.outside:
        return []
    columns = [
        "customer", "order_id", "SUM(CASE WHEN state = :o THEN lines END) AS outside",
        "SUM(CASE WHEN state = :o THEN money END) AS outside_money",
    ]  # fmt: skip
    cut = select([sql(c, o=RowState.OUTSIDE) for c in columns], _counted(seen), "counted").group_by(
        "customer", "order_id", copy=False
    )
    cut = cut.having(sql("MIN(state) <> MAX(state)"), copy=False)
    counts = _one(seen, "COUNT(*) AS n; SUM(outside) AS rows; SUM(outside_money) AS money", cut)
    if not counts["n"]:
        return []
    examples = _example_orders(seen, select([sql("customer"), sql("order_id")], cut, "cut"))
    rows = counted(int(counts["rows"]), "rows")
    return [
        finding(
            "straddling-orders",
            int(counts["n"]),
            examples=examples,
            rows=rows,
            **_money(seen, counts["money"]),
        )
    ]


def _after_today(seen: Inspected) -> list[Finding]:
    if not (n := seen.sums["late"]):
        return []
    examples = _examples(
        seen,
        seen.lines,
        "'row ' || row || ', ' || day",
        where="day > :d",
        d=day_literal(seen.today),
    )
    return [
        finding(
            "after-today",
            n,
            examples=examples,
            today=seen.today,
            **_money(seen, seen.sums["late_money"]),
        )
    ]


def _excess_decimals(seen: Inspected) -> list[Finding]:
    if not (n := seen.sums["long"]):
        return []
    examples = _examples(seen, seen.lines, "'row ' || row", where=_LONG, u=RowState.USED)
    money = _money(seen, round(float(seen.sums["long_money"])))
    return [
        finding(
            "excess-decimals",
            n,
            examples=examples,
            decimals=seen.rows.scheme.money.decimals,
            **money,
        )
    ]


def _serial_dates(seen: Inspected) -> list[Finding]:
    if not (n := seen.sums["serial"]):
        return []
    examples = _examples(
        seen, seen.lines, "'row ' || row || ', ' || written", where=_SERIAL, b=RowState.BAD_DATE
    )
    return [
        finding("serial-dates", n, examples=examples, **_money(seen, seen.sums["serial_money"]))
    ]


#: Rows with unread amounts are a warning from this percentage of the rows, or of the money, on.
_MATTERS = 0.5
#: Number of different unreadable cells that are examined.
_MOST_UNREAD = 5000


def _unread_amounts(seen: Inspected) -> list[Finding]:
    """Return the finding on rows set aside because of unreadable amounts, largest cells first; a
    warning if their digits could matter.
    """
    if not seen.sums["bad_amounts"]:
        return []
    factors = [
        sql("COALESCE(CAST(:c AS VARCHAR), '')", c=cell_column(name))
        for name in seen.rows.roles.factors
    ]
    written = factors[0]
    for other in factors[1:]:
        written = sql(":a || ' × ' || :b", a=written, b=other)
    bad = sql(":s = :b", s=column("#state"), b=RowState.BAD_AMOUNT)
    lines = select(
        [named(written, "written")],
        select(["*"], seen.kept.as_rows(), "order_rows").where(bad, copy=False),
        "bad",
    )
    cells_of = select([sql("written"), sql("COUNT(*) AS n")], lines, "lines").group_by(
        "written", copy=False
    )
    cells = seen.engine.table(cells_of.limit(_MOST_UNREAD, copy=False)).to_pylist()
    if not cells:
        return []
    cells.sort(key=lambda c: (-_digits(c["written"]), c["written"]))
    rows, money = (
        sum(int(c["n"]) for c in cells),
        sum(int(c["n"]) * _digits(c["written"]) for c in cells),
    )
    scale = 10**seen.rows.scheme.money.decimals
    much = (
        100 * money * scale >= _MATTERS * seen.sums["used_money"]
        or 100 * rows >= _MATTERS * seen.sums["used"]
    )
    level: Level = "warning" if much else "note"
    examples = [f"`{shortened(c['written'], 40)}`" for c in cells[:_SHOWN]]
    return [
        finding(
            "unread-amounts",
            rows,
            level=level,
            examples=examples,
            **_money(seen, round(money * scale)),
        )
    ]


def _digits(cell: str) -> Fraction:
    """Return the number that a cell's digits make; the largest if it contains several numbers."""
    found = re.findall(r"\d[\d.,' ’\u00a0\u202f]*", cell)
    return max((_of_digits(number) for number in found), default=Fraction(0))


def _of_digits(text: str) -> Fraction:
    digits = re.sub(r"\D", "", text)[:15]
    part = re.search(r"[.,](\d{1,2})\D*$", text)
    return Fraction(int(digits), 10 ** len(part[1]) if part else 1)


def _money(seen: Inspected, minor: Any) -> dict[str, Any]:
    return of_money(minor, seen.rows.scheme.money.decimals)


_CHECKS: tuple[Callable[[Inspected], list[Finding]], ...] = (
    _repeats, _changed_orders, _repeated_totals, _statuses, _kinds_of_rows, _shared_orders,
    _straddling_orders, _after_today,
    _excess_decimals, _serial_dates, _unread_amounts,
)  # fmt: skip

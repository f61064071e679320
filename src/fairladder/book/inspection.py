"""Findings that need a look at the rows themselves: repeats, totals joined onto lines, orders shared or cut in two."""

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from sqlglot import exp

from fairladder.book.balance import major_read
from fairladder.book.findings import Finding
from fairladder.book.lines import KeptLines
from fairladder.book.reduction import SAME
from fairladder.book.signs import Signs, repeated_level, repeated_total
from fairladder.engine.protocol import Engine
from fairladder.orders.rows import Rows
from fairladder.orders.source import FILE
from fairladder.orders.states import RowState
from fairladder.orders.status_words import says_void
from fairladder.sqltree import column, day_literal, named, select, sql
from fairladder.wording import counted

_SHOWN = 5


@dataclass(frozen=True)
class Inspected:
    """What the findings look at: the rows that were kept and, where there are order ids, their orders."""

    kept: KeptLines
    ids_put_aside: bool
    """Whether a row's ids put it aside, so that a state that leaves them aside will not do."""
    today: dt.date

    @property
    def rows(self) -> Rows:
        """The rows as they were read."""
        return self.kept.rows

    @property
    def engine(self) -> Engine:
        """Where they are kept."""
        return self.kept.engine

    @property
    def several_files(self) -> bool:
        """Whether rows are from several files, which the examples then name."""
        return bool(self.rows.source.parts) or self.rows.source.files_apart

    @cached_property
    def lines(self) -> exp.Expr:
        """The rows under their whole state, numbered."""
        return self.kept.tree(self.ids_put_aside)

    @cached_property
    def orders(self) -> exp.Expr | None:
        """The orders under their whole state."""
        return self.kept.orders_tree(self.ids_put_aside)


def row_inspection(seen: Inspected) -> list[Finding]:
    """Look through the kept rows for what would make the numbers wrong."""
    return [finding for check in _CHECKS if (finding := check(seen)) is not None]


def _one(seen: Inspected, pattern: str, source: exp.Expr, where: str | None = None, **parts: Any) -> dict[str, Any]:
    """The single row of ``SELECT pattern FROM source``."""
    query = select([sql(p, **parts) for p in pattern.split("; ")], source, "seen")
    if where:
        query = query.where(sql(where, **parts), copy=False)
    return dict(seen.engine.table(query).to_pylist()[0])


def _examples(
    seen: Inspected, source: exp.Expr, text: str, row: str = "row", where: str | None = None, **parts: Any
) -> tuple[str, ...]:
    """The first by row, and by file where there are several, which then stands behind the text."""
    order = [FILE, row] if seen.several_files else [row]
    whole = f"{text} || ' of ' || {FILE}" if seen.several_files else text
    query = (
        select([named(sql(whole, **parts), "example")], source, "seen")
        .order_by(*order, copy=False)
        .limit(_SHOWN, copy=False)
    )
    if where:
        query = query.where(sql(where, **parts), copy=False)
    return _told(seen.engine.table(query).to_pylist())


def _told(rows: list[dict[str, Any]]) -> tuple[str, ...]:
    """The examples; rows that have no number, as on a cluster, are none."""
    return tuple(str(r["example"]) for r in rows if r["example"] is not None)


def _example_orders(seen: Inspected, orders: exp.Select) -> tuple[str, ...]:
    """The first of some orders (``customer``, ``order_id``, or the latter alone) and the row in which each begins."""
    columns = ["order_id", "MIN(row) AS row", *([f"ARG_MIN({FILE}, row) AS {FILE}"] if seen.several_files else [])]
    first = select([sql(c) for c in columns], _lines_of(seen, orders), "lines").group_by("order_id", copy=False)
    return _examples(seen, first, "'order ' || order_id || ' from row ' || row")


def _lines_of(seen: Inspected, orders: exp.Select) -> exp.Select:
    """The rows, inside the window or out, of some orders."""
    keys = [column(n) for n in ("customer", "order_id") if n in {c.alias_or_name for c in orders.selects}]
    counted = select(["*"], seen.lines).where(sql("state IN (:u, :o)", u=RowState.USED, o=RowState.OUTSIDE), copy=False)
    among = exp.In(this=exp.Tuple(expressions=keys), query=select(keys, orders, "some").subquery(copy=False))
    return counted.where(among, copy=False)


def _duplicate_rows(seen: Inspected) -> Finding | None:
    twins = seen.engine.keep(_twins(seen))
    counts = _one(seen, "SUM(n - 1) AS n; SUM((n - 1) * minor) AS money; SUM(apart) AS apart", twins)
    first = (
        select([sql("'rows ' || LTRIM(a) || ' and ' || LTRIM(b) AS example")], twins)
        .order_by("a", "b", copy=False)
        .limit(_SHOWN, copy=False)
    )
    examples = _told(seen.engine.table(first).to_pylist()) if counts["n"] else ()
    seen.engine.forget(twins)
    if not counts["n"]:
        return None
    between = f" ({int(counts['apart']):,} of them in several files)" if counts["apart"] else ""
    return Finding(
        "duplicate-rows", "warning", int(counts["n"]),
        f"rows repeat another in every cell{between} and add {_money(seen, counts['money'])} to spend, if they were sent twice by mistake",
        examples,
        'Two equal lines of one order can be real. If these are not, say `drop = "repeats"` under [orders] (--drop repeats).',
    )  # fmt: skip


def _twins(seen: Inspected) -> exp.Select:
    """Groups of used rows that are alike in every cell; only orders without a mark for each of their rows can hold any."""
    used = select(["*"], seen.lines).where(sql("state = :u", u=RowState.USED), copy=False)
    if seen.orders is not None and seen.kept.marked:
        # Rows of an order that are in several files are seen at, too.
        unsure = select([sql("customer"), sql("order_id")], seen.orders)
        unsure = unsure.where(sql("state = :u AND BIT_COUNT(marks) < lines", u=RowState.USED), copy=False)
        used = _lines_of(seen, unsure).where(sql("state = :u", u=RowState.USED), copy=False)
    # Numbers of rows as text that sorts like them; the file stands behind, and what is in several is counted apart.
    place = sql("LPAD(CAST(row AS VARCHAR), 12, ' ')") if not seen.several_files else sql(
        "LPAD(CAST(row AS VARCHAR), 12, ' ') || ' of ' || :f", f=column(FILE)
    )  # fmt: skip
    home = column(FILE) if seen.several_files else exp.Literal.string("")
    used = select(["*", named(place, "place"), named(home, "home")], used, "used")
    columns = [
        "COUNT(*) AS n", "MIN(place) AS a", "MAX(place) AS b", "MIN(minor) AS minor",
        "CASE WHEN MIN(home) <> MAX(home) THEN COUNT(*) - 1 END AS apart",
    ]  # fmt: skip
    keys = [*(["customer", "order_id"] if seen.rows.has_orders else []), "twin"]
    return (
        select([sql(c) for c in columns], used, "used")
        .group_by(*keys, copy=False)
        .having(sql("COUNT(*) > 1"), copy=False)
    )


def _repeated_total(seen: Inspected) -> Finding | None:
    if seen.orders is None or seen.rows.scheme.orders.amount_is != "line":
        return None
    # Rows sent in two files repeat one another, which is another finding.
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
        return None
    if (
        signs.few
        and seen.kept.marked
        and not _one(seen, "COUNT(*) AS n", several, f"{SAME} AND BIT_COUNT(marks) > 1")["n"]
    ):
        return None  # all rows of each are alike in every cell: they were sent twice, and `duplicate-rows` says so
    same = select([sql("customer"), sql("order_id")], several, "several").where(sql(SAME), copy=False)
    return repeated_total(signs, seen.rows.scheme.money.decimals, _example_orders(seen, same))


def _states(seen: Inspected) -> Finding | None:
    """The states there are, with rows and money each."""
    name = seen.rows.roles.get("status")
    if name is None:
        return None
    columns = [*(sql(c) for c in ("status", "COUNT(*) AS n", "SUM(minor) AS money")),
               named(sql("BOOL_OR(:v)", v=says_void(column("status"))), "void")]  # fmt: skip
    used = (
        select(columns, seen.lines).where(sql("state = :u", u=RowState.USED), copy=False).group_by("status", copy=False)
    )
    rows = seen.engine.table(used.order_by("n DESC", "status", copy=False).limit(_MOST_STATES, copy=False)).to_pylist()
    if not rows:
        return None
    void = ", ".join(f"'{r['status']}'" for r in rows if r["void"]) or "'…'"
    lines = [
        f"{r['status'] or '(blank)'}: {int(r['n']):,} row{'' if r['n'] == 1 else 's'}, {_money(seen, r['money'])}"
        for r in rows
    ]
    return Finding(
        "states", "note", len(rows), f"states in `{name}` count: {'; '.join(lines)}", (),
        f'To count some only: where = "{name} IS NULL OR {name} NOT IN ({void})" under [orders].',
    )  # fmt: skip


#: So many states are named; a column with more is none of states.
_MOST_STATES = 12


def _counted(seen: Inspected) -> exp.Select:
    """The orders that are used or outside the window, with the sum of their rows."""
    money = "rows_amount" if seen.rows.scheme.orders.amount_is == "order" else "amount"
    columns = ["state", "customer", "order_id", "lines", f"{money} AS money"]
    assert seen.orders is not None
    return select([sql(c) for c in columns], seen.orders).where(
        sql("state IN (:u, :o)", u=RowState.USED, o=RowState.OUTSIDE), copy=False
    )


def _shared_order(seen: Inspected) -> Finding | None:
    if seen.orders is None:
        return None
    several = (
        select([sql("order_id")], _counted(seen), "counted")
        .group_by("order_id", copy=False)
        .having(sql("COUNT(*) > 1"), copy=False)
    )
    if not _one(seen, "COUNT(*) AS n", several)["n"]:  # most often there are none, and this tells it soonest
        return None
    among = exp.In(this=column("order_id"), query=several.subquery(copy=False))
    columns = ["order_id", "COUNT(DISTINCT customer) AS customers", "SUM(money) AS money"]
    shared = select([sql(c) for c in columns], _counted(seen), "counted").where(among, copy=False)
    shared = shared.group_by("order_id", copy=False).having(sql("MIN(customer) <> MAX(customer)"), copy=False)
    counts = _one(seen, "COUNT(*) AS n; SUM(customers) AS orders; SUM(money) AS money", shared)
    if not counts["n"]:
        return None
    return Finding(
        "shared-order", "warning", int(counts["n"]),
        f"order ids stand with more than one customer and count as {counted(int(counts['orders']), 'orders')} "
        f"({_money(seen, counts['money'])})",
        _example_orders(seen, select([sql("order_id")], shared, "shared")),
        "Look whether ids start anew each year or in each shop, or whether a customer's id is written in two ways.",
    )  # fmt: skip


def _straddling(seen: Inspected) -> Finding | None:
    if seen.orders is None or not _one(seen, "COUNT(*) AS n", _counted(seen), "state = :o", o=RowState.OUTSIDE)["n"]:
        return None
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
        return None
    return Finding(
        "straddling-orders", "warning", int(counts["n"]),
        f"orders have rows on both sides of the window; outside: {counted(int(counts['rows']), 'rows')} with "
        f"{_money(seen, counts['money'])}",
        _example_orders(seen, select([sql("customer"), sql("order_id")], cut, "cut")),
        "Choose days that do not cut orders, or give every row of an order the same day.",
    )  # fmt: skip


def _after_today(seen: Inspected) -> Finding | None:
    today = seen.today
    day = day_literal(today)
    counts = _one(seen, "COUNT(*) AS n; SUM(minor) AS money", seen.lines, "day > :d", d=day)
    if not counts["n"]:
        return None
    return Finding(
        "after-today", "warning", int(counts["n"]), f"rows are dated after today ({today}), with {_money(seen, counts['money'])}",
        _examples(seen, seen.lines, "'row ' || row || ', ' || day", where="day > :d", d=day),
        "Look whether day and month changed places; --as-of leaves later rows outside.",
    )  # fmt: skip


def _excess_decimals(seen: Inspected) -> Finding | None:
    odd = "state = :u AND off IS NOT NULL"
    counts = _one(seen, "COUNT(*) AS n; SUM(off) AS money", seen.lines, odd, u=RowState.USED)
    if not counts["n"]:
        return None
    by = round(float(counts["money"]))
    return Finding(
        "excess-decimals", "note", int(counts["n"]),
        f"amounts with over {seen.rows.scheme.money.decimals} decimals are rounded, each row once; in all by {_money(seen, by)}",
        _examples(seen, seen.lines, "'row ' || row", where=odd, u=RowState.USED), "Set `decimals` under [money] if they matter.",
    )  # fmt: skip


def _serial_days(seen: Inspected) -> Finding | None:
    odd = "state = :b AND REGEXP_MATCHES(written, '^\\d{5}(\\.\\d+)?$')"
    counts = _one(seen, "COUNT(*) AS n; SUM(minor) AS money", seen.lines, odd, b=RowState.BAD_DATE)
    if not counts["n"]:
        return None
    return Finding(
        "serial-dates", "warning", int(counts["n"]),
        f"dates are numbers, as a spreadsheet counts days; {_money(seen, counts['money'])} set aside",
        _examples(seen, seen.lines, "'row ' || row || ', ' || written", where=odd, b=RowState.BAD_DATE),
        'If they are days of a spreadsheet, say `date_format = "spreadsheet-days"` under [orders].',
    )  # fmt: skip


def _money(seen: Inspected, minor: Any) -> str:
    return major_read(int(minor or 0), seen.rows.scheme.money.decimals)


_Check = Callable[[Inspected], Finding | None]
_CHECKS: tuple[_Check, ...] = (
    _duplicate_rows, _repeated_total, _states, _shared_order, _straddling, _after_today, _excess_decimals, _serial_days,
)  # fmt: skip

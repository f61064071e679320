"""Findings that need a look at the rows themselves: repeats, totals joined onto lines, orders shared or cut in two."""

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlglot import exp

from fairladder.engine.protocol import Engine
from fairladder.orders.balance import major
from fairladder.orders.findings import Finding
from fairladder.orders.rows import CODES, OUTSIDE, USED, Rows
from fairladder.sqltree import column, named, select, sql

_SHOWN = 5


#: From so many rows on a first look does without row numbers: giving them takes one thread and most of the time.
MANY_ROWS = 500_000


@dataclass(frozen=True)
class _Looked:
    """What the findings look at: the rows that were kept and, where there are order ids, their orders."""

    rows: Rows
    kept: exp.Expr
    orders: exp.Expr | None
    numbered: bool
    today: dt.date

    @property
    def engine(self) -> Engine:
        return self.rows.source.engine


def row_inspection(rows: Rows, today: dt.date, rows_read: int) -> list[Finding]:
    """Look through all rows, read once more and kept for the while, for what would make the numbers wrong.

    Of many rows those that a finding shows are read again for their numbers: only the repeats where it is they alone.
    """
    if rows_read <= MANY_ROWS:
        return list(_inspected(rows, today, _CHECKS, numbered=True).values())
    found = _inspected(rows, today, _CHECKS, numbered=False)
    again = [check for check in found if check is not _duplicate_rows]
    return [
        f
        for _, f in sorted(
            {**found, **(_inspected(rows, today, again, numbered=True) if again else {})}.items(), key=_in_order
        )
    ]


def _in_order(found: "tuple[_Check, Finding]") -> int:
    return _CHECKS.index(found[0])


def _inspected(rows: Rows, today: dt.date, checks: "Sequence[_Check]", numbered: bool) -> "dict[_Check, Finding]":
    engine = rows.source.engine
    kept = engine.keep(_looked_at(rows, numbered))
    orders = engine.keep(_orders(kept)) if rows.has_orders else None
    looked = _Looked(rows, kept, orders, numbered, today)
    found = {check: finding for check in checks if (finding := check(looked)) is not None}
    for relation in (kept, orders):
        if relation is not None:
            engine.forget(relation)
    return found


def _looked_at(rows: Rows, numbered: bool) -> exp.Select:
    """What the findings need of each row; ``twin`` is alike for rows whose cells are all alike."""
    cells = [column(name) for name in rows.source.columns]
    columns = {
        "row": column("#row") if numbered else sql("CAST(NULL AS BIGINT)"),
        "customer": column("#customer"), "day": column("#day"), "minor": column("#minor"),
        "state": column("#state"), "twin": exp.Anonymous(this="HASH", expressions=cells), "exact": rows.unrounded(),
        "placed": sql("CAST(:p AS VARCHAR)", p=column("#placed")),
    }  # fmt: skip
    if rows.has_orders:
        columns["order_id"] = column("#order")
    return select([named(tree, name) for name, tree in columns.items()], rows.tree(numbered=numbered), "order_rows")


def _one(rows: Rows, pattern: str, source: exp.Expr, where: str | None = None, **parts: Any) -> dict[str, Any]:
    """The single row of ``SELECT pattern FROM source``."""
    query = select([sql(p, **parts) for p in pattern.split("; ")], source, "looked")
    if where:
        query = query.where(sql(where, **parts))
    return dict(rows.source.engine.table(query).to_pylist()[0])


def _examples(
    looked: _Looked, source: exp.Expr, text: str, order: str, where: str | None = None, **parts: Any
) -> tuple[str, ...]:
    if not looked.numbered:  # a second look will give them
        return ()
    query = select([named(sql(text, **parts), "example")], source, "looked").order_by(sql(order)).limit(_SHOWN)
    if where:
        query = query.where(sql(where, **parts))
    return tuple(str(r["example"]) for r in looked.engine.table(query).to_pylist())


def _duplicate_rows(looked: _Looked) -> Finding | None:
    rows, kept = looked.rows, looked.kept
    twins = select(
        [sql("twin"), sql("COUNT(*) AS n"), sql("MIN(row) AS a"), sql("MAX(row) AS b"), sql("MIN(minor) AS minor")],
        kept,
    )
    twins = twins.where(sql("state = :u", u=USED)).group_by("twin").having(sql("COUNT(*) > 1"))
    found = looked.engine.keep(twins)
    told = _one(rows, "SUM(n - 1) AS n; SUM((n - 1) * minor) AS money", found)
    examples = _first_twins(looked, found) if told["n"] else ()
    looked.engine.forget(found)
    if not told["n"]:
        return None
    return Finding(
        "duplicate-rows", "warning", int(told["n"]),
        f"rows repeat another in every cell and add {_money(rows, told['money'])} to spend, if they were sent twice by mistake",
        examples,
        "Two equal lines of one order can be real. If not, take the repeats out of the export.",
    )  # fmt: skip


def _first_twins(looked: _Looked, twins: exp.Expr) -> tuple[str, ...]:
    """The first rows that repeat; where rows have no numbers yet, only these are read for them."""
    pair = "'rows ' || a || ' and ' || b"
    if looked.numbered:
        return _examples(looked, twins, pair, "a")
    source = looked.rows.source
    twin = exp.Anonymous(this="HASH", expressions=[column(name) for name in source.columns])
    lines = select([named(column("#row"), "row"), named(twin, "twin")], source.numbered())
    among = exp.In(this=column("twin"), query=select([column("twin")], twins).subquery(copy=False))
    pairs = select([sql("MIN(row) AS a"), sql("MAX(row) AS b")], lines, "lines").where(among).group_by("twin")
    return _examples(replace(looked, numbered=True), pairs, pair, "a")


def _orders(kept: exp.Expr) -> exp.Select:
    columns = [
        "customer", "order_id", "COUNT(*) AS n", "MIN(minor) AS least", "MAX(minor) AS most", "SUM(minor) AS total",
        "MIN(row) AS row", "COUNT(CASE WHEN state = 30 THEN 1 END) AS outside",
        "SUM(CASE WHEN state = 30 THEN minor END) AS outside_money",
    ]  # fmt: skip
    query = select([sql(c) for c in columns], kept)
    return query.where(sql("state IN (:u, :o)", u=USED, o=OUTSIDE)).group_by("customer", "order_id")


def _repeated_total(looked: _Looked) -> Finding | None:
    rows = looked.rows
    if looked.orders is None or rows.scheme.orders.amount_is != "line":
        return None
    several = select(["*"], looked.orders).where(sql("n > 1 AND least <> 0"))
    told = _one(
        rows, "COUNT(*) AS orders; COUNT(CASE WHEN least = most THEN 1 END) AS same; "
        "SUM(CASE WHEN least = most THEN total - least END) AS money",
        several,
    )  # fmt: skip
    if not told["orders"] or told["same"] * 2 <= told["orders"]:
        return None
    return Finding(
        "repeated-total", "warning", int(told["same"]),
        f"of {told['orders']:,} orders with several rows repeat one amount on each: the total was probably joined onto every "
        f"line, and spend is {_money(rows, told['money'])} too high",
        _examples(looked, several, "'order ' || order_id || ' from row ' || row", "row", "least = most"),
        'If so, say `amount_is = "order"` under [orders]; it is then taken once.',
    )  # fmt: skip


def _shared_order(looked: _Looked) -> Finding | None:
    rows = looked.rows
    if looked.orders is None:
        return None
    shared = select(
        [sql("order_id"), sql("COUNT(*) AS customers"), sql("SUM(total) AS total"), sql("MIN(row) AS row")],
        looked.orders,
    )
    shared = shared.group_by("order_id").having(sql("COUNT(*) > 1"))
    told = _one(rows, "COUNT(*) AS n; SUM(customers) AS orders; SUM(total) AS money", shared)
    if not told["n"]:
        return None
    return Finding(
        "shared-order", "warning", int(told["n"]),
        f"order ids stand with more than one customer and count as {int(told['orders']):,} orders ({_money(rows, told['money'])})",
        _examples(looked, shared, "'order ' || order_id || ' from row ' || row", "row"),
        "Look whether ids start anew each year or in each shop, or whether a customer's id is written in two ways.",
    )  # fmt: skip


def _straddling(looked: _Looked) -> Finding | None:
    rows = looked.rows
    if looked.orders is None:
        return None
    cut = select(["*"], looked.orders).where(sql("outside BETWEEN 1 AND n - 1"))
    told = _one(rows, "COUNT(*) AS n; SUM(outside) AS rows; SUM(outside_money) AS money", cut)
    if not told["n"]:
        return None
    return Finding(
        "straddling-orders", "warning", int(told["n"]),
        f"orders have rows on both sides of the window; {int(told['rows']):,} rows with {_money(rows, told['money'])} are outside",
        _examples(looked, cut, "'order ' || order_id || ' from row ' || row", "row"),
        "Choose days that do not cut orders, or give every row of an order the same day.",
    )  # fmt: skip


def _after_today(looked: _Looked) -> Finding | None:
    rows, kept, today = looked.rows, looked.kept, looked.today
    day = exp.Literal.string(today.isoformat())
    told = _one(rows, "COUNT(*) AS n; SUM(minor) AS money", kept, "day > CAST(:d AS DATE)", d=day)
    if not told["n"]:
        return None
    return Finding(
        "after-today", "warning", int(told["n"]), f"rows are dated after today ({today}), with {_money(rows, told['money'])}",
        _examples(looked, kept, "'row ' || row || ', ' || day", "row", "day > CAST(:d AS DATE)", d=day),
        "Look whether day and month changed places; --as-of leaves later rows outside.",
    )  # fmt: skip


def _excess_decimals(looked: _Looked) -> Finding | None:
    rows, kept = looked.rows, looked.kept
    odd = "state = :u AND ABS(exact - minor) > 1e-6"
    told = _one(rows, "COUNT(*) AS n; SUM(minor - exact) AS money", kept, odd, u=USED)
    if not told["n"]:
        return None
    by = round(float(told["money"]))
    return Finding(
        "excess-decimals", "note", int(told["n"]),
        f"amounts with over {rows.scheme.money.decimals} decimals are rounded, each row once; in all by {_money(rows, by)}",
        _examples(looked, kept, "'row ' || row", "row", odd, u=USED), "Set `decimals` under [money] if they matter.",
    )  # fmt: skip


def _serial_days(looked: _Looked) -> Finding | None:
    rows, kept = looked.rows, looked.kept
    odd = "state = :b AND REGEXP_MATCHES(placed, '^\\d{5}(\\.\\d+)?$')"
    told = _one(rows, "COUNT(*) AS n; SUM(minor) AS money", kept, odd, b=CODES["bad-date"])
    if not told["n"]:
        return None
    return Finding(
        "reading", "warning", int(told["n"]), f"dates are numbers, as a spreadsheet counts days; {_money(rows, told['money'])} set aside",
        _examples(looked, kept, "'row ' || row || ', ' || placed", "row", odd, b=CODES["bad-date"]),
        'If they are days of a spreadsheet, say `date_format = "spreadsheet-days"` under [orders].',
    )  # fmt: skip


def _money(rows: Rows, minor: Any) -> str:
    return major(int(minor or 0), rows.scheme.money.decimals)


_Check = Callable[[_Looked], Finding | None]
_CHECKS: tuple[_Check, ...] = (
    _duplicate_rows, _repeated_total, _shared_order, _straddling, _after_today, _excess_decimals, _serial_days,
)  # fmt: skip

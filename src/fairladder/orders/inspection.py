"""Findings that need a look at the rows themselves: repeats, totals joined onto lines, orders shared or cut in two."""

import datetime as dt
from typing import Any

from sqlglot import exp

from fairladder.orders.balance import major
from fairladder.orders.findings import Finding
from fairladder.orders.rows import CODES, OUTSIDE, USED, Rows
from fairladder.sqltree import column, named, select, sql

_SHOWN = 5


#: From so many rows on a first look does without row numbers: giving them takes one thread and most of the time.
MANY_ROWS = 500_000


def row_inspection(rows: Rows, today: dt.date, rows_read: int) -> list[Finding]:
    """Look through all rows, read once more and kept for the while, for what would make the numbers wrong."""
    if rows_read > MANY_ROWS and not _inspected(rows, today, numbered=False):
        return []
    return _inspected(rows, today, numbered=True)


def _inspected(rows: Rows, today: dt.date, numbered: bool) -> list[Finding]:
    engine = rows.source.engine
    kept = engine.keep(_looked_at(rows, numbered))
    found = [
        _duplicate_rows(rows, kept),
        *([_repeated_total(rows, kept)] if rows.has_orders and rows.scheme.orders.amount_is == "line" else []),
        *([_shared_order(rows, kept), _straddling(rows, kept)] if rows.has_orders else []),
        _after_today(rows, kept, today),
        _excess_decimals(rows, kept),
        _serial_days(rows, kept),
    ]
    engine.forget(kept)
    return [finding for finding in found if finding is not None]


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
    rows: Rows, source: exp.Expr, text: str, order: str, where: str | None = None, **parts: Any
) -> tuple[str, ...]:
    query = select([named(sql(text, **parts), "example")], source, "looked").order_by(sql(order)).limit(_SHOWN)
    if where:
        query = query.where(sql(where, **parts))
    return tuple(str(r["example"]) for r in rows.source.engine.table(query).to_pylist())


def _duplicate_rows(rows: Rows, kept: exp.Expr) -> Finding | None:
    twins = select(
        [sql("twin"), sql("COUNT(*) AS n"), sql("MIN(row) AS a"), sql("MAX(row) AS b"), sql("MIN(minor) AS minor")],
        kept,
    )
    twins = twins.where(sql("state = :u", u=USED)).group_by("twin").having(sql("COUNT(*) > 1"))
    told = _one(rows, "SUM(n - 1) AS n; SUM((n - 1) * minor) AS money", twins)
    if not told["n"]:
        return None
    return Finding(
        "duplicate-rows", "warning", int(told["n"]),
        f"rows repeat another in every cell and add {_money(rows, told['money'])} to spend, if they were sent twice by mistake",
        _examples(rows, twins, "'rows ' || a || ' and ' || b", "a"),
        "Two equal lines of one order can be real. If not, take the repeats out of the export.",
    )  # fmt: skip


def _orders(kept: exp.Expr) -> exp.Select:
    columns = [
        "customer", "order_id", "COUNT(*) AS n", "MIN(minor) AS least", "MAX(minor) AS most", "SUM(minor) AS total",
        "MIN(row) AS row", "COUNT(CASE WHEN state = 30 THEN 1 END) AS outside",
        "SUM(CASE WHEN state = 30 THEN minor END) AS outside_money",
    ]  # fmt: skip
    query = select([sql(c) for c in columns], kept)
    return query.where(sql("state IN (:u, :o)", u=USED, o=OUTSIDE)).group_by("customer", "order_id")


def _repeated_total(rows: Rows, kept: exp.Expr) -> Finding | None:
    several = _orders(kept).having(sql("COUNT(*) > 1 AND MIN(minor) <> 0"))
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
        _examples(rows, several, "'order ' || order_id || ' from row ' || row", "row", "least = most"),
        'If so, say `amount_is = "order"` under [orders]; it is then taken once.',
    )  # fmt: skip


def _shared_order(rows: Rows, kept: exp.Expr) -> Finding | None:
    pairs = _orders(kept)
    shared = select(
        [sql("order_id"), sql("COUNT(*) AS customers"), sql("SUM(total) AS total"), sql("MIN(row) AS row")],
        pairs,
        "pairs",
    )
    shared = shared.group_by("order_id").having(sql("COUNT(*) > 1"))
    told = _one(rows, "COUNT(*) AS n; SUM(customers) AS orders; SUM(total) AS money", shared)
    if not told["n"]:
        return None
    return Finding(
        "shared-order", "warning", int(told["n"]),
        f"order ids stand with more than one customer and count as {int(told['orders']):,} orders ({_money(rows, told['money'])})",
        _examples(rows, shared, "'order ' || order_id || ' from row ' || row", "row"),
        "Look whether ids start anew each year or in each shop, or whether a customer's id is written in two ways.",
    )  # fmt: skip


def _straddling(rows: Rows, kept: exp.Expr) -> Finding | None:
    cut = _orders(kept).having(sql("COUNT(CASE WHEN state = 30 THEN 1 END) BETWEEN 1 AND COUNT(*) - 1"))
    told = _one(rows, "COUNT(*) AS n; SUM(outside) AS rows; SUM(outside_money) AS money", cut)
    if not told["n"]:
        return None
    return Finding(
        "straddling-orders", "warning", int(told["n"]),
        f"orders have rows on both sides of the window; {int(told['rows']):,} rows with {_money(rows, told['money'])} are outside",
        _examples(rows, cut, "'order ' || order_id || ' from row ' || row", "row"),
        "Choose days that do not cut orders, or give every row of an order the same day.",
    )  # fmt: skip


def _after_today(rows: Rows, kept: exp.Expr, today: dt.date) -> Finding | None:
    day = exp.Literal.string(today.isoformat())
    told = _one(rows, "COUNT(*) AS n; SUM(minor) AS money", kept, "day > CAST(:d AS DATE)", d=day)
    if not told["n"]:
        return None
    return Finding(
        "after-today", "warning", int(told["n"]), f"rows are dated after today ({today}), with {_money(rows, told['money'])}",
        _examples(rows, kept, "'row ' || row || ', ' || day", "row", "day > CAST(:d AS DATE)", d=day),
        "Look whether day and month changed places; --as-of leaves later rows outside.",
    )  # fmt: skip


def _excess_decimals(rows: Rows, kept: exp.Expr) -> Finding | None:
    odd = "state = :u AND ABS(exact - minor) > 1e-6"
    told = _one(rows, "COUNT(*) AS n; SUM(minor - exact) AS money", kept, odd, u=USED)
    if not told["n"]:
        return None
    by = round(float(told["money"]))
    return Finding(
        "excess-decimals", "note", int(told["n"]),
        f"amounts with over {rows.scheme.money.decimals} decimals are rounded, each row once; in all by {_money(rows, by)}",
        _examples(rows, kept, "'row ' || row", "row", odd, u=USED), "Set `decimals` under [money] if they matter.",
    )  # fmt: skip


def _serial_days(rows: Rows, kept: exp.Expr) -> Finding | None:
    odd = "state = :b AND REGEXP_MATCHES(placed, '^\\d{5}(\\.\\d+)?$')"
    told = _one(rows, "COUNT(*) AS n; SUM(minor) AS money", kept, odd, b=CODES["bad-date"])
    if not told["n"]:
        return None
    return Finding(
        "reading", "warning", int(told["n"]), f"dates are numbers, as a spreadsheet counts days; {_money(rows, told['money'])} set aside",
        _examples(rows, kept, "'row ' || row || ', ' || placed", "row", odd, b=CODES["bad-date"]),
        'If they are days of a spreadsheet, say `date_format = "spreadsheet-days"` under [orders].',
    )  # fmt: skip


def _money(rows: Rows, minor: Any) -> str:
    return major(int(minor or 0), rows.scheme.money.decimals)

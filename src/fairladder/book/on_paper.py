"""Write the reduction as a statement for a warehouse: from a table of orders with typed columns to
the customers table.
"""

from dataclasses import replace
from typing import Any

from sqlglot import exp
from sqlglot.errors import SqlglotError

from fairladder.book.measure_trees import COUNTS, measures
from fairladder.book.read import Read
from fairladder.book.reduction import reduction
from fairladder.book.shown_sql import in_steps
from fairladder.engine.dialects import (
    WITH_TYPES,
    inner_name,
    reduction_in_dialect,
    require_understood,
    written_as,
)
from fairladder.engine.layout import laid_out
from fairladder.engine.limits import Limits
from fairladder.errors import UsageError, nearest
from fairladder.orders import cells
from fairladder.orders.rows import Rows
from fairladder.orders.source import CellKind
from fairladder.orders.states import RowState
from fairladder.orders.writing import Writing
from fairladder.sqltree import cell_column, column, day_literal, named, select, sql
from fairladder.wording import listed

#: Descriptions of the required column types.
_TYPE_NAMES: dict[str, str] = {
    "text": "text",
    "whole": "a whole number",
    "decimal": "a number",
    "date": "a date",
    "timestamp": "a date or a timestamp without time zone",
    "truth": "a boolean",
}
_CAST = {"text": "VARCHAR", "decimal": "DECIMAL(38, 9)", "whole": "BIGINT", "date": "DATE"}


class _Paper:
    """A placeholder engine for rows that are not read by any of our engines."""

    reader = None
    limits = Limits()


def customers_sql(
    orders: Read, dialect: str, *, table: str = "orders", view: str | None = None
) -> str:
    """Return the reduction as one SELECT in a dialect, from a table of order rows to the customers
    table, with the orders' settings.

    ``orders`` supplies columns, roles and settings. The statement reads ``table``, whose columns
    are typed: the date is a date or a timestamp, the amount one number. The as-of date is the
    scheme's, or the latest day in the table. With ``view`` the statement creates a view of that
    name. Comments at its head list the columns that it reads, and whether our tests run such
    statements in this dialect.

    Raises UsageError for a dialect that is unknown or has no types, and for features that a
    statement cannot have: prices times quantities, amounts in cents, exchange rates, an order's
    total on each of its rows, dropped rows, columns turned into rows, timestamps with offsets, and
    first and latest order's columns.

    >>> import fairladder as fl
    >>> text = fl.customers_sql(fl.sample_orders(), "snowflake", table="sales.order_lines")
    >>> text.splitlines()[2]
    'WITH typed AS ('
    """
    if dialect == "sqlite":
        raise UsageError(
            "SQLite has no column types, so no statement can rely on them. Give the address "
            "of its file instead of a file of orders, such as sqlite:///shop.db: then the "
            "reduction runs there."
        )
    if dialect not in WITH_TYPES:
        raise UsageError(
            f"The reduction cannot be written for {dialect!r}. {nearest(dialect, WITH_TYPES)}"
        )
    _require_plain(orders)
    rows = _on_paper(orders, table)
    made: exp.Expr = reduction_in_dialect(_customers(rows), dialect)
    if view is not None:
        made = exp.Create(this=_named_table(view), kind="VIEW", expression=made)
    text = laid_out(made, written_as(dialect))
    require_understood(text, dialect)
    return _head(rows, table, orders.opened.customers_file is not None) + text


def _require_plain(orders: Read) -> None:
    part, roles = orders.scheme.orders, orders.opened.roles
    reshaped = [
        n
        for n in ("channel_amounts", "channel_customers", "day_amounts", "credit")
        if getattr(part, n)
    ]
    refused = {
        "an amount of several columns": len(roles.factors) != 1 or roles.get("discount"),
        "amounts in cents": orders.rows.in_minor_units,
        "[money] rates": orders.scheme.money.rates,
        "an order's total on each of its rows": part.amount_is == "order"
        and orders.rows.has_orders,
        "`drop`": part.drop,
        "[lines]": orders.scheme.lines.file,
        f"`{' '.join(reshaped)}`": reshaped,
        "`at_first` and `at_latest`": orders.scheme.customers.at_first
        or orders.scheme.customers.at_latest,
        "dates written as numbers": roles.date_format,
    }
    for what, there in refused.items():
        if there:
            raise UsageError(
                f"A statement for a warehouse cannot handle {what}. Create a view there in "
                "which each row has its ids, one date and one amount, write a scheme for "
                "that view, and try again."
            )
    if orders.rows.by_currency and orders.scheme.money.currency is None:
        raise UsageError(
            f"The orders have several currencies in `{roles.get('currency')}`, and a "
            "statement can add up only one. Set `currency` under [money]."
        )


def _on_paper(orders: Read, table: str) -> Rows:
    """Return the rows of these orders as if they were in a table with typed columns."""
    rows, kinds = orders.rows, _kinds(orders)
    names = {*rows.roles.columns.values(), *(rows.condition.names if rows.condition else ())}
    read = {name: kind for name, kind in kinds.items() if name in names}
    clash = [n for n in read if n.startswith("#") or n.startswith(inner_name("#"))]
    if clash:
        raise UsageError(
            f"The statement uses names like `{clash[0]}` for its own columns. Rename that "
            "column in a view, and try again."
        )
    typed = [named(_as(cell_column(n), kind), n) for n, kind in read.items()]
    relation = select(typed, _named_table(table)).subquery("typed", copy=False)
    paper: Any = _Paper()
    source = replace(
        rows.source, columns=read, engine=paper, relation=relation, text=False, parts=(), path=None
    )
    return replace(
        rows, source=source, writing=Writing(detected=True), channels=None, kinds={}, plainly=True
    )


def _named_table(name: str) -> exp.Table:
    """Return a table by its name. Raises UsageError if it is not a valid name."""
    try:
        # a name that is not plain is quoted as one name
        table = exp.to_table(name, dialect="duckdb")
    except SqlglotError:
        table = exp.Table()
    if not isinstance(table.this, exp.Identifier):
        raise UsageError(
            f"{name!r} is not the name of a table. Write it as orders or sales.orders."
        )
    return table


def _kinds(orders: Read) -> dict[str, CellKind]:
    rows = orders.rows
    kinds: dict[str, CellKind] = {
        n: "decimal" if k in ("float", "single") else k for n, k in rows.source.columns.items()
    }
    detected: dict[str, CellKind] = {"number": "decimal", "day": "date"}
    kinds |= {n: detected[k] for n, k in rows.kinds.items() if k in detected}
    placed = rows.roles.get("placed") or ""
    if kinds[placed] == "text" and not _any_offset(rows, placed):
        kinds[placed] = "timestamp"
    if kinds[placed] not in ("date", "timestamp"):
        raise UsageError(
            f"`{placed}` contains times with an offset from UTC, which each warehouse "
            "converts to days in its own way. Create a view there with the day in the "
            "shop's time zone, write a scheme for that view, and try again."
        )
    return kinds | {n: "decimal" for n in rows.roles.factors if kinds[n] != "whole"}


def _any_offset(rows: Rows, placed: str) -> bool:
    trimmed = select(
        [named(cells.text(cell_column(placed), "text"), "placed")], rows.source.relation
    )
    count = sql("COUNT(CASE WHEN :o THEN 1 END) AS n", o=cells.offset(column("placed")))
    return bool(rows.source.engine.table(select([count], trimmed, "placed_cells"))["n"][0].as_py())


def _as(cell: exp.Expr, kind: CellKind) -> exp.Expr:
    return exp.cast(cell, _CAST[kind]) if kind in _CAST else cell


def _customers(rows: Rows) -> exp.Select:
    """Build the whole statement, step by step."""
    reduced = in_steps(reduction(rows, as_written=False))
    reduced.set("order", None)
    steps = reduced.args.pop("with_").expressions
    names = {c.alias_or_name for c in reduced.selects}
    texts = [n for n in ("name", "only_channel") if n in names]
    kept = ("smallest_order", "largest_order", "first_order", "last_order", *texts)
    counts = [named(sql("COALESCE(:c, 0)", c=column(n)), n) for n in COUNTS]
    used = select([column("customer"), *counts, *map(column, kept)], exp.to_table("reduced"))
    used = used.where(sql("state = :u", u=int(RowState.USED)), copy=False)
    held = named(sql("SUM(CASE WHEN spend > 0 THEN spend ELSE 0 END)"), "held")
    spends = select(
        [column("spend"), named(sql("COUNT(*)"), "customers"), held], exp.to_table("used")
    )
    spends = spends.group_by("spend", copy=False)
    standings = select(
        [named(column("spend"), "of_spend"), named(_downward("held"), "held_from"),
         named(sql("1 + :u - :c", u=_downward("customers"), c=column("customers")), "place")],
        exp.to_table("spends"),
    )  # fmt: skip
    day = rows.scheme.time.as_of or rows.scheme.time.through
    used_state, last_state = int(RowState.USED), int(RowState.NEITHER) - 1
    positive = sql(
        "COALESCE(SUM(CASE WHEN state = :u AND spend > 0 THEN spend ELSE 0 END), 0)", u=used_state
    )
    whole = [named(positive, "positive")]
    if day is None:
        read = sql(
            "state = :u OR state BETWEEN :l AND :n",
            u=used_state,
            l=int(RowState.FILTERED_OUT),
            n=last_state,
        )
        whole.append(named(sql("MAX(CASE WHEN :r THEN latest_row END)", r=read), "as_of"))
    of_all = select(whole, exp.to_table("reduced"))
    today = day_literal(day) if day else column("as_of")
    made = measures(
        texts,
        today,
        column("positive"),
        column("held_from"),
        column("place"),
        rows.scheme.money.decimals,
    )
    last = select([m.this if m.this.name == m.alias else m for m in made], exp.to_table("used"))
    last.join(exp.to_table("standings"), on=sql("spend = of_spend"), copy=False)
    last.join(exp.to_table("of_all"), join_type="cross", copy=False)
    added = [
        (
            "reduced",
            "One row for each customer with used rows, and one for each other state of rows.",
            reduced,
        ),
        ("used", "Only the customers.", used),
        ("spends", "For each spend, the number of customers with it and their total.", spends),
        ("standings", "The total and the rank of customers with at least this spend.", standings),
        ("of_all", "Totals over all customers.", of_all),
    ]
    for step in steps:
        last = last.with_(step.alias, as_=step.this, copy=False)
    for name, comment, step in added:
        step.add_comments([f" {comment} "])
        last = last.with_(name, as_=step, copy=False)
    return last


def _downward(name: str) -> exp.Expr:
    """Return the sum of a column over all rows with this spend or a higher one."""
    frame = exp.WindowSpec(
        kind="ROWS", start="UNBOUNDED", start_side="PRECEDING", end="CURRENT ROW"
    )
    order = exp.Order(expressions=[exp.Ordered(this=column("spend"), desc=True)])
    return exp.Window(this=sql("SUM(:c)", c=column(name)), order=order, spec=frame)


def _head(rows: Rows, table: str, people: bool) -> str:
    """Return comments on what the statement reads, free of anything that could end a comment."""
    of_kind: dict[str, list[str]] = {}
    for name, kind in rows.source.columns.items():
        of_kind.setdefault(_TYPE_NAMES[kind], []).append(
            " ".join(name.split())
        )  # a comment ends with its line
    columns_read = "; ".join(f"{listed(names)} as {kind}" for kind, names in of_kind.items())
    more = (
        "-- The customers file is not included, so customers without orders and the file's "
        "columns are missing.\n"
    )
    return f"-- Reads the table {' '.join(table.split())}, with {columns_read}.\n{more if people else ''}"

"""Queries for single orders, with their columns and their number in the customer's history."""

from collections.abc import Collection
from typing import Any

from sqlglot import exp

from fairladder.book.line_cells import HOUR, LineCells, as_text, summed
from fairladder.book.lines import (
    line_signs,
    offset_flag,
    reads_offsets,
    trimmed_ids,
    whole_state_of,
)
from fairladder.book.reduction import can_repeat_totals, repeated_totals
from fairladder.orders.rows import Rows
from fairladder.orders.states import RowState
from fairladder.sqltree import any_of, column, named, select, sql


def order_rows(
    rows: Rows,
    customers: Collection[str] | None = None,
    columns: Collection[str] | None = None,
    mixed: bool = False,
    sequence: bool = True,
) -> exp.Select:
    """Return the used orders one by one, with window functions, which the reduction avoids.

    Columns: ``customer``, ``order`` (with the role), ``placed_on``, ``amount`` (minor units),
    ``lines``; for purchases ``nth`` and ``before`` (day of the previous purchase). The orders'
    other columns, or those in ``columns``, are named ``of NAME``. If an order's rows disagree, the
    value is null; with ``mixed`` it is text, ``disagreeing()`` in that case. ``customers`` selects
    ids. Without ``sequence`` there is no ``nth`` and no ``before``.
    """
    shown, others = _shown_columns(rows, columns)
    lines = select(
        [named(t, n) for n, t in _line_cells(rows, shown, others, mixed, sequence).items()],
        rows.tree(),
        "order_rows",
    )
    lines = lines.where(sql(":s = :used", s=LineCells(rows).state, used=RowState.USED), copy=False)
    if customers is not None:
        ids = exp.In(
            this=LineCells(rows).id("customer"),
            expressions=[exp.Literal.string(c) for c in customers],
        )
        lines = lines.where(ids if customers else exp.false(), copy=False)
    orders = select(["*", named(exp.Literal.number(1), "lines")], lines, "lines")
    if rows.has_orders:
        keys = [column(k) for k in ("customer", "order")]
        grouped = [
            *keys,
            *(named(t, n) for n, t in _order_measures(rows, shown, mixed, sequence).items()),
        ]
        orders = select(grouped, lines, "lines").group_by(*keys, copy=False)
    return _sequenced(orders, rows, shown, others, sequence)


def order_days(rows: Rows) -> exp.Select:
    """Return the used orders: ``customer``, ``placed_on`` (day of the earliest row), ``last_on``
    (day of the latest), ``amount`` (minor units).
    """
    line = LineCells(rows)
    read = {**line.ids(), "placed_on": line.day, "amount": line.minor}
    lines = select([named(t, n) for n, t in read.items()], rows.tree(), "order_rows")
    lines = lines.where(sql(":s = :used", s=line.state, used=RowState.USED), copy=False)
    measures = _order_measures(rows, [], mixed=False, sequence=False) | {
        "last_on": sql("MAX(placed_on)")
    }
    names = ("placed_on", "last_on", "amount")
    if not rows.has_orders:
        alone = {
            "placed_on": column("placed_on"),
            "last_on": column("placed_on"),
            "amount": column("amount"),
        }
        return select([column("customer"), *(named(alone[n], n) for n in names)], lines, "lines")
    grouped = select([column("customer"), *(named(measures[n], n) for n in names)], lines, "lines")
    return grouped.group_by(column("customer"), column("order"), copy=False)


def used_lines(rows: Rows) -> exp.Select:
    """Return the used rows one by one: ``customer``, ``order`` (with the role), ``placed_on``,
    ``amount`` (minor units), and own columns.

    Own columns are those without a role, and the channel, named ``of NAME``.
    """
    line, (shown, _) = LineCells(rows), _shown_columns(rows, None)
    read = {**line.ids(), "placed_on": line.day, "amount": line.minor, **line.own(shown, "of")}
    lines = select([named(t, n) for n, t in read.items()], rows.tree(), "order_rows")
    return lines.where(sql(":s = :used", s=line.state, used=RowState.USED), copy=False)


def kept_orders(
    rows: Rows, columns: Collection[str] | None, mixed: bool, sequence: bool
) -> exp.Select:
    """Return all rows as orders with ids as written, unused ones under their state: one pass for
    the balance and ``order_rows``.

    Columns: ``state`` (without regard to ids), ``currency`` if there is one, those of
    ``order_rows`` before numbering, and for the balance ``latest``, ``offsets`` (if text timestamps
    could have them) and ``unread`` (if formats are still uncertain).
    """
    shown, others = _shown_columns(rows, columns)
    cells_of = {
        "state": LineCells(rows, as_written=True).state,
        **_line_cells(rows, shown, others, mixed, sequence, as_written=True),
    }
    keys = ["state", "customer", "order"]
    if rows.by_currency:
        cells_of["currency"] = column("#currency")
        keys.append("currency")
    if reads_offsets(rows):
        cells_of["offset"] = offset_flag()
    cells_of |= line_signs(rows)
    measures = {**_order_measures(rows, shown, mixed, sequence), "latest": sql("MAX(placed_on)")}
    measures |= {name: sql("CAST(SUM(:x) AS BIGINT)", x=column(name)) for name in line_signs(rows)}
    measures |= {"least": sql("MIN(amount)")} if can_repeat_totals(rows) else {}
    measures |= {"offsets": sql('MAX("offset")')} if reads_offsets(rows) else {}
    if (unread := rows.unread) is not None:
        cells_of["unread"] = unread
        measures["unread"] = sql("MAX(unread)")
    lines = select([named(t, n) for n, t in cells_of.items()], rows.tree_as_written(), "order_rows")
    grouped = [*(column(k) for k in keys), *(named(t, n) for n, t in measures.items())]
    return select(grouped, lines, "lines").group_by(*(column(k) for k in keys), copy=False)


def kept_states(rows: Rows, kept: exp.Expr) -> exp.Select:
    """Return the balance of ``kept_orders``: rows and amounts by final state and currency, and
    whether any id needs trimming.
    """
    ids = trimmed_ids(rows, "order")
    untrimmed = [
        sql("COALESCE(:t <> :c, FALSE)", t=ids[n], c=column(n))
        for n in ids
        if rows.kind(n) == "text"
    ]
    cells_of_kept = {
        "state": whole_state_of(rows, "order"),
        "untrimmed": any_of(untrimmed) if untrimmed else exp.false(),
        **{
            n: column(n)
            for n in (
                "lines",
                "amount",
                "latest",
                *(["least"] if can_repeat_totals(rows) else []),
                *line_signs(rows),
            )
        },
        **({"currency": column("currency")} if rows.by_currency else {}),
        **{flag: column(flag) for flag in _flags(rows)},
    }
    looked = select([named(t, n) for n, t in cells_of_kept.items()], kept)
    measures = {
        "rows_read": "SUM(lines)",
        "rows_amount": "SUM(amount)",
        "latest_row": "MAX(latest)",
        "untrimmed": "BOOL_OR(untrimmed)",
    }
    measures |= {flag: f"MAX({flag})" for flag in _flags(rows)}
    measures |= (
        repeated_totals(several_files=False)
        if can_repeat_totals(rows) and not rows.source.parts
        else {}
    )
    measures |= {name: f"CAST(SUM({name}) AS BIGINT)" for name in line_signs(rows)}
    keys = [column(n) for n in ("state", *(["currency"] if rows.by_currency else []))]
    summed = select([*keys, *(named(sql(m), n) for n, m in measures.items())], looked, "looked")
    return summed.group_by(*keys, copy=False)


def _flags(rows: Rows) -> list[str]:
    return [
        *(["offsets"] if reads_offsets(rows) else []),
        *(["unread"] if rows.unread is not None else []),
    ]


def order_rows_of(
    rows: Rows,
    kept: exp.Expr,
    columns: Collection[str] | None,
    sequence: bool,
    states_tell_all: bool,
) -> exp.Select:
    """Return ``order_rows`` from the result of ``kept_orders``; ``states_tell_all`` means that no
    row is set aside because of its id.
    """
    shown, others = _shown_columns(rows, columns)
    state = column("state") if states_tell_all else whole_state_of(rows, "order")
    names = [
        "placed_on",
        "amount",
        "lines",
        *(["moment"] if sequence else []),
        *(f"of {n}" for n in shown),
    ]
    texts = [named(as_text(column(n)), n) for n in ("customer", "order")]
    used = select([*texts, *(column(n) for n in names)], kept).where(
        sql(":s = :used", s=state, used=RowState.USED), copy=False
    )
    return _sequenced(used, rows, shown, others, sequence)


def _shown_columns(rows: Rows, columns: Collection[str] | None) -> tuple[list[str], list[str]]:
    """Return the orders' columns to show, and all columns without a role of their own."""
    role = rows.roles.get
    taken = {
        role(r)
        for r in (
            "customer",
            "order",
            "placed",
            "amount",
            "unit_price",
            "quantity",
            "discount",
            "channel",
        )
    }
    others = [name for name in rows.source.columns if name not in taken]
    channel = role("channel")
    everything = [
        *([channel if "channel" in rows.source.columns else "channel"] if channel else []),
        *others,
    ]
    return (everything if columns is None else list(columns)), others


def _line_cells(
    rows: Rows,
    shown: list[str],
    others: list[str],
    mixed: bool,
    sequence: bool,
    as_written: bool = False,
) -> dict[str, exp.Expr]:
    """Return the cells needed from each row; ids as text, unless ``as_written``."""
    line = LineCells(rows, as_written)
    read = {**line.ids(), "placed_on": line.day, "amount": line.minor}
    if sequence:
        read["moment"] = line.moment
    read |= line.own(shown, "of", text=mixed)
    if HOUR in shown and rows.has_orders:  # after its day, so that the earliest is the smallest
        read[f"of {HOUR}"] = sql("CAST(:d AS VARCHAR) || :h", d=line.day, h=line.hour)
    return read if rows.has_orders else read | line.own(others, "by")


def _order_measures(
    rows: Rows, shown: list[str], mixed: bool, sequence: bool
) -> dict[str, exp.Expr]:
    """Return the aggregates that make an order from rows."""
    add = "MIN" if rows.scheme.orders.amount_is == "order" else "SUM"
    # A text that no cell contains represents null, so that two aggregates show whether all rows
    # agree.
    text = "COALESCE(:x, CHR(31))" if mixed else ":x"
    agreed = (
        f"CASE WHEN MIN({text}) = MAX({text}) THEN NULLIF(MIN({text}), CHR(31)) ELSE :mixed END"
    )
    if not mixed:
        agreed = "CASE WHEN COUNT(:x) = COUNT(*) AND MIN(:x) = MAX(:x) THEN MIN(:x) END"
    measures = {"placed_on": sql("MIN(placed_on)"), "amount": sql(f"CAST({add}(amount) AS BIGINT)")}
    measures |= {"moment": sql("MIN(moment)")} if sequence else {}
    measures |= {
        f"of {n}": sql(_of_rows(n) or agreed, x=column(f"of {n}"), mixed=disagreeing())
        for n in shown
    }
    measures["lines"] = sql("COUNT(*)")
    return measures


def disagreeing() -> exp.Expr:
    """Return the text of a group whose rows disagree, one that no cell of a file is likely to
    contain.
    """
    return sql("CHR(30) || 'mixed'")


def _of_rows(name: str) -> str:
    """Return the SQL of an order's value that is not a column: the earliest hour, or a sum over
    rows; empty for columns.
    """
    return (
        "SUBSTRING(MIN(:x), 11)"
        if name == HOUR
        else "CAST(SUM(:x) AS BIGINT)"
        if summed(name) is not None
        else ""
    )


def _sequenced(
    orders: exp.Select, rows: Rows, shown: list[str], others: list[str], sequence: bool
) -> exp.Select:
    """Return the orders with their number in the customer's history."""
    keys = ["customer", *(["order"] if rows.has_orders else [])]
    last = ["order"] if rows.has_orders else ["amount", *(f"by {name}" for name in others)]
    trees: list[exp.Expr] = [column(n) for n in (*keys, "placed_on", "amount", "lines")]
    trees += [column(f"of {n}") for n in shown]
    if not sequence:
        return select(trees, orders, "orders")
    paid = sql("CASE WHEN amount > 0 THEN 1 ELSE 0 END")
    by_time = exp.Order(expressions=[exp.Ordered(this=column(n)) for n in ("moment", *last)])
    history: dict[str, Any] = {"partition_by": [column("customer"), paid], "order": by_time}
    nth = exp.Window(this=exp.RowNumber(), **history)
    before = exp.Window(this=exp.Lag(this=column("placed_on")), **history)
    numbered = {
        "nth": sql("CASE WHEN amount > 0 THEN :n END", n=nth),
        "before": sql("CASE WHEN amount > 0 THEN :b END", b=before),
    }
    return select([*trees, *(named(t, n) for n, t in numbered.items())], orders, "orders")

"""The rows set aside, and the second look at rows without customer, order and date."""

from sqlglot import exp

from fairladder.orders import cells
from fairladder.orders.rows import Rows
from fairladder.orders.source import FILE
from fairladder.orders.states import SET_ASIDE, RowState
from fairladder.sqltree import all_of, any_of, case, cell_column, column, named, select, sql


def decided(rows: Rows, totals: list[int], readable: int) -> exp.Expr:
    """Return the state of an undecided row: blank, a total row (its amount is one of the sums), or
    a row without a customer.

    ``totals`` are the sums of usable amounts, ``readable`` the sum of all readable amounts
    including the row's own; all in minor units.
    """
    kinds = rows.source.columns
    nothing = all_of(cells.blank(cell_column(name), kind) for name, kind in kinds.items())
    minor = column("#minor")
    sums = [exp.Literal.number(t) if t >= 0 else sql("-:t", t=-t) for t in totals]
    among = [exp.In(this=minor, expressions=sums)] if sums else []
    is_total = any_of(
        [exp.EQ(this=sql("2 * :m", m=minor), expression=exp.convert(readable)), *among]
    )
    return case(
        [(nothing, exp.convert(RowState.BLANK_ROW)), (is_total, exp.convert(RowState.TOTAL_ROW))],
        exp.convert(RowState.NO_CUSTOMER),
    )


def undecided_groups(rows: Rows, tree: exp.Select, totals: list[int], readable: int) -> exp.Select:
    """Return ``state``, ``rows_read`` and ``rows_amount`` of the undecided rows in ``tree``."""
    state = decided(rows, totals, readable)
    undecided = select([named(state, "state"), column("#minor")], tree, "order_rows")
    undecided = undecided.where(
        sql(":s = :u", s=column("#state"), u=RowState.UNDECIDED), copy=False
    )
    counts = [
        named(sql("COUNT(*)"), "rows_read"),
        named(sql("SUM(:m)", m=column("#minor")), "rows_amount"),
    ]
    return select(["state", *counts], undecided, "undecided").group_by("state", copy=False)


def orders_total(rows: Rows) -> exp.Select:
    """Return the sum of the totals of all usable orders, before ``where`` and date range, for
    totals repeated on each line.
    """
    usable = sql(
        ":s IN (:a, :b, :c, :d)",
        s=column("#state"),
        a=RowState.USED,
        b=RowState.FILTERED_OUT,
        c=RowState.UNKNOWN,
        d=RowState.OUTSIDE,
    )
    once = select([named(sql("MIN(:m)", m=column("#minor")), "amount")], rows.tree(), "order_rows")
    once = once.where(usable, copy=False).group_by(
        column("#customer"), column("#order"), copy=False
    )
    return select([named(sql("SUM(amount)"), "total")], once, "orders")


def shown_name(name: str) -> str:
    """Return the displayed name of a column of ``set_aside_rows``; the orders may have their own
    row or reason.
    """
    own = name.removeprefix("of ")
    if own == name:
        return name.removeprefix("#")
    return f"{own} (cell)" if own in ("row", "reason") else own


def set_aside_rows(rows: Rows, tree: exp.Select, totals: list[int], readable: int) -> exp.Select:
    """Return ``#row``, ``#reason`` and the original cells as text (``of NAME``) of every row of
    ``tree`` set aside, by row number.
    """
    again = case(
        [
            (
                sql(":s = :u", s=column("#state"), u=RowState.UNDECIDED),
                decided(rows, totals, readable),
            )
        ],
        column("#state"),
    )
    inner = select(["*", named(again, "#why")], tree, "order_rows")
    names = [
        (sql(":w = :s", w=column("#why"), s=s), exp.Literal.string(s.reason)) for s in SET_ASIDE
    ]
    original = [
        named(sql("CAST(:c AS VARCHAR)", c=cell_column(c)), f"of {c}") for c in rows.source.columns
    ]
    if rows.source.has_several_files:
        original.insert(0, named(column(f"#{FILE}"), FILE))
    reason = named(case(names, exp.null()), "#reason")
    chosen = select([column("#row"), reason, *original], inner, "decided")
    wanted = exp.In(this=column("#why"), expressions=[exp.convert(s) for s in SET_ASIDE])
    # Rows of several files can have the same numbers.
    home = (
        [column(FILE)]
        if rows.source.has_several_files
        else [column(f"of {FILE}")]
        if rows.source.parts
        else []
    )
    return chosen.where(wanted, copy=False).order_by(column("#row"), *home, copy=False)

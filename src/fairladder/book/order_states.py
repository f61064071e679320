"""Count the statuses of used orders."""

from sqlglot import exp

from fairladder.book.line_cells import LineCells
from fairladder.orders.rows import Rows
from fairladder.orders.states import RowState
from fairladder.sqltree import named, select, sql


def states_of(rows: Rows) -> exp.Select | None:
    """Return ``status``, ``n`` rows, ``money`` (minor units) and ``void`` (whether it means a void
    order) of used rows; None without that role.
    """
    status, void = rows.text_of("status"), rows.void()
    if status is None or void is None:
        return None
    line = LineCells(rows)
    cells_of = {"status": status, "void": void, "state": line.state, "minor": line.minor}
    used = select([named(t, n) for n, t in cells_of.items()], rows.tree(), "order_rows")
    columns = [
        sql("status"),
        sql("COUNT(*) AS n"),
        sql("SUM(minor) AS money"),
        sql("BOOL_OR(void) AS void"),
    ]
    grouped = (
        select(columns, used, "used")
        .where(sql("state = :u", u=RowState.USED), copy=False)
        .group_by("status", copy=False)
    )
    return grouped.order_by("n DESC", "status", copy=False)

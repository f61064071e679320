"""Orders kept in the engine: one pass that gives the balance and the orders together, for what
is asked of orders.
"""

from dataclasses import dataclass, replace

import pyarrow as pa
from sqlglot import exp

from fairladder.book.order_rows import kept_orders, kept_states, order_rows_of
from fairladder.book.passes import largest_unread
from fairladder.orders.rows import Rows
from fairladder.orders.settling import settled, settled_at_first, settled_before
from fairladder.orders.states import RowState


@dataclass(frozen=True)
class OrderTable:
    """Which orders are meant: with ``columns`` beside their own (None: all), as text with
    ``mixed``, numbered with ``sequence``.
    """

    columns: tuple[str, ...] | None = ()
    mixed: bool = True
    sequence: bool = True

    def serves(self, other: "OrderTable") -> bool:
        """Whether the other table's columns are all among these."""
        if other.sequence and not self.sequence:
            return False
        if other.columns is None or self.columns is None:
            return other.columns == self.columns and other.mixed == self.mixed
        return set(other.columns) <= set(self.columns) and (
            other.mixed == self.mixed or not other.columns
        )


@dataclass(frozen=True)
class KeptOrders:
    """All orders, each with what became of it, kept in the engine with their ids as written."""

    table: OrderTable
    relation: exp.Expr
    states_tell_all: bool
    """Whether no row's id puts it aside, so that the states need no second look."""
    rows: Rows

    def query(self, wanted: OrderTable) -> exp.Select:
        """The used orders as ``order_rows`` has them."""
        return order_rows_of(
            self.rows, self.relation, wanted.columns, wanted.sequence, self.states_tell_all
        )


def can_keep(rows: Rows, table: OrderTable) -> bool:
    """Whether one grouping of rows with ids as written can give both the balance and the orders."""
    ids = {"customer", "order", rows.roles.get("customer"), rows.roles.get("order")}
    return (
        rows.reads_as_written
        and rows.has_orders
        and ids.isdisjoint(table.columns or ())
        and rows.embedded
    )


def keep_orders(rows: Rows, table: OrderTable) -> tuple[Rows, KeptOrders | None, pa.Table]:
    """Keep the orders; the rows as they turned out to be written, and the groups by state for the
    account.

    Nothing is kept where ids need trimming or text is written otherwise than it seemed at first:
    the rows must be read again.
    """
    rows, engine = settled_at_first(settled_before(rows)), rows.source.engine
    relation = engine.keep(kept_orders(rows, table.columns, table.mixed, table.sequence))
    states = engine.table(kept_states(rows, relation))
    better = rows
    if unread := largest_unread(states):
        better = settled(rows, unread)
    same = replace(better.writing, settled=rows.writing.settled) == rows.writing
    if not same or any(states["untrimmed"].to_pylist()):
        engine.forget(relation)
        return better, None, states
    by_id = {RowState.TOTAL_ROW, RowState.NO_CUSTOMER, RowState.NO_ORDER, RowState.UNDECIDED}
    tells = by_id.isdisjoint(states["state"].to_pylist())
    return better, KeptOrders(table, relation, tells, better), states

"""Keep orders in the engine: one pass that gives both the balance and the orders."""

from dataclasses import dataclass, replace

import pyarrow as pa
from sqlglot import exp

from fairladder.book.order_rows import kept_orders, kept_states, order_rows_of
from fairladder.book.passes import largest_unread
from fairladder.orders.formats import (
    with_detected_formats,
    with_known_formats,
    with_sampled_formats,
)
from fairladder.orders.rows import Rows
from fairladder.orders.states import RowState


@dataclass(frozen=True)
class OrderTable:
    """A selection of columns of the orders: ``columns`` (None for all), as text with ``mixed``,
    numbered with ``sequence``.
    """

    columns: tuple[str, ...] | None = ()
    mixed: bool = True
    sequence: bool = True

    def serves(self, other: "OrderTable") -> bool:
        """Return True if this table has all columns of the other one."""
        if other.sequence and not self.sequence:
            return False
        if other.columns is None or self.columns is None:
            return other.columns == self.columns and other.mixed == self.mixed
        return set(other.columns) <= set(self.columns) and (
            other.mixed == self.mixed or not other.columns
        )


@dataclass(frozen=True)
class KeptOrders:
    """All orders with their states, kept in the engine with ids as written."""

    table: OrderTable
    relation: exp.Expr
    states_tell_all: bool
    """True if no row's id sets it aside, so that states need no second look."""
    rows: Rows

    def query(self, wanted: OrderTable) -> exp.Select:
        """Return the used orders with the columns of ``order_rows``."""
        return order_rows_of(
            self.rows, self.relation, wanted.columns, wanted.sequence, self.states_tell_all
        )


def can_keep(rows: Rows, table: OrderTable) -> bool:
    """Return True if one grouping of rows with ids as written gives both the balance and the
    orders.
    """
    ids = {"customer", "order", rows.roles.get("customer"), rows.roles.get("order")}
    return (
        rows.reads_as_written
        and rows.has_orders
        and ids.isdisjoint(table.columns or ())
        and rows.embedded
    )


def keep_orders(rows: Rows, table: OrderTable) -> tuple[Rows, KeptOrders | None, pa.Table]:
    """Keep the orders; return the rows with their final formats, the kept orders, and the groups by
    state for the account.

    Returns None for the orders if ids need trimming or the format differs from the first guess: the
    rows must then be read again.
    """
    rows, engine = with_sampled_formats(with_known_formats(rows)), rows.source.engine
    relation = engine.keep(kept_orders(rows, table.columns, table.mixed, table.sequence))
    states = engine.table(kept_states(rows, relation))
    better = rows
    if unread := largest_unread(states):
        better = with_detected_formats(rows, unread)
    same = replace(better.writing, detected=rows.writing.detected) == rows.writing
    if not same or any(states["untrimmed"].to_pylist()):
        engine.forget(relation)
        return better, None, states
    by_id = {RowState.TOTAL_ROW, RowState.NO_CUSTOMER, RowState.NO_ORDER, RowState.UNDECIDED}
    states_are_final = by_id.isdisjoint(states["state"].to_pylist())
    return better, KeptOrders(table, relation, states_are_final, better), states

"""Orders with a group each, in the rows' engine, from which growth, cohorts and breakdowns are
computed.
"""

import warnings
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import pandas as pd
import pyarrow as pa
from sqlglot import exp

from fairladder.book.kept_orders import OrderTable
from fairladder.book.line_cells import HOUR, LineCells, summed
from fairladder.book.order_rows import disagreeing
from fairladder.book.read import Read
from fairladder.engine.protocol import Engine
from fairladder.errors import FairLadderWarning, UsageError, nearest
from fairladder.orders.states import RowState
from fairladder.sqltree import column, named, select, sql

#: Names of the null group, of groups whose rows disagree, of the smaller groups combined, and of
#: all groups together.
UNKNOWN, MIXED, REST, TOTAL = "unknown", "mixed", "the rest", "total"
_OURS = (UNKNOWN, MIXED, REST, TOTAL)


def group_name(name: str) -> str:
    """Return the name of a group's column in a relation of purchases, distinct from its other
    columns.
    """
    return f"of {name}"


@dataclass(frozen=True)
class Purchases:
    """A relation of orders in an engine: ``customer``, ``placed_on``, ``amount`` (minor units),
    ``lines``, ``nth``, and its groups with the names from ``group_name``.
    """

    engine: Engine
    relation: exp.Expr
    kept: bool

    def frame(self, query: exp.Select) -> pd.DataFrame:
        """Return a query's rows; dates as ``datetime64[s]``."""
        frame: pd.DataFrame = self.engine.table(query).to_pandas(date_as_object=False)
        days = frame.select_dtypes(include=["datetime"]).columns
        return frame.astype(dict.fromkeys(days, "datetime64[s]"))

    def close(self) -> None:
        """Drop what the engine keeps."""
        if self.kept:
            self.engine.forget(self.relation)


def purchases(
    orders: Read,
    by: Sequence[str] = (),
    *,
    sequence: bool = True,
    keep: bool = False,
    history: bool = True,
) -> Purchases:
    """Return all used orders up to the as-of date, with the named columns as text: from the orders,
    otherwise from the customers.

    Without ``history`` only those in the date range. A group is ``unknown`` if it is null and
    ``mixed`` if an order's rows disagree. Without ``sequence`` there is no ``nth``; set ``keep`` if
    several queries follow. Raises UsageError for a column that neither the orders nor the customers
    file have.
    """
    own, theirs = _homes(orders, by)
    orders.require_fit()
    query = orders.order_table(own, mixed=True, sequence=sequence, history=history)
    kept = ("customer", "placed_on", "amount", "lines", *(["nth"] if sequence else []))
    # Querying what is already kept costs less than copying it.
    kept_already = orders.keeps(OrderTable(tuple(own), True, sequence))
    cheap = kept_already and not sequence and not theirs
    return _grouped(orders, query, kept, own, theirs, keep and not cheap)


def purchase_rows(orders: Read, by: Sequence[str]) -> Purchases:
    """Return purchases row by row: ``amount`` is the row's, ``whole`` its order's total,
    ``order_key`` identifies orders.

    For columns that differ within orders.
    """
    own, theirs = _homes(orders, by)
    orders.require_fit()
    rows = orders.history
    line = LineCells(rows)
    read = {**line.ids(), "day": line.day, "amount": line.minor, **line.own(own, "of", text=True)}
    lines = select([named(t, n) for n, t in read.items()], rows.tree(), "order_rows")
    lines = lines.where(sql(":s = :used", s=line.state, used=RowState.USED), copy=False)
    one = "OVER (PARTITION BY customer, :o)"
    windows = {
        "placed_on": sql(f"MIN(day) {one}", o=column("order")),
        "whole": sql(f"SUM(amount) {one}", o=column("order")),
        "order_key": sql("customer || ' ' || :o", o=column("order")),
        "lines": exp.Literal.number(1),
    }  # fmt: skip
    plain = [column(n) for n in ("customer", "amount", *map(group_name, own))]
    query = select([*plain, *(named(t, n) for n, t in windows.items())], lines, "lines")
    return _grouped(
        orders,
        query,
        ("customer", "placed_on", "amount", "lines", "whole", "order_key"),
        own,
        theirs,
        keep=True,
    )


def _homes(orders: Read, by: Sequence[str]) -> tuple[list[str], list[str]]:
    """Return which of the columns belong to the orders, and which to the customers file."""
    of_orders = {*orders.columns, HOUR}
    of_members = (
        set(orders.members.table.column_names) - {"customer"}
        if orders.members is not None
        else set()
    )
    for wanted in by:
        name = summed(wanted) or wanted
        if name not in of_orders | of_members:
            known = sorted(of_orders | of_members)
            raise UsageError(
                f"There is no column `{name}` among the orders or the customers. "
                f"{nearest(name, known)}"
            )
    own = [n for n in by if (summed(n) or n) in of_orders]
    return own, [n for n in by if n not in own]


def _grouped(
    orders: Read,
    query: exp.Select,
    kept: Sequence[str],
    own: list[str],
    theirs: list[str],
    keep: bool,
) -> Purchases:
    """Return the query's rows with ``own`` groups from them and ``theirs`` joined from the
    customers file.
    """
    engine: Engine = orders.engine
    groups = [
        column(group_name(n))
        if summed(n) is not None
        else named(_as_group(column(group_name(n))), group_name(n))
        for n in own
    ]
    orders_there = select([*(column(n) for n in kept), *groups], query, "orders")
    if not theirs:
        return _held(engine, orders_there, keep)
    assert orders.members is not None
    relation: exp.Expr = orders_there.subquery("orders", copy=False)
    # the customers file is on this machine, so the orders are brought here, too
    if engine.reader is not engine:
        relation = engine.reader.offer(engine.table(orders_there))
        engine = engine.reader
    side = orders.members.table.select(["customer", *theirs])
    texts = {
        n if n == "customer" else group_name(n): pa.array(
            [None if v is None else _as_text(v) for v in side[n].to_pylist()], pa.string()
        )
        for n in side.column_names
    }
    groups_there = engine.offer(pa.table(texts))
    joined = exp.select("*").from_(select(["*"], relation).subquery("o", copy=False), copy=False)
    joined = joined.join(
        exp.alias_(groups_there, "m", table=True), using=["customer"], join_type="left", copy=False
    )
    labels = [named(_as_group(column(group_name(n))), group_name(n)) for n in theirs]
    whole = select(
        [*(column(n) for n in (*kept, *map(group_name, own))), *labels], joined, "joined"
    )
    return _held(engine, whole, keep)


def _as_group(cell: exp.Expr) -> exp.Expr:
    """Return a cell as the name of its group; a cell that equals one of our names is put in double
    quotes.
    """
    ours = exp.Tuple(expressions=[exp.Literal.string(name) for name in _OURS])
    return sql(
        "CASE WHEN :c IS NULL THEN :u WHEN :c = :disagree THEN :m WHEN :c IN :ours THEN '\"' || "
        ":c || '\"' ELSE :c END",
        c=cell, u=UNKNOWN, disagree=disagreeing(), m=MIXED, ours=ours,
    )  # fmt: skip


def _held(engine: Engine, query: exp.Select, keep: bool) -> Purchases:
    return Purchases(
        engine, engine.keep(query) if keep else query.subquery("purchases", copy=False), keep
    )


def _as_text(value: object) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def require_free_group_name(by: str | None, own: Sequence[str]) -> None:
    """Raise UsageError for a group column with the name of one of the table's ``own`` columns."""
    if by in own:
        raise UsageError(
            f"A table by `{by}` already has a column with that name. Rename the column in "
            "the orders, and try again."
        )


def warn_of_unknown(by: str | None, groups: Iterable[str]) -> None:
    """Issue a warning if no order has a known group, so that the column is useless."""
    if by and (text := all_unknown(by, groups)):
        warnings.warn(text, FairLadderWarning, stacklevel=3)


def all_unknown(by: str, groups: Iterable[str]) -> str:
    """Return a warning if every group is unknown; empty if one is known."""
    if set(groups) != {UNKNOWN}:
        return ""
    return (
        f"Warning: `{by}` is unknown for every order: its cells are blank or cannot be read, "
        "or the customers file has other ids. Look at its values."
    )


def in_order(groups: Sequence[str]) -> list[str]:
    """Sort groups by name, ``mixed`` and ``unknown`` last."""
    return sorted(set(groups), key=lambda g: (g == UNKNOWN, g == MIXED, g))

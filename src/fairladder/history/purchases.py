"""Orders with a group each, where the rows are: what growth, cohorts and breakdowns start from."""

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

#: What a null group is called, one whose rows disagree, the smaller groups of a long table
#: together, and all groups.
UNKNOWN, MIXED, REST, TOTAL = "unknown", "mixed", "the rest", "total"
_OURS = (UNKNOWN, MIXED, REST, TOTAL)


def group_name(name: str) -> str:
    """How a group's column is called in a relation of purchases, beside columns of its own."""
    return f"of {name}"


@dataclass(frozen=True)
class Purchases:
    """A relation of orders in an engine: ``customer``, ``placed_on``, ``amount`` (minor units),
    ``lines``, ``nth``, and its groups under the names that ``group_name`` gives them.
    """

    engine: Engine
    relation: exp.Expr
    kept: bool

    def frame(self, query: exp.Select) -> pd.DataFrame:
        """A query's rows; days as ``datetime64[s]``."""
        frame: pd.DataFrame = self.engine.table(query).to_pandas(date_as_object=False)
        days = frame.select_dtypes(include=["datetime"]).columns
        return frame.astype(dict.fromkeys(days, "datetime64[s]"))

    def close(self) -> None:
        """Let go of what the engine keeps."""
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
    """All used orders up to the as-of date, with the named columns as text: of the orders, else of
    the customers.

    Without ``history`` only those of the date range.

    A group is ``unknown`` where it is null and ``mixed`` where an order's rows disagree. Without
    ``sequence`` there is no ``nth``; ``keep`` where several queries will ask. Raises UsageError
    for a column that neither the orders nor the customers file have.
    """
    own, theirs = _homes(orders, by)
    orders.require_fit()
    query = orders.order_table(own, mixed=True, sequence=sequence, history=history)
    kept = ("customer", "placed_on", "amount", "lines", *(["nth"] if sequence else []))
    # To ask what is kept already costs less than to copy it.
    kept_already = orders.keeps(OrderTable(tuple(own), True, sequence))
    cheap = kept_already and not sequence and not theirs
    return _grouped(orders, query, kept, own, theirs, keep and not cheap)


def purchase_rows(orders: Read, by: Sequence[str]) -> Purchases:
    """The same row by row: ``amount`` is the row's, ``whole`` its order's total, ``order_key``
    tells orders apart.

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
    """Which of the columns are the orders', and which the customers file's."""
    of_orders = {*orders.columns, HOUR}
    of_members = (
        set(orders.members.table.column_names) - {"customer"}
        if orders.members is not None
        else set()
    )
    for asked in by:
        name = summed(asked) or asked
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
    """The query's rows with ``own`` groups from them and ``theirs`` joined from the customers
    file.
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
    if engine.reader is not engine:  # the customers file is here, so the orders come here, too
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
    """A cell as the name of its group; a cell that reads like a name of ours is put in double
    quotes, so that the two stay apart.
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


def group_apart(by: str | None, own: Sequence[str]) -> None:
    """Raise UsageError for a group that would stand under the name of one of the table's
    ``own`` columns.
    """
    if by in own:
        raise UsageError(
            f"A table by `{by}` has a column of that name itself. Rename the column in the "
            "orders, then ask again."
        )


def warn_of_unknown(by: str | None, groups: Iterable[str]) -> None:
    """Warn where no order has a known group, so that the column says nothing."""
    if by and (text := all_unknown(by, groups)):
        warnings.warn(text, FairLadderWarning, stacklevel=3)


def all_unknown(by: str, groups: Iterable[str]) -> str:
    """What is to be said where every group is unknown; empty where one is known."""
    if set(groups) != {UNKNOWN}:
        return ""
    return (
        f"Warning: `{by}` is unknown for every order: its cells are blank or cannot be read, or "
        "the customers file has other ids. "
        "Look at its values."
    )


def in_order(groups: Sequence[str]) -> list[str]:
    """Groups by name, ``mixed`` and ``unknown`` last."""
    return sorted(set(groups), key=lambda g: (g == UNKNOWN, g == MIXED, g))

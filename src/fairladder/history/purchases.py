"""Orders with a group each, where the rows are: what growth, cohorts and breakdowns start from."""

from collections.abc import Sequence
from dataclasses import dataclass

import pandas as pd
import pyarrow as pa
from sqlglot import exp

from fairladder.customers import order_rows
from fairladder.engine.protocol import Engine
from fairladder.errors import UsageError, nearest
from fairladder.order_book import Orders
from fairladder.sqltree import column, named, select, sql

#: What a null group is called, and one whose rows disagree.
UNKNOWN, MIXED = "unknown", "mixed"


@dataclass(frozen=True)
class Purchases:
    """A relation of orders in an engine: ``customer``, ``placed_on``, ``amount`` (minor units), ``lines``, ``nth``, groups."""

    engine: Engine
    relation: exp.Expr

    def frame(self, query: exp.Select) -> pd.DataFrame:
        """A query's rows; days as ``datetime64[s]``."""
        found: pd.DataFrame = self.engine.table(query).to_pandas(date_as_object=False)
        days = found.select_dtypes(include=["datetime"]).columns
        return found.astype(dict.fromkeys(days, "datetime64[s]"))

    def close(self) -> None:
        """Let go of what the engine keeps."""
        self.engine.forget(self.relation)


def purchases(orders: Orders, by: Sequence[str] = ()) -> Purchases:
    """All used orders up to the day of reckoning, with the named columns as text: of the orders, else of the customers.

    A group is ``unknown`` where it is null and ``mixed`` where an order's rows disagree. Raises UsageError for a column
    that neither the orders nor the customers file have.
    """
    orders.require_fit()
    whole = orders.with_history()
    rows = whole.rows
    of_orders = set(rows.condition_cells())
    members = orders.members.frame if orders.members is not None else None
    of_members = set(members.columns) - {"customer"} if members is not None else set()
    for name in by:
        if name not in of_orders | of_members:
            raise UsageError(
                f"There is no column `{name}` among the orders or the customers. {nearest(name, sorted(of_orders | of_members))}"
            )
    own = [name for name in by if name in of_orders]
    query = order_rows(rows, columns=own, mixed=True)
    kept = [column(n) for n in ("customer", "placed_on", "amount", "lines", "nth")]
    groups = [named(sql("COALESCE(CAST(:c AS VARCHAR), :u)", c=column(n), u=UNKNOWN), n) for n in own]
    engine: Engine = rows.source.engine
    found = select([*kept, *groups], query, "orders")
    theirs = [name for name in by if name not in of_orders]
    if not theirs:
        return Purchases(engine, engine.keep(found))
    assert members is not None
    relation: exp.Expr = found.subquery("orders", copy=False)
    if engine.reader is not engine:  # the customers file is here, so the orders come here, too
        relation = engine.reader.offer(engine.table(found))
        engine = engine.reader
    side = members[["customer", *theirs]].astype(object).where(members[["customer", *theirs]].notna(), None)
    texts = {n: pa.array([None if v is None else _as_text(v) for v in side[n]], pa.string()) for n in side.columns}
    told = engine.offer(pa.table(texts))
    joined = exp.select("*").from_(select(["*"], relation).subquery("o", copy=False), copy=False)
    joined = joined.join(exp.alias_(told, "m", table=True), using=["customer"], join_type="left", copy=False)
    columns = [
        *kept,
        *(column(n) for n in own),
        *(named(sql("COALESCE(:c, :u)", c=column(n), u=UNKNOWN), n) for n in theirs),
    ]
    return Purchases(engine, engine.keep(select(columns, joined, "joined")))


def _as_text(value: object) -> str:
    return (
        str(value.date())
        if isinstance(value, pd.Timestamp)
        else f"{value:g}"
        if isinstance(value, float)
        else str(value)
    )


def in_order(groups: Sequence[str]) -> list[str]:
    """Groups by name, ``mixed`` and ``unknown`` last."""
    return sorted(set(groups), key=lambda g: (g == UNKNOWN, g == MIXED, g))

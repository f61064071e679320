"""Customers as the findings look at them: a relation of whole numbers, here or where customers stay."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import pyarrow as pa
from sqlglot import exp

from fairladder.engine.protocol import Engine
from fairladder.numbers import to_minor
from fairladder.sqltree import column, named, select, sql

if TYPE_CHECKING:
    import pandas as pd

#: Whether a customer stands in the customers file.
IN_FILE = "in file"
_NUMBERS = ("orders", "refunds", "zero_orders")


@dataclass(frozen=True)
class People:
    """``customer``, ``orders``, ``refunds``, ``zero_orders``, ``spend`` (minor units), ``first_order``, ``last_order``, maybe ``name``
    and ``IN_FILE``: one row per customer.
    """

    engine: Engine
    relation: exp.Expr
    named: bool
    """Whether they have names."""
    listed: bool
    """Whether there is a customers file."""
    decimals: int
    id_name: str = "customer"
    """What conditions on the orders call the column of customer ids."""

    def one(self, source: exp.Expr, where: str | None = None, **sums: str) -> dict[str, Any]:
        """The single row of some sums over a relation, those of no rows as 0."""
        query = select([named(sql(f"COALESCE({tree}, 0)"), name) for name, tree in sums.items()], source, "seen")
        query = query.where(sql(where), copy=False) if where else query
        return dict(self.engine.table(query).to_pylist()[0])

    def first(self, source: exp.Expr, where: str | None = None, name: str = "customer", count: int = 5) -> list[str]:
        """The first texts of a column, by code point."""
        query = select([column(name)], source, "seen").order_by(column(name), copy=False).limit(count, copy=False)
        query = query.where(sql(where), copy=False) if where else query
        return [str(text) for text in self.engine.table(query)[name].to_pylist()]

    @contextmanager
    def kept(self, query: exp.Expr) -> Iterator[exp.Expr]:
        """The rows of a query, kept for some questions."""
        relation = self.engine.keep(query)
        try:
            yield relation
        finally:
            self.engine.forget(relation)


def people_here(
    customers: "pd.DataFrame", members: "pd.DataFrame | None", decimals: int, engine: Engine, id_name: str = "customer"
) -> People:
    """The people of a customers table (major units) that is in memory, for an engine that reads it."""
    columns: dict[str, pa.Array] = {"customer": pa.array(customers["customer"], pa.string())}
    columns |= {name: pa.array(customers[name].to_numpy(dtype="int64")) for name in _NUMBERS}
    columns["spend"] = pa.array(to_minor(customers["spend"], decimals))
    columns |= {n: pa.array(customers[n], from_pandas=True).cast(pa.date32()) for n in ("first_order", "last_order")}
    if "name" in customers:
        columns["name"] = pa.array(customers["name"], pa.string(), from_pandas=True)
    if members is not None:
        columns[IN_FILE] = pa.array(customers["customer"].isin(members["customer"]).to_numpy(dtype=bool))
    return People(engine, engine.offer(pa.table(columns)), "name" in customers, members is not None, decimals, id_name)

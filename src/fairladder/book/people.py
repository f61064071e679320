"""Customers as a relation of whole numbers, for the findings."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from sqlglot import exp

from fairladder.engine.protocol import Engine
from fairladder.sqltree import column, named, select, sql

#: Whether a customer is in the customers file.
IN_FILE = "#in file"


@dataclass(frozen=True)
class People:
    """One row per customer in the customers' engine: ``customer``, ``orders``, ``refunds``,
    ``zero_orders``, ``spend`` (minor units), ``first_order``, ``last_order``, and optionally
    ``name`` and ``IN_FILE``.
    """

    engine: Engine
    relation: exp.Expr
    named: bool
    """True if they have names."""
    listed: bool
    """True if there is a customers file."""
    decimals: int
    id_name: str = "customer"
    """The name of the customer id in conditions on the orders."""

    def one(self, source: exp.Expr, where: str | None = None, **sums: str) -> dict[str, Any]:
        """Return the single row of sums over a relation; sums of no rows are 0."""
        query = select(
            [named(sql(f"COALESCE({tree}, 0)"), name) for name, tree in sums.items()],
            source,
            "seen",
        )
        query = query.where(sql(where), copy=False) if where else query
        return dict(self.engine.table(query).to_pylist()[0])

    def first(
        self, source: exp.Expr, where: str | None = None, name: str = "customer", count: int = 5
    ) -> list[str]:
        """Return the first texts of a column, by code point."""
        query = (
            select([column(name)], source, "seen")
            .order_by(column(name), copy=False)
            .limit(count, copy=False)
        )
        query = query.where(sql(where), copy=False) if where else query
        return [str(text) for text in self.engine.table(query)[name].to_pylist()]

    @contextmanager
    def kept(self, query: exp.Expr) -> Iterator[exp.Expr]:
        """Keep the rows of a query during the block."""
        relation = self.engine.keep(query)
        try:
            yield relation
        finally:
            self.engine.forget(relation)

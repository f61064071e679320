"""What the public door gives where customers stay on a cluster: DataFrames of Spark, of which the executors hold the rows."""

from typing import Any

from sqlglot import exp

from fairladder.book.read import Read
from fairladder.cluster.customers import customers_query
from fairladder.cluster.scoring import scored
from fairladder.cluster.tops import top_query
from fairladder.engine.cluster import Cluster
from fairladder.sqltree import select


def customers(orders: Read) -> Any:
    """The customers table."""
    return _frame(orders, customers_query(orders))


def score(orders: Read) -> Any:
    """The scored customers."""
    return _frame(orders, select(["*"], scored(orders).relation))


def top(
    orders: Read, by: str, count: int | None, percent: float | None, worst: bool, within: str | None, everybody: bool, ties: str
) -> Any:
    """A top list, by rank and then by id."""
    people = orders.engine.keep(customers_query(orders))
    query = top_query(
        orders.engine, people, by, count=count, percent=percent, worst=worst, within=within, everybody=everybody, ties=ties
    )
    return _frame(orders, query)


def _frame(orders: Read, query: exp.Select) -> Any:
    assert isinstance(orders.engine, Cluster)
    return orders.engine.frame(query)

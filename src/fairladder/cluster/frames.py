"""What the public door gives where customers stay on a cluster: DataFrames of Spark, of which the executors hold the rows."""

import weakref
from typing import TYPE_CHECKING, Any

from sqlglot import exp

from fairladder.book.read import Read
from fairladder.cluster.customers import customers_query
from fairladder.cluster.scoring import Scored
from fairladder.cluster.tops import top_query
from fairladder.engine.cluster import Cluster
from fairladder.scheme import STANCES
from fairladder.sqltree import select

if TYPE_CHECKING:
    import pandas as pd


def customers(orders: Read) -> "pd.DataFrame":
    """The customers table."""
    frame: pd.DataFrame = _frame(orders, customers_query(orders))
    return frame


def score(orders: Read, people: Scored) -> "pd.DataFrame":
    """The scored customers."""
    frame: pd.DataFrame = _frame(orders, select(["*"], people.relation))
    weakref.finalize(frame, _nothing, people)  # what is kept lasts as long as the DataFrame
    return frame


def _nothing(_: object) -> None:
    """What becomes of the customers of a DataFrame that is gone: nobody holds them any more."""


def top(
    orders: Read,
    people: exp.Select,
    by: str,
    count: int | None,
    percent: float | None,
    worst: bool,
    within: str | None,
    everybody: bool,
    ties: str,
) -> "pd.DataFrame":
    """A top list, by rank and then by id."""
    query = top_query(
        orders.engine,
        orders.engine.keep(people),
        by,
        count=count,
        percent=percent,
        worst=worst,
        within=within,
        everybody=everybody,
        ties=ties,
    )
    frame: pd.DataFrame = _frame(orders, query)
    return frame


def brought(orders: Read, query: exp.Select) -> "pd.DataFrame":
    """The few rows of a query, as scored customers are here: days to the second, whole numbers with nulls whole, names from fixed sets."""
    import pandas as pd
    import pyarrow as pa

    whole = {pa.int64(): pd.Int64Dtype(), pa.int32(): pd.Int64Dtype()}
    frame = orders.engine.table(query).to_pandas(date_as_object=False, types_mapper=whole.get)
    types: dict[str, Any] = {n: "int64" for n in frame if frame[n].dtype == "Int64" and not frame[n].isna().any()}
    types |= dict.fromkeys(frame.select_dtypes("datetime"), "datetime64[s]")
    fixed: dict[str, list[str]] = {"segment": [s.name for s in orders.scheme.segments], "stance": list(STANCES)}
    fixed |= {name: list(tier.names()) for name, tier in orders.scheme.tiers.items()}
    types |= {n: pd.CategoricalDtype(names) for n, names in fixed.items() if n in frame}
    here: pd.DataFrame = frame.astype(types)
    return here


def _frame(orders: Read, query: exp.Select) -> Any:
    """A DataFrame of Spark, which the interface takes for one of pandas, as it is everywhere else."""
    assert isinstance(orders.engine, Cluster)
    return orders.engine.frame(query)

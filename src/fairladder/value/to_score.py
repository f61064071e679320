"""The customers with the forecast's columns where a rule speaks of them, and without what forecasts need where none does."""

from collections.abc import Mapping
from typing import TYPE_CHECKING

import pyarrow as pa
from sqlglot import exp

from fairladder.book.read import Read
from fairladder.columns import FORECAST, forecast_in, names
from fairladder.sqltree import column, select

if TYPE_CHECKING:
    import pandas as pd

    from fairladder.cluster.scoring import Scored
    from fairladder.scores.fitting import AnyLadder


def speaks_of_forecast(orders: Read, *others: str) -> bool:
    """Whether the scheme's rules or ``others`` (conditions, measures) name a column of the forecast."""
    return bool(forecast_in([*orders.scheme.spoken_of(), *others]))


def customers_to_score(orders: Read, *others: str) -> "pd.DataFrame":
    """The customers, with the forecast's columns where the scheme's rules or ``others`` (conditions, measures) name one."""
    customers = orders.customers_here()
    if not speaks_of_forecast(orders, *others):
        return customers
    from fairladder.value.forecast import value_forecast, with_forecast  # SciPy takes a second to load

    return with_forecast(customers, value_forecast(orders, earlier=False))


def people_to_score(orders: Read, *others: str, ranked: bool = False) -> exp.Select:
    """The same for a cluster, as ``cluster.customers_query`` has them: a forecast is made here, and its columns are sent back.

    Raises as that does, and UsageError where a forecast is named and the customers are too many to come here.
    """
    from fairladder.cluster.customers import customers_query

    customers = customers_query(orders, ranked)
    if not speaks_of_forecast(orders, *others):
        return customers
    from fairladder.value.forecast import require_free, value_forecast

    orders.require_few_there()
    require_free(orders.engine.columns(customers))
    forecast = value_forecast(orders, earlier=False).frame
    return beside(orders, customers, forecast[["customer", *names(FORECAST)]])


def scored_there(orders: Read, *others: str, ladders: "Mapping[str, AnyLadder] | None" = None) -> "Scored":
    """``cluster.scoring.scored`` of ``people_to_score``."""
    from fairladder.cluster.scoring import scored

    return scored(orders, ladders, lambda read, ranked: people_to_score(read, *others, ranked=ranked))


def beside(orders: Read, customers: exp.Expr, worked_out: "pd.DataFrame") -> exp.Select:
    """Customers of a cluster with columns that were worked out here, by ``customer``; null where nothing was."""
    sent = worked_out.rename(columns={"customer": _WHOSE})
    offered = orders.engine.offer(pa.Table.from_pandas(sent, preserve_index=False))
    everything = exp.Column(this=exp.Star(), table=exp.to_identifier("people"))
    source = customers if isinstance(customers, exp.Select) else exp.alias_(customers, "people", table=True)
    both = select([everything, *(column(str(n)) for n in sent if n != _WHOSE)], source, "people")
    on = exp.EQ(this=exp.column("customer", "people", quoted=True), expression=column(_WHOSE))
    return both.join(exp.alias_(offered, "worked_out", table=True), on=on, join_type="left", copy=False)


def forecast_notes(orders: Read, *others: str, needed: bool = False) -> list[str]:
    """What has to be said where a forecast was made of a cluster's customers; ``needed`` where it was, whatever is named."""
    if not (orders.engine.keeps_customers and (needed or speaks_of_forecast(orders, *others))):
        return []
    return [
        "The forecast was worked out on this machine: one row for each customer was brought here from the cluster, and the "
        "forecast's columns were sent back."
    ]


#: The customer's id in what is sent.
_WHOSE = "of customer"

"""The customers with the forecast's columns where a rule speaks of them, and without what
forecasts need where none does.
"""

from collections.abc import Mapping
from typing import TYPE_CHECKING

import pyarrow as pa
from sqlglot import exp

from fairladder.book.customers import customers_query
from fairladder.book.read import Read
from fairladder.columns import FORECAST, forecast_in, names
from fairladder.sqltree import column, select

if TYPE_CHECKING:
    import pandas as pd

    from fairladder.scores.fitting import AnyLadder
    from fairladder.scores.scored import Scored


def speaks_of_forecast(orders: Read, *others: str) -> bool:
    """Whether the scheme's rules or ``others`` (conditions, measures) name a column of the
    forecast.
    """
    return bool(forecast_in([*orders.scheme.spoken_of(), *others]))


def people_to_score(orders: Read, *others: str, ranked: bool = False) -> exp.Select:
    """The customers, with the forecast's columns where the scheme's rules or ``others``
    (conditions, measures) name one.

    With ``ranked`` they have their percentiles by spend. A forecast is made on this machine and
    its columns are sent back. Raises DataError where the orders are not fit to use, UsageError
    where a forecast is needed and the customers are too many to come here.
    """
    orders.require_fit()
    customers = customers_query(orders, ranked) if ranked else select(["*"], orders.customers_there)
    if not speaks_of_forecast(orders, *others):
        return customers
    from fairladder.value.forecast import (
        require_free,
        value_forecast,
    )  # SciPy takes a second to load

    orders.groups.require_few()
    require_free(orders.customer_engine.columns(customers))
    forecast = value_forecast(orders, earlier=False).frame
    return beside(orders, customers, forecast[["customer", *names(FORECAST)]])


def customers_to_score(orders: Read, *others: str) -> "pd.DataFrame":
    """The customers of ``people_to_score`` as a pandas DataFrame, sorted by id."""
    orders.groups.require_few()
    query = people_to_score(orders, *others)
    table = orders.customer_engine.table(
        select(["*"], query, "people").order_by("customer", copy=False)
    )
    return orders.frame_of(table)


def scored(
    orders: Read, *others: str, ladders: "Mapping[str, AnyLadder] | None" = None
) -> "Scored":
    """The customers of ``people_to_score`` with their scores, on these ladders or on fitted ones.

    Raises DataError where nobody has a purchase, UsageError for a missing ladder.
    """
    from fairladder.scores.scored import scored as scored_of

    return scored_of(
        orders, ladders, lambda read, ranked: people_to_score(read, *others, ranked=ranked)
    )


def beside(orders: Read, customers: exp.Expr, worked_out: "pd.DataFrame") -> exp.Select:
    """Customers with columns that were worked out on this machine, by ``customer``; null where
    nothing was.
    """
    sent = worked_out.rename(columns={"customer": _WHOSE})
    offered = orders.customer_engine.offer(pa.Table.from_pandas(sent, preserve_index=False))
    everything = exp.Column(this=exp.Star(), table=exp.to_identifier("people"))
    source = (
        customers
        if isinstance(customers, exp.Select)
        else exp.alias_(customers, "people", table=True)
    )
    both = select([everything, *(column(str(n)) for n in sent if n != _WHOSE)], source, "people")
    on = exp.EQ(this=exp.column("customer", "people", quoted=True), expression=column(_WHOSE))
    return both.join(
        exp.alias_(offered, "worked_out", table=True), on=on, join_type="left", copy=False
    )


def forecast_notes(orders: Read, *others: str, needed: bool = False) -> list[str]:
    """What has to be said where a forecast took the customers to this machine; ``needed``
    where it was made, whatever is named.
    """
    if not (needed or speaks_of_forecast(orders, *others)):
        return []
    why = "to work out the forecast, whose columns were sent back"
    return [
        note for note in [orders.customer_engine.came_here(orders.groups.customers, why)] if note
    ]


#: The customer's id in what is sent.
_WHOSE = "of customer"

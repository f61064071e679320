"""Add the forecast's columns to the customers if a rule uses them, and skip everything that
forecasts need if none does.
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


def uses_forecast(orders: Read, *others: str) -> bool:
    """Return True if the scheme's rules or ``others`` (conditions, measures) use a forecast
    column.
    """
    return bool(forecast_in([*orders.scheme.spoken_of(), *others]))


def people_to_score(orders: Read, *others: str, ranked: bool = False) -> exp.Select:
    """Return the customers, with the forecast's columns if the scheme's rules or ``others``
    (conditions, measures) use one.

    With ``ranked`` they have their percentiles by spend. A forecast is computed on this machine and
    its columns are sent back. Raises DataError if the orders are not fit for use, UsageError if a
    forecast is needed and there are too many customers to bring here.
    """
    orders.require_fit()
    customers = customers_query(orders, ranked) if ranked else select(["*"], orders.customers_there)
    if not uses_forecast(orders, *others):
        return customers
    from fairladder.value.forecast import (
        require_free,
        value_forecast,
    )  # importing SciPy takes a second

    orders.groups.require_few()
    require_free(orders.customer_engine.columns(customers))
    forecast = value_forecast(orders, earlier=False).frame
    return with_computed_columns(orders, customers, forecast[["customer", *names(FORECAST)]])


def customers_to_score(orders: Read, *others: str) -> "pd.DataFrame":
    """Return the customers of ``people_to_score`` as a pandas DataFrame, sorted by id."""
    orders.groups.require_few()
    query = people_to_score(orders, *others)
    table = orders.customer_engine.table(
        select(["*"], query, "people").order_by("customer", copy=False)
    )
    return orders.frame_of(table)


def scored(
    orders: Read, *others: str, ladders: "Mapping[str, AnyLadder] | None" = None
) -> "Scored":
    """Score the customers of ``people_to_score`` on these ladders or on fitted ones.

    Raises DataError if no customer has a purchase, UsageError for a missing ladder.
    """
    from fairladder.scores.scored import scored as scored_of

    return scored_of(
        orders, ladders, lambda read, ranked: people_to_score(read, *others, ranked=ranked)
    )


def with_computed_columns(
    orders: Read, customers: exp.Expr, worked_out: "pd.DataFrame"
) -> exp.Select:
    """Add columns computed on this machine to customers, joined by ``customer``; null for other
    customers.
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
    """Return a note if customers were brought to this machine for a forecast; ``needed`` if it was
    made regardless of columns.
    """
    if not (needed or uses_forecast(orders, *others)):
        return []
    why = "to compute the forecast, whose columns were sent back"
    return [
        note
        for note in [orders.customer_engine.transfer_note(orders.groups.customers, why)]
        if note
    ]


#: The column of the customer's id in the table that is sent.
_WHOSE = "of customer"

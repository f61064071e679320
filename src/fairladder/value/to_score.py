"""The customers with the forecast's columns where a rule speaks of them, and without what forecasts need where none does."""

from typing import TYPE_CHECKING

from fairladder.book.read import Read
from fairladder.columns import forecast_in

if TYPE_CHECKING:
    import pandas as pd


def customers_to_score(orders: Read, *others: str) -> "pd.DataFrame":
    """The customers, with the forecast's columns where the scheme's rules or ``others`` (conditions, measures) name one."""
    customers, scheme = orders.customers_here(), orders.scheme
    if not forecast_in([*scheme.spoken_of(), *others]):
        return customers
    from fairladder.value.forecast import value_forecast, with_forecast  # SciPy takes a second to load

    return with_forecast(customers, value_forecast(orders, earlier=False))

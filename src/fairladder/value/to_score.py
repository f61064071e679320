"""The customers with the forecast's columns where a rule speaks of them, and without what forecasts need where none does."""

import re
from typing import TYPE_CHECKING

from fairladder.book.read import Read
from fairladder.columns import FORECAST, names

if TYPE_CHECKING:
    import pandas as pd


def customers_to_score(orders: Read, *others: str) -> "pd.DataFrame":
    """The customers, with the forecast's columns where the scheme's rules or ``others`` (conditions, measures) name one."""
    customers, scheme = orders.customers_here(), orders.scheme
    rules = [
        *(s.when or "" for s in scheme.segments),
        *(t.of for t in scheme.tiers.values()),
        scheme.scores.percentile_of,
    ]
    spoken = " ".join([*rules, *others])
    if not set(names(FORECAST)) & set(re.findall(r"\w+", spoken)):
        return customers
    from fairladder.value.forecast import value_forecast, with_forecast  # SciPy takes a second to load

    return with_forecast(customers, value_forecast(orders))

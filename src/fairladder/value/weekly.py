"""Repeat orders by week: expected by a model from each customer's first order on, and actual."""

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from fairladder.value.likelihood import Array, Fit
from fairladder.value.ordering import OrderingModel
from fairladder.value.season import Season


def since_1970(days: "pd.Series[pd.Timestamp] | np.datetime64 | str") -> NDArray[np.int64]:
    """Return dates as days since 1970."""
    return np.asarray(np.asarray(days, dtype="datetime64[D]").astype(np.int64))


def monday(day: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the Monday on or before a day; 1970-01-01, day 0, was a Thursday."""
    return day - (day + 3) % 7


def expected_daily(
    model: OrderingModel,
    fit: Fit,
    first: NDArray[np.int64],
    days: NDArray[np.int64],
    season: Season | None,
) -> Array:
    """Return the repeat orders expected on each of consecutive ``days``, of customers whose first
    order was on ``first``; (days,).
    """
    began, count = np.unique(first, return_counts=True)
    edges = np.append(days, days[-1] + 1).astype(np.float64)
    # A customer can come again from the day after the first on.
    passed = edges if season is None else season.clock(edges)
    born = began + 1.0 if season is None else season.clock(began + 1.0)
    longest = max(float(passed[-1] - born.min()), 1.0)
    grid = np.linspace(0, longest, int(min(2 * longest, 4000)) + 2)
    curve = model.expected_from_start(fit.values, grid)
    total = np.zeros(len(edges))
    for at, n in zip(born, count, strict=True):
        total += n * np.interp(passed - at, grid, curve, left=0.0)
    return np.diff(total)


def weekly(days: NDArray[np.int64], of_day: Array, weeks: NDArray[np.int64]) -> Array:
    """Return sums by week (``weeks`` are consecutive Mondays), (weeks,)."""
    place = (monday(days) - weeks[0]) // 7
    inside = (place >= 0) & (place < len(weeks))
    return np.bincount(place[inside], of_day[inside], minlength=len(weeks)).astype(np.float64)

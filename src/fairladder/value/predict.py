"""Forecast the customers of a history with one method: orders, order value, and ranges."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from fairladder.value.buying import Buying
from fairladder.value.histories import Histories
from fairladder.value.likelihood import Array, Fit
from fairladder.value.ordering import OrderingModel
from fairladder.value.ranges import OUTCOMES, outcomes
from fairladder.value.spend import SpendModel

#: Each customer keeps its own past rate and its own average.
NAIVE = "naive"


@dataclass(frozen=True)
class Prediction:
    """For each customer, (customers,): probability of being active, expected orders and order
    value; 80 % range and variance of value.

    With the naive method all but orders and order value are NaN.
    """

    active: Array
    orders: Array
    order_value: Array
    low: Array
    high: Array
    variance: Array


def predict(
    past: Histories,
    buying: Buying,
    chosen: tuple[OrderingModel, Fit] | None,
    spend: SpendModel,
    horizon: float,
    mean: Array,
    level: float,
    random: np.random.Generator,
    draws: int = OUTCOMES,
) -> Prediction:
    """Forecast the time after ``past``, of length ``horizon`` in the unit of ``buying``; without a
    model customers keep their own past rates.

    ``mean`` is each customer's average value of a day's orders, (customers,); future values are
    ``level`` times as much.
    """
    n = past.frame["days"].to_numpy(np.float64)
    if chosen is None:
        rate = buying.x / np.maximum(buying.T, 1)
        none = np.full(len(n), np.nan)
        return Prediction(none, rate[buying.row_of] * horizon, mean, none, none, none)
    model, fit = chosen
    active = model.active_probability(fit.values, buying.x, buying.t_x, buying.T)
    expected = active * expected_by_pair(model, fit, buying, horizon)
    scale = spend.scale(n, mean) * level
    drawn = outcomes(model, fit, spend, buying, active, horizon, random, draws)
    row = buying.row_of
    variance = np.maximum(drawn.square - drawn.mean**2, 0)[row] * scale**2
    return Prediction(
        active[row], expected[row], spend.expected(n, mean) * level, drawn.low[row] * scale,
        drawn.high[row] * scale, variance
    )  # fmt: skip


def expected_by_pair(model: OrderingModel, fit: Fit, buying: Buying, horizon: float) -> Array:
    """Return the expected orders of active customers, (rows,), computed once for each pair of
    purchases and observation.
    """
    pairs, back = _pairs(buying)
    return np.asarray(model.expected_if_active(fit.values, *pairs, horizon)[back])


def discounted_orders(
    model: OrderingModel,
    fit: Fit,
    buying: Buying,
    horizon: float,
    force: float,
    ahead: Callable[[float], float] = float,
) -> Array:
    """Return ∫ e^(−force·u) dE(u) over the horizon for active customers, (rows,): by parts, with
    eight nodes a year.

    ``ahead`` converts days into the time of ``buying``.
    """
    pairs, back = _pairs(buying)
    at, weights = np.polynomial.legendre.leggauss(8 * max(1, round(horizon / 365)))
    total = np.exp(-force * horizon) * model.expected_if_active(fit.values, *pairs, ahead(horizon))
    for u, w in zip(horizon * (1 + at) / 2, horizon * weights / 2, strict=True):
        total = total + force * w * np.exp(-force * u) * model.expected_if_active(
            fit.values, *pairs, ahead(float(u))
        )
    return np.asarray(total[back])


def _pairs(
    buying: Buying,
) -> tuple[tuple[Array, Array], "np.ndarray[tuple[int], np.dtype[np.int64]]"]:
    key = (
        buying.x * 2.0**22 + buying.T
        if float(buying.x.max(initial=0)) < 2**22
        else np.arange(len(buying.x), dtype=float)
    )
    _, first, back = np.unique(key, return_index=True, return_inverse=True)
    return (buying.x[first], buying.T[first]), back

"""Compute 80 % ranges by simulating the models, with parameters drawn from their uncertainty."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fairladder.value.buying import Buying
from fairladder.value.likelihood import Array, Fit
from fairladder.value.ordering import OrderingModel
from fairladder.value.spend import SpendModel

#: Parameter sets drawn, and outcomes drawn for each.
SETS, OUTCOMES = 40, 50
#: Customers whose repeat purchases and observation are this similar share their draws.
_WIDE = 0.06
#: Number of parts in which cells are drawn in parallel; fixed, so that all machines draw the same.
_PARTS = 4
#: The shares excluded below and above.
TAIL = 0.1


@dataclass(frozen=True)
class Outcomes:
    """Possible values of customers, in units of each one's own ``scale``: per row of the buying,
    (rows,).
    """

    low: Array
    high: Array
    mean: Array
    square: Array
    """Mean of the squared outcomes."""


def outcomes(
    model: OrderingModel, fit: Fit, spend: SpendModel, buying: Buying, active: Array,
    horizon: float,
    random: np.random.Generator, draws: int = OUTCOMES,
) -> Outcomes:  # fmt: skip
    """Return ranges that exclude 20 % of outcomes: a tenth on either side, or, if the probability
    of no order is above a tenth, a fifth at the top.

    Drawn for cells of similar active customers; the probability of being active, ``active``
    (rows,), is each row's own.
    """
    cell, x, observed = _cells(buying, fit)
    ordering, amounts = (
        fit.draws(SETS, random),
        spend.fit.draws(SETS, random) if spend.usable else None,
    )

    def part(rows: NDArray[np.int64], own: np.random.Generator) -> Array:
        return _drawn(model, ordering, amounts, x[rows], observed[rows], horizon, own, draws)

    with ThreadPoolExecutor(_PARTS) as pool:  # NumPy releases Python's lock
        parts = pool.map(part, np.array_split(np.arange(len(x)), _PARTS), random.spawn(_PARTS))
        drawn = np.concatenate(list(parts))
    nothing = 1 - active + active * (drawn == 0).mean(axis=1)[cell]
    skewed = nothing >= TAIL
    low = np.where(skewed, 0.0, _quantile(drawn, cell, active, np.full(len(cell), TAIL)))
    high = _quantile(drawn, cell, active, np.where(skewed, 1 - 2 * TAIL, 1 - TAIL))
    return Outcomes(
        low, high, active * drawn.mean(axis=1)[cell], active * (drawn**2).mean(axis=1)[cell]
    )


def _drawn(
    model: OrderingModel, ordering: Array, amounts: Array | None, x: Array, observed: Array,
    horizon: float,
    random: np.random.Generator, draws: int,
) -> Array:  # fmt: skip
    """Return sorted outcomes of each cell under all sets of parameters, (cells, SETS·draws)."""
    shape = (len(x), SETS, draws)
    at_x, at_t = (np.broadcast_to(v[:, None, None], shape) for v in (x, observed))
    sets = np.broadcast_to(ordering.T[:, None, :, None], (4, *shape))
    orders = model.simulate_if_active(sets, at_x, at_t, horizon, random)
    worth = orders.astype(np.float64)
    if amounts is not None:
        p, q, _ = amounts.T[:, None, :, None]
        level = random.standard_gamma(np.broadcast_to(q + p * (at_x + 1), shape))
        worth = np.where(
            orders > 0, random.standard_gamma(p * np.maximum(orders, 1)), 0.0
        ) / np.maximum(level, 1e-300)
    return np.sort(worth.reshape(len(x), SETS * draws), axis=1)


def _cells(
    buying: Buying, fit: Fit
) -> tuple["np.ndarray[tuple[int], np.dtype[np.int64]]", Array, Array]:
    """Return the cell of each row, and each cell's average repeat purchases and observation."""
    alpha = fit.parameters["alpha"]
    many = np.where(
        buying.x > 12, np.round(np.log(np.maximum(buying.x, 1) / 12) / _WIDE) + 12, buying.x
    )
    long = np.round(np.log(alpha + buying.T) / _WIDE)
    _, cell = np.unique(many * 100_000 + long, return_inverse=True)
    weight = np.bincount(cell, buying.weight)
    return (
        cell,
        np.bincount(cell, buying.weight * buying.x) / weight,
        np.bincount(cell, buying.weight * buying.T) / weight,
    )


def _quantile(
    drawn: Array, cell: "np.ndarray[tuple[int], np.dtype[np.int64]]", active: Array, level: Array
) -> Array:
    """Return quantiles of a mixture: 0 with probability 1 − active, else one of the cell's draws
    (sorted rows).
    """
    inside = np.clip((level - (1 - active)) / np.maximum(active, 1e-12), 0, 1) * (
        drawn.shape[1] - 1
    )
    below = np.floor(inside).astype(np.int64)
    part = inside - below
    above = np.minimum(below + 1, drawn.shape[1] - 1)
    return np.asarray((1 - part) * drawn[cell, below] + part * drawn[cell, above])


def total_ratios(
    model: OrderingModel,
    fit: Fit,
    spend: SpendModel,
    buying: Buying,
    horizon: float,
    random: np.random.Generator,
) -> Array:
    """Return the total expected value for parameters drawn from their uncertainty ÷ that for the
    estimates, (200,).

    Computed from the slope of its logarithm, since the total is smooth in the parameters.
    """
    rows = buying.sample(1_500)

    def log_total(theta: Array) -> float:
        p = np.exp(theta)
        active = model.active_probability(p, rows.x, rows.t_x, rows.T)
        return float(
            np.log(
                max(
                    float(
                        rows.weight
                        @ (active * model.expected_if_active(p, rows.x, rows.T, horizon))
                    ),
                    1e-300,
                )
            )
        )

    logs = _log_ratios(log_total, fit, random)
    if spend.usable:

        def log_mean(theta: Array) -> float:
            p, q, gamma = np.exp(theta)
            return float(np.log(p * gamma / max(q - 1, 1e-3)))

        logs = logs + _log_ratios(log_mean, spend.fit, random)
    return np.asarray(np.exp(logs))


def _log_ratios(of: Callable[[Array], float], fit: Fit, random: np.random.Generator) -> Array:
    at, step = np.log(fit.values), 1e-3
    slope = np.array(
        [(of(at + step * e) - of(at - step * e)) / (2 * step) for e in np.eye(len(at))]
    )
    return np.asarray(np.clip((np.log(fit.draws(200, random)) - at) @ slope, -3, 3))

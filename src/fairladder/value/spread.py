"""Measure past errors of totals, and widen the range of a total accordingly.

A model's own range covers chance and parameter uncertainty, but nothing that the model leaves out.
That shows in earlier forecasts: each miss e = ln(forecast ÷ actual), less the variance v that its
model knew of, is evidence for an additional variance τ². So are recent orders: if customers ordered
less in the last weeks than the model expects, something has begun that it does not know, and the
total may be wrong by as much. There are few misses, so τ² has a prior, and the total a Student t
distribution instead of a normal one: with k misses, τ² = (ν₀ s₀² + Σ max(e² − v, 0)) ÷ (ν₀ + k), on
ν₀ + k degrees of freedom, as for a normal mean with a scaled inverse-χ² prior of the variance [1]_.

References
----------
.. [1] A. Gelman, J. Carlin, H. Stern, D. Dunson, A. Vehtari, D. Rubin (2013), Bayesian data
   analysis, third edition, section 2.6.
"""

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.stats import t as student

from fairladder.value.likelihood import Array

#: The prior: additional standard deviation of a total, with the weight of this many misses.
USUAL, AS_SURE_AS = 0.045, 4.0


@dataclass(frozen=True)
class Miss:
    """One earlier forecast: trained on data up to ``split``, for the ``held`` days after it."""

    split: dt.date
    held: int
    value: float
    actual_value: float
    variance: float
    """Variance of the logarithm of the total according to the model."""

    @property
    def log_ratio(self) -> float:
        """Return ln(forecast ÷ actual); NaN if either is zero."""
        return (
            float(np.log(self.value / self.actual_value))
            if self.value > 0 and self.actual_value > 0
            else float("nan")
        )


#: Recent repeat orders are those of this many days; …
LATE = 30
#: … they count if this many were expected, with this factor on the variance of chance.
LEAST_LATE, UNEVEN = 20.0, 1.5


def lately(actual: float, expected: float) -> float:
    """Return the variance of a total implied by repeat orders of the last ``LATE`` days: ln(actual
    ÷ expected)² less that of chance.
    """
    if expected < LEAST_LATE:
        return 0.0
    return float(max(np.log(max(actual, 1.0) / expected) ** 2 - UNEVEN / expected, 0.0))


@dataclass(frozen=True)
class Spread:
    """The error of a total beyond its model: ``size`` (of the logarithm, over ``days``) and its
    degrees of freedom; ``late``, a variance that does not grow with the horizon.
    """

    size: float
    freedom: float
    days: float
    late: float = 0.0

    def draws(self, count: int, horizon: float, random: np.random.Generator) -> Array:
        """Return factors of a total over a horizon, (count,), spread evenly over their
        distribution.
        """
        longer = max(horizon / self.days, 1.0)
        at = (np.arange(count) + 0.5) / count
        logs = np.sqrt(self.size**2 * longer + self.late) * student.ppf(at, self.freedom)
        return np.asarray(np.exp(np.clip(random.permutation(logs), -2, 2)))


def spread_of(misses: Sequence[Miss], horizon: float, late: float = 0.0) -> Spread:
    """Return the spread implied by these misses and by ``lately``; the prior one without misses."""
    finite = [m for m in misses if np.isfinite(m.log_ratio)]
    beyond = sum(max(m.log_ratio**2 - m.variance, 0.0) for m in finite)
    freedom = AS_SURE_AS + len(finite)
    size = np.sqrt((AS_SURE_AS * USUAL**2 + beyond) / freedom)
    days = float(np.mean([m.held for m in finite])) if finite else float(horizon)
    return Spread(float(size), freedom, days, late)

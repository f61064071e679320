"""How far totals have been off before, and how much wider than its model's the range of a total
has to be for it.

A model's own range knows of chance and of what its parameters leave open, and of nothing that the
model leaves out. That shows in forecasts made earlier: each miss e = ln(forecast ÷ actual), less
the variance v that its model knew of, tells of a variance τ² beyond it. So does what came of late:
where customers order less in the last weeks than the model fitted to the whole history expects,
something has begun that it does not know, and the total may be off by as much. Few misses can be
told, so τ² has a prior, and the total a Student t distribution in place of a normal one: with k
misses, τ² = (ν₀ s₀² + Σ max(e² − v, 0)) ÷ (ν₀ + k), on ν₀ + k degrees of freedom, as for a normal
mean with a scaled inverse-χ² prior of the variance [1]_.

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

#: Before any miss is seen, totals are taken to be off by so much beyond the model, as sure as so
#: many misses would make it.
USUAL, AS_SURE_AS = 0.045, 4.0


@dataclass(frozen=True)
class Miss:
    """One forecast made earlier: learnt up to ``split``, of the ``held`` days after it."""

    split: dt.date
    held: int
    value: float
    actual_value: float
    variance: float
    """Of the logarithm of the total, as the model knew it."""

    @property
    def log_ratio(self) -> float:
        """ln(forecast ÷ actual); NaN where either is nothing."""
        return (
            float(np.log(self.value / self.actual_value))
            if self.value > 0 and self.actual_value > 0
            else float("nan")
        )


#: What came of late are the repeat orders of so many days, …
LATE = 30
#: … of which so many have to be expected to tell anything, and which are so much more uneven than
#: chance.
LEAST_LATE, UNEVEN = 20.0, 1.5


def lately(actual: float, expected: float) -> float:
    """The variance of a total that repeat orders of the last ``LATE`` days tell of: ln(actual
    ÷ expected)² less that of chance.
    """
    if expected < LEAST_LATE:
        return 0.0
    return float(max(np.log(max(actual, 1.0) / expected) ** 2 - UNEVEN / expected, 0.0))


@dataclass(frozen=True)
class Spread:
    """What a total is off by beyond its model: ``size`` (of the logarithm, over ``days``) and its
    degrees of freedom; ``late``, a variance that does not grow with the horizon.
    """

    size: float
    freedom: float
    days: float
    late: float = 0.0

    def draws(self, count: int, horizon: float, random: np.random.Generator) -> Array:
        """Factors of a total over a horizon, (count,), spread evenly over their distribution."""
        longer = max(horizon / self.days, 1.0)
        at = (np.arange(count) + 0.5) / count
        logs = np.sqrt(self.size**2 * longer + self.late) * student.ppf(at, self.freedom)
        return np.asarray(np.exp(np.clip(random.permutation(logs), -2, 2)))


def spread_of(misses: Sequence[Miss], horizon: float, late: float = 0.0) -> Spread:
    """The spread that these misses, and ``lately``, tell of; the usual one where there are none."""
    told = [m for m in misses if np.isfinite(m.log_ratio)]
    beyond = sum(max(m.log_ratio**2 - m.variance, 0.0) for m in told)
    freedom = AS_SURE_AS + len(told)
    size = np.sqrt((AS_SURE_AS * USUAL**2 + beyond) / freedom)
    days = float(np.mean([m.held for m in told])) if told else float(horizon)
    return Spread(float(size), freedom, days, late)

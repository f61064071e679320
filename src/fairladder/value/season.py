"""The season's clock: what the year does to ordering, and time as it passes for customers who
order by it.

Weekly repeat orders are regressed on those that a model without a season expects: Poisson with a
dispersion of its own, an intercept, a straight trend (which growth and what the model misses go
into) and a few yearly waves, as many as the Bayesian information criterion allows [1]_. The waves
alone, brought to a mean of 1, are the season. Time warped by it makes a seasonal process of orders
an even one [2]_, so the models fit the warped times as they are.

References
----------
.. [1] G. Schwarz (1978), Estimating the dimension of a model, Annals of Statistics 6(2); with a
dispersion as in K. Burnham,
   D. Anderson (2002), Model selection and multimodel inference, section 2.5.
.. [2] D. Cox, P. Lewis (1966), The statistical analysis of series of events, chapter 2
(operational time).
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fairladder.value.likelihood import Array

YEAR = 365.25
#: So many years have to be there for a season to be told from a trend.
YEARS = 2
#: How many yearly waves are tried.
WAVES = (1, 2, 3, 6)
#: A year in so many pieces, of which the clock is made.
_PIECES = 1461


@dataclass(frozen=True)
class Season:
    """How much faster or slower customers order than on average, by day of the year."""

    weights: Array
    """Of cosine and sine of each wave, (2 · waves,)."""
    covariance: Array | None = None
    """Of the weights; None where they are known."""

    @property
    def waves(self) -> int:
        """How many yearly waves."""
        return len(self.weights) // 2

    def rate(self, day: ArrayLike) -> Array:
        """How much customers order on these days (counted from 1970) as a multiple of the
        yearly average, which is 1.
        """
        at = (np.asarray(day, dtype=np.float64) % YEAR) / YEAR * _PIECES
        return np.asarray(
            np.exp(_waves(at / _PIECES * YEAR, self.waves) @ self.weights) / self._mean
        )

    def clock(self, day: ArrayLike) -> Array:
        """The season's clock at the beginning of each day (counted from 1970), in days; over a
        whole year it advances by a year.
        """
        days = np.asarray(day, dtype=np.float64)
        year = np.floor(days / YEAR)
        return np.asarray(year * YEAR + np.interp(days - year * YEAR, *self._year))

    def variance(self, begin: float, end: float) -> float:
        """Of the logarithm of the time from one day to another by the clock, for what is not
        known of the weights.
        """
        if self.covariance is None:
            return 0.0

        def passed(weights: Array) -> float:
            clock = Season(weights).clock(np.array([begin, end]))
            return float(np.log(max(clock[1] - clock[0], 1e-9)))

        step = 1e-4
        slope = np.array([
            (passed(self.weights + step * e) - passed(self.weights - step * e)) / (2 * step) for e in np.eye(len(self.weights))
        ])  # fmt: skip
        return float(slope @ self.covariance @ slope)

    def by_month(self) -> Array:
        """The average rate of each month of a year without a leap day, (12,)."""
        ends = np.cumsum([0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
        rates = self.rate(np.arange(365) + 0.5)
        return np.array([rates[a:b].mean() for a, b in pairwise(ends)])

    @cached_property
    def _mean(self) -> float:
        middles = (np.arange(_PIECES) + 0.5) / _PIECES * YEAR
        return float(np.exp(_waves(middles, self.waves) @ self.weights).mean())

    @cached_property
    def _year(self) -> tuple[Array, Array]:
        """Times of the year and the clock at each of them."""
        middles = (np.arange(_PIECES) + 0.5) / _PIECES * YEAR
        rates = np.exp(_waves(middles, self.waves) @ self.weights) / self._mean
        passed = np.concatenate([[0.0], np.cumsum(rates)]) * YEAR / _PIECES
        return np.linspace(0, YEAR, _PIECES + 1), passed / passed[-1] * YEAR


def season_of(
    weeks: NDArray[np.int64], actual: Array, expected: Array, tried: Sequence[int] = (0, *WAVES)
) -> Season | None:
    """The season of weekly orders, None where no waves are better than any.

    ``weeks`` are the first days (since 1970) of full weeks, ``actual`` the orders in each,
    ``expected`` those of a model without a season; all (weeks,). ``tried`` are the numbers of
    waves to choose from.
    """
    told = expected > 0
    weeks, actual, expected = weeks[told], actual[told], expected[told]
    if len(weeks) < YEARS * 52 or not actual.sum():
        return None
    fits = {waves: _regressed(weeks, actual, expected, waves) for waves in tried}
    richest = max(fits)
    spread = max(_dispersion(actual, fits[richest][1], 2 + 2 * richest), 1.0)

    def criterion(waves: int) -> float:
        mean = fits[waves][1]
        likelihood = float((actual * np.log(mean) - mean).sum()) / spread
        return -2 * likelihood + 2 * waves * float(np.log(len(weeks)))

    best = min(fits, key=criterion)
    return Season(fits[best][0][2:], fits[best][2][2:, 2:] * spread) if best else None


def _waves(days: ArrayLike, waves: int) -> Array:
    """Cosine and sine of each wave on days since the beginning of a year, (days, 2 · waves)."""
    day = np.asarray(days, dtype=np.float64)
    angle = 2 * np.pi / YEAR * np.outer(day, np.arange(1, waves + 1))
    return np.stack([np.cos(angle), np.sin(angle)], axis=2).reshape(len(day), 2 * waves)


def _regressed(
    weeks: NDArray[np.int64], actual: Array, expected: Array, waves: int
) -> tuple[Array, Array, Array]:
    """Weights (intercept, trend, waves) of a Poisson regression with the expected orders as its
    base, the means, and the weights' covariance without a dispersion.
    """
    middle = weeks + 3.5
    trend = (middle - middle.mean()) / YEAR
    given = np.column_stack([np.ones(len(weeks)), trend, _waves(middle, waves)])
    weights = np.zeros(given.shape[1])
    weights[0] = np.log(actual.sum() / expected.sum())
    for _ in range(50):
        mean = expected * np.exp(np.clip(given @ weights, -20, 20))
        # Newton's step; a little of a ridge, since some weeks may tell nothing of a wave.
        step = np.linalg.solve(
            given.T @ (given * mean[:, None]) + 1e-6 * np.eye(len(weights)),
            given.T @ (actual - mean),
        )
        weights = weights + np.clip(step, -2, 2)
        if np.abs(step).max() < 1e-10:
            break
    mean = expected * np.exp(np.clip(given @ weights, -20, 20))
    bend = given.T @ (given * mean[:, None]) + 1e-6 * np.eye(len(weights))
    return weights, np.asarray(mean), np.asarray(np.linalg.inv(bend), dtype=np.float64)


def _dispersion(actual: Array, mean: Array, parameters: int) -> float:
    """Pearson's chi-square by its degrees of freedom."""
    return float(
        ((actual - mean) ** 2 / np.maximum(mean, 1e-9)).sum() / max(len(actual) - parameters, 1)
    )

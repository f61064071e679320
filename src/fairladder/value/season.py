"""The season's clock: how the time of year affects ordering, and time rescaled so that ordering is
even.

Weekly repeat orders are regressed on those that a model without a season expects: a Poisson
regression with overdispersion, an intercept, a linear trend (which absorbs growth and model errors)
and a few yearly waves, as many as the Bayesian information criterion allows [1]_. The waves alone,
scaled to a mean of 1, are the season. Rescaling time by it turns a seasonal process of orders into
an even one [2]_, so the models fit the rescaled times directly.

References
----------
.. [1] G. Schwarz (1978), Estimating the dimension of a model, Annals of Statistics 6(2); with a
   dispersion as in K. Burnham, D. Anderson (2002), Model selection and multimodel inference,
   section 2.5.
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
#: This many years are needed to distinguish a season from a trend.
YEARS = 2
#: Numbers of yearly waves that are tried.
WAVES = (1, 2, 3, 6)
#: Number of pieces of a year in the clock.
_PIECES = 1461


@dataclass(frozen=True)
class Season:
    """How much faster or slower customers order than on average, by day of the year."""

    weights: Array
    """Weights of cosine and sine of each wave, (2 · waves,)."""
    covariance: Array | None = None
    """Covariance of the weights; None if they are known."""

    @property
    def waves(self) -> int:
        """The number of yearly waves."""
        return len(self.weights) // 2

    def rate(self, day: ArrayLike) -> Array:
        """Return how much customers order on these days (counted from 1970) as a multiple of the
        yearly average, which is 1.
        """
        at = (np.asarray(day, dtype=np.float64) % YEAR) / YEAR * _PIECES
        return np.asarray(
            np.exp(_waves(at / _PIECES * YEAR, self.waves) @ self.weights) / self._mean
        )

    def clock(self, day: ArrayLike) -> Array:
        """Return the season's clock at the beginning of each day (counted from 1970), in days; over
        a whole year it advances by a year.
        """
        days = np.asarray(day, dtype=np.float64)
        year = np.floor(days / YEAR)
        return np.asarray(year * YEAR + np.interp(days - year * YEAR, *self._year))

    def variance(self, begin: float, end: float) -> float:
        """Return the variance of the log of the clock time between two days, due to the uncertainty
        of the weights.
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
        """Return the average rate of each month of a year without a leap day, (12,)."""
        ends = np.cumsum([0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
        rates = self.rate(np.arange(365) + 0.5)
        return np.array([rates[a:b].mean() for a, b in pairwise(ends)])

    @cached_property
    def _mean(self) -> float:
        middles = (np.arange(_PIECES) + 0.5) / _PIECES * YEAR
        return float(np.exp(_waves(middles, self.waves) @ self.weights).mean())

    @cached_property
    def _year(self) -> tuple[Array, Array]:
        """Return times of the year and the clock at each of them."""
        middles = (np.arange(_PIECES) + 0.5) / _PIECES * YEAR
        rates = np.exp(_waves(middles, self.waves) @ self.weights) / self._mean
        passed = np.concatenate([[0.0], np.cumsum(rates)]) * YEAR / _PIECES
        return np.linspace(0, YEAR, _PIECES + 1), passed / passed[-1] * YEAR


def season_of(
    weeks: NDArray[np.int64], actual: Array, expected: Array, tried: Sequence[int] = (0, *WAVES)
) -> Season | None:
    """Return the season of weekly orders, None if no waves improve the fit.

    ``weeks`` are the first days (since 1970) of full weeks, ``actual`` the orders in each,
    ``expected`` those of a model without a season; all (weeks,). ``tried`` are the numbers of waves
    to choose from.
    """
    known_weeks = expected > 0
    weeks, actual, expected = weeks[known_weeks], actual[known_weeks], expected[known_weeks]
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
    """Return cosine and sine of each wave on days since the beginning of a year, (days, 2 ·
    waves).
    """
    day = np.asarray(days, dtype=np.float64)
    angle = 2 * np.pi / YEAR * np.outer(day, np.arange(1, waves + 1))
    return np.stack([np.cos(angle), np.sin(angle)], axis=2).reshape(len(day), 2 * waves)


def _regressed(
    weeks: NDArray[np.int64], actual: Array, expected: Array, waves: int
) -> tuple[Array, Array, Array]:
    """Return the weights (intercept, trend, waves) of a Poisson regression with the expected orders
    as its base, the means, and the weights' covariance without dispersion.
    """
    middle = weeks + 3.5
    trend = (middle - middle.mean()) / YEAR
    given = np.column_stack([np.ones(len(weeks)), trend, _waves(middle, waves)])
    weights = np.zeros(given.shape[1])
    weights[0] = np.log(actual.sum() / expected.sum())
    for _ in range(50):
        mean = expected * np.exp(np.clip(given @ weights, -20, 20))
        # Newton's step with a small ridge, since some weeks may not determine a wave.
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
    """Return Pearson's chi-square divided by its degrees of freedom."""
    return float(
        ((actual - mean) ** 2 / np.maximum(mean, 1e-9)).sum() / max(len(actual) - parameters, 1)
    )

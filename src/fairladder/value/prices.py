"""Estimate whether customers' orders grow or shrink in value over time, and adjust amounts of other
days.

Each customer's orders are compared only with each other: with a_i the values of n orders of age k_i
and ā, k̄ their averages, the trend is g = −Σ_c (Σ_i (k_i − k̄) a_i ÷ ā) ÷ Σ_c Σ_i (k_i − k̄)², the
least-squares slope with a level for each customer (the within estimator [1]_). Its standard error
is clustered by customer [2]_.

References
----------
.. [1] Y. Mundlak (1978), On the pooling of time series and cross section data, Econometrica
   46(1).
.. [2] K.-Y. Liang, S. Zeger (1986), Longitudinal data analysis using generalized linear models,
   Biometrika 73(1).
"""

from dataclasses import dataclass

import numpy as np

from fairladder.value.histories import AGES_A_YEAR, Histories
from fairladder.value.likelihood import Array

#: A trend is accepted if it is this many standard errors from zero,
SURE = 3.0
#: and based on at least this many customers and years.
FEWEST, SHORTEST = 30, 1.0
#: Yearly limit of a price trend that is continued into the future.
MOST = 0.5


@dataclass(frozen=True)
class Prices:
    """``yearly``: the trend as the logarithm of a yearly factor, 0 if none is certain; ``error``:
    its standard error.
    """

    yearly: float
    error: float

    def today(self, past: Histories) -> Array:
        """Return each customer's average value of a day with purchases at the prices of the last
        day of the histories.
        """
        if not self.yearly:
            return past.day_value
        age = (past.frame["ages"] / past.frame["days"] + 0.5) / AGES_A_YEAR
        return np.asarray(past.day_value * np.exp(self.yearly * age.to_numpy(np.float64)))

    def ahead(self, horizon: float) -> float:
        """Return the factor of values halfway through the next ``horizon`` days."""
        return float(np.exp(self.yearly * horizon / 2 / 365))

    def variance(self, past: Histories, horizon: float) -> float:
        """Return the variance of the log of a future total due to the error of the trend; 0 without
        a trend.
        """
        if not self.yearly:
            return 0.0
        age = float((past.frame["ages"].sum() / past.frame["days"].sum() + 0.5) / AGES_A_YEAR)
        return float((self.error * (age + horizon / 2 / 365)) ** 2)


NONE = Prices(0.0, 0.0)


def prices_of(past: Histories) -> Prices:
    """Return the price trend in these histories; ``NONE`` if no trend is certain enough."""
    frame = past.frame[past.frame["days"] > 1]
    n, bought = frame["days"].to_numpy(np.float64), frame["bought"].to_numpy(np.float64)
    ages, squares, aged = (frame[c].to_numpy(np.float64) for c in ("ages", "squares", "aged"))
    spread = squares - ages**2 / n
    varies = spread > 0
    if (
        int(varies.sum()) < FEWEST
        or (past.through - past.frame["first"].min().date()).days < SHORTEST * 365
    ):
        return NONE
    n, bought, ages, aged, spread = (v[varies] for v in (n, bought, ages, aged, spread))
    together = -(aged - ages / n * bought) / (bought / n)
    slope = float(together.sum() / spread.sum())
    error = float(np.sqrt(((together - slope * spread) ** 2).sum()) / spread.sum())
    yearly, error = slope * AGES_A_YEAR, error * AGES_A_YEAR
    if not error or abs(yearly) < SURE * error:
        return NONE
    return Prices(float(np.clip(yearly, -MOST, MOST)), error)

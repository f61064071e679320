"""Train on histories: the season, the trend of order values, the ordering models by the season's
clock, and spend.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
import pandas as pd

from fairladder.steps import Steps
from fairladder.value.buying import Buying
from fairladder.value.histories import Histories
from fairladder.value.likelihood import Array, Fit
from fairladder.value.ordering import MODELS, fit_ordering
from fairladder.value.predict import NAIVE, Prediction, predict
from fairladder.value.prices import Prices, prices_of
from fairladder.value.ranges import OUTCOMES, total_ratios
from fairladder.value.season import WAVES, YEARS, Season, season_of
from fairladder.value.spend import SpendModel, fit_spend
from fairladder.value.spread import LATE, lately
from fairladder.value.weekly import expected_daily, monday, since_1970, weekly

#: The number of customers who bought again on each day: ``day``, ``customers``.
Repeats = Callable[[], pd.DataFrame]


@dataclass(frozen=True)
class FittedModels:
    """All fitted parts of a forecast."""

    past: Histories
    season: Season | None
    prices: Prices
    buying: Buying
    """In the time of the season's clock, if there is one."""
    fits: Mapping[str, Fit]
    spend: SpendModel

    def ahead(self, days: float) -> float:
        """Convert the next ``days`` to days of the season's clock; unchanged without a season."""
        if self.season is None:
            return float(days)
        clock = self.season.clock(np.array([self._end, self._end + days]))
        return float(clock[1] - clock[0])

    def predict(
        self, method: str, horizon: int, random: np.random.Generator, draws: int = OUTCOMES
    ) -> Prediction:
        """Return the forecast of the ``horizon`` days after the histories by one of the models or
        the naive method.

        ``draws`` outcomes are drawn for each set of parameters.
        """
        if method == NAIVE:
            return predict(
                self.past,
                self.past.buying,
                None,
                self.spend,
                horizon,
                self.past.day_value,
                1.0,
                random,
                draws,
            )
        chosen = MODELS[method], self.fits[method]
        values = self.prices.today(self.past)
        level = self.prices.ahead(horizon)
        return predict(
            self.past,
            self.buying,
            chosen,
            self.spend,
            self.ahead(horizon),
            values,
            level,
            random,
            draws,
        )

    def total_ratios(self, method: str, horizon: int, random: np.random.Generator) -> Array:
        """Return ``ranges.total_ratios`` of the chosen model, including the trend of order
        values.
        """
        ratios = total_ratios(
            MODELS[method], self.fits[method], self.spend, self.buying, self.ahead(horizon), random
        )
        wide = self.prices.variance(self.past, horizon)
        if self.season is not None:
            wide += self.season.variance(self._end, self._end + horizon)
        if wide:
            ratios = ratios * np.exp(np.sqrt(wide) * random.standard_normal(len(ratios)))
        return np.asarray(ratios)

    def late(self, method: str, repeats: pd.DataFrame) -> float:
        """Return ``spread.lately`` for the last days of the histories; ``repeats`` as in
        ``Repeats``.
        """
        first, end = since_1970(self.past.frame["first"]), int(self._end)
        days = np.arange(max(end - LATE + 1, int(first.min()) + 1), end + 1)
        expected = expected_daily(MODELS[method], self.fits[method], first, days, self.season)
        recent = repeats.loc[since_1970(repeats["day"]) > end - LATE, "customers"]
        return lately(float(recent.sum()), float(expected.sum()))

    @property
    def _end(self) -> float:
        return float(since_1970(np.datetime64(self.past.through)))


def learn(
    past: Histories, repeats: Repeats, season: str, steps: Steps, near: "Fit | None" = None
) -> FittedModels:
    """Fit all models, one step of progress each; or only the model of ``near``, starting from that
    fit.

    ``season`` is ``off``, ``yearly`` (always) or ``auto`` (if the orders show one, and there are
    two years).
    """
    models = {n: m for n, m in MODELS.items() if near is None or near.model == n}
    prices = prices_of(past)
    days = past.frame["days"].to_numpy(np.float64)
    fits = {
        name: fit_ordering(model, past.buying, near) for name, model in steps.over(models.items())
    }
    spend = fit_spend(days, prices.today(past))
    plain = FittedModels(past, None, prices, past.buying, fits, spend)
    found = None if season == "off" else _season(plain, repeats, forced=season == "yearly")
    return plain if found is None else found


def _season(plain: FittedModels, repeats: Repeats, forced: bool) -> FittedModels | None:
    """Return the models fitted with the season's clock; None if there is no season, or the clock
    does not improve the fit.
    """
    past = plain.past
    if (past.through - past.frame["first"].min().date()).days < YEARS * 365:
        return None
    best = max(plain.fits.values(), key=lambda fit: fit.log_likelihood)
    happened = repeats()
    days, counts = since_1970(happened["day"]), happened["customers"].to_numpy(np.float64)
    first, end = since_1970(past.frame["first"]), int(since_1970(np.datetime64(past.through)))
    # Weeks cut short at the ends are too unreliable.
    weeks = np.arange(int(monday(first).min()) + 7, end - 5, 7)
    every = np.arange(int(first.min()), end + 1)
    expected = weekly(every, expected_daily(MODELS[best.model], best, first, every, None), weeks)
    season = season_of(
        weeks, weekly(days, counts, weeks), expected, WAVES if forced else (0, *WAVES)
    )
    if season is None:
        return None
    buying = past.buying_by(season)
    fits = {name: fit_ordering(MODELS[name], buying, fit) for name, fit in plain.fits.items()}
    # Orders are more likely when the clock runs fast: the density of a day is that of its clock
    # time times the rate.
    gain = (
        max(f.log_likelihood for f in fits.values())
        + float(counts @ np.log(season.rate(days + 0.5)))
        - best.log_likelihood
    )
    if not forced and gain < season.waves * np.log(len(weeks)):
        return None
    return FittedModels(past, season, plain.prices, buying, fits, plain.spend)

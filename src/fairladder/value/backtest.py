"""The backtest: train every method on data up to a day, forecast the rest, and compare with what
happened.
"""

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from fairladder import wording
from fairladder.book.read import Read
from fairladder.days import as_day
from fairladder.errors import DataError, UsageError
from fairladder.output.result import Answer
from fairladder.steps import Steps
from fairladder.value.histories import (
    NO_FORECAST,
    Bought,
    Histories,
    bought,
    buying_days,
    histories,
    histories_as_of,
    too_little,
)
from fairladder.value.learning import FittedModels, learn
from fairladder.value.likelihood import Array
from fairladder.value.ordering import MODELS
from fairladder.value.predict import NAIVE, Prediction, expected_by_pair
from fairladder.value.season import YEARS
from fairladder.value.spread import Miss
from fairladder.value.weekly import expected_daily, monday, since_1970, weekly

#: Customers with this many past orders or more share one row.
MANY = 7
#: Minimum number of days to train on, and to test on.
LEAST_PAST, LEAST_HELD = 60, 28
#: A total with a larger error is not convincing.
FAR_OFF = 0.2
_SEED = 20260630


@dataclass(frozen=True)
class Backtest(Answer):
    """``frame``: one row for each method, best first.

    Columns: ``method``; ``orders`` forecast and ``actual_orders`` in the test days; ``total_error``
    = forecast ÷ actual − 1; ``expected_value``, ``actual_value`` (of purchases, major units) and
    ``value_error`` likewise; ``error`` (root mean squared error of a customer's orders, which
    decides the winner) and ``mean_absolute_error``; ``top_found`` (of the tenth of customers who
    ordered most, including ties, the share among as many with the highest forecast); ``coverage``
    of the 80 % range of value (customers with a positive forecast; null for the naive method).
    ``calibration``: by ``past_orders``, ``customers``, ``actual`` and each method's orders per
    customer. ``tracking``: by ``week`` (Monday), repeat orders ``actual`` and by each model. Up to
    the split a model's figures follow customers from their first order on, afterwards from what
    they had done by the split.
    """

    frame: pd.DataFrame
    calibration: pd.DataFrame
    tracking: pd.DataFrame
    split: dt.date
    through: dt.date
    customers: int
    notes: tuple[str, ...]
    seasonal: bool = False
    """True if the models used a season's clock."""
    misses: Mapping[str, tuple["Miss", ...]] = field(default_factory=dict, repr=False)
    """The errors of each model's totals: in this test and, for the forecast's method, on earlier
    days.
    """

    @property
    def winner(self) -> str:
        """The method with the smallest error per customer."""
        return str(self.frame["method"].iloc[0])

    @property
    def better_by(self) -> float:
        """The share by which the winner's error is below the naive one's, or the naive one's below
        the best model's.
        """
        errors = self.frame.set_index("method")["error"]
        other = errors.drop(NAIVE).min() if self.winner == NAIVE else errors[NAIVE]
        return float(1 - errors[self.winner] / other) if other > 0 else 0.0

    @property
    def convincing(self) -> bool:
        """True if the winner is a model whose total orders and value are within a fifth of the
        actual ones.
        """
        best = self.frame.iloc[0]
        return (
            self.winner != NAIVE
            and max(abs(float(best["total_error"])), abs(float(best["value_error"]))) <= FAR_OFF
        )

    def in_words(self) -> str:
        """Return what the backtest shows about the forecast, in a sentence or two."""
        best = self.frame.iloc[0]
        held = (self.through - self.split).days
        against = "the best model's" if self.winner == NAIVE else "the naive forecast's"
        text = (
            f"Trained on data up to {wording.day(self.split)} and tested on the {held} days after, the "
            f"{best['method']} method is best: its error per customer is "
            f"{100 * self.better_by:.0f} % below {against}. It forecast "
            f"{best['orders']:,.0f} orders and {best['actual_orders']:,.0f} were placed "
            f"({wording.signed_percent(best['total_error'])}; in value "
            f"{wording.signed_percent(best['value_error'])})."
        )
        if self.convincing:
            return text
        if self.winner == NAIVE:
            return (
                f"{text} No model beats each customer's own past rate, so the forecast uses that "
                "rate."
            )
        return f"{text} The error is large: use the forecast to rank customers, not as an amount."

    def __repr__(self) -> str:
        return f"{self.in_words()}\n{self.frame.to_string(index=False)}"

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``backtest``, ``calibration`` and ``tracking``."""
        return {"backtest": self.frame, "calibration": self.calibration, "tracking": self.tracking}

    def finding(self) -> str:
        """Return the conclusion about the forecast."""
        return self.in_words()


def default_split(past: Histories) -> dt.date | None:
    """Return the day that leaves a quarter of the history, at most a year, for testing; None if
    that is too short.
    """
    first = past.frame["first"].min().date()
    held = min((past.through - first).days // 4, 365)
    split = past.through - dt.timedelta(days=held)
    return split if held >= LEAST_HELD and (split - first).days >= LEAST_PAST else None


def backtest(orders: Read, split: str | dt.date | None = None) -> Backtest:
    """Train every method on the rows up to ``split`` and forecast the days from there to the as-of
    date.

    ``split`` is a date or its ISO text; by default a quarter of the history is used for testing, at
    most a year. Only customers who had bought by then are forecast. Raises UsageError for a split
    outside the history, DataError if it is too short.
    """
    with bought(orders) as days:
        return tested_on(days, split, Steps(None, 1), None)


def tested_on(
    days: Bought, split: str | dt.date | None, steps: Steps, known: Histories | None
) -> Backtest:
    """Run ``backtest``, with two ``steps`` of progress per model; ``known`` are the histories on
    that day, if already computed.
    """
    day = as_day(split) if split is not None else default_split(histories(days, ids=False))
    if day is None:
        raise DataError(
            f"The history is too short: at least {LEAST_PAST} days are needed for training "
            f"and {LEAST_HELD} for testing."
        )
    if day >= days.through:
        raise UsageError(
            f"The split {day} leaves no day up to {days.through} for testing; give an earlier one."
        )
    past = known or histories_as_of(days, day, ids=False)
    if why := too_little(past):
        raise DataError(
            f"No backtest is possible with the data up to {day}: {why.removeprefix(NO_FORECAST)}"
        )
    horizon = (days.through - day).days
    fitted = learn(past, partial(_repeats, days, day), days.orders.scheme.value.season, steps)
    random = np.random.default_rng(_SEED)
    predictions = {
        name: fitted.predict(name, horizon, random, _SOME_DRAWS)
        for name, _ in steps.over(MODELS.items())
    }
    misses = {n: (_miss(fitted, n, made, horizon, random),) for n, made in predictions.items()}
    predictions[NAIVE] = fitted.predict(NAIVE, horizon, random)
    later = past.frame["later_days"].to_numpy(np.float64)
    later_value = past.frame["later_bought"].to_numpy(np.float64)
    rows = [_judged(name, made, later, later_value) for name, made in predictions.items()]
    frame = pd.DataFrame(rows).sort_values("error", kind="stable", ignore_index=True)
    notes = tuple(dict.fromkeys(f for fit in fitted.fits.values() for f in fit.notes))
    return Backtest(
        frame,
        _calibration(past, predictions, later),
        _tracking(days, fitted),
        day,
        days.through,
        len(later),
        notes,
        fitted.season is not None,
        misses,
    )


#: Number of earlier forecasts made to measure errors of totals.
MOST_MISSES = 3
#: Draws for earlier forecasts, of which only the variance of the total is needed.
_FEW_DRAWS = 5
#: Draws for the backtest, of which the coverage of ranges is needed.
_SOME_DRAWS = 15


def with_earlier(days: Bought, tested: Backtest, now: FittedModels, method: str) -> Backtest:
    """Add the errors of a method's totals on earlier days, each for the same number of days, as far
    as history allows.

    Each forecast is trained on the rows as of its day, and on a history at least as long as its
    horizon. Days on which no season could be detected, although there is one ``now``, are skipped:
    they show nothing about a forecast with a season.
    """
    held = tested.through - tested.split
    found, first = list(tested.misses[method]), now.past.frame["first"].min().date()
    least = max(LEAST_PAST, held.days, 0 if now.season is None else YEARS * 365)
    for number in range(1, MOST_MISSES):
        day = tested.split - number * held
        if (day - first).days < least:
            break
        past = histories_as_of(days.known_on(day + held), day, ids=False)
        if too_little(past):
            break
        fitted = learn(
            past,
            partial(_repeats, days, day),
            days.orders.scheme.value.season,
            Steps(None, 1),
            now.fits[method],
        )
        if (fitted.season is None) != (now.season is None):
            break
        random = np.random.default_rng(_SEED)
        made = fitted.predict(method, held.days, random, _FEW_DRAWS)
        found.append(_miss(fitted, method, made, held.days, random))
    return replace(tested, misses={**tested.misses, method: tuple(found)})


def _repeats(days: Bought, day: dt.date) -> pd.DataFrame:
    """Return ``buying_days`` with the data up to a day."""
    return buying_days(days.known_on(day), day)


def _miss(
    fitted: FittedModels, method: str, made: Prediction, held: int, random: np.random.Generator
) -> Miss:
    past = fitted.past
    value = float((made.orders * made.order_value).sum())
    variance = float(made.variance.sum()) / max(value, 1e-9) ** 2
    variance += float(np.log(fitted.total_ratios(method, held, random)).var())
    return Miss(past.through, held, value, float(past.frame["later_bought"].sum()), variance)


def _judged(name: str, made: Prediction, later: Array, later_value: Array) -> dict[str, object]:
    forecast, actual = float(made.orders.sum()), float(later.sum())
    missed = made.orders - later
    worth, actual_value = float((made.orders * made.order_value).sum()), float(later_value.sum())
    expects = made.high > 0
    inside = (later_value >= made.low - 1e-9) & (later_value <= made.high + 1e-9)
    return {
        "method": name, "orders": forecast, "actual_orders": actual,
        "total_error": forecast / actual - 1 if actual else np.nan,
        "expected_value": worth, "actual_value": actual_value,
        "value_error": worth / actual_value - 1 if actual_value else np.nan,
        "error": float(np.sqrt((missed**2).mean())),
        "mean_absolute_error": float(np.abs(missed).mean()),
        "top_found": top_found(made.orders, later),
        "coverage": float(inside[expects].mean()) if expects.any() else np.nan,
    }  # fmt: skip


def top_found(forecast: Array, actual: Array) -> float:
    """Return the share of the tenth with the highest ``actual`` (including ties) among as many with
    the highest ``forecast``.

    Customers tied at the forecast's edge count by their probability of being drawn. NaN if there
    are no actual orders.
    """
    if not (actual > 0).any():
        return float("nan")
    edge = max(np.sort(actual)[::-1][max(-(-len(actual) // 10), 1) - 1], np.nextafter(0, 1))
    best = actual >= edge
    room = int(best.sum())
    cut = np.sort(forecast)[::-1][room - 1]
    above, at = forecast > cut, forecast == cut
    chance = np.where(above, 1.0, np.where(at, (room - above.sum()) / at.sum(), 0.0))
    return float(chance[best].sum() / room)


def _calibration(past: Histories, predictions: dict[str, Prediction], later: Array) -> pd.DataFrame:
    days = past.frame["days"].to_numpy()
    group = np.minimum(days, MANY)
    made = {name: p.orders for name, p in predictions.items()}
    means = (
        pd.DataFrame({"past_orders": group, "actual": later, **made})
        .groupby("past_orders", as_index=False)
        .mean()
    )
    sizes = pd.Series(group).value_counts()
    means.insert(1, "customers", means["past_orders"].map(sizes).astype(np.int64))
    label = [f"{n} and more" if n == MANY else str(n) for n in means["past_orders"]]
    return means.assign(past_orders=label)


def _tracking(days: Bought, fitted: FittedModels) -> pd.DataFrame:
    """Return repeat orders by week, of customers who had bought by the split."""
    past = fitted.past
    first, split = since_1970(past.frame["first"]), int(since_1970(np.datetime64(past.through)))
    end = int(since_1970(np.datetime64(days.through)))
    weeks = np.arange(int(monday(first).min()), end + 1, 7)
    happened = buying_days(days, past.through)
    actual = weekly(since_1970(happened["day"]), happened["customers"].to_numpy(np.float64), weeks)
    table = {
        "week": pd.DatetimeIndex(weeks.astype("datetime64[D]")).as_unit("s"),
        "actual": actual.astype(np.int64),
    }
    buying, every = fitted.buying.sample(4_000), np.arange(int(weeks[0]), end + 1)
    ends = np.minimum(weeks + 6, end)
    for name, fit in fitted.fits.items():
        model = MODELS[name]
        daily = expected_daily(model, fit, first, every, fitted.season)
        active = model.active_probability(fit.values, buying.x, buying.t_x, buying.T)
        ahead = np.array([
            float(buying.weight @ (active * expected_by_pair(model, fit, buying,
            fitted.ahead(float(d))))) if d > 0 else 0.0
            for d in np.append(0, ends[ends > split] - split)
        ])  # fmt: skip
        table[name] = _weekly(daily, weeks, split, ends, ahead)
    return pd.DataFrame(table)


def _weekly(
    daily: Array, weeks: NDArray[np.int64], split: int, ends: NDArray[np.int64], ahead: Array
) -> Array:
    """Combine days up to the split from ``daily`` with later ones from the steps of ``ahead``; a
    week with both gets its part of each.
    """
    running = np.concatenate([[0.0], np.cumsum(daily)])
    upto = np.clip(np.minimum(ends, split) - weeks[0] + 1, 0, len(daily))
    before = np.diff(running[upto], prepend=0.0)
    after = np.zeros(len(weeks))
    after[ends > split] = np.diff(ahead)
    return np.asarray(before + after)

"""The forecast: expected orders and value of each customer over a horizon, by the method that was
best in the backtest.
"""

import datetime as dt
from calendar import month_name
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cache, partial
from typing import Any

import numpy as np
import pandas as pd

from fairladder.book.read import Read
from fairladder.columns import FORECAST, names
from fairladder.errors import UsageError, nearest
from fairladder.output.result import Answer
from fairladder.steps import Progress, Steps, seen_by
from fairladder.value.backtest import Backtest, default_split, tested_on, with_earlier
from fairladder.value.checks import checked_horizon, checked_rate
from fairladder.value.histories import (
    Bought,
    Histories,
    bought,
    buying_days,
    costs,
    histories,
    histories_as_of,
    too_little,
)
from fairladder.value.learning import FittedModels, learn
from fairladder.value.likelihood import Array, Fit
from fairladder.value.margins import Margin, margin_of
from fairladder.value.ordering import MODELS, OrderingModel
from fairladder.value.predict import NAIVE, Prediction, discounted_orders
from fairladder.value.season import YEARS
from fairladder.value.spend import SpendModel, fit_spend
from fairladder.value.spread import LATE, spread_of
from fairladder.wording import day, signed_percent

_SEED = 20260630


@dataclass(frozen=True)
class Forecast(Answer):
    """The forecast. ``frame``: one row for each customer with a purchase, sorted by id.

    Columns: ``customer``; ``spend_to_date`` and ``margin_to_date`` (major units; the latter only if
    margin or cost is known); ``active_probability`` (0..1, null with the naive method);
    ``expected_orders`` in the horizon (orders of one day count once); ``expected_order_value`` (of
    a day's orders, after refunds); ``expected_value`` = discounted expected orders × expected order
    value × margin; ``value_low`` and ``value_high``, its 80 % range (null with the naive method).
    For a customer who is unlikely to order both can be 0 although the expectation is above it: most
    such customers spend nothing, and a few spend much.
    """

    frame: pd.DataFrame
    method: str
    horizon: int
    margin: Margin
    discount_rate: float
    fits: dict[str, Fit]
    spend: SpendModel
    backtest: Backtest | None
    notes: tuple[str, ...]
    as_of: dt.date
    _ratios: Array = field(repr=False)
    _variance: Array = field(repr=False)
    fitted: FittedModels | None = field(default=None, repr=False)
    """The fitted models; None without a forecast."""
    per_order: Array = field(default_factory=lambda: np.zeros(0), repr=False)
    """Value of one expected order of each customer, after margin and discount, (customers,)."""
    late: float = field(default=0.0, repr=False)
    """Uncertainty from deviations in the last weeks, as a logarithm; 0 without deviations."""

    def totals(self, groups: "pd.Series | None" = None) -> pd.DataFrame:
        """Return sums over all customers, or over the groups in a Series by customer id, with 80 %
        ranges.

        Columns: the group, ``customers``, ``expected_orders``, ``expected_value``, ``value_low``,
        ``value_high``. The range combines the uncertainty of the parameters, common to all
        customers, with the chance in each one's orders.
        """
        frame = self.frame
        of = (
            pd.Series("all", index=frame.index)
            if groups is None
            else frame["customer"].map(groups).fillna("unknown").astype(str)
        )
        table = frame.groupby(of.to_numpy(), sort=True).agg(
            customers=("customer", "size"),
            expected_orders=("expected_orders", lambda v: v.sum(min_count=1)),
            expected_value=("expected_value", lambda v: v.sum(min_count=1)),
        )
        variance = pd.Series(self._variance).groupby(of.to_numpy(), sort=True).sum()
        noise = self._noise
        value = table["expected_value"].to_numpy()
        drawn = value[:, None] * self._ratios + np.sqrt(variance.to_numpy())[:, None] * noise
        low, high = np.quantile(drawn, (0.1, 0.9), axis=1)
        unknown = np.isnan(self._variance).any()
        table["value_low"] = np.nan if unknown else np.maximum(low, 0)
        table["value_high"] = np.nan if unknown else high
        named = "group" if groups is None or groups.name is None else str(groups.name)
        totals: pd.DataFrame = table.rename_axis(named).reset_index()
        return totals

    @property
    def _noise(self) -> Array:
        return np.random.default_rng(_SEED).standard_normal(len(self._ratios))

    @property
    def total_draws(self) -> Array:
        """Return simulated totals as shares of the expected one, (draws,), from which its range is
        taken.
        """
        total = float(self.frame["expected_value"].sum())
        wide = float(np.sqrt(self._variance.sum())) / total if total else np.nan
        return np.asarray(np.maximum(self._ratios + wide * self._noise, 0))

    @property
    def models(self) -> pd.DataFrame:
        """Return the fitted parameters: ``model``, ``parameter``, ``value``, ``error`` (standard
        error), ``log_likelihood``.
        """
        rows = [
            (fit.model, name, value, fit.errors[name], fit.log_likelihood)
            for fit in [*self.fits.values(), self.spend.fit]
            for name, value in fit.parameters.items()
        ]
        return pd.DataFrame(
            rows, columns=["model", "parameter", "value", "error", "log_likelihood"]
        )

    @property
    def top_shares(self) -> pd.DataFrame:
        """Return the share of the expected value from the customers with the highest one:
        ``customers``, ``share`` (0..1).

        For 1, 3, 10, 30, 100, … of them; null without a forecast.
        """
        value = np.sort(self.frame["expected_value"].to_numpy(np.float64))[::-1]
        counts = [n for n in (1, 3, 10, 30, 100, 300, 1_000, 3_000, 10_000) if n < len(value)]
        running, total = np.cumsum(value), float(value.sum())
        return pd.DataFrame(
            {
                "customers": counts,
                "share": [float(running[n - 1] / total) if total else np.nan for n in counts],
            }
        )

    def of_range(self) -> str:
        """Explain the range of the total in plain sentences."""
        if self.method in (NONE, NAIVE):
            return "There is no range, since it needs a model of which customers stay."
        misses = () if self.backtest is None else self.backtest.misses[self.method]
        off = [
            f"{signed_percent(np.expm1(m.log_ratio))} from {day(m.split)} on"
            for m in misses
            if np.isfinite(m.log_ratio)
        ]
        earlier = f"past forecast errors ({', '.join(off)})" if off else "typical forecast errors"
        if self.late:
            earlier += (
                f", and the error of about {100 * np.expm1(self.late):.0f} % in repeat orders "
                f"over the last {LATE} days"
            )
        text = (
            "The range should contain the actual total for 8 in 10 shops like this one. It "
            f"allows for chance, parameter uncertainty and {earlier}. It does not allow for "
            "events without precedent, such as half the customers leaving or prices "
            "doubling."
        )
        if few := _holding_half(self.frame["expected_value"].to_numpy(np.float64)):
            who = "one customer contributes" if few == 1 else f"{few} customers contribute"
            text += (
                f" The total depends on few customers: {who} half of it, and a change by one of "
                "them can exceed the range."
            )
        return text

    def finding(self) -> str:
        """Return orders and value of all customers, with the range."""
        if self.method == NONE:
            return self.notes[0]
        total = self.totals().iloc[0]
        return (
            f"Forecast of {len(self.frame):,} customers for {self.horizon} days after "
            f"{self.as_of} by the {self.method} method: "
            f"{total['expected_orders']:,.0f} orders, value {total['expected_value']:,.0f} "
            f"({total['value_low']:,.0f} to {total['value_high']:,.0f})"
        )

    def __repr__(self) -> str:
        return self.finding()

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``customers``, ``models``, ``top-shares`` and, if there is one, those of the
        ``backtest``.
        """
        tested = self.backtest.tables() if self.backtest is not None else {}
        return {
            "customers": self.frame,
            "models": self.models,
            "top-shares": self.top_shares,
            **tested,
        }

    def facts(self) -> dict[str, Any]:
        """Return the as-of date, method, horizon in days, and notes."""
        facts = {"as_of": self.as_of.isoformat(), "method": self.method, "horizon": self.horizon}
        top = self.top_shares.dropna()
        shares = {str(n): float(v) for n, v in zip(top["customers"], top["share"], strict=True)}
        return {
            **facts,
            "discount_rate": self.discount_rate,
            "range": self.of_range(),
            "top_shares": shares,
            "notes": list(self.notes),
        }


#: If fewer customers than this contribute half of a total, it depends on them.
FEW = 10


def _holding_half(value: Array) -> int:
    """Return how many customers contribute half of the total, if they are fewer than ``FEW``; else
    0.
    """
    ordered = np.sort(np.nan_to_num(value))[::-1]
    if not ordered.sum() or len(ordered) < 2 * FEW:
        return 0
    needed = int(np.searchsorted(np.cumsum(ordered), ordered.sum() / 2)) + 1
    return needed if needed < FEW else 0


_NAMES = names(FORECAST)
#: The method's name if there is no forecast.
NONE = "none"


def value_forecast(
    orders: Read,
    *,
    horizon: int | None = None,
    margin: float | None = None,
    discount_rate: float | None = None,
    method: str | None = None,
    split: str | dt.date | None = None,
    seed: int = _SEED,
    earlier: bool = True,
    progress: Progress | None = None,
) -> Forecast:
    """Forecast every customer with a purchase over the ``horizon`` days after the as-of date.

    Arguments that are not given come from ``[value]`` in the orders' scheme.

    Parameters
    ----------
    orders
        Opened orders; rows in the date range are used.
    horizon
        Days to forecast, 1 to 3,650.
    margin
        Fraction of revenue that is profit, 0 < margin ≤ 1; default: from the ``cost`` role if
        there is one, else 1.
    discount_rate
        Per year (0.1 is 10 %); later orders are discounted for longer.
    method
        ``beta-geometric``, ``central beta-geometric``, ``Pareto`` or ``naive`` (each customer
        keeps its own past rate); by default the one with the smallest error per customer in the
        backtest.
    split
        Last day of the training data in the backtest; by default a quarter of the history, at most
        a year, is used for testing.
    seed
        Seed of the simulation behind the ranges.
    earlier
        Forecast earlier days as well, whose errors widen the range of the total. Figures of single
        customers do not depend on it.
    progress
        Called with the share of the work that is done, 0..1; a notebook shows progress by itself.

    If no model can be trained (few or no customers have ordered on a second day, or the orders
    span only a few days), all forecasts are null, the method is ``none``, and the first note gives
    the reason.

    Raises UsageError for wrong options, DataError if no customer has a purchase.
    """
    settings = orders.scheme.value
    horizon = settings.horizon if horizon is None else horizon
    margin = settings.margin if margin is None else margin
    discount_rate = settings.discount_rate if discount_rate is None else discount_rate
    method, split = method or settings.method, split if split is not None else settings.backtest
    checked_horizon(horizon)
    checked_rate(discount_rate)
    if method not in ("best", NAIVE, *MODELS):
        raise UsageError(
            f"There is no forecast method {method!r}. {nearest(method, ('best', NAIVE, *MODELS))}"
        )
    with bought(orders) as days:
        return _forecast(
            orders, days, horizon, margin, discount_rate, method, split, seed, earlier, progress
        )


def _forecast(
    orders: Read, days: Bought, horizon: int, margin: float | None, discount_rate: float,
    method: str, split: str | dt.date | None,
    seed: int, earlier: bool, progress: Progress | None,
) -> Forecast:  # fmt: skip
    past = histories(days)
    kept = margin_of(orders, past, margin)
    if method != NAIVE and (why := too_little(past)):
        return _without(orders, past, horizon, kept, discount_rate, why)
    known = None if split is not None else _testable(days, past)
    learn_to = split if split is not None else known.through if known is not None else None
    steps = Steps(
        seen_by(progress, "Forecasting"), (1 if learn_to is None else 3) * len(MODELS) + 1
    )
    tested = tested_on(days, learn_to, steps, known) if learn_to is not None else None
    repeats = cache(partial(buying_days, days, past.through))
    fitted = learn(past, repeats, orders.scheme.value.season, steps)
    fits, spend = dict(fitted.fits), fitted.spend
    best = method if method != "best" else tested.winner if tested is not None else _likeliest(fits)
    notes = (
        []
        if tested is not None
        else ["Warning: the history is too short to hold months back, so the forecast is untested."]
    )
    chosen: tuple[OrderingModel, Fit] | None = (
        (MODELS[best], fits[best]) if best in MODELS else None
    )
    random = np.random.default_rng(seed)
    predicted = fitted.predict(best, horizon, random)
    if tested is not None and chosen and earlier:
        tested = with_earlier(days, tested, fitted, best)
    ratios, late = np.ones(1), 0.0
    if chosen:
        ratios = fitted.total_ratios(best, horizon, random)
        late = fitted.late(best, repeats())
        spread = spread_of(tested.misses[best] if tested is not None else (), horizon, late)
        ratios = ratios * spread.draws(len(ratios), horizon, random)
    net = kept.after_refunds
    factor = _discount(fitted, chosen, predicted, horizon, discount_rate) * net * kept.share
    frame = _frame(orders, past, predicted, factor, net, kept)
    steps.finished()
    notes += _of_clock_and_prices(fitted) if chosen else []
    if orders.scheme.value.season == "yearly" and fitted.season is None:
        notes.append(
            f"Warning: {YEARS} years of orders are needed to distinguish a season from a "
            "trend, and there are fewer, so the forecast has no season."
        )
    notes += [*(fits[best].notes if best in fits else []), *spend.fit.notes, *kept.notes]
    why = "with their histories, to compute the forecast"
    if transfer := orders.customer_engine.transfer_note(len(past.frame), why):
        notes.append(transfer)
    return Forecast(
        frame, best, horizon, kept, discount_rate, fits, spend, tested, tuple(notes), past.through,
        ratios, predicted.variance * factor**2, fitted, predicted.order_value * factor,
        float(np.sqrt(late)),
    )  # fmt: skip


def _testable(days: Bought, past: Histories) -> Histories | None:
    """Return the histories on the default split, if a model can be trained on them."""
    split = default_split(past)
    known = histories_as_of(days, split, ids=False) if split is not None else None
    return None if known is None or too_little(known) else known


def _without(
    orders: Read, past: Histories, horizon: int, kept: Margin, discount_rate: float, why: str
) -> Forecast:
    """Return an empty forecast with the reason."""
    n = past.frame["days"].to_numpy(np.float64)
    nothing = np.full(len(n), np.nan)
    frame = _frame(orders, past, Prediction(*[nothing] * 6), nothing, kept.after_refunds, kept)
    return Forecast(
        frame, NONE, horizon, kept, discount_rate, {}, fit_spend(n, past.day_value), None,
        (why, *kept.notes), past.through,
        np.ones(1), nothing,
    )  # fmt: skip


def with_forecast(customers: pd.DataFrame, forecast: Forecast) -> pd.DataFrame:
    """Add the forecast's columns to customers; null for those without a purchase.

    Columns: ``active_probability``, ``expected_orders``, ``expected_order_value``,
    ``expected_value``, ``value_low``, ``value_high``. Raises UsageError if customers already have
    one of them.
    """
    require_free(customers)
    side = forecast.frame[["customer", *_NAMES]]
    joined = customers[["customer"]].merge(side, on="customer", how="left", validate="one_to_one")
    return customers.assign(**{name: joined[name].to_numpy() for name in _NAMES})


def require_free(columns: Iterable[object]) -> None:
    """Raise UsageError if customers have a column with the name of a forecast column."""
    taken = [name for name in _NAMES if name in set(columns)]
    if taken:
        raise UsageError(
            f"The customers already have a column `{taken[0]}`, the name of a forecast "
            "column; rename it."
        )


def _likeliest(fits: dict[str, Fit]) -> str:
    """Return the model with the highest likelihood; all have four parameters."""
    return max(fits.values(), key=lambda f: f.log_likelihood).model


def _discount(
    fitted: FittedModels,
    chosen: "tuple[OrderingModel, Fit] | None",
    predicted: Prediction,
    horizon: int,
    rate: float,
) -> Array:
    """Return discounted ÷ plain expected orders of each customer; the naive method spreads them
    evenly.
    """
    if rate == 0:
        return np.ones(len(predicted.orders))
    force, buying = np.log1p(rate) / 365, fitted.buying
    if chosen is None:
        return np.full(len(predicted.orders), -np.expm1(-force * horizon) / (force * horizon))
    model, fit = chosen
    plain = model.expected_if_active(fit.values, buying.x, buying.T, fitted.ahead(horizon))
    share = discounted_orders(model, fit, buying, horizon, force, fitted.ahead) / np.where(
        plain > 0, plain, 1
    )
    return np.asarray(np.where(plain > 0, share, 1.0)[buying.row_of])


def _of_clock_and_prices(fitted: FittedModels) -> list[str]:
    """Return notes on the season and the price trend."""
    notes = []
    if fitted.season is not None:
        months = fitted.season.by_month()
        high, low = int(months.argmax()), int(months.argmin())
        notes.append(
            f"Orders are seasonal: in {month_name[high + 1]} customers order "
            f"{months[high]:.1f} times as often as on average, in {month_name[low + 1]} "
            f"{months[low]:.1f} times. The forecast and the probability of being active "
            "account for the season."
        )
    if fitted.prices.yearly:
        rise = 100 * np.expm1(fitted.prices.yearly)
        way = "grows" if rise > 0 else "shrinks"
        notes.append(
            f"The average order value of the same customers {way} by {abs(rise):.0f} % a year, and the "
            "forecast continues this trend."
        )
    return notes


def _frame(
    orders: Read, past: Histories, predicted: Prediction, factor: Array, net: float, kept: Margin
) -> pd.DataFrame:
    customers = orders.spent().set_index("customer")["spend"]
    ids = past.frame["customer"]
    spent = ids.map(customers).to_numpy(np.float64)
    columns: dict[str, Any] = {"customer": ids, "spend_to_date": spent}
    if kept.from_cost:
        cost = costs(orders)
        assert cost is not None
        columns["margin_to_date"] = spent - ids.map(cost.each).fillna(0).to_numpy(np.float64)
    elif kept.given:
        columns["margin_to_date"] = spent * kept.share
    columns |= {
        "active_probability": predicted.active, "expected_orders": predicted.orders,
        "expected_order_value": predicted.order_value * net,
        "expected_value": predicted.orders * predicted.order_value * factor,
        "value_low": predicted.low * factor, "value_high": predicted.high * factor,
    }  # fmt: skip
    return pd.DataFrame(columns)

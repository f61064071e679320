"""What-if analysis: the worth of changes in retention, frequency or order value, by formula and by
forecast.
"""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from fairladder.errors import DataError, UsageError
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer
from fairladder.value.forecast import Forecast
from fairladder.value.formula import SWAY, FormulaValue
from fairladder.value.likelihood import Array
from fairladder.value.ordering import MODELS
from fairladder.wording import money


@dataclass(frozen=True)
class Change:
    """The assumed change: ``retention`` in points (0.05 is from 60 % to 65 %), the others as a
    share (0.1 is a tenth more).
    """

    retention: float = 0.0
    frequency: float = 0.0
    order_value: float = 0.0

    def __post_init__(self) -> None:
        for name, share in (("frequency", self.frequency), ("order value", self.order_value)):
            if not -1 < share <= 10:
                raise UsageError(
                    f"A change of {name} by {100 * share:+g} % is impossible; it must be "
                    "above -100 % and up to +1,000 %."
                )
        if not self:
            raise UsageError(
                "Nothing changes: say by how much retention, frequency or order value would change."
            )

    def __bool__(self) -> bool:
        return bool(self.retention or self.frequency or self.order_value)

    def in_words(self) -> str:
        """Return a text such as: retention +5 points, frequency +10 %."""
        parts = [f"retention {100 * self.retention:+g} points"] if self.retention else []
        parts += [
            f"{name} {100 * share:+g} %"
            for name, share in (("frequency", self.frequency), ("order value", self.order_value))
            if share
        ]
        return ", ".join(parts)


@dataclass(frozen=True)
class WhatIf(Answer):
    """``frame``: one row for the formula and one for the forecast.

    Columns: ``answer``; ``value_now`` and ``value_then`` (per customer, major units),
    ``value_change``, ``change_low`` and ``change_high`` (for the formula with retention 5 points
    down and up, for the forecast its 80 % range); ``all_change``, ``all_low`` and ``all_high``, the
    change for all customers. Null without a formula value or a forecast by a model.
    """

    change: Change
    frame: pd.DataFrame
    notes: tuple[str, ...]

    def finding(self) -> str:
        """Return the worth of the change by both methods, in words."""
        texts = [
            f"{money(v, 2)} each {a}"
            for a, v in zip(self.frame["answer"], self.frame["value_change"], strict=True)
            if not np.isnan(v)
        ]
        return (
            f"With {self.change.in_words()}: {' and '.join(texts) or 'no value can be computed'}."
        )

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``what-if``."""
        return {"what-if": self.frame}

    def pieces(self) -> list[Piece]:
        """Return the table."""
        return [Piece("what-if", self.frame)]

    def __repr__(self) -> str:
        return f"{self.finding()}\n{self.frame.to_string(index=False)}"


def what_if(
    formula: FormulaValue,
    forecast: Forecast,
    *,
    retention: float = 0.0,
    frequency: float = 0.0,
    order_value: float = 0.0,
) -> WhatIf:
    """Return the worth of a change per customer and for all, by the formula and by the forecast.

    ``retention`` is in points of the formula's period (0.05: five points), ``frequency`` and
    ``order_value`` are shares (0.1: a tenth more). In the forecast the rate of leaving changes as
    in the formula: for a retention r per period before and r' after the change, customers leave ln
    r' ÷ ln r times as fast. Customers who have left do not come back.

    Raises UsageError if nothing changes, or retention would not be between 0 and 1.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> made = fl.what_if(fl.value_formula(orders, period="quarter"), fl.value_forecast(orders), order_value=0.1)
    >>> round(made.frame["value_change"].iloc[0], 2).item()
    41.92
    """
    change = Change(retention, frequency, order_value)
    row = formula.frame.iloc[0]
    rate = float(row["retention"])
    if change.retention and not 0 < rate + change.retention < 1:
        raise UsageError(
            f"Retention is {100 * rate:.1f} % from one {formula.period} to the next; "
            f"{100 * change.retention:+g} points would make it "
            f"{100 * (rate + change.retention):.1f} %, which is impossible."
        )
    grown = (1 + change.frequency) * (1 + change.order_value)
    now = _formula(row, rate)
    moves = [
        _formula(row, r + change.retention) * grown - _formula(row, r)
        for r in (rate, rate - float(SWAY), rate + float(SWAY))
    ]
    people = len(forecast.frame)
    each = _forecast_change(forecast, change, rate)
    share = np.quantile(forecast.total_draws, (0.1, 0.9))
    total = float(each.sum())
    expected = float(forecast.frame["expected_value"].sum(min_count=1))
    ends = sorted(total * share)
    rows = [
        ("by formula", now, now + moves[0], moves[0], *_ends(moves[1:]), moves[0] * people,
        *(e * people for e in _ends(moves[1:]))),
        (f"forecast for {forecast.horizon} days", expected / people, (expected + total) / people,
        total / people,
         ends[0] / people, ends[1] / people, total, *ends),
    ]  # fmt: skip
    columns = [
        "answer",
        "value_now",
        "value_then",
        "value_change",
        "change_low",
        "change_high",
        "all_change",
        "all_low",
        "all_high",
    ]
    notes = ["The cost of the change, and whether it is possible, are not considered."]
    if change.frequency:
        notes.append(
            "In the formula customers who order more often leave no sooner; in the "
            "beta-geometric models each order is an occasion to leave."
        )
    return WhatIf(
        change,
        pd.DataFrame(rows, columns=columns).astype(dict.fromkeys(columns[1:], float)),
        tuple(notes),
    )


def _formula(row: "pd.Series[float]", rate: float) -> float:
    """Return the formula value at a retention; NaN if it is impossible."""
    if not 0 <= rate < 1:
        return float("nan")
    return float(row["average_order_value"] * row["orders_per_period"] / (1 - rate) * row["margin"])


def _ends(moves: list[float]) -> list[float]:
    known = [m for m in moves if not np.isnan(m)]
    return sorted(known) if len(known) == 2 else [float("nan")] * 2


def _forecast_change(forecast: Forecast, change: Change, rate: float) -> Array:
    """Return the change of each customer's expected value, (customers,); NaN without a model."""
    value = forecast.frame["expected_value"].to_numpy(np.float64)
    if forecast.fitted is None or forecast.method not in MODELS:
        return np.full(len(value), np.nan)
    slower = 1.0
    if change.retention:
        if not 0 < rate < 1:
            return np.full(len(value), np.nan)
        slower = float(np.log(rate + change.retention) / np.log(rate))
    fitted, model = forecast.fitted, MODELS[forecast.method]
    buying, p, t = (
        fitted.buying,
        fitted.fits[forecast.method].values,
        fitted.ahead(forecast.horizon),
    )
    before = model.expected_if_active(p, buying.x, buying.T, t)
    after = model.expected_if_changed(p, buying.x, buying.T, t, slower, 1 + change.frequency)
    ratio = np.where(before > 0, after / np.where(before > 0, before, 1), 1.0)[buying.row_of]
    return np.asarray(value * (ratio * (1 + change.order_value) - 1))


def worth_of_return(forecast: Forecast, response: float) -> "pd.Series[float]":
    """Return the expected return of contacting each customer, in major units after margin, by
    customer id.

    ``response`` is the share of inactive customers whom a contact brings back to their earlier
    ordering. The worth is response × (1 − probability of being active) × expected value over the
    horizon while active: the highest cost of a contact that does not lose money. Raises UsageError
    for an impossible response, DataError without a forecast by a model.
    """
    # Not from their expected value, which is close to zero for customers who have most certainly
    # left.
    worth = chance_of_return(forecast, response) * _if_active(forecast)
    return worth.rename("worth_of_return")


def chance_of_return(forecast: Forecast, response: float) -> "pd.Series[float]":
    """Return the probability that a contact brings back each customer, by id: response × (1 −
    probability of being active). Raises as ``worth_of_return`` does.
    """
    if not 0 < response <= 1:
        raise UsageError(
            f"A response is above 0 and up to 1 (5 % is 0.05), and {response:g} is not."
        )
    if forecast.fitted is None or forecast.method not in MODELS:
        raise DataError(
            "The worth of a return needs a forecast by a model of which customers stay, and "
            "there is none."
        )
    fitted, model = forecast.fitted, MODELS[forecast.method]
    buying = fitted.buying
    p = fitted.fits[forecast.method].values
    active = model.active_probability(p, buying.x, buying.t_x, buying.T)
    return pd.Series(response * (1 - active)[buying.row_of], index=forecast.frame["customer"])


def _if_active(forecast: Forecast) -> Array:
    """Return each customer's expected value over the horizon while active, (customers,), from a
    forecast by a model.
    """
    fitted = forecast.fitted
    assert fitted is not None
    buying, p = fitted.buying, fitted.fits[forecast.method].values
    there = MODELS[forecast.method].expected_if_active(
        p, buying.x, buying.T, fitted.ahead(forecast.horizon)
    )
    return np.asarray(there[buying.row_of] * forecast.per_order)


def break_even(forecast: Forecast, segments: "pd.Series[str]", response: float) -> pd.DataFrame:
    """Return the highest cost of a win-back contact in each segment: ``segment``, ``customers``,
    ``active_probability`` (average), ``value_if_active`` (average over the horizon), ``break_even``
    (average worth of a contact), ``all_worth`` (of contacting all).

    ``segments`` by customer id; the segment with the highest worth of a contact comes first. Raises
    as ``worth_of_return`` does.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> segments = orders.score().set_index("customer")["segment"].astype(str)
    >>> table = fl.break_even(fl.value_forecast(orders), segments, response=0.05)
    >>> bool((table["break_even"] >= 0).all())
    True
    """
    worth = worth_of_return(forecast, response)
    frame = forecast.frame.set_index("customer")
    table = pd.DataFrame({
        "segment": segments.reindex(frame.index), "active_probability": frame["active_probability"],
        "value_if_active": _if_active(forecast), "worth": worth,
    })  # fmt: skip
    by = table.groupby("segment", sort=True)
    found = pd.DataFrame({
        "customers": by.size(), "active_probability": by["active_probability"].mean(),
        "value_if_active": by["value_if_active"].mean(),
        "break_even": by["worth"].mean(), "all_worth": by["worth"].sum(),
    })  # fmt: skip
    return found.reset_index().sort_values(
        ["break_even", "segment"], ascending=[False, True], ignore_index=True
    )

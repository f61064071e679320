"""Calendar periods: their first days, labels, and which are complete."""

import datetime as dt

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.days import Period
from fairladder.sqltree import sql

_STEPS = {"day": (1, "D"), "week": (7, "D"), "month": (1, "M"), "quarter": (3, "M"), "year": (12, "M")}


def start_of(day: exp.Expr, period: Period) -> exp.Expr:
    """The first day of the period that a day is in, as a tree. Weeks begin on Monday."""
    return sql(f"CAST(DATE_TRUNC('{period}', :d) AS DATE)", d=day)


def starts(first: dt.date, last: dt.date, period: Period) -> pd.DatetimeIndex:
    """First days of all periods from that of ``first`` to that of ``last``."""
    frequency = {"day": "D", "week": "W-MON", "month": "MS", "quarter": "QS", "year": "YS"}[period]
    return pd.date_range(floor(first, period), floor(last, period), freq=frequency, unit="s")


def floor(day: dt.date, period: Period) -> dt.date:
    """First day of the period that a day is in."""
    if period == "week":
        return day - dt.timedelta(days=day.weekday())
    month = {"year": 1, "quarter": 3 * ((day.month - 1) // 3) + 1}.get(period, day.month)
    return day if period == "day" else dt.date(day.year, month, 1)


def ordinal(days: "pd.Series[pd.Timestamp]", period: Period) -> NDArray[np.int64]:
    """Number of each period, counted on from any fixed one; the next period has the next number."""
    step, unit = _STEPS[period]
    whole = days.to_numpy().astype(f"datetime64[{unit}]").astype(np.int64)
    if period == "week":  # 1970-01-05 was a Monday
        whole = whole - 4
    return np.asarray(whole // step)


def complete(begin: "pd.Series[pd.Timestamp]", period: Period, as_of: dt.date) -> NDArray[np.bool_]:
    """Whether each period's last day is on or before the day of reckoning."""
    following = ordinal(pd.Series([pd.Timestamp(as_of) + pd.Timedelta(days=1)]), period)[0]
    return np.asarray(ordinal(begin, period) < following)


def label(begin: pd.Timestamp, period: Period) -> str:
    """``2026``, ``2026 Q2``, ``Jun 2026``, ``2026 W26``, ``2026-06-30``."""
    if period == "week":
        year, week, _ = begin.isocalendar()
        return f"{year} W{week:02}"
    if period == "quarter":
        return f"{begin.year} Q{begin.quarter}"
    return str(begin.strftime({"day": "%Y-%m-%d", "month": "%b %Y", "year": "%Y"}[period]))

"""Calendar periods: their first days, labels, and which are complete."""

import datetime as dt
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.days import Period, checked_period
from fairladder.sqltree import case, sql

#: Number of months in a period that consists of months.
_MONTHS = {"month": 1, "quarter": 3, "year": 12}
#: The Monday from which weeks are counted: 1970-01-05, four days after day 0.
_MONDAY = 4


@dataclass(frozen=True)
class Calendar:
    """Periods of one length. Weeks begin on Monday, years (and so their quarters) with the month
    ``year_starts``.
    """

    period: Period
    year_starts: int = 1

    def __str__(self) -> str:
        """Return the period's name."""
        return self.period

    def start_of(self, day: exp.Expr) -> exp.Expr:
        """Return the first day of the period of a date, as a tree."""
        months = self.first_months
        if not months or months[0] == 1:
            return sql(f"CAST(DATE_TRUNC('{self.period}', :d) AS DATE)", d=day)
        text = sql("CAST(:d AS VARCHAR)", d=day)
        year, month = sql("SUBSTRING(:t, 1, 4)", t=text), sql("SUBSTRING(:t, 6, 2)", t=text)
        before = sql("CAST(CAST(:y AS INT) - 1 AS VARCHAR)", y=year)
        branches = [
            (
                sql(":m >= :n", m=month, n=f"{first:02}"),
                sql(":y || :r", y=year, r=f"-{first:02}-01"),
            )
            for first in reversed(months)
        ]
        return sql(
            "CAST(:s AS DATE)",
            s=case(branches, sql(":y || :r", y=before, r=f"-{months[-1]:02}-01")),
        )

    @property
    def first_months(self) -> list[int]:
        """Return the months in which quarters or the year begin, in rising order; empty for other
        periods.
        """
        step = _MONTHS.get(self.period, 1)
        return [m for m in range(1, 13) if (m - self.year_starts) % step == 0] if step > 1 else []

    def starts(self, first: dt.date, last: dt.date) -> pd.DatetimeIndex:
        """Return the first days of all periods from that of ``first`` to that of ``last``."""
        begin, end = self.floor(first), self.floor(last)
        if self.period not in _MONTHS:
            return pd.date_range(
                begin, end, freq={"day": "D", "week": "W-MON"}[self.period], unit="s"
            )
        months = np.arange(
            np.datetime64(begin, "M"), np.datetime64(end, "M") + 1, _MONTHS[self.period]
        )
        return pd.DatetimeIndex(months.astype("datetime64[s]"))

    def floor(self, day: dt.date) -> dt.date:
        """Return the first day of the period of a date."""
        if self.period == "week":
            return day - dt.timedelta(days=day.weekday())
        if self.period == "day":
            return day
        step, shift = _MONTHS[self.period], self.year_starts - 1
        months = (12 * day.year + day.month - 1 - shift) // step * step + shift
        return dt.date(months // 12, months % 12 + 1, 1)

    def ordinal(self, days: "pd.Series[pd.Timestamp]") -> NDArray[np.int64]:
        """Return the number of each period on a scale in which the next period has the next
        number.
        """
        months = self.period in _MONTHS
        whole = days.to_numpy().astype(f"datetime64[{'M' if months else 'D'}]").astype(np.int64)
        if months:
            return np.asarray((whole - (self.year_starts - 1)) // _MONTHS[self.period])
        return np.asarray((whole - _MONDAY) // 7 if self.period == "week" else whole)

    def ordinal_of(self, day: dt.date) -> int:
        """Return the number of the period of one date."""
        return int(self.ordinal(pd.Series([pd.Timestamp(day)]))[0])

    def complete(self, begin: "pd.Series[pd.Timestamp]", as_of: dt.date) -> NDArray[np.bool_]:
        """Return a mask of periods whose last day is on or before the as-of date."""
        return np.asarray(self.ordinal(begin) < self.ordinal_of(as_of + dt.timedelta(days=1)))

    def label(self, begin: pd.Timestamp) -> str:
        """Return ``2026``, ``2026 Q2``, ``Jun 2026``, ``2026 W26``, ``2026-06-30``; ``2026/27 Q1``
        if years begin in another month.
        """
        if self.period == "week":
            of, week, _ = begin.isocalendar()
            return f"{of} W{week:02}"
        if self.period in ("year", "quarter"):
            begun = begin.year - (begin.month < self.year_starts)
            year = f"{begun}" if self.year_starts == 1 else f"{begun}/{(begun + 1) % 100:02}"
            return (
                year
                if self.period == "year"
                else f"{year} Q{(begin.month - self.year_starts) % 12 // 3 + 1}"
            )
        return str(begin.strftime({"day": "%Y-%m-%d", "month": "%b %Y"}[self.period]))


def calendar_of(period: str, year_starts: int | None) -> Calendar:
    """Return the calendar of a period; ``year_starts`` is the scheme's setting. Raises UsageError
    for an unknown name.
    """
    return Calendar(checked_period(period), year_starts or 1)

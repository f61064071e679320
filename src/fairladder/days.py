"""Parse dates and periods given by users."""

import datetime as dt
from typing import Literal, get_args
from zoneinfo import ZoneInfo

from fairladder.errors import UsageError, nearest

Period = Literal["day", "week", "month", "quarter", "year"]
PERIODS: tuple[Period, ...] = get_args(Period)


def as_day(value: str | dt.date) -> dt.date:
    """Return a date from a date, a timestamp or ISO text. Raises UsageError for any other text."""
    if isinstance(value, dt.datetime):
        return value.date()
    if isinstance(value, dt.date):
        return value
    try:
        return dt.date.fromisoformat(value)
    except ValueError:
        raise UsageError(f"{value!r} is not a date; write it as 2026-06-30.") from None


def today(time_zone: str | None) -> dt.date:
    """Return today's date in the business time zone; in UTC without one."""
    return dt.datetime.now(ZoneInfo(time_zone) if time_zone else dt.UTC).date()


def checked_period(period: str) -> Period:
    """Return the period, or raise UsageError with the names of all periods."""
    if period not in PERIODS:
        raise UsageError(f"There is no period {period!r}. {nearest(period, PERIODS)}")
    return period

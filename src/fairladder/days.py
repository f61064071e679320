"""Days as people give them."""

import datetime as dt
from typing import Literal, get_args
from zoneinfo import ZoneInfo

from fairladder.errors import UsageError, nearest

Period = Literal["day", "week", "month", "quarter", "year"]
PERIODS: tuple[Period, ...] = get_args(Period)


def as_day(value: str | dt.date) -> dt.date:
    """A day from itself, a moment, or ISO text. Raises UsageError for any other text."""
    if isinstance(value, dt.datetime):
        return value.date()
    if isinstance(value, dt.date):
        return value
    try:
        return dt.date.fromisoformat(value)
    except ValueError:
        raise UsageError(f"{value!r} is not a day; write it as 2026-06-30.") from None


def today(time_zone: str | None) -> dt.date:
    """The day that it is in the business time zone; in UTC without one."""
    return dt.datetime.now(ZoneInfo(time_zone) if time_zone else dt.UTC).date()


def checked_period(period: str) -> Period:
    """The period, or UsageError naming those there are."""
    if period not in PERIODS:
        raise UsageError(f"There is no period {period!r}. {nearest(period, PERIODS)}")
    return period

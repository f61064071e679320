"""Limits and preferences of engines, as values."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Limits:
    """What an engine allows or prefers. Callers read these values instead of checking the engine's
    type.
    """

    rows_here: int | None = None
    """Maximum number of customers that may be brought to this machine; None for no limit."""
    set_aside: int | None = None
    """Maximum number of set-aside rows that are shown; None for no limit."""
    looked_at: int = 1_000_000
    """Maximum number of rows that every command examines a second time; with more, only `check`
    does.
    """
    customer_findings: bool = True
    """True if every command looks at the customers; otherwise only `check` does."""
    ids_as_written: bool = True
    """True if grouping by untrimmed ids first saves time."""
    channel_bits: bool = True
    """True if a few channels are read faster as bits than as text."""
    windows: bool = True
    """True if ranks of all customers can be computed by one window; otherwise they are added
    up from buckets.
    """
    note: str = ""
    """A sentence for `check` about what the engine cannot show; empty if there is none."""

"""Check options of values and forecasts before anything large is imported."""

from fairladder.errors import UsageError


def checked_margin(margin: float | None) -> None:
    """Raise UsageError for a margin that is not a fraction."""
    if margin is not None and not 0 < margin <= 1:
        raise UsageError(
            f"A margin of {margin:g} is not a fraction of revenue; for 40 % write 0.4."
        )


def checked_rate(rate: float) -> None:
    """Raise UsageError for a yearly discount rate that is not a fraction."""
    if not 0 <= rate < 1:
        raise UsageError(
            f"A yearly discount rate of {rate:g} is not a fraction; for 10 % write 0.1."
        )


def checked_retention(retention: float | None) -> None:
    """Raise UsageError for a retention that is not a fraction below 1."""
    if retention == 1:
        raise UsageError(
            "A retention of 1 means that no customer ever leaves, so the lifespan is "
            "infinite; give one below 1."
        )
    if retention is not None and not 0 <= retention < 1:
        raise UsageError(f"A retention of {retention:g} is not a fraction; for 60 % write 0.6.")


def checked_horizon(horizon: int) -> None:
    """Raise UsageError for a horizon that is not a valid number of days."""
    if not 1 <= horizon <= 3650:
        raise UsageError(f"A horizon of {horizon} days cannot be forecast; give 1 to 3,650.")

"""Fit ladders to columns of customers as the scheme requires, for the three scores and for
tiers.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from fairladder import columns
from fairladder.conditions import Kind
from fairladder.errors import UsageError, nearest
from fairladder.frames import frame_kinds
from fairladder.ladder import GroupedLadder, Ladder, spend_ladder, top_ladder
from fairladder.ladder.ranks import Better
from fairladder.numbers import EXACT_DECIMALS, to_minor
from fairladder.scheme import Scheme, Tier

if TYPE_CHECKING:
    import pandas as pd


AnyLadder = Ladder | GroupedLadder

#: Score → its measure and which end of it is better, in the order of weights and of ``score_code``.
SCORES: Mapping[str, tuple[str, Better]] = {
    "recency_score": ("recency_days", "low"),
    "frequency_score": ("orders", "high"),
    "monetary_score": ("spend", "high"),
}


@dataclass(frozen=True)
class Fitting:
    """A measure of the customers with a purchase, and the function that fits its ladder."""

    values: NDArray[np.generic]
    fit: Callable[[Any], Ladder]
    within: str | None = None
    labels: NDArray[np.object_] | None = None
    """The customers' groups, if each group has its own ladder."""

    def on(self, rows: NDArray[np.int64] | slice) -> AnyLadder:
        """Fit the ladder to some of the customers."""
        if self.labels is None or self.within is None:
            return self.fit(self.values[rows])
        return GroupedLadder.fit(self.within, self.values[rows], self.labels[rows], self.fit)

    def placed(self, ladder: AnyLadder) -> NDArray[np.int64]:
        """Return the rung of every customer on a ladder, 0 for none."""
        if isinstance(ladder, GroupedLadder):
            assert self.labels is not None
            return ladder.place(self.values, self.labels)
        return ladder.place(self.values)


def fitting_of_score(bought: pd.DataFrame, measure: str, better: Better, scheme: Scheme) -> Fitting:
    """Return the values of a score's measure and the function that fits its ladder."""
    within, fit = scheme.scores.within, partial(score_ladder, better, scheme)
    labels = None if within is None else group_labels(bought, within)
    return Fitting(measure_values(bought, measure), fit, within, labels)


def score_ladder(better: Better, scheme: Scheme, values: Any, counts: Any = None) -> Ladder:
    """Fit a score's ladder to these values; with ``counts``, to distinct values with these
    frequencies.
    """
    scores = scheme.scores
    shares = scores.shares if scores.method == "even" else None
    return Ladder.fit(
        values,
        rungs=scores.rungs,
        method=scores.method,
        better=better,
        shares=shares,
        counts=counts,
    )


def check_tier(tier: Tier, kinds: Mapping[str, Kind]) -> None:
    """Raise UsageError if a tier takes shares of a column that has no total."""
    if tier.spend_percents is not None and (
        not columns.has_total(tier.of) or kinds.get(tier.of) == "day"
    ):
        raise UsageError(
            f"`spend_percents` needs a measure that adds up, such as spend or orders; `{tier.of}` "
            "does not."
        )


def tier_ladder(tier: Tier, values: Any, counts: Any = None) -> Ladder:
    """Fit a tier's ladder to these values; with ``counts``, to distinct values with these
    frequencies.
    """
    better = tier.better or columns.better(tier.of)
    if tier.top_percents is not None:
        return top_ladder(values, tier.top_percents, better=better, ties=tier.ties, counts=counts)
    if tier.spend_percents is not None:
        known = np.asarray(values, dtype=np.float64)
        whole = to_minor(known[~np.isnan(known)], EXACT_DECIMALS)
        return spend_ladder(
            whole, tier.spend_percents, better=better, unit=10**EXACT_DECIMALS, counts=counts
        )
    return Ladder.fit(
        values, rungs=tier.rungs or 0, better=better, shares=tier.shares, counts=counts
    )


def measure_values(customers: pd.DataFrame, measure: str) -> NDArray[np.generic]:
    """Return a column of numbers (floats, NaN for null; integers if none is null) or dates, shape
    (n,).

    Raises UsageError if the column does not exist, or has other values.
    """
    require_measure(customers, measure)
    column = customers[measure]
    if column.dtype.kind == "M":
        days: NDArray[np.generic] = column.to_numpy().astype("datetime64[D]")
        return days
    if column.dtype.kind in "iu" and not column.isna().any():
        whole: NDArray[np.generic] = column.to_numpy(dtype=np.int64)
        return whole
    numbers: NDArray[np.generic] = column.to_numpy(dtype=np.float64, na_value=np.nan)
    return numbers


def require_measure(customers: pd.DataFrame, measure: str) -> None:
    """Raise UsageError unless the customers have this column and it contains numbers or dates."""
    check_there(customers, measure=measure)
    if frame_kinds(customers[[measure]])[measure] not in ("number", "day"):
        raise UsageError(
            f"`{measure}` contains neither numbers nor dates, so no ladder can be fitted. "
            "Try spend, orders or first_order."
        )


def check_there(
    customers: pd.DataFrame | Mapping[str, Any],
    measure: str | None = None,
    group: str | None = None,
) -> None:
    """Raise UsageError if the customers have no column with that name."""
    carried = (
        " To group by a column of the orders, name it in `at_first` or `at_latest` (--at-first, "
        "--at-latest), which give "
        "`first_NAME` and `latest_NAME`."
    )
    for name, what, advice in ((measure, "measure", ""), (group, "group", carried)):
        if name is not None and name not in customers:
            near = nearest(name, map(str, customers))
            raise UsageError(
                f"There is no {what} `{name}` among the customers' columns. {near}{advice}"
            )


def group_labels(customers: pd.DataFrame, within: str) -> NDArray[np.object_]:
    """Return each customer's group as text, None for null; shape (n,)."""
    check_there(customers, group=within)
    column = customers[within]
    labels: NDArray[np.object_] = column.astype(str).to_numpy(dtype=object, copy=True)
    labels[column.isna().to_numpy(dtype=bool)] = None
    return labels


def scheme_of(customers: pd.DataFrame) -> Scheme:
    """Return the scheme of the orders that a frame of customers comes from.

    Raises UsageError for a frame without one, such as a merged one: otherwise the default rules
    would be used silently.
    """
    settings = customers.attrs.get(columns.SCHEME)
    if settings is None:
        raise UsageError(
            "This frame has lost the scheme of its orders, as happens when frames are "
            "merged or rebuilt. Pass it: scheme=orders.scheme, or scheme=fl.Scheme() for "
            "the default rules."
        )
    return Scheme.model_validate_json(settings)

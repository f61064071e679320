"""Fit tiers: ladders with unequal shares, by the number of better customers or by the share of the
total that they contribute.
"""

from collections.abc import Sequence
from fractions import Fraction
from itertools import pairwise
from math import inf
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fairladder.errors import UsageError
from fairladder.ladder.ladder import Ladder, as_numbers
from fairladder.ladder.ranks import Better

Ties = Literal["include", "exclude"]


def top_ladder(
    values: ArrayLike,
    percents: Sequence[Any],
    *,
    better: Better = "high",
    ties: Ties = "include",
    counts: ArrayLike | None = None,
) -> Ladder:
    """Fit a ladder whose highest rung contains the best p₁ percent, the next one those up to p₂,
    and the lowest one all others.

    A group of equal values belongs to the first p with customers strictly better < p % of n
    (``include``), or customers at least as good ≤ p % of n (``exclude``). Counts are compared as
    whole numbers. Four values, ``[50]``:

    | value | include | exclude |
    |------:|--------:|--------:|
    |     9 |       2 |       2 |
    |     7 |       2 |       1 |
    |     7 |       2 |       1 |
    |     4 |       1 |       1 |

    ``values`` has shape (n,): numbers or dates; nulls do not count. With ``counts``, values are
    distinct and rising, and ``counts`` are their frequencies. Raises UsageError for percentages
    that do not rise between 0 and 100.
    """
    wanted = _checked(percents)
    numbers, days = _known(values)
    distinct, held = _distinct(numbers, counts)
    above = _above(held, better)
    n = int(held.sum())
    tier = np.zeros(len(distinct), dtype=np.int64)
    for p in wanted:
        # above·100 < p·n, and for `exclude` (above + equal)·100 ≤ p·n, with p a fraction
        left = (above if ties == "include" else above + held) * (100 * p.denominator)
        right = p.numerator * n
        tier += left >= right if ties == "include" else left > right
    rungs = len(wanted) + 1
    return _ladder_of(distinct, held, rungs - tier, rungs, better, "top", days, _shares(wanted))


def spend_ladder(
    values: ArrayLike,
    percents: Sequence[Any],
    *,
    better: Better = "high",
    unit: int = 1,
    counts: ArrayLike | None = None,
) -> Ladder:
    """Fit a ladder whose highest rung contains the customers who contribute the first p₁ percent of
    the positive total, and so on.

    A group of equal values belongs to the first p with the total of strictly better values < p % of
    the positive total. ``values`` has shape (n,): whole numbers with ``unit`` of them per major
    unit, so that sums are exact. With ``counts``, values are distinct and rising. Without a
    positive total all customers get the lowest rung.
    """
    wanted = _checked(percents)
    whole, occur = _distinct(np.asarray(values, dtype=np.int64), counts)
    held = _above(np.where(whole > 0, whole, 0) * occur, better)
    total = int((np.where(whole > 0, whole, 0) * occur).sum())
    tier = np.zeros(len(whole), dtype=np.int64)
    for p in wanted:
        least = -(
            -p.numerator * total // (100 * p.denominator)
        )  # a sum ≥ this is no longer under p %
        tier += held >= least
    distinct = whole / unit if unit != 1 else whole
    rungs = len(wanted) + 1
    return _ladder_of(distinct, occur, rungs - tier, rungs, better, "spend", False, None)


def _checked(percents: Sequence[Any]) -> list[Fraction]:
    wanted = [Fraction(str(p)) for p in percents]
    if not wanted or wanted != sorted(set(wanted)) or not wanted[0] > 0 or not wanted[-1] < 100:
        raise UsageError(
            f"Percents of tiers must rise, between 0 and 100, and these do not: {list(percents)!r}."
        )
    return wanted


def _known(values: ArrayLike) -> tuple[NDArray[Any], bool]:
    numbers, days = as_numbers(values)
    return (numbers[~np.isnan(numbers)] if numbers.dtype.kind == "f" else numbers), days


def _distinct(
    values: NDArray[Any], counts: ArrayLike | None
) -> tuple[NDArray[Any], NDArray[np.int64]]:
    """Return the distinct values in rising order and their counts."""
    if counts is not None:
        return values, np.asarray(counts, dtype=np.int64)
    distinct, held = np.unique(values, return_counts=True)
    return distinct, held


def _above(amounts: NDArray[np.int64], better: Better) -> NDArray[np.int64]:
    """Return, for each distinct value in rising order, the sum over strictly better values."""
    running = np.cumsum(amounts)
    above: NDArray[np.int64] = running[-1:] - running if better == "high" else running - amounts
    return above


def _shares(wanted: list[Fraction]) -> tuple[Fraction, ...]:
    """Return the share of each rung, worst first."""
    edges = [Fraction(0), *wanted, Fraction(100)]
    return tuple((b - a) / 100 for a, b in pairwise(edges))[::-1]


def _ladder_of(
    distinct: NDArray[Any],
    counts: NDArray[np.int64],
    rung: NDArray[np.int64],
    rungs: int,
    better: Better,
    method: str,
    days: bool,
    shares: tuple[Fraction, ...] | None,
) -> Ladder:
    """Return the ladder that puts each distinct value (ascending, shape (d,)) on its given rung."""
    place = rung if better == "high" else rungs + 1 - rung
    cuts = []
    for j in range(1, rungs):
        last = int(np.searchsorted(place, j, side="right")) - 1
        cuts.append(inf if last == len(place) - 1 else distinct[last].item() if last >= 0 else -inf)
    sizes = (
        np.bincount(rung, weights=counts, minlength=rungs + 1)[1:] if len(rung) else np.zeros(rungs)
    )
    ends = (distinct[0].item(), distinct[-1].item()) if len(distinct) else None
    return Ladder(tuple(cuts), better, method, tuple(int(s) for s in sizes), shares, days, ends)

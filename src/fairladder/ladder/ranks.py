"""Where a value stands among all: percentile and percent rank, equal values alike."""

from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fairladder.numbers import ratio, standing

Better = Literal["high", "low"]


def percentile(values: ArrayLike, better: Better = "high") -> NDArray[np.float64]:
    """100·(count worse + ½·count equal) ÷ n, in percent; between 0 and 100, never at the ends.

    | value | percentile |
    |------:|-----------:|
    |     1 |       16.7 |
    |     5 |       66.7 |
    |     5 |       66.7 |

    NaN gets NaN and does not count; a single value stands at 50.
    """
    worse, equal, n, known = _counts(values, better)
    out = np.full(len(known), np.nan)
    out[known] = ratio(200 * worse + 100 * equal, 2 * n)
    return out


def percent_rank(values: ArrayLike, better: Better = "high") -> NDArray[np.float64]:
    """Count worse ÷ (n − 1): 0 for the worst, 1 for a single best; 0 where n = 1. NaN gets NaN."""
    worse, _, n, known = _counts(values, better)
    out = np.full(len(known), np.nan)
    out[known] = ratio(worse, n - 1) if n > 1 else 0.0
    return out


def _counts(
    values: ArrayLike, better: Better
) -> tuple[NDArray[Any], NDArray[Any], int, NDArray[np.bool_]]:
    """For the values that are known: how many are worse, how many equal; and how many, and
    which, are known.
    """
    given = np.asarray(values, dtype=np.float64)
    known = ~np.isnan(given)
    below, at_most = standing(given[known])
    n = len(below)
    return below if better == "high" else n - at_most, at_most - below, n, known


def ties_at_cuts(values: ArrayLike, rungs: int, counts: ArrayLike | None = None) -> int:
    """How many would be parted from an equal by cutting ranks, in row order, into ``rungs`` equal
    counts.

    For each cut that falls inside a run of equal values the members of the run on its smaller
    side; added up. Earlier parts are the larger ones where the count does not divide, as with
    ranks numbered off. ``counts`` say how often each value occurs, where they rise and stand once
    each.
    """
    if counts is None:
        _, counts = np.unique(np.asarray(values, dtype=np.float64), return_counts=True)
    ends = np.cumsum(np.asarray(counts, dtype=np.int64))
    parted = 0
    for at in even_ranks(int(ends[-1]) if len(ends) else 0, rungs):
        run = int(np.searchsorted(ends, at))
        start, end = int(ends[run - 1]) if run else 0, int(ends[run])
        parted += min(at - start, end - at)
    return parted


def even_ranks(n: int, rungs: int) -> list[int]:
    """How many of ``n`` ranks stand before each cut into ``rungs`` equal counts, the larger
    first; cuts that part nobody are left out.
    """
    places = (j * (n // rungs) + min(j, n % rungs) for j in range(1, rungs))
    return [at for at in places if 0 < at < n]

"""Rank values by percentile and percent rank; equal values get equal ranks."""

from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fairladder.numbers import ratio, standing

Better = Literal["high", "low"]


def percentile(values: ArrayLike, better: Better = "high") -> NDArray[np.float64]:
    """Return 100·(count worse + ½·count equal) ÷ n, in percent; always strictly between 0 and 100.

    | value | percentile |
    |------:|-----------:|
    |     1 |       16.7 |
    |     5 |       66.7 |
    |     5 |       66.7 |

    NaN gets NaN and does not count; a single value gets 50.
    """
    worse, equal, n, known = _counts(values, better)
    out = np.full(len(known), np.nan)
    out[known] = ratio(200 * worse + 100 * equal, 2 * n)
    return out


def percent_rank(values: ArrayLike, better: Better = "high") -> NDArray[np.float64]:
    """Return count worse ÷ (n − 1): 0 for the worst, 1 for a single best; 0 if n = 1. NaN gets
    NaN.
    """
    worse, _, n, known = _counts(values, better)
    out = np.full(len(known), np.nan)
    out[known] = ratio(worse, n - 1) if n > 1 else 0.0
    return out


def _counts(
    values: ArrayLike, better: Better
) -> tuple[NDArray[Any], NDArray[Any], int, NDArray[np.bool_]]:
    """Return, for the known values, how many are worse and how many equal; then how many values are
    known, and their mask.
    """
    given = np.asarray(values, dtype=np.float64)
    known = ~np.isnan(given)
    below, at_most = standing(given[known])
    n = len(below)
    return below if better == "high" else n - at_most, at_most - below, n, known


def ties_at_cuts(values: ArrayLike, rungs: int, counts: ArrayLike | None = None) -> int:
    """Count the values that would be separated from an equal one by cutting ranks, in row order,
    into ``rungs`` equal counts.

    For each cut inside a run of equal values, the smaller side of the run counts. If the count does
    not divide evenly, earlier parts are larger. ``counts`` are the frequencies of distinct sorted
    values.
    """
    if counts is None:
        _, counts = np.unique(np.asarray(values, dtype=np.float64), return_counts=True)
    ends = np.cumsum(np.asarray(counts, dtype=np.int64))
    split = 0
    for at in even_ranks(int(ends[-1]) if len(ends) else 0, rungs):
        run = int(np.searchsorted(ends, at))
        start, end = int(ends[run - 1]) if run else 0, int(ends[run])
        split += min(at - start, end - at)
    return split


def even_ranks(n: int, rungs: int) -> list[int]:
    """Return how many of ``n`` ranks come before each cut into ``rungs`` equal counts, larger parts
    first. Cuts that separate no ranks are omitted.
    """
    places = (j * (n // rungs) + min(j, n % rungs) for j in range(1, rungs))
    return [at for at in places if 0 < at < n]

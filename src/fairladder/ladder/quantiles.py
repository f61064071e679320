"""Compute cuts at percentiles of sorted values, with positions in whole-number arithmetic."""

from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Runs:
    """Distinct sorted values that behave like the full list with repeats; ``ends`` are the
    cumulative counts.
    """

    values: NDArray[Any]
    ends: NDArray[np.int64]

    def __len__(self) -> int:
        return int(self.ends[-1])

    def __getitem__(self, at: int) -> Any:
        return self.values[np.searchsorted(self.ends, at % len(self), side="right")]


def inclusive_cuts(ascending: NDArray[Any] | Runs, rungs: int) -> list[Any]:
    """Return cuts at the percentiles j/K, j = 1..K−1, by linear interpolation on n − 1.

    Type 7 of Hyndman & Fan, "Sample quantiles in statistical packages", The American Statistician
    50 (1996), which spreadsheets call inclusive. ``ascending`` has shape (n,), n ≥ 1, sorted;
    values keep their unit.
    """
    cuts = []
    for j in range(1, rungs):
        at, rest = divmod((len(ascending) - 1) * j, rungs)
        cuts.append(_between(ascending, at, Fraction(rest, rungs)))
    return cuts


def exclusive_cuts(ascending: NDArray[Any] | Runs, rungs: int) -> list[Any]:
    """Return cuts at the percentiles j/K by linear interpolation on n + 1, clamped to the smallest
    and largest value.

    Type 6 of Hyndman & Fan (1996), which spreadsheets call exclusive. ``ascending`` as for
    ``inclusive_cuts``.
    """
    cuts = []
    for j in range(1, rungs):
        at, rest = divmod((len(ascending) + 1) * j, rungs)
        if at < 1:
            cuts.append(ascending[0].item())
        elif at >= len(ascending):
            cuts.append(ascending[-1].item())
        else:
            cuts.append(_between(ascending, at - 1, Fraction(rest, rungs)))
    return cuts


def inverse_cuts(ascending: NDArray[Any] | Runs, rungs: int) -> list[Any]:
    """Return cuts at the smallest values such that at least j/K of all values are not above them:
    the inverse of the empirical distribution.

    Type 1 of Hyndman & Fan (1996); cuts are values that occur. ``ascending`` as for
    ``inclusive_cuts``.
    """
    return [ascending[-(-len(ascending) * j // rungs) - 1].item() for j in range(1, rungs)]


def _between(ascending: NDArray[Any] | Runs, at: int, part: Fraction) -> Any:
    """Interpolate between two positions with the values' decimal texts, rounding once."""
    low = ascending[at].item()
    high = ascending[min(at + 1, len(ascending) - 1)].item()
    if not part or low == high:
        return low
    exact = Fraction(repr(low)) + part * (Fraction(repr(high)) - Fraction(repr(low)))
    return float(exact)

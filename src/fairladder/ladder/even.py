"""The most even ladder that keeps equal values together, exact at any size.

Among all partitions of the distinct values (worst first, with their counts) into K non-empty
rungs, find the one whose sizes n_k minimise Σ (n_k − n·p_k)². Among equals, take the one whose
worst rung is smallest, then the next worst, and so on.

Method
------
With p_k = a_k / q all deviations are whole numbers d_k = q·n_k − n·a_k, and so are their squares.

1. A greedy partition (each cut at the possible place nearest to its target) costs G, so the best
   costs at most G.
2. In a partition of cost C the sizes of the first k rungs deviate by e = d_1 + … + d_k and those
   of the others by −e, since all d_k add up to 0. By Cauchy's inequality
   C ≥ e²/k + e²/(K − k). So in a best partition |e| ≤ √(G·k·(K − k)/K): only values in that
   window can be the k-th cut. Without heavy ties it contains about K/2 values for any n.
3. If one value is so frequent that windows stay wide, values at which no best partition cuts are
   dropped first. Let u_k be the distance of the k-th cut from that of the best partition known,
   whose deviations are d*_k. Then the cost changes by exactly
   Σ (u_k − u_(k−1))² + 2·Σ u_k·(d*_k − d*_(k+1)). Windows are split into cells. Over a cell every
   term has a minimum, and a shortest path of these minima from both ends bounds the gain of any
   partition through the cell. Cells that can only lose are dropped, the others split further,
   until few values are left.
4. A shortest path over the remaining values, from the last cut backwards, gives the least cost
   from each cut on. Walking forwards and taking the earliest cut of least cost gives the
   partition with the smallest worst rungs. This last step uses whole numbers only, and cells with
   a bound of 0 are kept, so that no best partition is lost before it.
"""

from itertools import pairwise
from math import isqrt
from typing import Any

import numpy as np
from numpy.typing import NDArray

Indices = NDArray[np.int64]
Cells = tuple[Indices, Indices]
#: Up to this many values all candidates of a window are searched; with more, cells are dropped
#: first.
SEARCH_WHOLE = 512
_AT_ONCE = 1 << 20


def places_for_cuts(ascending: NDArray[Any], parts: tuple[int, ...]) -> Indices:
    """Return the places 0 < i < n of sorted values, with 0 and n, at which a best partition may
    cut: between unequal neighbours.

    Only the windows described above are searched if they are narrow, so most values are never
    compared with their neighbours. A partition of the runs between these places is best among them
    exactly if it is best overall. Needs at least K distinct values.
    """
    n, q, k = len(ascending), sum(parts), len(parts)
    targets = [n * sum(parts[:j]) for j in range(1, k)]
    ends = _near(ascending, targets, q)
    spans = [(1, n)]
    if ends is not None:
        sizes = np.diff([0, *ends, n]).tolist()
        cost = sum((q * size - n * part) ** 2 for size, part in zip(sizes, parts, strict=True))
        reaches = [isqrt(cost * j * (k - j) // k) + 1 for j in range(1, k)]
        near = [
            (max((t - r) // q, 1), min(-(-(t + r) // q) + 1, n))
            for t, r in zip(targets, reaches, strict=True)
        ]
        near.sort()
        spans = near[:1]
        for lo, hi in near[1:]:  # merge overlapping windows
            if lo <= spans[-1][1]:
                spans[-1] = (spans[-1][0], max(hi, spans[-1][1]))
            else:
                spans.append((lo, hi))
    places = [
        lo + np.flatnonzero(ascending[lo:hi] != ascending[lo - 1 : hi - 1]) for lo, hi in spans
    ]
    return np.concatenate([[0], *places, [n]])


def _near(ascending: NDArray[Any], targets: list[int], q: int) -> list[int] | None:
    """Return, for each target, the nearest place between unequal values after the previous one;
    None if there are not enough.
    """
    ends, last, n = [], 0, len(ascending)
    for target in targets:
        value = ascending[min(target // q, n - 1)]
        sides = [int(np.searchsorted(ascending, value, side=side)) for side in ("left", "right")]
        after = int(np.searchsorted(ascending, ascending[last], side="right"))
        last = max(min(sides, key=lambda place: abs(q * place - target)), after)
        if last >= n:
            return None
        ends.append(last)
    return ends


def even_partition(sums: Indices, parts: tuple[int, ...]) -> list[int]:
    """Return the ends of the K rungs: the k-th rung has the distinct values ends[k-1] ≤ i <
    ends[k], with ends[-1] = D.

    ``sums`` has shape (D + 1,): the cumulative counts before each distinct value, worst first, then
    the total; it starts at 0. ``parts`` are the K wanted sizes as proportional whole numbers (all 1
    for equal rungs). Needs K ≤ D.
    """
    problem = _Problem(sums, parts)
    best = problem.greedy()
    windows = problem.windows(problem.cost(best))
    if all(hi - lo <= SEARCH_WHOLE for lo, hi in windows):
        candidates = [np.arange(lo, hi) for lo, hi in windows]
    else:
        best, candidates = problem.narrowed(windows, best)
    return problem.best_path(candidates, problem.cost(best))


class _Problem:
    """Prefix sums S (the count before each distinct value) and the wanted sizes, in units of
    1/q.
    """

    def __init__(self, sums: Indices, parts: tuple[int, ...]) -> None:
        self.sums, self.q, self.k, self.d = sums, sum(parts), len(parts), len(sums) - 1
        n = int(sums[-1])
        self.aims = [n * part for part in parts]
        self.targets = [sum(self.aims[:k]) for k in range(1, self.k)]

    def deviations(self, ends: list[int]) -> list[int]:
        """Return d_k for the cuts after ``ends`` (K − 1 of them)."""
        at = [int(self.sums[end]) for end in (0, *ends, self.d)]
        return [self.q * (b - a) - aim for (a, b), aim in zip(pairwise(at), self.aims, strict=True)]

    def cost(self, ends: list[int]) -> int:
        return sum(d * d for d in self.deviations(ends))

    def greedy(self) -> list[int]:
        ends, last = [], 0
        for k, target in enumerate(self.targets, start=1):
            i = int(np.searchsorted(self.sums, -(-target // self.q)))
            nearest = min(
                (abs(self.q * int(self.sums[j]) - target), j)
                for j in (max(i - 1, 0), min(i, self.d))
            )[1]
            last = min(max(nearest, last + 1), self.d - self.k + k)
            ends.append(last)
        return ends

    def windows(self, cost: int) -> list[tuple[int, int]]:
        """Return half-open index ranges that contain the cuts of any partition of at most this
        cost.
        """
        spans_there = []
        for k, target in enumerate(self.targets, start=1):
            reach = isqrt(cost * k * (self.k - k) // self.k) + 1
            lo = int(np.searchsorted(self.sums, -((reach - target) // self.q), side="left"))
            hi = int(np.searchsorted(self.sums, (target + reach) // self.q, side="right"))
            spans_there.append((max(lo, k), min(hi, self.d - self.k + k + 1)))
        return spans_there

    # cells

    def narrowed(
        self, windows: list[tuple[int, int]], best: list[int]
    ) -> tuple[list[int], list[Indices]]:
        """Return a better partition, and for each cut the values that may be its place in a best
        one.
        """
        cells = [
            _split((np.array([lo]), np.array([hi - 1])), self.sums, SEARCH_WHOLE // 2)
            for lo, hi in windows
        ]
        while True:
            # Any partition over the cells' ends is a valid one, and usually better than the last.
            ends = [
                np.unique(np.append(last, mine))
                for (_, last), mine in zip(cells, best, strict=True)
            ]
            if max(map(len, ends)) <= 4 * SEARCH_WHOLE:
                best = self.best_path(ends, self.cost(best))[:-1]
            cells = self._may_gain(cells, best)
            if all((first == last).all() for first, last in cells):
                return best, [first for first, _ in cells]
            cells = [_split(cell, self.sums, 4) for cell in cells]

    def _may_gain(self, cells: list[Cells], best: list[int]) -> list[Cells]:
        """Return the cells for which the lower bound of the change of cost is at most 0."""
        off = self.deviations(best)
        away, slopes = [], []
        for k, (first, last) in enumerate(cells):
            here = self.sums[best[k]]
            away.append(
                tuple(
                    self.q * (self.sums[side] - here).astype(np.float64) for side in (first, last)
                )
            )
            slopes.append(2.0 * (off[k] - off[k + 1]))
        least = [
            np.minimum(slope * low, slope * high)
            for slope, (low, high) in zip(slopes, away, strict=True)
        ]
        # Floats are precise enough for a bound if their rounding error is allowed for.
        biggest = max(float(np.abs(x).max()) for pair in away for x in pair)
        slack = 1e-12 * self.k * (biggest**2 + biggest * max(map(abs, slopes)))
        ends: list[Any] = [(np.zeros(1), np.zeros(1)), *away, (np.zeros(1), np.zeros(1))]
        places: list[Any] = [(np.array([0]),) * 2, *cells, (np.array([self.d]),) * 2]
        ahead, behind = [np.zeros(1)], [np.zeros(1)]
        for k in range(1, self.k):
            step = _cheapest(ahead[-1], ends[k - 1], ends[k], places[k - 1], places[k])
            ahead.append(step + least[k - 1])
        for k in reversed(range(1, self.k)):
            back_known = behind[0] + (least[k] if k < self.k - 1 else 0.0)
            behind.insert(
                0, _cheapest_back(back_known, ends[k], ends[k + 1], places[k], places[k + 1])
            )
        kept = []
        for k, (first, last) in enumerate(cells, start=1):
            good = ahead[k] + behind[k - 1] <= slack
            kept.append((first[good], last[good]))
        return kept

    def best_path(self, candidates: list[Indices], cost: int) -> list[int]:
        """Return the best partition with its k-th cut among ``candidates[k-1]``; ties go to the
        earliest cuts.

        ``cost`` is that of a partition over these candidates. Costs above it need not be
        distinguished.
        """
        most = isqrt(cost) + 1
        kind: Any = (
            np.int64 if most * most < 2**61 else object
        )  # above 64 bits, use Python's integers
        stages = [np.array([0]), *candidates, np.array([self.d])]
        behind = [np.zeros(1, dtype=kind)]
        for k in reversed(range(1, self.k)):
            behind.insert(
                0, self._least_onward(stages[k], stages[k + 1], behind[0], self.aims[k], most)
            )
        ends = [0]
        for k in range(self.k):
            row = self._onward(np.array(ends[-1:]), stages[k + 1], behind[k], self.aims[k], most)[0]
            ends.append(int(stages[k + 1][int(np.argmin(row))]))
        return ends[1:]

    def _least_onward(
        self, here: Indices, there: Indices, known: NDArray[Any], aim: int, most: int
    ) -> NDArray[Any]:
        step = max(1, _AT_ONCE // len(there))
        parts = [
            self._onward(here[i : i + step], there, known, aim, most).min(axis=1)
            for i in range(0, len(here), step)
        ]
        return np.concatenate(parts)

    def _onward(
        self, here: Indices, there: Indices, known: NDArray[Any], aim: int, most: int
    ) -> NDArray[Any]:
        """Return the cost from each cut ``here`` through each next cut ``there`` to the end, at
        most ``most``².
        """
        size = self.sums[there][None, :] - self.sums[here][:, None]
        off = np.clip(self.q * size - aim, -most, most).astype(known.dtype)
        total = np.minimum(off * off + known[None, :], most * most)
        return np.where(here[:, None] < there[None, :], total, most * most)


def _cheapest(
    known: NDArray[Any], left: Any, right: Any, left_at: Any, right_at: Any
) -> NDArray[Any]:
    """Return, for each right cell, the least ``known`` of a left cell plus the least (u_right −
    u_left)².
    """
    out = np.empty(len(right[0]))
    step = max(1, _AT_ONCE // len(known))
    for i in range(0, len(out), step):
        rows = slice(i, i + step)
        short = right[0][rows, None] - left[1][None, :]
        long = right[1][rows, None] - left[0][None, :]
        gap = np.maximum(np.maximum(short, -long), 0.0)
        possible = left_at[0][None, :] < right_at[1][rows, None]
        out[rows] = np.where(possible, gap * gap + known[None, :], np.inf).min(axis=1)
    return out


def _cheapest_back(
    known: NDArray[Any], left: Any, right: Any, left_at: Any, right_at: Any
) -> NDArray[Any]:
    """Return what ``_cheapest`` returns, for each left cell over the right cells."""
    mirrored = [(-high, -low) for low, high in (right, left)]
    places = [(-high, -low) for low, high in (right_at, left_at)]
    return _cheapest(known, mirrored[0], mirrored[1], places[0], places[1])


def _split(cell: Cells, sums: Indices, pieces: int) -> Cells:
    """Split each cell first..last (inclusive) into up to ``pieces`` cells with about equal counts.

    Splitting by count, not by number of values, soon isolates the gap that a heavy value leaves.
    """
    first, last = cell
    low, held = sums[first], sums[last] - sums[first]
    marks = low[:, None] + -(-held[:, None] * np.arange(1, pieces) // pieces)
    inner = np.clip(np.searchsorted(sums, marks), first[:, None], last[:, None] + 1)
    starts = np.concatenate([first[:, None], inner], axis=1).ravel()
    ends = np.concatenate([inner - 1, last[:, None]], axis=1).ravel()
    filled = starts <= ends
    return starts[filled], ends[filled]

"""Measure how far a population has moved on a ladder since the ladder was fitted."""

from collections.abc import Sequence
from math import log

#: Below the first limit the population has hardly changed; from the second on the ladder should be
#: fitted again.
STEADY, MOVED = 0.1, 0.25


def drift_index(then: Sequence[int], now: Sequence[int]) -> float:
    """Return the population stability index Σ (q − p)·ln(q ÷ p) over rungs, with p and q the shares
    then and now.

    A rung that is empty in one population counts as half a member there, so that the index stays
    finite. It is twice the symmetrised divergence of Kullback and Leibler, "On information and
    sufficiency", Annals of Mathematical Statistics 22 (1951). NaN if one population is empty.
    """
    if not sum(then) or not sum(now):
        return float("nan")
    p, q = ([max(n, 0.5) / sum(counts) for n in counts] for counts in (then, now))
    return sum((b - a) * log(b / a) for a, b in zip(p, q, strict=True))


def verdict(index: float) -> str:
    """Describe an index in the usual words."""
    if index != index:
        return "no customers to compare"
    return "steady" if index < STEADY else "moved somewhat" if index < MOVED else "moved: fit again"

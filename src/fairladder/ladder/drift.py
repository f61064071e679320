"""Measure how far a population has moved on a ladder since the ladder was fitted."""

from collections.abc import Sequence
from math import log

#: Below the first limit the population has hardly changed; from the second on the ladder should be
#: fitted again.
STEADY_BELOW, MOVED_FROM = 0.1, 0.25
STEADY, UNCERTAIN, MOVED = "steady", "too few customers to tell", "moved: fit again"


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


def chance_index(then: Sequence[int], now: Sequence[int]) -> float:
    """Return the index that two samples of one population, as large as these, exceed in one case
    of twenty.

    Without drift the index ÷ (1/n₁ + 1/n₂) follows the χ² distribution with one degree of freedom
    fewer than rungs (S. Kullback, "Information theory and statistics", 1959, section 6.5). Its
    quantile is computed as by E. B. Wilson and M. M. Hilferty, "The distribution of chi-square",
    Proceedings of the National Academy of Sciences 17 (1931).
    """
    free = sum(1 for a, b in zip(then, now, strict=True) if a or b) - 1
    if free < 1 or not sum(then) or not sum(now):
        return 0.0
    spread = 2 / (9 * free)
    return float(free * (1 - spread + 1.645 * spread**0.5) ** 3) * (1 / sum(then) + 1 / sum(now))


def verdict(then: Sequence[int], now: Sequence[int]) -> str:
    """Judge the drift from the members per rung: an index that chance explains is
    ``UNCERTAIN``, unless it is small enough to be ``STEADY``.
    """
    index = drift_index(then, now)
    if index != index:
        return "no customers to compare"
    if index < STEADY_BELOW:
        return STEADY
    if index <= chance_index(then, now):
        return UNCERTAIN
    return "moved somewhat" if index < MOVED_FROM else MOVED

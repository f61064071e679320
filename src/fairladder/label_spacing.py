"""Spread out labels that would otherwise overlap."""

from collections.abc import Sequence


def spread(places: Sequence[float], gap: float, top: float, bottom: float) -> list[float]:
    """Return the places moved so that neighbours are at least ``gap`` from each other, in the
    same order and within the bounds where there is room.
    """
    order = sorted(range(len(places)), key=lambda i: places[i])
    moved = list(places)
    last = top - gap
    for i in order:
        moved[i] = last = max(moved[i], last + gap)
    last = bottom + gap
    for i in reversed(order):
        moved[i] = last = min(moved[i], last - gap)
    return moved

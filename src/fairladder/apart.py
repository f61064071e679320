"""Spread out labels that would otherwise overlap."""

from collections.abc import Sequence


def spread(places: Sequence[float], apart: float, top: float, bottom: float) -> list[float]:
    """Return the places moved so that neighbours are at least ``apart`` from each other, in the
    same order and within the bounds where there is room.
    """
    order = sorted(range(len(places)), key=lambda i: places[i])
    moved = list(places)
    last = top - apart
    for i in order:
        moved[i] = last = max(moved[i], last + apart)
    last = bottom + apart
    for i in reversed(order):
        moved[i] = last = min(moved[i], last - apart)
    return moved

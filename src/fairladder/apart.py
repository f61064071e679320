"""Labels beside each other that do not cover each other."""

from collections.abc import Sequence


def spread(places: Sequence[float], apart: float, top: float, bottom: float) -> list[float]:
    """Places moved so that none is nearer than ``apart`` to another, in their order, within
    the bounds as far as they allow.
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

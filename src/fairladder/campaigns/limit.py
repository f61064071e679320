"""The limit of a list: people with equal values are in or out together. Pure NumPy."""

from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from fairladder.wording import counted, money


def places_of(budget: int | float, cost: int | float) -> int:
    """How many contacts the budget pays for, never more: ⌊budget ÷ cost⌋ of the decimals as
    written.
    """
    return int(Fraction(str(budget)) / Fraction(str(cost)))


def pays_down_to(worth: NDArray[np.float64], cost: float) -> tuple[int, float]:
    """How many of a list, in its order, each bring more than they cost, and what they bring; both
    0 where nobody does.

    The list stops at the first whose contact costs more than it brings.
    """
    pays = worth > cost
    count = int(len(pays) if pays.all() else np.argmin(pays))
    return count, float(worth[:count].sum())


def paid_in_words(count: int, brought: float, of: int, cost: float) -> str:
    """What ``pays_down_to`` says, in a sentence."""
    if not count:
        return f"At {money(cost, 2)} a contact already the first of the list costs more than it is expected to bring back."
    last = (
        "all of them pay"
        if count == of
        else f"it pays down to rank {count:,}, and from there a contact costs more than it brings"
    )
    paid = f"these are expected to bring {money(brought)} for {money(count * cost)}"
    return f"At {money(cost, 2)} for each of {counted(of, 'contacts')}: {last}; {paid}."

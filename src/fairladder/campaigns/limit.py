"""Apply the limit of a list; customers with equal values are all included or all excluded. Pure
NumPy.
"""

from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from fairladder.wording import counted, money


def places_of(budget: int | float, cost: int | float) -> int:
    """Return how many contacts the budget pays for: ⌊budget ÷ cost⌋ of the decimals as written."""
    return int(Fraction(str(budget)) / Fraction(str(cost)))


def pays_down_to(worth: NDArray[np.float64], cost: float) -> tuple[int, float]:
    """Return how many customers, from the top of the list, each return more than they cost, and
    their total return; both 0 if none does.

    Counting stops at the first customer whose contact costs more than it returns.
    """
    pays = worth > cost
    count = int(len(pays) if pays.all() else np.argmin(pays))
    return count, float(worth[:count].sum())


def paid_in_words(count: int, returned: float, of: int, cost: float) -> str:
    """Return the result of ``pays_down_to`` in a sentence."""
    if not count:
        return (
            f"At {money(cost, 2)} per contact, even the first customer on the list costs more "
            "than the expected return."
        )
    last = (
        "all contacts pay off"
        if count == of
        else f"contacts pay off down to rank {count:,}; after that each costs more than it returns"
    )
    paid = f"expected return {money(returned)} for a cost of {money(count * cost)}"
    return f"At {money(cost, 2)} for each of {counted(of, 'contacts')}: {last}; {paid}."

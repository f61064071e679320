"""The limit of a list: people with equal values are in or out together. Pure NumPy."""

from fractions import Fraction
from typing import Literal

import numpy as np
from numpy.typing import NDArray


def within_limit(rank: NDArray[np.int64], places: int, ties: Literal["include", "exclude"]) -> NDArray[np.bool_]:
    """Who is within ``places`` by rank. Those tied at the limit are all in (``include``) or all out (``exclude``).

    | rank | include 2 | exclude 2 |
    |-----:|-----------|-----------|
    |    1 | in        | in        |
    |    2 | in        |           |
    |    2 | in        |           |
    """
    if ties == "include":
        return np.asarray(rank <= places)
    order = np.sort(rank)
    at_least_as_good = np.searchsorted(order, rank, side="right")
    return np.asarray(at_least_as_good <= places)


def places_of(budget: int | float, cost: int | float) -> int:
    """How many contacts the budget pays for, never more: ⌊budget ÷ cost⌋ of the decimals as written."""
    return int(Fraction(str(budget)) / Fraction(str(cost)))

"""Exact arithmetic: whole minor units of money and correctly rounded ratios.

A binary float is taken as its shortest decimal text: 1.005 is 1.005, and rounds to 1.01.
"""

from fractions import Fraction
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

#: Up to this whole number floats are exact, so dividing two of them rounds once.
EXACT = 2**53
#: Money has at most this many decimals, so whole units of 10^-4 represent any amount exactly and
#: sums do not depend on the order of rows.
EXACT_DECIMALS = 4
#: Amounts and totals above this many minor units would lose digits as a float or its text.
MOST_MINOR_UNITS = 10**15


def half_away(value: Fraction) -> int:
    """Return the nearest whole number, rounding halves away from zero."""
    whole = int(abs(value) + Fraction(1, 2))
    return whole if value >= 0 else -whole


def half_away_decimals(value: float, digits: int) -> Fraction:
    """Round a number to ``digits`` decimals; halves of its shortest decimal text go away from
    zero.
    """
    return Fraction(half_away(Fraction(repr(value)) * 10**digits), 10**digits)


#: Units of a discount: 0 to 1, 0 to 100, or money off the whole line.
DiscountUnit = Literal["fraction", "percent", "amount"]


def exact_minor(
    decimals: int, unit: DiscountUnit, factors: tuple[str | None, ...], discount: str | None
) -> int | None:
    """Return the product of decimal texts × (1 − discount) in minor units, rounded once; None if it
    is not a usable number.

    A discount in ``percent``, or with a trailing ``%``, is divided by 100. A discount as ``amount``
    is subtracted from price × quantity (the first two factors) before an exchange rate applies.
    Returns None above 10^15 minor units in size.
    """
    try:
        product = Fraction(10**decimals)
        for text in factors:
            product *= Fraction(text)  # type: ignore[arg-type]  # None raises TypeError, caught below
        if discount is not None and unit == "amount":
            off = Fraction(discount) * 10**decimals
            for text in factors[2:]:
                off *= Fraction(text)  # type: ignore[arg-type]
            product -= off
        elif discount is not None:
            hundredths = unit == "percent" or discount.endswith("%")
            product *= 1 - Fraction(discount.rstrip("%")) / (100 if hundredths else 1)
    except (TypeError, ValueError, ZeroDivisionError):
        return None
    return half_away(product) if abs(product) <= MOST_MINOR_UNITS else None


def to_minor(values: ArrayLike, decimals: int) -> NDArray[np.int64]:
    """Convert floats in major units to whole minor units; halves of the shortest decimal text round
    away from zero. Nulls are not allowed.
    """
    floats = np.asarray(values, dtype=np.float64)
    sizes, unit = np.abs(floats), 10.0**decimals
    below = np.floor(sizes * unit)
    # Below 10^11 a half has at most 13 digits, so only one float represents it and comparing floats
    # is exact.
    below -= below / unit > sizes
    rounded = below + (sizes >= (2 * below + 1) / (2 * unit))
    minor: NDArray[np.int64] = np.copysign(rounded, floats).astype(np.int64)
    for i in np.flatnonzero(sizes * unit > 1e11):
        minor[i] = half_away(Fraction(repr(float(floats[i]))) * 10**decimals)
    return minor


def standing(values: NDArray[Any]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return, for each value, how many are smaller and how many are smaller or equal. Shape (n,);
    no nulls.
    """
    order = np.argsort(values)
    ascending = values[order]
    starts = (
        np.flatnonzero(np.concatenate([[True], ascending[1:] != ascending[:-1]]))
        if len(values)
        else np.zeros(0, int)
    )
    sizes = np.diff(starts, append=len(values))
    below, at_most = np.empty((2, len(values)), dtype=np.int64)
    below[order], at_most[order] = np.repeat(starts, sizes), np.repeat(starts + sizes, sizes)
    return below, at_most


def ratio(numerator: Any, denominator: Any) -> NDArray[np.float64]:
    """Divide whole numbers element by element with one correct rounding; NaN where the denominator
    is 0.
    """
    top, bottom = np.broadcast_arrays(np.asarray(numerator), np.asarray(denominator))
    out = np.full(top.shape, np.nan)
    usable = bottom != 0
    np.divide(top, bottom, out=out, where=usable)
    large = usable & ((np.abs(top) > EXACT) | (np.abs(bottom) > EXACT))
    for i in np.flatnonzero(large):
        out.flat[i] = int(top.flat[i]) / int(
            bottom.flat[i]
        )  # Python divides whole numbers with one rounding
    return out

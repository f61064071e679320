"""Shares as people write them: a plain number in the unit that its name says, or hundredths with a
``%``, everywhere alike.

What says *percent* is in hundredths (``20`` or ``20%``); every other share is a fraction (``0.2``
or ``20%``).
"""

from math import isfinite
from typing import Any


def fraction(value: Any) -> Any:
    """A fraction: a number as it is, ``20%`` as 0.2. Raises ValueError for what is neither."""
    number, hundredths = _number(value)
    if not hundredths and number > 1:
        raise ValueError(
            f"a share is a fraction: write {number / 100:g} or {number:g}%, not {number:g}"
        )
    return number / 100 if hundredths else number


def percent(value: Any) -> Any:
    """Hundredths: a number as it is, ``20%`` as 20. Raises ValueError for what is neither, and
    for a plain number between 0 and 1.
    """
    number, hundredths = _number(value)
    if not hundredths and 0 < number < 1:
        raise ValueError(
            f"this is in percent, and {number:g} is less than one in a hundred: write "
            f"{number * 100:g} or {number * 100:g}%, or "
            f"{number:g}% if that is meant"
        )
    return number


def _number(value: Any) -> tuple[Any, bool]:
    if isinstance(value, str):
        text = value.strip()
        try:
            number = float(text.removesuffix("%"))
        except ValueError:
            raise ValueError(
                f"{value!r} is not a number; write a number, or a percentage such as 20%"
            ) from None
        number = int(number) if number.is_integer() else number
    elif isinstance(value, int | float) and not isinstance(value, bool):
        number, text = value, ""
    else:
        raise ValueError(f"{value!r} is not a number; write a number, or a percentage such as 20%")
    if not isfinite(number):
        raise ValueError(f"{value!r} is not a usable number")
    return number, text.endswith("%")

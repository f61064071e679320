"""Parse shares: a plain number in the unit that the setting's name implies, or a percentage with
``%``.

A setting with *percent* in its name takes ``20`` or ``20%``; every other share is a fraction,
``0.2`` or ``20%``.
"""

from math import isfinite
from typing import Any


def fraction(value: Any) -> Any:
    """Convert to a fraction: numbers stay as they are, ``20%`` becomes 0.2. Raises ValueError for
    other values.
    """
    number, hundredths = _number(value)
    if not hundredths and number > 1:
        raise ValueError(
            f"a share is a fraction: write {number / 100:g} or {number:g}%, not {number:g}"
        )
    return number / 100 if hundredths else number


def percent(value: Any) -> Any:
    """Convert to a percentage: numbers stay as they are, ``20%`` becomes 20. Raises ValueError for
    other values, and for a plain number between 0 and 1.
    """
    number, hundredths = _number(value)
    if not hundredths and 0 < number < 1:
        raise ValueError(
            f"this is a percentage, and {number:g} is below 1 %: write {number * 100:g} or "
            f"{number * 100:g}%, or {number:g}% if that is meant"
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

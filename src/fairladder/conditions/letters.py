"""Letter-by-letter LOWER and UPPER, equal in every engine.

Unicode's simple mappings keep a text's length: ``ß`` becomes ``ẞ``, ``İ`` becomes ``i``. Databases
have their own mappings, so those that differ get an explicit table of letters.
"""

from collections.abc import Callable
from functools import cache

#: No letter from this code point on has an uppercase or lowercase form.
_LAST = 0x20000
_UPPER = {"ß": "ẞ"}
_LOWER = {"İ": "i"}


def upper(text: str) -> str:
    """Convert to uppercase, letter by letter."""
    return text.upper() if text.isascii() else "".join(map(_capital, text))


def lower(text: str) -> str:
    """Convert to lowercase, letter by letter."""
    return text.lower() if text.isascii() else "".join(map(_small, text))


@cache
def capitals() -> tuple[str, str]:
    """Return all letters with another uppercase form, and those forms, in matching order."""
    return _pairs(upper)


@cache
def small_letters() -> tuple[str, str]:
    """Return all letters with another lowercase form, and those forms, in matching order."""
    return _pairs(lower)


def capitals_of(text: str) -> tuple[str, str]:
    """Return the uppercase letters whose lowercase forms occur in a text, and those lowercase
    forms, in matching order.
    """
    pairs = [(large, small) for large, small in zip(*small_letters(), strict=True) if small in text]
    return "".join(large for large, _ in pairs), "".join(small for _, small in pairs)


def _capital(letter: str) -> str:
    # If the uppercase form has several letters, the title case form may have one (Greek vowels with
    # iota subscript).
    forms = (_UPPER.get(letter, letter.upper()), letter.title(), letter)
    return next(form for form in forms if len(form) == 1)


def _small(letter: str) -> str:
    small = _LOWER.get(letter, letter.lower())
    return small if len(small) == 1 else letter


def _pairs(change: Callable[[str], str]) -> tuple[str, str]:
    letters = [c for c in map(chr, range(_LAST)) if change(c) != c]
    return "".join(letters), "".join(map(change, letters))

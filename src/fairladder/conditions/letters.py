"""Capitals and small letters, one for one: what LOWER and UPPER mean in a condition, alike in
every engine.

Unicode's simple mappings, under which a text keeps its length: ``ß`` becomes ``ẞ``, ``İ`` becomes
``i``. Databases differ in what they call a letter, so those that differ from this are given the
letters one by one.
"""

from collections.abc import Callable
from functools import cache

#: No letter from here on has another size.
_LAST = 0x20000
_UPPER = {"ß": "ẞ"}
_LOWER = {"İ": "i"}


def upper(text: str) -> str:
    """Capitals, letter by letter."""
    return text.upper() if text.isascii() else "".join(map(_capital, text))


def lower(text: str) -> str:
    """Small letters, letter by letter."""
    return text.lower() if text.isascii() else "".join(map(_small, text))


@cache
def capitals() -> tuple[str, str]:
    """All letters that have another as their capital, and those, in the same order."""
    return _pairs(upper)


@cache
def small_letters() -> tuple[str, str]:
    """All letters that have another as their small one, and those, in the same order."""
    return _pairs(lower)


def capitals_of(text: str) -> tuple[str, str]:
    """The letters whose small ones occur in a text, and those small ones, in the same order."""
    pairs = [(large, small) for large, small in zip(*small_letters(), strict=True) if small in text]
    return "".join(large for large, _ in pairs), "".join(small for _, small in pairs)


def _capital(letter: str) -> str:
    # Of a letter whose capital is several, the title form may be one (Greek vowels with an iota
    # below).
    forms = (_UPPER.get(letter, letter.upper()), letter.title(), letter)
    return next(form for form in forms if len(form) == 1)


def _small(letter: str) -> str:
    small = _LOWER.get(letter, letter.lower())
    return small if len(small) == 1 else letter


def _pairs(change: Callable[[str], str]) -> tuple[str, str]:
    letters = [c for c in map(chr, range(_LAST)) if change(c) != c]
    return "".join(letters), "".join(map(change, letters))

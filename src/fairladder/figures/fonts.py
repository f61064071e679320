"""Choose installed fonts that have the letters of a text."""

import unicodedata
from collections.abc import Iterable
from functools import cache

from matplotlib import font_manager

#: The font of figures, which Matplotlib includes.
USUAL = "DejaVu Sans"
#: A font with a box for every letter.
_BOXES = "Last Resort"
#: Beginning of a letter's name → Debian package with a font for it.
_PACKAGES = {
    "CJK": "fonts-noto-cjk", "HIRAGANA": "fonts-noto-cjk", "KATAKANA": "fonts-noto-cjk",
    "HANGUL": "fonts-noto-cjk",
}  # fmt: skip
_OTHER_PACKAGE = "fonts-noto-core"


def families(text: str) -> list[str]:
    """Return the usual font, and installed ones with the letters that it lacks."""
    others = (_family_with(letter) for letter in sorted(_unusual(text)))
    return [USUAL, *dict.fromkeys(family for family in others if family)]


def missing(texts: Iterable[str]) -> str:
    """Return which letters no installed font has, and the packages to install; empty if all are
    there.
    """
    letters = sorted({c for text in texts for c in _unusual(text) if _family_with(c) is None})
    if not letters:
        return ""
    packages = {
        _PACKAGES.get(unicodedata.name(c, "").split(" ")[0], _OTHER_PACKAGE) for c in letters
    }
    return (
        f"No installed font has the letters {''.join(letters[:8])}, which are drawn as boxes. "
        f"Install {' and '.join(sorted(packages))} or another font with them."
    )


def _unusual(text: str) -> set[str]:
    """Return the visible letters that the usual font lacks."""
    letters = {c for c in text if not c.isspace() and unicodedata.category(c)[0] != "C"}
    return {c for c in letters if ord(c) not in _letters_of(font_manager.findfont(USUAL))}


@cache
def _letters_of(path: str) -> frozenset[int]:
    """Return the code points in a font file; none if it cannot be read."""
    try:
        return frozenset(font_manager.get_font(path).get_charmap())
    except (OSError, RuntimeError):
        return frozenset()


@cache
def _family_with(letter: str) -> str | None:
    """Return the first font family with a letter, upright and of normal weight if possible."""
    entries = sorted(
        (e for e in font_manager.fontManager.ttflist if not e.name.startswith(_BOXES)),
        key=lambda e: (e.style != "normal", e.weight not in (400, "normal", "regular"), e.name),
    )
    return next((e.name for e in entries if ord(letter) in _letters_of(e.fname)), None)

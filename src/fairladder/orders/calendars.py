"""Parse less common dates: month names in many languages, and two-digit years."""

import datetime as dt
import re
import unicodedata
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache

#: Languages whose month names are known, most frequent in exports first; the names are from the
#: Unicode locale data.
LANGUAGES = (
    "en", "de", "fr", "es", "it", "nl", "pt", "sv", "da", "nb", "fi", "pl", "cs", "sk", "hu", "ro",
    "hr", "sl", "sr", "bg", "ru",
    "uk", "el", "tr", "et", "lv", "lt", "ca", "eu", "gl", "is", "ga", "id", "vi", "sr_Latn", "mk",
    "sq", "af",
)  # fmt: skip
_WORD = re.compile(r"[^\W\d_]+")
_AROUND = re.compile(
    r"(?<!\d)(\d{1,2})(?:st|nd|rd|th|er|º|ª|\.)?[\s.,/-]*(?:de |of |d['’])?([^\W\d_]{3,})|([^\W\d_]{3,})(?=[\s.,/-]*\d)"
)


def plain(word: str) -> str:
    """Normalise a word for comparison: lowercase, without accents and points."""
    decomposed = unicodedata.normalize("NFKD", word.casefold().replace("ł", "l").replace("ı", "i"))
    return "".join(c for c in decomposed if not unicodedata.combining(c) and c != ".")


@lru_cache(maxsize=len(LANGUAGES))
def _months(language: str) -> Mapping[str, int]:
    """Return every spelling of a month in a language → its number; abbreviations of two months are
    omitted.
    """
    from babel.dates import get_month_names

    forms: dict[str, set[int]] = {}
    for context in ("format", "stand-alone"):
        for width in ("wide", "abbreviated"):
            for number, name in get_month_names(width, context, language).items():
                word = plain(name)
                for form in {word, word[:3], word[:4]} if width == "wide" else {word}:
                    forms.setdefault(form, set()).add(number)
    return {
        form: min(numbers) for form, numbers in forms.items() if len(numbers) == 1 and len(form) > 2
    }


def is_month(word: str) -> bool:
    """Return True if a word is a month in any of the languages."""
    return any(plain(word) in _months(language) for language in LANGUAGES)


def last_day_of(heading: str) -> dt.date | None:
    """Return the last day of the month in a column heading (``Jan 2026``, ``2026-01``, ``01/26``),
    or None.
    """
    numbers = [int(n) for n in re.findall(r"\d+", heading)]
    months = [m for word in _WORD.findall(heading) if (m := _month(word))]
    if len(months) == 1 and len(numbers) == 1:
        year, month = numbers[0], months[0]
    elif not _WORD.findall(heading) and len(numbers) == 2:
        month, year = sorted(numbers)
        if year <= 12:  # either could be the month
            return None
    else:
        return None
    year += 2000 if year < 100 else 0
    if not 1 <= month <= 12 or not 1900 <= year <= 2200:
        return None
    return dt.date(year + month // 12, month % 12 + 1, 1) - dt.timedelta(days=1)


def _month(word: str) -> int | None:
    """Return the number of a month name, in the first language that has it, or None."""
    return next(
        (number for language in LANGUAGES if (number := _months(language).get(plain(word)))), None
    )


def months_in(texts: Iterable[str]) -> tuple[dict[str, int], str, str] | None:
    """Return the month words in dates → their numbers, with the language and a second one that
    reads them as other months (or none).

    Returns None unless there are words in the place of a month and all are months of one language.
    """
    words = Counter(a or b for text in texts for a, b in _words_next_to_days(text))
    if not words:
        return None
    fits = []
    for language in LANGUAGES:
        known = _months(language)
        found = {word: known[plain(word)] for word in words if plain(word) in known}
        fits.append((sum(words[w] for w in found), language, found))
    most = max(count for count, _, _ in fits)
    if most * 10 < sum(words.values()) * 9:
        return None
    best = [(language, found) for count, language, found in fits if count == most]
    language, found = best[0]
    rival = next((other for other, numbers in best if numbers != found), "")
    return found, language, rival


def _words_next_to_days(text: str) -> list[tuple[str, str]]:
    """Return the words that follow a day's number, or else precede it; a weekday before both is
    ignored.
    """
    behind = [m[2] for m in _AROUND.finditer(text) if m[2]]
    return (
        [(behind[0], "")]
        if behind and plain(behind[0]) not in ("uhr", "kl")
        else [("", m[3]) for m in _AROUND.finditer(text) if m[3]][:1]
    )


_SHORT = re.compile(r"(\d{1,2})[./ -](\d{1,2})[./ -](\d{2})(?!\d)")


def order_of_short(texts: Sequence[str]) -> tuple[str, tuple[str, str] | None] | None:
    """Return the order of day, month and year in dates with two-digit years, and two ambiguous
    texts if it is open.

    The year is the part with fewer different values, since orders cover few years and many days.
    """
    parts = [tuple(map(int, m.groups())) for text in texts if (m := _SHORT.match(text))]
    if not parts or len(parts) * 10 < len(texts) * 9:
        return None
    firsts, lasts = {p[0] for p in parts}, {p[2] for p in parts}
    if len(firsts) < len(lasts) and max(p[2] for p in parts) <= 31:
        return ("year-first", None) if all(1 <= p[1] <= 12 for p in parts) else None
    day_first = sum(1 <= p[0] <= 31 and 1 <= p[1] <= 12 for p in parts)
    month_first = sum(1 <= p[0] <= 12 and 1 <= p[1] <= 31 for p in parts)
    if day_first == month_first and any(p[0] != p[1] for p in parts):
        unlike = [text for text in texts if (m := _SHORT.match(text)) and m[1] != m[2]]
        return "day-first", (min(unlike), max(unlike))
    return ("day-first" if day_first >= month_first else "month-first"), None


def day_before_year(texts: Sequence[str]) -> bool:
    """Return True if, of the two numbers around a month name, the first is the day: it has more
    different values than the year.
    """
    parts = [numbers for text in texts if len(numbers := re.findall(r"\d+", text)) >= 2]
    return len({p[0] for p in parts}) >= len({p[1] for p in parts})

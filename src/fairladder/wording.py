"""Format numbers, dates and shares for people."""

import datetime as dt
import unicodedata
from collections.abc import Iterable
from math import isnan
from typing import Any

NOTHING = "–"


def plain(text: str) -> str:
    """Return a user's text in printable form: terminal control characters and text-direction marks
    become ``�``.
    """
    return text if text.isprintable() else "".join("�" if _steers(c) else c for c in text)


def _steers(sign: str) -> bool:
    return sign not in "\n\t" and (unicodedata.category(sign) == "Cc" or sign in _TURNING)


#: The sign before negative numbers in texts for people; files have a plain hyphen.
MINUS = "−"
#: A share within this of one is one: sums of fractions miss it by rounding, in an order that differs
#: between engines.
ROUNDING = 1e-9
#: Marks that change the text direction.
_TURNING = frozenset("\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\u200e\u200f\u061c")


def count(number: float) -> str:
    """Format a whole number with thousands separators. Fractions are rounded as in ``money``, so
    that figures and tables agree.
    """
    return f"{int(number):,}".replace("-", MINUS) if number == int(number) else money(number)


def brief(number: float) -> str:
    """Format a number for tight spaces: ``12 M`` from ten millions on, no decimals from a hundred
    on.
    """
    return (
        count(number)
        if abs(number) < 1e7
        else f"{number / 1e6:,.0f} M"
        if abs(number) >= 1e8
        else f"{number / 1e6:,.1f} M"
    )


_ONE = {"are": "is", "have": "has", "were": "was"}


def counted(number: float, things: str, verb: str = "") -> str:
    """Return a number with its noun and a verb that agrees: ``1 customer is``, ``1,200 customers
    are``.
    """
    one = count(number) == "1"
    words = [count(number), things.removesuffix("s") if one else things]
    if verb:
        words.append(_ONE.get(verb, f"{verb}s") if one else verb)
    return " ".join(words)


def listed(items: Iterable[Any]) -> str:
    """Join items as in ``2, 3 and 4``."""
    *others, last = (str(item) for item in items)
    return f"{', '.join(others)} and {last}" if others else last


def money(amount: Any, decimals: int = 0) -> str:
    """Format an amount with thousands separators; a dash for null."""
    if missing(amount):
        return NOTHING
    rounded = round(float(amount), decimals) + 0.0  # never -0
    return f"{rounded:,.{decimals}f}".replace("-", MINUS)


def signed(amount: float, decimals: int = 0) -> str:
    """Format an amount with thousands separators and its sign: ``+1,200``, ``−35``."""
    return f"{amount:+,.{decimals}f}".replace("-", MINUS)


def signed_percent(share: Any) -> str:
    """Format a share as whole percent with its sign: ``−3 %``; a dash for null."""
    return NOTHING if missing(share) else f"{100 * share:+.0f} %".replace("-", MINUS)


def value(number: Any) -> str:
    """Format a measure's value: numbers with thousands separators, dates and names unchanged,
    nothing for null.
    """
    if number is None:
        return ""
    return (
        f"{number:,.2f}".replace("-", MINUS)
        if isinstance(number, float)
        else f"{number:,}".replace("-", MINUS)
        if isinstance(number, int)
        else str(number)
    )


def span(above: Any, up_to: Any) -> str:
    """Describe the values on a rung: ``above 45, up to 149``."""
    bounds = [
        f"above {value(above)}" if above is not None else "",
        f"up to {value(up_to)}" if up_to is not None else "",
    ]
    return ", ".join(b for b in bounds if b) or "everything"


def percent(share: Any) -> str:
    """Format a share 0..1 as a percentage with one decimal; ``under 0.1 %`` for small shares above
    zero, ``over 99.9 %`` for shares slightly below one. A sum of shares that misses one by rounding
    only is ``100.0 %``.
    """
    if missing(share):
        return NOTHING
    if 0 < abs(share) < 0.0005:
        return "under 0.1 %" if share > 0 else "−0.0 %"
    if 0.9995 <= share < 1 - ROUNDING:
        return "over 99.9 %"
    return f"{100 * share:.1f} %".replace("-", MINUS)


def days(number: Any) -> str:
    """Format whole days (halves up, never negative) with thousands separators; a dash for null."""
    return NOTHING if missing(number) else f"{int(float(number) + 0.5):,}"


def day(value: Any) -> str:
    """Format a date as ``30 June 2026``; a dash for null."""
    return NOTHING if value is None or value != value else f"{value.day} {value:%B %Y}"


def cell(value: Any, kind: str | None) -> str:
    """Format a cell by the kind of its column (``columns.Kind``), or by its type if the kind is
    unknown; a dash for null.
    """
    if missing(value):
        return NOTHING
    if kind == "money":
        return money(value, 2)
    if kind == "share":
        return percent(value)
    if hasattr(value, "strftime"):
        return day(value)
    if isinstance(value, float):
        return f"{value:,.3g}" if abs(value) < 1000 else f"{value:,.0f}"
    return count(value) if isinstance(value, int) else str(value)


def missing(value: Any) -> bool:
    """Return True if a cell is null: None, NaN or NaT."""
    return (
        value is None
        or (isinstance(value, float) and isnan(value))
        or str(value) in ("<NA>", "NaT")
    )


def as_of_line(as_of: dt.date | None, origin_text: str) -> str:
    """Return ``As of 30 June 2026 (set by as_of)``."""
    return (
        f"As of {day(as_of)} ({origin_text})" if as_of else "No as-of date, because no row is used"
    )


def rows_read(balance: dict[str, Any]) -> str:
    """Summarise a balance (as JSON): ``18,119 rows read: 17,367 used, 289 set aside, 463 filtered
    out``.
    """
    names = (
        "used",
        "set_aside",
        "filtered_out",
        "outside_range",
        "repeats_dropped",
        "older_versions_dropped",
    )
    parts = [
        (balance[name], name.replace("_range", " the date range").replace("_", " "))
        for name in names
        if name in balance
    ]
    text = ", ".join(f"{count(n)} {name}" for n, name in parts if n or name == "used")
    return f"{counted(balance['rows_read'], 'rows')} read: {text}"

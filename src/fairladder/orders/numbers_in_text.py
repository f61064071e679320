"""Patterns for amounts in text: currencies, signs and digits of other scripts."""

import re

#: Words for currencies next to amounts, from the Unicode locale data, besides three-letter codes.
CURRENCY_WORDS = (
    "kr", "Kr", "kr.", "R$", "US$", "A$", "C$", "NZ$", "HK$", "S$", "zł", "Kč", "Ft", "руб.", "руб",
    "р.", "р", "лв.", "лв", "грн.",
    "грн", "TL", "lei", "Fr.", "Fr", "din.", "дин.", "kn", "Rs.", "Rs", "Rp", "RM", "元", "円", "원",
)  # fmt: skip
#: The words as a pattern, longest first.
WORDS = "|".join(re.escape(word) for word in sorted(CURRENCY_WORDS, key=len, reverse=True))
#: The zeros of scripts used for amounts: Arabic, Persian, Devanagari, Bengali, Thai, full width.
ZEROS = "٠۰०০๐０"
#: Their digits, for a regular expression's character class.
DIGITS = "".join(f"{zero}-{chr(ord(zero) + 9)}" for zero in ZEROS)
#: Invisible marks of the text direction.
TURNS = r"\x{200e}\x{200f}\x{061c}\x{202a}-\x{202e}\x{2066}-\x{2069}"
#: Currencies of symbols and words. A dollar or a crown alone belongs to no certain country.
CODES = {
    "€": "EUR", "£": "GBP", "₽": "RUB", "₴": "UAH", "₺": "TRY", "₹": "INR", "₩": "KRW", "₪": "ILS",
    "₫": "VND", "฿": "THB", "US$": "USD",
    "A$": "AUD", "C$": "CAD", "NZ$": "NZD", "HK$": "HKD", "S$": "SGD", "R$": "BRL", "ZŁ": "PLN",
    "KČ": "CZK", "FT": "HUF", "РУБ.": "RUB",
    "РУБ": "RUB", "ЛВ.": "BGN", "ЛВ": "BGN", "ГРН.": "UAH", "ГРН": "UAH", "TL": "TRY", "LEI": "RON",
    "FR.": "CHF", "FR": "CHF", "元": "CNY",
    "円": "JPY", "원": "KRW", "RP": "IDR", "RM": "MYR", "KR.": "KR", "RS.": "RS",
}  # fmt: skip


def currency_of(mark: str) -> str | None:
    """Return the currency of a cell's letters and symbols, without digits and spaces; None if they
    are not a currency.

    >>> currency_of("€"), currency_of("usd"), currency_of("pieces")
    ('EUR', 'USD', None)
    """
    from babel.core import get_global

    upper = mark.upper()
    if upper in CODES:
        return CODES[upper]
    known = (
        upper in {word.upper() for word in CURRENCY_WORDS}
        or re.fullmatch(r"[$¢-¥₠-⃀﷼]", upper) is not None
    )
    return upper if known or upper in get_global("all_currencies") else None


def surely_decimal(number: str) -> str:
    """Return a typed number's text; with exactly three decimals a zero is added, so that its point
    cannot be read as a thousands separator.
    """
    return f"{number}0" if re.fullmatch(r"[+-]?[1-9]\d{0,2}\.\d{3}", number) else number


_SIGN = rf"(?:[$¢-¥₠-⃀﷼]|[A-Z]{{3}}|{WORDS})"
_TURNING = re.sub(r"\\x\{([0-9a-f]+)\}", lambda m: chr(int(m[1], 16)), TURNS)
#: A cell that is a number, with or without its currency.
NUMBER = re.compile(
    rf"^[{_TURNING}]*[-+(−]?\s*{_SIGN}?[\s{_TURNING}]*[-+(−]?[0-9{DIGITS}][0-9{DIGITS}.,'’٫٬\s]*([.,][-–—]{{1,2}})?[\s{_TURNING}]*{_SIGN}?\s*\)?"
    rf"[-−]?[{_TURNING}]*$"
)

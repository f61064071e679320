"""Amounts as people write them: currencies, signs and digits of other scripts."""

import re

#: Words for currencies that stand before or behind amounts, as the Unicode locale data has them,
#: beside codes of three letters.
CURRENCY_WORDS = (
    "kr", "Kr", "kr.", "R$", "US$", "A$", "C$", "NZ$", "HK$", "S$", "zł", "Kč", "Ft", "руб.", "руб",
    "р.", "р", "лв.", "лв", "грн.",
    "грн", "TL", "lei", "Fr.", "Fr", "din.", "дин.", "kn", "Rs.", "Rs", "Rp", "RM", "元", "円", "원",
)  # fmt: skip
#: The same as a pattern, longest first.
WORDS = "|".join(re.escape(word) for word in sorted(CURRENCY_WORDS, key=len, reverse=True))
#: Zeros of scripts whose digits amounts are written in: Arabic, Persian, Devanagari, Bengali, Thai,
#: full width.
ZEROS = "٠۰०০๐０"
#: Their digits, for a class of a regular expression.
DIGITS = "".join(f"{zero}-{chr(ord(zero) + 9)}" for zero in ZEROS)
#: Marks that turn the direction of writing and show nothing.
TURNS = r"\x{200e}\x{200f}\x{061c}\x{202a}-\x{202e}\x{2066}-\x{2069}"
#: What currencies are called in cells beside their codes of three letters; a dollar or a crown
#: alone is of no certain country.
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
    """The currency that a cell's letters and signs mean, without digits and spaces; None where
    they are no currency's.

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
    """A typed number's text; with exactly three decimals a zero more, so that its point cannot
    be taken for one of thousands.
    """
    return f"{number}0" if re.fullmatch(r"[+-]?[1-9]\d{0,2}\.\d{3}", number) else number


_SIGN = rf"(?:[$¢-¥₠-⃀﷼]|[A-Z]{{3}}|{WORDS})"
_TURNING = re.sub(r"\\x\{([0-9a-f]+)\}", lambda m: chr(int(m[1], 16)), TURNS)
#: A cell that is a number, with or without its currency.
NUMBER = re.compile(
    rf"^[{_TURNING}]*[-+(−]?\s*{_SIGN}?[\s{_TURNING}]*[-+(−]?[0-9{DIGITS}][0-9{DIGITS}.,'’٫٬\s]*([.,][-–—]{{1,2}})?[\s{_TURNING}]*{_SIGN}?\s*\)?"
    rf"[-−]?[{_TURNING}]*$"
)

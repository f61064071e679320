"""Amounts as people write them: what may stand around the digits."""

import re

#: Words for currencies that stand before or behind amounts, as the Unicode locale data has them, beside codes of three letters.
CURRENCY_WORDS = (
    "kr", "Kr", "kr.", "R$", "US$", "A$", "C$", "NZ$", "HK$", "S$", "zł", "Kč", "Ft", "руб.", "руб", "р.", "р", "лв.", "лв", "грн.",
    "грн", "TL", "lei", "Fr.", "Fr", "din.", "дин.", "kn", "Rs.", "Rs", "Rp", "RM", "元", "円", "원",
)  # fmt: skip
#: The same as a pattern, longest first.
WORDS = "|".join(re.escape(word) for word in sorted(CURRENCY_WORDS, key=len, reverse=True))
_SIGN = rf"(?:[$¢-¥₠-⃀﷼]|[A-Z]{{3}}|{WORDS})"
#: A cell that is a number, with or without its currency.
NUMBER = re.compile(rf"^[-+(−]?\s*{_SIGN}?\s*[-−]?[0-9][0-9.,'’\s]*\s*{_SIGN}?\s*\)?-?$")

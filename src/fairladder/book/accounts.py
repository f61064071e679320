"""Customers who are probably no customers: accounts for tests and staff, and ids that strangers share."""

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

import pyarrow as pa
import pyarrow.compute as pc

from fairladder.orders.words import words_of

if TYPE_CHECKING:
    import pandas as pd

#: Words of which one, and nothing but these and ``_BESIDE``, is what such an account is called, in some languages.
_ODD = set(
    "test tester testing demo dummy staff employee employees internal training mitarbeiter personalkauf personnel empleado "
    "dipendente medewerker guest guests gast gaste invite invitado ospite anonymous anonym anonyme anonimo unknown unbekannt inconnu "
    "desconocido sconosciuto onbekend okand ukjent ukendt tuntematon nieznany walkin laufkunde laufkundschaft "
    "passant diverse barverkauf none null na nil".split()
)
_BESIDE = set("account accounts user customer customers client kunde kunden konto order orders sale sales id no nr purchase walk in n a "
              "shop store office web online de the".split())  # fmt: skip
_ACCENTS = {"a": "[aàáâäåã]", "e": "[eèéêë]", "i": "[iìíîï]", "o": "[oòóôöõø]", "u": "[uùúûü]", "n": "[nñ]"}
_LIKELY = "(?i)^[^@]*({}|walk.?in|n/a)|^(0+|9+|-+|[?]+)(@|$)".format(
    "|".join("".join(_ACCENTS.get(letter, letter) for letter in word) for word in sorted(_ODD))
)
_ONE_DIGIT = re.compile(r"0+|9{3,}|-+|\?+")


def odd_accounts(customers: "pd.DataFrame") -> "pd.DataFrame":
    """The rows of customers with purchases whose id or name says that it is an account for tests or staff, or one that people share.

    An id of zeros or nines alone is one, too. An address counts by what stands before its ``@``.
    """
    buyers = customers[customers["orders"] > 0]
    found = {i for column in ("customer", "name") if column in buyers for i in _odd_ones(buyers[column].array)}
    return buyers.iloc[sorted(found)]


def _odd_ones(texts: Sequence[str | None]) -> list[int]:
    """The places of odd texts; most are not even looked at in Python."""
    cells = pa.array(texts, pa.string(), from_pandas=True)
    likely = pc.indices_nonzero(pc.fill_null(pc.match_substring_regex(cells, _LIKELY), False)).to_pylist()
    return [i for i in likely if _is_odd(cells[i].as_py())]


def _is_odd(text: str) -> bool:
    local = text.split("@")[0].strip()
    words = words_of(local)
    if not words:
        return _ONE_DIGIT.fullmatch(local) is not None
    apart = [["walk", "in"], ["n", "a"]]  # words that are written apart, or with a sign between
    return (words[:2] in apart or any(word in _ODD for word in words)) and all(
        word in _ODD or word in _BESIDE for word in words
    )

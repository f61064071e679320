"""Detect the encoding of text that is not Unicode: the one in which its words are words of one
language.

Any single-byte encoding decodes any bytes, so a successful decoding proves nothing. But a word has
letters of one alphabet, and no language has ``ø``, ``ì`` and ``ý`` together, which is how Czech
looks in the wrong encoding. For two-byte scripts (Chinese, Japanese, Korean) we use
charset-normalizer, a detector with language models.
"""

import re
import unicodedata
from collections import Counter
from dataclasses import dataclass
from functools import cache
from itertools import pairwise

from fairladder.orders.words import known_words, words_of

#: Letters beyond A to Z of languages with single-byte encodings; in other alphabets, letters by
#: frequency.
_ALPHABETS = {
    "German": "äöüß", "French": "àâæçèéêëîïôœùûüÿ", "Spanish": "áéíñóúüºª",
    "Portuguese": "àáâãçéêíóôõúºª", "Italian": "àèéìíîòóùúºª",
    "Swedish": "åäöé", "Danish": "æøåé", "Dutch": "áèéëïóöü", "Icelandic": "áðéíóúýþæö",
    "Catalan": "àçèéíïòóúüºª",
    "several": "àáâãäåæçèéêëíîïñóôöøùúûüß",
    "Polish": "ąćęłńóśźż", "Czech": "áčďéěíňóřšťúůýž", "Slovak": "áäčďéíĺľňóôŕšťúýž",
    "Hungarian": "áéíóöőúüű",
    "Romanian": "ăâîşţ", "Croatian": "čćđšž", "Slovenian": "čšž", "Turkish": "çğıi̇öşüâ",
    "Lithuanian": "ąčęėįšųūž",
    "Latvian": "āčēģīķļņšūž", "Estonian": "äõöüšž",
    "Greek": "αοιετσνηρκπυςμλάόίέήδγθύχφώβξζψωϊϋΐΰ", "Russian": "оеаинтсрвлкмдпуяыьгзбчйхжшюцщэфъё",
    "Ukrainian": "оаинвієтрслкдмпуязьгбчйїхжшюцщєфґ", "Hebrew": "יוהלאתרשבמםנדקפכחעצזטסגןךףץ",
    "Arabic": "اليمنوتربدسعةهكقحفجشأصطخىضذثزغظئءؤآإ",
}  # fmt: skip
_WEST = "German French Spanish Portuguese Italian Swedish Danish Dutch Icelandic Catalan several".split()
_MIDDLE = "Polish Czech Slovak Hungarian Romanian Croatian Slovenian German".split()
_CYRILLIC = ["Russian", "Ukrainian"]
#: Encodings in the order in which they are tried, each with its languages; the first of equals
#: wins.
_SINGLE = {
    "cp1252": _WEST, "cp1250": _MIDDLE, "cp1251": _CYRILLIC, "cp1253": ["Greek"],
    "cp1254": ["Turkish"], "cp1255": ["Hebrew"],
    "cp1256": ["Arabic"], "cp1257": ["Lithuanian", "Latvian", "Estonian"], "iso8859-15": _WEST,
    "iso8859-2": _MIDDLE,
    "iso8859-7": ["Greek"], "iso8859-9": ["Turkish"], "koi8-r": _CYRILLIC, "cp866": _CYRILLIC,
    "cp850": _WEST, "cp852": _MIDDLE,
    "mac-roman": _WEST,
}  # fmt: skip
#: The usual encodings today. A doubt between them is worth a question; other encodings must be
#: better to be chosen.
_USUAL = ("cp1252", "cp1250", "cp1251", "cp1253", "cp1254", "cp1255", "cp1256")
#: Symbols next to words that belong to no word: ``N°``, ``12 €``.
_SIGNS = "°ºª€£§"
#: ``Nº`` and ``1ª``, as Spanish, Portuguese and Italian write them.
_ORDINAL = re.compile("[A-Za-z]{1,4}[ºª]")
_DOUBLE = ("cp932", "euc_jp", "gb18030", "big5", "cp949")
_WORD = re.compile(rb"[A-Za-z\x80-\xff]*[\x80-\xff][A-Za-z\x80-\xff]*")
_MOST_WORDS = 3_000
#: Below this share of letters that fit one language no encoding is chosen; if two are closer than
#: the margin, we ask.
_LEAST, _MARGIN = 0.8, 0.02


@dataclass(frozen=True)
class Detected:
    """The encoding, the evidence in words, and an equally plausible rival."""

    encoding: str
    evidence: str
    rival: str | None = None
    words: tuple[str, str] = ("", "")
    """A word as read in this encoding and in the rival."""


def detected(sample: bytes) -> Detected | None:
    """Return the encoding of bytes that are not UTF-8; None if none fits."""
    words = Counter(_WORD.findall(sample)).most_common(_MOST_WORDS)
    scored = sorted(
        (_fit(words, encoding) for encoding in _SINGLE),
        key=lambda fit: (-round(fit[0], 3), fit[2] not in _USUAL),
    )
    best, language, encoding = scored[0]
    if best < 0.97 and (double := _of_two_bytes(sample)):
        return double
    if best < _LEAST:
        return None
    evidence = (
        f"{best:.0%} of its {_count(words):,} letters beyond A to Z are {language} in it"
        if language
        else "only signs"
    )
    rivals = [
        name for fit, _, name in scored[1:] if fit >= best - _MARGIN and language and name in _USUAL
    ]
    for name in rivals:
        differ = [w for w, _ in words if _decoded(w, name) != _decoded(w, encoding)]
        if not differ:
            continue
        known, known_there = _known(differ, encoding), _known(differ, name)
        if len(known_there) > len(
            known
        ):  # words for column names and currencies decide what letters leave open
            encoding, evidence = name, f"`{known_there[0]}` is a word in it"
        elif len(known_there) == len(known):
            mine, theirs = str(_decoded(differ[0], encoding)), str(_decoded(differ[0], name))
            return Detected(encoding, evidence, name, (mine, theirs))
        else:
            evidence = f"`{known[0]}` is a word in it"
    return Detected(encoding, evidence)


def _known(words: list[bytes], encoding: str) -> list[str]:
    """Return the words of column names or currencies that an encoding gives."""
    texts = [text for word in words if (text := _decoded(word, encoding)) is not None]
    return [
        text for text in texts if set(words_of(text)) & known_words() or _ORDINAL.fullmatch(text)
    ]


def _count(words: list[tuple[bytes, int]]) -> int:
    return sum(sum(b > 127 for b in word) for word, _ in words)


def _fit(words: list[tuple[bytes, int]], encoding: str) -> tuple[float, str, str]:
    """Return the largest share of letters beyond A to Z that belong to one language, that language,
    and the encoding.
    """
    letters: Counter[str] = Counter()
    bad = 0
    for word, _ in words:
        text = _decoded(word, encoding)
        if text is None:
            return 0.0, "", encoding
        if _ORDINAL.fullmatch(text):
            letters.update(text[-1])
            continue
        text = text.strip(_SIGNS)
        odd = [c for c in text if ord(c) > 127]
        if any(unicodedata.category(c) in ("Cc", "Cn", "Co") for c in odd):
            bad += len(odd)
        elif len(text) > 1:  # a symbol or letter on its own shows nothing
            if _is_word(text):
                letters.update(c for c in text.lower() if c.isalpha() and ord(c) > 127)
            else:
                bad += len(odd)
    total = bad + sum(letters.values())
    if not total:
        return 0.85, "", encoding  # only symbols, such as those of currencies
    share = {name: _likeness(letters, _ALPHABETS[name]) for name in _SINGLE[encoding]}
    language = max(share, key=lambda name: share[name])
    return share[language] / total, language, encoding


def _likeness(letters: Counter[str], alphabet: str) -> float:
    """Return how many of the letters belong to the language; in other alphabets frequent letters
    weigh more.
    """
    own = sum(n for c, n in letters.items() if c in alphabet)
    if _script(alphabet[0]) == "LATIN":
        return own
    common = sum(n for c, n in letters.items() if c in alphabet[:12])
    return own * min(1.0, 0.4 + common / max(own, 1))


def _is_word(text: str) -> bool:
    """Return True for letters of one alphabet without an uppercase letter after a lowercase one
    beyond A to Z.
    """
    letters = [c for c in text if c.isalpha()]
    capital = any(
        b.isupper() and a.islower() and (ord(a) > 127 or ord(b) > 127) for a, b in pairwise(text)
    )
    return len(letters) == len(text) and len({_script(c) for c in letters}) == 1 and not capital


@cache
def _script(letter: str) -> str:
    """Return the first word of a letter's name: LATIN, CYRILLIC, GREEK, …"""
    return unicodedata.name(letter, "?").split(" ")[0]


def _decoded(word: bytes, encoding: str) -> str | None:
    try:
        return word.decode(encoding)
    except UnicodeDecodeError:
        return None


def _of_two_bytes(sample: bytes) -> Detected | None:
    from charset_normalizer import from_bytes

    matches = [
        m
        for m in from_bytes(sample[: 1 << 18], cp_isolation=list(_DOUBLE))
        if m.chaos < 0.1 and _signs_of_words(str(m))
    ]
    if not matches:
        return None
    best, evidence = matches[0], "its characters form words in it, according to charset-normalizer"
    for other in matches[1:]:
        if (
            other.chaos == best.chaos
            and other.coherence == best.coherence
            and str(other) != str(best)
        ):
            return Detected(
                best.encoding,
                evidence,
                other.encoding,
                (_first_signs(str(best)), _first_signs(str(other))),
            )
    return Detected(best.encoding, evidence)


def _signs_of_words(text: str) -> bool:
    odd = [c for c in text if ord(c) > 127]
    # Two-byte letters of other encodings decode to narrow katakana in a Japanese one.
    return (
        sum(unicodedata.category(c) == "Lo" and not "\uff61" <= c <= "\uff9f" for c in odd) * 10
        >= len(odd) * 8
        > 0
    )


def _first_signs(text: str) -> str:
    return next(iter(re.findall(r"[^\x00-\x7f]+", text)), "")

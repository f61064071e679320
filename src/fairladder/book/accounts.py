"""Find customers who are probably not customers: test and staff accounts, and ids shared by
strangers.
"""

import pyarrow as pa
from sqlglot import exp

from fairladder.book.people import People
from fairladder.orders.words import words_of
from fairladder.sqltree import column, named, select, sql

#: Words for such accounts in several languages. A name is odd if it has one of them and otherwise
#: only words from ``_FILLER_WORDS``.
_ODD = set(
    "test tester testing demo dummy staff employee employees internal training mitarbeiter "
    "personalkauf personnel empleado "
    "dipendente medewerker guest guests gast gaste invite invitado ospite anonymous anonym "
    "anonyme anonimo unknown unbekannt inconnu "
    "desconocido sconosciuto onbekend okand ukjent ukendt tuntematon nieznany walkin laufkunde "
    "laufkundschaft "
    "passant diverse barverkauf none null na nil".split()
)
_FILLER_WORDS = set("account accounts user customer customers client kunde kunden konto order "
              "orders sale sales id no nr purchase walk in n a "
              "shop store office web online de the".split())  # fmt: skip
_ACCENTS = {
    "a": "[aàáâäåã]",
    "e": "[eèéêë]",
    "i": "[iìíîï]",
    "o": "[oòóôöõø]",
    "u": "[uùúûü]",
    "n": "[nñ]",
}
_WORD = "(?:{})".format(
    "|".join(
        "".join(_ACCENTS.get(letter, letter) for letter in word)
        for word in sorted(_ODD | _FILLER_WORDS)
    )
)
#: One of the words, anywhere.
_ANY_ODD = "|".join(
    sorted(
        "".join(_ACCENTS.get(letter, letter) for letter in word)
        for word in {*_ODD, "walk", "n.?a"}
        if word != "na"
    )
)
#: Only such words, with anything between them.
_WORDS_ALONE = f"[^a-z]*{_WORD}(?:[^a-z]+{_WORD})*[^a-z]*"
_ONE_DIGIT = r"\s*(?:0+|9{3,}|-+|\?+)\s*"


def odd_accounts(people: People) -> exp.Select | None:
    """Return the customers with purchases whose id or name suggests a test, staff or shared
    account; None if there are none.

    Ids of only zeros or nines count as well. E-mail addresses are judged by the part before ``@``.
    """
    buyers = select(["*"], people.relation).where(sql("orders > 0"), copy=False)
    odd: list[exp.Expr] = []
    for name in ["customer", "name"] if people.named else ["customer"]:
        words = _words_in(column(name))
        # A rough filter first, so that few remain for the exact one.
        likely = buyers.where(
            sql("REGEXP_MATCHES(LOWER(:t), :p)", t=column(name), p=exp.Literal.string(_ANY_ODD))
        )
        word_lists = select([named(words, "words")], likely, "likely").distinct(copy=False)
        alone = word_lists.where(
            sql("REGEXP_FULL_MATCH(:w, :p)", w=words, p=exp.Literal.string(_WORDS_ALONE)),
            copy=False,
        )
        there = [text for text in people.engine.table(alone)["words"].to_pylist() if _is_odd(text)]
        if there:
            offered = people.engine.offer(pa.table({"odd": pa.array(there, pa.string())}))
            odd.append(
                exp.In(
                    this=words,
                    query=select([column("odd")], offered, "offered").subquery(copy=False),
                )
            )
        odd.append(
            sql("REGEXP_FULL_MATCH(:t, :p)", t=column(name), p=exp.Literal.string(_ONE_DIGIT))
        )
    found = buyers.where(exp.or_(*odd), copy=False)
    return found if people.one(found, n="COUNT(*)")["n"] else None


def _words_in(text: exp.Expr) -> exp.Expr:
    """Return the part before ``@`` in lowercase, split into words. Ids that differ only in numbers
    become equal.
    """
    split_words = sql("REGEXP_REPLACE(:t, '([a-zà-ÿ])([A-ZÀ-Þ])', '\\1 \\2', 'g')", t=text)
    local = sql("REGEXP_EXTRACT(LOWER(:t), '^[^@]*', 0)", t=split_words)
    # Digits and symbols are ignored next to words; alone they count.
    return sql(
        "CASE WHEN REGEXP_MATCHES(:t, '[a-z]') THEN REGEXP_REPLACE(:t, :p, ' ', 'g') ELSE :t END",
        t=local, p=exp.Literal.string(r"[\x00-\x60\x7b-\x7f]+"),
    )  # fmt: skip


def _is_odd(text: str) -> bool:
    words = words_of(text)
    compound_words = [
        ["walk", "in"],
        ["n", "a"],
    ]  # words written separately or with a symbol between
    return (words[:2] in compound_words or any(word in _ODD for word in words)) and all(
        word in _ODD or word in _FILLER_WORDS for word in words
    )

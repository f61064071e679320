"""Which column plays which role, guessed from names in several languages and from what the cells hold."""

import re
import unicodedata
from collections.abc import Mapping
from dataclasses import dataclass

from sqlglot import exp

from fairladder.errors import SchemeError
from fairladder.orders.source import Source
from fairladder.sqltree import cell_column, named, select, sql

SAMPLE_ROWS = 5000
#: Role → words that name it: English, German, French, Spanish, Italian, Dutch, Portuguese, the Nordic ones, Polish.
_WORDS: dict[str, str] = {
    "customer": "customer client kunde kunden cliente klant kund asiakas klient member buyer user account debitor acheteur comprador "
    "membre mitglied shopper contact konto socio household",
    "order": "order orders invoice receipt slip bestellung bestell auftrag rechnung beleg commande facture pedido factura "
    "ordine fattura bestelling bon ordre zamowienie tilaus transaction ticket encomenda fatura ordernr basket booking",
    "placed": "date datum fecha data day time timestamp created placed sold dato paivamaara jour tag zeit giorno dag purchased when",
    "amount": "amount total betrag summe umsatz montant somme importe monto importo totale bedrag totaal valor belopp summa kwota revenue "
    "sales value turnover paid spend",
    "unit_price": "price preis einzelpreis stueckpreis prix precio prezzo prijs preco pris cena",
    "quantity": "quantity qty menge anzahl stueck quantite cantidad quantita aantal quantidade antal units pieces ilosc stk count",
    "discount": "discount rabatt remise descuento sconto korting desconto rabat",
    "name": "name nom nombre nome naam namn navn nimi nazwa fullname",
    "channel": "channel kanal canal canale kanaal store shop filiale branch",
    "status": "status state stato estado etat statut zustand tila",
    "currency": "currency waehrung devise moneda valuta moeda",
    "cost": "cost costs kosten cout coste costo custo wareneinsatz",
}  # fmt: skip
_ID = set("id no nr num number nummer numero code key ref reference nro".split())
#: Words that speak against a role, or of a lesser candidate for it.
_AGAINST: dict[str, str] = {
    "placed": "ship shipped shipping delivery delivered lieferung liefer birth born geburt update updated modified due paid joined",
    "amount": "tax vat mwst steuer shipping versand porto discount rabatt cost unit price quantity subtotal",
    "customer": "name group segment type country email city since",
    "order": "date datum total amount status line item position",
}
_DATE = (
    r"^(\d{4}-\d{1,2}-\d{1,2}|\d{1,2}[./-]\d{1,2}[./-]\d{2,4}|\d{4}[./]\d{1,2}[./]\d{1,2}"
    r"|\d{1,2}[. ]+[A-Za-z]{3,9}\.? \d{4})([T ,].*)?$"
)
_NUMBER = r"^[-+(]?\s*\p{Sc}?\s*[0-9][0-9.,' ]*\s*\p{Sc}?\)?-?$"


@dataclass(frozen=True)
class Guess:
    """A column for a role, and why."""

    role: str
    column: str
    why: str
    rivals: tuple[str, ...] = ()
    """Columns that are as good: then nothing is settled."""


@dataclass(frozen=True)
class _Look:
    """What a sample of a column's cells shows; shares are of the cells that are not blank."""

    cells: int
    distinct: int
    dates: float
    numbers: float
    fractions: float


def guess_roles(source: Source, given: Mapping[str, str]) -> list[Guess]:
    """The best column for each role that is not given; a guess with rivals is left open.

    A role without any candidate has no guess. ``given`` columns are not guessed for other roles.
    """
    looks = _looked_at(source)
    taken = set(given.values())
    guesses: dict[str, Guess] = {}
    for role in _WORDS:
        if role in given:
            continue
        scored = {n: _score(role, n, look) for n, look in looks.items() if n not in taken}
        if guess := _best(role, {n: s for n, s in scored.items() if s > 0}, looks):
            guesses[role] = guess
            if not guess.rivals:
                taken.add(guess.column)
    return list(_without_needless(guesses, given).values())


def settled_or_ask(guesses: list[Guess], source: Source, needed: tuple[str, ...]) -> dict[str, str]:
    """Role → column of the guesses. Raises SchemeError where two columns are equally good for a needed role."""
    for guess in guesses:
        if guess.rivals and guess.role in needed:
            names = " or ".join(f"`{n}`" for n in (guess.column, *guess.rivals))
            option = f"--{guess.role.replace('_', '-')}-column"
            raise SchemeError(
                f"{source.label}: {names} could be the {_SAID[guess.role]}. Say which with {option} NAME."
            )
    return {g.role: g.column for g in guesses if not g.rivals}


_SAID = {
    "customer": "customer's id", "order": "order's id", "placed": "day of the order", "amount": "amount", "unit_price": "price of one",
    "quantity": "quantity", "discount": "discount", "name": "customer's name", "channel": "channel", "status": "order's status",
    "currency": "currency", "cost": "cost",
}  # fmt: skip


def _looked_at(source: Source) -> dict[str, _Look]:
    sample = select(["*"], source.relation).limit(SAMPLE_ROWS, copy=False)
    looks = {}
    for name, kind in source.columns.items():
        cell = sql("NULLIF(TRIM(CAST(:c AS VARCHAR)), '')", c=cell_column(name))
        cells = select([named(cell, "c")], sample, "sample")
        date, number = exp.Literal.string(_DATE), exp.Literal.string(_NUMBER)
        counts = [
            sql("COUNT(c) AS n"), sql("COUNT(DISTINCT c) AS d"), sql("COUNT(CASE WHEN REGEXP_MATCHES(c, :p) THEN 1 END) AS dates", p=date),
            sql("COUNT(CASE WHEN REGEXP_MATCHES(c, :p) THEN 1 END) AS numbers", p=number),
            sql("COUNT(CASE WHEN REGEXP_MATCHES(c, '[.,][0-9]{1,2}(\\D|$)') AND REGEXP_MATCHES(c, :p) THEN 1 END) AS fractions", p=number),
        ]  # fmt: skip
        totals = source.engine.table(select(counts, cells, "cells")).to_pylist()[0]
        n = totals["n"] or 1
        dates = 1.0 if kind in ("date", "timestamp", "instant") else totals["dates"] / n
        numbers = 0.0 if dates > 0.8 else totals["numbers"] / n
        looks[name] = _Look(totals["n"], totals["d"], dates, numbers, totals["fractions"] / n)
    return looks


def _words_of(name: str) -> list[str]:
    """A column name's words: ``KundenNr`` → kunden, nr; accents and case are taken off."""
    plain = unicodedata.normalize("NFKD", name.replace("ß", "ss").replace("ł", "l")).encode("ascii", "ignore").decode()
    apart = re.sub(r"([a-z])([A-Z])", r"\1 \2", plain)
    return [word.lower() for word in re.findall(r"[A-Za-z]+", apart)]


def _names(role: str, words: list[str]) -> int:
    """How well a name's words name the role: 0 not at all, 2 inside a longer word, 3 as a word of its own."""
    known = _WORDS[role].split()
    if set(words) & set(known):
        return 3
    return 2 if any(len(k) >= 4 and (w.startswith(k) or w.endswith(k)) for w in words for k in known) else 0


def _score(role: str, name: str, look: _Look) -> int:
    """How good a column is for a role; 0 or less: not at all. Name and contents both count, and can both refuse."""
    words = _words_of(name)
    score = 2 * _names(role, words)
    against = set(_AGAINST.get(role, "").split())
    score -= 3 * sum(w in against or (len(w) > 5 and any(len(a) > 4 and a in w for a in against)) for w in words)
    fits = {
        "placed": look.dates > 0.8,
        **dict.fromkeys(("amount", "unit_price", "quantity", "cost"), look.numbers > 0.8),
        "discount": look.numbers > 0.8 or look.cells == 0 or look.fractions > 0.5,
        **dict.fromkeys(("customer", "order"), look.dates < 0.5 and look.fractions < 0.2 and look.distinct > 1),
        **dict.fromkeys(("name", "channel", "status", "currency"), look.dates < 0.5 and look.fractions < 0.2),
    }[role]
    if not fits or (not look.cells and role != "discount"):
        return 0
    has_id = bool(set(words) & _ID) or bool(words and words[-1].endswith(("nr", "nummer", "id")))
    if role in ("customer", "order"):
        score += 2 * has_id if score > 0 else 0
        score -= 2 * (role == "order" and look.distinct * 20 < look.cells)
    if role == "placed":
        score += (
            2 * bool({"order", "placed", "sold", "purchase", "invoice", "created"} & set(words)) if score > 0 else 1
        )
    if role == "amount" and score > 0:
        score += 1 * (look.fractions > 0.3) + 2 * bool({"line", "total", "amount", "betrag"} & set(words))
    if role == "amount" and score == 0 and look.fractions > 0.5 and not any(_names(r, words) for r in _WORDS):
        score = 1
    if role == "channel":
        score = score if look.distinct <= 50 else 0
    return score


def _best(role: str, scored: dict[str, int], looks: dict[str, _Look]) -> Guess | None:
    if not scored:
        return None
    top = max(scored.values())
    best = [n for n, score in scored.items() if score == top]
    look, name = looks[best[0]], best[0]
    by_name = (
        f"its name says {_SAID[role]}" if _names(role, _words_of(name)) else "the only column that holds such cells"
    )
    held = {
        "placed": f"{100 * look.dates:.0f} % of its cells are dates",
        "customer": f"{look.distinct:,} different values in {look.cells:,} rows",
        "order": f"{look.distinct:,} different values in {look.cells:,} rows",
    }.get(
        role,
        f"{100 * look.numbers:.0f} % of its cells are numbers"
        if role in _NUMERIC
        else f"{look.distinct:,} different values",
    )
    return Guess(role, name, f"{by_name}; {held}", tuple(best[1:]))


_NUMERIC = ("amount", "unit_price", "quantity", "discount", "cost")


def _without_needless(guesses: dict[str, Guess], given: Mapping[str, str]) -> dict[str, Guess]:
    """An amount makes price and quantity needless; without one they make the amount, both or neither."""
    kept = dict(guesses)
    priced = {"unit_price", "quantity"} <= kept.keys() | given.keys()
    weak = "amount" in kept and not _names("amount", _words_of(kept["amount"].column))
    if "unit_price" in given or (weak and priced):
        kept.pop("amount", None)
    if "amount" in kept or "amount" in given or not priced:
        for role in ("unit_price", "quantity", "discount"):
            kept.pop(role, None)
    return kept

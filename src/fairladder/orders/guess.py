"""Guess the role of each column from its name, in several languages, and from its cells."""

import json
import re
import shlex
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations

from fairladder.errors import Question, SchemeError, shortened
from fairladder.orders.calendars import last_day_of
from fairladder.orders.looks import Look, Sample, sample_of
from fairladder.orders.numbers_in_text import NUMBER, currency_of
from fairladder.orders.source import Source
from fairladder.orders.status_words import is_void
from fairladder.orders.words import ROLE_WORDS, names_role, words_of
from fairladder.sqltree import cell_column, named, select, sql

_ID = set(
    "id no nr num number nummer numero code key ref reference nro kod cislo numer szam №".split()
)
#: Words that disqualify a column for a role, or make it a weaker candidate.
_AGAINST: dict[str, str] = {
    "placed": "ship shipped shipping delivery delivered lieferung liefer birth born geburt update updated modified due paid joined",
    "amount": "tax vat mwst steuer shipping versand porto postage fee discount rabatt cost unit price quantity subtotal credit",
    "customer": "name group segment type country email city since date",
    "order": "date datum total amount status state zustand stato estado etat line item position name type",
}


@dataclass(frozen=True)
class Guess:
    """A column for a role, and the reason."""

    role: str
    column: str
    why: str
    rivals: tuple[str, ...] = ()
    """Equally good columns, which leave the role open."""
    date_format: str = ""
    """The date format, if dates are plain numbers."""
    advice: str = ""
    """Advice on rivals, if naming one of them is not enough."""
    side_by_side_line: tuple[str, str] | None = None
    """For amounts side by side: the line of a scheme that reads them as such, and what they are."""
    sets: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = ()
    """Further answers to the question about rivals: answer → roles with columns that it sets."""


def guess_roles(source: Source, given: Mapping[str, str]) -> list[Guess]:
    """Return the best column for each role that is not given; a guess with rivals is left open.

    A role without any candidate has no guess. ``given`` columns are not guessed for other roles.
    """
    sample = sample_of(source)
    looks = sample.looks
    taken = set(given.values())
    guesses: dict[str, Guess] = {}
    for role in ROLE_WORDS:
        if role in given:
            continue
        # A file with only a header has nothing but names to go by.
        score = _score if any(look.cells for look in looks.values()) else _score_of_name
        scored = {n: score(role, n, look) for n, look in looks.items() if n not in taken}
        if guess := _best(role, {n: s for n, s in scored.items() if s > 0}, looks):
            guesses[role] = guess
            if not guess.rivals:
                taken.add(guess.column)
    guesses = _with_contents(guesses, sample, given)
    guesses = _with_codes(guesses, sample, given)
    if "amount" not in given:
        guesses = _both_sides(guesses, sample)
    found = _without_needless(guesses, given)
    found = _with_price_or_amount(found, guesses, sample, given)
    found = _with_name_or_id(found, sample, given)
    amount = found.get("amount")
    if amount is not None and amount.rivals and not amount.advice:
        found["amount"] = replace(amount, side_by_side_line=side_by_side(amount, sample))
    return list(found.values())


#: Small whole numbers under such names are not quantities but line numbers, years, ages or ratings.
_NO_QUANTITY = set(
    "line pos position row zeile item linea ligne age alter year jahr month monat rating stars rank version week day tag".split()
)
_SMALL_WHOLE = re.compile(r"\d{1,3}(\.0+)?")


def _is_like_quantity(name: str, cells: Sequence[str | None]) -> bool:
    """Return True for small whole numbers of which some are above 1, as in quantities."""
    known = [cell for cell in cells if cell is not None]
    if (
        not known
        or set(words_of(name)) & _NO_QUANTITY
        or not all(map(_SMALL_WHOLE.fullmatch, known))
    ):
        return False
    return any(float(cell) > 1 for cell in known) and len(set(known)) <= 100


def _with_price_or_amount(
    found: dict[str, Guess], guesses: dict[str, Guess], sample: Sample, given: Mapping[str, str]
) -> dict[str, Guess]:
    """Add a question if the guessed amount may be a unit price, because there is a column of
    quantities.
    """
    amount = found.get("amount")
    if amount is None or amount.rivals or {"amount", "unit_price", "quantity"} & given.keys():
        return found
    words = words_of(amount.column)
    weak = not names_role("amount", words) or names_role("unit_price", words)
    if not weak:
        return found
    taken = {
        *given.values(),
        *(g.column for role, g in found.items() if role != "amount" and not g.rivals),
    }
    priced = guesses.get("unit_price")
    if (
        not names_role("unit_price", words)
        and priced is not None
        and priced.column != amount.column
        and "unit_price" not in found
    ):
        return {**found, "amount": replace(amount, rivals=(priced.column,), advice=(
            f" The name of `{priced.column}` means price; `{amount.column}` only looks like "
                "an amount by its cells."))}  # fmt: skip
    named = guesses["quantity"].column if "quantity" in guesses else None
    counts = [
        n
        for n, cells in sample.cells.items()
        if n not in taken and n != amount.column and (n == named or _is_like_quantity(n, cells))
    ]
    if not counts:
        return found
    quantity = named if named in counts else counts[0]
    price, count = shlex.quote(amount.column), shlex.quote(quantity)
    options = f"--unit-price-column {price} --quantity-column {count}"
    advice = (
        f" Pass {options} if `{amount.column}` is the price of one and `{quantity}` the quantity."
    )
    both = (("unit_price", amount.column), ("quantity", quantity))
    return {**found, "amount": replace(
        amount, rivals=(quantity,), advice=advice,
        sets=((f"{amount.column} × {quantity}", both),))}  # fmt: skip


_PHONE = re.compile(r"[+0(][\d\s()/.-]{6,}")


def _with_name_or_id(
    found: dict[str, Guess], sample: Sample, given: Mapping[str, str]
) -> dict[str, Guess]:
    """Add a question if customers are identified by a name, and another column distinguishes
    customers with equal names.
    """
    customer = found.get("customer")
    if customer is None or customer.rivals or "customer" in given:
        return found
    cells, look = sample.cells[customer.column], sample.looks[customer.column]
    known = [cell for cell in cells if cell is not None]
    if (
        look.addresses > 0.5
        or look.digits > 0.2
        or sum(" " in cell for cell in known) * 2 < len(known)
    ):
        return found
    placed = found["placed"].column if "placed" in found else given.get("placed")
    taken = {
        *given.values(),
        *(g.column for role, g in found.items() if role != "customer" and not g.rivals),
    }
    rivals = [
        n
        for n, other in sample.looks.items()
        if n not in taken and n != customer.column and _identifies_people(sample, n, other, placed)
    ]
    dividing = [n for n in rivals if _divides(cells, sample.cells[n])]
    if not dividing:
        return found
    advice = " People can share a name; an id, an address or a number identifies them."
    return {**found, "customer": replace(customer, rivals=tuple(dividing[:3]), advice=advice)}


def _identifies_people(sample: Sample, name: str, look: Look, placed: str | None) -> bool:
    """Return True for columns of e-mail addresses, phone numbers, or ids that recur on other days."""
    known = [cell for cell in sample.cells[name] if cell is not None]
    if look.addresses > 0.8 or (known and all(map(_PHONE.fullmatch, known)) and look.dates < 0.5):
        return True
    comes_back = (
        placed is not None
        and placed in sample.cells
        and sample.days_each(name, placed) >= _COMES_BACK
    )
    return _can_be_id(look) and comes_back and look.distinct * 50 > look.cells


def _divides(names: Sequence[str | None], others: Sequence[str | None]) -> bool:
    """Return True if rows with the same name have different cells in the other column."""
    of: dict[str, set[str]] = {}
    for name, other in zip(names, others, strict=True):
        if name is not None and other is not None:
            of.setdefault(name, set()).add(other)
    return any(len(some) > 1 for some in of.values())


def _with_contents(
    guesses: dict[str, Guess], sample: Sample, given: Mapping[str, str]
) -> dict[str, Guess]:
    """Add guesses that follow from the cells and not from the names: the only date column, and ids
    that recur on other days.
    """
    guesses = _addresses_before_names(guesses, sample)
    known, taken = (
        dict(guesses),
        {*given.values(), *(g.column for g in guesses.values() if not g.rivals)},
    )
    if "placed" not in known and "placed" not in given:
        days = [n for n, look in sample.looks.items() if look.dates > 0.8 and n not in taken]
        if len(days) == 1:
            known["placed"] = Guess("placed", days[0], "the only column with dates")
            taken.add(days[0])
    placed = given.get("placed") or (known["placed"].column if "placed" in known else None)
    if placed is None or placed not in sample.cells:
        return known
    free = {n: look for n, look in sample.looks.items() if n not in taken}
    ids = {n: sample.days_each(n, placed) for n, look in free.items() if _can_be_id(look)}
    if "customer" not in known and "customer" not in given:
        back = [
            n
            for n, days in ids.items()
            if days >= _COMES_BACK and free[n].distinct * 50 > free[n].cells
        ]
        mails = [n for n, look in free.items() if look.addresses > 0.8]
        if len(back) == 1 or len(mails) == 1:
            alone = len(back) == 1
            name = (back if alone else mails)[0]
            why = (
                "its values return on other days, as customers do"
                if alone
                else "its cells are e-mail addresses, and no other single column contains ids"
            )
            known["customer"] = Guess(
                "customer",
                name,
                f"{why}; {free[name].distinct:,} different values in {free[name].cells:,} "
                "sampled rows",
            )
            ids.pop(name, None)
    if "order" not in known and "order" not in given:
        once = [
            n for n, days in ids.items() if days < 1.0001 and free[n].distinct * 5 > free[n].cells
        ]
        if len(once) == 1 and "customer" in {*known, *given}:
            look = free[once[0]]
            reason_text = (
                f"each value occurs on one day only, as orders do; {look.distinct:,} different "
                f"values in {look.cells:,} sampled rows"
            )
            known["order"] = Guess("order", once[0], reason_text)
    return known


def _with_codes(
    guesses: dict[str, Guess], sample: Sample, given: Mapping[str, str]
) -> dict[str, Guess]:
    """Add columns that contain only currency codes, or statuses of void orders, whatever their
    names.
    """
    known, taken = (
        dict(guesses),
        {*given.values(), *(g.column for g in guesses.values() if not g.rivals)},
    )
    for role, holds, why in (
        ("currency", _only_currencies, "it contains only currency codes"),
        ("status", _some_void, "some of its cells are statuses of void orders"),
    ):
        if role in known or role in given:
            continue
        found = [
            n
            for n, look in sample.looks.items()
            if n not in taken and 0 < look.distinct <= _MOST_CODES and holds(_values(sample, n))
        ]
        if len(found) == 1:
            known[role] = Guess(
                role, found[0], f"{why}; {sample.looks[found[0]].distinct:,} different values"
            )
            taken.add(found[0])
    return known


#: A column of codes or statuses has at most this many different values.
_MOST_CODES = 30


def _values(sample: Sample, name: str) -> set[str]:
    return {cell.strip() for cell in sample.cells[name] if cell is not None}


def _only_currencies(values: set[str]) -> bool:
    if not all(re.fullmatch("[A-Z]{3}", value) for value in values):
        return False
    from babel.core import get_global

    return values <= get_global("all_currencies").keys()


def _some_void(values: set[str]) -> bool:
    return any(is_void(value) for value in values)


#: The two sides of an account, as exports name them.
_DEBIT = set("debit soll debe debito dare debet".split())
_CREDIT = set("credit haben haber credito avere kredit".split())


def _both_sides(guesses: dict[str, Guess], sample: Sample) -> dict[str, Guess]:
    """Add a question for amounts in a debit and a credit column, since the file does not show which
    are sales.
    """
    sides = [
        [n for n, look in sample.looks.items() if look.numbers > 0.8 and set(words_of(n)) & words]
        for words in (_DEBIT, _CREDIT)
    ]
    if not all(len(side) == 1 for side in sides):
        return guesses
    (debit,), (credit,) = sides
    advice = (
        " If one contains purchases and the other money given back, pass for instance "
        f"--amount-column {shlex.quote(debit)} --credit-column {shlex.quote(credit)}."
    )
    why = f"sales are in one of `{debit}` and `{credit}`, refunds in the other"
    return {**guesses, "amount": Guess("amount", debit, why, (credit,), advice=advice)}


def _addresses_before_names(guesses: dict[str, Guess], sample: Sample) -> dict[str, Guess]:
    """Prefer a customer's e-mail address to the name, since two people can share a name."""
    customer = guesses.get("customer")
    if customer is None or not customer.rivals:
        return guesses
    mails = [n for n in (customer.column, *customer.rivals) if sample.looks[n].addresses > 0.8]
    others = [n for n in (customer.column, *customer.rivals) if n not in mails]
    if len(mails) != 1 or not all(
        "name" in words_of(n) or names_role("name", words_of(n)) for n in others
    ):
        return guesses
    look = sample.looks[mails[0]]
    why = (
        f"its cells are e-mail addresses, and people may share a name; {look.distinct:,} "
        f"different values in {look.cells:,} sampled rows"
    )
    return {**guesses, "customer": Guess("customer", mails[0], why)}


#: Values that occur on this many different days on average are customers, not orders.
_COMES_BACK = 1.15


def _can_be_id(look: Look) -> bool:
    whole = look.dates < 0.5 and look.fractions < 0.2 and not look.records
    return whole and look.digits > 0.8 and look.distinct > 1 and look.addresses < 0.5


def roles_or_question(
    guesses: list[Guess], source: Source, needed: tuple[str, ...]
) -> dict[str, str]:
    """Return role → column of the guesses. Raises SchemeError if two columns are equally good for a
    needed role.
    """
    for guess in guesses:
        if guess.rivals and guess.role in needed:
            names = " or ".join(f"`{n}`" for n in (guess.column, *guess.rivals))
            option = f"--{guess.role.replace('_', '-')}-column"
            error = SchemeError(
                f"{source.label}: {names} could be the {_ROLE_NAMES[guess.role]}. Choose with "
                f"{option} NAME.{_advice(guess)}"
            )
            question = which_column(guess.role, source, (guess.column, *guess.rivals))
            more = {
                name: tuple(f"{role} {column}" for role, column in roles)
                for name, roles in guess.sets
            }
            raise error.asking(
                replace(
                    question,
                    answers={**question.answers, **more},
                    sets={n: dict(roles) for n, roles in guess.sets},
                )
            )
    return {g.role: g.column for g in guesses if not g.rivals}


def which_column(role: str, source: Source, names: Sequence[str]) -> Question:
    """Return the question which column has the role, with the first three cells of each."""
    some = select(
        [named(sql("CAST(:c AS VARCHAR)", c=cell_column(n)), f"c{i}") for i, n in enumerate(names)],
        source.relation,
    )
    table = source.engine.table(some.limit(3, copy=False))
    cells = {
        n: tuple(shortened(c or "", 30) for c in table[f"c{i}"].to_pylist())
        for i, n in enumerate(names)
    }
    return Question(f"Which column is the {_ROLE_NAMES[role]}?", role, cells)


def _advice(guess: Guess) -> str:
    if guess.advice or guess.side_by_side_line is None:
        return guess.advice
    line, what = guess.side_by_side_line
    return f" If they are {what} side by side, write `{line}` under [orders] in a scheme."


def side_by_side(guess: Guess, sample: Sample) -> tuple[str, str] | None:
    """Return the line of a scheme that reads equally good amount columns side by side, and what
    these columns are called: months or channels.

    A column that is the sum of the others is excluded. Returns None if the names mean one amount
    with and without a part, such as net and gross, or if the cells rise and fall together.
    """
    names = [guess.column, *guess.rivals]
    if any(set(words_of(name)) & (_WITH | _PARTS) for name in names):
        return None
    numbers = {name: [_as_number(cell) for cell in sample.cells[name]] for name in names}
    totals = [
        name
        for name in names
        if len(names) > 2 and _is_sum(numbers[name], [numbers[n] for n in names if n != name])
    ]
    names = [name for name in names if name not in totals]
    days = [last_day_of(name) for name in names]
    if len(names) > 1 and all(days):
        pairs = ", ".join(f'"{day}" = {_toml(name)}' for day, name in zip(days, names, strict=True))
        return f"day_amounts = {{ {pairs} }}", "months"
    if len(names) < 2 or any(
        _go_together(numbers[a], numbers[b]) for a, b in combinations(names, 2)
    ):
        return None
    pairs = ", ".join(f"{_toml(name)} = {_toml(name)}" for name in names)
    return f"channel_amounts = {{ {pairs} }}", "channels"


def _as_number(cell: str | None) -> float | None:
    """Return an amount as an approximate float: the last comma or point before one or two digits is
    its decimal mark.
    """
    if cell is None or NUMBER.search(cell) is None:
        return None
    digits = re.sub(r"[^0-9.,]", "", cell)
    mark = re.search(r"[.,](?=\d{1,2}$)", digits)
    whole, part = (digits[: mark.start()], digits[mark.end() :]) if mark else (digits, "0")
    return float(f"{re.sub(r'[.,]', '', whole) or 0}.{part or 0}")


#: Rows that must be filled in several columns before these can be judged, and the share of them
#: that decides.
_FEWEST_ROWS, _MOST_OF = 3, 0.9


def _is_sum(total: Sequence[float | None], others: Sequence[Sequence[float | None]]) -> bool:
    """Return True if a column is the sum of the others in nearly all rows."""
    rows = [(t, sum(x or 0 for x in xs)) for t, *xs in zip(total, *others, strict=True) if t]
    return len(rows) >= _FEWEST_ROWS and sum(
        abs(t - s) < 0.006 * max(1, len(others)) for t, s in rows
    ) >= _MOST_OF * len(rows)


def _go_together(a: Sequence[float | None], b: Sequence[float | None]) -> bool:
    """Return True if two columns are filled in the same rows and one is nearly a fixed multiple of
    the other.
    """
    both = [(x, y) for x, y in zip(a, b, strict=True) if x and y]
    either = sum(bool(x) or bool(y) for x, y in zip(a, b, strict=True))
    if len(both) < _FEWEST_ROWS or len(both) < _MOST_OF * either:
        return False
    ratios = sorted(y / x for x, y in both)
    middle = ratios[len(ratios) // 2]
    return sum(abs(r - middle) <= 0.1 * middle for r in ratios) >= _MOST_OF * len(ratios)


_GIVEN_BACK = set(
    "refund refunded refunds returned erstattet erstattung ruckerstattung gutschrift rembourse "
    "remboursement reembolso rimborso rimborsato "
    "terugbetaald terugbetaling aterbetalning refundering tilbagebetaling zwrot".split()
)


def given_back(source: Source, columns: Mapping[str, str]) -> str | None:
    """Return a column without a role whose name means refunds and whose cells have some; None
    without one.
    """
    names = [
        n for n in source.columns if n not in columns.values() and set(words_of(n)) & _GIVEN_BACK
    ]
    if not names:
        return None
    sample = sample_of(source)
    return next(
        (n for n in names if sample.looks[n].numbers > 0.8 and _some_money(sample.cells[n])), None
    )


#: Names of the hundredth part of a currency in several languages, as in column names.
_MINOR = set(
    "cent cents pence penny pennies minor centime centimes centesimi centimos centavos groszy grosze haler halere ore kopek kopeks".split()
)


def in_minor_units(source: Source, name: str) -> bool:
    """Return True if an amount's column name means cents or the like, and all its cells are whole
    numbers.
    """
    if not set(words_of(name)) & _MINOR:
        return False
    cells = [cell for cell in sample_of(source).cells[name] if cell is not None]
    return bool(cells) and all(re.fullmatch(r"[+-]?\d+(\.0+)?", cell) for cell in cells)


def amount_in_one_currency(source: Source, columns: Mapping[str, str]) -> str | None:
    """Return another column that is an amount by name and cells, in a single currency; None without
    one.
    """
    sample = sample_of(source)
    for name, look in sample.looks.items():
        words = words_of(name)
        if (
            name in columns.values()
            or look.numbers < 0.8
            or is_part(words)
            or not names_role("amount", words)
        ):
            continue
        marks = {
            re.sub(r"[\d.,'’()+\-−\s]", "", cell) for cell in sample.cells[name] if cell is not None
        }
        if len({currency_of(mark) for mark in marks if mark}) < 2:
            return name
    return None


def _some_money(cells: Sequence[str | None]) -> bool:
    return any(re.search("[1-9]", cell) for cell in cells if cell is not None)


def _toml(text: str) -> str:
    """Return a text as a quoted TOML string."""
    return json.dumps(text, ensure_ascii=False)


_ROLE_NAMES = {
    "customer": "customer's id", "order": "order's id", "placed": "day of the order",
    "amount": "amount", "unit_price": "unit price",
    "quantity": "quantity", "discount": "discount", "name": "customer's name", "channel": "channel",
    "status": "order's status",
    "currency": "currency", "cost": "cost",
}  # fmt: skip


def _score_of_name(role: str, name: str, look: Look) -> int:  # noqa: ARG001  # called like ``_score``
    words = words_of(name)
    against = set(words) & set(_AGAINST.get(role, "").split())
    has_id = bool(set(words) & _ID) and role in ("customer", "order")
    return (
        2 * names_role(role, words) - 3 * len(against) + 2 * has_id
        if names_role(role, words)
        else 0
    )


@dataclass(frozen=True)
class _Sign:
    """Evidence for or against a column in some roles."""

    roles: tuple[str, ...]
    points: int
    holds: Callable[[Sequence[str], Look], bool]
    named: bool | None = True
    """True if it counts only when the name fits the role, False if only when it does not, None if
    always.
    """


_IDS, _TEXTS = ("customer", "order"), ("name", "channel", "status", "currency")
_DAY_WORDS = frozenset({"order", "placed", "sold", "purchase", "invoice", "created"})
_AMOUNT_WORDS = frozenset({"line", "total", "amount", "betrag"})
#: Requirements on the cells of a column for some roles.
_FITTING: tuple[tuple[tuple[str, ...], Callable[[Sequence[str], Look], bool]], ...] = (
    (("placed",), lambda words, look: look.dates > 0.8 or _is_stamp(words, look)),
    (("amount", "unit_price", "quantity", "cost"), lambda _, look: look.numbers > 0.8),
    (("discount",), lambda _, look: look.numbers > 0.8 or look.cells == 0 or look.fractions > 0.5),
    (_IDS, lambda _, look: look.distinct > 1 and not look.records),
    ((*_IDS, *_TEXTS), lambda _, look: look.dates < 0.5 and look.fractions < 0.2),
    (("channel",), lambda _, look: look.distinct <= 50),
    (("amount",), lambda words, _: not is_part(list(words))),
)
_SIGNS = (
    _Sign(_IDS, 2, lambda words, _: _is_id(words)),
    _Sign(("order",), -2, lambda _, look: look.distinct * 20 < look.cells, named=None),
    _Sign(("placed",), 2, lambda words, _: bool(_DAY_WORDS & set(words))),
    _Sign(("placed",), 1, lambda *_: True, named=False),
    _Sign(("amount",), 1, lambda _, look: look.fractions > 0.3),
    _Sign(("amount",), 2, lambda words, _: bool(_AMOUNT_WORDS & set(words))),
)


def _score(role: str, name: str, look: Look) -> int:
    """Return how well a column fits a role; 0 or less means not at all. Name and contents both
    count, and either can exclude it.
    """
    words = words_of(name)
    against = set(_AGAINST.get(role, "").split())
    score = 2 * names_role(role, words)
    score -= 3 * sum(
        w in against or (len(w) > 5 and any(len(a) > 4 and a in w for a in against)) for w in words
    )
    if not all(fits(words, look) for roles, fits in _FITTING if role in roles) or not (
        look.cells or role == "discount"
    ):
        return 0
    if role == "amount" and score == 0:  # plain fractions whose names say nothing
        return int(look.fractions > 0.5 and not any(names_role(r, words) for r in ROLE_WORDS))
    name_fits = score > 0
    counting = [s for s in _SIGNS if role in s.roles and s.named in (None, name_fits)]
    return score + sum(sign.points for sign in counting if sign.holds(words, look))


def _is_stamp(words: Sequence[str], look: Look) -> bool:
    """Return True for whole numbers that can be dates, under a name that suggests it."""
    return bool(look.stamp and names_role("placed", list(words)) and not set(words) & _ID)


def _is_id(words: Sequence[str]) -> bool:
    return bool(set(words) & _ID) or bool(words and words[-1].endswith(("nr", "nummer", "id")))


#: Parts taken off or added to an amount, and words in a name for an amount with or without them.
_PARTS = set(
    "discount rabatt remise descuento sconto korting desconto rabat nachlass off reduction rebate "
    "tax vat mwst ust steuer tva iva btw moms shipping versand "
    "porto postage delivery lieferung livraison envio fee fees tip".split()
)
_WITH = set(
    "after before with without incl including inclusive excl excluding ex net gross less nach vor "
    "mit ohne inkl exkl netto brutto "
    "abzuglich zzgl apres avant avec sans hors ttc ht con sin senza med uden utan".split()
)


def is_part(words: list[str]) -> bool:
    """Return True if a name means a part of an amount, as ``Discount amount`` does and ``Total
    after discount`` does not.
    """
    if set(words) & _GIVEN_BACK:
        return True
    return bool(set(words) & _PARTS) and not set(words) & _WITH


def _best(role: str, scored: dict[str, int], looks: Mapping[str, Look]) -> Guess | None:
    if not scored:
        return None
    top = max(scored.values())
    best = [n for n, score in scored.items() if score == top]
    look, name = looks[best[0]], best[0]
    by_name = (
        f"its name suggests the {_ROLE_NAMES[role]}"
        if names_role(role, words_of(name))
        else "its cells fit"
    )
    held = {
        "placed": f"{100 * look.dates:.0f} % of its cells are dates",
        "customer": f"{look.distinct:,} different values in {look.cells:,} sampled rows",
        "order": f"{look.distinct:,} different values in {look.cells:,} sampled rows",
    }.get(
        role,
        f"{100 * look.numbers:.0f} % of its cells are numbers"
        if role in _NUMERIC
        else f"{look.distinct:,} different values",
    )
    if not look.cells:
        held = "it has no cells yet"
    stamp = look.stamp if role == "placed" and look.dates <= 0.8 else ""
    if stamp:
        held = f"its cells are whole numbers that can be dates, as {stamp}"
    return Guess(role, name, f"{by_name}; {held}", tuple(best[1:]), stamp)


_NUMERIC = ("amount", "unit_price", "quantity", "discount", "cost")


def _without_needless(guesses: dict[str, Guess], given: Mapping[str, str]) -> dict[str, Guess]:
    """Drop price and quantity if there is an amount; without one, keep them only together."""
    kept = dict(guesses)
    prices = [g for role, g in kept.items() if role == "unit_price"]
    if (
        not {"amount", "unit_price", "quantity"} & given.keys()
        and not {"amount", "quantity"} & kept.keys()
        and prices
    ):
        kept["amount"] = replace(
            prices[0],
            role="amount",
            why=f"{prices[0].why}; there are no quantities, so it is the row's amount",
        )
    priced = {"unit_price", "quantity"} <= kept.keys() | given.keys()
    weak = "amount" in kept and not names_role("amount", words_of(kept["amount"].column))
    if "unit_price" in given or (weak and priced):
        kept.pop("amount", None)
    if "amount" in kept or "amount" in given or not priced:
        for role in ("unit_price", "quantity", "discount"):
            kept.pop(role, None)
    return kept

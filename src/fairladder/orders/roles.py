"""Map roles to columns."""

from collections.abc import Collection
from dataclasses import dataclass, replace

from fairladder.errors import SchemeError, nearest
from fairladder.orders.guess import (
    given_back,
    guess_roles,
    in_minor_units,
    roles_or_question,
    which_column,
)
from fairladder.orders.source import Source
from fairladder.orders.words import words_of
from fairladder.scheme import ROLES, OrdersPart


@dataclass(frozen=True)
class Roles:
    """Role → column of the source. ``customer``, ``placed`` and the amount's columns are always
    present.
    """

    columns: dict[str, str]
    guessed: tuple[str, ...] = ()
    """The roles that were guessed."""
    given_back: str = ""
    """The name of a column that looks like refunded amounts and has no role; empty if there is none
    or the roles are given.
    """
    minor_units: bool = False
    """True if the amount's column contains whole numbers and its name means cents or the like."""
    one_currency: bool = False
    """True if the user declared that all amounts are in one currency."""
    date_format: str = ""
    """The date format, if a guessed column contains dates as plain numbers."""

    def get(self, role: str) -> str | None:
        """Return the role's column, or None."""
        return self.columns.get(role)

    @property
    def factors(self) -> list[str]:
        """The columns whose product is the amount before the discount."""
        return [self.columns[r] for r in ("amount", "unit_price", "quantity") if r in self.columns]


def resolve_roles(settings: OrdersPart, source: Source) -> Roles:
    """Return the roles given in the scheme; a missing role takes a column with its name, if there
    is one.

    Raises SchemeError with the role, the column and the most similar column.
    """
    given = settings.roles()
    absent = {
        role
        for role in OPTIONAL
        if given.get(role, "").casefold() == NONE and given[role] not in source.columns
    }
    given = {role: name for role, name in given.items() if role not in absent}
    for role, name in given.items():
        if name not in source.columns:
            raise SchemeError(
                f"{source.label} has no column `{name}`, which [orders] {role} requires. "
                f"{nearest(name, source.columns)}"
            )
    columns = dict(given)
    priced = bool(settings.unit_price)
    for role in ROLES:
        skip = (
            role in columns
            or role in absent
            or role not in source.columns
            or role in given.values()
        )
        if (
            skip
            or (priced and role == "amount")
            or (not priced and role in {"unit_price", "quantity", "discount"})
        ):
            continue
        columns[role] = role
    if "amount" not in columns and {"unit_price", "quantity"} <= source.columns.keys():
        columns.update(
            {r: r for r in ("unit_price", "quantity", "discount") if r in source.columns}
        )
    roles = (
        _guessed(columns if given else {}, source, absent) if _missing(columns) else Roles(columns)
    )
    money = roles.get("amount") or roles.get("unit_price")
    minor = money is not None and in_minor_units(source, money)
    return replace(roles, minor_units=minor, one_currency="currency" in absent)


def _missing(columns: dict[str, str]) -> list[str]:
    """Return the required roles that are not known."""
    missing = [role for role in ("customer", "placed") if role not in columns]
    if "amount" not in columns and not {"unit_price", "quantity"} <= columns.keys():
        missing.append("amount")
    return missing


def _guessed(known: dict[str, str], source: Source, absent: Collection[str]) -> Roles:
    """Return the known roles and guesses for the others, except those that are ``absent``."""
    guesses = [guess for guess in guess_roles(source, known) if guess.role not in absent]
    columns = {**known, **roles_or_question(guesses, source, NEEDED)}
    if _missing(columns):
        _complete(columns, source)
    written = next((g.date_format for g in guesses if g.role == "placed" and not g.rivals), "")
    back = "" if {"discount", "unit_price"} & columns.keys() else given_back(source, columns) or ""
    guessed = tuple(role for role in columns if role not in known)
    return Roles(columns, guessed, back, date_format=written)


#: The user's value for a role without a column, and the optional roles.
NONE, OPTIONAL = "none", ("order", "discount", "name", "channel", "status", "currency", "cost")
#: Roles for which two equally good columns raise a question; other roles stay empty.
NEEDED = ("customer", "order", "placed", "amount", "unit_price", "quantity")


_PARTS = ({"year", "jahr", "annee", "ano", "anno", "jaar", "ar", "rok"},
          {"month", "monat", "mois", "mes", "mese", "maand", "manad", "miesiac"},
          {"day", "tag", "jour", "dia", "giorno", "dag", "dzien"})  # fmt: skip


def _parts_of_days(source: Source) -> str:
    """Return advice for files that have year, month and day in separate columns."""
    found = [
        next((name for name in source.columns if set(words_of(name)) & words), None)
        for words in _PARTS
    ]
    if not all(found):
        return ""
    return (
        f" The columns {', '.join(f'`{name}`' for name in found)} contain parts of a date: "
        "combine them into one column, as 2026-06-30."
    )


def _complete(columns: dict[str, str], source: Source) -> None:
    if missing := _missing(columns):
        names = ", ".join(f"`{name}`" for name in list(source.columns)[:20])
        wanted = " and ".join(f"`{role}`" for role in missing)
        options = " ".join(f"--{role}-column NAME" for role in missing)
        error = SchemeError(
            f"{source.label}: no column is known for {wanted}. Name it under [orders] in the "
            f"scheme or with {options}. "
            f"The columns are: {names}.{_parts_of_days(source) if 'placed' in missing else ''}"
        )
        free = [name for name in source.columns if name not in columns.values()]
        raise error.asking(which_column(missing[0], source, free)) if free else error

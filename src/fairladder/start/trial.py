"""Try the first scheme for an export on its orders."""

import json
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from fairladder.book.accounts import odd_accounts
from fairladder.book.look import people_of
from fairladder.book.opened import open_unread
from fairladder.book.read import Read, read
from fairladder.errors import DataError, Question, SchemeError, shortened
from fairladder.findings import sentences
from fairladder.orders.anywhere import open_anything
from fairladder.orders.guess import guess_roles
from fairladder.orders.roles import resolve_roles
from fairladder.scheme import ROLES, scheme_from
from fairladder.start.first_scheme import first_scheme
from fairladder.wording import counted


@dataclass(frozen=True)
class Trial:
    """A first scheme: its TOML, the roles with their reasons, and the result of reading the orders
    with it.
    """

    toml: str
    roles: list[tuple[str, str, str]]
    balance: dict[str, Any]
    trouble: str
    """What must be resolved first; empty if the scheme works."""
    question: Question | None = None
    """The question that would resolve the trouble."""
    findings: tuple[str, ...] = ()
    """The findings that every command will show for these orders."""


def try_first_scheme(
    orders: Any, given: Mapping[str, Any], customers: Any = None, customers_name: str = ""
) -> Trial:
    """Guess the missing roles, write the scheme, and try it on the orders, and on a customers file
    if there is one.

    ``customers_name`` is the file's name in the scheme. If two columns are equally good for an
    important role, or a role has none, its line is left to be completed.
    """
    known = {role: given[role] for role in ROLES if role in given}
    scheme = scheme_from({"orders": dict(given)}, "options")
    source = open_anything(orders, scheme.orders)
    everything = guess_roles(source, known)
    guesses = [g for g in everything if not g.rivals]
    toml = first_scheme(source, everything, dict(given))
    why = {g.role: (g.column, g.why) for g in guesses} | {
        role: (name, "given by you") for role, name in known.items()
    }
    roles = [(role, *why[role]) for role in ROLES if role in why]
    try:
        # raises a question if two columns are equally good, or none is found
        resolve_roles(scheme.orders, source)
    except SchemeError as error:
        return Trial(toml, roles, {}, str(error), error.question)
    try:
        tried = read(
            open_unread(orders, customers, scheme_from(tomllib.loads(toml), "the first scheme")),
            kind=Read,
        )
        tried.require_fit()
        members = None if tried.members is None else (customers_name, tried.members.id_column)
        toml = first_scheme(source, everything, dict(given), tried.states(), members)
    except (DataError, SchemeError) as error:
        return Trial(toml, roles, {}, str(error), error.question)
    return Trial(
        toml, roles, tried.balance.as_json(), "", None, (*sentences(tried.findings), *_odd(tried))
    )


def _odd(tried: Read) -> list[str]:
    """Return a warning about test, staff and shared accounts by their ids, with the condition that
    excludes them.
    """
    people = people_of(tried)
    found = odd_accounts(people)
    if found is None:
        return []
    held, odd = people.one(found, n="COUNT(*)")["n"], people.first(found)
    column = tried.opened.roles.columns["customer"]
    name = column if column.isidentifier() else f'"{column}"'
    listed = ", ".join("'" + shortened(one, 40).replace("'", "''") + "'" for one in odd)
    more = f" and {held - len(odd):,} more" if held > len(odd) else ""
    look = counted(held, "customers", "look")
    return [
        f"Warning: by id or name {look} like accounts rather than customers: {listed}{more}. Accounts for "
        "tests, staff or strangers can be excluded, with `where = "
        f"{json.dumps(f'{name} NOT IN ({listed})', ensure_ascii=False)}` under [orders]."
    ]

"""Write the first scheme for an export as commented TOML, with the reason for each guess."""

import json
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from sqlglot import exp

from fairladder.orders.guess import Guess, is_part
from fairladder.orders.source import Source
from fairladder.orders.words import words_of
from fairladder.scheme import ROLES
from fairladder.sqltree import cell_column, named, select, sql

#: A status, its rows and money, and whether it means a void order.
State = tuple[str | None, int, Decimal, bool]


_HINTS = {
    "amount_is": '# amount_is = "order" # if each row repeats its order\'s total',
    "date_format": '# date_format = "day-first" # iso, day-first, month-first, year-first, or a pattern such as %d.%m.%y',
}


def first_scheme(
    source: Source,
    guesses: list[Guess],
    given: Mapping[str, Any],
    states: Sequence[State] = (),
    members: tuple[str, str] | None = None,
) -> str:
    """Return TOML that works unchanged; what the rows do not show is commented out.

    ``states`` are the statuses of orders that count, with rows, money, and whether they mean void
    orders; ``members`` are the customers file and its id column.
    """
    certain = {g.role: g for g in guesses if not g.rivals}
    lines = [
        (
            f"# How the orders in {source.label} are read. Each guess has its reason; correct "
            "what is wrong."
        ),
        "",
        "[orders]",
    ]
    lines += [
        f"{key} = {json.dumps(value, ensure_ascii=False)}"
        for key, value in given.items()
        if key not in ROLES
    ]
    for role in ROLES:
        if role in given:
            lines.append(f"{role} = {_quoted(given[role])} # given by you")
        elif role in certain:
            lines.append(f"{role} = {_quoted(certain[role].column)} # {certain[role].why}")
        elif (open_ones := _candidates(role, source, guesses, given)) is not None:
            lines.append(
                f'# {role} = "…" # to fill in, and the sign in front to take off. It could be '
                f"{open_ones}"
            )
            lines += _side_by_side(role, guesses)
    if (placed := certain.get("placed")) and placed.date_format and "date_format" not in given:
        lines.append(
            f'date_format = "{placed.date_format}" # its cells are whole numbers that can be days '
            "so"
        )
        given = {**given, "date_format": placed.date_format}
    status = given.get("status") or (certain["status"].column if "status" in certain else None)
    lines += [
        *(_where(source, status, states) if status else []),
        *([] if "order" in certain or "order" in given else ["# order = \"…\" # no order id was found: every row counts as one order"]),
        *(hint for key, hint in _HINTS.items() if key not in given),
        *_unused(source, certain.get("amount"), given),
        "",
        "[money]",
        "decimals = 2",
        'refunds = "net" # "ignore" keeps refunds out of spend',
        *([_currency(source, certain["currency"].column)] if "currency" in certain else []),
        "",
        "[customers]",
        *_members(members),
        "",
        "[time]",
        "# as_of = 2026-06-30 # default: the latest day in the orders",
        '# time_zone = "Europe/Lisbon" # the business time zone',
        "",
        "[scores]",
        "rungs = 5",
        'method = "even"',
        "",
        "# Without [[segments]] the built-in rules apply. A rule of your own looks like "
        "this; the last one needs",
        "# `otherwise = true` instead of `when`.",
        "# [[segments]]",
        '# name = "mainstay"',
        '# when = "recency_score >= 4 AND frequency_score >= 4 AND monetary_score >= 4"',
        '# stance = "keep" # keep, grow, welcome, win-back or leave',
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def _members(members: tuple[str, str] | None) -> list[str]:
    if members is None:
        return ['# file = "customers.csv" # one row per customer, next to this file']
    file, id_column = members
    return [
        f"file = {_quoted(file)} # one row per customer, next to this file",
        f"customer = {_quoted(id_column)}",
    ]


def _candidates(
    role: str, source: Source, guesses: list[Guess], given: Mapping[str, Any]
) -> str | None:
    """Return the columns that could have a required role that is not known, in words; None if the
    role is not required.
    """
    rivals = next((g for g in guesses if g.role == role and g.rivals), None)
    priced = {"unit_price", "quantity"} <= {*given, *(g.role for g in guesses if not g.rivals)}
    if rivals is None and (
        role not in ("customer", "placed", "amount") or (role == "amount" and priced)
    ):
        return None
    taken = {*_roles_given(given), *(g.column for g in guesses if not g.rivals)}
    names = (
        [rivals.column, *rivals.rivals]
        if rivals
        else [name for name in source.columns if name not in taken]
    )
    return (
        ", ".join(_one_line(name) for name in names[:12])
        or "none of the columns, which all have other roles"
    )


def _unused(source: Source, amount: Guess | None, given: Mapping[str, Any]) -> list[str]:
    """Return a comment on columns of taxes, shipping, discounts and the like that are neither added
    nor subtracted.
    """
    name = given.get("amount") or (amount.column if amount else None)
    parts = [
        f"`{_one_line(n)}`"
        for n in source.columns
        if n != name and n not in _roles_given(given) and is_part(words_of(n))
    ]
    if name is None or not parts:
        return []
    return [f"# Neither added to nor subtracted from `{_one_line(name)}`: {', '.join(parts[:8])}"]


def _roles_given(given: Mapping[str, Any]) -> list[str]:
    return [given[role] for role in ROLES if role in given]


def _side_by_side(role: str, guesses: list[Guess]) -> list[str]:
    """Return the line that reads equally good amount columns as months or channels side by side."""
    rivals = next((g for g in guesses if g.role == role == "amount" and g.rivals), None)
    if rivals is None or rivals.advice:
        return []
    side_by_side_line = rivals.side_by_side_line
    return (
        [f"# {side_by_side_line[0]} # or this, if they are {side_by_side_line[1]} side by side"]
        if side_by_side_line
        else []
    )


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def _values(source: Source, name: str) -> list[str]:
    cell = sql("TRIM(CAST(:c AS VARCHAR))", c=cell_column(name))
    query = select([named(cell, "value"), named(sql("COUNT(*)"), "n")], source.relation).group_by(
        "1", copy=False
    )
    query = query.order_by(exp.Ordered(this=exp.column("n"), desc=True), "value", copy=False).limit(
        6, copy=False
    )
    return [row["value"] for row in source.engine.table(query).to_pylist() if row["value"]]


def _where(source: Source, status: str, states: Sequence[State]) -> list[str]:
    """Return comments with the statuses, and a condition that excludes those of void orders."""
    name = status if status.isidentifier() else f'\\"{status}\\"'
    if not states:
        values = _values(source, status)
        return [
            f"# where = \"{name} <> '{values[-1] if values else 'cancelled'}'\" # `{status}` "
            f"holds {', '.join(values)}"
        ]
    lines = []
    for state, rows, money, void in states:
        counts = " - these count; should they?" if void else ""
        lines.append(
            f"#   {_one_line(state or '(blank)')}: {rows:,} row{'' if rows == 1 else 's'}, "
            f"{money:,}{counts}"
        )
    void_ones = [state for state, _, _, void in states if void and state] or [
        str(states[-1][0] or "cancelled")
    ]
    quoted = ", ".join(
        "'" + _one_line(state).replace("'", "''").replace('"', '\\"') + "'" for state in void_ones
    )
    condition = f"{name} IS NULL OR {name} NOT IN ({quoted})"
    return [f'# where = "{condition}" # uncomment to exclude these. `{status}` has:', *lines]


def _one_line(text: str) -> str:
    return " ".join(text.split())


def _currency(source: Source, name: str) -> str:
    values = _values(source, name)
    return (
        f"# currency = {_quoted(values[0] if values else 'EUR')} # the one to keep; `{name}` has "
        f"{', '.join(values)}"
    )

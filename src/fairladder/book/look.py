"""All findings of orders that have been read, equal for every command: from the pass, a second look
at the rows, and the customers.
"""

import shlex
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from sqlglot import exp

from fairladder.book.balance import BLANK
from fairladder.book.customer_findings import customer_findings
from fairladder.book.customers import whole_numbers
from fairladder.book.inspection import Inspected, row_inspection
from fairladder.book.lines import KeptLines
from fairladder.book.passes import keep_rows
from fairladder.book.people import People
from fairladder.book.signs import balance_findings, pass_findings
from fairladder.days import today
from fairladder.findings import Finding, codes_in
from fairladder.orders.guess import amount_in_one_currency
from fairladder.orders.row_kinds import kinds_of_rows
from fairladder.orders.rows import Rows
from fairladder.orders.source import FILE
from fairladder.orders.states import RowState
from fairladder.orders.status_words import is_final, says_void
from fairladder.sqltree import cell_column, named, select, sql

if TYPE_CHECKING:
    from fairladder.book.read import Read

#: A column with more distinct values is not treated as an order status.
MOST_STATUSES = 40
_BY_ID = frozenset({RowState.TOTAL_ROW, RowState.NO_CUSTOMER, RowState.NO_ORDER})


@dataclass(frozen=True)
class Looked:
    """The findings, and the codes of findings that were skipped because they take too long."""

    found: tuple[Finding, ...]
    left_to_check: tuple[str, ...] = ()


def look(orders: "Read") -> Looked:
    """Return the findings shown by every command. For large sources and clusters, those that need
    another pass are left to `check`.
    """
    limits = orders.engine.limits
    large = orders.balance.rows_read > limits.looked_at
    by_rows = _of_rows(orders) if not large and _is_suspicious(orders) else []
    with_customers = limits.customer_findings and (orders.kept_groups is not None or not large)
    by_customers = of_customers(orders, notes=False) if with_customers else _unmatched(orders)
    of_customers_left = (
        ()
        if with_customers
        else tuple(c for c in codes_in("customers") if c != "unmatched-customers")
    )
    left = (*(codes_in("rows") if large else ()), *of_customers_left)
    return Looked(tuple(_joined(of_pass(orders), by_rows, by_customers)), left)


def look_closely(orders: "Read", kept: KeptLines | None) -> Looked:
    """Return the findings with all rows examined, whatever their number; ``kept`` are the rows if
    they are kept.
    """
    return Looked(tuple(_joined(of_pass(orders), _of_rows(orders, kept), of_customers(orders))))


def _joined(*parts: Sequence[Finding]) -> list[Finding]:
    """Merge the findings of several passes. For each code the latest pass wins, since it has
    examples.
    """
    latest = {f.code: n for n, part in enumerate(parts) for f in part}
    return [f for n, part in enumerate(parts) for f in part if latest[f.code] == n]


def of_pass(orders: "Read") -> list[Finding]:
    """Return the findings of the pass over the rows itself."""
    signs, rows = orders.account.signs, orders.rows
    void = _void_statuses(rows) if signs.void_rows else []
    currencies = orders.account.currencies
    return [
        *balance_findings(
            orders.balance, currencies, _instead(rows) if len(currencies) > 1 else ""
        ),
        *pass_findings(signs, orders.scheme.money.decimals, orders.roles, void),
    ]


def _instead(rows: Rows) -> str:
    """Return advice to use another amount column if amounts are in several currencies."""
    name = amount_in_one_currency(rows.source, rows.roles.columns)
    return (
        f" Or use `{name}` as the amount, which is in one currency: --amount-column "
        f"{shlex.quote(name)}."
        if name
        else ""
    )


def _void_statuses(rows: Rows) -> list[str]:
    return [text for text in _statuses(rows, void=True) if text]


def _statuses(rows: Rows, void: bool = False) -> list[str | None]:
    """Return the different cells of the status column, or only those that mean that an order is
    void.
    """
    name = rows.roles.get("status")
    if name is None:
        return []
    cell = sql("TRIM(CAST(:c AS VARCHAR))", c=cell_column(name))
    query = select([named(cell, "status")], rows.source.relation).distinct(copy=False)
    query = query.where(says_void(cell), copy=False) if void else query
    table = rows.source.engine.table(
        query.order_by("status", copy=False).limit(MOST_STATUSES + 1, copy=False)
    )
    found: list[str | None] = table["status"].to_pylist()
    return found


def _is_suspicious(orders: "Read") -> bool:
    """Return True if a cheap look at the source shows that rows need a closer one."""
    rows, states, signs = orders.rows, orders.balance.rows, orders.account.signs
    if any(states.get(s) for s in (RowState.OUTSIDE, RowState.BAD_DATE, RowState.BAD_AMOUNT)):
        return True
    if signs.repeated_orders and signs.few:
        return True
    if any(status and not is_final(status) for status in _statuses(rows)) or kinds_of_rows(rows):
        return True
    return _any_repeats(rows) or _any_shared(rows)


def _any_repeats(rows: Rows) -> bool:
    """Return True if rows have the same cells as another, in one file or in several, or an order id
    is in several files.
    """
    source = rows.source
    cells = [cell_column(name) for name in source.columns if not (source.parts and name == FILE)]
    same = select([sql("COUNT(*) AS n")], source.relation).group_by(
        exp.Anonymous(this="HASH", expressions=cells), copy=False
    )
    if _is_any(rows, same.having(sql("COUNT(*) > 1"), copy=False)):
        return True
    order = rows.roles.get("order")
    if order is None or not source.parts:
        return False
    files = select([sql("COUNT(*) AS n")], source.relation).group_by(cell_column(order), copy=False)
    return _is_any(rows, files.having(sql("MIN(:f) <> MAX(:f)", f=cell_column(FILE)), copy=False))


def _any_shared(rows: Rows) -> bool:
    order, customer = rows.roles.get("order"), rows.roles.get("customer")
    if order is None or customer is None:
        return False
    by_order = select([sql("COUNT(*) AS n")], rows.source.relation).group_by(
        cell_column(order), copy=False
    )
    return _is_any(
        rows, by_order.having(sql("MIN(:c) <> MAX(:c)", c=cell_column(customer)), copy=False)
    )


def _is_any(rows: Rows, query: exp.Select) -> bool:
    return bool(rows.source.engine.table(query.limit(1, copy=False)).num_rows)


def _of_rows(orders: "Read", kept: KeptLines | None = None) -> list[Finding]:
    kept = kept or orders.kept_rows
    looked_at = kept or keep_rows(orders.rows, as_written=False)
    states = orders.balance.rows
    outside = bool(states.get(RowState.OUTSIDE))
    inspected = Inspected(
        looked_at, not _BY_ID.isdisjoint(states), outside, today(orders.scheme.time.time_zone)
    )
    try:
        return row_inspection(inspected)
    finally:
        if kept is None:
            looked_at.forget()


def _unmatched(orders: "Read") -> list[Finding]:
    """Return the finding that most ids of the orders and of the customers file differ, as a list of
    one or none.
    """
    if orders.members is None or orders.balance.mostly_unusable:
        return []
    found = orders.groups.unmatched(orders.members.table.select(["customer"]), orders.members.label)
    return [found] if found is not None else []


def of_customers(orders: "Read", *, notes: bool = True) -> list[Finding]:
    """Return the findings about customers; for each currency separately if none is chosen."""
    with orders.customer_engine.passing():
        found = _unmatched(orders)
        if len(orders.account.currencies) < 2:
            return found + customer_findings(people_of(orders), notes=notes)
        for currency in orders.account.currencies:
            found += in_currency(
                customer_findings(people_of(orders, currency), notes=notes), currency
            )
        return found


def people_of(orders: "Read", currency: str | None = None) -> People:
    """Return the customers; with ``currency`` only those with orders in it, with sums in it, and
    without the customers file.
    """
    groups, members, engine = orders.groups, orders.members, orders.customer_engine
    decimals, id_name = orders.scheme.money.decimals, orders.rows.customer_in_conditions
    if currency is not None:
        own = exp.Literal.string(currency)
        test = sql("currency IS NULL") if currency == BLANK else sql("currency = :c", c=own)
        relation = engine.keep(whole_numbers(groups, None).where(test, copy=False))
        return People(engine, relation, "name" in groups.columns, False, decimals, id_name)
    has_names = "name" in groups.columns or (
        members is not None and "name" in members.table.column_names
    )
    return People(engine, orders.base, has_names, members is not None, decimals, id_name)


def in_currency(findings: Sequence[Finding], currency: str) -> list[Finding]:
    """Return the findings with the currency added to their text."""
    return [replace(f, effect=f"{f.effect} (in {currency})") for f in findings]

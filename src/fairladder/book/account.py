"""Build the result of one pass over the rows: the balance, with undecided rows decided once all
totals are known.
"""

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import pyarrow as pa
from sqlglot import exp

from fairladder.book.balance import Balance, balance_of
from fairladder.book.set_aside import orders_total, undecided_groups
from fairladder.book.signs import Signs, signs_of
from fairladder.orders.rows import Rows
from fairladder.orders.states import SET_ASIDE, RowState


@dataclass(frozen=True)
class Account:
    """The result of one pass over the rows, apart from the customers."""

    balance: Balance
    totals: tuple[int, ...]
    """Sums in minor units that identify a row without customer, order and date as a total."""
    latest: dt.date | None
    """The latest day of a row that is not set aside, regardless of `where`; None without rows, or
    if a day was given.
    """
    offsets: bool
    """True if text timestamps with an offset are read as the day that is written."""
    signs: Signs

    @property
    def readable(self) -> int:
        """Sum of all amounts that could be read, in minor units."""
        return sum(self.balance.amounts.values())

    @property
    def currencies(self) -> list[str]:
        """Currencies of the usable rows, if the orders have a currency column."""
        return [
            currency
            for currency, sums in self.balance.by_currency.items()
            if any(state not in SET_ASIDE for state in sums)
        ]


class RowsApart(Protocol):
    """Kept rows, some of which need a second look."""

    def as_rows(self) -> exp.Select:
        """Return the rows with the columns of ``Rows.tree``."""
        ...


def account_of(rows: Rows, summed: pa.Table, kept: RowsApart | None = None) -> Account:
    """Return the account of a pass from its groups, ``summed`` by state. If the rows were ``kept``,
    undecided rows are read from there and not from the source.
    """
    sums, decimals = summed.to_pylist(), rows.scheme.money.decimals
    used = [row for row in sums if row["state"] == RowState.USED]
    decided_rows, totals = _decided(rows, sums, balance_of(sums, decimals), kept)
    return Account(
        balance_of(decided_rows, decimals, rows.rates is not None),
        totals,
        _latest(sums),
        any(row.get("offsets") for row in used),
        signs_of(sums, used),
    )


def _latest(sums: Sequence[dict[str, Any]]) -> dt.date | None:
    """Return the latest day of rows that are used, filtered out or outside the date range."""
    states = range(RowState.FILTERED_OUT, RowState.NEITHER)
    return max(
        (
            s["latest_row"]
            for s in sums
            if s.get("latest_row") and (s["state"] == RowState.USED or s["state"] in states)
        ),
        default=None,
    )


def _decided(
    rows: Rows, groups: Sequence[dict[str, Any]], balance: Balance, kept: RowsApart | None
) -> tuple[Sequence[dict[str, Any]], tuple[int, ...]]:
    """Decide rows without customer, order and date: a row whose amount equals a total of the others
    is a total row.
    """
    if not balance.rows.get(RowState.UNDECIDED):
        return groups, ()
    engine = rows.source.engine
    usable = balance.amount(
        *(s for s in balance.rows if s not in SET_ASIDE and s != RowState.UNDECIDED)
    )
    totals = [usable]
    if rows.scheme.orders.amount_is == "order" and rows.has_orders:
        totals += [
            t for t in engine.table(orders_total(rows))["total"].to_pylist() if t is not None
        ]
    whole = [int(t) for t in totals]
    tree = rows.tree() if kept is None else kept.as_rows()
    extra = engine.table(
        undecided_groups(rows, tree, whole, sum(balance.amounts.values()))
    ).to_pylist()
    others = [g for g in groups if g["state"] != RowState.UNDECIDED]
    return [*others, *(g for g in extra if g["state"] != RowState.BLANK_ROW)], tuple(whole)

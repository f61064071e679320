"""The account of a pass: the balance of its groups, with the rows decided that only the sums of all rows can decide."""

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp

from fairladder.book.balance import Balance, balance_of
from fairladder.book.set_aside import orders_total, undecided_groups
from fairladder.book.signs import Signs, signs_of
from fairladder.orders.rows import Rows
from fairladder.orders.states import SET_ASIDE, RowState


@dataclass(frozen=True)
class Account:
    """What one pass over the rows tells beside the customers."""

    balance: Balance
    totals: tuple[int, ...]
    """Sums in minor units by which a row without customer, order and date is known for a total."""
    latest: dt.date | None
    """The latest day of a row that is not set aside, whether or not `where` matches it; None without one, or if a day was given."""
    offsets: bool
    """Whether text timestamps with an offset are read as the day they are written with."""
    signs: Signs

    @property
    def readable(self) -> int:
        """Sum of all amounts that could be read, in minor units."""
        return sum(self.balance.amounts.values())

    @property
    def currencies(self) -> list[str]:
        """Currencies among usable rows, where the orders carry a currency column."""
        return [
            currency
            for currency, sums in self.balance.by_currency.items()
            if any(state not in SET_ASIDE for state in sums)
        ]


def used_groups(groups: pa.Table) -> pa.Table:
    """The groups of rows that count. They come first, by their state, so that nothing needs to be copied."""
    counts = pc.equal(groups["state"], int(RowState.USED))
    used = int(pc.sum(counts).as_py() or 0)
    in_front = pc.all(counts.slice(0, used)).as_py() is not False
    return groups.slice(0, used) if in_front else groups.filter(counts)


class RowsApart(Protocol):
    """Rows that are kept, of which some need a second look."""

    def as_rows(self) -> exp.Select:
        """The rows as ``Rows.tree`` has them."""
        ...


def account_of(rows: Rows, groups: pa.Table, kept: RowsApart | None = None) -> Account:
    """The account of groups by state; ``kept`` saves reading some rows again."""
    names = ["state", "rows_read", "rows_amount"] + (["currency"] if "currency" in groups.column_names else [])
    summed, decimals, used = _summed(groups.select(names)), rows.scheme.money.decimals, used_groups(groups)
    settled, totals = _decided(rows, summed, balance_of(summed, decimals), kept)
    return Account(
        balance_of(settled, decimals, rows.rates is not None),
        totals,
        _latest(groups),
        "offsets" in used.column_names and bool(pc.max(used["offsets"]).as_py()),
        signs_of(groups, used),
    )


def _latest(groups: pa.Table) -> dt.date | None:
    if "latest_row" not in groups.column_names:
        return None
    states = groups["state"].cast(pa.int64())
    read = pc.or_(pc.equal(states, int(RowState.USED)), pc.greater_equal(states, int(RowState.LEFT_OUT)))
    day: dt.date | None = pc.max(
        groups.filter(pc.and_(read, pc.less(states, int(RowState.NEITHER))))["latest_row"]
    ).as_py()
    return day


def _decided(
    rows: Rows, groups: Sequence[dict[str, Any]], balance: Balance, kept: RowsApart | None
) -> tuple[Sequence[dict[str, Any]], tuple[int, ...]]:
    """Settle rows that lack customer, order and date, now that the sums are known."""
    if not balance.rows.get(RowState.UNDECIDED):
        return groups, ()
    engine = rows.source.engine
    usable = balance.amount(*(s for s in balance.rows if s not in SET_ASIDE and s != RowState.UNDECIDED))
    totals = [usable]
    if rows.scheme.orders.amount_is == "order" and rows.has_orders:
        totals += [t for t in engine.table(orders_total(rows))["total"].to_pylist() if t is not None]
    whole = [int(t) for t in totals]
    tree = rows.tree() if kept is None else kept.as_rows()
    extra = engine.table(undecided_groups(rows, tree, whole, sum(balance.amounts.values()))).to_pylist()
    others = [g for g in groups if g["state"] != RowState.UNDECIDED]
    return [*others, *(g for g in extra if g["state"] != RowState.BLANK_ROW)], tuple(whole)


def _summed(table: pa.Table) -> list[dict[str, Any]]:
    """Rows and amounts by state and currency."""
    keys = ["state"] + (["currency"] if "currency" in table.column_names else [])
    summed = table.group_by(keys).aggregate([("rows_read", "sum"), ("rows_amount", "sum")])
    return [
        {**{k: g[k] for k in keys}, "rows_read": g["rows_read_sum"], "rows_amount": g["rows_amount_sum"]}
        for g in summed.to_pylist()
    ]

"""Cohorts: customers by the period of their first purchase, and how many are active in each later
period.
"""

import datetime as dt
from dataclasses import dataclass
from fractions import Fraction
from typing import Literal

import numpy as np
import pandas as pd

from fairladder.book.read import Read
from fairladder.book.spend import counting
from fairladder.columns import ALSO_SHARES, RATES, names
from fairladder.days import Period
from fairladder.errors import DataError
from fairladder.history.periods import Calendar, calendar_of
from fairladder.history.purchases import (
    group_name,
    purchases,
    require_free_group_name,
    warn_of_unknown,
)
from fairladder.numbers import ratio
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer
from fairladder.sqltree import column, named, select, sql


@dataclass(frozen=True)
class Rate:
    """A rate with its numerator and denominator."""

    name: str
    numerator: int
    denominator: int

    @property
    def value(self) -> float:
        """Numerator ÷ denominator; NaN if the denominator is 0."""
        return (
            float(Fraction(self.numerator, self.denominator)) if self.denominator else float("nan")
        )

    def __str__(self) -> str:
        if not self.denominator:
            return f"{self.name}: none, since no customer could have come back yet"
        return f"{self.name}: {100 * self.value:.1f} % = {self.numerator:,} ÷ {self.denominator:,}"


@dataclass(frozen=True)
class Cohorts(Answer):
    """``frame``: ``cohort`` (first day), ``size``, ``k``, ``active``, ``retention`` (0..1) and
    ``revenue``, one row for each k.

    With a group, its column comes first. Cells of incomplete periods are null. ``repeat_retention``
    pools consecutive complete periods. ``cohort_retention`` describes the table, in which older
    cohorts weigh more; it is not a rate per period.
    """

    frame: pd.DataFrame
    period: Period
    by: str | None
    repeat_retention: Rate
    cohort_retention: Rate
    year_starts: int = 1
    """The month in which years and quarters begin."""

    def wide(self, values: Literal["retention", "active", "revenue"] = "retention") -> pd.DataFrame:
        """Return a row for each cohort (label, size), a column for each k."""
        table = self.frame
        if self.by is not None:
            table = table.groupby(["cohort", "k"], as_index=False)[
                ["size", "active", "revenue"]
            ].sum(min_count=1)
            table = table.assign(retention=table["active"] / table["size"])
        wide = table.pivot(index="cohort", columns="k", values=values)
        sizes = table.groupby("cohort")["size"].max()
        wide.insert(0, "size", sizes)
        wide.index = pd.Index(
            [Calendar(self.period, self.year_starts).label(c) for c in wide.index], name="cohort"
        )
        return wide

    def average(self) -> "pd.Series[float]":
        """Return Σ active ÷ Σ size over the complete cells of each k."""
        known = self.frame[self.frame["active"].notna()]
        sums = known.groupby("k")[["active", "size"]].sum()
        return sums["active"].astype(float) / sums["size"].where(sums["size"] > 0)

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``cohorts`` and ``rates``."""
        rates = [
            (r.name, r.numerator, r.denominator, r.value)
            for r in (self.repeat_retention, self.cohort_retention)
        ]
        table = pd.DataFrame(rates, columns=names(RATES))
        table.attrs[ALSO_SHARES] = ["value"]
        return {"cohorts": self.frame, "rates": table}

    def __repr__(self) -> str:
        return (
            f"{self.repeat_retention}\n{self.cohort_retention}\n{self.wide().round(3).to_string()}"
        )

    def finding(self) -> str:
        """Return both rates in words."""
        return f"{self.repeat_retention}\n{self.cohort_retention}"

    def pieces(self) -> list[Piece]:
        """Return the share of active customers by cohort and number of periods."""
        wide = self.wide().reset_index().astype({"size": "int64"})
        return [Piece("wide", wide, "share")]


def cohorts(orders: Read, *, period: str = "month", by: str | None = None) -> Cohorts:
    """Return the cohort table of all customers with a purchase, by the period of the first one.

    ``by`` groups customers by a column of their first order (its channel, say) or of the customers
    file. A date range selects cohorts by their first period. Raises UsageError for an unknown
    period or column, DataError if no customer has a purchase.

    >>> import fairladder as fl
    >>> fl.cohorts(fl.sample_orders(), period="year").repeat_retention
    Rate(name='Repeat retention', numerator=463, denominator=787)
    """
    unit = calendar_of(period, orders.scheme.time.year_starts)
    require_free_group_name(by, ("cohort", "size", "k", "active", "retention", "revenue"))
    bought = purchases(orders, [by] if by else [], sequence=by is not None)
    keep = sql(counting(orders.scheme))
    group = (
        [named(sql("MIN(CASE WHEN nth = 1 THEN :c END)", c=column(group_name(by))), "of")]
        if by
        else []
    )
    active = [
        column("customer"), named(unit.start_of(column("placed_on")), "period"),
        named(sql("SUM(amount)"), "amount"),
        named(sql("COUNT(CASE WHEN amount > 0 THEN 1 END)"), "bought"), *group,
    ]  # fmt: skip
    each = (
        select(active, bought.relation)
        .where(keep, copy=False)
        .group_by(sql("1"), sql("2"), copy=False)
    )
    over = "OVER (PARTITION BY customer)"
    before = "OVER (PARTITION BY customer ORDER BY period ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING)"
    columns = [
        column("period"), column("amount"), column("bought"),
        named(sql(f"MIN(CASE WHEN bought > 0 THEN period END) {over}"), "cohort"),
        named(sql(f"MAX(CASE WHEN bought > 0 THEN period END) {before}"), "then"),
        *([named(sql(f"MAX(of) {over}"), "of")] if by else []),
    ]  # fmt: skip
    sums = [column("cohort"), column("period"), column("then"), *([column("of")] if by else []),
            named(sql("COUNT(CASE WHEN bought > 0 THEN 1 END)"), "active"),
            named(sql("SUM(amount)"), "revenue")]  # fmt: skip
    query = select(sums, select(columns, each, "active"), "told")
    frame = bought.frame(
        query.group_by(*(sql(str(i + 1)) for i in range(4 if by else 3)), copy=False)
    )
    bought.close()
    frame = frame[
        frame["cohort"].notna() & (frame["period"] >= frame["cohort"])
    ]  # a refund can come before the first purchase
    if frame.empty or orders.as_of is None:
        raise DataError("No customer has a purchase, so there are no cohorts.")
    frame = frame.astype({"active": np.int64, "revenue": np.int64})
    warn_of_unknown(by, frame["of"] if by else ())
    table = _cells(frame, unit, by, orders)
    since = orders.scheme.time.from_
    if since is not None:
        first = unit.ordinal_of(since)
        table = table[unit.ordinal(table["cohort"]) >= first].reset_index(drop=True)
    later = table[table["active"].notna() & (table["k"] >= 1)]
    of_table = Rate("Cohort retention", int(later["active"].sum()), int(later["size"].sum()))
    return Cohorts(
        table, unit.period, by, _repeat_retention(frame, unit, orders), of_table, unit.year_starts
    )


def _cells(frame: pd.DataFrame, unit: Calendar, by: str | None, orders: Read) -> pd.DataFrame:
    """Return a row for each cohort and k: zeros if no customer was active, null if the period is
    not complete.
    """
    assert orders.as_of is not None
    days = unit.starts(frame["cohort"].min().date(), orders.as_of)
    numbers = unit.ordinal(pd.Series(days))
    done = unit.complete(pd.Series(days), orders.as_of)
    tables = []
    for group, rows in frame.groupby("of", sort=True) if by else [(None, frame)]:
        at = unit.ordinal(rows["cohort"]) - numbers[0]
        then = unit.ordinal(rows["period"]) - numbers[0]
        active, revenue = (np.zeros((len(days), len(days)), dtype=np.int64) for _ in range(2))
        np.add.at(active, (at, then), rows["active"].to_numpy())
        np.add.at(revenue, (at, then), rows["revenue"].to_numpy())
        i, j = np.triu_indices(len(days))
        size = active.diagonal()[i]
        table = pd.DataFrame({
            **({by: group} if by else {}), "cohort": days[i], "size": size, "k": j - i,
            "active": pd.arrays.IntegerArray(active[i, j], ~done[j]),
            "retention": np.where(done[j], ratio(active[i, j], size), np.nan),
            "revenue": np.where(done[j], ratio(revenue[i, j], 10**orders.scheme.money.decimals),
            np.nan),
        })  # fmt: skip
        tables.append(table)
    return pd.concat(tables, ignore_index=True)


def _repeat_retention(frame: pd.DataFrame, unit: Calendar, orders: Read) -> Rate:
    """Return Σ |active in both| ÷ Σ |active in t − 1| over consecutive complete periods (t −
    1, t).
    """
    assert orders.as_of is not None
    bought = frame[frame["active"] > 0]
    done = unit.complete(bought["period"], orders.as_of)
    here = unit.ordinal(bought["period"])
    known = bought["then"].notna().to_numpy()
    before = np.where(known, unit.ordinal(bought["then"].fillna(bought["period"])), here - 2)
    both = bought["active"].to_numpy()[(before == here - 1) & done].sum()
    # Every complete period but the last complete one is followed by a complete one.
    last = unit.ordinal_of(orders.as_of + dt.timedelta(days=1)) - 1
    base = bought["active"].to_numpy()[here < last].sum()
    return Rate("Repeat retention", int(both), int(base))

"""What each customer bought up to a day and after it: the models' data, made where the orders are."""

import datetime as dt
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.book.line_cells import LineCells
from fairladder.book.read import Read
from fairladder.errors import DataError
from fairladder.numbers import ratio
from fairladder.orders.states import RowState
from fairladder.sqltree import case, column, day_literal, named, select, sql
from fairladder.value.buying import Buying
from fairladder.value.likelihood import Array
from fairladder.value.season import Season
from fairladder.value.weekly import since_1970
from fairladder.wording import counted


@dataclass(frozen=True)
class Histories:
    """Customers with a purchase on or before ``through``, one row each, sorted by id.

    ``frame``: ``customer``, ``first`` and ``last`` (days of purchases up to ``through``), ``days`` (with a purchase),
    ``bought`` (their purchases, major units); of the days' ages in whole quarters, ``ages`` and ``squares`` (sums of them and of
    their squares) and ``aged`` (of age times purchases, major units); and of the time after: ``later_days``, ``later_bought``.
    """

    frame: pd.DataFrame
    through: dt.date

    @property
    def buying(self) -> Buying:
        """Repeat purchases, the last of them and the observation in days; purchases of one day count once."""
        frame = self.frame
        end = pd.Series(pd.Timestamp(self.through), index=frame.index)
        return Buying.of(frame["days"] - 1, _apart(frame["first"], frame["last"]), _apart(frame["first"], end))

    def buying_by(self, season: Season) -> Buying:
        """The same by the season's clock."""
        first, last = (season.clock(since_1970(self.frame[name])) for name in ("first", "last"))
        end = season.clock(since_1970(np.datetime64(self.through)))
        # What is a whole clock's step apart by calendar stays in order, whatever the last bit says.
        age = np.maximum(end - first, 0)
        seen = np.where(self.frame["days"] > 1, np.clip(last - first, 0, age), 0)
        return Buying.of(self.frame["days"] - 1, seen, age)

    @property
    def day_value(self) -> Array:
        """Average purchases of a day with any, major units."""
        return np.asarray(self.frame["bought"] / self.frame["days"], dtype=np.float64)


#: With fewer customers who ordered on a second day, or fewer days, nothing can be learnt of who stays.
FEWEST_RETURNED, FEWEST_DAYS = 5, 28
#: What the reason begins with.
NOTHING_LEARNT = "Warning: there is no forecast: "


def too_little(past: Histories) -> str | None:
    """Why nothing can be forecast from these histories, in a sentence; None where it can be tried."""
    returned = int((past.frame["days"] > 1).sum())
    if returned == 0:
        return (
            f"{NOTHING_LEARNT}nobody has ordered on a second day, so there is nothing to learn an ordering rate from."
        )
    span = (past.through - past.frame["first"].min().date()).days
    if span < FEWEST_DAYS:
        return (
            f"{NOTHING_LEARNT}the orders span {counted(span, 'days')}, and under {FEWEST_DAYS} do not tell who stays."
        )
    if returned < FEWEST_RETURNED:
        return (
            f"{NOTHING_LEARNT}only {counted(returned, 'customers', 'have')} ordered on a second day, and under {FEWEST_RETURNED} do not "
            "tell how customers differ."
        )
    return None


def _apart(first: "pd.Series[pd.Timestamp]", then: "pd.Series[pd.Timestamp]") -> NDArray[np.int64]:
    return np.asarray((then - first).dt.days, dtype=np.int64)


def as_they_stood(orders: Read, day: dt.date) -> Histories:
    """The histories up to a day from the rows up to that day alone, and what followed by all of them.

    A line of an earlier order that is booked later, a return say, changes what followed and not what was known.
    """
    known, followed = histories(orders.on(day)), _by_customer(orders, day)
    later = followed.set_index("customer")[["later_days", "later_bought"]]
    frame = known.frame.drop(columns=list(later)).join(later, on="customer")
    frame = frame.fillna({"later_days": 0, "later_bought": 0.0}).astype({"later_days": np.int64})
    return Histories(frame, day)


def histories(orders: Read, through: dt.date | None = None) -> Histories:
    """The histories up to ``through`` (default: the day of reckoning), and what followed up to the day of reckoning.

    Raises DataError where nobody has a purchase by then.
    """
    frame = _by_customer(orders, through)
    frame = frame[frame["days"] > 0].reset_index(drop=True)
    end = through or orders.as_of
    if frame.empty or end is None:
        raise DataError(f"Nobody has a purchase on or before {end}, so there is no history to learn from.")
    return Histories(frame, end)


def _by_customer(orders: Read, through: dt.date | None) -> pd.DataFrame:
    """``Histories.frame`` of everybody with a purchase, be it after ``through``."""
    days = _buying_days(orders)
    orders.require_fit()
    if orders.as_of is None:
        raise DataError(
            "No row is used, so there is no history to learn from. `fairladder check` says what became of them."
        )
    end = through or orders.as_of
    last_day = day_literal(end)
    age = _age(end)
    measures = {
        "first": "MIN(CASE WHEN placed_on <= :d THEN placed_on END)",
        "last": "MAX(CASE WHEN placed_on <= :d THEN placed_on END)",
        "days": "COUNT(CASE WHEN placed_on <= :d THEN 1 END)",
        "bought": "COALESCE(SUM(CASE WHEN placed_on <= :d THEN amount END), 0)",
        "ages": "COALESCE(SUM(CASE WHEN placed_on <= :d THEN :age END), 0)",
        "squares": "COALESCE(SUM(CASE WHEN placed_on <= :d THEN :age * :age END), 0)",
        "aged": "COALESCE(SUM(CASE WHEN placed_on <= :d THEN :age * amount END), 0)",
        "later_days": "COUNT(CASE WHEN placed_on > :d THEN 1 END)",
        "later_bought": "COALESCE(SUM(CASE WHEN placed_on > :d THEN amount END), 0)",
    }
    query = select(
        [column("customer"), *(named(sql(m, d=last_day, age=age), n) for n, m in measures.items())], days, "days"
    )
    query = query.group_by(sql("1"), copy=False).order_by("customer", copy=False)
    frame: pd.DataFrame = orders.frame(query)
    for name in ("first", "last"):
        frame[name] = frame[name].astype("datetime64[s]")
    for name in ("ages", "squares"):
        frame[name] = frame[name].astype(np.int64)
    for name in ("bought", "aged", "later_bought"):
        frame[name] = ratio(frame[name].to_numpy(dtype=np.int64), 10**orders.scheme.money.decimals)
    return frame


#: Ages of orders are counted in quarters of a year …
AGES_A_YEAR = 4
#: … and no order is older than this many.
_OLDEST = 80


def _age(end: dt.date) -> exp.Expr:
    """Of a day of purchases how many whole quarters of a year it lies before ``end``, as every engine can say it."""
    branches = [
        (
            sql("placed_on > :d", d=day_literal(end - dt.timedelta(days=round(365.25 * (quarters + 1) / AGES_A_YEAR)))),
            exp.convert(quarters),
        )
        for quarters in range(_OLDEST)
    ]
    return exp.paren(case(branches, exp.convert(_OLDEST)))


def buying_days(orders: Read, through: dt.date) -> pd.DataFrame:
    """How many customers who had bought by ``through`` bought again on each day: ``day``, ``customers``; first days apart."""
    first = "OVER (PARTITION BY customer)"
    firsts = select([column("placed_on"), named(sql(f"MIN(placed_on) {first}"), "first")], _buying_days(orders), "days")
    last_day = day_literal(through)
    query = select([named(column("placed_on"), "day"), named(sql("COUNT(*)"), "customers")], firsts, "told")
    query = query.where(sql("placed_on > first AND first <= :d", d=last_day), copy=False)
    frame = orders.frame(query.group_by(sql("1"), copy=False))
    frame["day"] = frame["day"].astype("datetime64[s]")
    return frame


def _buying_days(orders: Read) -> exp.Select:
    """One row for each customer and day with a purchase."""
    placed = select(
        [column("customer"), column("placed_on"), column("amount")],
        orders.order_table([], sequence=False, history=False), "orders",
    ).where(sql("amount > 0"), copy=False)  # fmt: skip
    keys = [column("customer"), column("placed_on")]
    days = select([*keys, named(sql("SUM(amount)"), "amount")], placed, "placed")
    return days.group_by(*(column(k.name) for k in keys), copy=False)


@dataclass(frozen=True)
class Costs:
    """What the used rows cost the shop: ``each``, major units by customer id; ``missing``, rows with a blank cost, taken as 0."""

    each: "pd.Series[float]"
    missing: int

    @property
    def total(self) -> float:
        """Of all customers."""
        return float(self.each.sum())

    @property
    def notes(self) -> tuple[str, ...]:
        """What a reader has to know."""
        return (f"{counted(self.missing, 'rows', 'have')} no cost, which counts as 0.",) if self.missing else ()


def costs(orders: Read) -> Costs | None:
    """The costs of the ``cost`` role, each row's rounded once to minor units; None without it."""
    orders.require_fit()
    line = LineCells(orders.rows)
    if line.cost is None:
        return None
    read = {"customer": line.id("customer"), "cost": line.cost}
    rows = select([named(t, n) for n, t in read.items()], orders.rows.tree(), "order_rows")
    rows = rows.where(sql(":s = :used", s=line.state, used=RowState.USED), copy=False)
    sums = {"cost": "COALESCE(SUM(cost), 0)", "missing": "COUNT(CASE WHEN cost IS NULL THEN 1 END)"}
    query = select([column("customer"), *(named(sql(m), n) for n, m in sums.items())], rows, "costs")
    frame = orders.frame(query.group_by(sql("1"), copy=False))
    each = pd.Series(
        ratio(frame["cost"].to_numpy(dtype=np.int64), 10**orders.scheme.money.decimals),
        index=frame["customer"],
        name="cost",
    )
    return Costs(each, int(frame["missing"].sum()))

"""Each customer's purchases up to a day and after it, computed in the orders' engine: the data of
the models.
"""

import datetime as dt
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.book.line_cells import LineCells
from fairladder.book.order_rows import order_days
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

    ``frame``: ``customer``, ``first`` and ``last`` (days of purchases up to ``through``), ``days``
    (with a purchase), ``bought`` (sum of purchases, major units); of the days' ages in whole
    quarters, ``ages`` and ``squares`` (sums of the ages and of their squares) and ``aged`` (of age
    times purchases, major units); and of the time after: ``later_days``, ``later_bought``.
    """

    frame: pd.DataFrame
    through: dt.date

    @cached_property
    def buying(self) -> Buying:
        """Return repeat purchases, the last of them and the observation in days; purchases of one
        day count once.
        """
        frame = self.frame
        end = pd.Series(pd.Timestamp(self.through), index=frame.index)
        return Buying.of(
            frame["days"] - 1,
            _days_between(frame["first"], frame["last"]),
            _days_between(frame["first"], end),
        )

    def buying_by(self, season: Season) -> Buying:
        """Return ``buying`` in the time of the season's clock."""
        first, last = (season.clock(since_1970(self.frame[name])) for name in ("first", "last"))
        end = season.clock(since_1970(np.datetime64(self.through)))
        # Steps of the clock keep their order in spite of rounding.
        age = np.maximum(end - first, 0)
        seen = np.where(self.frame["days"] > 1, np.clip(last - first, 0, age), 0)
        return Buying.of(self.frame["days"] - 1, seen, age)

    @cached_property
    def day_value(self) -> Array:
        """Return the average amount of a day with purchases, major units."""
        return np.asarray(self.frame["bought"] / self.frame["days"], dtype=np.float64)


#: With fewer customers who ordered on a second day, or fewer days, no model can be trained.
FEWEST_RETURNED, FEWEST_DAYS = 5, 28
#: Prefix of the reason.
NO_FORECAST = "Warning: there is no forecast: "


def too_little(past: Histories) -> str | None:
    """Return why nothing can be forecast from these histories, in a sentence; None if it can be
    tried.
    """
    returned = int((past.frame["days"] > 1).sum())
    if returned == 0:
        return (
            f"{NO_FORECAST}no customer has ordered on a second day, so no ordering rate can "
            "be estimated."
        )
    span = (past.through - past.frame["first"].min().date()).days
    if span < FEWEST_DAYS:
        return (
            f"{NO_FORECAST}the orders span {counted(span, 'days')}, and fewer than "
            f"{FEWEST_DAYS} do not show which customers stay."
        )
    if returned < FEWEST_RETURNED:
        return (
            f"{NO_FORECAST}only {counted(returned, 'customers', 'have')} ordered on a "
            f"second day, and fewer than {FEWEST_RETURNED} do not show how customers differ."
        )
    return None


def _days_between(
    first: "pd.Series[pd.Timestamp]", then: "pd.Series[pd.Timestamp]"
) -> NDArray[np.int64]:
    return np.asarray((then - first).dt.days, dtype=np.int64)


@dataclass(frozen=True)
class Bought:
    """One row for each customer and day with an order, kept in the engine: ``customer``,
    ``placed_on``, ``amount`` (of purchases, minor units; null without one). Made by ``bought``;
    queries on it use only rows up to ``through``.
    """

    orders: Read
    relation: exp.Expr
    through: dt.date
    several_days: bool
    """True if some order has rows on several days, so that it changed over time."""
    closing: ExitStack

    def known_on(self, day: dt.date) -> "Bought":
        """Return the data that was known on an earlier day: the rows up to it."""
        if day >= self.through:
            return self
        if self.several_days:
            return _bought(self.orders.on(day), self.closing)
        return replace(self, through=day)

    def days(self) -> exp.Select:
        """Return the days with a purchase."""
        known = sql("amount IS NOT NULL AND placed_on <= :d", d=day_literal(self.through))
        return select(["customer", "placed_on", "amount"], self.relation).where(known, copy=False)


@contextmanager
def bought(orders: "Read | Bought") -> Iterator[Bought]:
    """Keep what customers bought on each day, read once for all queries in the block.

    Raises DataError if the orders are not fit for use, or no row is used.
    """
    if isinstance(orders, Bought):
        yield orders
        return
    with ExitStack() as closing:
        yield _bought(orders, closing)


def _bought(orders: Read, closing: ExitStack) -> Bought:
    orders.require_fit()
    if orders.as_of is None:
        raise DataError(
            "No row is used, so there is no history to train on. Run `fairladder check` to see why."
        )
    measures = {
        "amount": "SUM(CASE WHEN amount > 0 THEN amount END)",
        "several": "MAX(CASE WHEN last_on > placed_on THEN 1 ELSE 0 END)"
    }  # fmt: skip
    keys = [column("customer"), column("placed_on")]
    days = select(
        [*keys, *(named(sql(m), n) for n, m in measures.items())],
        order_days(orders.rows),
        "order_days",
    )
    kept = orders.engine.keep(days.group_by(*(column(k.name) for k in keys), copy=False))
    closing.callback(orders.engine.forget, kept)
    several = orders.run(select([named(sql("COALESCE(MAX(several), 0)"), "several")], kept))[
        "several"
    ][0].as_py()
    return Bought(orders, kept, orders.as_of, bool(several), closing)


def histories_as_of(orders: "Read | Bought", day: dt.date, *, ids: bool = True) -> Histories:
    """Return the histories up to a day from the rows up to that day alone, and what followed from
    all rows.

    Without ``ids`` the column ``customer`` may be missing: for many customers it takes longer to
    transfer than everything else. A line of an earlier order that is booked later, such as a
    return, changes what followed but not the history.
    """
    with bought(orders) as all_days:
        if not all_days.several_days:  # one query then gives both
            return histories(all_days, day, ids=ids)
        known, followed = histories(all_days.known_on(day)), _by_customer(all_days, day)
    later = followed.set_index("customer")[["later_days", "later_bought"]]
    frame = known.frame.drop(columns=list(later)).join(later, on="customer")
    frame = frame.fillna({"later_days": 0, "later_bought": 0.0}).astype({"later_days": np.int64})
    return Histories(frame, day)


def histories(
    orders: "Read | Bought", through: dt.date | None = None, *, ids: bool = True
) -> Histories:
    """Return the histories up to ``through`` (default: the as-of date), and what followed up to the
    as-of date.

    Without ``ids`` there is no ``customer``. Raises DataError if no customer has a purchase by
    then.
    """
    with bought(orders) as days:
        end = through or days.through
        frame = _by_customer(days, end, ids)
    frame = frame[frame["days"] > 0].reset_index(drop=True)
    if frame.empty:
        raise DataError(
            f"No customer has a purchase on or before {end}, so there is no history to train on."
        )
    return Histories(frame, end)


def _by_customer(bought: Bought, end: dt.date, ids: bool = True) -> pd.DataFrame:
    """Return ``Histories.frame`` for all customers with a purchase, even if it is after ``end``."""
    last_day, age, orders = day_literal(end), _age(end), bought.orders
    measures = {
        "first": "MIN(CASE WHEN placed_on <= :d THEN placed_on END)",
        "last": "MAX(CASE WHEN placed_on <= :d THEN placed_on END)",
        "days": "COUNT(CASE WHEN placed_on <= :d THEN 1 END)",
        "bought": "COALESCE(SUM(CASE WHEN placed_on <= :d THEN amount END), 0)",
        "ages": "COALESCE(SUM(CASE WHEN placed_on <= :d THEN age END), 0)",
        "squares": "COALESCE(SUM(CASE WHEN placed_on <= :d THEN age * age END), 0)",
        "aged": "COALESCE(SUM(CASE WHEN placed_on <= :d THEN age * amount END), 0)",
        "later_days": "COUNT(CASE WHEN placed_on > :d THEN 1 END)",
        "later_bought": "COALESCE(SUM(CASE WHEN placed_on > :d THEN amount END), 0)",
    }
    aged = select(["*", named(age, "age")], bought.days(), "days")
    shown = [column("customer")] if ids else []
    query = select(
        [*shown, *(named(sql(m, d=last_day), n) for n, m in measures.items())], aged, "aged"
    )
    query = query.group_by(column("customer"), copy=False).order_by(column("customer"), copy=False)
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
#: … up to this number.
_OLDEST = 80


def _age(end: dt.date) -> exp.Expr:
    """Return the age of a purchase on ``end`` in whole quarters of a year, in SQL that every engine
    supports.
    """
    branches = [
        (
            sql(
                "placed_on > :d",
                d=day_literal(
                    end - dt.timedelta(days=round(365.25 * (quarters + 1) / AGES_A_YEAR))
                ),
            ),
            exp.convert(quarters),
        )
        for quarters in range(_OLDEST)
    ]
    return exp.paren(case(branches, exp.convert(_OLDEST)))


def buying_days(bought: Bought, through: dt.date) -> pd.DataFrame:
    """Return how many customers who had bought by ``through`` bought again on each day: ``day``,
    ``customers``, without first days.
    """
    first = "OVER (PARTITION BY customer)"
    firsts = select(
        [column("placed_on"), named(sql(f"MIN(placed_on) {first}"), "first")], bought.days(), "days"
    )
    last_day = day_literal(through)
    query = select(
        [named(column("placed_on"), "day"), named(sql("COUNT(*)"), "customers")], firsts, "told"
    )
    query = query.where(sql("placed_on > first AND first <= :d", d=last_day), copy=False)
    frame = bought.orders.frame(
        query.group_by(sql("1"), copy=False).order_by(column("day"), copy=False)
    )
    frame["day"] = frame["day"].astype("datetime64[s]")
    return frame


@dataclass(frozen=True)
class Costs:
    """The shop's cost of the used rows: ``each``, major units by customer id; ``missing``, rows
    with a blank cost, counted as 0.
    """

    each: "pd.Series[float]"
    missing: int

    @property
    def total(self) -> float:
        """The cost of all customers."""
        return float(self.each.sum())

    @property
    def notes(self) -> tuple[str, ...]:
        """Notes for the reader."""
        return (
            (f"{counted(self.missing, 'rows', 'have')} no cost, which counts as 0.",)
            if self.missing
            else ()
        )


def costs(orders: Read) -> Costs | None:
    """Return the costs in the ``cost`` role, each row rounded once to minor units; None without
    that role.
    """
    orders.require_fit()
    line = LineCells(orders.rows)
    if line.cost is None:
        return None
    read = {"customer": line.id("customer"), "cost": line.cost}
    rows = select([named(t, n) for n, t in read.items()], orders.rows.tree(), "order_rows")
    rows = rows.where(sql(":s = :used", s=line.state, used=RowState.USED), copy=False)
    sums = {"cost": "COALESCE(SUM(cost), 0)", "missing": "COUNT(CASE WHEN cost IS NULL THEN 1 END)"}
    query = select(
        [column("customer"), *(named(sql(m), n) for n, m in sums.items())], rows, "costs"
    )
    frame = orders.frame(
        query.group_by(sql("1"), copy=False).order_by(column("customer"), copy=False)
    )
    each = pd.Series(
        ratio(frame["cost"].to_numpy(dtype=np.int64), 10**orders.scheme.money.decimals),
        index=frame["customer"],
        name="cost",
    )
    return Costs(each, int(frame["missing"].sum()))

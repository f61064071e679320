"""Value to date and by formula: the average value of a customer, with every factor and its unit."""

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import numpy as np
import pandas as pd

from fairladder.book.read import Read
from fairladder.book.spend import counting
from fairladder.days import Period, checked_period
from fairladder.errors import DataError, UsageError
from fairladder.history.periods import Calendar, calendar_of
from fairladder.history.purchases import group_name, purchases
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer
from fairladder.sqltree import column, named, select, sql
from fairladder.value.checks import checked_margin, checked_retention
from fairladder.value.histories import Costs, costs
from fairladder.value.to_score import scored
from fairladder.wording import missing, money

#: Fewer complete periods than this give a poor estimate of how long customers stay.
FEW_PERIODS = 4
#: Change of retention that shows how sensitive the result is.
SWAY = Fraction(1, 20)
#: Groups that are not columns: the period of a customer's first purchase, and the segment.
COHORT, SEGMENT = "cohort", "segment"


@dataclass(frozen=True)
class FormulaValue(Answer):
    """Values to date and by formula. ``frame``: one row for all customers, then one for each group.

    Columns: the group; ``customers`` (with a purchase); ``revenue`` and ``quick_value`` = revenue ÷
    customers; ``average_order_value`` × ``orders_per_period`` (purchases ÷ customers active, per
    period) × ``lifespan_periods`` (1 ÷ (1 − ``retention``)) × ``margin`` = ``formula_value``;
    ``value_if_lower`` and ``value_if_higher`` with retention 5 points down and up (null if that is
    0 or less, or 1 or more); ``retained`` ÷ ``could_return``, from which retention is computed.
    Money in major units; all but ``revenue``, ``customers`` and ``quick_value`` over complete
    periods; null if no customer could have come back yet.
    """

    frame: pd.DataFrame
    period: Period
    by: str
    periods: int | None
    """Number of complete periods; None if totals were given."""
    retention_from: str
    margin_from: str
    notes: tuple[str, ...]
    groups: "pd.Series[str] | None" = None
    """Customer id → group; None without groups."""

    def factors(self, group: str | None = None) -> pd.DataFrame:
        """Return the factors of one row (default: all customers) with their units: ``factor``,
        ``value``, ``unit``, ``from``.
        """
        row = (
            self.frame.iloc[0]
            if group is None
            else self.frame[self.frame[self.by] == group].iloc[0]
        )
        over = (
            f"{self.periods} complete {self.period}s"
            if self.periods is not None
            else "totals given"
        )
        lines = [
            ("average order value", row["average_order_value"], "money per order", over),
            (
                "orders per active customer",
                row["orders_per_period"],
                f"orders per {self.period}",
                over,
            ),
            (
                "retention",
                row["retention"],
                f"from one {self.period} to the next",
                self.retention_from,
            ),
            ("lifespan", row["lifespan_periods"], f"{self.period}s", "1 ÷ (1 − retention)"),
            ("margin", row["margin"], "of revenue", self.margin_from),
            (
                "formula value",
                row["formula_value"],
                "money per customer",
                "the product of all but retention",
            ),
        ]
        return pd.DataFrame(lines, columns=["factor", "value", "unit", "from"])

    def __repr__(self) -> str:
        return f"{self.factors().to_string(index=False)}\n{self.frame.to_string(index=False)}"

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``factors`` and ``groups``."""
        return {"factors": self.factors(), "groups": self.frame}

    def finding(self) -> str:
        """Return the value of a customer by the formula, in words."""
        row = self.frame.iloc[0]
        return (
            f"A customer is worth {money(row['formula_value'])} by formula, until the first "
            f"{self.period} without an order."
        )

    def pieces(self) -> list[Piece]:
        """Return the factors and the groups."""
        return [Piece(name, table) for name, table in self.tables().items()]


def usual_period(orders: Read) -> Period:
    """Return a quarter, or a shorter period that gives a short history some complete periods."""
    first = orders.spent()["first_order"].min()
    if orders.as_of is None or missing(first):
        return "quarter"
    days = (orders.as_of - first.date()).days
    return "quarter" if days >= 450 else "month" if days >= 150 else "week" if days >= 35 else "day"


def value_formula(
    orders: Read,
    *,
    period: str = "month",
    by: str | None = None,
    margin: float | None = None,
    retention: float | None = None,
) -> FormulaValue:
    """Return values to date and by formula from orders, for all customers and for groups.

    ``by`` is a column of the orders (customers belong to the group of their first order), one of
    the customers file, ``cohort`` (the period of the first purchase) or ``segment``. ``margin`` is
    a fraction of revenue (default: the scheme's, else from the ``cost`` role, else 1);
    ``retention`` overrides the orders' own, 0 ≤ retention < 1.

    Raises UsageError for wrong options, DataError if no order counts or no period is complete.

    >>> import fairladder as fl
    >>> made = fl.value_formula(fl.sample_orders(), period="quarter", margin=0.4)
    >>> round(made.frame["formula_value"].iloc[0], 2).item()
    167.69
    """
    return formula_by_period(orders, (period,), by=by, margin=margin, retention=retention)[period]


def formula_by_period(
    orders: Read,
    periods: Sequence[str],
    *,
    by: str | None = None,
    margin: float | None = None,
    retention: float | None = None,
) -> dict[str, FormulaValue]:
    """Return ``value_formula`` for several period lengths, by name; the orders are read once.

    If the first cannot be computed it raises the same errors; others that cannot are omitted.
    """
    starts = orders.scheme.time.year_starts
    units = [calendar_of(period, starts) for period in periods]
    margin = orders.scheme.value.margin if margin is None else margin
    checked_retention(retention)
    checked_margin(margin)
    short = {"day", "week"} & {unit.period for unit in units}
    fine = units[0] if len(units) == 1 else calendar_of("day" if short else "month", starts)
    active = _active(orders, fine, by)
    cost = costs(orders) if margin is None else None
    made: dict[str, FormulaValue] = {}
    for unit in units:
        try:
            made[unit.period] = _of_period(
                _rolled(active, unit, by), orders, unit, by, margin, retention, cost
            )
        except DataError:
            if not made:
                raise
    return made


def _of_period(
    active: pd.DataFrame, orders: Read, unit: Calendar, by: str | None, margin: float | None,
    retention: float | None,
    cost: Costs | None,
) -> FormulaValue:  # fmt: skip
    assert orders.as_of is not None
    done = unit.complete(active["period"], orders.as_of)
    if not done.any():
        raise DataError(
            f"No {unit} of the orders is complete by {orders.as_of}; use a shorter --period."
        )
    numbers = unit.ordinal(active["period"])
    last = unit.ordinal_of(orders.as_of + dt.timedelta(days=1)) - 1
    periods = last - int(numbers.min()) + 1
    active = active.assign(number=numbers, done=done)
    rows = []
    for group, of in [("all", active), *(active.groupby("group", sort=True) if by else [])]:
        rows.append(
            _row(
                by or "group",
                str(group),
                of,
                last,
                margin,
                retention,
                cost,
                10**orders.scheme.money.decimals,
            )
        )
    origin = (
        "given"
        if margin is not None
        else "1 − cost ÷ revenue"
        if cost is not None
        else "none given: revenue, not profit"
    )
    whole = rows[0]
    text = (
        f"{whole['retained']:,} came back ÷ {whole['could_return']:,} could"
        if retention is None
        else "given"
    )
    table = pd.DataFrame(rows)
    notes = _notes(whole, unit, periods, orders, retention)
    return FormulaValue(
        table,
        unit.period,
        by or "group",
        periods,
        text,
        origin,
        (*notes, *(cost.notes if cost else ())),
        _homes(active) if by else None,
    )


def value_from_totals(
    *,
    revenue: float,
    orders: int,
    customers: int,
    retention: float,
    periods: int = 1,
    period: str = "year",
    margin: float = 1.0,
) -> FormulaValue:
    """Return the formula value from totals of one period, or of several with ``customers`` summed
    over them.

    All figures have the same ``period``, so that a yearly frequency cannot meet a monthly lifespan.
    The value to date is null for several periods, in which customers are counted more than once.
    Raises UsageError for impossible figures.

    >>> import fairladder as fl
    >>> made = fl.value_from_totals(revenue=12000, orders=300, customers=100, retention=0.6, margin=0.5)
    >>> made.frame["formula_value"].iloc[0].item()
    150.0
    """
    unit = checked_period(period)
    checked_retention(retention)
    checked_margin(margin)
    for name, number in {
        "revenue": revenue,
        "orders": orders,
        "customers": customers,
        "periods": periods,
    }.items():
        if not number > 0:
            raise UsageError(f"--{name} {number:g}: the formula needs a number above 0.")
    if orders < customers:
        raise UsageError(
            f"{orders:,} orders of {customers:,} active customers: an active customer has at "
            f"least one order a {unit}. Are both "
            "of the same "
            f"{'period' if periods == 1 else f'{periods} {unit}s, customers summed over them'}?"
        )
    row = {
        "group": "all", "customers": customers, "revenue": revenue,
        "quick_value": revenue / customers if periods == 1 else np.nan,
        **_formula(Fraction(str(revenue)), orders, customers, Fraction(str(retention)),
        Fraction(str(margin))),
    }  # fmt: skip
    finding = [_few(periods, unit)] if 1 < periods < FEW_PERIODS else []
    return FormulaValue(
        pd.DataFrame([row]),
        unit,
        "group",
        None,
        "given",
        "given" if margin != 1 else "none given",
        tuple(finding),
    )


def _active(orders: Read, unit: Calendar, by: str | None) -> pd.DataFrame:
    """Return one row for each customer and period with an order: ``bought`` (purchases),
    ``amount``, and its group.
    """
    of_column = by is not None and by not in (COHORT, SEGMENT)
    bought = purchases(orders, [by] if of_column and by else [], sequence=of_column, history=False)
    counts = sql(counting(orders.scheme))
    keys = [column("customer"), named(unit.start_of(column("placed_on")), "period")]
    measures = {
        "bought": sql("COUNT(CASE WHEN amount > 0 THEN 1 END)"),
        "amount": sql("SUM(amount)"),
    }
    if of_column and by:
        measures["group"] = sql("MIN(CASE WHEN nth = 1 THEN :c END)", c=column(group_name(by)))
    query = select([*keys, *(named(m, n) for n, m in measures.items())], bought.relation).where(
        counts
    )
    frame = bought.frame(query.group_by(sql("1"), sql("2"), copy=False)).sort_values(
        ["customer", "period"], ignore_index=True
    )
    bought.close()
    if not (frame["bought"] > 0).any():
        raise DataError(
            "No customer has a purchase, so there is no value to report. Run `fairladder "
            "check` to see why."
        )
    frame = frame.astype({"bought": np.int64, "amount": np.int64})
    if by == SEGMENT:
        frame["group"] = frame["customer"].map(scored(orders).segments())
    elif of_column:
        frame["group"] = frame["customer"].map(
            frame.dropna(subset="group").groupby("customer")["group"].first()
        )
    return frame


def _rolled(active: pd.DataFrame, unit: Calendar, by: str | None) -> pd.DataFrame:
    """Aggregate ``_active`` to longer periods; cohorts are named by the first day of the period of
    the first purchase.
    """
    days = pd.Series(
        {day: pd.Timestamp(unit.floor(day.date())) for day in active["period"].unique()}
    )
    keys = ["customer", "period", *(["group"] if "group" in active else [])]
    rolled = active.assign(period=active["period"].map(days).astype("datetime64[s]"))
    rolled = rolled.groupby(keys, as_index=False, sort=True, dropna=False)[
        ["bought", "amount"]
    ].sum()
    if by == COHORT:
        first = (
            rolled[rolled["bought"] > 0].groupby("customer")["period"].min().dt.strftime("%Y-%m-%d")
        )
        rolled["group"] = rolled["customer"].map(first)
    return rolled


def _homes(active: pd.DataFrame) -> "pd.Series[str]":
    return (
        active.dropna(subset="group")
        .drop_duplicates("customer")
        .set_index("customer")["group"]
        .astype(str)
    )


def _row(
    by: str, group: str, of: pd.DataFrame, last: int, margin: float | None, retention: float | None,
    cost: Costs | None, scale: int,
) -> dict[str, Any]:  # fmt: skip
    bought = of[of["bought"] > 0]
    inside = of["done"].to_numpy()
    customers = bought["customer"].nunique()
    revenue = Fraction(int(of["amount"].sum()), scale)
    share = Fraction(1) if margin is None else Fraction(str(margin))
    if cost is not None and revenue > 0:
        spent = float(cost.each.reindex(of["customer"].unique()).fillna(0).sum())
        share = 1 - Fraction(spent) / revenue
    done = bought[bought["done"]]
    key, number = done["customer"].to_numpy(), done["number"].to_numpy()
    both = int(((key[1:] == key[:-1]) & (number[1:] == number[:-1] + 1)).sum())
    could = int((number < last).sum())
    rate = (
        Fraction(str(retention))
        if retention is not None
        else Fraction(both, could)
        if could
        else None
    )
    orders, active = int(done["bought"].sum()), len(done)
    inner = Fraction(int(of.loc[inside, "amount"].sum()), scale)
    return {
        by: group, "customers": customers, "revenue": float(revenue),
        "quick_value": float(revenue / customers) if customers else np.nan,
        **_formula(inner, orders, active, rate, share), "retained": both, "could_return": could,
    }  # fmt: skip


def _formula(
    revenue: Fraction, orders: int, active: int, retention: Fraction | None, margin: Fraction
) -> dict[str, float]:
    """Return each factor and the product, from whole numbers and exact decimals, each correctly
    rounded once.
    """

    def value(rate: Fraction | None) -> float:
        if rate is None or not orders or not 0 <= rate < 1:
            return np.nan
        return float(
            revenue / active / (1 - rate) * margin
        )  # (revenue ÷ orders) × (orders ÷ active)

    known = retention if retention is not None and retention < 1 else None
    return {
        "average_order_value": float(revenue / orders) if orders else np.nan,
        "orders_per_period": float(Fraction(orders, active)) if active else np.nan,
        "retention": float(retention) if retention is not None else np.nan,
        "lifespan_periods": float(1 / (1 - known)) if known is not None else np.nan,
        "margin": float(margin), "formula_value": value(retention),
        "value_if_lower": value(retention - SWAY) if retention is not None else np.nan,
        "value_if_higher": value(retention + SWAY) if retention is not None else np.nan,
    }  # fmt: skip


def _few(periods: int, unit: str) -> str:
    return (
        f"Only {periods} complete {unit}{'s' if periods != 1 else ''}: retention, and so the "
        "lifespan, is estimated from very few steps. Use a shorter --period, or a retention "
        "known from elsewhere."
    )


def _notes(
    whole: dict[str, Any], unit: Calendar, periods: int, orders: Read, given: float | None
) -> list[str]:
    notes = []
    if periods < FEW_PERIODS:
        notes.append(_few(periods, unit.period))
    lifespan = whole["lifespan_periods"]
    if lifespan > periods:
        notes.append(
            f"The lifespan of {lifespan:.1f} {unit}s is longer than the {periods} complete "
            f"{unit}s of history: no customer has been observed that long, so the figure "
            "extrapolates."
        )
    spent = orders.spent()
    span = (spent["last_order"].max() - spent["first_order"].min()).days
    if span < 365:
        notes.append(
            f"The orders span {span} days: customers who come once a year have had no time "
            "to return and count as lost, so the lifespan and the value are too low."
        )
    if np.isnan(whole["retention"]):
        notes.append(
            f"No customer could have come back yet: there is only one complete {unit}, so "
            "there is no formula value."
        )
    elif whole["retention"] == 1:
        notes.append(
            f"Every customer came back in the next {unit}, so retention is 1, the lifespan is "
            "infinite, and there is no formula value. Give --retention, or use a shorter --period."
        )
    elif whole["retention"] == 0 and given is None:
        notes.append(
            f"No customer came back in the next {unit}, so the lifespan is one {unit}. Is "
            "the --period too short?"
        )
    return notes

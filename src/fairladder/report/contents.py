"""Gather the contents of a report: the results of all analyses, from orders that have been read."""

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from fairladder.book.read import Read
from fairladder.book.spend import no_purchases
from fairladder.columns import CARRIED, FORECAST, names
from fairladder.errors import DataError, UsageError
from fairladder.history.cohorts import Cohorts, cohorts
from fairladder.history.counts import order_counts
from fairladder.history.growth import flat_spells, growth
from fairladder.history.periods import calendar_of
from fairladder.report.actions import Plan, plan_of
from fairladder.report.key_figures import KeyFigures, key_figures
from fairladder.review.check import Check, check
from fairladder.review.comparison import Comparison, compare
from fairladder.scheme import Scheme
from fairladder.scores import fairness, summary
from fairladder.scores.fitting import AnyLadder
from fairladder.scores.selection import chosen
from fairladder.sqltree import column, named, select, sql
from fairladder.steps import Progress, Steps, seen_by
from fairladder.value.forecast import NONE, Forecast, value_forecast, with_forecast
from fairladder.value.formula import FormulaValue, usual_period, value_formula
from fairladder.value.histories import NO_FORECAST
from fairladder.value.to_score import customers_to_score
from fairladder.value.to_score import scored as scored_of

#: By default changes are measured from a year ago, or from a quarter ago if the history is shorter.
_AGO = (365, 91)
#: Minimum number of days of history before the day to compare with.
_LEAST_BEFORE = 91


@dataclass(frozen=True)
class Contents:
    """Everything that the page and the workbook show; ``None`` if the data do not allow it, with
    the reason in ``gaps``.
    """

    name: str
    """The source of the orders in a few words."""
    facts: Mapping[str, Any]
    scheme: Scheme
    as_of: dt.date
    checked: Check
    customers: pd.DataFrame
    """Scored customers, with the forecast's columns if there is a forecast."""
    ladders: Mapping[str, AnyLadder]
    segments: pd.DataFrame
    tiers: pd.DataFrame
    rules: pd.DataFrame
    period: str
    by: str | None
    growth: pd.DataFrame
    grown_by: pd.DataFrame | None
    spells: pd.DataFrame
    cohorts: Cohorts
    counts: pd.DataFrame
    formula: FormulaValue | None
    forecast: Forecast | None
    changes: Comparison | None
    strips: pd.DataFrame
    """``customer``, ``month`` (its first day) and ``orders``: purchases by month, or None."""
    key_figures: KeyFigures
    plan: Plan
    gaps: Mapping[str, str]
    """Part (formula, forecast, changes) → the reason why it is missing."""
    few: tuple[str, ...]
    """The reasons why there is no advice; empty if there is."""
    notes: tuple[str, ...]
    pseudonyms: bool = False
    """True if ids are pseudonyms and nothing names a person."""

    @property
    def title(self) -> str:
        """The title of a report without one of its own."""
        return f"The customers of {self.name}"

    @property
    def currency(self) -> str:
        """The currency of amounts; empty if unknown."""
        return self.scheme.money.currency or ""


def contents_of(
    orders: Read,
    *,
    then: str | dt.date | None = None,
    by: str | None = None,
    progress: Progress | None = None,
) -> Contents:
    """Run all analyses of a report.

    ``then`` is the day to compare with (by default a year or a quarter ago, if the history reaches
    back), ``by`` a column to follow new customers by (by default the channel, if there is one).
    Raises DataError if no customer has a purchase, UsageError for an unknown column or day.
    """
    steps, gaps = (Steps(seen_by(progress, "Computing the report"), 9), dict[str, str]())
    steps_done = iter(steps.over(range(9)))
    next(steps_done)
    checked = check(orders)
    next(steps_done)
    customers = customers_to_score(orders)
    if no_purchases(customers) or orders.as_of is None:
        raise DataError(
            "No customer has a purchase, so there is nothing to report. Run `fairladder "
            "check` to see why."
        )
    day = then or _ago(customers, orders.as_of)
    if day is None:
        gaps["changes"] = "The history is too short to compare with an earlier day."
        changes = None
    else:
        changes = (
            compare(orders, day) if then else _or_why("changes", gaps, lambda: compare(orders, day))
        )
    next(steps_done)
    people = scored_of(orders)
    ladders, scored = people.ladders, chosen(orders, people).frame()
    next(steps_done)
    by = by or ("channel" if "channel" in orders.roles else None)
    period = _unit_of(customers, orders.as_of)
    grown = growth(orders, period=period)
    by_group = growth(orders, period=period, by=by) if by else None
    next(steps_done)
    cohort_table = cohorts(
        orders, period="quarter" if period == "month" and len(grown) > 12 else period
    )
    counts = order_counts(orders)
    next(steps_done)
    strips = _strips(orders)
    next(steps_done)
    formula = _or_why("formula", gaps, lambda: value_formula(orders, period=usual_period(orders)))
    next(steps_done)
    forecast = _or_why("forecast", gaps, lambda: value_forecast(orders, progress=_unheard))
    if forecast is not None and forecast.method == NONE:
        gaps["forecast"], forecast = forecast.notes[0].removeprefix(NO_FORECAST), None
    next(steps_done)
    steps.finished()
    segments = summary.segment_summary(people)
    theirs = [name for name in names(FORECAST) if name in scored.attrs.get(CARRIED, ())]
    shown = scored.drop(columns=theirs)
    if forecast is not None and not set(names(FORECAST)) & set(
        shown
    ):  # rules that use a forecast have computed it already
        shown = with_forecast(shown, forecast)
    facts = orders.facts()
    notes = [
        *(f"The customers file's column `{n}` is omitted: a forecast column has that name." for n in theirs),
        *facts["notes"], *fairness.segment_notes(segments), *fairness.ladder_notes(people),
        fairness.split_note(orders),
        *(changes.notes if changes is not None else ()),
    ]  # fmt: skip
    return Contents(
        name=orders.rows.source.name, facts=facts, scheme=orders.scheme, as_of=orders.as_of, checked=checked,
        customers=shown, ladders=ladders, segments=segments, tiers=summary.tier_summary(people),
        rules=summary.rule_coverage(people), period=period, by=by, growth=grown, grown_by=by_group,
        spells=flat_spells(by_group if by_group is not None else grown, by), cohorts=cohort_table,
        counts=counts,
        formula=formula, forecast=forecast, changes=changes, strips=strips, gaps=gaps,
        key_figures=key_figures(orders, orders.as_of, customers["first_order"].min().date()),
        plan=plan_of(orders, shown, forecast),
        few=tuple(fairness.too_few_to_advise(people)),
        notes=tuple(dict.fromkeys(n for n in notes if n)),
    )  # fmt: skip


def _unheard(_share: float) -> None:
    """Ignore the progress of a part's steps."""


def _or_why(part: str, gaps: dict[str, str], work: Any) -> Any:
    """Return the part, or None with the reason added to ``gaps`` if the data do not allow it."""
    try:
        return work()
    except (DataError, UsageError) as error:
        gaps[part] = str(error)
        return None


def _unit_of(customers: pd.DataFrame, as_of: dt.date) -> str:
    """Return months, or a period that splits another length of history into about a dozen."""
    days = (as_of - customers["first_order"].min().date()).days
    return "day" if days < 28 else "week" if days < 180 else "month" if days < 1600 else "quarter"


def _ago(customers: pd.DataFrame, as_of: dt.date) -> dt.date | None:
    first = customers["first_order"].min().date()
    for days in _AGO:
        then = as_of - dt.timedelta(days=days)
        if (then - first).days >= _LEAST_BEFORE:
            return then
    return None


def _strips(orders: Read) -> pd.DataFrame:
    month = calendar_of("month", None)
    keys = [column("customer"), named(month.start_of(column("placed_on")), "month")]
    placed = select(["*"], orders.order_table([], sequence=False, history=False), "orders")
    query = select([*keys, named(sql("COUNT(*)"), "orders")], placed, "placed").where(
        sql("amount > 0"), copy=False
    )
    frame = orders.frame(query.group_by(sql("1"), sql("2"), copy=False))
    frame = frame.astype(
        {"customer": "str", "month": "datetime64[s]", "orders": np.int64}
    )  # engines have their own kinds
    return frame.sort_values(["customer", "month"], ignore_index=True)

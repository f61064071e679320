"""Lift: what a campaign achieved, comparing contacted and held-out customers, with conservative
intervals.
"""

import datetime as dt
from dataclasses import dataclass
from math import sqrt
from typing import Any

import numpy as np
import pandas as pd
from scipy.special import ndtr, ndtri, stdtr, stdtrit
from sqlglot import exp

from fairladder import wording
from fairladder.book.read import Read
from fairladder.book.spend import counted
from fairladder.days import as_day
from fairladder.errors import DataError, UsageError
from fairladder.numbers import ratio
from fairladder.output.result import Answer
from fairladder.sqltree import column, day_literal, named, select, sql

_Z = float(ndtri(0.975))
#: Probability of detecting a real difference (power).
POWER = 0.8
#: A p-value below this is called significant.
_CHANCE = 0.05
#: With fewer buyers in a group the variance of spend cannot be estimated.
FEW_BUYERS = 10


@dataclass(frozen=True)
class Lift(Answer):
    """``frame``: one row for all customers (``segment`` is ``all``), then one for each segment.

    Columns: ``segment``; ``contacted`` and ``held_out`` (customers); ``bought_contacted``,
    ``bought_held_out`` (customers with a purchase in the window); ``response_contacted``,
    ``response_held_out`` (0..1); ``response_lift``, their difference, with ``response_low``,
    ``response_high`` (95 %, Newcombe) and ``response_p`` (two-sided: the level at which that
    interval begins to hold 0, so that the two never disagree); ``smallest_response`` (the least
    difference that such groups show with 80 % chance); ``spend_contacted``, ``spend_held_out``
    (per customer, buyers or not); ``spend_lift``, ``spend_low``, ``spend_high`` (95 %, by the
    larger of the pooled and Welch's standard error), ``spend_p`` (null below ten buyers in either
    group). Null where a group is empty or too small.
    """

    frame: pd.DataFrame
    since: dt.date
    through: dt.date
    """Last day of the window that the results cover."""
    requested_through: dt.date
    """Last day of the window; the results may end before it."""

    @property
    def notes(self) -> tuple[str, ...]:
        """The days of the window that are not covered, and the reason why the total spend has no
        p-value, if so.
        """
        notes = []
        if self.through < self.requested_through:
            covered, whole = (
                (day - self.since).days + 1 for day in (self.through, self.requested_through)
            )
            notes.append(
                f"The results end on {wording.day(self.through)}, so {covered} of the "
                f"{wording.counted(whole, 'days')} up to {wording.day(self.requested_through)} "
                "are measured."
            )
        a = self.frame.iloc[0]
        compared = a["held_out"] and a["contacted"]
        if compared and min(a["bought_contacted"], a["bought_held_out"]) < FEW_BUYERS:
            notes.append(
                f"No p-value is given for spend: with fewer than {FEW_BUYERS} buyers in a group "
                "its variance is unknown, so a p-value would look more certain than it is."
            )
        return tuple(notes)

    def in_words(self) -> str:
        """Return the conclusion for all customers."""
        a = self.frame.iloc[0]
        if not a["held_out"] or not a["contacted"]:
            who = "held out" if not a["held_out"] else "contacted"
            return (
                f"No customer was {who}, so there is no comparison: the effect of the campaign "
                "cannot be determined."
            )
        points, low, high = (100 * a[f"response_{n}"] for n in ("lift", "low", "high"))
        text = (
            f"Of {wording.count(a['contacted'])} contacted "
            f"{wording.percent(a['response_contacted'])} bought between {self.since} and "
            f"{self.through}, of {wording.count(a['held_out'])} held out "
            f"{wording.percent(a['response_held_out'])}: "
            f"{wording.signed(points, 1)} points (95 % interval {wording.signed(low, 1)} to "
            f"{wording.signed(high, 1)}). "
        )
        if a["response_p"] < _CHANCE:
            extra = a["response_lift"] * a["contacted"]
            way = "more" if extra > 0 else "fewer"
            text += (
                f"This is probably not chance (p = {a['response_p']:.3f}): about "
                f"{wording.count(abs(extra))} {way} customers bought than would have anyway."
            )
        else:
            smallest = a["smallest_response"]
            text += f"This may be chance (p = {a['response_p']:.2f}). " + (
                "These groups are too small to detect any effect."
                if pd.isna(smallest)
                else f"A holdout of this size only detects differences of about {100 * smallest:.1f} "
                "points or more, so a smaller effect may exist."
            )
        return text

    def __repr__(self) -> str:
        return f"{self.in_words()}\n{self.frame.to_string(index=False)}"

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``lift``."""
        return {"lift": self.frame}

    def facts(self) -> dict[str, Any]:
        """Return the days of the window that are measured, its requested end, and the conclusion
        in words.
        """
        return {
            "since": self.since.isoformat(),
            "through": self.through.isoformat(),
            "requested_through": self.requested_through.isoformat(),
            "finding": self.in_words(),
        }

    def finding(self) -> str:
        """Return the conclusion about the campaign."""
        return self.in_words()


def lift(
    listed: pd.DataFrame,
    results: Read,
    *,
    since: "str | dt.date | None" = None,
    through: "str | dt.date | None" = None,
) -> Lift:
    """Measure what became of a list, from orders placed after it.

    Parameters
    ----------
    listed
        A campaign's list: ``customer``, ``group``, ``listed_on`` and, for rows by segment,
        ``segment``.
    results
        Orders that extend beyond the list's day. Their scheme says whether refunds lower spend.
    since, through
        First and last day of the window; by default from the day after the list was made to the
        results' last day. Days after that are not covered, which a note says.

    Raises UsageError for a wrong window, DataError for an empty list.
    """
    if listed.empty:
        raise DataError("The list is empty, so there is nothing to measure.")
    placed = results.order_table([], sequence=False, history=False)
    results.require_fit()
    first = (
        as_day(since)
        if since
        else pd.Timestamp(listed["listed_on"].max()).date() + dt.timedelta(days=1)
    )
    requested = as_day(through) if through else results.as_of
    last = requested and min(requested, results.as_of or requested)
    if requested is None or last is None or last < first:
        early = results.as_of is None or results.as_of < first
        raise UsageError(
            f"The window from {first} to {last} contains no day: "
            f"{'the results end' if early else 'it ends'} before the campaign begins."
        )
    spent = _spent(results, placed, first, last)
    joined = listed[["customer", "group", *(["segment"] if "segment" in listed else [])]].merge(
        spent, on="customer", how="left"
    )
    joined = joined.fillna({"spend": 0.0, "bought": 0})
    segments = sorted(joined["segment"].astype(str).unique()) if "segment" in joined else []
    parts = [("all", joined), *((s, joined[joined["segment"].astype(str) == s]) for s in segments)]
    return Lift(
        pd.DataFrame([{"segment": name, **_compared(part)} for name, part in parts]),
        first,
        last,
        requested,
    )


def _spent(orders: Read, placed: exp.Select, first: dt.date, last: dt.date) -> pd.DataFrame:
    """Return the customers with an order between two days: ``spend`` in major units, ``bought`` (1
    with a purchase).
    """
    days = {"a": day_literal(first), "b": day_literal(last)}
    inside = select(["*"], placed, "orders").where(
        sql("placed_on BETWEEN :a AND :b", **days), copy=False
    )
    measures = {
        "minor": sql(f"COALESCE(SUM({counted(orders.scheme)}), 0)"),
        "bought": sql("MAX(CASE WHEN amount > 0 THEN 1 ELSE 0 END)"),
    }
    query = select(
        [column("customer"), *(named(m, n) for n, m in measures.items())], inside, "placed"
    ).group_by(sql("1"), copy=False)
    frame = orders.frame(query)
    frame["spend"] = ratio(
        frame.pop("minor").to_numpy(dtype=np.int64), 10**orders.scheme.money.decimals
    )
    return frame.astype({"customer": "str"})


def _compared(part: pd.DataFrame) -> dict[str, float]:
    contacted = (part["group"].astype(str) == "contact").to_numpy()
    groups = {"contacted": part[contacted], "held_out": part[~contacted]}
    n = {name: len(g) for name, g in groups.items()}
    bought = {name: int(g["bought"].sum()) for name, g in groups.items()}
    rate = {name: bought[name] / n[name] if n[name] else np.nan for name in groups}
    low, high = newcombe(bought["contacted"], n["contacted"], bought["held_out"], n["held_out"])
    spend_low, spend_high, spend_p = difference_of_means(
        *(g["spend"].to_numpy() for g in groups.values())
    )
    spend_p = spend_p if min(bought.values()) >= FEW_BUYERS else np.nan
    mean = {name: float(g["spend"].mean()) for name, g in groups.items()}
    return {
        **n, **{f"bought_{k}": v for k, v in bought.items()},
        **{f"response_{k}": v for k, v in rate.items()},
        "response_lift": rate["contacted"] - rate["held_out"], "response_low": low,
        "response_high": high,
        "response_p": newcombe_p(bought["contacted"], n["contacted"], bought["held_out"],
        n["held_out"]),
        "smallest_response": smallest_effect(rate["held_out"], n["contacted"], n["held_out"]),
        **{f"spend_{k}": v for k, v in mean.items()},
        "spend_lift": mean["contacted"] - mean["held_out"],
        "spend_low": spend_low, "spend_high": spend_high, "spend_p": spend_p,
    }  # fmt: skip


def newcombe(one: int, n_one: int, two: int, n_two: int, z: float = _Z) -> tuple[float, float]:
    """Return the interval of the difference of two rates, one/n_one − two/n_two, from Wilson's
    interval of each; NaN with an empty group.

    95 % with the default ``z``. R. Newcombe (1998), Interval estimation for the difference between
    independent proportions, Statistics in Medicine 17, method 10.
    """
    if not n_one or not n_two:
        return np.nan, np.nan
    (p, low, high), (q, low_q, high_q) = _wilson(one, n_one, z), _wilson(two, n_two, z)
    return p - q - sqrt((p - low) ** 2 + (high_q - q) ** 2), p - q + sqrt(
        (high - p) ** 2 + (q - low_q) ** 2
    )


def _wilson(count: int, n: int, z: float) -> tuple[float, float, float]:
    p, z2 = count / n, z**2
    middle, reach = (
        (2 * count + z2) / (2 * (n + z2)),
        z * sqrt(z2 + 4 * count * (1 - p)) / (2 * (n + z2)),
    )
    return p, middle - reach, middle + reach


def newcombe_p(one: int, n_one: int, two: int, n_two: int) -> float:
    """Return the two-sided p-value that two rates are equal: one minus the level of the widest
    ``newcombe`` interval without 0.

    NaN with an empty group, 1 if the rates are equal.
    """
    if not n_one or not n_two:
        return np.nan
    if one * n_two == two * n_one:
        return 1.0
    side, sign = (0, 1.0) if one * n_two > two * n_one else (1, -1.0)
    low, high = 0.0, 40.0  # the bound on the side of 0 approaches it as z grows
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (
            (middle, high)
            if sign * newcombe(one, n_one, two, n_two, middle)[side] > 0
            else (low, middle)
        )
    return float(2 * ndtr(-high))


def difference_of_means(
    one: "np.ndarray[tuple[int], np.dtype[np.float64]]",
    two: "np.ndarray[tuple[int], np.dtype[np.float64]]",
) -> tuple[float, float, float]:
    """Return the 95 % interval of the difference of two means, mean(one) − mean(two), and its
    two-sided p-value, by Student's t.

    The standard error is the larger of the pooled one and Welch's. Welch's alone underestimates the
    variance of a small group with few buyers: without any effect it excludes 0 in a fifth of
    campaigns. The pooled one alone misses the truth if the small group varies more. NaN if a group
    has fewer than two, or neither varies.
    """
    n, m = len(one), len(two)
    if min(n, m) < 2:
        return np.nan, np.nan, np.nan
    own = [float(v.var(ddof=1)) for v in (one, two)]
    if not sum(own):
        return np.nan, np.nan, np.nan
    pooled, freedom = (
        ((n - 1) * own[0] + (m - 1) * own[1]) / (n + m - 2) * (1 / n + 1 / m),
        float(n + m - 2),
    )
    welch = own[0] / n + own[1] / m
    if welch > pooled:
        freedom = welch**2 / ((own[0] / n) ** 2 / (n - 1) + (own[1] / m) ** 2 / (m - 1))
    gap, error = float(one.mean() - two.mean()), sqrt(max(pooled, welch))
    reach = float(stdtrit(freedom, 0.975)) * error
    return gap - reach, gap + reach, float(2 * stdtr(freedom, -abs(gap) / error))


def smallest_effect(rate: float, n_one: int, n_two: int) -> float:
    """Return the rise above ``rate`` that two groups of these sizes detect with 80 % probability at
    the 5 % level; NaN with an empty one.
    """
    if not n_one or not n_two or np.isnan(rate):
        return np.nan
    low, high = 0.0, 1 - rate
    if high <= 0 or _chance(rate, high, n_one, n_two) < POWER:
        return np.nan
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (
            (low, middle) if _chance(rate, middle, n_one, n_two) >= POWER else (middle, high)
        )
    return high


def _chance(rate: float, effect: float, n_one: int, n_two: int) -> float:
    """Return the probability that the pooled test detects a rise by ``effect``."""
    risen = rate + effect
    pooled = (n_one * risen + n_two * rate) / (n_one + n_two)
    spread_if_equal = sqrt(pooled * (1 - pooled) * (1 / n_one + 1 / n_two))
    spread_if_raised = sqrt(risen * (1 - risen) / n_one + rate * (1 - rate) / n_two)
    if spread_if_raised == 0:
        return float(effect > _Z * spread_if_equal)
    return float(ndtr((effect - _Z * spread_if_equal) / spread_if_raised))


@dataclass(frozen=True)
class HoldoutPlan:
    """The holdout needed to detect an effect: ``held_out`` of ``customers``, ``percent`` of them;
    both None if none is large enough.
    """

    customers: int
    rate: float
    effect: float
    held_out: int | None
    smallest: float
    """The effect that holding out half of the customers would detect."""

    @property
    def percent(self) -> float | None:
        """The holdout in percent, rounded up to a tenth."""
        return None if self.held_out is None else -(-1000 * self.held_out // self.customers) / 10

    def in_words(self) -> str:
        """Return the plan in a sentence."""
        wanted = f"a rise from {wording.percent(self.rate)} by {100 * self.effect:.1f} points"
        if self.held_out is None:
            least = (
                "no effect at all"
                if np.isnan(self.smallest)
                else f"{100 * self.smallest:.1f} points or more"
            )
            return (
                f"{wording.counted(self.customers, 'customers', 'are')} too few to detect "
                f"{wanted}: even with half of them held out they detect {least}."
            )
        return (
            f"To detect {wanted} with 80 % probability, hold out "
            f"{wording.count(self.held_out)} of "
            f"{wording.counted(self.customers, 'customers')}: --holdout {self.percent:g}."
        )


def plan_holdout(customers: int, rate: float, effect: float) -> HoldoutPlan:
    """Return the smallest holdout among ``customers`` that detects a rise of the response ``rate``
    by ``effect``, with 80 % power at the 5 % level.

    Both are fractions (0.02 is 2 points). Raises UsageError for impossible values.

    >>> import fairladder as fl
    >>> fl.plan_holdout(customers=20000, rate=0.05, effect=0.03).held_out
    584
    """
    if customers < 2:
        raise UsageError(
            f"A comparison needs at least two customers, and the list has {customers}."
        )
    if not 0 <= rate < 1 or not 0 < effect <= 1 - rate:
        raise UsageError(
            f"A rate of {rate:g} cannot rise by {effect:g}; give fractions, 0.05 for 5 % and 0.02 "
            "for 2 points."
        )
    half = customers // 2
    smallest = smallest_effect(rate, customers - half, half)
    if _chance(rate, effect, customers - half, half) < POWER:
        return HoldoutPlan(customers, rate, effect, None, smallest)
    low, high = 0, half
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (
            (low, middle)
            if _chance(rate, effect, customers - middle, middle) >= POWER
            else (middle, high)
        )
    return HoldoutPlan(customers, rate, effect, high, smallest)

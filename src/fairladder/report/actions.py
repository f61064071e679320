"""Choose what to do next: groups of customers to contact, ranked by what a contact may bring."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pandas as pd
from sqlglot import exp

from fairladder import wording
from fairladder.book.read import Read
from fairladder.frames import rows_of
from fairladder.sqltree import column, named, select, sql
from fairladder.value.forecast import Forecast
from fairladder.value.predict import NAIVE
from fairladder.value.what_if import chance_of_return, worth_of_return

#: The assumed share of inactive customers whom a contact brings back; the second one is for those
#: who have not ordered for longer than is usual.
RESPONSE, LATE_RESPONSE = 0.05, 0.01
#: This share of repeat orders comes within the usual days.
_USUAL = 0.99
#: Customers with this many orders or more are slipping if they have not ordered for over this many
#: times their average gap: for orders at a constant rate a chance of 5 %.
_LEAST_ORDERS, _LATE = 3, 3.0
#: Number of actions that are shown.
MOST = 3
#: Group of customers → what to do with them, in the imperative, and the stance that colours it.
_TO_DO = {
    "keep": ("Look after your best customers", "keep"),
    "second-order": ("Lead newcomers to a second order", "welcome"),
    "next-order": ("Lead customers to their next order", "grow"),
    "slipping": ("Contact customers who are slipping", "win-back"),
    "win-back": ("Win back customers who stopped ordering", "win-back"),
}
LEAVE = "leave"


@dataclass(frozen=True)
class Action:
    """A group of customers to contact, and what that may bring; money is NaN without a forecast."""

    name: str
    title: str
    stance: str
    customers: int
    why: str
    worth: float
    """The expected return of contacting all of them, in major units after margin."""
    low: float
    high: float
    """The ends of its 80 % range."""

    @property
    def each(self) -> float:
        """The highest cost of a contact that does not lose money on average."""
        return self.worth / self.customers


@dataclass(frozen=True)
class Plan:
    """The actions, best first, and the group of each customer."""

    actions: tuple[Action, ...]
    leave: Action | None
    """The customers to leave alone; None if there are none."""
    basis: str
    """What the ranking is based on, in a sentence or two."""
    group_of: "pd.Series[str]"
    """Name of the action by customer id, for customers in one of ``actions``."""


def plan_of(orders: Read, customers: pd.DataFrame, forecast: Forecast | None) -> Plan:
    """Group the scored ``customers`` by what can be done with them, and rank the groups.

    The expected return of a group is the sum of ``worth_of_return`` at the response ``RESPONSE``,
    or ``LATE_RESPONSE`` after the usual days. Its 80 % range covers the uncertainty of the
    forecast's total and the chance in who responds. If there is no forecast by a model, or its
    test was far off, groups are ranked by size.
    """
    usual = _usual_days(orders)
    groups = _groups(customers, usual)
    trusted = _trusted(forecast)
    late = customers["recency_days"].astype(float).set_axis(customers["customer"]) > usual
    worth = _worths(forecast, groups, late) if trusted and forecast is not None else {}
    actions = [
        Action(
            name, *_TO_DO.get(name, ("", "leave")), len(held), _why(name, held, customers, usual),
            *worth.get(name, (float("nan"),) * 3),
        )
        for name, held in ((n, customers[(groups == n).to_numpy()]) for n in (*_TO_DO, LEAVE))
        if len(held)
    ]  # fmt: skip
    ranked = sorted(
        (a for a in actions if a.name != LEAVE), key=lambda a: -a.worth if trusted else -a.customers
    )[:MOST]
    shown = [a.name for a in ranked]
    return Plan(
        tuple(ranked), next((a for a in actions if a.name == LEAVE), None),
        _basis(forecast, usual, trusted), groups[groups.isin(shown)],
    )  # fmt: skip


def _usual_days(orders: Read) -> float:
    """Return the days within which 99 of 100 repeat orders came; NaN without a repeat order."""
    placed = select(["*"], orders.order_table([], sequence=True), "orders")
    gap = exp.DateDiff(this=column("placed_on"), expression=column("before"), unit=exp.var("DAY"))
    repeats = select([named(gap, "gap")], placed, "placed").where(
        sql("amount > 0 AND before IS NOT NULL"), copy=False
    )
    counted = select([column("gap"), named(sql("COUNT(*)"), "n")], repeats, "repeats")
    frame = orders.frame(counted.group_by(column("gap"), copy=False)).sort_values("gap")
    if not len(frame):
        return float("nan")
    so_far = frame["n"].astype(np.int64).cumsum().to_numpy()
    return float(frame["gap"].to_numpy()[np.searchsorted(so_far, _USUAL * so_far[-1])])


def _groups(customers: pd.DataFrame, usual: float) -> "pd.Series[str]":
    """Return the group of each customer with a purchase, by id; one group at most."""
    stance, bought = customers["stance"].astype(str), customers["orders"] > 0
    inviting = stance.isin(["welcome", "grow"])
    overdue = customers["overdue_ratio"].astype(float) > _LATE
    slipping = (customers["orders"] >= _LEAST_ORDERS) & overdue & (stance != "leave")
    in_time = customers["recency_days"].astype(float) <= usual
    group = pd.Series(
        np.select(
            [slipping & in_time, stance == "keep", inviting & (customers["orders"] == 1), inviting,
             stance == "win-back", stance == "leave"],
            ["slipping", "keep", "second-order", "next-order", "win-back", LEAVE], "",
        ),
        index=customers["customer"],
    )  # fmt: skip
    return group.where(bought.to_numpy(), "")


def _trusted(forecast: Forecast | None) -> bool:
    """Return True if the forecast is by a model whose test was not far off."""
    tested = forecast.backtest if forecast is not None else None
    return forecast is not None and forecast.method != NAIVE and (
        tested is not None and tested.convincing
    )  # fmt: skip


def _worths(
    forecast: Forecast, groups: "pd.Series[str]", late: "pd.Series[bool]"
) -> dict[str, tuple[float, float, float]]:
    """Return for each group the expected return of contacting it, and its 80 % range."""
    response = late.map({True: LATE_RESPONSE, False: RESPONSE})
    worth, chance = worth_of_return(forecast, 1.0), chance_of_return(forecast, 1.0)
    each = pd.DataFrame({"worth": worth, "chance": chance}).mul(
        response.reindex(worth.index), axis=0
    )
    # A customer returns with probability p and then brings about v, itself uncertain by about v:
    # the variance of the return is 2 p v² − (p v)².
    each["variance"] = 2 * each["worth"] ** 2 / each["chance"].where(each["chance"] > 0) - (
        each["worth"] ** 2
    )
    sums = each.groupby(groups.reindex(each.index).fillna(""))[["worth", "variance"]].sum()
    factors = forecast.total_draws
    noise = np.random.default_rng(0).standard_normal(len(factors))
    found = {}
    for name, total, variance in rows_of(sums.reset_index()):
        drawn = total * factors + np.sqrt(variance) * noise
        low, high = np.quantile(drawn, (0.1, 0.9))
        found[str(name)] = (float(total), max(float(low), 0.0), float(high))
    return found


def _why(name: str, held: pd.DataFrame, customers: pd.DataFrame, usual: float) -> str:
    """Return a reason to contact this group, or to leave it alone, in one sentence."""
    buyers = customers[customers["orders"] > 0]
    people = wording.percent(len(held) / len(customers))
    spend, total = float(held["spend"].sum()), float(buyers["spend"].sum())
    share = wording.percent(spend / total if total > 0 else float("nan"))
    silent = wording.days(held["recency_days"].astype(float).median())
    again = wording.percent(float((buyers["orders"] > 1).mean()))
    reasons: dict[str, Callable[[], str]] = {
        "keep": lambda: f"They are {people} of all customers and contribute {share} of spend.",
        "second-order": lambda: f"They have ordered once, and {again} of all buyers ordered again.",
        "next-order": lambda: f"They order, and contribute {share} of spend so far.",
        "slipping": lambda: (
            f"They contributed {share} of spend and are overdue, but not yet for "
            f"{wording.days(usual)} days, after which hardly anyone returns."
        ),
        "win-back": lambda: (
            f"They contributed {share} of spend, but half of them have not ordered for {silent} "
            "days or more."
        ),
        LEAVE: lambda: f"They are {people} of all customers and contributed {share} of spend.",
    }
    return reasons[name]()


def _basis(forecast: Forecast | None, usual: float, trusted: bool) -> str:
    if trusted and forecast is not None:
        return (
            f"Ranked by expected return over {forecast.horizon} days, with its 80 % range, if a "
            f"contact brings back {100 * RESPONSE:.0f} % of those who have left, and "
            f"{100 * LATE_RESPONSE:.0f} % of those who have not ordered for over "
            f"{wording.days(usual)} days. This is an assumption: measure it with a holdout."
        )
    why = "there is no forecast" if forecast is None else "the forecast did not pass its test"
    return f"Ranked by number of customers, since {why}."

"""Compare our ladders with a plain split into equal counts: how many ties it would split, and how
even our rungs are.
"""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.book.read import Read
from fairladder.book.spend import buyers
from fairladder.frames import rows_of
from fairladder.ladder import GroupedLadder, Ladder, ties_at_cuts
from fairladder.ladder.ranks import Better, even_ranks
from fairladder.scheme import Scheme
from fairladder.scores.counting import counts_for_cuts
from fairladder.scores.fitting import SCORES, AnyLadder, measure_values, scheme_of
from fairladder.scores.scored import Scored, groups_of
from fairladder.sqltree import column, day_literal, named, select, sql, units
from fairladder.wording import counted, listed

if TYPE_CHECKING:
    import pandas as pd


class Split(NamedTuple):
    """How one score's ladder compares with a plain split into equal counts; one row of
    ``fairness_of``.
    """

    score: str
    measure: str
    split_customers: int
    size_deviation: float
    size_deviation_inclusive: float


def fairness_of(customers: pd.DataFrame, scheme: Scheme | None = None) -> pd.DataFrame:
    """Return one row per score, for customers with a purchase and ladders without groups.

    Columns: ``score``, ``measure``, ``split_customers`` (customers whom a split of the sorted list into
    equal counts separates from a customer with the same value), ``size_deviation`` of our ladder
    and ``size_deviation_inclusive`` of a spreadsheet's percentiles: the largest |n_k − n·p_k| ÷ n,
    0..1, NaN without purchases.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> fl.fairness_of(orders.customers(), orders.scheme)["split_customers"].tolist()
    [6, 147, 1]
    """
    import pandas as pd

    bought = buyers(customers)
    counts = {
        m: np.unique(measure_values(bought, m), return_counts=True) for m, _ in SCORES.values()
    }
    return pd.DataFrame(
        _splits(counts, scheme or scheme_of(customers)), columns=list(Split._fields)
    )


def _splits(of: Mapping[str, tuple[NDArray[Any], NDArray[Any]]], scheme: Scheme) -> list[Split]:
    """Return the splits from the distinct values of each measure, rising, and their frequencies."""
    rungs, found = scheme.scores.rungs, []
    for name, (measure, better) in SCORES.items():
        values, counts = of[measure]
        ours = Ladder.fit(values, rungs=rungs, better=better, counts=counts).size_deviation
        theirs = Ladder.fit(
            values, rungs=rungs, better=better, method="inclusive", counts=counts
        ).size_deviation
        found.append(Split(name, measure, _split_customers(counts, better, rungs), ours, theirs))
    return found


def _split_customers(counts: NDArray[Any], better: Better, rungs: int) -> int:
    worst_first = counts if better == "high" else counts[::-1]
    return ties_at_cuts(np.arange(len(counts)), rungs, worst_first)


def ties_of(orders: Read) -> dict[str, int]:
    """Return measure → customers whom a split of the sorted list into equal counts separates from a
    customer with the same value; empty if no customer has a purchase.
    """
    groups, rungs, decimals = (
        orders.groups,
        orders.scheme.scores.rungs,
        orders.scheme.money.decimals,
    )
    buyers = select(["*"], groups.used(), "used").where(sql("orders > 0"), copy=False)
    n = int(
        groups.engine.table(select([named(sql("COUNT(*)"), "n")], buyers, "buyers"))["n"][0].as_py()
    )
    if not n or orders.as_of is None:
        return {}
    recency = exp.DateDiff(
        this=day_literal(orders.as_of), expression=column("last_order"), unit=exp.var("DAY")
    )
    measures = {
        "recency_days": recency,
        "orders": column("orders"),
        "spend": units(column("spend"), decimals),
    }
    places = even_ranks(n, rungs)
    also = [*places, *(n - at for at in places), *((n - 1) * j // rungs for j in range(1, rungs))]
    shares = [Fraction(j, rungs) for j in range(1, rungs)]
    ties = {}
    for measure, better in SCORES.values():
        valued = select([named(measures[measure], "value")], buyers, "buyers")
        found = counts_for_cuts(groups.engine, valued, shares, even=True, also=also)
        ties[measure] = _split_customers(found.counts, better, rungs)
    return ties


def split_note(orders: Read) -> str:
    """Return ``in_words`` for the orders' customers; empty if only `check` looks at all
    customers.
    """
    if not orders.customer_engine.limits.customer_findings:
        return ""
    return in_words(ties_of(orders), orders.scheme.scores.rungs)


def in_words(ties: Mapping[str, int], rungs: int) -> str:
    """Return the ties as a sentence, empty if there are none."""
    some = {measure: n for measure, n in ties.items() if n}
    if not some:
        return ""
    counts = ", ".join(f"{n:,} by {measure}" for measure, n in some.items())
    return (
        f"{counted(sum(some.values()), 'customers', 'have')} the same value as a customer in the "
        f"next of {rungs} equal parts ({counts}); equal values always get equal scores here."
    )


def ladder_notes(people: Scored) -> list[str]:
    """Return warnings about the customers' ladders: empty rungs, and groups that are small or have
    no ladder.
    """
    notes, grouped = rung_notes(people.ladders), {}
    for name, ladder in people.ladders.items():
        if isinstance(ladder, GroupedLadder):
            if ladder.within not in grouped:
                grouped[ladder.within] = groups_of(people.engine, people.relation, ladder.within)
            notes += unseen_note(name, ladder, grouped[ladder.within])
    return notes


def unseen_note(name: str, ladder: GroupedLadder, groups: NDArray[Any]) -> list[str]:
    """Return a warning about groups for which no ladder was saved, as a list of one or none."""
    unseen = ladder.unseen(groups)
    if not unseen:
        return []
    return [
        f"{name}: no ladder was saved for {', '.join(map(str, unseen[:5]))}, so customers in "
        "these groups have no score."
    ]


def rung_notes(ladders: Mapping[str, AnyLadder]) -> list[str]:
    """Return warnings about empty rungs and small groups of ladders."""
    notes = []
    for name, ladder in ladders.items():
        if isinstance(ladder, GroupedLadder):
            if ladder.small:
                named = ", ".join(str(g) for g in ladder.small[:5])
                notes.append(
                    f"{name}: {counted(len(ladder.small), 'groups', 'have')} fewer than "
                    f"{2 * ladder.rungs} members ({named})."
                )
        elif ladder.empty and sum(ladder.sizes):
            notes.append(
                f"{name}: no customers on rung{'s' if len(ladder.empty) > 1 else ''} "
                f"{listed(ladder.empty)}."
            )
    return notes


#: Below this many customers a rung contains only a handful. Below this many usual gaps, or this
#: many days, of history no customer can be called inactive.
FEW_CUSTOMERS, FEW_GAPS, FEW_DAYS = 30, 3, 90


def too_few_to_advise(people: Scored) -> list[str]:
    """Return why these customers are too few, or their history too short, for advice; empty if they
    are not.
    """
    trees = {"n": sql("COUNT(*)"), "first": sql("MIN(first_order)"), "last": sql("MAX(last_order)")}
    buyers = select(["*"], people.relation).where(sql("orders > 0"), copy=False)
    sums = people.engine.table(
        select([named(t, n) for n, t in trees.items()], buyers, "buyers")
    ).to_pylist()[0]
    if not sums["n"]:
        return []
    days = (sums["last"] - sums["first"]).days
    return too_few(sums["n"], days, _usual_gap(people, buyers, days))


def _usual_gap(people: Scored, buyers: exp.Select, days: int) -> float:
    """Return the median of the customers' average gaps, NaN without any; 0 without a query if the
    history is long enough anyway.
    """
    over = sql("COUNT(CASE WHEN average_gap_days * :g > :d THEN 1 END)", g=FEW_GAPS, d=days)
    counts = [named(sql("COUNT(average_gap_days)"), "n"), named(over, "over")]
    sums = people.engine.table(select(counts, buyers, "buyers")).to_pylist()[0]
    n = int(sums["n"])
    if not n:
        return float("nan")
    if 2 * sums["over"] < n:
        return 0.0
    gaps = select([named(column("average_gap_days"), "value")], buyers, "buyers")
    gaps = gaps.where(sql("average_gap_days IS NOT NULL"), copy=False)
    middle = ((n - 1) // 2, n // 2)
    found = counts_for_cuts(people.engine, gaps, [], even=False, also=middle)
    low, high = (
        float(found.values[np.searchsorted(np.cumsum(found.counts), at, side="right")])
        for at in middle
    )
    return (low + high) / 2


def too_few(n: int, days: int, gap: float) -> list[str]:
    """Return why ``n`` customers, whose orders span ``days`` days, are too few for advice; ``gap``
    is their usual gap, NaN if there is none.
    """
    lines = []
    if n < FEW_CUSTOMERS:
        who = "1 customer has" if n == 1 else f"{n} customers have"
        lines.append(
            f"Too few to advise: only {who} a purchase, under {FEW_CUSTOMERS}. A rung then "
            "contains only a handful, so look at each customer and not at the segments."
        )
    least = FEW_DAYS if np.isnan(gap) else FEW_GAPS * gap
    if days < least:
        usual = (
            "no customer has ordered on two days yet"
            if np.isnan(gap)
            else f"the usual gap between orders is {gap:.0f} days"
        )
        lines.append(
            f"Too early to advise: the orders span {days} days, and {usual}. Customers who "
            "seem inactive may just not be due yet."
        )
    return lines


#: A segment with a larger share of all customers says little.
MOST_IN_ONE = 0.5


def segment_notes(summary: pd.DataFrame) -> list[str]:
    """Return a warning for a segment with over half of all customers, as a list of one or none."""
    return [
        f"Segment {s.segment} has {100 * s.customer_share:.0f} % of all customers; a rule "
        "that matches so many says little about them."
        for s in rows_of(summary) if s.customer_share > MOST_IN_ONE
    ]  # fmt: skip

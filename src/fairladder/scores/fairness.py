"""What fairness does here, in figures: who would be parted from an equal elsewhere, and how
even the rungs are all the same.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from fractions import Fraction
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.book.read import Read
from fairladder.book.spend import buyers
from fairladder.frames import rows_of
from fairladder.ladder import GroupedLadder, Ladder, ties_at_cuts
from fairladder.ladder.ranks import even_ranks
from fairladder.scheme import Scheme
from fairladder.scores.counting import counts_for_cuts
from fairladder.scores.fitting import SCORES, AnyLadder, measure_values, scheme_of
from fairladder.scores.scored import Scored, groups_of
from fairladder.sqltree import column, day_literal, named, select, sql, units
from fairladder.wording import counted, listed

if TYPE_CHECKING:
    import pandas as pd


class Split(NamedTuple):
    """What one score's ladder spares its customers; a row of ``fairness_of``."""

    score: str
    measure: str
    parted: int
    size_deviation: float
    size_deviation_inclusive: float


def fairness_of(customers: pd.DataFrame, scheme: Scheme | None = None) -> pd.DataFrame:
    """One row per score, over the customers with a purchase and without groups.

    Columns: ``score``, ``measure``, ``parted`` (customers whom a split of the ranks, in row order,
    into equal counts sets apart from an identical one), ``size_deviation`` of our ladder and
    ``size_deviation_inclusive`` of the spreadsheet's method: the largest |n_k − n·p_k| ÷ n, 0..1,
    NaN without purchases.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> fl.fairness_of(orders.customers(), orders.scheme)["parted"].tolist()
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
    """The same from the distinct values of each measure, rising, and how often each occurs."""
    rungs, found = scheme.scores.rungs, []
    for name, (measure, better) in SCORES.items():
        values, counts = of[measure]
        worst_first = counts if better == "high" else counts[::-1]
        ours = Ladder.fit(values, rungs=rungs, better=better, counts=counts).size_deviation
        theirs = Ladder.fit(
            values, rungs=rungs, better=better, method="inclusive", counts=counts
        ).size_deviation
        found.append(
            Split(
                name,
                measure,
                ties_at_cuts(np.arange(len(counts)), rungs, worst_first),
                ours,
                theirs,
            )
        )
    return found


def ties_of(orders: Read) -> list[Split]:
    """``fairness_of`` from how often each value occurs; nothing where nobody has a purchase."""
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
        return []
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
    counts: dict[str, tuple[NDArray[Any], NDArray[Any]]] = {}
    for measure, tree in measures.items():
        valued = select([named(tree, "value")], buyers, "buyers")
        found = counts_for_cuts(groups.engine, valued, shares, even=True, also=also)
        counts[measure] = (found.values, found.counts)
    return _splits(counts, orders.scheme)


def split_note(orders: Read) -> str:
    """``in_words`` of the ties; empty where only `check` looks at all customers."""
    return in_words(ties_of(orders)) if orders.customer_engine.limits.customer_findings else ""


def in_words(splits: Sequence[Split]) -> str:
    """The splits as one sentence, empty where nobody would be parted."""
    some = [split for split in splits if split.parted]
    if not some:
        return ""
    counts = ", ".join(f"{s.parted:,} by {s.measure}" for s in some)
    ours = ", ".join(f"{100 * s.size_deviation:.1f} % ({s.measure})" for s in some)
    theirs = ", ".join(f"{100 * s.size_deviation_inclusive:.1f} % ({s.measure})" for s in some)
    return (
        "Splitting by row order would give customers another score than identical customers: "
        f"{counts}. Here that happens to "
        f"nobody. The largest gap from equal-sized groups is {ours}; a spreadsheet's percentiles "
        f"would make it {theirs}."
    )


def ladder_notes(people: Scored) -> list[str]:
    """What has to be said of the ladders that customers stand on: empty rungs, groups that are
    small or have no ladder.
    """
    notes, grouped = rung_notes(people.ladders), {}
    for name, ladder in people.ladders.items():
        if isinstance(ladder, GroupedLadder):
            if ladder.within not in grouped:
                grouped[ladder.within] = groups_of(people.engine, people.relation, ladder.within)
            notes += unseen_note(name, ladder, grouped[ladder.within])
    return notes


def unseen_note(name: str, ladder: GroupedLadder, groups: NDArray[Any]) -> list[str]:
    """What has to be said of groups for which no ladder was saved."""
    unseen = ladder.unseen(groups)
    if not unseen:
        return []
    return [
        f"{name}: no ladder was saved for {', '.join(map(str, unseen[:5]))}, so customers there "
        "stand on none."
    ]


def rung_notes(ladders: Mapping[str, AnyLadder]) -> list[str]:
    """The same as far as the ladders tell it themselves: rungs that hold nobody, and groups
    that are small.
    """
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
                f"{name}: nobody stands on rung{'s' if len(ladder.empty) > 1 else ''} "
                f"{listed(ladder.empty)}."
            )
    return notes


#: With fewer customers a rung holds a handful, and with less history than so many usual gaps nobody
#: can have left.
FEW_CUSTOMERS, FEW_GAPS, FEW_DAYS = 30, 3, 90


def too_few_to_advise(people: Scored) -> list[str]:
    """Why these customers are too few, or their history too short, to say whom to keep and
    whom to leave alone; empty if not.
    """
    trees = {"n": sql("COUNT(*)"), "first": sql("MIN(first_order)"), "last": sql("MAX(last_order)")}
    buyers = select(["*"], people.relation).where(sql("orders > 0"), copy=False)
    told = people.engine.table(
        select([named(t, n) for n, t in trees.items()], buyers, "buyers")
    ).to_pylist()[0]
    if not told["n"]:
        return []
    days = (told["last"] - told["first"]).days
    return too_few(told["n"], days, _usual_gap(people, buyers, days))


def _usual_gap(people: Scored, buyers: exp.Select, days: int) -> float:
    """The median of the customers' usual gaps, NaN without any; where it is small enough for
    so many days, 0 without a look.
    """
    over = sql("COUNT(CASE WHEN average_gap_days * :g > :d THEN 1 END)", g=FEW_GAPS, d=days)
    counts = [named(sql("COUNT(average_gap_days)"), "n"), named(over, "over")]
    told = people.engine.table(select(counts, buyers, "buyers")).to_pylist()[0]
    n = int(told["n"])
    if not n:
        return float("nan")
    if 2 * told["over"] < n:
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
    """The same of so many customers with a purchase, whose orders span so many days; ``gap``
    is the usual one, NaN where there is none.
    """
    lines = []
    if n < FEW_CUSTOMERS:
        who = "1 customer has" if n == 1 else f"{n} customers have"
        lines.append(
            f"Too few to advise: only {who} a purchase, under {FEW_CUSTOMERS}. A rung holds a "
            "handful then, so look at each of them "
            "and not at the segments."
        )
    least = FEW_DAYS if np.isnan(gap) else FEW_GAPS * gap
    if days < least:
        usual = (
            "nobody has ordered on two days yet"
            if np.isnan(gap)
            else f"the usual gap between orders is {gap:.0f} days"
        )
        lines.append(
            f"Too early to advise: the orders span {days} days, and {usual}. Who seems to have "
            "left may just not be due yet."
        )
    return lines


#: A segment that holds more than this share of all customers hardly tells them apart.
MOST_IN_ONE = 0.5


def segment_notes(summary: pd.DataFrame) -> list[str]:
    """A warning for a segment that holds over half of all customers."""
    return [
        f"Segment {s.segment} holds {100 * s.customer_share:.0f} % of all customers; a rule that "
        "takes so many hardly tells them apart."
        for s in rows_of(summary) if s.customer_share > MOST_IN_ONE
    ]  # fmt: skip

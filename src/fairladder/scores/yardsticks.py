"""How scored customers stand on ladders that were fitted before, whether they are enough to advise, and who would be split."""

from collections.abc import Iterator, Mapping
from fractions import Fraction
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.book.read import Read
from fairladder.ladder import GroupedLadder
from fairladder.ladder.ranks import even_ranks
from fairladder.scores.counting import counts_for_cuts
from fairladder.scores.fairness import FEW_GAPS, fairness_of_counts, in_words, rung_notes, too_few, unseen_note
from fairladder.scores.fitting import SCORES, AnyLadder
from fairladder.scores.saved import drift_of
from fairladder.scores.scored import Scored, groups_of, valued
from fairladder.sqltree import column, day_literal, named, select, sql, units

if TYPE_CHECKING:
    import pandas as pd

_NOBODY = (np.zeros(0), np.zeros(0, dtype=np.int64))


def drift_of_scored(ladders: Mapping[str, AnyLadder], now: Scored) -> "pd.DataFrame":
    """The table of ``saved.drift``: today's customers on these ladders."""
    return drift_of(_values_now(ladders, now))


def _values_now(ladders: Mapping[str, AnyLadder], now: Scored) -> Iterator[tuple[str, str | None, Any, Any, Any]]:
    """Each of the ladders and groups, with the values of today's customers and how often each occurs."""
    measures = {n: m for n, (m, _) in SCORES.items()} | {n: t.of for n, t in now.scheme.tiers.items()}
    for name, ladder in ladders.items():
        grouped = isinstance(ladder, GroupedLadder)
        within = ladder.within if isinstance(ladder, GroupedLadder) else None
        found = {g: (v, c) for g, v, c in valued(now.engine, now.relation, now.kinds, measures[name], within)}
        for group, one in ladder.ladders.items() if isinstance(ladder, GroupedLadder) else [(None, ladder)]:
            values, counts = found.get(group, _NOBODY)
            yield name, group if grouped else None, one, values, counts


def ladder_notes(people: Scored) -> list[str]:
    """``fairness.ladder_notes`` of the ladders on which they were scored."""
    notes, grouped = rung_notes(people.ladders), {}
    for name, ladder in people.ladders.items():
        if isinstance(ladder, GroupedLadder):
            if ladder.within not in grouped:
                grouped[ladder.within] = groups_of(people.engine, people.relation, ladder.within)
            notes += unseen_note(name, ladder, grouped[ladder.within])
    return notes


def too_few_to_advise(people: Scored) -> list[str]:
    """``fairness.too_few_to_advise`` of the customers."""
    trees = {"n": sql("COUNT(*)"), "first": sql("MIN(first_order)"), "last": sql("MAX(last_order)")}
    buyers = select(["*"], people.relation).where(sql("orders > 0"), copy=False)
    told = people.engine.table(select([named(t, n) for n, t in trees.items()], buyers, "buyers")).to_pylist()[0]
    if not told["n"]:
        return []
    days = (told["last"] - told["first"]).days
    return too_few(told["n"], days, _usual_gap(people, buyers, days))


def _usual_gap(people: Scored, buyers: exp.Select, days: int) -> float:
    """The median of the customers' usual gaps, NaN without any; where it is small enough for so many days, 0 without a look."""
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
    low, high = (float(found.values[np.searchsorted(np.cumsum(found.counts), at, side="right")]) for at in middle)
    return (low + high) / 2


def ties_of(orders: Read) -> "pd.DataFrame | None":
    """``fairness.fairness_of`` from how often each value occurs; None where nobody has a purchase."""
    groups, rungs, decimals = orders.groups, orders.scheme.scores.rungs, orders.scheme.money.decimals
    buyers = select(["*"], groups.used(), "used").where(sql("orders > 0"), copy=False)
    n = int(groups.engine.table(select([named(sql("COUNT(*)"), "n")], buyers, "buyers"))["n"][0].as_py())
    if not n or orders.as_of is None:
        return None
    recency = exp.DateDiff(this=day_literal(orders.as_of), expression=column("last_order"), unit=exp.var("DAY"))
    measures = {"recency_days": recency, "orders": column("orders"), "spend": units(column("spend"), decimals)}
    places = even_ranks(n, rungs)
    also = [*places, *(n - at for at in places), *((n - 1) * j // rungs for j in range(1, rungs))]
    shares = [Fraction(j, rungs) for j in range(1, rungs)]
    counted: dict[str, tuple[NDArray[Any], NDArray[Any]]] = {}
    for measure, tree in measures.items():
        valued = select([named(tree, "value")], buyers, "buyers")
        found = counts_for_cuts(groups.engine, valued, shares, even=True, also=also)
        counted[measure] = (found.values, found.counts)
    return fairness_of_counts(counted, orders.scheme)


def split_note(orders: Read) -> str:
    """``fairness.in_words`` of the ties; empty where nobody has a purchase or nobody would be split."""
    ties = ties_of(orders)
    return "" if ties is None else in_words(ties)

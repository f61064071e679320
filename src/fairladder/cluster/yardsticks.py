"""How customers that stay on a cluster stand on ladders that were fitted before, and whether they are enough to advise."""

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
from sqlglot import exp

from fairladder.cluster.counting import counts_for_cuts
from fairladder.cluster.scoring import Scored, groups_of, valued
from fairladder.ladder import GroupedLadder
from fairladder.scores.fairness import FEW_GAPS, rung_notes, too_few, unseen_note
from fairladder.scores.fitting import SCORES, AnyLadder
from fairladder.scores.saved import drift_of
from fairladder.sqltree import column, named, select, sql

if TYPE_CHECKING:
    import pandas as pd

_NOBODY = (np.zeros(0), np.zeros(0, dtype=np.int64))


def drift_there(ladders: Mapping[str, AnyLadder], now: Scored) -> "pd.DataFrame":
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


def ladder_notes_there(people: Scored) -> list[str]:
    """``fairness.ladder_notes`` of the ladders on which they were scored."""
    notes, grouped = rung_notes(people.ladders), {}
    for name, ladder in people.ladders.items():
        if isinstance(ladder, GroupedLadder):
            if ladder.within not in grouped:
                grouped[ladder.within] = groups_of(people.engine, people.relation, ladder.within)
            notes += unseen_note(name, ladder, grouped[ladder.within])
    return notes


def too_few_there(people: Scored) -> list[str]:
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

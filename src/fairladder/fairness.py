"""What fairness does here, in figures: who would be parted from an equal elsewhere, and how even the rungs are all the same."""

from collections.abc import Mapping

import numpy as np
import pandas as pd

from fairladder.fitting import SCORES, AnyLadder, group_labels, measure_values
from fairladder.ladder import GroupedLadder, Ladder, ties_at_cuts
from fairladder.scheme import Scheme


def fairness_of(customers: pd.DataFrame, scheme: Scheme | None = None) -> pd.DataFrame:
    """One row per score, over the customers with a purchase and without groups.

    Columns: ``score``, ``measure``, ``parted`` (customers whom a split of the ranks, in row order, into equal counts sets
    apart from an identical one), ``size_deviation`` of our ladder and ``size_deviation_inclusive`` of the spreadsheet's
    method: the largest |n_k − n·p_k| ÷ n, 0..1, NaN without purchases.
    """
    rungs = (scheme or Scheme()).scores.rungs
    bought = customers[(customers["orders"] > 0).to_numpy()]
    lines = []
    for name, (measure, better) in SCORES.items():
        values = measure_values(bought, measure)
        worst_first = np.asarray(values, dtype=np.float64) * (1 if better == "high" else -1)
        ours = Ladder.fit(values, rungs=rungs, better=better).size_deviation
        theirs = Ladder.fit(values, rungs=rungs, better=better, method="inclusive").size_deviation
        lines.append((name, measure, ties_at_cuts(worst_first, rungs), ours, theirs))
    return pd.DataFrame(lines, columns=["score", "measure", "parted", "size_deviation", "size_deviation_inclusive"])


def in_words(table: pd.DataFrame) -> str:
    """The table as one sentence, empty where nobody would be parted."""
    if not table["parted"].sum():
        return ""
    some = table[table["parted"] > 0]
    counts = ", ".join(f"{r.parted:,} by {r.measure}" for r in some.itertuples(index=False))
    ours, theirs = (
        " and ".join(f"{100 * v:.1f}" for v in some[name]) for name in ("size_deviation", "size_deviation_inclusive")
    )
    return (
        f"Equal counts by row order would part customers from identical ones: {counts}. Here nobody is parted; rungs are off by "
        f"{ours} % at most, by a spreadsheet's percentiles {theirs} %."
    )


def ladder_notes(customers: pd.DataFrame, ladders: Mapping[str, AnyLadder]) -> list[str]:
    """What has to be said of ladders beside the scores: rungs that hold nobody, groups that are small or have no ladder."""
    notes = []
    for name, ladder in ladders.items():
        if isinstance(ladder, GroupedLadder):
            if ladder.small:
                named = ", ".join(str(g) for g in ladder.small[:5])
                notes.append(
                    f"{name}: {len(ladder.small):,} groups have fewer than {2 * ladder.rungs} members ({named})."
                )
            bought = customers[(customers["orders"] > 0).to_numpy()]
            if unseen := ladder.unseen(group_labels(bought, ladder.within)):
                notes.append(
                    f"{name}: no ladder was saved for {', '.join(map(str, unseen[:5]))}; customers there have none."
                )
        elif ladder.empty and sum(ladder.sizes):
            notes.append(f"{name}: nobody stands on rung {', '.join(map(str, ladder.empty))}.")
    return notes


#: A segment that holds more than this share of all customers hardly tells them apart.
MOST_IN_ONE = 0.5


def segment_notes(summary: pd.DataFrame) -> list[str]:
    """A warning for a segment that holds over half of all customers."""
    return [
        f"Segment {s.segment} holds {100 * s.customer_share:.0f} % of all customers; a rule that takes so many hardly tells them apart."
        for s in summary.itertuples(index=False) if s.customer_share > MOST_IN_ONE
    ]  # fmt: skip

"""Ladders: cuts, rungs and ranks. Pure NumPy, without DataFrames and column names."""

from fairladder.ladder.grouped import GroupedLadder
from fairladder.ladder.ladder import Ladder
from fairladder.ladder.ranks import percent_rank, percentile, ties_at_cuts
from fairladder.ladder.tiers import spend_ladder, top_ladder

__all__ = [
    "GroupedLadder",
    "Ladder",
    "percent_rank",
    "percentile",
    "spend_ladder",
    "ties_at_cuts",
    "top_ladder",
]

"""Ladders: cuts, rungs and ranks. Pure NumPy; knows no DataFrame and no column names."""

from fairladder.ladder.ladder import Ladder
from fairladder.ladder.ranks import percent_rank, percentile, ties_at_cuts

__all__ = ["Ladder", "percent_rank", "percentile", "ties_at_cuts"]

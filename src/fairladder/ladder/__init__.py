"""Ladders: cuts, rungs and ranks. Pure NumPy; knows no DataFrame and no column names."""

from fairladder.ladder.ladder import Ladder
from fairladder.ladder.ranks import percent_rank, percentile

__all__ = ["Ladder", "percent_rank", "percentile"]

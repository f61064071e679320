"""Figures: one function a figure; each takes results and returns a Matplotlib Figure."""

from fairladder.figures.concentration import concentration
from fairladder.figures.explained import explanation
from fairladder.figures.ladders import ladders
from fairladder.figures.score_grid import grid
from fairladder.figures.segment_shares import segments
from fairladder.figures.steady import stability

__all__ = ["concentration", "explanation", "grid", "ladders", "segments", "stability"]

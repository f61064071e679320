"""Figures: one function a figure; each takes scored customers and returns a Matplotlib Figure."""

from fairladder.figures.score_grid import grid
from fairladder.figures.segment_shares import segments

__all__ = ["grid", "segments"]

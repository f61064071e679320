"""Figures: one function per figure; each takes results and returns a Matplotlib Figure."""

from fairladder.figures.breakdowns import breakdown_heat, breakdown_stacked
from fairladder.figures.campaigns import (
    campaign_funnel,
    campaign_lift,
    segment_flows,
    segment_sizes,
)
from fairladder.figures.concentration import concentration
from fairladder.figures.explained import explanation
from fairladder.figures.forecasts import (
    value_active,
    value_calibration,
    value_expected,
    value_tracking,
)
from fairladder.figures.growth import growth_revenue, growth_running
from fairladder.figures.ladders import ladders
from fairladder.figures.returning import cohort_map, gaps, order_counts
from fairladder.figures.score_grid import grid
from fairladder.figures.segment_shares import segments
from fairladder.figures.stability import stability

__all__ = [
    "breakdown_heat", "breakdown_stacked", "campaign_funnel", "campaign_lift", "cohort_map",
    "concentration",
    "explanation", "gaps", "grid", "growth_revenue", "growth_running", "ladders", "order_counts",
    "segment_flows", "segment_sizes", "segments", "stability", "value_active", "value_calibration",
    "value_expected", "value_tracking",
]  # fmt: skip

"""Draw one customer on their ladders: the rung, and the distance to the next one."""

from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import Rectangle

from fairladder import palette, wording
from fairladder.errors import DataError
from fairladder.figures.page import STYLE, page
from fairladder.review.explanation import Explanation, Standing

_MOST = 5


def explanation(explained: Explanation, *, facts: Mapping[str, Any] | None = None) -> Figure:
    """Draw a strip of rungs for each score and tier with the customer's own filled, and below what
    would change it.

    Raises DataError for a customer without a purchase, who has no rungs.
    """
    if not explained.standings:
        raise DataError(f"Customer {explained.customer} has no purchase and so no rungs.")
    shown = explained.standings[:_MOST]
    who = f"{explained.customer}{f', {explained.name}' if explained.name else ''}"
    rule = explained.rules[-1]
    with mpl.rc_context(STYLE):
        figure, axes = page(
            f"{who}: {explained.segment}, to {explained.stance}",
            f"Placed by the rule {rule.condition}"[:150],
            facts,
            place=(0.17, 0.36, 0.79, 0.48),
        )
        colour = palette.STANCE_COLOURS.get(explained.stance, palette.INK)
        for line, standing in enumerate(shown):
            _strip(axes, len(shown) - 1 - line, standing, colour)
        axes.set_xlim(0, 1)
        axes.set_ylim(-0.5, len(shown) - 0.4)
        axes.set_xticks([])
        axes.set_yticks(
            [len(shown) - 1 - i for i in range(len(shown))], [s.name for s in shown], fontsize=11.5
        )
        figure.text(
            0.04,
            0.295,
            "What would change the scores, with all other customers unchanged",
            fontsize=11.5,
            fontweight="bold",
        )
        for i, change in enumerate(explained.changes[:6]):
            figure.text(0.04, 0.26 - 0.034 * i, f"• {change.text}", fontsize=10.5, va="center")
    return figure


def _strip(axes: Axes, y: int, s: Standing, colour: str) -> None:
    width = 1 / s.rungs
    ends = [None, *s.cuts, None]
    for rung in range(1, s.rungs + 1):
        own = rung == s.rung
        place = rung if s.better == "high" else s.rungs + 1 - rung
        axes.add_patch(
            Rectangle(
                ((rung - 1) * width, y - 0.3),
                width,
                0.6,
                facecolor=colour if own else palette.SHADES[0],
                edgecolor=palette.PAPER,
                linewidth=3,
            )
        )
        ink = palette.PAPER if own else palette.FAINT
        holds = wording.span(ends[place - 1], ends[place])
        middle = (rung - 0.5) * width
        text = f"{s.label}: {s.measure} {wording.value(s.value)}" if own else s.labels[rung - 1]
        axes.text(
            middle,
            y + 0.1,
            text,
            ha="center",
            va="center",
            fontsize=10.5,
            color=ink,
            fontweight="bold" if own else "normal",
        )
        holds = holds.replace(", up", ",\nup") if len(holds) > 28 else holds
        axes.text(middle, y - 0.13, holds, ha="center", va="center", fontsize=8.5, color=ink)

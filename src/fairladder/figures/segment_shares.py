"""Draw the segments' share of customers and share of spend."""

from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from fairladder import palette, wording
from fairladder.errors import DataError
from fairladder.figures.fitting import many, shortened
from fairladder.figures.page import STYLE, page
from fairladder.frames import row_of_largest, rows_of
from fairladder.scores.on_frames import segment_summary


def segments(
    scored: pd.DataFrame, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw two bars per segment, share of customers and share of spend, in the colour of its
    stance.

    ``facts`` (``Orders.facts()``) fill the footer. Raises DataError if total spend is not positive.
    """
    summary = segment_summary(scored)
    summary = summary[summary["customers"] > 0].sort_values(
        ["spend_share", "customers"], ascending=False, kind="stable"
    )
    if not summary["spend"].sum() > 0:
        raise DataError("Total spend is not above zero, so there are no shares of it to draw.")
    with mpl.rc_context(STYLE):
        figure, axes = page(
            _title(summary),
            "Share of spend (full bar) and share of customers (light bar), in percent",
            facts,
            ax,
        )
        place = np.arange(len(summary))[::-1]
        colours = [palette.STANCE_COLOURS[s] for s in summary["stance"]]
        spend, people = (
            100 * summary["spend_share"].to_numpy(),
            100 * summary["customer_share"].to_numpy(),
        )
        axes.barh(place + 0.19, spend, height=0.36, color=colours)
        axes.barh(place - 0.19, people, height=0.3, color=colours, alpha=0.38)
        reach = max(spend.max(), people.max())
        for y, s, p, row in zip(place, spend, people, rows_of(summary), strict=True):
            text = f"{s:.1f} % of spend, {wording.money(row.spend)}"
            axes.text(max(s, 0) + reach * 0.008, y + 0.19, text, va="center", fontsize=10.5)
            text = f"{p:.1f} % of customers, {wording.count(row.customers)}"
            axes.text(
                p + reach * 0.008, y - 0.19, text, va="center", fontsize=10, color=palette.FAINT
            )
        axes.set_yticks(place, [f"{name}\n" for name in shortened(summary["segment"])], fontsize=12)
        for y, row in zip(place, rows_of(summary), strict=True):
            colour = palette.STANCE_COLOURS[row.stance]
            axes.text(
                -0.0062,
                y - 0.2,
                row.stance,
                transform=axes.get_yaxis_transform(),
                ha="right",
                va="center",
                fontsize=10,
                color=colour,
            )
        many(axes, len(summary), 10 if ax is None else len(summary))
        axes.set_xlim(min(spend.min(), 0), reach * 1.25)
        axes.set_xticks([])
        axes.axvline(0, color="#c8cdd3", linewidth=1)
    return figure


def _title(summary: pd.DataFrame) -> str:
    """Return the finding: the shares of the stance with most spend."""
    by_stance = summary.groupby("stance", observed=True, sort=False)[
        ["customer_share", "spend_share"]
    ].sum()
    most = row_of_largest(by_stance, by_stance["spend_share"])
    stance, people, spend = most.name, most.customer_share, most.spend_share
    return (
        f"The customers to {_WORDS[str(stance)]} are {100 * people:.0f} % of all and contribute "
        f"{100 * spend:.0f} % of spend"
    )


_WORDS = {
    "keep": "keep",
    "grow": "grow",
    "welcome": "welcome",
    "win-back": "win back",
    "leave": "leave alone",
}

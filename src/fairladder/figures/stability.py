"""Draw how many customers would change segment under other settings."""

from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from fairladder import palette, wording
from fairladder.figures.page import STYLE, page
from fairladder.frames import rows_of


def stability(
    frame: pd.DataFrame, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw one bar per change with the share of customers in another segment; ``frame`` is
    ``Stability.frame``.
    """
    shown = frame.sort_values("share", kind="stable")
    with mpl.rc_context(STYLE):
        worst = shown.iloc[-1]
        title = (
            f"Most customers would move with {worst['change']}: {wording.percent(worst['share'])}"
        )
        figure, axes = page(
            title,
            "Customers who would be in another segment, in percent of all",
            facts,
            ax,
            place=(0.34, 0.17, 0.58, 0.67),
        )
        place = np.arange(len(shown))
        axes.barh(place, 100 * shown["share"], height=0.55, color=palette.STANCE_COLOURS["keep"])
        reach = max(100 * float(shown["share"].max()), 1.0)
        for y, row in zip(place, rows_of(shown), strict=True):
            text = f"{wording.percent(row.share)}, {wording.counted(row.customers, 'customers')}"
            axes.text(100 * row.share + reach * 0.012, float(y), text, va="center")
        axes.set_yticks(place, list(shown["change"]), fontsize=11.5)
        axes.set_xlim(0, reach * 1.25)
        axes.set_xticks([])
    return figure

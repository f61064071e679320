"""A breakdown drawn: shares stacked to 100 %, or a heat map of the cells."""

from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
import numpy as np
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import Figure

from fairladder import palette, wording
from fairladder.errors import UsageError
from fairladder.figures.page import STYLE, page
from fairladder.history.breakdown import TOTAL, Breakdown

_FILLS = ("#1d4e89", "#5486b4", "#8fb1d0", "#c9d9e8", "#c08a12", "#e3c47a", "#2f9e8f", "#9fd3cb", "#858b93", "#c8cdd3")


def breakdown_stacked(found: Breakdown, *, facts: Mapping[str, Any] | None = None) -> Figure:
    """Each row as a bar of 100 %, split by column. Raises UsageError without columns, or for averages, which have no parts."""
    if found.columns is None or found.measure == "average_order_value":
        raise UsageError(
            "Bars of 100 % need two axes and a measure with parts: give --columns, or draw --figure-of heat."
        )
    wide = found.wide(found.measure)
    names = [c for c in wide.columns if c != TOTAL]
    cells = np.maximum(wide[names].fillna(0).to_numpy(dtype=np.float64), 0)
    whole = cells.sum(axis=1, keepdims=True)
    shares = 100 * cells / np.where(whole > 0, whole, 1)
    with mpl.rc_context(STYLE):
        measure = found.measure.replace("_", " ")
        spread = np.ptp(shares[:-1], axis=0) if len(shares) > 2 else np.zeros(len(names))
        widest = names[int(spread.argmax())]
        title = f"{widest} differs the most by {found.rows.title}: its share spans {spread.max():.0f} points"
        figure, axes = page(title, f"Share of {measure} by {found.columns.title}, in percent of each row", facts)
        axes.set_position((0.17, 0.14, 0.79, 0.66))
        place, left = np.arange(len(wide))[::-1], np.zeros(len(wide))
        for j, name in enumerate(names):
            fill = _FILLS[j % len(_FILLS)]
            axes.barh(place, shares[:, j], left=left, height=0.7, color=fill, edgecolor=palette.PAPER, label=str(name))
            for y, start, share in zip(place, left, shares[:, j], strict=True):
                if share >= 4:  # narrower pieces have no room for a figure
                    dark = fill in ("#1d4e89", "#5486b4", "#2f9e8f", "#858b93", "#c08a12")
                    axes.text(
                        start + share / 2,
                        float(y),
                        f"{share:.0f}",
                        ha="center",
                        va="center",
                        fontsize=10,
                        color=palette.PAPER if dark else palette.INK,
                    )
            left = left + shares[:, j]
        axes.set_yticks(place, [f"{name} ({wording.count(w[0])})" for name, w in zip(wide.index, whole, strict=True)])
        axes.set_xlim(0, 100)
        axes.set_xticks([])
        axes.legend(frameon=False, ncols=min(len(names), 6), loc="lower left", bbox_to_anchor=(0, 1.0))
    return figure


def breakdown_heat(found: Breakdown, *, facts: Mapping[str, Any] | None = None) -> Figure:
    """Cells shaded by the measure, with its figures; totals stand at the ends without a shade."""
    wide = found.wide()
    values = wide.to_numpy(dtype=np.float64)
    inner = np.ma.masked_invalid(
        np.where((wide.index == TOTAL)[:, None] | (np.asarray(wide.columns) == TOTAL)[None, :], np.nan, values)
    )
    show = wording.percent if found.shares else wording.money
    with mpl.rc_context(STYLE):
        measure = ("share of " if found.shares else "") + found.measure.replace("_", " ")
        best = divmod(int(np.ma.argmax(inner)), inner.shape[1]) if inner.count() else (0, 0)
        title = f"The most {measure}: {wide.index[best[0]]}" + (f", {wide.columns[best[1]]}" if found.columns else "")
        figure, axes = page(
            title, f"{measure} by {found.rows.title}" + (f" and {found.columns.title}" if found.columns else ""), facts
        )
        axes.set_position((0.17, 0.1, 0.79, 0.7))
        axes.imshow(inner, cmap=LinearSegmentedColormap.from_list("cells", palette.SHADES), aspect="auto")
        top = float(inner.max()) if inner.count() else 1.0
        for (i, j), v in np.ndenumerate(values):
            if np.isfinite(v):
                shaded = not np.ma.getmaskarray(inner)[i, j]
                ink = palette.PAPER if shaded and v > 0.6 * top else palette.INK
                axes.text(
                    j,
                    i,
                    show(v),
                    ha="center",
                    va="center",
                    fontsize=10,
                    color=ink,
                    fontweight="normal" if shaded else "bold",
                )
        axes.set_xticks(range(len(wide.columns)), [str(c) for c in wide.columns])
        axes.set_yticks(range(len(wide)), [str(c) for c in wide.index])
        axes.xaxis.tick_top()
    return figure

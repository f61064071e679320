"""Draw a breakdown: bars stacked to 100 %, or a heat map of the cells."""

from collections.abc import Mapping, Sequence
from typing import Any

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import Figure
from numpy.typing import NDArray

from fairladder import palette, wording
from fairladder.errors import UsageError
from fairladder.figures.fitting import shortened
from fairladder.figures.page import STYLE, page
from fairladder.history.breakdown import AVERAGES, Breakdown
from fairladder.history.purchases import MIXED, REST, TOTAL, UNKNOWN

#: Colours for names without order; names with an order get a ramp instead, and unknown values are
#: grey.
_FILLS = ("#1d4e89", "#e3c47a", "#2f9e8f", "#8fb1d0", "#c08a12", "#5486b4", "#9fd3cb", "#c9d9e8")
#: Names of special groups, which are not findings.
NAMELESS = (UNKNOWN, MIXED, REST)
_GREY = "#c8cdd3"
_DARK = ("#1d4e89", "#5486b4", "#2f9e8f", "#c08a12")


def breakdown_stacked(
    found: Breakdown, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw each row as a bar of 100 %, split by column. Raises UsageError without columns, or for
    averages, which have no parts.
    """
    if found.columns is None or found.measure in AVERAGES:
        raise UsageError(
            "Bars of 100 % need two axes and a measure with parts: give --columns, or draw "
            "--figure-of heat."
        )
    wide = found.wide(found.measure)
    names = [c for c in wide.columns if c != TOTAL]
    cells = np.maximum(wide[names].fillna(0).to_numpy(dtype=np.float64), 0)
    whole = cells.sum(axis=1, keepdims=True)
    shares = 100 * cells / np.where(whole > 0, whole, 1)
    with mpl.rc_context(STYLE):
        measure = found.said
        title = _differs_most(found, wide, shares)
        labels = shortened(names)
        columns = 6 if max(map(len, labels)) < 16 else 3
        # with over two rows in the legend there is no space above
        beneath = len(names) > 2 * columns
        figure, axes = page(
            title,
            f"Share of {measure} by {found.columns.title}, in percent of each row",
            facts,
            ax,
            place=(0.17, 0.22, 0.79, 0.64) if beneath else (0.17, 0.14, 0.79, 0.66),
        )
        place, left = np.arange(len(wide))[::-1], np.zeros(len(wide))
        for (j, label), (fill, ink) in zip(
            enumerate(labels), _fills(names, found.columns.ordered), strict=True
        ):
            axes.barh(
                place,
                shares[:, j],
                left=left,
                height=0.7,
                color=fill,
                edgecolor=palette.PAPER,
                label=label,
            )
            for y, start, share in zip(place, left, shares[:, j], strict=True):
                if share >= 4:  # narrower pieces have no space for a number
                    axes.text(
                        start + share / 2,
                        float(y),
                        f"{share:.0f}",
                        ha="center",
                        va="center",
                        fontsize=10,
                        color=ink,
                    )
            left = left + shares[:, j]
        axes.set_yticks(
            place,
            [
                f"{name} ({wording.count(w[0])})"
                for name, w in zip(shortened(wide.index), whole, strict=True)
            ],
        )
        axes.set_xlim(0, 100)
        axes.set_xticks([])
        how: dict[str, Any] = {"frameon": False, "ncols": min(len(names), columns)}
        if beneath:
            axes.legend(loc="upper left", bbox_to_anchor=(0, -0.01), **how)
        else:
            axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), **how)
    return figure


def _fills(names: Sequence[str], ordered: bool) -> list[tuple[Any, str]]:
    """Return a fill colour for each name and the text colour on it."""
    known = [n for n in names if n not in NAMELESS]
    fills: list[tuple[Any, str]]
    if ordered:
        ramp = LinearSegmentedColormap.from_list("ramp", palette.SHADES[1:])
        steps = [i / max(len(known) - 1, 1) for i in range(len(known))]
        fills = [(ramp(step), palette.PAPER if step > 0.5 else palette.INK) for step in steps]
    else:
        chosen = [_FILLS[i % len(_FILLS)] for i in range(len(known))]
        fills = [(fill, palette.PAPER if fill in _DARK else palette.INK) for fill in chosen]
    of = dict(zip(known, fills, strict=True))
    return [of.get(name, (_GREY, palette.INK)) for name in names]


def _differs_most(found: Breakdown, wide: pd.DataFrame, shares: NDArray[np.float64]) -> str:
    """Return the finding: the known column whose share differs most between the known rows."""
    rows = [i for i, name in enumerate(wide.index) if name != TOTAL and name not in NAMELESS]
    names = [c for c in wide.columns if c != TOTAL]
    known = [j for j, name in enumerate(names) if name not in NAMELESS]
    if len(rows) < 2 or not known or found.columns is None:
        return f"Shares of {found.said}"
    spread = np.ptp(shares[np.ix_(rows, known)], axis=0)
    widest = names[known[int(spread.argmax())]]
    points = round(float(spread.max()))
    return (
        f"The share of {widest} differs most by {found.rows.title}: it spans {points} "
        f"point{'s' * (points != 1)}"
    )


def _most(inner: "np.ma.MaskedArray[Any, Any]", wide: pd.DataFrame) -> tuple[int, int]:
    """Return the cell with the largest value, among named rows and columns if there are any."""
    nameless = wide.index.isin(NAMELESS)[:, None] | wide.columns.isin(NAMELESS)[None, :]
    named = np.ma.masked_where(nameless, inner)
    cells = named if named.count() else inner
    row, place = divmod(int(np.ma.argmax(cells)), inner.shape[1]) if cells.count() else (0, 0)
    return row, place


def breakdown_heat(
    found: Breakdown, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw cells shaded by the measure, with its figures; totals are at the ends without a
    shade.
    """
    wide = found.wide()
    values = wide.to_numpy(dtype=np.float64)
    total = np.asarray(wide.columns) == TOTAL
    of_columns = total & (not total.all())  # without columns the totals of the rows are the cells
    inner = np.ma.masked_invalid(
        np.where((wide.index == TOTAL)[:, None] | of_columns[None, :], np.nan, values)
    )
    places = 2 if found.measure in AVERAGES else 0
    show = wording.percent if found.shares else lambda v: wording.money(v, places)
    with mpl.rc_context(STYLE):
        measure = ("share of " if found.shares else "") + found.said
        best = _most(inner, wide)
        title = f"The most {measure}: {wide.index[best[0]]}" + (
            f", {wide.columns[best[1]]}" if found.columns else ""
        )
        figure, axes = page(
            title,
            f"{measure} by {found.rows.title}"
            + (f" and {found.columns.title}" if found.columns else ""),
            facts,
            ax,
            place=(0.17, 0.1, 0.79, 0.7),
        )
        axes.imshow(
            inner, cmap=LinearSegmentedColormap.from_list("cells", palette.SHADES), aspect="auto"
        )
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
        axes.set_xticks(range(len(wide.columns)), shortened(wide.columns))
        axes.set_yticks(range(len(wide)), shortened(wide.index, 20))
        axes.xaxis.tick_top()
    return figure

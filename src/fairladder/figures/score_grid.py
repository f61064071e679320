"""Draw the grid of recency score and frequency score: number of customers and their spend."""

from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import Figure
from matplotlib.patches import Rectangle

from fairladder import palette, wording
from fairladder.errors import DataError
from fairladder.figures.page import STYLE, page


def grid(
    scored: pd.DataFrame, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw customers per cell of recency score and frequency score, shaded by their mean spend.

    Axes show the days and order counts of each rung. ``facts`` (``Orders.facts()``) fill the
    footer. Raises DataError if no customer has a score.
    """
    held = scored[scored["recency_score"].notna()]
    if held.empty:
        raise DataError("No customer has a score, so there is no grid to draw.")
    keys = [held["frequency_score"].astype(int), held["recency_score"].astype(int)]
    cells = held.groupby(keys)["spend"].agg(["size", "mean"])
    rungs = int(max(key.max() for key in keys))
    with mpl.rc_context(STYLE):
        figure, axes = page(
            _title(held, rungs), "Customers per cell; darker cells spent more on average", facts, ax
        )
        shade = LinearSegmentedColormap.from_list("spend", palette.SHADES)
        # Mean spends differ by orders of magnitude, so shades follow their ranks: equal means,
        # equal shades.
        ranks = cells["mean"].rank(method="average", pct=True)
        for at, cell in cells.iterrows():
            place: Any = at
            f, r = place
            tone = float(ranks.loc[place])
            axes.add_patch(
                Rectangle(
                    (r - 0.5, f - 0.5),
                    1,
                    1,
                    facecolor=shade(tone),
                    edgecolor=palette.PAPER,
                    linewidth=3,
                )
            )
            ink = palette.PAPER if tone > 0.6 else palette.INK
            axes.text(
                r,
                f + 0.09,
                wording.count(cell["size"]),
                ha="center",
                va="center",
                fontsize=17,
                fontweight="bold",
                color=ink,
            )
            axes.text(
                r,
                f - 0.24,
                f"mean {wording.money(cell['mean'])}",
                ha="center",
                va="center",
                fontsize=10,
                color=ink,
            )
        axes.set_xlim(0.5, rungs + 0.5)
        axes.set_ylim(0.5, rungs + 0.5)
        axes.set_xticks(
            range(1, rungs + 1), _ranges(held, "recency_score", "recency_days", rungs, "days")
        )
        axes.set_yticks(
            range(1, rungs + 1), _ranges(held, "frequency_score", "orders", rungs, "orders")
        )
        axes.set_xlabel(
            "recency score: days since the last order, longest ago on the left", labelpad=12
        )
        axes.set_ylabel("frequency score: number of orders", labelpad=12)
    return figure


def _ranges(held: pd.DataFrame, score: str, measure: str, rungs: int, unit: str) -> list[str]:
    """Return the label of each rung: its number and its range of values."""
    labels = []
    for rung in range(1, rungs + 1):
        values = held.loc[(held[score] == rung).to_numpy(dtype=bool), measure].to_numpy(
            dtype=np.int64
        )
        if not len(values):
            labels.append(f"{rung}\n(none)")
            continue
        low, high = wording.count(values.min()), wording.count(values.max())
        one = unit.removesuffix("s") if high == "1" else unit
        labels.append(f"{rung}\n{low} {one}" if low == high else f"{rung}\n{low} to {high} {unit}")
    return labels


def _title(held: pd.DataFrame, rungs: int) -> str:
    """Return the finding: the contribution of the best corner."""
    best = held[
        (held["recency_score"] == rungs).to_numpy(dtype=bool)
        & (held["frequency_score"] == rungs).to_numpy(dtype=bool)
    ]
    total = float(held["spend"].sum())
    if best.empty or total <= 0:
        return "No customer is on the top rung of both ladders"
    people, spend = len(best) / len(held), float(best["spend"].sum()) / total
    buyers = (
        f"The {wording.count(len(best))} most recent and most frequent buyers, "
        f"{100 * people:.0f} % of all,"
    )
    return f"{buyers} contribute {100 * spend:.0f} % of spend"

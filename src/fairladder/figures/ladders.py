"""Draw the ladders of the three scores: all customers' values from the lowest rung to the
highest.
"""

from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import LogLocator, NullLocator

from fairladder import columns, palette, wording
from fairladder.errors import DataError
from fairladder.figures.page import STYLE, pages
from fairladder.scheme import Scheme
from fairladder.scores.fitting import SCORES

#: If the largest value is this many times the median, heights are logarithmic.
_LOG_FROM = 10


def ladders(
    scored: pd.DataFrame, scheme: Scheme | None = None, *, facts: Mapping[str, Any] | None = None
) -> Figure:
    """Draw three panels, one per score: customers sorted by value, worst first, a shade for each
    rung.

    Flat stretches are ties; dotted lines are the cuts into equal counts. Raises DataError if no
    customer has a score.
    """
    held = scored[scored["recency_score"].notna()]
    if held.empty:
        raise DataError("No customer has a score, so there are no ladders to draw.")
    rungs = (scheme or Scheme()).scores.rungs
    places = [(0.055 + i * 0.32, 0.15, 0.275, 0.64) for i in range(3)]
    with mpl.rc_context(STYLE):
        figure, panels = pages(
            _title(held, rungs),
            "Every customer's value, worst to best; each shade is a rung, dotted lines "
            "separate equal counts",
            facts,
            places,
        )
        for axes, (name, (measure, better)) in zip(panels, SCORES.items(), strict=True):
            _panel(axes, held, name, measure, better == "low", rungs)
    return figure


def _panel(
    axes: Axes, held: pd.DataFrame, name: str, measure: str, low_is_better: bool, rungs: int
) -> None:
    values = held[measure].to_numpy(dtype=np.float64)
    rung = held[name].to_numpy(dtype=np.int64)
    order = np.lexsort((-values if low_is_better else values, rung))
    values, rung = values[order], rung[order]
    true = values
    log = values.max() > _LOG_FROM * max(np.median(values), 1)
    base, top = (0.7 if log else min(values.min(), 0)), values.max()
    if log:
        axes.set_yscale("log")
        axes.yaxis.set_major_locator(LogLocator(subs=(1, 2, 5)))
        axes.yaxis.set_minor_locator(NullLocator())
        values = np.maximum(values, 1)  # values below one unit are drawn at the bottom
    n = len(values)
    for k in range(1, rungs + 1):
        here = np.flatnonzero(rung == k)
        if not len(here):
            continue
        shade = palette.SHADES[round((k - 1) * (len(palette.SHADES) - 1) / max(rungs - 1, 1))]
        x = np.repeat(np.array([*here, here[-1] + 1]), 2)[1:-1]
        axes.fill_between(x, base, np.repeat(values[here], 2), color=shade, linewidth=0)
        middle = (here[0] + here[-1] + 1) / 2
        spread = _spread(true[here])
        axes.text(
            middle,
            -0.035,
            f"{k}",
            transform=axes.get_xaxis_transform(),
            ha="center",
            va="center",
            fontsize=12,
            fontweight="bold",
        )
        axes.text(
            middle,
            -0.08,
            wording.count(len(here)),
            transform=axes.get_xaxis_transform(),
            ha="center",
            va="center",
            fontsize=9.5,
        )
        axes.text(
            middle,
            -0.12,
            spread,
            transform=axes.get_xaxis_transform(),
            ha="center",
            va="center",
            fontsize=8,
            color=palette.FAINT,
        )
    for j in range(1, rungs):
        axes.axvline(n * j / rungs, color=palette.INK, linewidth=0.8, linestyle=":")
    axes.set_xlim(0, n)
    axes.set_ylim(base, top * (1.15 if log else 1.03))
    axes.set_xticks([])
    axes.tick_params(axis="y", labelsize=9)
    axes.yaxis.set_major_formatter(lambda v, _: wording.brief(v))
    axes.set_title(
        f"{name}: {columns.on_axis(measure)}", fontsize=11.5, loc="left", color=palette.INK
    )


def _spread(values: Any) -> str:
    low, high = wording.brief(values.min()), wording.brief(values.max())
    return low if low == high else f"{low}–{high}" if len(low + high) < 12 else f"{low}–\n{high}"


def _title(held: pd.DataFrame, rungs: int) -> str:
    """Return the finding: the ladder that ties make least even."""
    off = {}
    for name in SCORES:
        sizes = np.bincount(held[name].to_numpy(dtype=np.int64), minlength=rungs + 1)[1:]
        off[name] = float(np.abs(sizes - len(held) / rungs).max() / len(held))
    name = max(off, key=lambda n: off[n])
    return (
        f"Ties make {name} the least even: one rung deviates by {100 * off[name]:.1f} % of all "
        "customers"
    )

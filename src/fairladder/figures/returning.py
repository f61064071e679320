"""Figures of returning customers: the cohort map, the number of orders reached, and the days
between orders.
"""

from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import Figure

from fairladder import palette, wording
from fairladder.errors import DataError
from fairladder.figures.page import STYLE, page
from fairladder.frames import rows_of
from fairladder.history.cohorts import Cohorts
from fairladder.history.counts import largest_drop

_MOST_COHORTS, _MOST_N = 24, 15


def cohort_map(
    table: Cohorts, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw retention by cohort (down) and periods since the first purchase (across), for the latest
    24 cohorts; darker means more.
    """
    wide = table.wide().tail(_MOST_COHORTS)
    values = wide.drop(columns="size").to_numpy(dtype=np.float64)[:, : _MOST_COHORTS + 1]
    average = table.average()
    with mpl.rc_context(STYLE):
        back = average.get(1)
        figure, axes = page(
            f"No cohort has had a next {table.period} yet"
            if wording.missing(back)
            else f"Of a cohort, {wording.percent(back)} buy again in the next {table.period}",
            f"Percent of each cohort active k {table.period}s after the first purchase; size in "
            "brackets",
            facts, ax, place=(0.13, 0.13, 0.83, 0.7),
        )  # fmt: skip
        shade = LinearSegmentedColormap.from_list("active", palette.SHADES)
        later = values[:, 1:]
        most = float(np.nanmax(later)) if later.size and np.isfinite(later).any() else 1.0
        axes.imshow(
            np.ma.masked_invalid(values), cmap=shade, vmin=0, vmax=max(most, 0.01), aspect="auto"
        )
        for (i, j), v in np.ndenumerate(values):
            if np.isfinite(v):
                ink = palette.PAPER if v > 0.6 * most else palette.INK
                axes.text(j, i, f"{100 * v:.0f}", ha="center", va="center", fontsize=9, color=ink)
        axes.set_yticks(
            range(len(wide)),
            [f"{name} ({wording.count(n)})" for name, n in wide["size"].items()],
            fontsize=9.5,
        )
        axes.set_xticks(range(values.shape[1]), [str(k) for k in range(values.shape[1])])
        axes.xaxis.tick_top()
    return figure


def order_counts(
    counts: pd.DataFrame, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw customers by number of orders, with the share that continues from each; the first
    fifteen numbers.
    """
    shown = counts.head(_MOST_N)
    with mpl.rc_context(STYLE):
        drop = largest_drop(counts)
        at = int(drop["n"]) if drop else 1
        text = "Few have ordered yet"
        if drop:
            reached, orders = wording.count(drop["at_least_n"]), "order" if at == 1 else "orders"
            text = f"Of {reached} with {at} {orders}, {wording.percent(drop['went_on'])} placed another"
        figure, axes = page(
            f"{text}: the largest drop" if drop else text,
            "Customers by number of orders; below each, the share who ordered again",
            facts,
            ax,
            place=(0.06, 0.2, 0.9, 0.64),
        )
        colours = [
            palette.STANCE_COLOURS["win-back"] if n == at else palette.STANCE_COLOURS["keep"]
            for n in shown["n"]
        ]
        axes.bar(shown["n"], shown["customers"], color=colours, width=0.75)
        for c in rows_of(shown):
            axes.text(
                c.n,
                c.customers,
                f"{wording.count(c.customers)}\n",
                ha="center",
                va="center",
                fontsize=10.5,
            )
        went = [
            "" if c.went_on == 0 and c.n == counts["n"].max() else f"{100 * c.went_on:.0f} %"
            for c in rows_of(shown)
        ]
        axes.set_xticks(shown["n"], [f"{n}\n{w}" for n, w in zip(shown["n"], went, strict=True)])
        axes.set_xlabel(
            "number of orders, and the share of customers with that many or more who went on",
            labelpad=10,
        )
        axes.set_yticks([])
        axes.set_ylim(0, shown["customers"].max() * 1.08)
    return figure


def gaps(
    ledger: pd.DataFrame, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw a histogram of the days between one purchase and the next, with the median marked.
    Raises DataError without a repeat purchase.
    """
    days = ledger["gap_days"].dropna().to_numpy(dtype=np.float64)
    if not len(days):
        raise DataError(
            "No customer has ordered twice, so there are no days between orders to draw."
        )
    middle, late = float(np.median(days)), float(np.quantile(days, 0.9))
    with mpl.rc_context(STYLE):
        title = f"Half of all repeat orders come within {wording.days(middle)} days, nine of ten within {wording.days(late)}"
        figure, axes = page(
            title,
            f"Days between a purchase and the next, {wording.count(len(days))} repeat orders",
            facts,
            ax,
            place=(0.08, 0.17, 0.87, 0.67),
        )
        reach = float(np.quantile(days, 0.99))
        axes.hist(
            days[days <= reach],
            bins=40,
            color=palette.STANCE_COLOURS["keep"],
            edgecolor=palette.PAPER,
        )
        for at, label in ((middle, "half"), (late, "nine of ten")):
            axes.axvline(at, color=palette.INK, linewidth=1, linestyle=":")
            offset = (
                "right" if label == "half" and late - middle < 0.15 * reach else "left"
            )  # avoid overlapping the other label
            axes.text(at, axes.get_ylim()[1] * 0.97, f" {label} ", va="top", ha=offset, fontsize=10)
        axes.set_xlabel(
            "days since the previous purchase (the longest 1 % are not drawn)", labelpad=10
        )
        axes.yaxis.set_major_formatter(lambda v, _: wording.count(v))
    return figure

"""Figures of growth: customers to date by group with flat spells shaded, and first and repeat
revenue.
"""

from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from fairladder import palette, wording
from fairladder.figures.fitting import short
from fairladder.figures.page import STYLE, page
from fairladder.history.growth import flat_spells, repeat_share

_LINES = ("#1d4e89", "#c4512d", "#2f9e8f", "#c08a12", "#7d5ba6", "#4a6670", "#b0577b", "#5c8a3a")
_MOST_GROUPS = 8


def growth_running(
    table: pd.DataFrame,
    by: str | None = None,
    *,
    period: str = "month",
    facts: Mapping[str, Any] | None = None,
    ax: Axes | None = None,
) -> Figure:
    """Draw customers to date, a line for each group (the eight largest); flat spells are shaded, an
    incomplete end is dashed.

    ``table`` is the result of ``growth`` with the same ``by`` and ``period``.
    """
    spells = flat_spells(table, by)
    groups = (
        table.groupby(by, sort=False)["new_customers_running"]
        .last()
        .sort_values(ascending=False)
        .index
        if by
        else [None]
    )
    with mpl.rc_context(STYLE):
        figure, axes = page(
            _title(table, spells, by, period),
            "Customers to date; shaded where there was no new one for two periods or more",
            facts,
            ax,
            place=(0.08, 0.17, 0.74, 0.67),
        )
        ends = []
        for group, colour in zip(list(groups)[:_MOST_GROUPS], _LINES, strict=False):
            rows = table[table[by] == group] if by else table
            _line(axes, rows, colour)
            ends.append(
                (
                    float(rows["new_customers_running"].iloc[-1]),
                    str(group) if by else "all customers",
                    colour,
                )
            )
        top = max(e[0] for e in ends)
        for y, (at, name, colour) in zip(
            _spread_labels([e[0] for e in ends], top * 0.045), ends, strict=True
        ):
            axes.annotate(
                f"{short(name, 20)}: {wording.count(at)}",
                (1.01, y),
                xycoords=("axes fraction", "data"),
                va="center",
                fontsize=10.5,
                color=colour,
            )
        axes.set_ylim(0, top * 1.06)
        _months(axes, table)
        axes.yaxis.set_major_formatter(lambda v, _: wording.count(v))
    return figure


def _line(axes: Axes, rows: pd.DataFrame, colour: str) -> None:
    days, running = rows["period"].to_numpy(), rows["new_customers_running"].to_numpy()
    done = int(rows["complete"].sum())
    axes.plot(days[:done], running[:done], color=colour, linewidth=2)
    if done < len(rows):
        axes.plot(
            days[max(done - 1, 0) :],
            running[max(done - 1, 0) :],
            color=colour,
            linewidth=2,
            linestyle="--",
        )
    flat = (rows["flat"] & (rows["new_customers_running"] > 0)).to_numpy()
    for run in np.split(
        np.flatnonzero(flat), np.flatnonzero(np.diff(np.flatnonzero(flat)) > 1) + 1
    ):
        if len(run) > 1:
            axes.plot(
                days[run],
                running[run],
                color=colour,
                linewidth=12,
                alpha=0.25,
                solid_capstyle="butt",
            )


def _spread_labels(values: list[float], least: float) -> list[float]:
    """Return places for labels, from the top down, at least ``least`` apart."""
    order, placed = np.argsort(values)[::-1], [0.0] * len(values)
    below = np.inf
    for i in order:
        placed[i] = min(values[i], below - least)
        below = placed[i]
    return placed


def _months(axes: Axes, table: pd.DataFrame) -> None:
    labels = table[["period", "label"]].drop_duplicates()
    step = max(len(labels) // 8, 1)
    axes.set_xticks(labels["period"].to_numpy()[::step], labels["label"].tolist()[::step])


def _title(table: pd.DataFrame, spells: pd.DataFrame, by: str | None, period: str) -> str:
    if len(spells) and by:
        worst = spells[~spells[by].isin(["unknown", "mixed"])]
        if len(worst):
            s = worst.iloc[0]
            return f"{s[by]} stopped growing: no new customer for {s['periods']} {period}s, from {s['first']} to {s['last']}"
    total = (
        int(table.groupby(by)["new_customers_running"].last().sum())
        if by
        else int(table["new_customers_running"].iloc[-1])
    )
    return (
        f"{wording.counted(total, 'customers')} to date, and no {period} without a new one"
        if spells.empty
        else f"{wording.counted(total, 'customers')} to date"
    )


def growth_revenue(
    table: pd.DataFrame,
    *,
    period: str = "month",
    facts: Mapping[str, Any] | None = None,
    ax: Axes | None = None,
) -> Figure:
    """Draw revenue of first and repeat orders by period, stacked, with refunds below; an incomplete
    last period is hatched.
    """
    sums = table.groupby("period")[["new_revenue", "repeat_revenue", "refunded", "revenue"]].sum()
    labels = table.drop_duplicates("period").set_index("period")
    with mpl.rc_context(STYLE):
        share = wording.percent(repeat_share(table))
        figure, axes = page(
            f"Repeat orders are {share} of revenue before refunds",
            f"Revenue by {period}: first orders, repeat orders on top, refunds below",
            facts,
            ax,
            place=(0.09, 0.17, 0.86, 0.67),
        )
        place = np.arange(len(sums))
        hatch = ["" if labels.loc[p, "complete"] else "///" for p in sums.index]
        kinds = (
            ("new_revenue", palette.STANCE_COLOURS["welcome"], "first orders"),
            ("repeat_revenue", palette.STANCE_COLOURS["keep"], "repeat orders"),
        )
        floor = np.zeros(len(sums))
        for name, colour, legend in kinds:
            axes.bar(
                place,
                sums[name],
                bottom=floor,
                color=colour,
                width=0.8,
                hatch=hatch,
                edgecolor=palette.PAPER,
                label=legend,
            )
            floor = floor + sums[name].to_numpy()
        axes.bar(
            place,
            sums["refunded"],
            color=palette.STANCE_COLOURS["win-back"],
            width=0.8,
            label="refunds",
        )
        axes.legend(frameon=False, ncols=3, loc="upper left")
        step = max(len(place) // 8, 1)
        axes.set_xticks(place[::step], [labels.loc[p, "label"] for p in sums.index[::step]])
        axes.yaxis.set_major_formatter(lambda v, _: wording.count(v))
    return figure

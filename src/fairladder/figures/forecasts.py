"""Figures of lifetime value: tracking and calibration of the backtest, concentration of expected
value, active customers.
"""

from collections.abc import Mapping
from itertools import pairwise
from typing import Any, cast

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import Figure

from fairladder import palette, wording
from fairladder.errors import DataError
from fairladder.figures.page import STYLE, page, pages
from fairladder.value.backtest import Backtest
from fairladder.value.forecast import NONE, Forecast
from fairladder.value.predict import NAIVE

_HERE, _AHEAD = palette.INK, palette.STANCE_COLOURS["keep"]
_SMOOTH = 4


def value_tracking(
    tested: Backtest, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw repeat orders by week, actual and expected, with the end of the training data."""
    best = next(m for m in tested.frame["method"] if m != NAIVE)
    table = tested.tracking.iloc[1:-1]  # the weeks at the ends are cut short
    row = tested.frame.set_index("method").loc[best]
    off = row["total_error"]
    clock = (
        f"the {best} model accounts for the season"
        if tested.seasonal
        else f"the {best} model has no season"
    )
    with mpl.rc_context(STYLE):
        figure, axes = page(
            f"After the split {wording.counted(row['actual_orders'], 'orders')} were placed, "
            f"{wording.count(row['orders'])} were forecast"
            + ("" if wording.missing(off) else f" ({wording.signed_percent(off)})"),
            f"Repeat orders by week of customers who had bought by {wording.day(tested.split)}; "
            f"{clock}",
            facts,
            ax,
            place=(0.07, 0.17, 0.8, 0.67),
        )
        week, split = table["week"].to_numpy(), cast(Any, np.datetime64(tested.split))
        axes.plot(week, table["actual"], color="#c8cdd3", linewidth=1)
        smooth = table["actual"].rolling(_SMOOTH, center=True, min_periods=1).mean()
        axes.plot(week, smooth, color=_HERE, linewidth=2)
        axes.plot(week, table[best], color=_AHEAD, linewidth=2.5)
        axes.axvline(split, color=palette.STANCE_COLOURS["win-back"], linewidth=1.5)
        top = float(max(table["actual"].max(), table[best].max()))
        axes.set_ylim(0, top * 1.12)
        axes.annotate(
            f"trained on data up to {wording.day(tested.split)} ", (split, top * 1.08), ha="right",
            color=palette.STANCE_COLOURS["win-back"],
        )  # fmt: skip
        ends = {
            f"actual, mean of\n{_SMOOTH} weeks": (float(smooth.iloc[-1]), _HERE),
            "expected": (float(table[best].iloc[-1]), _AHEAD),
        }
        label_offset = (
            0.06 * top if abs(ends["expected"][0] - float(smooth.iloc[-1])) < 0.1 * top else 0.0
        )
        for (name, (at, colour)), move in zip(
            ends.items(), (-label_offset, label_offset), strict=True
        ):
            axes.annotate(
                name,
                (1.01, at + move),
                xycoords=("axes fraction", "data"),
                va="center",
                color=colour,
            )
        axes.margins(x=0)
    return figure


def value_calibration(
    tested: Backtest, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw orders per customer after the split: actual, by the best model and by the naive
    forecast, by past orders.
    """
    best = next(m for m in tested.frame["method"] if m != NAIVE)
    table = tested.calibration
    better = tested.frame.set_index("method")["error"]
    share = 1 - better[best] / better[NAIVE] if better[NAIVE] > 0 else 0.0
    held = (tested.through - tested.split).days
    with mpl.rc_context(STYLE):
        nearer = (
            f"{abs(100 * share):.0f} % {'nearer to' if share >= 0 else 'further from'} the truth"
        )
        figure, axes = page(
            f"The {best} model is {nearer} per customer than each customer's past rate",
            f"Orders per customer in the {held} days after {wording.day(tested.split)}, by orders "
            "up to then",
            facts,
            ax,
            place=(0.07, 0.19, 0.88, 0.65),
        )
        at = np.arange(len(table))
        kinds = (
            ("actual", _HERE, "actual"),
            (best, _AHEAD, f"expected by {best}"),
            (NAIVE, "#c8cdd3", "each customer's past rate"),
        )
        for i, (name, colour, legend) in enumerate(kinds):
            axes.bar(at + (i - 1) * 0.27, table[name], width=0.25, color=colour, label=legend)
            for x, y in zip(at, table[name], strict=True):
                axes.annotate(
                    f"{y:.1f}",
                    (x + (i - 1) * 0.27, y),
                    ha="center",
                    va="bottom",
                    fontsize=9,
                    color=palette.FAINT,
                )
        labels = [
            f"{p}\n{wording.counted(n, 'customers')}"
            for p, n in zip(table["past_orders"], table["customers"], strict=True)
        ]
        axes.set_xticks(at, labels)
        axes.legend(frameon=False, loc="upper left")
        axes.set_yticks([])
    return figure


def value_expected(ahead: Forecast, *, facts: Mapping[str, Any] | None = None) -> Figure:
    """Draw how expected value is distributed over customers, and the share of the most valuable
    ones. Raises DataError without a forecast.
    """
    _require(ahead)
    value = np.sort(ahead.frame["expected_value"].to_numpy())[::-1]
    total = float(value.sum())
    held = np.cumsum(value) / total if total > 0 else np.zeros(len(value))
    tenth = held[max(-(-len(value) // 10), 1) - 1]
    with mpl.rc_context(STYLE):
        figure, (left, right) = pages(
            f"A tenth of the customers have {100 * tenth:.0f} % of the value expected in the "
            f"next {ahead.horizon} days",
            f"{wording.counted(len(value), 'customers')}, {wording.money(total)} in all by the "
            f"{ahead.method} method",
            facts, [(0.07, 0.18, 0.42, 0.62), (0.57, 0.18, 0.38, 0.62)],
        )  # fmt: skip
        edges = _edges(value)
        counts, _ = np.histogram(value, np.append(edges, np.inf))
        names = [f"{wording.money(a)} to {wording.money(b)}" for a, b in pairwise(edges)]
        names.append(f"{wording.money(edges[-1])} and more")
        at = np.arange(len(counts))[::-1]
        left.barh(at, counts, color=_AHEAD, height=0.75)
        for y, n in zip(at, counts, strict=True):
            left.annotate(f" {wording.count(n)}", (n, y), va="center", color=palette.FAINT)
        left.set_yticks(at, names)
        left.set_xticks([])
        left.set_position((0.17, 0.18, 0.3, 0.62))
        left.set_title("Customers by expected value", loc="left", fontsize=12, color=palette.INK)
        share = np.arange(1, len(value) + 1) / len(value)
        right.fill_between(np.append(0, share), np.append(0, held), color=palette.SHADES[1])
        right.plot(np.append(0, share), np.append(0, held), color=_AHEAD, linewidth=2)
        right.plot([0, 1], [0, 1], color="#c8cdd3", linewidth=1)
        right.annotate(
            f"  {100 * tenth:.0f} % of value\n  from 10 % of customers",
            (0.1, tenth),
            va="top",
            color=palette.INK,
        )
        right.plot([0.1], [tenth], "o", color=_AHEAD)
        right.xaxis.set_major_formatter(lambda v, _: f"{100 * v:.0f} %")
        right.yaxis.set_major_formatter(lambda v, _: f"{100 * v:.0f} %" if v else "")
        right.set_xlabel("customers, most valuable first")
        right.set_title("Share of the expected value", loc="left", fontsize=12, color=palette.INK)
        right.set_xlim(0, 1)
        right.set_ylim(0, 1.02)
    return figure


def _require(ahead: Forecast) -> None:
    """Raise DataError if there is no forecast to draw."""
    if ahead.method == NONE:
        raise DataError(ahead.notes[0])


def _edges(
    value: "np.ndarray[tuple[int], np.dtype[np.float64]]",
) -> "np.ndarray[tuple[int], np.dtype[np.float64]]":
    """Return round edges that rise from 0 by 1, 2, 5, 10, …, about eight of them."""
    top = float(np.quantile(value, 0.99)) if len(value) else 1.0
    steps = [f * 10.0**e for e in range(-4, 12) for f in (1, 2, 5)]
    below = [s for s in steps if s <= max(top, steps[0])][-7:]
    return np.array([0.0, *below])


def value_active(
    ahead: Forecast,
    customers: pd.DataFrame,
    *,
    facts: Mapping[str, Any] | None = None,
    ax: Axes | None = None,
) -> Figure:
    """Draw the average probability of being active, by days since the last order and number of
    orders. ``customers`` as from orders.

    Raises DataError without a forecast.
    """
    _require(ahead)
    joined = ahead.frame.merge(customers[["customer", "orders", "recency_days"]], on="customer")
    rows = _bands(
        joined["recency_days"].to_numpy(np.float64), (0, 31, 61, 91, 181, 366, 731), "days"
    )
    columns = _bands(joined["orders"].to_numpy(np.float64), (1, 2, 3, 4, 6, 11, 21), "orders")
    joined = joined.assign(row=rows[0], column=columns[0])
    chance = joined.pivot_table(
        index="row", columns="column", values="active_probability", aggfunc="mean"
    )
    counts = joined.pivot_table(index="row", columns="column", values="customer", aggfunc="size")
    there = float(joined["active_probability"].mean())
    with mpl.rc_context(STYLE):
        text = (
            "no method estimates who is active"
            if np.isnan(there)
            else f"{100 * there:.0f} % of customers are still active, by the {ahead.method} model"
        )
        figure, axes = page(
            f"About {text}" if not np.isnan(there) else text.capitalize(),
            "Average probability of being active, by days since the last order (down) and "
            "orders to date (across); number of customers below",
            facts,
            ax,
            place=(0.17, 0.12, 0.78, 0.68),
        )
        shades = LinearSegmentedColormap.from_list("shades", palette.SHADES)
        grid = chance.reindex(index=range(len(rows[1])), columns=range(len(columns[1])))
        axes.imshow(
            np.ma.masked_invalid(grid.to_numpy(np.float64)),
            cmap=shades,
            vmin=0,
            vmax=1,
            aspect="auto",
        )
        for i in range(len(rows[1])):
            for j in range(len(columns[1])):
                p: Any = grid.iloc[i, j]
                people: Any = counts.loc[i, j] if not wording.missing(p) else 0
                if not wording.missing(p):
                    colour = palette.PAPER if p > 0.55 else palette.INK
                    axes.annotate(
                        f"{100 * p:.0f} %",
                        (j, i - 0.08),
                        ha="center",
                        va="center",
                        color=colour,
                        fontsize=13,
                    )
                    axes.annotate(
                        wording.count(people),
                        (j, i + 0.25),
                        ha="center",
                        va="center",
                        color=colour,
                        fontsize=9,
                    )
        axes.set_xticks(range(len(columns[1])), columns[1])
        axes.set_yticks(range(len(rows[1])), rows[1])
        axes.xaxis.tick_top()
    return figure


def _bands(
    values: "np.ndarray[tuple[int], np.dtype[np.float64]]", edges: tuple[int, ...], unit: str
) -> tuple["np.ndarray[tuple[int], np.dtype[np.int64]]", list[str]]:
    names = [
        f"{a} to {b - 1} {unit}" if b - a > 1 else f"{a} {unit if a > 1 else unit.rstrip('s')}"
        for a, b in pairwise(edges)
    ]
    return np.searchsorted(edges, values, side="right") - 1, [*names, f"{edges[-1]} and more"]

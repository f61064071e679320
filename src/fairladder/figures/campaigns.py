"""Figures of campaigns and moves: the funnel of a list, lift with intervals, flows between two
days, sizes over several days.
"""

from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import PathPatch
from matplotlib.path import Path

from fairladder import palette, wording
from fairladder.campaigns.lift import Lift
from fairladder.campaigns.listing import CampaignList
from fairladder.figures.fitting import short
from fairladder.figures.page import STYLE, page
from fairladder.frames import rows_of
from fairladder.label_spacing import spread
from fairladder.review.comparison import GONE, NEW, Comparison, Paths
from fairladder.scheme import Scheme

_GREY = "#c8cdd3"


def campaign_funnel(
    listed: CampaignList, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw how many customers are left after each step, from all of them to those to contact."""
    table = listed.funnel
    last = int(table["customers"].iloc[-1])
    with mpl.rc_context(STYLE):
        figure, axes = page(
            f"{listed.campaign.name}: {wording.count(last)} of "
            f"{wording.counted(table['customers'].iloc[0], 'customers', 'are')} contacted",
            "Customers left after each step, and how many it takes out",
            facts,
            ax,
            place=(0.24, 0.14, 0.62, 0.7),
        )
        at = np.arange(len(table))[::-1]
        colours = [
            palette.STANCE_COLOURS["keep"] if i == len(table) - 1 else palette.SHADES[2]
            for i in range(len(table))
        ]
        axes.barh(at, table["customers"], color=colours, height=0.68)
        for y, n, out in zip(at, table["customers"], table["removed"], strict=True):
            axes.annotate(f" {wording.count(n)}", (n, y), va="center", fontsize=12)
            if out:
                axes.annotate(
                    f"− {wording.count(out)}",
                    (1.03, y),
                    xycoords=("axes fraction", "data"),
                    va="center",
                    color=palette.FAINT,
                )
        axes.set_yticks(at, table["step"])
        axes.set_xticks([])
    return figure


def campaign_lift(
    measured: Lift, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw the difference in response between contacted and held-out customers, overall and by
    segment, with 95 % intervals.
    """
    table = measured.frame.dropna(subset="response_lift").reset_index(drop=True)
    first = measured.frame.iloc[0]
    sure = first["response_p"] < 0.05
    with mpl.rc_context(STYLE):
        figure, axes = page(
            "No holdout, so no comparison" if table.empty else
            f"The response of contacts was {abs(100 * first['response_lift']):.1f} percentage points "
            f"{'lower' if first['response_lift'] < 0 else 'higher'} than of the holdout"
            + ("" if sure else ", which may be chance"),
            f"Share who bought from {wording.day(measured.since)} to "
            f"{wording.day(measured.through)}, contacts minus holdout, "
            "with 95 % intervals",
            facts, ax, place=(0.2, 0.15, 0.52, 0.68))  # fmt: skip
        at = np.arange(len(table))[::-1]
        axes.axvline(0, color=_GREY, linewidth=1.2)
        for y, row in zip(at, rows_of(table), strict=True):
            whole = row.segment == "all"
            clear = row.response_low > 0 or row.response_high < 0
            colour = palette.STANCE_COLOURS["keep"] if clear else palette.STANCE_COLOURS["leave"]
            axes.plot(
                [100 * row.response_low, 100 * row.response_high],
                [y, y],
                color=colour,
                linewidth=6 if whole else 3,
                solid_capstyle="butt",
                alpha=0.55,
            )
            axes.plot(100 * row.response_lift, y, "o", color=colour, markersize=11 if whole else 8)
            ours = f"{wording.percent(row.response_contacted)} of {wording.count(row.contacted)}"
            text = f"{ours} against {wording.percent(row.response_held_out)} of {wording.count(row.held_out)}"
            axes.annotate(
                text,
                (1.03, y),
                xycoords=("axes fraction", "data"),
                va="center",
                fontsize=10,
                color=palette.FAINT,
            )
        axes.set_yticks(at, ["all customers" if s == "all" else s for s in table["segment"]])
        axes.set_xlabel("points of response")
        axes.set_ylim(-0.6, len(table) - 0.4)
    return figure


def segment_flows(
    compared: Comparison,
    scheme: Scheme,
    *,
    facts: Mapping[str, Any] | None = None,
    ax: Axes | None = None,
) -> Figure:
    """Draw segments then on the left, now on the right, with bands between them as wide as the
    number of customers.
    """
    stance = {s.name: s.stance for s in scheme.segments}
    order = [*(s.name for s in scheme.segments), NEW, GONE]
    with mpl.rc_context(STYLE):
        figure, axes = page(
            f"{wording.counted(compared.moved, 'customers')} changed segment, "
            f"{wording.count(compared.new)} are new",
            f"Customers by segment on {wording.day(compared.then)} (left) and "
            f"{wording.day(compared.now)} (right); bands have the colour of their origin",
            facts,
            ax,
            place=(0.05, 0.09, 0.9, 0.75),
        )
        table = compared.frame
        sides = {
            side: table.groupby(f"{side}_segment")["customers"].sum() for side in ("from", "to")
        }
        gap = 0.012 * float(table["customers"].sum())
        places = {side: _stacked(sides[side], order, gap) for side in sides}
        top = max(b + n for p in places.values() for b, n in p.values())
        used = {side: dict.fromkeys(places[side], 0.0) for side in places}
        for one in (o for o in order if o in places["from"]):
            for row in sorted(
                rows_of(table[table["from_segment"] == one]),
                key=lambda r: order.index(r.to_segment) if r.to_segment in order else 99,
            ):
                left = places["from"][one][0] + used["from"][one]
                right = places["to"][row.to_segment][0] + used["to"][row.to_segment]
                colour = palette.STANCE_COLOURS.get(stance.get(one, ""), _GREY)
                _band(
                    axes,
                    left,
                    right,
                    float(row.customers),
                    colour,
                    0.18 if one == row.to_segment else 0.5,
                )
                used["from"][one] += row.customers
                used["to"][row.to_segment] += row.customers
        for side, x, align in (("from", 0.0, "right"), ("to", 1.0, "left")):
            names = list(places[side])
            wanted = [base + n / 2 for base, n in places[side].values()]
            middles = dict(zip(names, spread(wanted, 0.026 * top, 0, top), strict=True))
            for name, (base, n) in places[side].items():
                colour = palette.STANCE_COLOURS.get(stance.get(name, ""), _GREY)
                axes.fill_between([x - 0.012, x + 0.012], base, base + n, color=colour, linewidth=0)
                label_x = x - 0.025 if align == "right" else x + 0.025
                axes.annotate(
                    f"{short(name)}  {wording.count(n)}",
                    (label_x, middles[name]),
                    ha=align,
                    va="center",
                    fontsize=10,
                )
        axes.set_xlim(-0.32, 1.32)
        axes.set_ylim(top, 0)
        axes.set_xticks([])
        axes.set_yticks([])
    return figure


def _stacked(
    sizes: "pd.Series[int]", order: list[str], gap: float
) -> dict[str, tuple[float, float]]:
    """Return name → start and height of its block, one below the other with a gap."""
    at, placed = 0.0, {}
    for name in [
        *(o for o in order if o in sizes.index),
        *(s for s in sizes.index if s not in order),
    ]:
        placed[str(name)] = (at, float(sizes[name]))
        at += float(sizes[name]) + gap
    return placed


def _band(axes: Axes, left: float, right: float, width: float, colour: str, alpha: float) -> None:
    a, b, mid = 0.012, 0.988, 0.5
    points = [
        (a, left),
        (mid, left),
        (mid, right),
        (b, right),
        (b, right + width),
        (mid, right + width),
        (mid, left + width),
        (a, left + width),
        (a, left),
    ]
    codes = [
        Path.MOVETO,
        Path.CURVE4,
        Path.CURVE4,
        Path.CURVE4,
        Path.LINETO,
        Path.CURVE4,
        Path.CURVE4,
        Path.CURVE4,
        Path.CLOSEPOLY,
    ]
    axes.add_patch(PathPatch(Path(points, codes), facecolor=colour, alpha=alpha, linewidth=0))


_MARKS = {"-": "o", "--": "s", ":": "^", "-.": "D"}
_DASHES = tuple(_MARKS)


def segment_sizes(
    walked: Paths, *, facts: Mapping[str, Any] | None = None, ax: Axes | None = None
) -> Figure:
    """Draw the number of customers in each segment over time, one line each, in the colour of the
    stance; a second segment of a stance is dashed.
    """
    wide = walked.frame.pivot(index="day", columns="segment", values="customers")
    stance = walked.frame.drop_duplicates("segment").set_index("segment")["stance"]
    most = str((wide.iloc[-1] - wide.iloc[0]).idxmax())
    with mpl.rc_context(STYLE):
        figure, axes = page(
            f"{most} grew most, from {wording.count(wide[most].iloc[0])} to "
            f"{wording.counted(wide[most].iloc[-1], 'customers')}",
            f"Customers by segment on {len(walked.days)} days, scored on the ladders of "
            f"{wording.day(walked.days[0])}",
            facts,
            ax,
            place=(0.07, 0.15, 0.69, 0.69),
        )
        top = float(wide.max().max())
        ends = sorted(((float(wide[s].iloc[-1]), str(s)) for s in wide.columns), reverse=True)
        below = np.inf
        nth = stance.groupby(stance.to_numpy(dtype=object), sort=False).cumcount()
        for at, name in ends:
            colour, dash = (
                palette.STANCE_COLOURS[stance[name]],
                _DASHES[int(nth[name]) % len(_DASHES)],
            )
            axes.plot(
                wide.index.to_numpy(),
                wide[name],
                dash,
                color=colour,
                linewidth=2.2,
                marker=_MARKS[dash],
                markersize=4,
            )
            below = min(at, below - 0.045 * top)
            axes.annotate(
                f"{'○□△◇'[_DASHES.index(dash)]} {short(name)}: {wording.count(at)}",
                (1.02, below),
                xycoords=("axes fraction", "data"),
                va="center",
                color=colour,
                fontsize=10.5,
            )
        axes.set_ylim(min(0, below - 0.02 * top), 1.05 * top)
        step = max(len(wide) // 7, 1)
        days = list(wide.index[::step])
        if len(days) > 1 and (days[-1] - days[-2]).days < 0.6 * (days[1] - days[0]).days:
            del days[-2]  # the last two days may be close together
        months = {f"{d:%b %Y}" for d in days}
        written = "%b %Y" if len(months) == len(days) else "%-d %b %Y"
        axes.set_xticks([d.to_datetime64() for d in days], [f"{d:{written}}" for d in days])
        axes.yaxis.set_major_formatter(lambda v, _: wording.count(v) if v >= 0 else "")
    return figure

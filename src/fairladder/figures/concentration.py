"""Draw the share of spend from the best customers, with the tiers of spend marked."""

from collections.abc import Mapping
from typing import Any

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from fairladder import palette
from fairladder.book.spend import buyers
from fairladder.errors import DataError
from fairladder.figures.page import STYLE, page
from fairladder.scheme import Scheme

_BEHIND = {"facecolor": palette.SHADES[1], "edgecolor": "none", "pad": 2}
_MARKS = (0.01, 0.05, 0.2, 0.5)


def concentration(
    scored: pd.DataFrame,
    scheme: Scheme | None = None,
    *,
    facts: Mapping[str, Any] | None = None,
    ax: Axes | None = None,
) -> Figure:
    """Draw the running share of positive spend by share of customers, largest spend first.

    Marks the limits of the scheme's first tier of spend, or the first 1, 5, 20 and 50 % of
    customers if there is none. Customers without a purchase are not drawn. Raises DataError if
    there is no positive spend.
    """
    bought = buyers(scored)
    spend = np.sort(np.maximum(bought["spend"].to_numpy(dtype=np.float64), 0))[::-1]
    if not spend.sum() > 0:
        raise DataError("There is no positive spend, so there are no shares of it to draw.")
    share = np.concatenate([[0], np.cumsum(spend)]) / spend.sum()
    people = np.arange(len(share)) / len(spend)
    fifth = float(np.interp(0.2, people, share))
    with mpl.rc_context(STYLE):
        title = f"The first fifth of customers contribute {100 * fifth:.0f} % of spend"
        figure, axes = page(
            title,
            "Share of spend from the best customers, in percent of all customers with a purchase",
            facts,
            ax,
        )
        axes.fill_between(100 * people, 0, 100 * share, color=palette.SHADES[1], linewidth=0)
        axes.plot(100 * people, 100 * share, color=palette.STANCE_COLOURS["keep"], linewidth=2.2)
        axes.plot([0, 100], [0, 100], color=palette.PAPER, linewidth=1.5, linestyle="--")
        axes.text(
            72,
            68,
            "if all spent equally",
            fontsize=9.5,
            color=palette.FAINT,
            rotation=33,
            ha="center",
            va="top",
        )
        for at, label in _marks(bought, scheme):
            held = float(np.interp(at, people, share))
            axes.plot([100 * at] * 2, [0, 100 * held], color=palette.INK, linewidth=0.8)
            axes.plot(100 * at, 100 * held, "o", color=palette.INK, markersize=5)
            text = f"{label}: {100 * at:.1f} % of customers, {100 * held:.1f} % of spend"
            axes.annotate(
                text,
                (100 * at, 100 * held),
                xytext=(12, -4),
                textcoords="offset points",
                fontsize=10.5,
                va="top" if held > 0.06 else "bottom",
                bbox=_BEHIND,
            )
        axes.set_xlim(0, 100)
        axes.set_ylim(0, 101)
        axes.set_xticks(range(0, 101, 20), [f"{v} %" for v in range(0, 101, 20)])
        axes.set_yticks(range(0, 101, 20), [f"{v} %" if v else "" for v in range(0, 101, 20)])
        axes.set_xlabel("customers, largest spend first", labelpad=10)
        axes.set_ylabel("share of spend", labelpad=10)
    return figure


def _marks(bought: pd.DataFrame, scheme: Scheme | None) -> list[tuple[float, str]]:
    """Return the share of customers and the name at the end of each tier but the last."""
    for name, tier in (scheme.tiers if scheme else {}).items():
        if tier.of == "spend" and tier.within is None and name in bought:
            counts = [int((bought[name] == label).sum()) for label in tier.names()]
            ends = np.cumsum(counts)[:-1] / max(sum(counts), 1)
            named = [label if i == 0 else f"with {label}" for i, label in enumerate(tier.names())]
            return [(float(end), label) for end, label in zip(ends, named, strict=False)]
    return [(mark, f"first {100 * mark:g} %") for mark in _MARKS]

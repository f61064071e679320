"""Compute the key figures at the top of a report: the last period compared with an earlier one."""

import datetime as dt
from calendar import monthrange
from dataclasses import dataclass
from typing import Literal

import numpy as np

from fairladder import wording
from fairladder.book.read import Read
from fairladder.book.spend import counted, ignores_refunds
from fairladder.numbers import ratio
from fairladder.sqltree import case, column, day_literal, named, select, sql

#: Length of a period in months and days, its name, and the number of periods in a year (None if
#: they do not add up to one). The longest of which the orders cover two is used.
_LENGTHS = ((3, 0, "three months", 4), (1, 0, "month", 12), (0, 7, "seven days", None))
#: Number of periods drawn.
_MOST = 9


@dataclass(frozen=True)
class KeyFigure:
    """One figure by period; ``history`` begins with the earliest, NaN where it is not known."""

    name: str
    kind: Literal["count", "money", "share"]
    definition: str
    history: tuple[float, ...]
    before: float
    """The figure in the period that is compared; NaN without one."""

    @property
    def value(self) -> float:
        """The figure in the last period."""
        return self.history[-1]

    @property
    def in_words(self) -> str:
        """The figure, without a currency."""
        return self.words_of(self.value)

    def words_of(self, value: float) -> str:
        """Format a value of this figure; a dash for null."""
        if wording.missing(value):
            return wording.NOTHING
        if self.kind == "share":
            return wording.percent(value)
        return wording.money(value) if self.kind == "money" else wording.count(value)

    @property
    def change(self) -> float:
        """The change from the compared period: a share of it, or in points (0..1) of a share."""
        if wording.missing(self.value) or wording.missing(self.before):
            return float("nan")
        if self.kind == "share":
            return self.value - self.before
        return self.value / self.before - 1 if self.before > 0 else float("nan")

    @property
    def change_in_words(self) -> str:
        """The change with its sign: ``+3.2 %``, ``−1.4 points``; empty if it is not known."""
        if wording.missing(self.change):
            return ""
        unit = "points" if self.kind == "share" else "%"
        return f"{wording.signed(100 * self.change, 1)} {unit}"


@dataclass(frozen=True)
class KeyFigures:
    """The key figures, their period, and the one that they are compared with."""

    figures: tuple[KeyFigure, ...]
    first: dt.date
    last: dt.date
    compared: str
    """The compared period in words; empty if the orders do not cover one."""

    @property
    def period(self) -> str:
        """The period in words."""
        return f"{wording.day(self.first)} to {wording.day(self.last)}"


def key_figures(orders: Read, as_of: dt.date, begun: dt.date) -> KeyFigures:
    """Return active customers, spend, spend per active customer and the share who came back.

    ``begun`` is the day of the first order. The figures are those of the last three months, or of
    the last month or week in a short history. They are compared with the same period a year
    before, or else with the period before.
    """
    lengths = ((_edges(as_of, begun, m, d), name, year) for m, d, name, year in _LENGTHS)
    edges, name, year = next((found for found in lengths if len(found[0]) > 2), (
        _edges(as_of, as_of, 0, 7), "seven days", None))  # fmt: skip
    covered = len(edges) - 1
    ago = year if year is not None and covered > year else 1
    active, spend, returned = _sums(orders, edges)
    known = np.arange(len(active)) < covered - 1
    came_back = np.where(known, ratio(returned, np.append(active[1:], 0)), np.nan)
    unit = 10**orders.scheme.money.decimals
    less = "" if ignores_refunds(orders.scheme) else ", less refunds"
    kinds: list[tuple[str, Literal["count", "money", "share"], str, np.ndarray]] = [
        ("active customers", "count", f"Customers with a purchase in the {name}.",
         active.astype(float)),
        ("spend", "money", f"Spend of all customers in the {name}{less}.",
         ratio(spend, unit)),
        ("spend per active customer", "money", "Spend ÷ active customers.",
         ratio(spend, unit * active)),
        ("customers who came back", "share",
         f"Share of the customers of the {name} before who bought again in this period.",
         came_back),
    ]  # fmt: skip
    compared = f"the same {name} a year before" if ago != 1 else f"the {name} before"
    return KeyFigures(
        tuple(
            KeyFigure(
                title, kind, definition, tuple(values[:_MOST][::-1].tolist()),
                float(values[ago]) if ago < len(values) else float("nan"),
            )
            for title, kind, definition, values in kinds
        ),
        edges[1], as_of, compared if covered > 1 else "",
    )  # fmt: skip


def _edges(as_of: dt.date, begun: dt.date, months: int, days: int) -> list[dt.date]:
    """Return the day after the last period, then the first day of each period that the orders
    cover, latest first; the last one alone if they cover none.
    """
    after = as_of + dt.timedelta(days=1)
    edges = [after]
    while len(edges) <= 1 or (edges[-1] >= begun and len(edges) < _MOST + 2):
        n = len(edges)
        edges.append(_months_before(after, n * months) - dt.timedelta(days=n * days))
    return edges if edges[-1] >= begun or len(edges) == 2 else edges[:-1]


def _months_before(day: dt.date, months: int) -> dt.date:
    year, month = divmod(12 * day.year + day.month - 1 - months, 12)
    return dt.date(year, month + 1, min(day.day, monthrange(year, month + 1)[1]))


def _sums(orders: Read, edges: list[dt.date]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return for each period, latest first, its active customers, spend (minor units), and active
    customers who had also bought in the period before it.
    """
    starts = edges[1:]
    periods = case(
        [
            (sql("placed_on >= :d", d=day_literal(start)), sql(str(k)))
            for k, start in enumerate(starts)
        ],
        sql("NULL"),
    )
    placed = select(["*"], orders.order_table([], sequence=False, history=False), "orders")
    placed = placed.where(sql("placed_on >= :d", d=day_literal(starts[-1])), copy=False)
    numbered = select(
        [column("customer"), column("amount"), named(periods, "k")], placed, "numbered"
    )
    each = select(
        [
            column("customer"),
            column("k"),
            named(sql("MAX(CASE WHEN amount > 0 THEN 1 ELSE 0 END)"), "bought"),
            named(sql(f"COALESCE(SUM({counted(orders.scheme)}), 0)"), "spend"),
        ],
        numbered,
        "by_period",
    ).group_by(column("customer"), column("k"), copy=False)
    again = sql("LEAD(k) OVER (PARTITION BY customer, bought ORDER BY k)")
    followed = select(
        [sql("k"), sql("bought"), sql("spend"), named(again, "earlier")], each, "each"
    )
    query = select(
        [
            column("k"),
            named(sql("SUM(bought)"), "active"),
            named(sql("SUM(spend)"), "spend"),
            named(sql("COUNT(CASE WHEN bought = 1 AND earlier = k + 1 THEN 1 END)"), "returned"),
        ],
        followed,
        "followed",
    ).group_by(column("k"), copy=False)
    frame = orders.frame(query).set_index("k").reindex(range(len(starts))).fillna(0)
    active, spend, returned = (
        frame[c].astype(np.int64).to_numpy() for c in ("active", "spend", "returned")
    )
    return active, spend, returned

"""``fairladder retention``: cohorts, rates, and how many orders customers reach."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Annotated, Any

import typer

from fairladder import wording
from fairladder.cli.growth import By, Period
from fairladder.cli.options import FIGURE_OF, Request, known_figure
from fairladder.days import checked_period
from fairladder.frames import rows_of

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure
    from rich.console import RenderableType
    from rich.text import Text

    from fairladder.api import Orders
    from fairladder.history.cohorts import Cohorts

PARTS = ("cohorts", "rates", "order-counts", "one-order-short", "channels", "flow")
FIGURES = ("cohorts", "order-counts", "gaps")

Goal = Annotated[
    int | None,
    typer.Option(
        "--goal",
        help="The number of orders to reach, for the part one-order-short.",
        metavar="NUMBER",
        show_default=False,
    ),
]
FigureOf = Annotated[str, FIGURE_OF]


def retention(
    request: Request,
    period: Period = "month",
    by: By = None,
    goal: Goal = None,
    figure_of: FigureOf = "cohorts",
) -> None:
    """Do customers come back? Cohorts by their first purchase, two rates, and how many order a
    second or fifth time.
    """
    from fairladder.book.kept_orders import OrderTable
    from fairladder.cli import door, screen
    from fairladder.errors import UsageError

    known_figure(figure_of, FIGURES)
    checked_period(period)
    if goal is not None and goal < 2:  # one order short of the first there are no customers
        raise UsageError(f"A goal is 2 purchases or more, not {goal}.")
    of_orders = request.part in (None, "cohorts", "rates")
    kept = OrderTable((by,) if by else (), sequence=by is not None) if of_orders else None
    orders = door.opened(request, PARTS, figures=True, keep=kept, shows="periods")
    answers = _Answers(orders, period, by, goal)
    parts = PARTS if "channel" in orders.roles else PARTS[:-2]
    if request.part is not None and request.part not in parts:
        raise UsageError(
            f"--part {request.part}: the orders have no channel. Name its column under [orders] "
            "channel."
        )
    whole = screen.for_people(request) or (
        request.part is None and str(request.out).endswith(".json")
    )
    with screen.busy(request, "Computing cohorts", orders.engine):
        tables = {
            name: answers.table(name) for name in (parts if whole else [request.part or PARTS[0]])
        }
        view = answers.views(tables) if whole else []
    door.give(request, orders, tables, view, figure=lambda: answers.figure(figure_of))


@dataclass
class _Answers:
    """The data for parts, screen and figures, each computed once on demand."""

    orders: "Orders"
    period: str
    by: str | None
    goal: int | None

    @cached_property
    def cohorts(self) -> "Cohorts":
        from fairladder.history.cohorts import cohorts

        return cohorts(self.orders, period=self.period, by=self.by)

    @cached_property
    def counts(self) -> "pd.DataFrame":
        from fairladder.history.counts import order_counts

        return order_counts(self.orders)

    def table(self, part: str) -> "pd.DataFrame":
        from fairladder.history import counts

        if part in ("cohorts", "rates"):
            return self.cohorts.tables()[part]
        if part == "order-counts":
            return self.counts
        if part == "one-order-short":
            return counts.one_order_short(self.orders, self.goal)
        return (
            counts.one_channel(self.orders)
            if part == "channels"
            else counts.channel_flow(self.orders)
        )

    def views(self, tables: "Mapping[str, pd.DataFrame]") -> "list[RenderableType]":
        from fairladder.history.counts import goal_of

        goal = self.goal or goal_of(self.counts)
        view = [
            _cohorts(self.cohorts),
            _rates(self.cohorts),
            _counts(self.counts, goal, len(tables["one-order-short"])),
        ]
        return [*view, _channels(tables["channels"])] if "channels" in tables else view

    def figure(self, name: str) -> "Figure":
        from fairladder import figures
        from fairladder.history.ledger import order_ledger

        facts = self.orders.facts()
        if name == "cohorts":
            return figures.cohort_map(self.cohorts, facts=facts)
        if name == "order-counts":
            return figures.order_counts(self.counts, facts=facts)
        return figures.gaps(order_ledger(self.orders), facts=facts)


_MOST_K, _MOST_COHORTS = 12, 16


def _cohorts(cohorts: "Cohorts") -> "RenderableType":
    from fairladder.cli.screen import shaded, table

    wide = cohorts.wide().tail(_MOST_COHORTS)
    columns: list[Any] = list(wide.columns)
    ks = [k for k in columns if k != "size" and k <= _MOST_K]
    rows = [
        [
            str(name),
            wording.count(row["size"]),
            *("" if wording.missing(row[k]) else shaded(f"{100 * row[k]:.0f}", row[k]) for k in ks),
        ]
        for name, row in wide.iterrows()
    ]
    average = cohorts.average()
    rows.append(
        [
            "average",
            "",
            *(
                f"{100 * average[k]:.0f}" if k in average.index and average[k] == average[k] else ""
                for k in ks
            ),
        ]
    )
    back = average.get(1)
    unit = cohorts.period
    text = (
        f"No cohort has had a next {unit} yet"
        if wording.missing(back)
        else f"{wording.percent(back)} of a cohort buy in the next {unit}"
    )
    title = f"Do customers come back? {text}; percentage active k {unit}s after the first"
    return table(title, ["cohort", "size", *map(str, ks)], rows)


def _rates(cohorts: "Cohorts") -> "Text":
    from rich.text import Text

    lines = [f"{cohorts.repeat_retention} (active in one {cohorts.period} and again in the next)",
            f"{cohorts.cohort_retention} (describes the table: older cohorts weigh more)"]  # fmt: skip
    return Text("\n".join(lines))


def _counts(counts: "pd.DataFrame", goal: int, near: int) -> "RenderableType":
    from rich.console import Group
    from rich.text import Text

    from fairladder.cli.screen import table
    from fairladder.history.counts import largest_drop

    rows = [
        [wording.count(c.n), wording.count(c.customers), wording.percent(c.share),
        wording.count(c.at_least_n),
         wording.percent(c.went_on), wording.money(c.spend)]
        for c in rows_of(counts.head(10))
    ]  # fmt: skip
    once, n = counts.iloc[0], int(counts["at_least_n"].iloc[0])
    once_text = f"{wording.percent(once['share'])} of {wording.count(n)} ordered once and spent {wording.money(once['spend'])}"
    title = f"How many orders do customers place? {once_text}"
    lines = [
        f"{wording.counted(near, 'customers', 'are')} one order short of {goal}; "
        "list them with --part one-order-short."
    ]
    if (drop := largest_drop(counts)) is not None:
        at, reached, on = (
            int(drop["n"]),
            wording.count(drop["at_least_n"]),
            wording.percent(drop["went_on"]),
        )
        lines.insert(
            0,
            f"The largest drop: of {reached} with {at} {'order' if at == 1 else 'orders'}, only "
            f"{on} placed another.",
        )
    columns = ["n", "customers", "share", "at least n", "went on", "spend"]
    return Group(table(title, columns, rows), Text("\n".join(lines)))


def _channels(channels: "pd.DataFrame") -> "RenderableType":
    from fairladder.cli.screen import table

    rows = [
        [
            c.channel,
            wording.count(c.customers),
            wording.percent(c.share),
            wording.count(c.orders),
            wording.money(c.orders_per_customer, 1),
        ]
        for c in rows_of(channels)
    ]
    title = f"Who buys through one channel only? {wording.counted(channels['customers'].sum(), 'customers')}"
    return table(title, ["channel", "customers", "share", "orders", "orders per customer"], rows)

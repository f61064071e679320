"""``fairladder retention``: cohorts, the rates, and how many orders people get to."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Annotated

import typer

from fairladder import looks
from fairladder.cli.growth import By, Period
from fairladder.cli.options import Request, figure_option, known_figure, known_period

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure
    from rich.console import RenderableType
    from rich.text import Text

    from fairladder.history.cohorts import Cohorts
    from fairladder.order_book import Orders

PARTS = ("cohorts", "rates", "order-counts", "one-before", "channels", "flow")
FIGURES = ("cohorts", "order-counts", "gaps")

Goal = Annotated[
    int | None,
    typer.Option(
        "--goal",
        help="Number of orders to bring people to, for the part one-before.",
        metavar="NUMBER",
        show_default=False,
    ),
]
FigureOf = Annotated[str, figure_option(FIGURES)]


def retention(
    request: Request, period: Period = "month", by: By = None, goal: Goal = None, figure_of: FigureOf = "cohorts"
) -> None:
    """Do customers come back? Cohorts by their first purchase, two rates, and who orders a second and a fifth time."""
    from fairladder.cli import screen
    from fairladder.errors import UsageError

    known_figure(figure_of, FIGURES)
    known_period(period)
    if goal is not None and goal < 2:  # one before the first order there is nobody
        raise UsageError(f"A goal is 2 purchases or more, not {goal}.")
    orders = screen.opened(request, PARTS, figures=True)
    answers = _Answers(orders, period, by, goal)
    parts = PARTS if "channel" in orders.roles else PARTS[:-2]
    if request.part is not None and request.part not in parts:
        raise UsageError(f"--part {request.part}: the orders have no channel. Name its column under [orders] channel.")
    whole = screen.for_people(request) or (request.part is None and str(request.out).endswith(".json"))
    with screen.busy(request, "Following the customers"):
        tables = {name: answers.table(name) for name in (parts if whole else [request.part or PARTS[0]])}
        view = answers.views(tables) if whole else []
    screen.give(request, orders, tables, view)
    if request.figure is not None:
        from fairladder.targets import replacing

        with replacing(request.figure) as beside:
            answers.figure(figure_of).savefig(beside)
        screen.note(request, f"Drew {request.figure}.")


@dataclass
class _Answers:
    """What the parts, the screen and the figures ask for, each worked out once and only where it is asked for."""

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
            return self.cohorts.frame if part == "cohorts" else _rate_table(self.cohorts)
        if part == "order-counts":
            return self.counts
        if part == "one-before":
            return counts.one_before(self.orders, self.goal)
        return counts.one_channel(self.orders) if part == "channels" else counts.channel_flow(self.orders)

    def views(self, tables: "Mapping[str, pd.DataFrame]") -> "list[RenderableType]":
        from fairladder.history.counts import goal_of

        goal = self.goal or goal_of(self.counts)
        view = [_cohorts(self.cohorts), _rates(self.cohorts), _counts(self.counts, goal, len(tables["one-before"]))]
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


def _rate_table(found: "Cohorts") -> "pd.DataFrame":
    import pandas as pd

    rates = [(r.name, r.numerator, r.denominator, r.value) for r in (found.repeat_retention, found.cohort_retention)]
    return pd.DataFrame(rates, columns=["rate", "numerator", "denominator", "value"])


_MOST_K, _MOST_COHORTS = 12, 16


def _cohorts(found: "Cohorts") -> "RenderableType":
    from fairladder.cli.screen import table

    wide = found.wide().tail(_MOST_COHORTS)
    ks = [k for k in wide.columns if k != "size" and k <= _MOST_K]
    rows = [
        [str(name), looks.count(row["size"]), *("" if looks.missing(row[k]) else f"{100 * row[k]:.0f}" for k in ks)]
        for name, row in wide.iterrows()
    ]
    average = found.average()
    rows.append(
        [
            "average",
            "",
            *(f"{100 * average[k]:.0f}" if k in average.index and average[k] == average[k] else "" for k in ks),
        ]
    )
    back = average.get(1)
    told = looks.percent(back) if back is not None else "nobody yet"
    title = f"Do they come back? {told} of a cohort buy in the next {found.period}; percent active k {found.period}s after the first"
    return table(title, ["cohort", "size", *map(str, ks)], rows)


def _rates(found: "Cohorts") -> "Text":
    from rich.text import Text

    told = [f"{found.repeat_retention} (active in one {found.period} and again in the next)",
            f"{found.cohort_retention} (describes the table: older cohorts weigh more)"]  # fmt: skip
    return Text("\n".join(told))


def _counts(counts: "pd.DataFrame", goal: int, near: int) -> "RenderableType":
    from rich.console import Group
    from rich.text import Text

    from fairladder.cli.screen import table
    from fairladder.history.counts import largest_drop

    rows = [
        [looks.count(c.n), looks.count(c.customers), looks.percent(c.share), looks.count(c.at_least_n),
         looks.percent(c.went_on), looks.money(c.spend)]
        for c in counts.head(10).itertuples(index=False)
    ]  # fmt: skip
    once, n = counts.iloc[0], int(counts["at_least_n"].iloc[0])
    once_told = (
        f"{looks.percent(once['share'])} of {looks.count(n)} ordered once and spent {looks.money(once['spend'])}"
    )
    title = f"How many orders do they get to? {once_told}"
    told = [f"{looks.count(near)} customers stand one order before {goal}; --part one-before lists them."]
    if (drop := largest_drop(counts)) is not None:
        at, reached, on = int(drop["n"]), looks.count(drop["at_least_n"]), looks.percent(drop["went_on"])
        told.insert(
            0, f"The largest drop: of {reached} with {at} {'order' if at == 1 else 'orders'}, {on} came back once more."
        )
    columns = ["orders", "customers", "of all", "at least so many", "went on", "their spend"]
    return Group(table(title, columns, rows), Text("\n".join(told)))


def _channels(channels: "pd.DataFrame") -> "RenderableType":
    from fairladder.cli.screen import table

    rows = [
        [
            c.channel,
            looks.count(c.customers),
            looks.percent(c.share),
            looks.count(c.orders),
            looks.money(c.orders_per_customer, 1),
        ]
        for c in channels.itertuples(index=False)
    ]
    title = f"Who buys through one channel only? {looks.count(channels['customers'].sum())} customers"
    return table(title, ["channel", "customers only here", "of its customers", "orders", "orders each"], rows)

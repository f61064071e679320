"""``fairladder retention``: cohorts, the rates, and how many orders people get to."""

from typing import TYPE_CHECKING, Annotated

import typer

from fairladder import looks
from fairladder.cli.growth import By, Period
from fairladder.cli.options import Request

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType
    from rich.text import Text

    from fairladder.history.cohorts import Cohorts

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
FigureOf = Annotated[
    str,
    typer.Option(
        "--figure-of", help=f"What --figure draws: {', '.join(FIGURES)}.", metavar="NAME", rich_help_panel="Output"
    ),
]


def retention(
    request: Request, period: Period = "month", by: By = None, goal: Goal = None, figure_of: FigureOf = "cohorts"
) -> None:
    """Do customers come back? Cohorts by their first purchase, two rates, and who orders a second and a fifth time."""
    from fairladder.cli import screen
    from fairladder.errors import UsageError, nearest

    if figure_of not in FIGURES:
        raise UsageError(f"--figure-of {figure_of}: there is no such figure. {nearest(figure_of, FIGURES)}")
    orders = screen.opened(request, PARTS, figures=True)
    with screen.busy(request, "Following the customers"):
        import pandas as pd

        from fairladder.history import cohorts as of_cohorts
        from fairladder.history import counts as of_counts

        found = of_cohorts.cohorts(orders, period=period, by=by)
        counts = of_counts.order_counts(orders)
        aim = goal or of_counts.goal_of(counts)
        near = of_counts.one_before(orders, aim)
        rates = [
            (r.name, r.numerator, r.denominator, r.value) for r in (found.repeat_retention, found.cohort_retention)
        ]
        parts = {
            "cohorts": found.frame, "rates": pd.DataFrame(rates, columns=["rate", "numerator", "denominator", "value"]),
            "order-counts": counts, "one-before": near,
        }  # fmt: skip
        if "channel" in orders.roles:
            parts |= {"channels": of_counts.one_channel(orders), "flow": of_counts.channel_flow(orders)}
    if request.part is not None and request.part not in parts:
        raise UsageError(f"--part {request.part}: the orders have no channel. Name its column under [orders] channel.")
    view = [
        _cohorts(found),
        _rates(found),
        _counts(counts, aim, len(near)),
        *([_channels(parts["channels"])] if "channels" in parts else []),
    ]
    screen.give(request, orders, parts, view)
    if request.figure is not None:
        from fairladder import figures
        from fairladder.files import replacing

        if figure_of == "cohorts":
            figure = figures.cohort_map(found, facts=orders.facts())
        elif figure_of == "order-counts":
            figure = figures.order_counts(counts, facts=orders.facts())
        else:
            from fairladder.history.ledger import order_ledger

            figure = figures.gaps(order_ledger(orders), facts=orders.facts())
        with replacing(request.figure) as beside:
            figure.savefig(beside)
        screen.note(request, f"Drew {request.figure}.")


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

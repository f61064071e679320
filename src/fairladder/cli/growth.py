"""``fairladder growth``: first and repeat revenue, new customers, running totals, flat spells."""

from typing import TYPE_CHECKING, Annotated

import typer

from fairladder import wording
from fairladder.cli.options import FIGURE_OF, Request, known_figure
from fairladder.days import checked_period
from fairladder.frames import rows_of

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure
    from rich.console import RenderableType
    from rich.text import Text

PARTS = ("growth", "flat-spells")
FIGURES = ("revenue", "running")

Period = Annotated[
    str, typer.Option("--period", help="day, week, month, quarter or year.", metavar="PERIOD")
]
By = Annotated[
    str | None,
    typer.Option(
        "--by",
        help="A column of the orders or the customers: figures for each of its values.",
        metavar="COLUMN",
        show_default=False,
    ),
]
FigureOf = Annotated[str | None, FIGURE_OF]


def growth(
    request: Request, period: Period = "month", by: By = None, figure_of: FigureOf = None
) -> None:
    """How many new customers arrive, how much revenue comes from first and repeat orders, and where
    is growth flat?
    """
    from fairladder.book.kept_orders import OrderTable
    from fairladder.cli import door, screen

    chosen = figure_of or ("running" if by else "revenue")  # the revenue has no groups
    known_figure(chosen, FIGURES)
    checked_period(period)
    orders = door.opened(
        request, PARTS, figures=True, keep=OrderTable((by,) if by else ()), shows="periods"
    )
    with screen.busy(request, "Counting new and returning customers", orders.engine):
        from fairladder.history import growth as history

        table = history.growth(orders, period=period, by=by)
        spells = history.flat_spells(table, by)
    notes = [
        "Orders before the start of the file are unknown, so customers counted as new in "
        "the first periods may have bought before."
    ]
    from fairladder.history.purchases import all_unknown

    notes += [text for text in [all_unknown(by, table[by]) if by else ""] if text]
    view = (
        [_groups(table, by, period), _flat(spells, by, period)]
        if by
        else [_periods(table, period), _flat(spells, by, period)]
    )

    def figure() -> "Figure":
        from fairladder import figures

        facts = orders.facts()
        if chosen == "running":
            return figures.growth_running(table, by, period=period, facts=facts)
        return figures.growth_revenue(table, period=period, facts=facts)

    door.give(
        request, orders, {"growth": table, "flat-spells": spells}, view, notes=notes, figure=figure
    )


_SHOWN = 24


def _periods(table: "pd.DataFrame", period: str) -> "RenderableType":
    from fairladder.cli.screen import table as drawn
    from fairladder.history.growth import repeat_share

    shown = table.tail(_SHOWN)
    rows = [
        [f"{g.label}{'' if g.complete else ' …'}", wording.count(g.orders),
        wording.count(g.customers), wording.count(g.new_customers),
         wording.count(g.returning_customers), wording.money(g.revenue),
         wording.money(g.new_revenue), wording.money(g.repeat_revenue),
         wording.money(g.refunded), wording.count(g.new_customers_running)]
        for g in rows_of(shown)
    ]  # fmt: skip
    columns = [
        period,
        "orders",
        "customers",
        "new customers",
        "returning customers",
        "revenue",
        "new revenue",
        "repeat revenue",
        "refunded",
        "new customers running",
    ]
    text = f"Repeat orders are {wording.percent(repeat_share(table))} of revenue before refunds"
    more = f"; the latest {_SHOWN} of {len(table)} {period}s" if len(table) > _SHOWN else ""
    unfinished = "; … is not over yet" if not shown["complete"].all() else ""
    return drawn(f"How is the shop growing? {text}{more}{unfinished}", columns, rows)


def _groups(table: "pd.DataFrame", by: str, period: str) -> "RenderableType":
    """Show one row per group: its customers, and new ones per period in the last complete periods
    and those before.
    """
    from fairladder.cli.screen import table as drawn

    rows, last = [], 6
    for group, held in table.groupby(by, sort=False):
        done = held[held["complete"]]
        late, early = (
            done["new_customers"].tail(last),
            done["new_customers"].iloc[-2 * last : -last],
        )
        rows.append([
            str(group), wording.count(held["new_customers_running"].iloc[-1]),
            wording.count(held["orders"].sum()),
            wording.money(held["revenue"].sum()), wording.money(held["new_revenue"].sum()),
            wording.money(held["repeat_revenue"].sum()),
            wording.money(early.mean(), 1) if len(early) else wording.NOTHING,
            wording.money(late.mean(), 1) if len(late) else wording.NOTHING,
        ])  # fmt: skip
    columns = [
        by,
        "customers",
        "orders",
        "revenue",
        "new revenue",
        "repeat revenue",
        f"new per {period}, before",
        f"new per {period}, last {last}",
    ]
    total = wording.count(table.groupby(by)["new_customers_running"].last().sum())
    return drawn(f"Where do customers come from? {total} customers by {by}", columns, rows)


def _flat(spells: "pd.DataFrame", by: str | None, period: str) -> "Text":
    from rich.text import Text

    if spells.empty:
        return Text(
            f"No flat spell: there is no run of two complete {period}s without a new customer."
        )
    lines = [Text("Where is growth flat?", style="bold")]
    known = spells[~spells[spells.columns[0]].isin(["unknown", "mixed"])]
    for s in rows_of((known if len(known) else spells).head(8)):
        group = f"{s[0]}: " if by else ""
        lines.append(
            Text(
                f"• {group}no new customer from {s.first} to {s.last}, {s.periods} {period}s, at "
                f"{wording.counted(s.running, 'customers')}"
            )
        )
    return Text("\n").join(lines)

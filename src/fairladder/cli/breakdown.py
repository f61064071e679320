"""``fairladder breakdown``: cross-tabulate orders by any two columns or bands."""

from typing import TYPE_CHECKING, Annotated

import typer

from fairladder import wording
from fairladder.cli.options import FIGURE_OF, Request, known_figure
from fairladder.frames import row_of_largest

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure
    from rich.console import RenderableType

    from fairladder.history.breakdown import Breakdown

FIGURES = ("stacked", "heat")
LAYOUTS = ("long", "crosstab")

Rows = Annotated[
    str,
    typer.Option(
        "--rows",
        help="The column for the rows: COLUMN, COLUMN:30,40,50 in bands, age(COLUMN):30,40,50 at "
        "the order, or a part of its date: year(placed), quarter(placed), month(placed), "
        "week(placed), calendar-month(placed), weekday(placed), hour(placed).",
        metavar="AXIS",
        show_default=False,
    ),
]
Columns = Annotated[
    str | None,
    typer.Option(
        "--columns",
        help="The column for the columns, written in the same way.",
        metavar="AXIS",
        show_default=False,
    ),
]
Measures = Annotated[
    list[str] | None,
    typer.Option(
        "--measure",
        help="orders, customers, spend, average_order_value, lines, lines_per_order, or "
        "sum(COLUMN), such as sum(quantity). Can be given several times.",
        metavar="NAME",
        show_default=False,
    ),
]
Shares = Annotated[
    str | None,
    typer.Option(
        "--shares", help="Shares of row, column or total.", metavar="OF", show_default=False
    ),
]
Most = Annotated[
    int,
    typer.Option(
        "--most",
        help="Maximum number of names on an axis; smaller ones are combined.",
        metavar="NUMBER",
        min=2,
    ),
]
Layout = Annotated[
    str,
    typer.Option(
        "--layout",
        help="How to write the table: long (one row per cell) or crosstab (one column per group).",
        metavar="LAYOUT",
    ),
]
FigureOf = Annotated[str, FIGURE_OF]


def breakdown(
    request: Request, rows: Rows = "", columns: Columns = None, measure: Measures = None,
    shares: Shares = None,
    most: Most = 20, layout: Layout = "long", figure_of: FigureOf = "stacked",
) -> None:  # fmt: skip
    """Who buys what, and where? Cross-tabulate orders by two columns or bands, with shares and
    totals counted from the rows.
    """
    from fairladder.book.kept_orders import OrderTable
    from fairladder.book.line_cells import summed
    from fairladder.cli import door, screen
    from fairladder.errors import UsageError, nearest
    from fairladder.history.axes import parsed_axis

    if not rows:
        raise UsageError(
            "Name the column to break down by: --rows COLUMN, and optionally --columns COLUMN."
        )
    known_figure(figure_of, FIGURES)
    if layout not in LAYOUTS:
        raise UsageError(f"--layout {layout}: there is no such layout. {nearest(layout, LAYOUTS)}")
    wanted_measures = tuple(dict.fromkeys(measure or ["spend"]))
    named = [n for text in (rows, columns) if text is not None for n in parsed_axis(text).columns]
    kept = OrderTable((*named, *(m for m in wanted_measures if summed(m))), sequence=False)
    together = [TOGETHER] if len(wanted_measures) > 1 and layout == "long" else []
    orders = door.opened(request, (*wanted_measures, *together), figures=True, keep=kept)
    with screen.busy(request, "Breaking down the orders", orders.engine):
        from fairladder.history import breakdown as history

        breakdowns = {
            name: history.breakdown(orders, rows, columns, measure=name, shares=shares, most=most)
            for name in wanted_measures
        }
    parts = {
        name: one.frame[["row", "column", name, *(["share"] if shares else [])]]
        for name, one in breakdowns.items()
    }
    if layout == "crosstab":
        parts = {
            name: one.wide().rename_axis(columns=None).reset_index()
            for name, one in breakdowns.items()
        }
    elif len(parts) > 1:
        parts = {TOGETHER: _together(parts), **parts}
    notes = list(dict.fromkeys(note for one in breakdowns.values() for note in one.notes))

    def figure() -> "Figure":
        from fairladder import figures

        make = figures.breakdown_stacked if figure_of == "stacked" else figures.breakdown_heat
        return make(breakdowns[wanted_measures[0]], facts=orders.facts())

    door.give(
        request,
        orders,
        parts,
        [_table(one) for one in breakdowns.values()],
        notes=notes,
        figure=figure,
    )


#: The part with all measures side by side, if there are several.
TOGETHER = "all"


def _together(parts: "dict[str, pd.DataFrame]") -> "pd.DataFrame":
    """Return all measures in one table, each followed by its share."""
    import pandas as pd

    keyed = [
        part.rename(columns={"share": f"{name}_share"}).set_index(["row", "column"])
        for name, part in parts.items()
    ]
    cells = dict.fromkeys(
        cell for part in keyed for cell in part.index
    )  # in the order of the first measure, whose combined rest may be different
    return pd.concat([part.reindex(list(cells)) for part in keyed], axis=1).reset_index()


def _table(one: "Breakdown") -> "RenderableType":
    from rich.text import Text

    from fairladder.cli.screen import table
    from fairladder.history.breakdown import AVERAGES

    wide = one.wide()
    show = (
        wording.percent
        if one.shares
        else (lambda v: wording.money(v, 2))
        if one.measure in AVERAGES
        else wording.money
        if one.measure == "spend"
        else wording.count
    )
    rows: list[list[str | Text]] = []
    for name, row in wide.iterrows():
        cells: list[str | Text] = [
            str(name),
            *(wording.NOTHING if wording.missing(v) else show(v) for v in row),
        ]
        rows.append([Text(str(c), style="bold") for c in cells] if name == "total" else cells)
    best = one.frame[(one.frame["column"] == "total") & (one.frame["row"] != "total")]
    what = one.said
    across = f" and {one.columns.title}" if one.columns else ""
    text = f"; highest: {row_of_largest(best, best[one.measure]).row}" if len(best) else ""
    of = (
        f"; shares of {'each ' if one.shares != 'total' else 'the '}{one.shares}"
        if one.shares
        else ""
    )
    title = f"{what[0].upper()}{what[1:]} by {one.rows.title}{across}{text}{of}"
    return table(title, [one.rows.title, *map(str, wide.columns)], rows)

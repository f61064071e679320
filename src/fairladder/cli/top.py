"""``fairladder top``: the best or worst customers by any measure, including all ties."""

from dataclasses import replace
from typing import TYPE_CHECKING, Annotated, Any

from fairladder import columns as registry
from fairladder import wording
from fairladder.cli.options import Columns, Request, When, as_percent, names_in, option
from fairladder.sqltree import select, sql

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

    from fairladder.output.listing import Listing

PARTS = ("customers",)


By = Annotated[
    str,
    option(
        "--by",
        help="The measure to rank by: a column of numbers or dates.",
        metavar="COLUMN",
        panel="The list",
    ),
]
Count = Annotated[
    int | None,
    option("--count", help="Number of places.", metavar="NUMBER", panel="The list", default="10"),
]
Percent = Annotated[
    str | None,
    option(
        "--percent",
        help="Percentage of the customers: 5 or 5%.",
        metavar="PERCENT",
        panel="The list",
    ),
]
Worst = Annotated[bool, option("--worst", help="List the worst instead.", panel="The list")]
Within = Annotated[
    str | None,
    option(
        "--within",
        help="A separate list for each value of this column.",
        metavar="COLUMN",
        panel="The list",
    ),
]
Ties = Annotated[
    str,
    option(
        "--ties",
        help="Whether customers tied with the last place are included: include or exclude.",
        metavar="HOW",
        panel="The list",
    ),
]
AllCustomers = Annotated[
    bool, option("--all-customers", help="Include customers without a purchase.", panel="The list")
]


def top(
    request: Request,
    by: By = "spend",
    count: Count = None,
    percent: Percent = None,
    worst: Worst = False,
    within: Within = None,
    all_customers: AllCustomers = False,
    ties: Ties = "include",
    when: When = None,
    columns: Columns = None,
) -> None:
    """Who are the best or worst customers by any measure? All ties with the last place are
    included.
    """
    from fairladder.cli import door, screen

    list_size: dict[str, Any] = {
        "count": count, "percent": as_percent("--percent", percent), "worst": worst,
        "within": within, "ties": ties
    }  # fmt: skip
    orders = door.opened(request, PARTS, frames=False, spread=request.out not in (None, "-"))
    engine, measures = orders.customer_engine, (by, when or "")
    with screen.busy(request, "Ranking the customers", engine):
        from fairladder.scores.selection import chosen
        from fairladder.scores.top import top_list
        from fairladder.value.to_score import forecast_notes, people_to_score

        people = engine.keep(people_to_score(orders, *measures))
        if when is not None:
            people = engine.keep(chosen(orders, people, when=when).rows)
        listing = top_list(
            orders, people, by, **list_size, all_customers=all_customers, columns=names_in(columns)
        )
        tied = _tied(
            listing, None if list_size["percent"] is not None else count or 10, within, ties
        )
    if not screen.for_people(request):
        screen.note(request, tied)
    whole = replace(listing, columns=tuple(engine.columns(listing.rows)))
    list_size_given = {name: list_size[name] for name in ("count", "percent", "worst", "within")}
    view = (
        [shown(whole.frame(_SHOWN), by, tied, **list_size_given)]
        if screen.for_people(request)
        else []
    )
    notes = forecast_notes(orders, *measures)
    door.give(request, orders, {"customers": listing}, view, notes=notes, as_table=bool(columns))


#: Number of customers shown per list.
_SHOWN = 60


def shown(
    frame: "pd.DataFrame", by: str, tied: str, *, count: int | None, percent: float | None,
    worst: bool, within: str | None
) -> "RenderableType":  # fmt: skip
    """Show a list with the measure and other helpful columns under a title with the finding."""
    from fairladder.cli.screen import cells_of, table

    size = f"{percent:g} %" if percent is not None else str(count or 10)
    each = f" in each {within}" if within else ""
    title = f"Who are the {'worst' if worst else 'best'} {size} by {by}{each}? {tied}"
    extra_columns = [c for c in ("orders", "spend", "last_order") if c != by]
    names = [
        "rank",
        *([within] if within else []),
        "customer",
        *(["name"] if "name" in frame else []),
        by,
        *extra_columns,
    ]
    cells, left = cells_of(frame, names), len(names) - 1 - len(extra_columns)
    return table(title, list(map(registry.title, names)), cells, left=left)


def _tied(listing: "Listing", places: int | None, within: str | None, ties: str) -> str:
    """Describe the number listed: more than requested if customers tie with the last place, or
    fewer.
    """
    n = len(listing)
    if ties == "exclude" and n != places:
        return f"{wording.counted(n, 'customers')}; those tied beyond a last place are excluded"
    if n == places and not within:
        return f"{wording.counted(n, 'customers')}, no ties with the last one"
    if places is None or within:
        return f"{wording.counted(n, 'customers')}, including all ties with a last place"
    if n < places:
        return f"There are only {wording.count(n)}"
    last = select([sql("MAX(rank)")], listing.rows, "listed").subquery()
    tie = len(
        replace(
            listing,
            rows=select(["*"], listing.rows, "listed").where(sql("rank = :m", m=last), copy=False),
        )
    )
    return f"{wording.counted(n, 'customers')}, since {wording.count(tie)} tie for the last place"

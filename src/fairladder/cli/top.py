"""``fairladder top``: best or worst by any measure, everyone tied included."""

from typing import TYPE_CHECKING, Annotated, Any

from fairladder import columns as registry
from fairladder import wording
from fairladder.cli.options import Columns, Request, When, as_percent, names_in, option

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

PARTS = ("customers",)


By = Annotated[
    str,
    option(
        "--by",
        help="The measure, a column of numbers or days; spend if nothing is said.",
        metavar="COLUMN",
        panel="The list",
    ),
]
Count = Annotated[
    int | None,
    option("--count", help="How many places; 10 if nothing is said.", metavar="NUMBER", panel="The list"),
]
Percent = Annotated[
    str | None,
    option("--percent", help="How many in a hundred: 5 or 5%.", metavar="PERCENT", panel="The list"),
]
Worst = Annotated[bool, option("--worst", help="Begin at the other end.", panel="The list")]
Within = Annotated[
    str | None, option("--within", help="A list for each value of a column.", metavar="COLUMN", panel="The list")
]
Ties = Annotated[
    str,
    option("--ties", help="Those tied with the last place: include or exclude.", metavar="HOW", panel="The list"),
]
Everybody = Annotated[bool, option("--everybody", help="Customers without a purchase, too.", panel="The list")]


def top(
    request: Request,
    by: By = "spend",
    count: Count = None,
    percent: Percent = None,
    worst: Worst = False,
    within: Within = None,
    everybody: Everybody = False,
    ties: Ties = "include",
    when: When = None,
    columns: Columns = None,
) -> None:
    """Who are the best or worst, by any measure? Everyone tied with the last place is in."""
    from fairladder.cli import door, screen

    asked: dict[str, Any] = {
        "count": count, "percent": as_percent("--percent", percent), "worst": worst, "within": within, "ties": ties
    }  # fmt: skip
    orders = door.opened(request, PARTS, spread=request.out not in (None, "-"))
    if orders.engine.keeps_customers:
        from fairladder.cli import on_cluster

        on_cluster.top(
            request, orders, by, when, names_in(columns), lambda frame: shown(frame, by, **asked), **asked, everybody=everybody
        )  # fmt: skip
        return
    with screen.busy(request, "Ranking the customers", orders.engine):
        from fairladder.scores.selection import select
        from fairladder.scores.top import top as top_list
        from fairladder.value.to_score import customers_to_score

        frame = top_list(
            select(customers_to_score(orders, by, when or ""), when=when),
            by,
            **asked,
            everybody=everybody,
        )
    if not screen.for_people(request):
        screen.note(request, _tied(frame, None if asked["percent"] is not None else count or 10, within, ties))
    listed = select(frame, columns=names_in(columns))
    door.give(request, orders, {"customers": listed}, [shown(frame, by, **asked)], as_table=bool(columns))


def shown(
    frame: "pd.DataFrame", by: str, *, count: int | None, percent: float | None, worst: bool, within: str | None, ties: str
) -> "RenderableType":  # fmt: skip
    """A list under the question that it answers."""
    places = None if percent is not None else count or 10
    asked = f"{percent:g} %" if percent is not None else str(places)
    each = f" in each {within}" if within else ""
    title = f"Who are the {'worst' if worst else 'best'} {asked} by {by}{each}? {_tied(frame, places, within, ties)}"
    return view(frame, by, within, title)


def _tied(frame: "pd.DataFrame", places: int | None, within: str | None, ties: str) -> str:
    """What to say of the number listed: more than asked for where people tie with the last place, or fewer."""
    n = len(frame)
    if ties == "exclude" and n != places:
        return f"{wording.counted(n, 'customers')}; those who would tie beyond a last place are left out"
    if n == places and not within:
        return f"{wording.counted(n, 'customers')}, nobody else ties with the last of them"
    if places is None or within:
        return f"{wording.counted(n, 'customers')}, everyone tied with a last place included"
    if n < places:
        return f"There are only {wording.count(n)}"
    return f"{wording.counted(n, 'customers')}, since {wording.count((frame['rank'] == frame['rank'].max()).sum())} tie for the last place"


def view(frame: "pd.DataFrame", by: str, within: str | None, title: str) -> "RenderableType":
    """The list with the measure and what helps to know the customers."""
    from fairladder.cli.screen import cells_of, table

    beside = [c for c in ("orders", "spend", "last_order") if c != by]
    names = ["rank", *([within] if within else []), "customer", *(["name"] if "name" in frame else []), by, *beside]
    return table(
        title, list(map(registry.title, names)), cells_of(frame.head(60), names), left=len(names) - 1 - len(beside)
    )

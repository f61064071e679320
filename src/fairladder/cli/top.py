"""``fairladder top``: best or worst by any measure, everyone tied included."""

from typing import TYPE_CHECKING, Annotated

from fairladder import looks
from fairladder.cli.options import Request, as_percent, option

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
Everybody = Annotated[bool, option("--everybody", help="Customers without a purchase, too.", panel="The list")]


def top(
    request: Request,
    by: By = "spend",
    count: Count = None,
    percent: Percent = None,
    worst: Worst = False,
    within: Within = None,
    everybody: Everybody = False,
) -> None:
    """Who are the best or worst, by any measure? Everyone tied with the last place is in."""
    from fairladder.cli import screen

    orders = screen.opened(request, PARTS)
    with screen.busy(request, "Ranking the customers"):
        from fairladder import toplists
        from fairladder.value.columns import customers_to_score

        frame = toplists.top(
            customers_to_score(orders, by),
            by,
            count=count,
            percent=as_percent("--percent", percent),
            worst=worst,
            within=within,
            everybody=everybody,
        )
    places = None if percent is not None else count or 10
    told = _tied(frame, places, within)
    if not screen.for_people(request):
        screen.note(request, told)
    asked = f"{percent:g} %" if percent is not None else str(places)
    title = (
        f"Who are the {'worst' if worst else 'best'} {asked} by {by}{f' in each {within}' if within else ''}? {told}"
    )
    screen.give(request, orders, {"customers": frame}, [view(frame, by, within, title)])


def _tied(frame: "pd.DataFrame", places: int | None, within: str | None) -> str:
    """What to say of the number listed: more than asked for where people tie with the last place."""
    n = len(frame)
    if n == places and not within:
        return f"{looks.count(n)} customers, nobody else ties with the last of them"
    if places is None or within:
        return f"{looks.count(n)} customers, everyone tied with a last place included"
    if n < places:
        return f"There are only {looks.count(n)}"
    return f"{looks.count(n)} customers, since {looks.count((frame['rank'] == frame['rank'].max()).sum())} tie for the last place"


def view(frame: "pd.DataFrame", by: str, within: str | None, title: str) -> "RenderableType":
    """The list with the measure and what helps to know the customers."""
    from fairladder.cli.screen import table

    beside = [c for c in ("orders", "spend", "last_order") if c != by]
    names = ["rank", *([within] if within else []), "customer", *(["name"] if "name" in frame else []), by, *beside]
    rows = [
        [_shown(name, value) for name, value in zip(names, row, strict=True)]
        for row in frame[names].head(60).to_numpy(dtype=object)
    ]
    return table(title, [n.replace("_", " ") for n in names], rows, left=len(names) - 1 - len(beside))


def _shown(name: str, value: object) -> str:
    from fairladder.columns import MONEY

    if looks.missing(value):
        return looks.NOTHING
    if hasattr(value, "strftime"):
        return looks.day(value)
    if name in MONEY:
        return looks.money(value, 2)
    if isinstance(value, float):
        return f"{value:,.3g}" if abs(value) < 1000 else f"{value:,.0f}"
    return looks.count(value) if isinstance(value, int) else str(value)

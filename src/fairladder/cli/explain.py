"""``fairladder explain``: why customers are in their segments, and what would change that."""

from typing import TYPE_CHECKING, Annotated

import typer

from fairladder import wording
from fairladder.cli.options import Request
from fairladder.errors import UsageError, nearest
from fairladder.frames import rows_of

if TYPE_CHECKING:
    from matplotlib.figure import Figure
    from rich.console import RenderableType

    from fairladder.api import Orders
    from fairladder.review.explanation import Explanation

PARTS = ("changes", "standings", "rules", "orders")
_FEW = 3

Ids = Annotated[
    list[str] | None,
    typer.Argument(help="Ids of customers.", metavar="[ID]...", show_default=False),
]
Segment = Annotated[
    str | None,
    typer.Option(
        "--segment",
        help="Explain customers of this segment, largest spend first.",
        metavar="NAME",
        show_default=False,
    ),
]
Count = Annotated[
    int,
    typer.Option("--count", help="Number of customers of the segment.", metavar="NUMBER", min=1),
]


def explain(
    request: Request, ids: Ids = None, segment: Segment = None, count: Count = _FEW
) -> None:
    """Why is this customer in that segment? Values, cuts, rungs, the rules tried, and the smallest
    changes with an effect.
    """
    from fairladder.cli import door, screen

    if bool(ids) == (segment is not None):
        raise UsageError("Name customers by their ids, or a segment with --segment NAME.")
    orders = door.opened(request, PARTS, figures=True)
    with screen.busy(request, "Explaining", orders.engine):
        from fairladder.review.explanation import explain as explained_of
        from fairladder.review.explanation import tables_of

        chosen = list(dict.fromkeys(ids)) if ids else _of_segment(orders, str(segment), count)
        explained = explained_of(orders, chosen)
    parts = tables_of(explained)
    view = [piece for one in explained for piece in pieces(one)]
    whole = {**orders.facts(), "explanations": [e.as_json() for e in explained]}

    def figure() -> "Figure":
        from fairladder import figures

        return figures.explanation(explained[0], facts=orders.facts())

    door.give(
        request,
        orders,
        parts,
        view,
        whole=whole,
        figure=figure,
        drew=f": customer {explained[0].customer}",
    )


def _of_segment(orders: "Orders", segment: str, count: int) -> list[str]:
    names = [s.name for s in orders.scheme.segments]
    if segment not in names:
        raise UsageError(
            f"--segment {segment}: there is no such segment. {nearest(segment, names)}"
        )
    from fairladder.review.explanation import explained_segment

    return explained_segment(orders, segment, count)


def pieces(e: "Explanation") -> "list[RenderableType]":
    """Return one customer's explanation as text and tables."""
    from rich.text import Text

    from fairladder.cli.screen import stance_text, table

    who = f"{e.customer}{f', {e.name}' if e.name else ''}"
    title = stance_text(e.stance, (f"{who}: {e.segment}", "bold"), (f", to {e.stance}", ""))
    view: list[RenderableType] = [title]
    rows = [
        [
            s.name, s.label if s.label != str(s.rung) else f"{s.rung} of {s.rungs}", s.measure,
            wording.value(s.value),
            wording.span(s.above, s.up_to),
            wording.percent(s.percentile / 100), wording.count(s.same - 1),
        ]
        for s in e.standings
    ]  # fmt: skip
    if rows:
        columns = [
            "score or tier",
            "rung",
            "measure",
            "value",
            "values on the rung",
            "better than",
            "same value",
        ]
        view.append(table("What are the scores and tiers?", columns, rows, left=3))
    texts = []
    for rule in e.rules:
        sign, words = ("✓", rule.condition) if rule.held else ("✗", " and ".join(rule.failed))
        texts.append(
            Text.assemble(
                (f"{sign} {rule.segment}: ", "bold" if rule.held else ""),
                (words, "" if rule.held else "dim"),
            )
        )
    view.append(
        Text("\n").join(
            [Text("Which rule decided the segment? The first that matches", style="bold"), *texts]
        )
    )
    if e.changes:
        lines = [Text(f"• {c.text}") for c in e.changes]
        view.append(
            Text("\n").join(
                [
                    Text("What would change them? (all other customers unchanged)", style="bold"),
                    *lines,
                ]
            )
        )
    view.append(_orders(e))
    return view


_MOST_ORDERS = 8


def _orders(e: "Explanation") -> "RenderableType":
    from fairladder.cli.screen import table

    shown = e.frame.iloc[::-1].head(_MOST_ORDERS)
    rows = [
        [str(getattr(o, "order", "")), wording.day(o.placed_on), wording.money(o.amount, 2),
         "" if wording.missing(o.nth) else wording.count(o.nth),
         wording.days(None if wording.missing(o.gap_days) else o.gap_days),
         wording.percent(o.share_of_customer)]
        for o in rows_of(shown)
    ]  # fmt: skip
    more = f"; the latest {_MOST_ORDERS}" if len(e.frame) > _MOST_ORDERS else ""
    title = f"What did they order? {wording.counted(len(e.frame), 'orders')}{more}"
    return table(
        title,
        ["order", "placed on", "amount", "nth", "gap days", "share of customer"],
        rows,
        left=2,
    )

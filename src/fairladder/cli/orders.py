"""``fairladder orders``: one row per order, with its number in its customer's history, or one row
per line.
"""

from typing import TYPE_CHECKING, Annotated

import typer

from fairladder import wording
from fairladder.cli.options import Request, When
from fairladder.frames import rows_of

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

Lines = Annotated[
    bool, typer.Option("--lines", help="List the lines of the orders instead, with their shares.")
]
#: Number of latest rows shown on the terminal.
SHOWN = 20


def orders(request: Request, lines: Lines = False, when: When = None) -> None:
    """One row per order: order number, first or repeat, days since the last one, share of the
    customer's spend.
    """
    from fairladder.book.kept_orders import OrderTable
    from fairladder.cli import door, screen

    part = "lines" if lines else "orders"
    keep = None if lines else OrderTable(None, mixed=False, sequence=True)
    opened = door.opened(request, (part,), keep=keep, frames=False, spread=True, shows="periods")
    with screen.busy(request, "Listing the orders", opened.engine):
        from fairladder.history.ledger import (
            ledger_listing,
            lines_listing,
            sums_of_ledger,
            sums_of_lines,
        )

        listing = lines_listing(opened) if lines else ledger_listing(opened)
        if when is not None:
            from fairladder.scores.selection import chosen
            from fairladder.value.to_score import scored

            people = scored(opened, when)  # kept until the listing is written
            listing = listing.among(chosen(opened, people, when=when).rows)
        shown = []
        if screen.for_people(request):
            latest = listing.last(SHOWN)
            shown = [
                lines_view(latest, *sums_of_lines(listing), when)
                if lines
                else view(latest, *sums_of_ledger(listing), when)
            ]
    door.give(request, opened, {part: listing}, shown)


def view(
    ledger: "pd.DataFrame", bought: int, repeat: int, refunds: int, when: str | None = None
) -> "RenderableType":
    """Show the last rows of a ledger and its totals: purchases, repeat ones among them, refunds."""
    from fairladder.cli import screen

    share = wording.percent(repeat / bought) if bought else "none"
    counted = f"{wording.counted(bought, 'purchases')}, {share} of them repeat, {wording.counted(refunds, 'refunds')}"
    title = f"What was ordered{_by(when)}? {counted}; the latest are shown"
    rows = [
        [o.customer, str(getattr(o, "order", "")), wording.day(o.placed_on),
        wording.money(o.amount, 2), wording.count(o.lines),
         "" if wording.missing(o.nth) else wording.count(o.nth),
         "" if wording.missing(o.kind) else str(o.kind),
         wording.NOTHING if wording.missing(o.gap_days) else wording.count(o.gap_days),
         wording.percent(o.share_of_customer)]
        for o in rows_of(ledger.iloc[::-1].head(SHOWN))
    ]  # fmt: skip
    columns = [
        "customer",
        "order",
        "placed on",
        "amount",
        "lines",
        "nth",
        "kind",
        "gap days",
        "share of customer",
    ]
    return screen.table(title, columns, rows, left=3)


def _by(when: str | None) -> str:
    return "" if when is None else f" by customers with {when}"


def lines_view(
    table: "pd.DataFrame", n: int, whole: float, when: str | None = None
) -> "RenderableType":
    """Show the latest of ``n`` lines, ``whole`` in total: customer, order, the line's share of
    both, and as many own columns as fit.
    """
    from fairladder.cli import screen
    from fairladder.columns import ORDER_LINES, names

    own = [str(name) for name in table if name not in names(ORDER_LINES)][:3]
    rows = [
        [row["customer"], str(row.get("order", "")), wording.day(row["placed_on"]),
         *("" if wording.missing(row[n]) else str(row[n]) for n in own),
         wording.money(row["line_amount"], 2), wording.percent(row["share_of_order"]),
         wording.percent(row["share_of_customer"])]
        for row in table.iloc[::-1].head(SHOWN).to_dict("records")
    ]  # fmt: skip
    counted = f"{wording.counted(n, 'lines')}, {wording.money(whole, 2)} in all"
    title = f"What do the orders{_by(when)} consist of? {counted}; the latest are shown"
    return screen.table(
        title,
        [
            "customer",
            "order",
            "placed on",
            *own,
            "line amount",
            "share of order",
            "share of customer",
        ],
        rows,
        left=3 + len(own),
    )

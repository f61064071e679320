"""``fairladder orders``: one row per order, with its number in its customer's history, or one row
per line.
"""

from typing import TYPE_CHECKING, Annotated

import typer

from fairladder import wording
from fairladder.cli.options import SHOWN_PANEL, Request, When, option
from fairladder.frames import rows_of

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

Lines = Annotated[
    bool, typer.Option("--lines", help="List the lines of the orders instead, with their shares.")
]
Ids = Annotated[
    list[str] | None,
    option(
        "--customer", help="Only this customer; can be repeated.", panel=SHOWN_PANEL, metavar="ID"
    ),
]
#: Number of latest rows shown on the terminal.
SHOWN = 20


def orders(request: Request, lines: Lines = False, when: When = None, customer: Ids = None) -> None:
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
        whose = " and ".join([*(customer or ()), *([f"customers with {when}"] if when else [])])
        if when is not None or customer:
            from fairladder.scores.selection import chosen, require_customers
            from fairladder.value.to_score import scored

            people = scored(opened, when or "")  # kept until the listing is written
            require_customers(people, customer or ())
            listing = listing.among(chosen(opened, people, when=_condition(customer, when)).rows)
        shown = []
        if screen.for_people(request):
            latest = listing.last(SHOWN)
            shown = [
                lines_view(latest, *sums_of_lines(listing), whose)
                if lines
                else view(latest, *sums_of_ledger(listing), whose)
            ]
    door.give(request, opened, {part: listing}, shown)


def _condition(ids: list[str] | None, when: str | None) -> str:
    """Return the condition that selects the customers with these ids who match ``when``."""
    quoted = ", ".join("'" + one.replace("'", "''") + "'" for one in ids or ())
    parts = [f"customer IN ({quoted})"] if quoted else []
    return " AND ".join([*parts, *([f"({when})"] if when else [])])


def view(
    ledger: "pd.DataFrame", bought: int, repeat: int, refunds: int, whose: str = ""
) -> "RenderableType":
    """Show the last rows of a ledger and its totals: purchases, repeat ones among them, refunds."""
    from fairladder.cli import screen

    share = wording.percent(repeat / bought) if bought else "none"
    counted = f"{wording.counted(bought, 'purchases')}, {share} of them repeat, {wording.counted(refunds, 'refunds')}"
    title = f"What was ordered{_by(whose)}? {counted}; the latest are shown"
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


def _by(whose: str) -> str:
    return f" by {whose}" if whose else ""


def lines_view(table: "pd.DataFrame", n: int, whole: float, whose: str = "") -> "RenderableType":
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
    title = f"What do the orders{_by(whose)} consist of? {counted}; the latest are shown"
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

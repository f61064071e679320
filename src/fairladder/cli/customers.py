"""``fairladder customers``: one row per customer."""

from typing import TYPE_CHECKING

from fairladder import looks
from fairladder.cli.options import Request

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

PARTS = ("customers",)
_SHOWN = 12


def customers(request: Request) -> None:
    """One row per customer: when last, how often, how much, per order, what share of the whole?"""
    from fairladder.cli import screen

    orders = screen.opened(request, PARTS)
    with screen.busy(request, "Reducing the orders to customers"):
        frame = orders.customers()
    if not orders.balance.used:
        screen.note(request, "No row can be used, so nobody has orders here; `fairladder check` says why.")
    screen.give(request, orders, {"customers": frame}, [view(frame)])


def view(frame: "pd.DataFrame") -> "RenderableType":
    """The customers who spent the most, with what they hold of the whole."""
    from fairladder.cli.screen import table

    bought = int((frame["orders"] > 0).sum())
    most = frame.sort_values(["spend", "customer"], ascending=[False, True], kind="stable").head(_SHOWN)
    named = "name" in frame
    columns = [
        "customer",
        *(["name"] if named else []),
        "orders",
        "last order",
        "days since",
        "spend",
        "per order",
        "share",
        "running",
    ]
    rows = [
        [
            str(c.customer), *([looks.NOTHING if looks.missing(c.name) else str(c.name)] if named else []), looks.count(c.orders),
            looks.day(c.last_order), looks.days(c.recency_days), looks.money(c.spend, 2), looks.money(c.average_order_value, 2),
            looks.percent(c.spend_share), looks.percent(c.spend_share_running),
        ]
        for c in most.itertuples(index=False)
    ]  # fmt: skip
    held = looks.percent(most["spend_share"].sum())
    title = (
        f"Who spent the most? {looks.count(bought)} customers bought; the first {len(most)} bring {held} of all spend"
    )
    return table(title, columns, rows, left=2 if named else 1)

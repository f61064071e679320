"""``fairladder customers``: one row per customer."""

from typing import TYPE_CHECKING

from fairladder import columns, wording
from fairladder.cli.options import Request

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

PARTS = ("customers",)
_SHOWN = 12


def customers(request: Request) -> None:
    """One row per customer: when last, how often, how much, per order, what share of the whole?"""
    from fairladder.cli import door, screen

    orders = door.opened(request, PARTS)
    with screen.busy(request, "Reducing the orders to customers"):
        frame = orders.customers()
    if not orders.balance.used:
        screen.note(request, "No row can be used, so nobody has orders here; `fairladder check` says why.")
    door.give(request, orders, {"customers": frame}, [view(frame)])


def view(frame: "pd.DataFrame") -> "RenderableType":
    """The customers who spent the most, with what they hold of the whole."""
    from fairladder.book.spend import bought as bought_of
    from fairladder.cli.screen import cells_of, table

    bought = int(bought_of(frame).sum())
    most = frame.sort_values(["spend", "customer"], ascending=[False, True], kind="stable").head(_SHOWN)
    names = ["customer", *(["name"] if "name" in frame else []), "orders", "last_order", "recency_days", "spend"]
    names += ["average_order_value", "spend_share", "spend_share_running"]
    held = wording.percent(most["spend_share"].sum())
    title = (
        f"Who spent the most? {wording.count(bought)} customers bought; the first {len(most)} bring {held} of all spend"
    )
    return table(title, list(map(columns.title, names)), cells_of(most, names), left=names.index("orders"))

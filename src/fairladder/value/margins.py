"""What stays of revenue: the margin given or from costs, and what refunds take back."""

from dataclasses import dataclass

from fairladder.book.read import Read
from fairladder.errors import DataError, UsageError
from fairladder.value.checks import checked_margin
from fairladder.value.histories import Histories, costs


@dataclass(frozen=True)
class Margin:
    """``share`` of revenue that stays, ``came_from`` in words; ``after_refunds`` is spend ÷
    purchases.
    """

    share: float
    came_from: str
    after_refunds: float
    given: bool = False
    from_cost: bool = False
    notes: tuple[str, ...] = ()


def margin_of(orders: Read, past: Histories, margin: float | None) -> Margin:
    """The margin given, or 1 − cost ÷ revenue where rows carry their cost, or 1.

    Raises UsageError for a margin that is no fraction, or where costs come to as much as the
    revenue; DataError where refunds do.
    """
    checked_margin(margin)
    spend, purchases = float(orders.spent()["spend"].sum()), float(past.frame["bought"].sum())
    net = spend / purchases if purchases > 0 else 1.0
    if net <= 0:
        raise DataError(
            "Refunds come to as much as the purchases, so there is no value to forecast."
        )
    if margin is not None:
        return Margin(margin, "given", net, given=True)
    cost = costs(orders)
    if cost is None:
        return Margin(1.0, "none given: revenue, not profit", net)
    share = 1 - cost.total / spend if spend > 0 else 0.0
    if share <= 0:
        raise UsageError(
            f"Costs ({cost.total:,.0f}) come to as much as the revenue ({spend:,.0f}), so no "
            "margin is left to forecast. Is the "
            "cost column the cost of the row? Otherwise give --margin."
        )
    return Margin(share, "1 − cost ÷ revenue", net, from_cost=True, notes=cost.notes)

"""Determine the profit share of revenue: a given margin or one from costs, and the effect of
refunds.
"""

from dataclasses import dataclass

from fairladder.book.read import Read
from fairladder.errors import DataError, UsageError
from fairladder.value.checks import checked_margin
from fairladder.value.histories import Histories, costs


@dataclass(frozen=True)
class Margin:
    """``share`` of revenue that is profit, ``origin_text`` in words; ``after_refunds`` is spend ÷
    purchases.
    """

    share: float
    origin_text: str
    after_refunds: float
    given: bool = False
    from_cost: bool = False
    notes: tuple[str, ...] = ()


def margin_of(orders: Read, past: Histories, margin: float | None) -> Margin:
    """Return the given margin, or 1 − cost ÷ revenue if rows have costs, or 1.

    Raises UsageError for a margin that is not a fraction, or if costs reach the revenue; DataError
    if refunds do.
    """
    checked_margin(margin)
    spend, purchases = float(orders.spent()["spend"].sum()), float(past.frame["bought"].sum())
    net = spend / purchases if purchases > 0 else 1.0
    if net <= 0:
        raise DataError(
            "Refunds add up to as much as the purchases, so there is no value to forecast."
        )
    if margin is not None:
        return Margin(margin, "given", net, given=True)
    cost = costs(orders)
    if cost is None:
        return Margin(1.0, "none given: revenue, not profit", net)
    share = 1 - cost.total / spend if spend > 0 else 0.0
    if share <= 0:
        raise UsageError(
            f"Costs ({cost.total:,.0f}) add up to as much as the revenue ({spend:,.0f}), so "
            "no margin is left to forecast. Does the cost column contain the cost of the "
            "row? Otherwise give --margin."
        )
    return Margin(share, "1 − cost ÷ revenue", net, from_cost=True, notes=cost.notes)

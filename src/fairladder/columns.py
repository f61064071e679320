"""What the columns of results are, where more than one place needs to know."""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pandas as pd

#: Columns of results that are money, written with exactly the scheme's decimals in text formats.
MONEY = frozenset({
    "spend", "average_order_value", "smallest_order", "largest_order", "amount", "revenue", "new_revenue", "repeat_revenue", "refunded",
    "spend_to_date", "margin_to_date", "expected_order_value", "expected_value", "value_low", "value_high", "quick_value",
    "per_customer", "all_customers",
    "formula_value", "value_if_lower", "value_if_higher", "spend_before", "spend_after",
})  # fmt: skip
#: Where a frame of customers keeps the settings that it was made with, as JSON.
SCHEME = "fairladder_scheme"
#: Where a frame keeps the names of columns that are carried along from somebody's file and only look like ours.
CARRIED = "fairladder_carried"


#: Where a frame keeps the names of its own columns that are money in it alone.
ALSO_MONEY = "fairladder_money"


#: Weighted sums of scores, which have two decimals where the weights are no whole numbers.
TWO_DECIMALS = frozenset({"score_total", "score_before", "score_after", "change"})


def decimals_of(frame: "pd.DataFrame", name: object, decimals: int) -> int | None:
    """How many decimals a column has in text formats; None where its numbers are written as they are."""
    if is_money(frame, name):
        return decimals
    carried = name in frame.attrs.get(CARRIED, ())
    return 2 if name in TWO_DECIMALS and not carried and frame[name].dtype.kind == "f" else None


def is_money(frame: "pd.DataFrame", name: object) -> bool:
    """Whether a column is money of a result's own, and not a column of somebody's file that is called alike."""
    own = name in MONEY or name in frame.attrs.get(ALSO_MONEY, ())
    return own and name not in frame.attrs.get(CARRIED, ()) and frame[name].dtype.kind in "iuf"

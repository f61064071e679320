"""The names of the customers' measures and of those that purchases change; ``measure_trees``
computes them.
"""

from fairladder.columns import CUSTOMERS
from fairladder.columns import names as columns_of

#: The columns of the customers table, in order; `name` and `only_channel` only if the orders or
#: customers have them.
NAMES = columns_of(CUSTOMERS)
#: Columns that exist only if orders or customers have them.
OPTIONAL = ("name", "only_channel")
#: Columns of the reduction that purchases change; all other measures are computed from these.
OF_PURCHASES = (
    "orders",
    "lines",
    "spend",
    "smallest_order",
    "largest_order",
    "first_order",
    "last_order",
)

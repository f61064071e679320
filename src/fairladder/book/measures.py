"""Which measures customers have, and which of them purchases change; ``measure_trees``
computes them.
"""

from fairladder.columns import CUSTOMERS
from fairladder.columns import names as columns_of

#: The columns of the customers table, in order; `name` and `only_channel` only where the orders or
#: customers carry them.
NAMES = columns_of(CUSTOMERS)
#: Columns that are there only if orders or customers have them.
OPTIONAL = ("name", "only_channel")
#: The columns of the reduction that purchases change; all other measures are computed from these.
OF_PURCHASES = (
    "orders",
    "lines",
    "spend",
    "smallest_order",
    "largest_order",
    "first_order",
    "last_order",
)

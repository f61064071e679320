"""Two rules, as SQL over orders and on frames: which orders count towards spend, and which
customers have a purchase.
"""

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from fairladder.scheme import Scheme

if TYPE_CHECKING:
    import pandas as pd

#: Over a table of orders with ``amount``: true for a purchase.
PURCHASE = "amount > 0"


def ignores_refunds(scheme: Scheme) -> bool:
    """Return True if refunds do not count instead of lowering spend."""
    return scheme.money.refunds == "ignore"


def counting(scheme: Scheme) -> str:
    """Return the SQL condition that an order changes spend. Orders of zero never do."""
    return PURCHASE if ignores_refunds(scheme) else "amount <> 0"


def counted(scheme: Scheme, whole: str = "amount") -> str:
    """Return the SQL amount that an order adds to spend, null for nothing. For rows, ``whole`` is
    the amount of the row's order.
    """
    return f"CASE WHEN {whole} > 0 THEN amount END" if ignores_refunds(scheme) else "amount"


def counts(minor: NDArray[np.int64], scheme: Scheme) -> NDArray[np.bool_]:
    """Return a mask of the amounts that count towards spend; those of zero add nothing either
    way.
    """
    return minor > 0 if ignores_refunds(scheme) else np.ones(len(minor), dtype=bool)


def bought(customers: "pd.DataFrame") -> NDArray[np.bool_]:
    """Return a mask of the customers with a purchase."""
    return np.asarray(customers["orders"].to_numpy(dtype=np.int64) > 0)


def buyers(customers: "pd.DataFrame") -> "pd.DataFrame":
    """Return the customers with a purchase."""
    return customers[bought(customers)]


def no_purchases(customers: "pd.DataFrame | Any") -> bool:
    """Return True if no customer has a purchase, so that no customer can be scored."""
    return not bought(customers).any()

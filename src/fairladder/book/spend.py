"""What counts towards spend, and who has a purchase: the two rules, as SQL over orders and on
frames.
"""

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from fairladder.scheme import Scheme

if TYPE_CHECKING:
    import pandas as pd

#: Over a table of orders with ``amount``: whether one is a purchase.
PURCHASE = "amount > 0"


def ignores_refunds(scheme: Scheme) -> bool:
    """Whether refunds count for nothing, rather than against spend."""
    return scheme.money.refunds == "ignore"


def counting(scheme: Scheme) -> str:
    """Over orders: whether one moves spend at all. Orders of zero never do."""
    return PURCHASE if ignores_refunds(scheme) else "amount <> 0"


def counted(scheme: Scheme, whole: str = "amount") -> str:
    """Over orders: what one adds to spend, null for nothing. Over their rows, ``whole`` is the
    amount of a row's order.
    """
    return f"CASE WHEN {whole} > 0 THEN amount END" if ignores_refunds(scheme) else "amount"


def counts(minor: NDArray[np.int64], scheme: Scheme) -> NDArray[np.bool_]:
    """Which of these orders' amounts count towards spend; those of zero add nothing either way."""
    return minor > 0 if ignores_refunds(scheme) else np.ones(len(minor), dtype=bool)


def bought(customers: "pd.DataFrame") -> NDArray[np.bool_]:
    """Which customers have a purchase."""
    return np.asarray(customers["orders"].to_numpy(dtype=np.int64) > 0)


def buyers(customers: "pd.DataFrame") -> "pd.DataFrame":
    """The customers with a purchase."""
    return customers[bought(customers)]


def nobody_bought(customers: "pd.DataFrame | Any") -> bool:
    """Whether no customer has a purchase, so that there is nobody to score."""
    return not bought(customers).any()

"""The measures of each customer, from the reduction's whole numbers: section 2 of the definitions."""

import datetime as dt
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from fairladder.book.spend import bought
from fairladder.columns import CUSTOMERS
from fairladder.columns import names as columns_of
from fairladder.errors import DataError
from fairladder.numbers import EXACT, ratio, standing

if TYPE_CHECKING:
    import pandas as pd

#: The columns of the customers table, in order; `name` and `only_channel` only where the orders or customers carry them.
NAMES = columns_of(CUSTOMERS)
#: Columns that are there only if orders or customers have them.
OPTIONAL = ("name", "only_channel")
_DAYS = ("first_order", "last_order")
#: The columns of the reduction that purchases change; all other measures are computed from these.
OF_PURCHASES = ("orders", "lines", "spend", "smallest_order", "largest_order", "first_order", "last_order")


def customers_frame(reduced: pa.Table, decimals: int, extra: list[str]) -> "pd.DataFrame":
    """The used rows of the reduction as a frame of whole numbers and days, sorted by customer id.

    ``extra`` names the optional text columns. Amounts are minor units here; ``with_measures`` makes the rest.
    """
    import pandas as pd

    frame = pd.DataFrame({"customer": _text(reduced["customer"])})
    for name in ("refunds", "zero_orders", *(n for n in OF_PURCHASES if n not in _DAYS)):
        frame[name] = _whole(reduced[name], decimals)
    for name in _DAYS:
        frame[name] = reduced[name].to_numpy().astype("datetime64[s]")
    for name in extra:
        frame[name] = _text(reduced[name])
    return frame


def _text(values: pa.ChunkedArray) -> "pd.Series":
    import pandas as pd

    return pd.Series(values.cast(pa.large_string()), dtype="str")


def _whole(values: pa.ChunkedArray, decimals: int) -> NDArray[np.int64]:
    """Whole numbers with nulls as 0: sums of nothing."""
    numbers = values.fill_null(0)
    largest = max((abs(n) for n in (pc.min_max(numbers).as_py()).values() if n is not None), default=0)
    if largest > EXACT or float(pc.sum(pc.abs(pc.cast(numbers, pa.float64()))).as_py() or 0) > 2**62:
        raise DataError(
            f"Amounts come to more than {EXACT // 10**decimals:,}: too large to stay exact. Give the "
            "amounts in a larger unit, or fewer decimals under [money]."
        )
    whole: NDArray[np.int64] = numbers.cast(pa.int64()).to_numpy()
    return whole


def with_measures(frame: "pd.DataFrame", as_of: dt.date | None, decimals: int) -> "pd.DataFrame":
    """Add recency, averages, shares and ranks to the whole-number frame: the table of section 2, one row a customer.

    Every average and ratio is one correctly rounded division of whole numbers; nulls as the definitions say.
    """
    import pandas as pd

    scale = 10**decimals
    orders, spend = frame["orders"].to_numpy(), frame["spend"].to_numpy()
    paying = bought(frame)
    first, last = (_day_of(frame[c]) for c in ("first_order", "last_order"))
    today: Any = np.datetime64(as_of or "1970-01-01", "D")
    recency, tenure = (_days(today - day, paying) for day in (last, first))
    span = _days(last - first, paying)
    shares = spend_shares(spend)
    columns: dict[str, Any] = {name: frame[name] for name in NAMES if name in frame}
    columns |= {
        "recency_days": pd.arrays.IntegerArray(recency, ~paying),
        "tenure_days": pd.arrays.IntegerArray(tenure, ~paying),
        "spend": ratio(spend, scale),
        "average_order_value": ratio(spend, orders * scale),
        "smallest_order": np.where(paying, ratio(frame["smallest_order"], scale), np.nan),
        "largest_order": np.where(paying, ratio(frame["largest_order"], scale), np.nan),
        "average_gap_days": np.where(orders >= 2, ratio(span, np.where(orders >= 2, orders - 1, 0)), np.nan),
        "overdue_ratio": np.where(orders >= 2, ratio(recency * (orders - 1), span), np.nan),
        **shares,
    }
    rest = [name for name in frame.columns if name not in NAMES]
    return pd.DataFrame({name: columns[name] for name in NAMES if name in columns} | {n: frame[n] for n in rest})


def _day_of(values: "pd.Series[Any]") -> NDArray[Any]:
    """Days as NumPy has them, of which it can take differences."""
    return values.to_numpy().astype("datetime64[D]")


def _days(span: NDArray[np.timedelta64], known: NDArray[np.bool_]) -> NDArray[np.int64]:
    return np.where(known, span, np.timedelta64(0, "D")).astype("timedelta64[D]").astype(np.int64)


def spend_shares(spend: NDArray[np.int64]) -> dict[str, NDArray[Any]]:
    """Share, running share and rank of each customer's spend (minor units); equal spend, equal values.

    | spend | share | running | rank |
    |------:|------:|--------:|-----:|
    |    60 |   0.6 |     0.6 |    1 |
    |    20 |   0.2 |     1.0 |    2 |
    |    20 |   0.2 |     1.0 |    2 |
    |     0 |   0.0 |     1.0 |    4 |
    """
    ascending = np.sort(spend)
    total = int(ascending[ascending > 0].sum())
    below, at_most = standing(spend)
    running = np.concatenate([[0], np.cumsum(np.where(ascending > 0, ascending, 0))])
    held = total - running[below]
    positive = spend > 0
    whole = total if total else 1
    return {
        "spend_share": np.where(positive, ratio(spend, whole), 0.0),
        "spend_share_running": np.where(positive, ratio(held, whole), 1.0 if total else 0.0),
        "spend_rank": 1 + len(spend) - at_most,
    }

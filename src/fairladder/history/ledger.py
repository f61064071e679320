"""The order ledger: one row per order, with its place in its customer's history."""

from collections.abc import Collection

import numpy as np
import pandas as pd
from sqlglot import exp

from fairladder.book.order_rows import order_rows, used_lines
from fairladder.book.read import Read
from fairladder.book.spend import counts
from fairladder.columns import CARRIED, ORDER_LINES, ORDERS, names
from fairladder.errors import UsageError
from fairladder.frames import categorical
from fairladder.numbers import ratio
from fairladder.sqltree import column

#: An orders' column of such a name is told apart by `` (cell)``.
_NAMES = names(ORDERS)


def own_name(name: str, ours: Collection[str] = _NAMES) -> str:
    """A column of the orders under its own name, told apart from a column of ours that is called alike."""
    own = name.removeprefix("of ")
    return name if own == name else f"{own} (cell)" if own in ours else own


def order_ledger(orders: Read, *, customers: Collection[str] | None = None) -> pd.DataFrame:
    """One row per order of the window, by day, customer and order id.

    Columns: ``customer``, ``order`` (where orders have ids), ``placed_on`` (day), ``amount`` (major units), ``lines``,
    ``channel`` and every other column of the orders (where all lines of the order agree, else null), and of purchases,
    null in the others: ``nth`` (1 = the customer's first; by time, then by order id, without ids by amount and the
    remaining columns), ``kind`` (``first`` or ``repeat``), ``gap_days`` since the purchase before (null in the first);
    ``share_of_customer`` (amount ÷ the customer's spend of the whole history; null where that is ≤ 0, and for refunds that are ignored).

    History before the window decides what is first and the gaps. ``customers`` picks ids; without them a cluster's orders
    stay there, as a DataFrame of Spark in no order. Raises DataError where the
    orders are not fit to use.

    >>> import fairladder as fl
    >>> ledger = fl.order_ledger(fl.sample_orders(), customers=["09302"])
    >>> ledger[["nth", "kind", "amount"]].head(2).values.tolist()
    [[1, 'first', 67.0], [2, 'repeat', 58.55]]
    """
    orders.require_fit()
    if orders.engine.keeps_customers and customers is None:
        from fairladder.history.ledger_on_cluster import ledger_there

        return ledger_there(orders)
    query = orders.order_table() if customers is None else order_rows(orders.history, customers)
    time, money = orders.scheme.time, orders.scheme.money
    keys = ["placed_on", "customer", "order" if orders.rows.has_orders else "amount"]
    keys += [n for n in query.named_selects if n not in keys]  # to the last column, so that equal runs give equal files
    query = query.order_by(*(exp.Ordered(this=column(n)) for n in keys), copy=False)
    frame = orders.frame(query).rename(columns=own_name)
    scale = 10**money.decimals
    frame["placed_on"] = frame["placed_on"].astype("datetime64[s]")
    bought = (frame["amount"] > 0).to_numpy()
    nth = frame.pop("nth").to_numpy(dtype=np.float64, na_value=np.nan)
    gap = (frame["placed_on"] - pd.to_datetime(frame.pop("before")).astype("datetime64[s]")).dt.days
    minor = frame["amount"].to_numpy(dtype=np.int64)
    counted = counts(minor, orders.scheme)
    # Shares are of the whole history up to the day: the window only picks what is shown.
    spent = frame.assign(spend=np.where(counted, minor, 0)).groupby("customer")["spend"].transform("sum").to_numpy()
    frame["amount"] = ratio(minor, scale)
    frame["nth"] = pd.arrays.IntegerArray(np.where(bought, nth, 0).astype(np.int64), ~bought)
    frame["kind"] = categorical(np.where(~bought, -1, np.where(nth == 1, 0, 1)), ["first", "repeat"])
    known = bought & gap.notna().to_numpy()
    frame["gap_days"] = pd.arrays.IntegerArray(gap.fillna(0).to_numpy(dtype=np.int64), ~known)
    frame["share_of_customer"] = np.where(
        (counted | (minor == 0)) & (spent > 0), ratio(minor, np.where(spent > 0, spent, 0)), np.nan
    )
    frame.attrs[CARRIED] = [name for name in frame if name not in _NAMES]
    if time.from_ is not None:
        frame = frame[frame["placed_on"] >= pd.Timestamp(time.from_)]
    return frame.reset_index(drop=True)


def order_lines(orders: Read) -> pd.DataFrame:
    """One row per used row of the window's orders, by day, customer, order id and amount: the lines that make up the ledger.

    Columns: ``customer``, ``order`` (where orders have ids), ``placed_on`` (day of the order), ``line_amount`` and
    ``order_amount`` (major units), ``share_of_order`` (null where the order's amount is ≤ 0), ``share_of_customer`` (of the
    customer's spend of the whole history; null where that is ≤ 0, and in orders that do not count towards it), and every
    other column of the orders.

    A cluster's lines stay there, as a DataFrame of Spark in no order. Raises UsageError where each row repeats its order's total,
    and DataError where the orders are not fit to use.

    >>> import fairladder as fl
    >>> lines = fl.order_lines(fl.sample_orders())
    >>> lines[["customer", "line_amount", "order_amount"]].head(1).values.tolist()
    [['02240', 13.6, 105.6]]
    """
    require_lines(orders)
    if orders.engine.keeps_customers:
        from fairladder.history.ledger_on_cluster import lines_there

        return lines_there(orders)
    scheme, ours = orders.scheme, names(ORDER_LINES)
    frame: pd.DataFrame = orders.frame(used_lines(orders.history))
    frame = frame.rename(columns=lambda name: own_name(name, ours))
    keys = ["customer", "order"] if orders.rows.has_orders else None
    minor = frame.pop("amount").to_numpy(dtype=np.int64)
    frame = frame.assign(minor=minor)
    of_order = frame.groupby(keys)["minor"].transform("sum").to_numpy() if keys else minor
    if keys:
        frame["placed_on"] = frame.groupby(keys)["placed_on"].transform("min")
    counted = counts(of_order, scheme)
    spent = frame.assign(minor=np.where(counted, minor, 0)).groupby("customer")["minor"].transform("sum").to_numpy()
    known = (counted | (of_order == 0)) & (spent > 0)
    scale = 10**scheme.money.decimals
    frame["placed_on"] = frame["placed_on"].astype("datetime64[s]")
    frame["line_amount"], frame["order_amount"] = ratio(minor, scale), ratio(of_order, scale)
    frame["share_of_order"] = np.where(of_order > 0, ratio(minor, np.where(of_order > 0, of_order, 1)), np.nan)
    frame["share_of_customer"] = np.where(known, ratio(minor, np.where(spent > 0, spent, 1)), np.nan)
    first = [name for name in ours if name in frame]
    own = [name for name in frame if name not in (*first, "minor")]
    frame = frame[[*first, *own]].sort_values(
        [*map(str, ("placed_on", "customer", *(["order"] if keys else []), "line_amount", *own))],
        kind="stable",
        na_position="last",
    )
    frame.attrs[CARRIED] = own
    if scheme.time.from_ is not None:
        frame = frame[frame["placed_on"] >= pd.Timestamp(scheme.time.from_)]
    return frame.reset_index(drop=True)


def require_lines(orders: Read) -> None:
    """Raise UsageError where rows have no amounts of their own, DataError where the orders are not fit to use."""
    if orders.scheme.orders.amount_is == "order":
        raise UsageError(
            'With `amount_is = "order"` each row repeats its order\'s total, so rows have no amounts of their own.'
        )
    orders.require_fit()

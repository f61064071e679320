"""Count how many orders customers reach, and who buys through one channel only."""

from collections.abc import Mapping
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.book.read import Read
from fairladder.errors import DataError, UsageError
from fairladder.frames import row_of_largest
from fairladder.history.purchases import group_name, in_order, purchases
from fairladder.numbers import EXACT_DECIMALS, ratio
from fairladder.sqltree import column, named, select, sql

#: With fewer customers, the share that continues is not meaningful.
FEW = 20


def order_counts(orders: Read) -> pd.DataFrame:
    """Return one row per number of purchases n = 1, 2, … up to the largest, over whole histories up
    to the as-of date.

    Columns: ``n``, ``customers`` (with exactly n), ``share`` (of customers with a purchase, 0..1),
    ``at_least_n``, ``went_on`` (customers with more than n ÷ customers with at least n) and
    ``spend`` (of those with exactly n, major units). Raises DataError if no customer has a
    purchase.

    >>> import fairladder as fl
    >>> fl.order_counts(fl.sample_orders())[["n", "customers"]].head(3).values.tolist()
    [[1, 315], [2, 152], [3, 104]]
    """
    whole = orders.with_history()
    whole.require_fit()
    sums = [sql("COUNT(*) AS n"), sql("CAST(SUM(spend) AS BIGINT) AS spend")]
    query = select([column("orders"), *sums], whole.base).group_by("orders", copy=False)
    counted = pd.DataFrame(whole.customer_engine.table(query).to_pydict()).astype(np.int64)
    scale = 10 ** (EXACT_DECIMALS - whole.scheme.money.decimals)
    exactly, spend = _exactly(
        counted["orders"], counted["spend"].to_numpy() * scale, counted["n"].to_numpy()
    )
    if not exactly.sum():
        raise DataError("No customer has a purchase, so there are no order counts.")
    at_least = exactly[::-1].cumsum()[::-1]
    return pd.DataFrame({
        "n": np.arange(1, len(exactly) + 1), "customers": exactly,
        "share": ratio(exactly, at_least[0]), "at_least_n": at_least,
        "went_on": ratio(at_least - exactly, at_least), "spend": ratio(spend, 10**EXACT_DECIMALS),
    })  # fmt: skip


def _exactly(
    orders: "pd.Series[Any]", units: NDArray[np.int64], people: Any
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the number of customers with exactly 1, 2, … purchases and their spend, from rows that
    represent ``people`` customers each.
    """
    counts = orders.to_numpy(dtype=np.int64)
    exactly, spend = np.zeros((2, int(counts.max(initial=0)) + 1), dtype=np.int64)
    np.add.at(exactly, counts, people)
    np.add.at(spend, counts, units)
    return exactly[1:], spend[1:]


def one_order_short(orders: Read, goal: int | None = None) -> pd.DataFrame:
    """Return the customers who are one purchase short of ``goal``, most recent buyers first: a list
    of whom to contact.

    The default goal is the number of purchases, from 2 on, that most customers have. Columns as in
    the customers table. Raises UsageError for a goal below 2.

    >>> import fairladder as fl
    >>> len(fl.one_order_short(fl.sample_orders(), goal=2))
    315
    """
    goal = goal_of(order_counts(orders)) if goal is None else goal
    if goal < 2:  # for a goal of 1 these would be people without any purchase
        raise UsageError(f"A goal is 2 purchases or more, not {goal}.")
    customers = orders.with_history().customers_here()
    near = customers[(customers["orders"] == goal - 1).to_numpy()]
    return near.sort_values(["recency_days", "customer"], kind="stable").reset_index(drop=True)


def goal_of(counts: pd.DataFrame) -> int:
    """Return the most frequent number of purchases from 2 on; 2 if all customers have one."""
    more = counts[counts["n"] > 1]
    return 2 if more.empty else int(row_of_largest(more, more["customers"]).n)


def largest_drop(counts: pd.DataFrame) -> Mapping[str, float] | None:
    """Return the n after which the smallest share continues, among those that at least 20 customers
    reach; None without any.
    """
    sure = counts[(counts["at_least_n"] >= FEW) & (counts["n"] < counts["n"].max())]
    return None if sure.empty else sure.loc[sure["went_on"].idxmin()].to_dict()


def one_channel(orders: Read) -> pd.DataFrame:
    """Return the customers who bought through a single channel, by channel: how many, and how
    often.

    Columns: ``channel``, ``customers`` (this channel only), ``share`` (of all customers of the
    channel, 0..1), ``orders`` and ``orders_per_customer``. Raises UsageError if the orders have no
    channel.

    >>> import fairladder as fl
    >>> fl.one_channel(fl.sample_orders())[["channel", "customers"]].values.tolist()
    [['post', 91], ['stall', 259], ['web', 456]]
    """
    links = _links(orders)
    buyers = links.groupby("customer")["channel"].transform("size")
    only = links[(buyers == 1).to_numpy()]
    names = in_order(links["channel"].tolist())
    here = links.groupby("channel").size().reindex(names)
    counted = (
        only.groupby("channel")["orders"]
        .agg(["size", "sum"])
        .reindex(names)
        .fillna(0)
        .astype(np.int64)
    )
    return pd.DataFrame({
        "channel": names, "customers": counted["size"].to_numpy(),
        "share": ratio(counted["size"].to_numpy(), here.to_numpy()),
        "orders": counted["sum"].to_numpy(),
        "orders_per_customer": ratio(counted["sum"].to_numpy(), counted["size"].to_numpy()),
    })  # fmt: skip


def channel_flow(orders: Read) -> pd.DataFrame:
    """Return how many customers went from the channel of their first purchase to those of later
    ones: ``first_channel``, ``later_channel``, ``customers``.

    A customer counts once for each later channel; ``later_channel`` is null for those who bought
    once. Raises UsageError if the orders have no channel.

    >>> import fairladder as fl
    >>> fl.channel_flow(fl.sample_orders()).head(2).values.tolist()
    [['post', 'post', 84], ['post', 'web', 52]]
    """
    _need_channel(orders)
    purchased = purchases(orders, ["channel"], keep=True)
    bought = select(
        [column("customer"), named(column(group_name("channel")), "channel"), column("nth")],
        purchased.relation,
    ).where(sql("nth >= 1"), copy=False)
    first = select([column("customer"), sql("channel AS first_channel")], bought, "a").where(
        sql("nth = 1"), copy=False
    )
    later = (
        select([column("customer"), sql("channel AS later_channel")], bought.copy(), "b")
        .where(sql("nth > 1"), copy=False)
        .distinct()
    )
    joined = exp.select("first_channel", "later_channel", "COUNT(*) AS customers").from_(
        first.subquery("f", copy=False), copy=False
    )
    joined = joined.join(
        later.subquery("l", copy=False), using=["customer"], join_type="left", copy=False
    )
    frame = purchased.frame(joined.group_by("first_channel", "later_channel", copy=False))
    purchased.close()
    by = [
        "first_channel",
        "customers",
        "later_channel",
    ]  # sort to the last column, so that equal runs give equal files
    return frame.sort_values(by, ascending=[True, False, True], ignore_index=True)


def _links(orders: Read) -> pd.DataFrame:
    """Return who bought through which channel, and how often."""
    _need_channel(orders)
    bought = purchases(orders, ["channel"], sequence=False)
    query = select(
        [
            column("customer"),
            named(column(group_name("channel")), "channel"),
            sql("COUNT(*) AS orders"),
        ],
        bought.relation,
    ).where(sql("amount > 0"), copy=False)
    frame = bought.frame(query.group_by(sql("1"), sql("2"), copy=False))
    bought.close()
    return frame


def _need_channel(orders: Read) -> None:
    if "channel" not in orders.roles:
        raise UsageError(
            "The orders have no channel. Name its column under [orders] channel or with "
            "--channel-column."
        )

"""Top and bottom lists: the best or worst by any measure, everyone tied with the last place included."""

from collections.abc import Mapping

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from fairladder.book.spend import buyers
from fairladder.columns import better
from fairladder.conditions import Kind, frame_kinds
from fairladder.errors import DataError, UsageError
from fairladder.frames import as_numbers
from fairladder.scores.fitting import check_there


def top(
    customers: pd.DataFrame,
    by: str = "spend",
    *,
    count: int | None = None,
    percent: float | None = None,
    worst: bool = False,
    within: str | None = None,
    everybody: bool = False,
    ties: str = "include",
) -> pd.DataFrame:
    """The best customers by a measure, with their ``rank`` as the first column; by rank, then by id.

    Parameters
    ----------
    customers
        One row per customer.
    by
        A column of numbers or days. Less is better for recency, gaps, overdue ratio, first order, rank and refunds; more
        is for all others. Nulls come last.
    count, percent
        How many, 10 without either; or how many in a hundred (of each group), rounded up. Everyone tied with the last
        place is in, so there can be more.
    worst
        Begin at the other end.
    within
        A column: a list for each of its values, null being a group of its own.
    everybody
        Count customers without a purchase, too.
    ties
        ``exclude`` leaves out those who tie with the last place where there is no room for all of them, so that nobody is listed
        before an equal; there can be fewer.

    | value | rank |
    |------:|-----:|
    |     9 |    1 |
    |     7 |    2 |
    |     7 |    2 |
    |     4 |    4 |

    Raises UsageError for an unknown column, a measure that is no number or day, or a wrong count or percent; DataError
    where nobody has a purchase.

    >>> import fairladder as fl
    >>> best = fl.top(fl.sample_orders().customers(), by="spend", count=2)
    >>> best[["rank", "customer", "spend"]].values.tolist()
    [[1, '09302', 9172.55], [2, '09755', 7442.07]]
    """
    check_there(customers, measure=by, group=within)
    share = check_places(frame_kinds(customers), by, count, percent, ties)
    chosen = customers if everybody else buyers(customers)
    if chosen.empty:
        raise DataError("No customer has a purchase, so there is no best and no worst.")
    standing = goodness(chosen[by], low=(better(by) == "low") != worst)
    group = (
        np.zeros(len(chosen), dtype=np.int64)
        if within is None
        else pd.factorize(chosen[within], sort=True, use_na_sentinel=False)[0]
    )
    rank = np.zeros(len(chosen), dtype=np.int64)
    listed = np.zeros(len(chosen), dtype=bool)
    for members in (np.flatnonzero(group == g) for g in range(int(group.max()) + 1)):
        rank[members] = ranks(standing[members])
        wanted = (count or 10) if share is None else -(-share[0] * len(members) // share[1])
        listed[members] = rank[members] <= wanted
        if ties == "exclude" and listed[members].sum() > wanted:  # nobody is chosen among equals
            last = rank[members][listed[members]].max()
            listed[members] &= rank[members] < last
    # A column of the customers that is called like ours is told apart, as in the order ledger.
    kept = {c: f"{c} (cell)" if c == "rank" else c for c in customers.columns if c != within or c == "rank"}
    shown = chosen.rename(columns=kept).assign(rank=rank)[listed]
    within = kept.get(within, within) if within is not None else None
    order = np.lexsort((shown["customer"].to_numpy(dtype=str), shown["rank"], group[listed]))
    columns = ["rank", *([within] if within else []), *(c for c in kept.values() if c != within)]
    return shown.iloc[order][columns].reset_index(drop=True)


def check_places(
    kinds: Mapping[str, Kind], by: str, count: int | None, percent: float | None, ties: str
) -> tuple[int, int] | None:
    """The percent as a fraction of whole numbers, or None. Raises UsageError where anything of it cannot be."""
    if kinds.get(by) not in ("number", "day", None):
        raise UsageError(
            f"`{by}` holds neither numbers nor days, so nobody is best by it. Try spend, orders or recency_days."
        )
    if ties not in ("include", "exclude"):
        raise UsageError(f"Ties are include or exclude, not {ties!r}.")
    if count is not None and percent is not None:
        raise UsageError("Give either a count or a percent, not both.")
    if count is not None and count < 1:
        raise UsageError(f"A list has at least 1 place, not {count}.")
    if percent is None:
        return None
    if not 0 < percent <= 100:
        raise UsageError(f"A percent lies above 0 and up to 100, and {percent:g} does not.")
    return round(percent * 10_000), 1_000_000


def goodness(values: "pd.Series[float]", low: bool) -> NDArray[np.float64]:
    """Numbers of which the greatest are best, nulls least and alike; ``low`` where less is better."""
    numbers = as_numbers(values)
    return np.where(np.isnan(numbers), -np.inf, -numbers if low else numbers)


def ranks(goodness: NDArray[np.float64]) -> NDArray[np.int64]:
    """1 + how many stand strictly better; equal values share a rank."""
    ascending = np.sort(goodness)
    return len(goodness) - np.searchsorted(ascending, goodness, side="right") + 1

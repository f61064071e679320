"""Growth: revenue of each period from first and repeat orders, new customers, and periods without
new ones.
"""

import datetime as dt

import numpy as np
import pandas as pd

from fairladder.book.read import Read
from fairladder.book.spend import counting, ignores_refunds
from fairladder.columns import CARRIED, GROWTH, names
from fairladder.errors import DataError
from fairladder.history.periods import Calendar, calendar_of
from fairladder.history.purchases import (
    group_name,
    in_order,
    purchases,
    require_free_group_name,
    warn_of_unknown,
)
from fairladder.numbers import ratio
from fairladder.sqltree import column, named, select, sql

_MONEY = tuple(c.name for c in GROWTH if c.kind == "money")
_COLUMNS = names(GROWTH)


def growth(orders: Read, *, period: str = "month", by: str | None = None) -> pd.DataFrame:
    """Return one row per period (and group), from the period of the first order that counts to
    the period of the as-of date.

    Columns: ``period`` (its first day), ``label``, the group under its own name, ``orders``,
    ``customers`` (with a purchase), ``new_customers`` (their first purchase ever),
    ``returning_customers``, ``revenue`` = ``new_revenue`` (first purchases) + ``repeat_revenue`` +
    ``refunded`` (≤ 0), all in major units, ``new_customers_running``, ``complete`` and ``flat``
    (in a run of two or more complete periods without a new customer in the group).

    With a column of the orders a customer is new in the group of the first order only; all columns
    but ``customers`` add up over groups. Null groups are ``unknown``, orders whose rows disagree
    ``mixed``. A date range limits the periods shown without changing their figures. Raises
    UsageError for an unknown period or column, DataError if no order counts.

    >>> import fairladder as fl
    >>> grown = fl.growth(fl.sample_orders(), period="year")
    >>> grown[["label", "new_customers", "complete"]].values.tolist()
    [['2023', 249, True], ['2024', 374, True], ['2025', 300, True], ['2026', 169, False]]
    """
    unit = calendar_of(period, orders.scheme.time.year_starts)
    require_free_group_name(by, _COLUMNS)
    bought = purchases(orders, [by] if by else [])
    measures = {
        "orders": "COUNT(CASE WHEN amount > 0 THEN 1 END)",
        "customers": "COUNT(DISTINCT CASE WHEN amount > 0 THEN customer END)",
        "new_customers": "COUNT(CASE WHEN nth = 1 THEN 1 END)",
        "new_revenue": "COALESCE(SUM(CASE WHEN nth = 1 THEN amount END), 0)",
        "repeat_revenue": "COALESCE(SUM(CASE WHEN nth > 1 THEN amount END), 0)",
        "refunded": "0"
        if ignores_refunds(orders.scheme)
        else "COALESCE(SUM(CASE WHEN amount < 0 THEN amount END), 0)",
    }
    keys = [
        named(unit.start_of(column("placed_on")), "period"),
        *([column(group_name(by))] if by else []),
    ]
    query = select([*keys, *(named(sql(m), n) for n, m in measures.items())], bought.relation)
    query = query.where(sql(counting(orders.scheme)), copy=False)
    frame = bought.frame(query.group_by(*(sql(str(i + 1)) for i in range(len(keys))), copy=False))
    bought.close()
    if by:
        frame = frame.rename(columns={group_name(by): by})
    if frame.empty or orders.as_of is None:
        raise DataError(
            "No order counts towards spend, so there is no growth to show. Run `fairladder "
            "check` to see why."
        )
    whole = _every_period(frame, unit, by, orders.as_of)
    whole["revenue"] = whole["new_revenue"] + whole["repeat_revenue"] + whole["refunded"]
    whole["returning_customers"] = whole["customers"] - whole["new_customers"]
    groups = whole.groupby(by, sort=False) if by else whole.groupby(lambda _: 0)
    whole["new_customers_running"] = groups["new_customers"].cumsum()
    whole["complete"] = unit.complete(whole["period"], orders.as_of)
    whole["flat"] = _flat(whole, by)
    whole["label"] = [unit.label(p) for p in whole["period"]]
    for name in _MONEY:
        whole[name] = ratio(whole[name].to_numpy(dtype=np.int64), 10**orders.scheme.money.decimals)
    warn_of_unknown(by, whole[by] if by else ())
    columns = [*_COLUMNS[:2], *([by] if by else []), *_COLUMNS[2:]]
    shown = _shown(whole, unit, orders.scheme.time.from_)[columns].reset_index(drop=True)
    shown.attrs[CARRIED] = [by] if by else []
    return shown


def repeat_share(table: pd.DataFrame) -> float:
    """Return repeat revenue ÷ revenue before refunds of a growth table, so that the shares of first
    and repeat orders add up to one; NaN without revenue.
    """
    first, repeat = (float(table[c].sum()) for c in ("new_revenue", "repeat_revenue"))
    return repeat / (first + repeat) if first + repeat > 0 else float("nan")


def _every_period(
    frame: pd.DataFrame, unit: Calendar, by: str | None, as_of: dt.date
) -> pd.DataFrame:
    """Return zero rows for the periods (of each group) without orders."""
    days = unit.starts(frame["period"].min().date(), as_of)
    groups = in_order(frame[by].tolist()) if by else [None]
    grid = pd.MultiIndex.from_product([groups, days], names=[by or "#", "period"])
    keyed = frame.assign(**({} if by else {"#": None})).set_index([by or "#", "period"])
    if not by:
        keyed.index = pd.MultiIndex.from_arrays(
            [[None] * len(keyed), keyed.index.get_level_values(1)], names=["#", "period"]
        )
        whole = keyed.droplevel(0).reindex(days).rename_axis("period").reset_index()
    else:
        whole = keyed.reindex(grid).reset_index()
    numbers = [n for n in whole.columns if n not in ("period", by)]
    whole[numbers] = whole[numbers].fillna(0).astype(np.int64)
    return whole


def _flat(whole: pd.DataFrame, by: str | None) -> "np.ndarray[tuple[int], np.dtype[np.bool_]]":
    """Return a mask of rows in a run of two or more complete periods of one group without a new
    customer.
    """
    none = ((whole["new_customers"] == 0) & whole["complete"]).to_numpy()
    group = whole[by].to_numpy() if by else np.zeros(len(whole), dtype=np.int64)
    flat = np.zeros(len(whole), dtype=bool)
    for i in range(1, len(whole)):
        if none[i] and none[i - 1] and group[i] == group[i - 1]:
            flat[i - 1 : i + 1] = True
    return flat


def _shown(whole: pd.DataFrame, unit: Calendar, since: dt.date | None) -> pd.DataFrame:
    """Return the periods that overlap the date range."""
    if since is None:
        return whole
    first = unit.ordinal_of(since)
    shown: pd.DataFrame = whole[unit.ordinal(whole["period"]) >= first]
    return shown


def flat_spells(grown: pd.DataFrame, by: str | None = None) -> pd.DataFrame:
    """Return the flat spells of a growth table, longest first: group, ``first`` and ``last``
    (labels), ``periods``, ``running``.

    Spells before a group's first customer are excluded. ``running`` is the number of customers that
    the group had during the spell.

    >>> import fairladder as fl
    >>> grown = fl.growth(fl.sample_orders(), by="district")
    >>> fl.flat_spells(grown, by="district").head(1).values.tolist()
    [['Saltmarsh', 'Mar 2025', 'Jun 2026', 16, 102]]
    """
    lines = []
    for group, rows in grown.groupby(by, sort=False) if by else [(None, grown)]:
        begun = rows[(rows["new_customers_running"] > 0) & rows["flat"]]
        place = np.flatnonzero(
            (rows["new_customers_running"] > 0).to_numpy() & rows["flat"].to_numpy()
        )
        for run in (
            np.split(np.arange(len(begun)), np.flatnonzero(np.diff(place) > 1) + 1)
            if len(begun)
            else []
        ):
            spell = begun.iloc[run]
            ends = (spell["label"].iloc[0], spell["label"].iloc[-1])
            if len(spell) > 1:
                lines.append(
                    (group, *ends, len(spell), int(spell["new_customers_running"].iloc[-1]))
                )
    table = pd.DataFrame(lines, columns=[by or "group", "first", "last", "periods", "running"])
    return table.sort_values("periods", ascending=False, kind="stable").reset_index(drop=True)

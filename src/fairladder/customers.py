"""The reduction: order rows → orders → customers, as one query of aggregates that merge, and its measures.

Two GROUP BYs, COUNT, SUM, MIN and MAX only. Rows that are not used travel along under their state, so that one pass
over the data gives the customers and the balance together.
"""

import datetime as dt
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.errors import DataError
from fairladder.numbers import EXACT, ratio
from fairladder.orders import cells
from fairladder.orders.rows import USED, Rows
from fairladder.sqltree import column, named, sql

#: The customers table's columns, in order; `name` and `only_channel` only where the orders or customers carry them.
COLUMNS = (
    "customer", "name", "orders", "refunds", "zero_orders", "lines", "first_order", "last_order", "recency_days",
    "tenure_days", "spend", "average_order_value", "smallest_order", "largest_order", "average_gap_days",
    "overdue_ratio", "spend_share", "spend_share_running", "spend_rank", "only_channel",
)  # fmt: skip


def reduction(rows: Rows) -> exp.Select:
    """The whole reduction as one tree: a row per customer with used rows, and a row per other state of rows.

    Columns: ``state``, ``currency``, ``customer`` (text; null where the rows are not used), counts, days, amounts in
    minor units, and for the balance ``rows_read`` and ``rows_amount``.
    """
    orders = _orders(rows)
    purchase = sql("amount > 0")
    spend = "SUM(amount)" if rows.scheme.money.refunds == "net" else "SUM(amount) FILTER (WHERE amount > 0)"
    measures = {
        "orders": sql("COUNT(*) FILTER (WHERE :p)", p=purchase),
        "refunds": sql("COUNT(*) FILTER (WHERE amount < 0)"),
        "zero_orders": sql("COUNT(*) FILTER (WHERE amount = 0)"),
        "lines": sql("SUM(lines) FILTER (WHERE :p)", p=purchase),
        "first_order": sql("MIN(day) FILTER (WHERE :p)", p=purchase),
        "last_order": sql("MAX(day) FILTER (WHERE :p)", p=purchase),
        "spend": sql(spend),
        "smallest_order": sql("MIN(amount) FILTER (WHERE :p)", p=purchase),
        "largest_order": sql("MAX(amount) FILTER (WHERE :p)", p=purchase),
        "earliest_row": sql("MIN(day)"),
        "latest_row": sql("MAX(latest)"),
        "rows_read": sql("SUM(lines)"),
        "rows_amount": sql("SUM(rows_amount)"),
    }
    if rows.roles.get("name"):
        measures["name"] = sql("SUBSTRING(MAX(name), 11)")
    if rows.roles.get("channel"):
        every = "COUNT(channel) FILTER (WHERE :p) = COUNT(*) FILTER (WHERE :p)"
        one = "MIN(channel) FILTER (WHERE :p) = MAX(channel) FILTER (WHERE :p)"
        measures["only_channel"] = sql(
            f"CASE WHEN {every} AND {one} THEN MIN(channel) FILTER (WHERE :p) END", p=purchase
        )
    if reads_offsets(rows):
        measures["offsets"] = sql("MAX(offsets)")
    keys = ["state", "customer", *(["currency"] if rows.roles.get("currency") else [])]
    columns = [named(tree, name) for name, tree in measures.items()]
    customers = exp.select(*keys, *columns).from_(orders.subquery("orders")).group_by(*keys)
    text = named(sql("CAST(customer AS VARCHAR)"), "customer")
    names = [k for k in [*keys, *measures] if k != "customer"]
    return exp.select(text, *names).from_(customers.subquery("customers")).order_by("state", "CAST(customer AS VARCHAR)")


def reads_offsets(rows: Rows) -> bool:
    """Whether text timestamps with an offset could be read as the day they are written with."""
    return rows.kind("placed") == "text" and rows.scheme.time.time_zone is None


def _orders(rows: Rows) -> exp.Select:
    """Order rows → orders; rows that are not used become one row per state."""
    used = sql(":s = :used", s=column("#state"), used=USED)
    customer = sql("CASE WHEN :u THEN :c END", u=used, c=column("#customer"))
    keys = {"state": column("#state"), "customer": customer}
    if rows.has_orders:
        keys["order_id"] = sql("CASE WHEN :u THEN :c END", u=used, c=column("#order"))
    if (currency := rows.text_of("currency")) is not None:
        keys["currency"] = currency
    each = not rows.has_orders
    amount = "MIN(:m)" if rows.scheme.orders.amount_is == "order" else "SUM(:m)"
    minor, day = column("#minor"), column("#day")
    measures = {
        "amount": minor if each else sql(f"CAST({amount} AS BIGINT)", m=minor),
        "day": day if each else sql("MIN(:d)", d=day),
        "latest": day if each else sql("MAX(:d)", d=day),
        "lines": exp.Literal.number(1) if each else sql("COUNT(*)"),
    }
    measures["rows_amount"] = minor if each else sql("SUM(:m)", m=minor)
    if (name := rows.text_of("name")) is not None:
        # ISO days sort as text, so the greatest pair is the latest name, and of one day the greatest.
        dated = sql("CAST(:d AS VARCHAR) || :n", d=day, n=name)
        measures["name"] = dated if each else sql("MAX(:x)", x=dated)
    if (channel := rows.text_of("channel")) is not None:
        agreed = "CASE WHEN COUNT(:x) = COUNT(*) AND MIN(:x) = MAX(:x) THEN MIN(:x) END"
        measures["channel"] = channel if each else sql(agreed, x=channel)
    if reads_offsets(rows):
        flag = sql("CAST(:o AS TINYINT)", o=cells.offset(column("#placed")))
        measures["offsets"] = flag if each else sql("MAX(:x)", x=flag)
    columns = [named(tree, name) for name, tree in [*keys.items(), *measures.items()]]
    orders = exp.select(*columns).from_(rows.tree().subquery("order_rows"))
    return orders if each else orders.group_by(*(exp.Literal.number(i + 1) for i in range(len(keys))))


# ------------------------------------------------------------------------------------- measures of each customer


def customers_frame(reduced: pa.Table, decimals: int, extra: list[str]) -> pd.DataFrame:
    """The used rows of the reduction as a frame of whole numbers and days, sorted by customer id.

    ``extra`` names the optional text columns. Amounts are minor units here; ``with_measures`` makes the rest.
    """
    frame = pd.DataFrame({"customer": _text(reduced["customer"])})
    for name in ("orders", "refunds", "zero_orders", "lines", "spend", "smallest_order", "largest_order"):
        frame[name] = _whole(reduced[name], decimals)
    for name in ("first_order", "last_order"):
        frame[name] = reduced[name].to_numpy().astype("datetime64[s]")
    for name in extra:
        frame[name] = _text(reduced[name])
    return frame


def _text(values: pa.ChunkedArray) -> pd.Series:
    return pd.Series(pd.array(values.to_pandas(), dtype="str"))


def _whole(values: pa.ChunkedArray, decimals: int) -> NDArray[np.int64]:
    """Whole numbers with nulls as 0: sums of nothing."""
    numbers = values.fill_null(0)
    largest = max((abs(n) for n in (pc.min_max(numbers).as_py()).values() if n is not None), default=0)
    if largest > EXACT:
        raise DataError(
            f"A customer's amounts come to more than {EXACT // 10**decimals:,}: too large to stay exact. Give the "
            "amounts in a larger unit, or fewer decimals under [money]."
        )
    return numbers.cast(pa.int64()).to_numpy()


def with_measures(frame: pd.DataFrame, as_of: dt.date | None, decimals: int) -> pd.DataFrame:
    """Add recency, averages, shares and ranks to the whole-number frame: the table of section 2, one row a customer.

    Every average and ratio is one correctly rounded division of whole numbers; nulls as the definitions say.
    """
    scale = 10**decimals
    orders, spend = frame["orders"].to_numpy(), frame["spend"].to_numpy()
    bought = orders > 0
    first, last = (frame[c].to_numpy().astype("datetime64[D]") for c in ("first_order", "last_order"))
    today = np.datetime64(as_of or "1970-01-01", "D")
    recency, tenure = (_days(today - day, bought) for day in (last, first))
    span = _days(last - first, bought)
    shares = spend_shares(spend)
    columns: dict[str, Any] = {name: frame[name] for name in COLUMNS if name in frame}
    columns |= {
        "recency_days": pd.arrays.IntegerArray(recency, ~bought),
        "tenure_days": pd.arrays.IntegerArray(tenure, ~bought),
        "spend": ratio(spend, scale),
        "average_order_value": ratio(spend, orders * scale),
        "smallest_order": np.where(bought, ratio(frame["smallest_order"], scale), np.nan),
        "largest_order": np.where(bought, ratio(frame["largest_order"], scale), np.nan),
        "average_gap_days": np.where(orders >= 2, ratio(span, np.where(orders >= 2, orders - 1, 0)), np.nan),
        "overdue_ratio": np.where(orders >= 2, ratio(recency * (orders - 1), span), np.nan),
        **shares,
    }
    rest = [name for name in frame.columns if name not in COLUMNS]
    return pd.DataFrame({name: columns[name] for name in COLUMNS if name in columns} | {n: frame[n] for n in rest})


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
    at_most = np.searchsorted(ascending, spend, side="right")
    below = np.searchsorted(ascending, spend, side="left")
    running = np.concatenate([[0], np.cumsum(np.where(ascending > 0, ascending, 0))])
    held = total - running[below]
    positive = spend > 0
    whole = total if total else 1
    return {
        "spend_share": np.where(positive, ratio(spend, whole), 0.0),
        "spend_share_running": np.where(positive, ratio(held, whole), 1.0 if total else 0.0),
        "spend_rank": 1 + len(spend) - at_most,
    }

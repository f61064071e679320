"""The order ledger: one row per order with its number in its customer's history, or one row per
order line.
"""

from collections.abc import Collection
from typing import TYPE_CHECKING, Any

from sqlglot import exp

from fairladder.book.order_rows import order_rows, used_lines
from fairladder.book.read import Read
from fairladder.book.spend import counted
from fairladder.columns import CARRIED, ORDER_LINES, ORDERS, names
from fairladder.errors import UsageError
from fairladder.numbers import EXACT_DECIMALS
from fairladder.output.listing import Listing, rising
from fairladder.sqltree import column, day_literal, named, select, sql, units

if TYPE_CHECKING:
    import pandas as pd
    import pyarrow as pa

#: A user's column with one of these names gets the suffix `` (cell)``.
_NAMES = names(ORDERS)


def own_name(name: str, ours: Collection[str] = _NAMES) -> str:
    """Return the name of a user's column, with a suffix if it is one of our names."""
    own = name.removeprefix("of ")
    return name if own == name else f"{own} (cell)" if own in ours else own


def order_ledger(orders: Read, *, customers: Collection[str] | None = None) -> "pd.DataFrame":
    """Return one row per order in the date range, by day, customer and order id.

    Columns: ``customer``, ``order`` (where orders have ids), ``placed_on`` (day), ``amount``
    (major units), ``lines``, ``channel`` and every other column of the orders (where all lines of
    the order agree, else null), and of purchases, null in the others: ``nth`` (1 = the customer's
    first; by time, then by order id, without ids by amount and the remaining columns), ``kind``
    (``first`` or ``repeat``), ``gap_days`` since the purchase before (null in the first);
    ``share_of_customer`` (amount ÷ the customer's spend of the whole history; null where that is ≤
    0, and for refunds that are ignored).

    History before the date range decides what is first and the gaps. ``customers`` selects ids;
    without them a cluster's orders stay there, as an unordered Spark DataFrame. Raises DataError if
    the orders are not fit for use.

    >>> import fairladder as fl
    >>> ledger = fl.order_ledger(fl.sample_orders(), customers=["09302"])
    >>> ledger[["nth", "kind", "amount"]].head(2).values.tolist()
    [[1, 'first', 67.0], [2, 'repeat', 58.55]]
    """
    listing = ledger_listing(orders, customers)
    if customers is not None:
        return listing.frame()
    return _public(listing)


def order_lines(orders: Read) -> "pd.DataFrame":
    """Return one row per used row of the orders in the date range, by day, customer, order id and
    amount: the lines of the ledger's orders.

    Columns: ``customer``, ``order`` (where orders have ids), ``placed_on`` (day of the order),
    ``line_amount`` and ``order_amount`` (major units), ``share_of_order`` (null where the order's
    amount is ≤ 0), ``share_of_customer`` (of the customer's spend of the whole history; null where
    that is ≤ 0, and in orders that do not count towards it), and every other column of the orders.

    A cluster's lines stay there, as an unordered Spark DataFrame. Raises UsageError if each row
    repeats its order's total, and DataError if the orders are not fit for use.

    >>> import fairladder as fl
    >>> lines = fl.order_lines(fl.sample_orders())
    >>> lines[["customer", "line_amount", "order_amount"]].head(1).values.tolist()
    [['02240', 13.6, 105.6]]
    """
    return _public(lines_listing(orders))


def _public(listing: Listing) -> "pd.DataFrame":
    rows = select(list(map(column, listing.columns)), listing.rows)
    frame: pd.DataFrame = listing.engine.frame(rows, listing.order, listing.to_frame)
    return frame


def ledger_listing(orders: Read, customers: Collection[str] | None = None) -> Listing:
    """Return the rows of ``order_ledger``, with the same errors."""
    query = _ledger_query(orders, customers)
    there = tuple(query.named_selects)
    keys = [
        "placed_on",
        "customer",
        "order" if orders.rows.has_orders else "amount",
        "lines",
        "nth",
    ]
    # Sort to the last column if orders have no ids, so that equal runs give equal files.
    others = [] if orders.rows.has_orders else [n for n in there if n not in keys]
    return Listing(
        orders.customer_engine,
        query,
        rising([*keys, *others]),
        there,
        lambda table: _frame(table, _NAMES),
    )


def lines_listing(orders: Read) -> Listing:
    """Return the rows of ``order_lines``, with the same errors."""
    query, ours = _lines_query(orders), names(ORDER_LINES)
    there = tuple(query.named_selects)
    keys = ["placed_on", "customer", *(["order"] if orders.rows.has_orders else []), "line_amount"]
    keys += [n for n in there if n not in ours]
    return Listing(
        orders.customer_engine, query, rising(keys), there, lambda table: _frame(table, ours)
    )


def sums_of_ledger(ledger: Listing) -> tuple[int, int, int]:
    """Return the number of purchases, of repeat purchases among them, and of refunds."""
    counts = (
        "COUNT(nth)",
        "COUNT(CASE WHEN nth > 1 THEN 1 END)",
        "COUNT(CASE WHEN amount < 0 THEN 1 END)",
    )
    row = _one(ledger, *counts)
    return int(row[0]), int(row[1]), int(row[2])


def sums_of_lines(lines: Listing) -> tuple[int, float]:
    """Return the number of lines and their total."""
    row = _one(lines, "COUNT(*)", f"SUM(CAST(ROUND(line_amount * {10**EXACT_DECIMALS}) AS BIGINT))")
    return int(row[0]), int(row[1] or 0) / 10**EXACT_DECIMALS


def _one(listing: Listing, *sums: str) -> list[Any]:
    query = select(
        [named(sql(tree), f"sum {i}") for i, tree in enumerate(sums)], listing.rows, "rows"
    )
    return list(listing.engine.table(query).to_pylist()[0].values())


def _frame(table: "pa.Table", ours: Collection[str]) -> "pd.DataFrame":
    """Return the public DataFrame of orders or lines: timestamps in seconds, nullable integers."""
    import pandas as pd

    frame: pd.DataFrame = table.to_pandas(date_as_object=False)
    types: dict[Any, Any] = dict.fromkeys(frame.select_dtypes("datetime"), "datetime64[s]")
    types |= {n: "Int64" for n in ("nth", "gap_days") if n in frame}
    types |= {"kind": pd.CategoricalDtype(["first", "repeat"])} if "kind" in frame else {}
    frame = frame.astype(types)
    frame.attrs[CARRIED] = [name for name in frame if name not in ours]
    return frame


def _ledger_query(orders: Read, customers: Collection[str] | None) -> exp.Select:
    orders.require_fit()
    order_query = (
        orders.order_table() if customers is None else order_rows(orders.history, customers)
    )
    there, scheme = order_query.named_selects, orders.scheme
    own = {n: own_name(n) for n in there if n not in ("amount", "nth", "before")}
    adds = sql(counted(scheme))
    spent = exp.Window(this=sql("SUM(:a)", a=adds), partition_by=[column("customer")])
    placed = select(["*", named(spent, "spent")], orders.engine.hand_over(order_query, keep=False))
    bought = sql("amount > 0")
    share = _share_of_customer(adds, column("amount"))
    gap = exp.DateDiff(this=column("placed_on"), expression=column("before"), unit=exp.var("DAY"))
    trees: dict[str, exp.Expr] = {}
    for name in there:
        if name == "amount":
            trees["amount"] = units(column("amount"), scheme.money.decimals)
        elif name in own:
            trees[own[name]] = column(name)
    trees |= {
        "nth": sql("CASE WHEN :b THEN nth END", b=bought),
        "kind": sql(
            "CASE WHEN :b THEN CASE WHEN nth = 1 THEN 'first' ELSE 'repeat' END END", b=bought
        ),
        "gap_days": sql("CASE WHEN :b THEN :g END", b=bought, g=gap),
        "share_of_customer": share,
    }
    ledger = select([named(tree, name) for name, tree in trees.items()], placed, "ledger")
    if scheme.time.from_ is not None:
        ledger = ledger.where(sql("placed_on >= :d", d=day_literal(scheme.time.from_)), copy=False)
    return ledger


def _lines_query(orders: Read) -> exp.Select:
    require_lines(orders)
    scheme, ours = orders.scheme, names(ORDER_LINES)
    lines = used_lines(orders.history)
    own = [n for n in lines.named_selects if n not in ("customer", "order", "placed_on", "amount")]
    whole: exp.Expr = column("amount")
    day: exp.Expr = column("placed_on")
    if orders.rows.has_orders:
        keys = [column("customer"), column("order")]
        whole, day = (
            exp.Window(this=sql(f), partition_by=keys) for f in ("SUM(amount)", "MIN(placed_on)")
        )
    placed = select(
        ["*", named(whole, "whole"), named(day, "day")], orders.engine.hand_over(lines, keep=False)
    )
    adds = sql(counted(scheme, '"whole"'))
    spent = exp.Window(this=sql("SUM(:a)", a=adds), partition_by=[column("customer")])
    totalled = select(["*", named(spent, "spent")], placed, "placed")
    trees: dict[str, exp.Expr] = {
        "customer": column("customer"), "order": column("order"), "placed_on": column("day"),
        "line_amount": units(column("amount"), scheme.money.decimals),
        "order_amount": units(column("whole"), scheme.money.decimals),
        "share_of_order": _share(column("whole")),
        "share_of_customer": _share_of_customer(adds, column("whole")),
    }  # fmt: skip
    if not orders.rows.has_orders:
        del trees["order"]
    trees |= {own_name(n, ours): column(n) for n in own}
    found = select([named(tree, name) for name, tree in trees.items()], totalled, "totalled")
    if scheme.time.from_ is not None:
        found = found.where(sql('"day" >= :d', d=day_literal(scheme.time.from_)), copy=False)
    return found


def _share(whole: exp.Expr) -> exp.Expr:
    """Return the ``amount`` of a row as a share of a total; null if that is not positive."""
    return sql("CASE WHEN :w > 0 THEN CAST(amount AS DOUBLE) / CAST(:w AS DOUBLE) END", w=whole)


def _share_of_customer(adds: exp.Expr, order: exp.Expr) -> exp.Expr:
    """Return the amount as a share of what the customer ``spent``; also null if the row's order
    does not count towards spend.
    """
    return sql(
        "CASE WHEN :a IS NOT NULL OR :o = 0 THEN :s END", a=adds, o=order, s=_share(column("spent"))
    )


def require_lines(orders: Read) -> None:
    """Raise UsageError if rows have no amounts of their own, DataError if the orders are not fit
    for use.
    """
    if orders.scheme.orders.amount_is == "order":
        raise UsageError(
            'With `amount_is = "order"` each row repeats its order\'s total, so rows have no '
            "amounts of their own."
        )
    orders.require_fit()

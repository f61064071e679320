"""The orders of a cluster with their places in their customers' histories, and their lines, worked out there."""

from typing import TYPE_CHECKING, Any

from sqlglot import exp

from fairladder.book.order_rows import used_lines
from fairladder.book.read import Read
from fairladder.book.spend import counted
from fairladder.columns import ORDER_LINES, names
from fairladder.engine.cluster import Cluster
from fairladder.history.ledger import own_name, require_lines
from fairladder.sqltree import column, day_literal, named, select, sql, units

if TYPE_CHECKING:
    import pandas as pd


def ledger_there(orders: Read) -> "pd.DataFrame":
    """``ledger.order_ledger`` as a DataFrame of Spark, in no order."""
    assert isinstance(orders.engine, Cluster)
    frame: Any = orders.engine.frame(ledger_query(orders))
    return frame  # type: ignore[no-any-return]


def ledger_keys(orders: Read, ledger: exp.Select) -> tuple[str, ...]:
    """What the ledger is in order of: to the last column where orders have no ids, so that equal runs give equal files."""
    keys = ["placed_on", "customer", "order" if orders.rows.has_orders else "amount"]
    others = [] if orders.rows.has_orders else [n for n in ledger.named_selects if n not in keys]
    return (*keys, *others)


def ledger_query(orders: Read) -> exp.Select:
    """The rows of ``ledger.order_ledger``. Raises DataError where the orders are not fit to use."""
    orders.require_fit()
    query, scheme = orders.order_table(), orders.scheme
    own = {n: own_name(n) for n in query.named_selects if n not in ("amount", "nth", "before")}
    adds = sql(counted(scheme))
    spent = exp.Window(this=sql("SUM(:a)", a=adds), partition_by=[column("customer")])
    placed = select(["*", named(spent, "spent")], query, "placed")
    bought = sql("amount > 0")
    share = _share_of_customer(adds, column("amount"))
    gap = exp.DateDiff(this=column("placed_on"), expression=column("before"), unit=exp.var("DAY"))
    trees: dict[str, exp.Expr] = {}
    for name in query.named_selects:
        if name == "amount":
            trees["amount"] = units(column("amount"), scheme.money.decimals)
        elif name in own:
            trees[own[name]] = column(name)
    trees |= {
        "nth": sql("CASE WHEN :b THEN nth END", b=bought),
        "kind": sql("CASE WHEN :b THEN CASE WHEN nth = 1 THEN 'first' ELSE 'repeat' END END", b=bought),
        "gap_days": sql("CASE WHEN :b THEN :g END", b=bought, g=gap),
        "share_of_customer": share,
    }
    ledger = select([named(tree, name) for name, tree in trees.items()], placed, "ledger")
    if scheme.time.from_ is not None:
        ledger = ledger.where(sql("placed_on >= :d", d=day_literal(scheme.time.from_)), copy=False)
    return ledger


def lines_there(orders: Read) -> "pd.DataFrame":
    """``ledger.order_lines`` as a DataFrame of Spark, in no order."""
    assert isinstance(orders.engine, Cluster)
    frame: Any = orders.engine.frame(lines_query(orders))
    return frame  # type: ignore[no-any-return]


def line_keys(orders: Read, lines: exp.Select) -> tuple[str, ...]:
    """What the lines are in order of."""
    keys = ["placed_on", "customer", *(["order"] if orders.rows.has_orders else []), "line_amount"]
    ours = names(ORDER_LINES)
    return (*keys, *(n for n in lines.named_selects if n not in ours))


def lines_query(orders: Read) -> exp.Select:
    """The rows of ``ledger.order_lines``. Raises as that does."""
    require_lines(orders)
    scheme, ours = orders.scheme, names(ORDER_LINES)
    lines = used_lines(orders.history)
    own = [n for n in lines.named_selects if n not in ("customer", "order", "placed_on", "amount")]
    whole: exp.Expr = column("amount")
    day: exp.Expr = column("placed_on")
    if orders.rows.has_orders:
        keys = [column("customer"), column("order")]
        whole, day = (exp.Window(this=sql(f), partition_by=keys) for f in ("SUM(amount)", "MIN(placed_on)"))
    placed = select(["*", named(whole, "whole"), named(day, "day")], lines, "used_rows")
    adds = sql(counted(scheme, '"whole"'))
    spent = exp.Window(this=sql("SUM(:a)", a=adds), partition_by=[column("customer")])
    totalled = select(["*", named(spent, "spent")], placed, "placed")
    trees: dict[str, exp.Expr] = {
        "customer": column("customer"), "order": column("order"), "placed_on": column("day"),
        "line_amount": units(column("amount"), scheme.money.decimals),
        "order_amount": units(column("whole"), scheme.money.decimals), "share_of_order": _share(column("whole")),
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
    """The ``amount`` of a row as a share of a whole; null where that is no more than 0."""
    return sql("CASE WHEN :w > 0 THEN CAST(amount AS DOUBLE) / CAST(:w AS DOUBLE) END", w=whole)


def _share_of_customer(adds: exp.Expr, order: exp.Expr) -> exp.Expr:
    """That of what the customer ``spent``; null, too, where the amount of the row's order does not count towards it."""
    return sql("CASE WHEN :a IS NOT NULL OR :o = 0 THEN :s END", a=adds, o=order, s=_share(column("spent")))

"""The orders of a cluster with their places in their customers' histories, worked out and kept there."""

from typing import TYPE_CHECKING, Any

from sqlglot import exp

from fairladder.book.read import Read
from fairladder.book.spend import counted
from fairladder.engine.cluster import Cluster
from fairladder.history.ledger import own_name
from fairladder.sqltree import column, day_literal, named, select, sql, units

if TYPE_CHECKING:
    import pandas as pd


def ledger_there(orders: Read) -> "pd.DataFrame":
    """``ledger.order_ledger`` as a DataFrame of Spark, in no order."""
    assert isinstance(orders.engine, Cluster)
    frame: Any = orders.engine.frame(ledger_query(orders))
    return frame  # type: ignore[no-any-return]


def ledger_keys(orders: Read) -> tuple[str, ...]:
    """What the ledger is in order of: to the last column where orders have no ids, so that equal runs give equal files."""
    keys = ["placed_on", "customer", "order" if orders.rows.has_orders else "amount"]
    others = [] if orders.rows.has_orders else [n for n in ledger_query(orders).named_selects if n not in keys]
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
    share = sql(
        "CASE WHEN spent > 0 AND (:a IS NOT NULL OR amount = 0) THEN CAST(amount AS DOUBLE) / CAST(spent AS DOUBLE) END",
        a=adds,
    )
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

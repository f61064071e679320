"""The measures of customers (section 2 of the definitions) as trees over whole numbers in an
engine.

Every average and ratio is one division of whole numbers that floats represent exactly.
"""

from collections.abc import Collection

from sqlglot import exp

from fairladder.book.measures import NAMES, OPTIONAL
from fairladder.errors import UsageError
from fairladder.sqltree import column, named, sql, units

COUNTS = ("orders", "refunds", "zero_orders", "lines", "spend")


def measures(
    there: Collection[str],
    today: exp.Expr,
    positive: exp.Expr,
    held_from: exp.Expr,
    rank: exp.Expr,
    decimals: int,
) -> list[exp.Expr]:
    """Return the columns of the customers table, named and in order, over ``COUNTS`` and the first,
    last, smallest and largest order.

    ``there`` are the optional text columns. ``today`` is the as-of date, ``positive`` the sum of
    all positive spend, ``held_from`` the part of it from customers with at least this spend,
    ``rank`` the place by spend. Raises UsageError for a registered measure without a tree, so that
    none is dropped silently.
    """
    whole = sql("NULLIF(:p, 0)", p=positive)
    bought, twice = sql("orders > 0"), sql("orders > 1")
    span, recency = (
        _days(column("last_order"), column("first_order")),
        _days(today, column("last_order")),
    )

    def where(test: exp.Expr, tree: exp.Expr) -> exp.Expr:
        return sql("CASE WHEN :t THEN :x END", t=test, x=tree)

    trees: dict[str, exp.Expr] = {
        n: column(n)
        for n in NAMES
        if n in {"customer", *COUNTS, "first_order", "last_order", *there}
    }
    trees |= {
        "recency_days": where(bought, recency),
        "tenure_days": where(bought, _days(today, column("first_order"))),
        "spend": units(column("spend"), decimals),
        "average_order_value": where(bought,
        _ratio(column("spend"), sql("orders * :s", s=10**decimals))),
        "smallest_order": where(bought, units(column("smallest_order"), decimals)),
        "largest_order": where(bought, units(column("largest_order"), decimals)),
        "average_gap_days": where(twice, _ratio(span, sql("orders - 1"))),
        "overdue_ratio": where(
            sql("orders > 1 AND :s <> 0", s=span), _ratio(sql(":r * (orders - 1)", r=recency), span)
        ),
        "spend_share": sql("CASE WHEN spend > 0 THEN :r ELSE 0.0e0 END",
        r=_ratio(column("spend"), whole)),
        "spend_share_running": sql(
            "CASE WHEN spend > 0 THEN :r WHEN :p > 0 THEN 1.0e0 ELSE 0.0e0 END",
            r=_ratio(held_from, whole), p=positive
        ),
        "spend_rank": rank,
    }  # fmt: skip
    for name in NAMES:
        if name not in trees and name not in OPTIONAL:
            raise UsageError(f"`{name}` cannot be computed on a cluster or as SQL.")
    return [named(trees[n], n) for n in NAMES if n in trees]


def _days(later: exp.Expr, earlier: exp.Expr) -> exp.Expr:
    """Return the days from one date to another."""
    return exp.DateDiff(this=later, expression=earlier, unit=exp.var("DAY"))


def _ratio(top: exp.Expr, bottom: exp.Expr) -> exp.Expr:
    """Divide whole numbers that floats represent exactly."""
    return sql("CAST(:a AS DOUBLE) / CAST(:b AS DOUBLE)", a=exp.paren(top), b=exp.paren(bottom))

"""What the findings ask of customers that stay on a cluster."""

from fractions import Fraction
from typing import TYPE_CHECKING, Any

from numpy.typing import NDArray
from sqlglot import exp

from fairladder.book.balance import BLANK
from fairladder.book.people import People
from fairladder.book.read import Read
from fairladder.cluster.counting import counts_for_cuts
from fairladder.cluster.customers import whole_numbers
from fairladder.ladder.ranks import even_ranks
from fairladder.scores.fairness import fairness_of_counts
from fairladder.sqltree import column, day_literal, named, select, sql, units

if TYPE_CHECKING:
    import pandas as pd


def people_there(orders: Read, currency: str | None = None) -> People:
    """The customers in the cluster; with ``currency`` those who have orders in it, and what these come to, without a customers file."""
    groups = orders.kept_groups
    assert groups is not None
    members = orders.members if currency is None else None
    query = whole_numbers(orders.engine, groups, members)
    if currency is not None:
        own = exp.Literal.string(currency)
        query = query.where(sql("currency IS NULL") if currency == BLANK else sql("currency = :c", c=own), copy=False)
    has_names = "name" in groups.columns or (members is not None and "name" in members.frame)
    kept = orders.engine.keep(query)
    return People(orders.engine, kept, has_names, members is not None, orders.scheme.money.decimals)


def ties_there(orders: Read) -> "pd.DataFrame | None":
    """``fairness.fairness_of`` from how often each value occurs; None where nobody has a purchase."""
    groups, rungs, decimals = orders.kept_groups, orders.scheme.scores.rungs, orders.scheme.money.decimals
    assert groups is not None
    buyers = select(["*"], groups.used(), "used").where(sql("orders > 0"), copy=False)
    n = int(orders.engine.table(select([named(sql("COUNT(*)"), "n")], buyers, "buyers"))["n"][0].as_py())
    if not n or orders.as_of is None:
        return None
    recency = exp.DateDiff(this=day_literal(orders.as_of), expression=column("last_order"), unit=exp.var("DAY"))
    measures = {"recency_days": recency, "orders": column("orders"), "spend": units(column("spend"), decimals)}
    places = even_ranks(n, rungs)
    also = [*places, *(n - at for at in places), *((n - 1) * j // rungs for j in range(1, rungs))]
    shares = [Fraction(j, rungs) for j in range(1, rungs)]
    counted: dict[str, tuple[NDArray[Any], NDArray[Any]]] = {}
    for measure, tree in measures.items():
        valued = select([named(tree, "value")], buyers, "buyers")
        found = counts_for_cuts(orders.engine, valued, shares, even=True, also=also)
        counted[measure] = (found.values, found.counts)
    return fairness_of_counts(counted, orders.scheme)

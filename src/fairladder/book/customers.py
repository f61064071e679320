"""Build the customers table in an engine: whole numbers first, then the measures of section 2 of
the definitions.
"""

import datetime as dt
from collections.abc import Collection
from typing import TYPE_CHECKING

import pyarrow as pa
from sqlglot import exp

from fairladder.book.kept_groups import KeptGroups
from fairladder.book.measure_trees import COUNTS, measures
from fairladder.book.people import IN_FILE
from fairladder.book.standing import percentiles, standing
from fairladder.columns import better
from fairladder.engine.protocol import CustomerEngine
from fairladder.sqltree import column, day_literal, named, select, sql

if TYPE_CHECKING:
    from fairladder.book.read import Read

#: Columns for customers with a purchase, computed on request by the pass that ranks by spend.
RANKED, SPEND = ("percentile", "percent_rank"), "spend"
_ORDERS = ("smallest_order", "largest_order", "first_order", "last_order")


def customers_query(orders: "Read", ranked: bool = False) -> exp.Select:
    """Return one row per customer, unordered, with the columns of ``Orders.customers`` and, on
    request, ``RANKED``.

    Raises DataError if amounts are too large for floats.
    """
    orders.groups.require_exact(orders.scheme.money.decimals)
    return measured_customers(orders, orders.base, orders.groups, ranked)


def measured_customers(
    orders: "Read", base: exp.Expr, groups: KeptGroups, ranked: bool = False
) -> exp.Select:
    """Return the customers from whole numbers kept in ``base``; ``groups`` has their total positive
    spend.
    """
    members, decimals = orders.members, orders.scheme.money.decimals
    theirs = members.table.column_names if members is not None else []
    there = {"name", "only_channel"} & {*groups.columns, *theirs}
    carried = [n for n in theirs if n not in ("customer", "name")]
    measured = _measured(groups, base, orders.as_of, decimals, there, carried, ranked)
    cells = orders.carried(measured.named_selects)
    if cells is None:
        return measured
    parts = [exp.Column(this=exp.Star(), table=exp.to_identifier("measured"))]
    parts += [column(name) for name in cells.named_selects[1:]]
    both = select(parts, measured, "measured")
    # Intermediate columns have names of their own, since a database recognises dates by ours.
    carried_over = {name: f"of {name}" for name in cells.named_selects[1:]}
    renamed_cells = [named(column(name), of) for name, of in carried_over.items()]
    handed = orders.engine.hand_over(
        select([column("customer"), *renamed_cells], cells, "carried"), keep=False
    )
    back = [named(column(of), name) for name, of in carried_over.items()]
    renamed = select([column("customer"), *back], handed).subquery("cells", copy=False)
    return both.join(renamed, using=["customer"], join_type="left", copy=False)


def whole_numbers(groups: KeptGroups, members: pa.Table | None) -> exp.Select:
    """Return customers with whole numbers and dates. With members, include those without orders
    (counts of 0) and a column for membership.
    """
    text = [n for n in ("name", "only_channel") if n in groups.columns]
    types = (
        dict.fromkeys(_ORDERS[:2], "BIGINT")
        | dict.fromkeys(_ORDERS[2:], "DATE")
        | dict.fromkeys(text, "VARCHAR")
    )
    trees: dict[str, exp.Expr] = {"customer": column("customer")}
    trees |= {n: sql("COALESCE(CAST(:c AS BIGINT), 0)", c=column(n)) for n in COUNTS}
    trees |= {n: exp.cast(column(n), type_) for n, type_ in types.items()}
    used = select([named(t, n) for n, t in trees.items()], groups.used(), "used")
    if members is None:
        return used
    renamed_members = members.rename_columns([_of_member(n) for n in members.column_names])
    offered = exp.alias_(groups.engine.offer(renamed_members), "members", table=True)
    mine = column(_of_member("customer"))
    sides: dict[str, exp.Expr] = {"customer": sql("COALESCE(customer, :m)", m=mine)}
    sides |= {n: sql("COALESCE(:c, 0)", c=column(n)) for n in COUNTS} | {
        n: column(n) for n in (*_ORDERS, *text)
    }
    if "name" in members.column_names:
        own = column(_of_member("name"))
        sides["name"] = sql("COALESCE(:a, name)", a=own) if "name" in text else own
    sides |= {
        n: column(_of_member(n)) for n in members.column_names if n not in ("customer", "name")
    }
    sides[IN_FILE] = sql(":m IS NOT NULL", m=mine)
    joined = select([named(t, n) for n, t in sides.items()], used, "used")
    return joined.join(offered, on=sql("customer = :m", m=mine), join_type="full", copy=False)


def _of_member(name: str) -> str:
    """Return the internal name of a customers file's column."""
    return f"of member {name}"


def _measured(
    groups: KeptGroups,
    base: exp.Expr,
    as_of: dt.date | None,
    decimals: int,
    there: Collection[str],
    carried: list[str],
    ranked: bool,
) -> exp.Select:
    """Compute the measures from the whole numbers kept in ``base``."""
    engine: CustomerEngine = groups.engine
    sums = {"customers": sql("1"), "held": sql("CASE WHEN spend > 0 THEN spend ELSE 0 END")}
    if ranked:
        sums["buyers"] = sql("CASE WHEN orders > 0 THEN 1 ELSE 0 END")
    spends = standing(engine, base, column(SPEND), sums)
    today = day_literal(as_of or dt.date(1970, 1, 1))
    counted = exp.Select().select(sql("COUNT(*)")).from_(base).subquery()
    rank = sql("CAST(1 + :n - customers_below - customers_here AS BIGINT)", n=counted)
    held_from = sql(":p - held_below", p=groups.positive)
    made = measures(there, today, exp.convert(groups.positive), held_from, rank, decimals)
    columns = made + [column(n) for n in carried]
    if ranked:
        buyers = exp.Select().select(sql("COALESCE(SUM(buyers_here), 0)")).from_(spends).subquery()
        found = percentiles(column("buyers_below"), column("buyers_here"), buyers, better(SPEND))
        columns += [
            named(sql("CASE WHEN orders > 0 THEN :t END", t=t), n) for n, t in found.items()
        ]
    everything = select(columns, exp.alias_(base, "base", table=True))
    return everything.join(
        exp.alias_(spends, "spends", table=True), on=sql("base.spend = spends.value"), copy=False
    )

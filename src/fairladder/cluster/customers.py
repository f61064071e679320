"""The customers table of section 2 of the definitions as a query, over groups that stay on the cluster."""

import datetime as dt
from collections.abc import Collection

import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp

from fairladder.book.kept_groups import KeptGroups
from fairladder.book.measure_trees import COUNTS, measures
from fairladder.book.members import Members
from fairladder.book.people import IN_FILE
from fairladder.book.read import Read
from fairladder.cluster.standing import percentiles, standing
from fairladder.columns import better
from fairladder.engine.protocol import Engine
from fairladder.sqltree import column, day_literal, named, select, sql

#: Those with a purchase have these by their spend, where they are asked for, from the pass that ranks by spend.
RANKED, SPEND = ("percentile", "percent_rank"), "spend"


def customers_query(orders: Read, ranked: bool = False) -> exp.Select:
    """One row per customer, in no order, with the columns of ``Orders.customers`` and, where they are asked for, ``RANKED``.

    Raises DataError as that does, and where amounts are too large for floats.
    """
    orders.require_fit()
    groups = orders.kept_groups
    assert groups is not None
    decimals = orders.scheme.money.decimals
    groups.require_exact(decimals)
    base = orders.engine.keep(whole_numbers(orders.engine, groups, orders.members))
    theirs = [str(n) for n in orders.members.frame] if orders.members else []
    there = {"name", "only_channel"} & {*groups.columns, *theirs}
    carried = [n for n in theirs if n not in ("customer", "name")]
    measured = _measured(orders.engine, base, groups.positive, orders.as_of, decimals, there, carried, ranked)
    cells = orders.carried(measured.named_selects)
    if cells is None:
        return measured
    parts = [exp.Column(this=exp.Star(), table=exp.to_identifier("measured"))]
    parts += [column(name) for name in cells.named_selects[1:]]
    both = select(parts, measured, "measured")
    return both.join(cells.subquery("cells", copy=False), using=["customer"], join_type="left", copy=False)


def whole_numbers(engine: Engine, groups: KeptGroups, members: Members | None) -> exp.Select:
    """Customers with whole numbers and days; with members, those without orders too, with counts of 0, and who is one of them."""
    text = [n for n in ("name", "only_channel") if n in groups.columns]
    zero = {n: sql("COALESCE(CAST(:c AS BIGINT), 0)", c=column(n)) for n in COUNTS}
    plain = ("smallest_order", "largest_order", "first_order", "last_order", *text)
    trees = {"customer": column("customer"), **zero, **{n: column(n) for n in plain}}
    used = select([named(t, n) for n, t in trees.items()], groups.used(), "used")
    if members is None:
        return used
    offered = engine.offer(
        _with_days(pa.Table.from_pandas(members.frame.rename(columns=_of_member), preserve_index=False))
    )
    sides: dict[str, exp.Expr] = {"customer": sql("COALESCE(customer, :m)", m=column(_of_member("customer")))}
    sides |= {n: sql("COALESCE(:c, 0)", c=column(n)) for n in COUNTS} | {n: column(n) for n in plain}
    if "name" in members.frame:
        own = column(_of_member("name"))
        sides["name"] = sql("COALESCE(:a, name)", a=own) if "name" in text else own
    carried = [str(n) for n in members.frame if n not in ("customer", "name")]
    sides |= {n: column(_of_member(n)) for n in carried}
    sides[IN_FILE] = sql(":m IS NOT NULL", m=column(_of_member("customer")))
    joined = select([named(t, n) for n, t in sides.items()], used, "used")
    on = sql("customer = :m", m=column(_of_member("customer")))
    return joined.join(exp.alias_(offered, "members", table=True), on=on, join_type="full", copy=False)


def _with_days(table: pa.Table) -> pa.Table:
    """The table with its days as days, which pandas does not have."""
    for i, field in enumerate(table.schema):
        if pa.types.is_timestamp(field.type) and field.type.tz is None:
            days = table[i].cast(pa.date32(), safe=False)
            if pc.all(pc.equal(days.cast(field.type), table[i])).as_py() is not False:
                table = table.set_column(i, field.name, days)
    return table


def _of_member(name: str) -> str:
    """What a column of the customers file is called beside those of the orders."""
    return f"of member {name}"


def _measured(
    engine: Engine,
    base: exp.Expr,
    positive: int,
    as_of: dt.date | None,
    decimals: int,
    there: Collection[str],
    carried: list[str],
    ranked: bool,
) -> exp.Select:
    """The measures of whole numbers kept in ``base``."""
    sums = {"customers": sql("1"), "held": sql("CASE WHEN spend > 0 THEN spend ELSE 0 END")}
    if ranked:
        sums["buyers"] = sql("CASE WHEN orders > 0 THEN 1 ELSE 0 END")
    spends = standing(engine, base, column(SPEND), sums)
    today = day_literal(as_of or dt.date(1970, 1, 1))
    counted = exp.Select().select(sql("COUNT(*)")).from_(base).subquery()
    rank = sql("1 + :n - customers_below - customers_here", n=counted)
    held_from = sql(":p - held_below", p=positive)
    made = measures(there, today, exp.convert(positive), held_from, rank, decimals)
    columns = made + [column(n) for n in carried]
    if ranked:
        buyers = exp.Select().select(sql("COALESCE(SUM(buyers_here), 0)")).from_(spends).subquery()
        found = percentiles(column("buyers_below"), column("buyers_here"), buyers, better(SPEND))
        columns += [named(sql("CASE WHEN orders > 0 THEN :t END", t=t), n) for n, t in found.items()]
    everything = select(columns, exp.alias_(base, "base", table=True))
    return everything.join(exp.alias_(spends, "spends", table=True), on=sql("base.spend = spends.value"), copy=False)

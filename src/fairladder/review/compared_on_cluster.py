"""Who moved between two days, of customers that stay on a cluster: they are joined and counted there."""

import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from typing import Any

import pandas as pd
from sqlglot import exp

from fairladder.book.read import MOST_HERE, Read
from fairladder.cluster.frames import brought
from fairladder.cluster.passing import passing
from fairladder.cluster.scoring import Scored
from fairladder.cluster.yardsticks import drift_there
from fairladder.errors import DataError
from fairladder.numbers import EXACT_DECIMALS
from fairladder.review.comparison import (
    GONE,
    NEW,
    Comparison,
    Paths,
    Yardstick,
    change_of_spend,
    flows_table,
    nobody_by,
    paths_of,
    rungs_table,
    since_of,
    sizes_of,
)
from fairladder.scheme import Scheme
from fairladder.scores.fitting import SCORES, AnyLadder
from fairladder.sqltree import column, day_literal, named, select, sql
from fairladder.value.to_score import forecast_notes, scored_there

#: So many of those who moved come here; of more than these as many from each end of the table.
MOST_MOVERS = MOST_HERE
_UNIT = 10**EXACT_DECIMALS


def compared_there(before: Read, after: Read, first: dt.date, last: dt.date, yardstick: Yardstick) -> Comparison:
    """``comparison.compare`` of two readings; of more than ``MOST_MOVERS`` movers those who rose and fell the most, said in a note.

    Raises DataError where nobody had a purchase by the earlier day.
    """
    with passing(after.engine):
        return _compared(before, after, first, last, yardstick)


def _compared(before: Read, after: Read, first: dt.date, last: dt.date, yardstick: Yardstick) -> Comparison:
    engine, scheme = after.engine, after.scheme
    was = _scored(before, first, None)
    now = scored_there(after, ladders=was.ladders if yardstick == "then" else None)
    both = engine.keep(_both(_there(was, first), _there(now, last), scheme, now.kinds))
    ladders = [*SCORES, *scheme.tiers]
    late = exp.In(this=column("stance_before"), expressions=[exp.convert("win-back"), exp.convert("leave")])
    returned = select([named(sql("COUNT(*)"), "n")], both).where(late, sql("orders_after > orders_before"), copy=False)
    movers, counts = _movers(after, both)
    parts, notes = change_of_spend(after, first, last)
    notes += forecast_notes(after)
    if counts["moved"] > len(movers):
        notes.append(
            f"Of {counts['moved']:,} customers in another segment {len(movers):,} were brought here, those whose scores rose and fell the "
            "most; the counts are of all."
        )
    return Comparison(
        flows_table(_summed(after, both, {"from_segment": "segment_before", "to_segment": "segment_after"}), scheme),
        rungs_table(pd.concat([_rungs(after, both, name) for name in ladders], ignore_index=True), scheme),
        movers, parts, drift_there(was.ladders, now), first, last,
        int(engine.table(returned)["n"][0].as_py()), counts["rose"], counts["fell"], tuple(notes),
    )  # fmt: skip


def _scored(orders: Read, day: dt.date, ladders: Mapping[str, AnyLadder] | None) -> Scored:
    """Scored as of a day. Raises DataError where nobody has a purchase by then."""
    if orders.kept_groups is None or not orders.kept_groups.customers:
        raise DataError(nobody_by(day))
    return scored_there(orders, ladders=ladders)


def _there(people: Scored, day: dt.date) -> exp.Select:
    """Customers who had a row by that day, and members of the customers file, unless they joined it later."""
    rows, since = select(["*"], people.relation), since_of(people.scheme, people.kinds)
    if since is None:
        return rows
    joined = sql("orders + refunds + zero_orders > 0 OR :s IS NULL OR :s <= :d", s=column(since), d=day_literal(day))
    return rows.where(joined, copy=False)


def _both(was: exp.Select, now: exp.Select, scheme: Scheme, columns: Collection[str]) -> exp.Select:
    """One row per customer of either day, what each day says of them side by side."""
    names = ["segment", "stance", "spend", "orders", "score_total", *SCORES, *scheme.tiers]
    trees: dict[str, exp.Expr] = {"customer": sql("COALESCE(was.customer, later.customer)")}
    for side, table, absent in (("before", "was", NEW), ("after", "later", GONE)):
        for name in names:
            cell = exp.column(name, table, quoted=True)
            missing = exp.convert(absent)
            trees[f"{name}_{side}"] = sql("COALESCE(:c, :m)", c=cell, m=missing) if name == "segment" else cell
    if "name" in columns:
        trees["name"] = exp.column("name", "later", quoted=True)
    joined = select([named(tree, n) for n, tree in trees.items()], was, "was")
    return joined.join(
        now.subquery("later", copy=False), on=sql("was.customer = later.customer"), join_type="full", copy=False
    )


def _summed(orders: Read, both: exp.Expr, keys: Mapping[str, str]) -> pd.DataFrame:
    """Customers and spends of both days for each combination of the keys (name → column)."""
    trees = {"customers": sql("COUNT(*)"), **{f"spend_{s}": _spend(f"spend_{s}") for s in ("before", "after")}}
    columns = [*(named(column(c), n) for n, c in keys.items()), *(named(t, n) for n, t in trees.items())]
    query = select(columns, both).group_by(*(column(c) for c in keys.values()), copy=False)
    return brought(orders, query)


def _rungs(orders: Read, both: exp.Expr, ladder: str) -> pd.DataFrame:
    table = _summed(orders, both, {"from_rung": f"{ladder}_before", "to_rung": f"{ladder}_after"})
    return table.astype({"from_rung": object, "to_rung": object}).assign(ladder=ladder)[["ladder", *table.columns]]


def _movers(orders: Read, both: exp.Expr) -> tuple[pd.DataFrame, dict[str, int]]:
    """``Comparison.movers``, and how many ``moved``, ``rose`` and ``fell`` of all."""
    change = sql("score_total_after - score_total_before")
    trees = {
        "customer": column("customer"), **({"name": column("name")} if "name" in orders.engine.columns(both) else {}),
        "from_segment": column("segment_before"), "to_segment": column("segment_after"),
        "score_before": column("score_total_before"), "score_after": column("score_total_after"), "change": change,
        **{f"{what}_{side}": column(f"{what}_{side}") for what in ("spend", "orders") for side in ("before", "after")},
    }  # fmt: skip
    query = select([named(tree, n) for n, tree in trees.items()], both)
    movers = query.where(sql("segment_before <> segment_after"), copy=False)
    known = {"moved": "1 = 1", "rose": "from_segment <> :n AND change > 0", "fell": "from_segment <> :n AND change < 0"}
    tests = {n: sql(f"COUNT(CASE WHEN {test} THEN 1 END)", n=exp.convert(NEW)) for n, test in known.items()}
    counted = select([named(tree, n) for n, tree in tests.items()], movers, "movers")
    counts = {n: int(v) for n, v in orders.engine.table(counted).to_pylist()[0].items()}
    found = _first(orders, movers, falling=True)
    if counts["moved"] > MOST_MOVERS:
        fell = select(["*"], movers, "movers").where(sql("change < 0"), copy=False)
        found = pd.concat([found, _first(orders, fell, falling=False)]).drop_duplicates("customer")
        order = ["change", "spend_after", "customer"]
        found = found.sort_values(order, ascending=[False, False, True], ignore_index=True)
    return found, counts


def _first(orders: Read, movers: exp.Select, falling: bool) -> pd.DataFrame:
    """The first of the movers, from those who rose the most down, or else from those who fell the most up."""
    order: list[exp.Expr] = [
        exp.Ordered(this=column("change"), desc=falling, nulls_first=False),
        exp.Ordered(this=column("spend_after"), desc=True, nulls_first=False), column("customer"),
    ]  # fmt: skip
    query = select(["*"], movers, "movers").order_by(*order, copy=False).limit(MOST_MOVERS, copy=False)
    whole = dict.fromkeys(("score_before", "score_after", "change", "orders_before", "orders_after"), "Int64")
    return brought(orders, query).astype(whole)


# ------------------------------------------------------------------------------------------------------ several days


def paths_there(orders: Read, days: Sequence[dt.date]) -> Paths:
    """``comparison.paths`` over these days. Raises DataError where nobody had a purchase by the first."""
    with passing(orders.engine):
        return _walked(orders, days)


def _walked(orders: Read, days: Sequence[dt.date]) -> Paths:
    engine, scheme = orders.engine, orders.scheme
    ladders: Mapping[str, AnyLadder] | None = None
    sizes, steps = [], []
    for number, day in enumerate(days):
        people = _scored(orders.on(day), day, ladders)
        ladders = ladders or people.ladders
        columns = [column("customer"), column("segment"), column("spend"), named(exp.convert(number), "step")]
        with passing(engine) as last_there:
            there = last_there(engine.keep(select(columns, _there(people, day), "people")))
        held = engine.table(select([column("segment"), named(sql("COUNT(*)"), "customers"), named(_spend("spend"), "spend")], there)
                            .group_by(column("segment"), copy=False)).to_pylist()  # fmt: skip
        sizes.append(
            sizes_of({h["segment"]: h["customers"] for h in held}, {h["segment"]: h["spend"] for h in held}, scheme)
        )
        steps.append(there)
    rows: Any = select(["*"], steps[0])
    for step in steps[1:]:
        rows = exp.union(rows, select(["*"], step), distinct=False, copy=False)
    at = [
        sql("COALESCE(MAX(CASE WHEN step = :i THEN segment END), :n)", i=i, n=exp.convert(NEW))
        for i in range(len(days))
    ]
    path = at[0]
    for other in at[1:]:
        path = exp.DPipe(this=exp.DPipe(this=path, expression=exp.convert(" → ")), expression=other)
    last = sql("COALESCE(MAX(CASE WHEN step = :i THEN spend END), 0.0e0)", i=len(days) - 1)
    walked = (
        exp.Select()
        .select(named(path, "path"), named(last, "spend"), copy=False)
        .from_(rows.subquery("rows"), copy=False)
    )
    walked = walked.group_by(column("customer"), copy=False)
    counted = select(
        [column("path"), named(sql("COUNT(*)"), "customers"), named(_spend("spend"), "spend")], walked, "walked"
    )
    paths = orders.frame(counted.group_by(column("path"), copy=False))
    return paths_of(sizes, paths, days)


def _spend(name: str) -> exp.Expr:
    """A sum of money in whole units of its last place, as a float."""
    return sql("CAST(COALESCE(SUM(CAST(ROUND(:c * :u) AS BIGINT)), 0) AS DOUBLE) / :u", c=column(name), u=float(_UNIT))

"""Why customers of a cluster stand where they stand: their own rows come here, and how many stand below and beside them."""

from collections.abc import Sequence
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
from sqlglot import exp

from fairladder.book.read import Read
from fairladder.cluster.frames import brought
from fairladder.cluster.scoring import Scored, as_number
from fairladder.errors import DataError, UsageError
from fairladder.history.ledger import order_ledger
from fairladder.ladder import GroupedLadder, Ladder
from fairladder.review.explanation import Explanation, Standing, ladders_asked, rules_tried, standing_of
from fairladder.scheme import Tier
from fairladder.scores.fitting import group_labels, measure_values
from fairladder.sqltree import column, named, select, sql
from fairladder.value.to_score import scored_there


def explained_there(orders: Read, ids: Sequence[str]) -> list[Explanation]:
    """``explanation.explain`` without the changes, which would take everybody's values.

    Raises UsageError for an id that is not among the customers.
    """
    people = scored_there(orders)
    offered = exp.alias_(orders.engine.offer(pa.table({"id": pa.array(ids, pa.string())})), "asked", table=True)
    rows = select(["people.*"], exp.alias_(people.relation, "people", table=True))
    frame = brought(orders, rows.join(offered, on="asked.id = people.customer", copy=False))
    there = frame.set_index("customer", drop=False)
    for one in ids:
        if one not in there.index:
            raise UsageError(
                f"There is no customer `{one}`. Ids are as they are written in the orders, zeros included."
            )
    ledger = order_ledger(orders, customers=ids)
    assert orders.as_of is not None
    explained = []
    for one in ids:
        row = there.loc[[one]].reset_index(drop=True)
        own = ledger[ledger["customer"] == one].reset_index(drop=True)
        name = row["name"].iloc[0] if "name" in row else None
        stands = _standings(people, row) if int(row["orders"].iloc[0]) > 0 else ()
        explained.append(
            Explanation(
                one, None if pd.isna(name) else str(name), orders.as_of, str(row["segment"].iloc[0]),
                str(row["stance"].iloc[0]), stands, tuple(rules_tried(row, orders.scheme)), (), own,
            )
        )  # fmt: skip
    return explained


def of_segment(orders: Read, segment: str, count: int) -> list[str]:
    """Ids of a segment, the most spend first. Raises DataError where it holds nobody."""
    people = scored_there(orders)
    held = select([column("customer")], people.relation)
    held = held.where(sql("segment = :s", s=exp.Literal.string(segment)), copy=False)
    ids = orders.engine.table(held.order_by("spend DESC", column("customer"), copy=False).limit(count, copy=False))
    if not len(ids):
        raise DataError(f"Segment {segment} holds nobody, so there is nobody to explain.")
    return [str(c) for c in ids["customer"].to_pylist()]


def _standings(people: Scored, row: pd.DataFrame) -> tuple[Standing, ...]:
    found = []
    for name, measure, tier in ladders_asked(people.scheme):
        ladder, peers = people.ladders[name], [sql("orders > 0")]
        if isinstance(ladder, GroupedLadder):
            group = group_labels(row, ladder.within)[0]
            cell = exp.cast(column(ladder.within), "VARCHAR")
            peers.append(
                sql(":c IS NULL", c=cell) if group is None else sql(":c = :g", c=cell, g=exp.convert(str(group)))
            )
            if group not in ladder.ladders:
                continue
            ladder = ladder.ladders[group]
        if (one := _standing(people, row, name, measure, tier, ladder, peers)) is not None:
            found.append(one)
    return tuple(found)


def _standing(
    people: Scored, row: pd.DataFrame, name: str, measure: str, tier: Tier | None, ladder: Ladder, peers: list[exp.Expr]
) -> Standing | None:
    values = measure_values(row, measure)
    if int(ladder.place(values)[0]) == 0:
        return None
    number: Any = values.astype(np.int64)[0] if ladder.days else values[0]
    value, own = as_number(measure, people.kinds), exp.cast(exp.convert(number.item()), "DOUBLE")
    counts = {
        "below": sql("COUNT(CASE WHEN :v < :x THEN 1 END)", v=value, x=own),
        "same": sql("COUNT(CASE WHEN :v = :x THEN 1 END)", v=value, x=own),
        "among": sql("COUNT(*)"), "known": sql("COUNT(:v)", v=value),
    }  # fmt: skip
    query = select([named(tree, n) for n, tree in counts.items()], people.relation).where(*peers, copy=False)
    n = people.engine.table(query).to_pylist()[0]
    worse = n["below"] if ladder.better == "high" else n["known"] - n["below"] - n["same"]
    # Ties count half, as in `ladder.percentile`.
    stand = (200 * worse + 100 * n["same"]) / (2 * n["known"])
    return standing_of(name, measure, tier, ladder, number, stand, n["same"], n["among"])

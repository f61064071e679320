"""Summaries of scored customers: segments, tiers, and the effect of each rule."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from sqlglot import exp

from fairladder import columns
from fairladder.conditions import parse_condition, to_engine
from fairladder.engine.protocol import CustomerEngine
from fairladder.numbers import EXACT_DECIMALS, ratio
from fairladder.scheme import Scheme, Segment
from fairladder.scores.scored import Scored
from fairladder.sqltree import column, named, select, sql

if TYPE_CHECKING:
    import pandas as pd


def segment_summary(scored: Scored) -> pd.DataFrame:
    """Return the table of ``fairladder.segment_summary``."""
    stances = {s.name: str(s.stance) for s in scored.scheme.segments}
    return segments_of(scored.engine, scored.relation, stances)


def segments_of(
    engine: CustomerEngine, relation: exp.Expr, stances: Mapping[str, str | None]
) -> pd.DataFrame:
    """Return the summary of the segments in ``stances``, in their order, from scored customers in
    ``relation``.
    """
    names = list(stances)
    sums = _by(engine, relation, "segment", names)
    days = engine.table(_counts_of(relation, "segment", "recency_days"))
    medians = np.array([_median(days, name) for name in names])
    return summary_of(names, stances, sums["customers"], sums["spend"], sums["orders"], medians)


def summary_of(
    names: Sequence[str], stances: Mapping[str, str | None], counts: NDArray[np.int64],
    spend: NDArray[np.int64],
    bought: NDArray[np.int64], recency: NDArray[Any],
) -> pd.DataFrame:  # fmt: skip
    """Return the table of ``segment_summary`` from the segments' sums, each of shape (segments,);
    spend in units of 10^-4.
    """
    import pandas as pd

    return pd.DataFrame(
        {
            "segment": list(names),
            "stance": [stances.get(name) for name in names],
            "customers": counts,
            "customer_share": ratio(counts, int(counts.sum())),
            "spend": ratio(spend, 10**EXACT_DECIMALS),
            "spend_share": ratio(spend, int(spend.sum())),
            "orders": bought,
            "median_recency_days": recency,
            "average_order_value": ratio(spend, bought * 10**EXACT_DECIMALS),
        }
    )


def tier_summary(scored: Scored) -> pd.DataFrame:
    """Return the table of ``fairladder.tier_summary``."""
    return tiers_of_relation(scored.engine, scored.relation, scored.scheme)


def tiers_of_relation(engine: CustomerEngine, relation: exp.Expr, scheme: Scheme) -> pd.DataFrame:
    """Return the tier summary from customers with tiers in ``relation``."""
    tables = []
    for name, tier in scheme.tiers.items():
        sums = _by(engine, relation, name, tier.names())
        tables.append(tier_of(name, tier.names(), sums["customers"], sums["spend"]))
    import pandas as pd

    return (
        pd.concat(tables, ignore_index=True)
        if tables
        else pd.DataFrame(columns=list(columns.names(columns.TIERS)))
    )


def tier_of(
    name: str, labels: Sequence[str], counts: NDArray[np.int64], spend: NDArray[np.int64]
) -> pd.DataFrame:
    """Return the rows of ``tier_summary`` for one ladder, from the tiers' sums; spend in units of
    10^-4.
    """
    shares = {
        "customer_share": ratio(counts, int(counts.sum())),
        "spend": ratio(spend, 10**EXACT_DECIMALS),
    }
    shares["spend_share"] = ratio(spend, int(spend.sum()))
    import pandas as pd

    return pd.DataFrame({"tier": name, "label": list(labels), "customers": counts, **shares})


def rule_coverage(scored: Scored) -> pd.DataFrame:
    """Return the table of ``scores.rule_coverage``."""
    segments = scored.scheme.segments
    holds = [_holds(scored, s) for s in segments]
    each = [sql("COUNT(CASE WHEN :h THEN 1 END)", h=tree) for tree in holds]
    placed = [
        sql("COUNT(CASE WHEN segment = :n THEN 1 END)", n=exp.Literal.string(s.name))
        for s in segments
    ]
    trees = [
        *(named(t, f"holds {i}") for i, t in enumerate(each)),
        *(named(t, f"placed {i}") for i, t in enumerate(placed)),
    ]
    counts = scored.engine.table(
        select([*trees, named(sql("COUNT(*)"), "all")], scored.relation)
    ).to_pylist()[0]
    waiting, lines = int(counts["all"]), []
    for i, segment in enumerate(segments):
        here = int(counts[f"placed {i}"])
        shadowed = 0 if segment.otherwise else int(counts[f"holds {i}"]) - here
        lines.append((segment.name, segment.when or "otherwise", here, shadowed, waiting > 0))
        waiting -= here
    import pandas as pd

    return pd.DataFrame(lines, columns=["segment", "condition", "placed", "shadowed", "reached"])


def _holds(scored: Scored, segment: Segment) -> exp.Expr:
    if segment.when is None:
        return exp.true()
    own = scored.own_names
    kinds = {**scored.kinds, **{n: scored.kinds[ours] for n, ours in own.items()}}
    cells = {name: column(own.get(name, name)) for name in kinds}
    return to_engine(parse_condition(segment.when, kinds, f"segment `{segment.name}`"), cells)


def _by(
    engine: CustomerEngine, relation: exp.Expr, name: str, labels: Sequence[str]
) -> Mapping[str, NDArray[np.int64]]:
    """Return customers, orders and spend (in units of 10^-4) for each label, shape (labels,), as
    exact whole numbers.
    """
    trees = {
        "customers": sql("COUNT(*)"),
        "orders": sql("SUM(orders)"),
        "spend": sql("SUM(CAST(ROUND(spend * :u) AS BIGINT))", u=float(10**EXACT_DECIMALS)),
    }
    query = select(
        [named(column(name), "label"), *(named(t, n) for n, t in trees.items())], relation
    )
    rows = engine.table(query.group_by(column(name), copy=False)).to_pylist()
    found = {r["label"]: r for r in rows}
    return {
        n: np.array(
            [int(found[label][n] or 0) if label in found else 0 for label in labels], dtype=np.int64
        )
        for n in trees
    }


def _counts_of(relation: exp.Expr, label: str, measure: str) -> exp.Select:
    keys = [column(label), column(measure)]
    counted = select(
        [named(keys[0], "label"), named(keys[1], "value"), named(sql("COUNT(*)"), "n")], relation
    )
    return counted.where(sql(":m IS NOT NULL", m=keys[1]), copy=False).group_by(*keys, copy=False)


def _median(counts: pa.Table, label: str) -> float:
    """Return the median of values with these frequencies; NaN without values."""
    own = sorted((r["value"], r["n"]) for r in counts.to_pylist() if r["label"] == label)
    if not own:
        return float("nan")
    values, ends = [v for v, _ in own], np.cumsum([n for _, n in own])
    n = int(ends[-1])
    low, high = (
        values[int(np.searchsorted(ends, place, side="right"))] for place in ((n - 1) // 2, n // 2)
    )
    return float(low + high) / 2

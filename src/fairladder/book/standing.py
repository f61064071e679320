"""Count exactly how many customers have a smaller value.

A window function does it where the engine allows. Otherwise nothing is sorted in one place: values
are put into rising buckets, the buckets' sums come to this machine, and the workers count within
each bucket.
"""

from collections.abc import Mapping, Sequence

import numpy as np
import pyarrow as pa
from sqlglot import exp

from fairladder.engine.protocol import CustomerEngine
from fairladder.sqltree import column, named, select, sql

#: Buckets per doubling of the value.
_TO_A_DOUBLING = 32


def bucket_of(value: exp.Expr) -> exp.Expr:
    """Return the number of the bucket of a value; larger values are never in lower buckets."""
    size = sql("1 + FLOOR((LOG(2, ABS(:v)) + 1100) * :n)", v=value, n=_TO_A_DOUBLING)
    return sql(
        "CASE WHEN :v = 0 THEN 0 WHEN :v < 0 THEN -CAST(:s AS BIGINT) ELSE CAST(:s AS BIGINT) END",
        v=value, s=exp.paren(size),
    )  # fmt: skip


def standing(
    engine: CustomerEngine,
    rows: exp.Expr,
    value: exp.Expr,
    sums: Mapping[str, exp.Expr],
    part: exp.Expr | None = None,
) -> exp.Expr:
    """Return a kept table of the distinct values: ``value``, and for each sum ``NAME`` its total
    ``NAME_here`` over the rows of that value and ``NAME_below`` over those of all smaller values.
    ``sums`` are whole numbers per row; rows with a null value are ignored.

    With ``part`` (a text that is never null) each part is counted separately and is a column of the
    result.
    """
    names = list(sums)
    parts = [] if part is None else [column("part")]
    here = [named(sql("SUM(:t)", t=tree), f"{name}_here") for name, tree in sums.items()]
    keys = [value.copy()] if part is None else [value.copy(), part.copy()]
    own = [named(value, "value"), *([] if part is None else [named(part, "part")])]
    valued = select([*own, *here], rows).where(sql(":v IS NOT NULL", v=value), copy=False)
    valued = valued.group_by(*keys, copy=False)
    if engine.limits.windows:
        below = [
            named(
                sql(":w - :h", w=_so_far(f"{n}_here", parts), h=column(f"{n}_here")), f"{n}_below"
            )
            for n in names
        ]
        return engine.keep(select(["*", *below], valued, "valued"))
    distinct = engine.keep(
        select(["*", named(bucket_of(column("value")), "bucket")], valued, "valued")
    )
    totals = [named(sql("SUM(:t)", t=column(f"{n}_here")), n) for n in names]
    places = [*parts, column("bucket")]
    buckets = engine.table(
        select([*places, *totals], distinct)
        .group_by(*places, copy=False)
        .order_by(*places, copy=False)
    )
    before = {
        n: _before(_whole(buckets[n]), buckets["part"].to_pylist() if parts else None)
        for n in names
    }
    kept = {str(p.name): buckets[p.name] for p in places}
    offered = engine.offer(pa.table({**kept, **{f"{n}_before": before[n] for n in names}}))
    everything = exp.Column(this=exp.Star(), table=exp.to_identifier("distinct_values"))
    joined = select(
        [everything, *(column(f"{n}_before") for n in names)],
        exp.alias_(distinct, "distinct_values", table=True),
    )
    joined = joined.join(
        exp.alias_(offered, "before", table=True), using=[p.name for p in places], copy=False
    )
    below = [
        named(
            sql(
                ":b + :w - :h",
                b=column(f"{n}_before"),
                w=_so_far(f"{n}_here", places),
                h=column(f"{n}_here"),
            ),
            f"{n}_below",
        )
        for n in names
    ]
    return engine.keep(
        select(["value", *parts, *(column(f"{n}_here") for n in names), *below], joined, "joined")
    )


def percentiles(below: exp.Expr, equal: exp.Expr, n: exp.Expr, better: str) -> dict[str, exp.Expr]:
    """Return ``percentile`` and ``percent_rank`` of a value, as in ``ladder.ranks``, from the
    number of customers ``below`` and ``equal`` out of ``n``.
    """
    worse = below if better == "high" else sql("(:n - :b - :e)", n=n, b=below, e=equal)
    return {
        "percentile": sql(
            "CAST(200 * :w + 100 * :e AS DOUBLE) / CAST(2 * :n AS DOUBLE)", w=worse, e=equal, n=n
        ),
        "percent_rank": sql(
            "CASE WHEN :n > 1 THEN CAST(:w AS DOUBLE) / CAST(:n - 1 AS DOUBLE) ELSE 0.0e0 END",
            w=worse,
            n=n,
        ),
    }


def _before(
    sums: "np.ndarray[tuple[int], np.dtype[np.int64]]", parts: Sequence[str] | None
) -> "np.ndarray[tuple[int], np.dtype[np.int64]]":
    """Return the sum before each bucket, within its part if there are parts; rows of a part are
    adjacent.
    """
    before = np.cumsum(sums) - sums
    if parts is None or not len(sums):
        return before
    begins = np.array([i == 0 or parts[i] != parts[i - 1] for i in range(len(parts))])
    return np.asarray(before - before[begins][np.cumsum(begins) - 1])


def _so_far(name: str, places: Sequence[exp.Expr]) -> exp.Expr:
    """Return the sum over values up to and including this one, within the same ``places``."""
    return exp.Window(
        this=sql("SUM(:c)", c=column(name)),
        partition_by=[p.copy() for p in places],
        order=exp.Order(expressions=[exp.Ordered(this=column("value"))]),
        spec=exp.WindowSpec(
            kind="ROWS", start="UNBOUNDED", start_side="PRECEDING", end="CURRENT ROW"
        ),
    )


def _whole(values: pa.ChunkedArray) -> "np.ndarray[tuple[int], np.dtype[np.int64]]":
    return np.array([int(v) for v in values.to_pylist()], dtype=np.int64)

"""How many stand below each value, exactly, without sorting all of them in one place.

Values are put into buckets that rise with them. The buckets' sums are few and come here; what stands before each bucket goes
back, and within a bucket the executors count on by themselves.
"""

from collections.abc import Mapping

import numpy as np
import pyarrow as pa
from sqlglot import exp

from fairladder.engine.protocol import Engine
from fairladder.sqltree import column, named, select, sql

#: Buckets to a doubling of the value.
_TO_A_DOUBLING = 32


def bucket_of(value: exp.Expr) -> exp.Expr:
    """A whole number that never falls as the value rises, since Java's logarithm never does."""
    size = sql("1 + FLOOR((LOG(2, ABS(:v)) + 1100) * :n)", v=value, n=_TO_A_DOUBLING)
    return sql(
        "CASE WHEN :v = 0 THEN 0 WHEN :v < 0 THEN -CAST(:s AS BIGINT) ELSE CAST(:s AS BIGINT) END",
        v=value, s=exp.paren(size),
    )  # fmt: skip


def standing(engine: Engine, rows: exp.Expr, value: exp.Expr, sums: Mapping[str, exp.Expr]) -> exp.Expr:
    """A kept table of the distinct values: ``value``, and for each sum ``NAME`` its total ``NAME_here`` over the rows of that
    value and ``NAME_below`` over those of all smaller ones. ``sums`` are whole numbers of a row; null values are left out.
    """
    names = list(sums)
    here = [named(sql("SUM(:t)", t=tree), f"{name}_here") for name, tree in sums.items()]
    valued = select([named(value, "value"), *here], rows).where(sql(":v IS NOT NULL", v=value), copy=False)
    valued = valued.group_by(value.copy(), copy=False)
    distinct = engine.keep(select(["*", named(bucket_of(column("value")), "bucket")], valued, "valued"))
    totals = [named(sql("SUM(:t)", t=column(f"{n}_here")), n) for n in names]
    buckets = engine.table(
        select(["bucket", *totals], distinct).group_by("bucket", copy=False).order_by("bucket", copy=False)
    )
    before = {n: np.cumsum(_whole(buckets[n])) - _whole(buckets[n]) for n in names}
    offered = engine.offer(pa.table({"bucket": buckets["bucket"], **{f"{n}_before": before[n] for n in names}}))
    everything = exp.Column(this=exp.Star(), table=exp.to_identifier("distinct_values"))
    joined = select(
        [everything, *(column(f"{n}_before") for n in names)], exp.alias_(distinct, "distinct_values", table=True)
    )
    joined = joined.join(exp.alias_(offered, "before", table=True), using=["bucket"], copy=False)
    below = [
        named(sql(":b + :w - :h", b=column(f"{n}_before"), w=_so_far(f"{n}_here"), h=column(f"{n}_here")), f"{n}_below")
        for n in names
    ]
    return engine.keep(select(["value", *(column(f"{n}_here") for n in names), *below], joined, "joined"))


def _so_far(name: str) -> exp.Expr:
    """The sum over the values of the bucket up to and with this one."""
    return exp.Window(
        this=sql("SUM(:c)", c=column(name)),
        partition_by=[column("bucket")],
        order=exp.Order(expressions=[exp.Ordered(this=column("value"))]),
        spec=exp.WindowSpec(kind="ROWS", start="UNBOUNDED", start_side="PRECEDING", end="CURRENT ROW"),
    )


def _whole(values: pa.ChunkedArray) -> "np.ndarray[tuple[int], np.dtype[np.int64]]":
    return np.asarray(values.cast(pa.int64()).to_numpy(), dtype=np.int64)

"""Count the distinct values of a measure, to which a ladder is fitted.

If there are too many to bring here, only those are brought where a cut could be. All values are
counted in ranges. A range in which no cut can be is represented by its largest value; other ranges
are counted again in smaller ones. For even ladders, Cauchy's inequality bounds the distance of a
cut from its target (see ``ladder.even``), so the ladder is the same as from all values.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import isqrt

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.book.standing import bucket_of
from fairladder.engine.arrays import as_array
from fairladder.engine.protocol import Engine
from fairladder.errors import UsageError
from fairladder.sqltree import column, named, select, sql

#: From an engine elsewhere, up to this many distinct values are brought here directly.
FEW = 20_000
#: For groups, and for tiers by spend, every distinct value is brought here, up to this number.
MOST = 5_000_000
_TOO_MANY = (
    f"This ladder would need more than {MOST:,} distinct values on this machine. Use even "
    "rungs without `within`, or a measure of fewer values, such as orders or spend in whole "
    "units."
)
#: Number of smaller ranges that replace a range.
_PIECES = 512
#: Values in ranges in which a cut could be are brought here once they are at most this many rows.
_OPENED = 200_000


@dataclass(frozen=True)
class Counts:
    """Distinct values in rising order, shape (d,), and their frequencies; a range is represented by
    its largest value.
    """

    values: NDArray[np.generic]
    counts: NDArray[np.int64]


def counts_by_group(engine: Engine, rows: exp.Select) -> dict[str | None, Counts]:
    """Return the distinct values of the rows for each ``part``, sorted by name, None last.

    Raises UsageError if they do not fit in memory.
    """
    both = [column("part"), column("value")]
    query = select([*both, named(sql("COUNT(*)"), "n")], rows, "valued").group_by(*both, copy=False)
    table = engine.table(query.limit(MOST + 1, copy=False))
    if len(table) > MOST:
        raise UsageError(_TOO_MANY)
    parts: dict[str | None, list[int]] = {}
    for place, part in enumerate(table["part"].to_pylist()):
        parts.setdefault(part, []).append(place)
    values, counts = as_array(table["value"]), as_array(table["n"]).astype(np.int64)
    named_parts = sorted(p for p in parts if p is not None) + [p for p in parts if p is None]
    return {part: _in_order(values[parts[part]], counts[parts[part]]) for part in named_parts}


def all_counts(engine: Engine, rows: exp.Select) -> Counts:
    """Return the distinct values of the rows. Raises UsageError if they do not fit in memory."""
    table = engine.table(_by_value(rows).limit(MOST + 1, copy=False))
    if len(table) > MOST:
        raise UsageError(_TOO_MANY)
    return _sorted(table)


def counts_for_cuts(
    engine: Engine,
    rows: exp.Select,
    wanted: Sequence[Fraction],
    even: bool,
    also: Sequence[int] = (),
) -> Counts:
    """Return the distinct values of the rows, as far as a ladder depends on them; ``value`` is a
    whole number or a float, never null.

    ``wanted`` are the shares of customers at or below each cut, in value order. With ``even`` the
    cuts depend on the sizes of all rungs, otherwise they are exactly at these shares. ``also`` are
    ranks, from the smallest value, around which all values are included.
    """
    # An engine on this machine counts and returns a million values as fast as it finds ranges of
    # them.
    few = MOST if engine.limits.windows else FEW
    first = engine.table(_by_value(rows).limit(few + 1, copy=False))
    if len(first) <= few:
        return _sorted(first)
    ranges = _ranges(engine.table(_by_range(rows, bucket_of(column("value")))))
    while (open_ := _open(ranges, wanted, even, also)).any():
        many = int(ranges.counts[open_].sum()) > _OPENED
        inside = _within(engine, rows, ranges, open_, _PIECES if many else None)
        ranges = _replaced(ranges, open_, inside)
        if len(ranges.counts) > MOST:
            raise UsageError(_TOO_MANY)
    return ranges.as_counts()


@dataclass(frozen=True)
class _Ranges:
    """Disjoint ranges of values in rising order, with their row counts; all of shape (r,)."""

    low: NDArray[np.generic]
    high: NDArray[np.generic]
    counts: NDArray[np.int64]

    @property
    def exact(self) -> NDArray[np.bool_]:
        """Return a mask of the ranges with a single distinct value."""
        return np.asarray(self.low == self.high)

    def as_counts(self) -> Counts:
        """Return each range as its largest value; the first one also keeps its smallest, which a
        ladder stores.
        """
        if self.exact[0]:
            return Counts(self.high, self.counts)
        values = np.concatenate([self.low[:1], self.high])
        return Counts(values, np.concatenate([[1], self.counts[:1] - 1, self.counts[1:]]))


def _open(
    ranges: _Ranges, wanted: Sequence[Fraction], even: bool, also: Sequence[int]
) -> NDArray[np.bool_]:
    """Return a mask of ranges with several values in which a cut could be, and of those with over a
    hundredth of all rows.
    """
    ends = np.cumsum(ranges.counts)
    starts, n = ends - ranges.counts, int(ends[-1])
    if len(ends) < 2 * (len(wanted) + 1):
        return ~ranges.exact
    inside = ranges.counts * 100 > n
    reaches = _reaches(ends, wanted) if even else [2] * len(wanted)
    about = [(int(share * n), reach) for share, reach in zip(wanted, reaches, strict=True)] + [
        (at, 1) for at in also
    ]
    for target, reach in about:
        inside |= (starts <= target + reach + 1) & (ends >= target - reach - 1)
    return np.asarray(inside & ~ranges.exact)


def _reaches(ends: NDArray[np.int64], wanted: Sequence[Fraction]) -> list[int]:
    """Return the maximum distance in rows of each cut of a best partition from its target, given
    the cost of a known partition.

    If a partition of cost C deviates by e up to its k-th cut, and by −e after it, then C ≥ e²/k +
    e²/(K − k).
    """
    n, k = int(ends[-1]), len(wanted) + 1
    cuts: list[int] = []
    for j, share in enumerate(wanted):
        at = int(np.searchsorted(ends, int(share * n)))
        near = min((at - 1, at), key=lambda i: abs(int(ends[max(i, 0)]) - int(share * n)))
        # Each rung needs a range of its own on either side.
        cuts.append(min(max(near, (cuts[-1] if cuts else -1) + 1, 0), len(ends) - k + j))
    places = [0, *(int(ends[c]) for c in cuts), n]
    shares = [b - a for a, b in zip([Fraction(0), *wanted], [*wanted, Fraction(1)], strict=True)]
    cost = sum(
        (Fraction(b - a) - n * p) ** 2 for a, b, p in zip(places, places[1:], shares, strict=False)
    )
    return [isqrt(int(cost * j * (k - j) / k) + 1) + 1 for j in range(1, k)]


def _by_value(rows: exp.Select) -> exp.Select:
    count = named(sql("COUNT(*)"), "n")
    return select([column("value"), count], rows, "valued").group_by(column("value"), copy=False)


def _by_range(rows: exp.Select, place: exp.Expr) -> exp.Select:
    trees = {
        "place": place,
        "low": sql("MIN(value)"),
        "high": sql("MAX(value)"),
        "n": sql("COUNT(*)"),
    }
    return select([named(t, name) for name, t in trees.items()], rows, "valued").group_by(
        place.copy(), copy=False
    )


def _within(
    engine: Engine, rows: exp.Select, ranges: _Ranges, open_: NDArray[np.bool_], pieces: int | None
) -> _Ranges:
    """Split the open ranges into this many pieces each, or into single values."""
    bounds = pa.table(
        {
            "lowest": ranges.low[open_],
            "highest": ranges.high[open_],
            "number": np.flatnonzero(open_),
        }
    )
    inside = select(["value", "lowest", "highest", "number"], rows, "valued")
    on = sql("value >= lowest AND value <= highest")
    inside = inside.join(exp.alias_(engine.offer(bounds), "bounds", table=True), on=on, copy=False)
    if pieces is None:
        place: exp.Expr = column("value")
    else:
        # Floats never fall as the value rises, despite rounding.
        share = "FLOOR((CAST(value AS DOUBLE) - lowest) / (CAST(highest AS DOUBLE) - lowest) * :p)"
        place = sql(f"number * :q + CAST({share} AS BIGINT)", p=pieces, q=2 * pieces)
    return _ranges(engine.table(_by_range(inside, place)))


def _ranges(table: pa.Table) -> _Ranges:
    low, high, counts = (as_array(table[name]) for name in ("low", "high", "n"))
    order = np.argsort(low, kind="stable")
    return _Ranges(low[order], high[order], counts[order].astype(np.int64))


def _replaced(ranges: _Ranges, open_: NDArray[np.bool_], inside: _Ranges) -> _Ranges:
    parts = [
        np.concatenate([getattr(ranges, f)[~open_], getattr(inside, f)])
        for f in ("low", "high", "counts")
    ]
    order = np.argsort(parts[0], kind="stable")
    return _Ranges(parts[0][order], parts[1][order], parts[2][order])


def _sorted(table: pa.Table) -> Counts:
    return _in_order(as_array(table["value"]), as_array(table["n"]).astype(np.int64))


def _in_order(values: NDArray[np.generic], counts: NDArray[np.int64]) -> Counts:
    order = np.argsort(values, kind="stable")
    return Counts(values[order], counts[order])

"""What a ladder is fitted to: the distinct values of a measure and how often each occurs.

Where these are too many to bring here, only those come that a cut could lie at. All values are
counted in ranges; a range comes as one value, its largest, where no cut of the ladder can lie
within it, and is counted again in smaller ones where it can. For rungs as even as fairness allows,
Cauchy's inequality bounds how far from its target a cut can lie (see ``ladder.even``), so the
ladder is the same as if all values had come.
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

#: So many distinct values come here as they are, from an engine that is elsewhere.
FEW = 20_000
#: Of groups, and of tiers of what is held, every distinct value comes here; not more than these.
MOST = 5_000_000
_TOO_MANY = (
    f"More than {MOST:,} distinct values would have to come here for this ladder. Use even rungs "
    "without `within`, or "
    "a measure of fewer values, such as orders or spend in whole units."
)
#: Ranges are counted again in so many smaller ones.
_PIECES = 512
#: Values in ranges in which a cut could lie come here where there are no more rows than this.
_OPENED = 200_000


@dataclass(frozen=True)
class Counts:
    """Distinct values in rising order, shape (d,), and how often each occurs; a range stands
    as its largest value.
    """

    values: NDArray[np.generic]
    counts: NDArray[np.int64]


def counts_by_group(engine: Engine, rows: exp.Select) -> dict[str | None, Counts]:
    """Every distinct ``value`` of the rows for each ``part``, by its name, None last.

    Raises UsageError where they are more than anybody's memory should hold.
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
    """Every distinct ``value`` of the rows. Raises UsageError where they are more than
    anybody's memory should hold.
    """
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
    """The distinct values of the rows, as far as a ladder depends on them; ``value`` is a whole
    number or a float, never null.

    ``wanted`` are the shares of customers at or below each cut, in value order; ``even`` where
    cuts are chosen about them by the sizes of all rungs, else they lie at just these. ``also`` are
    ranks, from the smallest value, about which all come, too.
    """
    # An engine on this machine counts and hands over a million values as fast as it finds ranges of them.
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
    """Disjoint ranges of values in rising order, and how many rows each holds; all shapes (r,)."""

    low: NDArray[np.generic]
    high: NDArray[np.generic]
    counts: NDArray[np.int64]

    @property
    def exact(self) -> NDArray[np.bool_]:
        """Which hold one distinct value only."""
        return np.asarray(self.low == self.high)

    def as_counts(self) -> Counts:
        """Each range as its largest value; the first keeps its smallest apart, which a ladder
        remembers.
        """
        if self.exact[0]:
            return Counts(self.high, self.counts)
        values = np.concatenate([self.low[:1], self.high])
        return Counts(values, np.concatenate([[1], self.counts[:1] - 1, self.counts[1:]]))


def _open(
    ranges: _Ranges, wanted: Sequence[Fraction], even: bool, also: Sequence[int]
) -> NDArray[np.bool_]:
    """Ranges of several values in which a cut could lie, and any that hold more than a
    hundredth of all.
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
    """How far from its target each cut of a best partition can lie at most, in rows: from the cost
    of one that there is.

    Sizes of a partition of cost C are off by e up to its k-th cut, and by −e after it, so that C ≥
    e²/k + e²/(K − k).
    """
    n, k = int(ends[-1]), len(wanted) + 1
    cuts: list[int] = []
    for j, share in enumerate(wanted):
        at = int(np.searchsorted(ends, int(share * n)))
        near = min((at - 1, at), key=lambda i: abs(int(ends[max(i, 0)]) - int(share * n)))
        # Each rung needs a range of its own, before and behind.
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
    """The rows of the open ranges, in so many pieces each, or value by value."""
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
        # Floats never fall as the value rises, whatever they round to.
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

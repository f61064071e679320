"""A ladder assigns numbers to rungs 1..K, K best, with a list of cuts."""

from dataclasses import dataclass
from fractions import Fraction
from math import inf, lcm
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fairladder.errors import UsageError
from fairladder.ladder.even import even_partition, places_for_cuts
from fairladder.ladder.quantiles import Runs, exclusive_cuts, inclusive_cuts, inverse_cuts
from fairladder.ladder.ranks import Better

Method = Literal["even", "inclusive", "exclusive", "inverse", "fixed"]
METHODS: tuple[Method, ...] = ("even", "inclusive", "exclusive", "inverse", "fixed")
_PERCENTILES = {"inclusive": inclusive_cuts, "exclusive": exclusive_cuts, "inverse": inverse_cuts}


#: Up to this many rungs, counting the cuts below a value is faster than a lookup.
_FEW_RUNGS = 16
#: From this many values on, whole numbers in a range no wider than ``_NARROW`` are counted in a
#: table instead of sorted.
MANY = 1 << 16
_NARROW = 1 << 16
#: Values placed per batch, so that the working set fits in the processor's cache.
_AT_ONCE = 1 << 16


@dataclass(frozen=True)
class Ladder:
    """Cuts in rising order, and which end is better.

    If b cuts are below a value, its rung is b + 1 where high is better, K − b where low is. A value
    equal to a cut belongs with the values below it. Equal values share a rung, and a better value
    never gets a lower rung.

    Attributes
    ----------
    cuts
        K − 1 numbers, never falling; ``-inf`` and ``inf`` for unused rungs at an end; days since
        1970-01-01 for a ladder of dates.
    sizes
        Number of values on each rung when fitted, worst rung first; empty if it was not fitted.
    shares
        Wanted share of each rung, worst first, as exact fractions; None for equal rungs.
    ends
        The smallest and the largest value when fitted; None without values.
    """

    cuts: tuple[float, ...]
    better: Better = "high"
    method: str = "even"
    sizes: tuple[int, ...] = ()
    shares: tuple[Fraction, ...] | None = None
    days: bool = False
    ends: tuple[float, float] | None = None

    @property
    def rungs(self) -> int:
        """K, the number of rungs."""
        return len(self.cuts) + 1

    @property
    def empty(self) -> tuple[int, ...]:
        """Rungs that had no value when the ladder was fitted."""
        return tuple(rung for rung, size in enumerate(self.sizes, start=1) if size == 0)

    @property
    def size_deviation(self) -> float:
        """The largest |n_k − n·p_k| ÷ n when fitted: 0 if all sizes are as requested, NaN without
        values.
        """
        n = sum(self.sizes)
        wanted = self.shares or (Fraction(1, self.rungs),) * self.rungs
        return (
            float(max(abs(size - n * p) for size, p in zip(self.sizes, wanted, strict=True)) / n)
            if n
            else float("nan")
        )

    @classmethod
    def fit(
        cls,
        values: ArrayLike,
        rungs: int = 5,
        *,
        method: Method = "even",
        better: Better = "high",
        shares: Any = None,
        cuts: Any = None,
        counts: ArrayLike | None = None,
    ) -> "Ladder":
        """Fit a ladder to these values.

        Parameters
        ----------
        values
            Shape (n,): numbers, or dates as ``datetime64``. Nulls and NaN do not count.
        rungs
            K, 2 to 100.
        method
            ``even``: rungs as equal in size as possible with equal values together (see
            ``fairladder.ladder.even``). With 1 < D < K distinct values, the i-th from the worst gets
            rung 1 + round_half_up(i·(K − 1)/(D − 1)); a single one gets (K + 1)//2.
            ``inclusive`` and ``exclusive``: cuts at percentiles as in spreadsheets; ``inverse``: at
            values that occur; ``fixed``: at ``cuts``. These can leave rungs empty.
        better
            ``high`` or ``low``.
        shares
            For ``even``: K numbers that add up to 1 (as decimal text, Fraction or float), for rung
            1..K.
        cuts
            For ``fixed``: K − 1 numbers, or dates as ISO text, that never fall; ``rungs`` is then
            one more than their number.
        counts
            The frequency of each value, if ``values`` are distinct and rising; shape (n,), whole
            numbers from 1.

        Raises
        ------
        UsageError
            For an unknown method, a wrong number of rungs or shares, or values that are not
            numbers.

        >>> import fairladder as fl
        >>> ladder = fl.Ladder.fit([1, 1, 1, 2, 3, 9], rungs=3)
        >>> (ladder.cuts, ladder.sizes)
        ((1, 2), (3, 1, 2))
        """
        if (method == "fixed") != (cuts is not None):
            raise UsageError("`cuts` and the method `fixed` go together.")
        given = [_read_cut(cut) for cut in cuts] if cuts is not None else []
        rungs = len(given) + 1 if method == "fixed" else rungs
        wanted = _checked(rungs, method, better, shares)
        if given != sorted(given):
            raise UsageError(
                "Cuts must rise from one to the next (or stay equal), and these do not: "
                f"{list(cuts)!r}."
            )
        numbers, days = as_numbers(values)
        given_counts = None if counts is None else (numbers, np.asarray(counts, dtype=np.int64))
        counted = given_counts or (_counted(numbers) if method == "even" else None)
        ascending, held = counted or (_ascending(numbers), None)
        if not len(ascending):
            return cls(
                tuple(given) or (inf,) * (rungs - 1), better, method, (0,) * rungs, wanted, days
            )
        if method == "even":
            found = _even_cuts(ascending, held, rungs, better, wanted)
        else:
            every = ascending if held is None else Runs(ascending, np.cumsum(held))
            found = given if method == "fixed" else _PERCENTILES[method](every, rungs)
        below = np.searchsorted(ascending, np.array([*found, inf]), side="right")
        if held is not None:
            below = np.concatenate([[0], np.cumsum(held)])[below]
        sizes = np.diff(below, prepend=0)
        if method != "fixed":
            found = _open_ended(found, sizes)
        sizes = sizes if better == "high" else sizes[::-1]
        ends = (ascending[0].item(), ascending[-1].item())
        return cls(tuple(found), better, method, tuple(int(s) for s in sizes), wanted, days, ends)

    def place(self, values: ArrayLike) -> NDArray[np.int64]:
        """Return the rung of each value, shape (n,), 1..K; 0 for null values."""
        numbers, _ = as_numbers(values)
        if (narrow := _offsets(numbers)) is not None:  # each possible value is placed once
            offsets, low, high = narrow
            rungs: NDArray[np.int64] = self._rung_of(np.arange(low, high + 1)).astype(np.int64)[
                offsets
            ]
            return rungs
        flat = numbers.ravel()
        placed = np.empty(len(flat), dtype=np.int64)
        for start in range(0, len(flat), _AT_ONCE):
            some = slice(start, start + _AT_ONCE)
            placed[some] = self._rung_of(flat[some])
        return placed.reshape(numbers.shape)

    def _rung_of(self, numbers: NDArray[Any]) -> NDArray[np.uint8]:
        if self.rungs <= _FEW_RUNGS:
            below = np.zeros(numbers.shape, dtype=np.uint8)
            for cut in self.cuts:
                below += numbers > cut
        else:
            below = np.searchsorted(
                np.asarray(self.cuts, dtype=np.float64), numbers, side="left"
            ).astype(np.uint8)
        rung = below + np.uint8(1) if self.better == "high" else np.uint8(self.rungs) - below
        if numbers.dtype.kind == "f" and (null := np.isnan(numbers)).any():
            rung[null] = 0
        return rung

    def to_sql(self, column: str, dialect: str = "duckdb") -> str:
        """Return the ladder as a SQL ``CASE`` over a quoted column, for ``duckdb``, ``sqlite``,
        ``postgres`` and others.

        It returns the same rungs as ``place``, and NULL for NULL. Dates compare as dates. NaN is
        not handled, since SQL has no such value.
        """
        return str(self.sql_tree(column).sql(dialect))

    def sql_tree(self, column: str) -> Any:
        """Return the tree of ``to_sql``, for building longer statements."""
        from fairladder.sqltree import case, sql
        from fairladder.sqltree import column as quoted

        value = quoted(column)
        rungs = range(1, self.rungs + 1) if self.better == "high" else range(self.rungs, 0, -1)
        branches, last = [(sql(":v IS NULL", v=value), sql("NULL"))], None
        for cut, rung in zip((*self.cuts, inf), rungs, strict=True):
            if cut == inf:
                return case(branches, sql(str(rung)))
            if cut not in (-inf, last):  # no value is below the first cut or between equal cuts
                branches.append((sql(":v <= :c", v=value, c=self._bound(cut)), sql(str(rung))))
            last = cut
        raise AssertionError("the cuts end with an infinite one")

    def _bound(self, cut: float) -> Any:
        from fairladder.sqltree import sql

        return sql(f"CAST('{self._written(cut)}' AS DATE)") if self.days else sql(repr(cut))

    def to_dict(self) -> dict[str, Any]:
        """Return plain values for JSON: cuts as numbers, ISO dates, ``"-inf"`` or ``"inf"``."""
        return {
            "method": self.method,
            "better": self.better,
            "cuts": [self._written(c) for c in self.cuts],
            "sizes": list(self.sizes),
            "shares": [str(s) for s in self.shares] if self.shares else None,
            "days": self.days,
            "ends": [self._written(e) for e in self.ends] if self.ends else None,
        }

    @classmethod
    def from_dict(cls, plain: dict[str, Any]) -> "Ladder":
        """Load a ladder that ``to_dict`` saved. Raises UsageError for any other dictionary."""
        try:
            cuts = tuple(_read_cut(c) for c in plain["cuts"])
            shares = tuple(Fraction(s) for s in plain["shares"]) if plain.get("shares") else None
            low, high = plain.get("ends") or (None, None)
            ends = (
                (_read_cut(low), _read_cut(high)) if low is not None and high is not None else None
            )
            ladder = cls(
                cuts,
                plain["better"],
                plain["method"],
                tuple(plain["sizes"]),
                shares,
                bool(plain["days"]),
                ends,
            )
        except (KeyError, TypeError, ValueError) as error:
            raise UsageError(
                f"This is not a saved ladder: {error!r}. Save one with `Ladder.to_dict`."
            ) from error
        if list(cuts) != sorted(cuts) or ladder.better not in ("high", "low"):
            raise UsageError(
                "This is not a saved ladder: cuts must rise (or stay equal), and `better` must be "
                "high or low."
            )
        return ladder

    def _written(self, cut: float) -> Any:
        if cut in (inf, -inf):
            return "inf" if cut > 0 else "-inf"
        return str(np.datetime64(int(cut), "D")) if self.days else cut


def as_numbers(values: Any) -> tuple[NDArray[Any], bool]:
    """Return the values as an array of integers or floats (NaN for null), and whether they are
    dates.
    """
    if hasattr(values, "isna") and hasattr(values, "to_numpy"):  # a Series with its own nulls
        null = np.asarray(values.isna(), dtype=bool)
        if null.any() and values.dtype.kind in "iuf":
            values = values.to_numpy(dtype=np.float64, na_value=np.nan)
        else:
            values = (
                values.to_numpy()
                if values.dtype.kind == "M"
                else values.to_numpy(dtype=getattr(values.dtype, "numpy_dtype", values.dtype))
            )
    array = np.asarray(values)
    if array.dtype.kind == "M":
        days = array.astype("datetime64[D]")
        numbers = days.astype(np.int64).astype(np.float64)
        numbers[np.isnat(days)] = np.nan
        return numbers, True
    if array.dtype.kind in "iu":
        return array, False
    if array.dtype.kind == "O":
        array = np.array([np.nan if v is None or v != v else v for v in array.ravel()])
    if array.dtype.kind not in "iuf":
        raise UsageError(f"A ladder needs numbers or days, not {array.dtype}.")
    return array.astype(np.float64, copy=False) if array.dtype.kind == "f" else array, False


def _checked(rungs: int, method: str, better: str, shares: Any) -> tuple[Fraction, ...] | None:
    if method not in METHODS:
        raise UsageError(f"There is no ladder method {method!r}; choose from {', '.join(METHODS)}.")
    if better not in ("high", "low"):
        raise UsageError(f"`better` must be high or low, not {better!r}.")
    if not isinstance(rungs, int) or not 2 <= rungs <= 100:
        raise UsageError(f"A ladder has 2 to 100 rungs, not {rungs!r}.")
    if shares is None:
        return None
    if method != "even":
        raise UsageError("Shares go with the method `even` only.")
    wanted = tuple(Fraction(str(s)) for s in shares)
    if len(wanted) != rungs or sum(wanted) != 1 or min(wanted) <= 0:
        raise UsageError(
            f"Shares must be {rungs} positive numbers that add up to 1, not {list(shares)!r}."
        )
    return wanted


def _ascending(numbers: NDArray[Any]) -> NDArray[Any]:
    ascending = np.sort(numbers)
    if numbers.dtype.kind == "f":  # NaN sorts last
        ascending = ascending[: np.searchsorted(ascending, inf, side="right")]
    return ascending


def _offsets(numbers: NDArray[Any]) -> tuple[NDArray[np.int64], int, int] | None:
    """Return many whole numbers as offsets in a narrow range, with the range's ends; None for other
    values.
    """
    if numbers.dtype.kind not in "iu" or numbers.size < MANY:
        return None
    low, high = int(numbers.min()), int(numbers.max())
    if low >= 0 and high < _NARROW:
        low = 0  # saves the subtraction
    if high - low >= _NARROW or high > np.iinfo(np.int64).max:
        return None
    whole = numbers.astype(np.int64, copy=False)
    return (whole - low if low else whole), low, high


def _counted(numbers: NDArray[Any]) -> tuple[NDArray[Any], NDArray[np.int64]] | None:
    """Return the distinct values in rising order and their counts; None if sorting is faster."""
    if (narrow := _offsets(numbers)) is None:
        return None
    counts = np.bincount(narrow[0].ravel())
    seen = np.flatnonzero(counts)
    return seen + narrow[1], counts[seen]


def _even_cuts(
    ascending: NDArray[Any],
    held: NDArray[np.int64] | None,
    rungs: int,
    better: Better,
    shares: tuple[Fraction, ...] | None,
) -> list[Any]:
    """Return the cuts of an even ladder over sorted values. If ``held`` is given, values are
    distinct and it holds their counts.
    """
    first = _first_distinct(ascending, rungs)
    if len(first) < rungs:
        return _few_values_cuts(first, rungs, better)
    whole = lcm(*(s.denominator for s in shares)) if shares else 1
    parts = tuple(int(s * whole) for s in shares) if shares else (1,) * rungs
    if held is None:
        places = sums = places_for_cuts(ascending, parts if better == "high" else parts[::-1])
    else:
        places, sums = np.arange(len(held) + 1), np.concatenate([[0], np.cumsum(held)])
    if better == "high":
        ends = even_partition(sums, parts)[:-1]
    else:
        ends = [
            len(sums) - 1 - end
            for end in reversed(even_partition((sums[-1] - sums)[::-1], parts)[:-1])
        ]
    return [ascending[places[end] - 1].item() for end in ends]


def _first_distinct(ascending: NDArray[Any], most: int) -> NDArray[Any]:
    """Return the smallest distinct values, at most ``most`` of them."""
    at = [0]
    while len(at) < most and (
        after := int(np.searchsorted(ascending, ascending[at[-1]], side="right"))
    ) < len(ascending):
        at.append(after)
    return ascending[at]


def _open_ended(cuts: list[Any], sizes: NDArray[np.int64]) -> list[Any]:
    """Return the cuts with those of unused end rungs (``sizes`` in value order) as infinite, so
    that new values join the nearest used rung.
    """
    used = np.flatnonzero(sizes)
    return [-inf if i < used[0] else inf if i >= used[-1] else cut for i, cut in enumerate(cuts)]


def _few_values_cuts(distinct: NDArray[Any], rungs: int, better: Better) -> list[Any]:
    """Return cuts for fewer distinct values than rungs, spread over the ladder from end to end."""
    d = len(distinct)
    last = max(d - 1, 1)
    on = (
        [1 + (2 * i * (rungs - 1) + last) // (2 * last) for i in range(d)]
        if d > 1
        else [(rungs + 1) // 2]
    )
    if better == "low":
        on = [rungs + 1 - rung for rung in reversed(on)]  # positions in value order
    # The j-th cut is the largest value on positions up to j.
    return [max((v.item() for v, place in zip(distinct, on, strict=True) if place <= j),
    default=-inf)
            if any(place > j for place in on) else inf for j in range(1, rungs)]  # fmt: skip


def _read_cut(cut: Any) -> float:
    if isinstance(cut, str) and cut not in ("inf", "-inf"):
        return float(np.datetime64(cut, "D").astype(np.int64))
    return cut if isinstance(cut, int) else float(cut)

"""Compare two days: who moved between segments on the same ladders, and what the change of spend
consists of.
"""

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from sqlglot import exp

from fairladder import wording
from fairladder.book.read import Read
from fairladder.book.spend import counted
from fairladder.conditions import Kind
from fairladder.days import as_day
from fairladder.engine.embedded import Embedded
from fairladder.engine.protocol import CustomerEngine
from fairladder.errors import DataError, UsageError, nearest
from fairladder.frames import plain_table, rows_of, typed_frame
from fairladder.history.periods import calendar_of
from fairladder.numbers import EXACT_DECIMALS, half_away, ratio, to_minor
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer
from fairladder.scheme import STANCES, Scheme
from fairladder.scores.fitting import SCORES, AnyLadder
from fairladder.scores.saved import drift_of_scored
from fairladder.scores.scored import Scored
from fairladder.sqltree import column, day_literal, named, select, sql
from fairladder.value.to_score import forecast_notes, scored

#: Maximum number of movers brought here; beyond it, as many from each end of the table.
MOST_MOVERS = 1_000_000
_UNIT = 10**EXACT_DECIMALS
NEW, GONE = "(new)", "(gone)"
#: Parts of the change of spend.
FIRST_TIME, RETURNED = "first-time buyers", "customers who returned"
STOPPED = "customers who did not buy this time"
FREQUENCY = "order frequency of those who bought again"
ORDER_VALUE = "order value of those who bought again"
Yardstick = Literal["then", "each"]


@dataclass(frozen=True)
class Comparison(Answer):
    """The comparison of two days.

    ``frame``: moves between segments: ``from_segment`` (``(new)`` for customers who were not there
    on the earlier day), ``to_segment`` (``(gone)`` for those missing on the later day),
    ``customers``, ``spend_before``, ``spend_after``. ``rungs``: the same for each score and tier:
    ``ladder``, ``from_rung``, ``to_rung`` (null without a purchase or on one day only). ``movers``:
    customers in another segment, and new ones: ``customer``, ``name``, both segments,
    ``score_before``, ``score_after``, ``change`` (of the total score), ``spend_before``,
    ``spend_after``, ``orders_before``, ``orders_after``; largest rise first. ``parts``: the
    components of the change of spend (``part``, ``customers``, ``spend``), which add up to the
    minor unit; empty for two saved scorings. ``drift`` of the earlier ladders.
    """

    frame: pd.DataFrame
    rungs: pd.DataFrame
    movers: pd.DataFrame
    parts: pd.DataFrame
    drift: pd.DataFrame
    then: dt.date | None
    now: dt.date | None
    returned: int
    """Customers in a win-back or leave segment on the earlier day, who have bought since."""
    rose: int
    """Customers of both days in another segment whose total score has risen."""
    fell: int
    """Customers of both days in another segment whose total score has fallen."""
    notes: tuple[str, ...]

    @property
    def moved(self) -> int:
        """The number of customers of both days who are in another segment."""
        both = ~self.frame["from_segment"].isin([NEW]) & ~self.frame["to_segment"].isin([GONE])
        return int(
            self.frame.loc[
                both & (self.frame["from_segment"] != self.frame["to_segment"]), "customers"
            ].sum()
        )

    @property
    def new(self) -> int:
        """The number of customers who are only there on the later day."""
        return int(self.frame.loc[self.frame["from_segment"] == NEW, "customers"].sum())

    @property
    def spend_in_words(self) -> str:
        """The change of spend and its two net components, in a sentence; empty without parts."""
        if self.parts.empty:
            return ""
        of = self.parts.set_index("part")["spend"]
        change = float(of.iloc[-1] - of.iloc[0])
        sums = {
            "customers who bought in both periods": float(of[[FREQUENCY, ORDER_VALUE]].sum()),
            "customers who bought in only one": float(of[[FIRST_TIME, RETURNED, STOPPED]].sum()),
        }
        by_size = sorted(sums.items(), key=lambda item: -abs(item[1]))
        parts = " and ".join(f"{wording.signed(spend)} from {who}" for who, spend in by_size)
        verb = "rose" if change >= 0 else "fell"
        return f"Spend {verb} by {wording.money(abs(change))}: {parts}"

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``segments``, ``rungs``, ``movers``, ``spend_change`` and ``drift``."""
        return {
            "segments": self.frame, "rungs": self.rungs, "movers": self.movers,
            "spend-change": self.parts, "drift": self.drift,
        }  # fmt: skip

    def facts(self) -> dict[str, Any]:
        """Return the two days, if known."""
        return {
            name: day.isoformat()
            for name, day in (("then", self.then), ("now", self.now))
            if day is not None
        }

    def __repr__(self) -> str:
        return f"{self.finding()}\n{self.frame.to_string(index=False)}"

    def finding(self) -> str:
        """Return how many customers moved, are new and returned."""
        return f"From {self.then} to {self.now}: {self.moved:,} in another segment, {self.new:,} new, {self.returned:,} returned"

    def pieces(self) -> list[Piece]:
        """Return the moves between segments and the components of the change of spend."""
        return [
            Piece("segments", self.frame),
            *([Piece("spend-change", self.parts)] if len(self.parts) else []),
        ]


@dataclass(frozen=True)
class Paths(Answer):
    """Segments over several days. ``frame``: ``day``, ``segment``, ``stance``, ``customers``,
    ``spend``.

    ``paths``: ``path`` (segments day after day, with ``(new)`` before a customer is there),
    ``customers``, ``spend`` on the last day; most frequent first.
    """

    frame: pd.DataFrame
    paths: pd.DataFrame
    days: tuple[dt.date, ...]

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``sizes`` and ``paths``."""
        return {"sizes": self.frame, "paths": self.paths}

    def __repr__(self) -> str:
        sizes = self.frame.pivot(index="segment", columns="day", values="customers")
        return f"{sizes.to_string()}\n{self.paths.head(10).to_string(index=False)}"

    def pieces(self) -> list[Piece]:
        """Return the most frequent paths."""
        return [Piece("paths", self.paths)]


def compare(
    orders: Read,
    then: "str | dt.date",
    now: "str | dt.date | None" = None,
    *,
    yardstick: Yardstick = "then",
) -> Comparison:
    """Score the customers as of two days and report who moved. The earlier day comes first, in
    whichever order they are given.

    ``now`` is the as-of date by default. By default both days are scored on the earlier day's
    ladders, so that a move means that the customer changed and not the ladder; ``yardstick="each"``
    fits each day its own. The change of spend compares the days between the two dates with as many
    days before: first-time buyers, customers who returned or did not buy this time, and for those
    who bought in both, how often they order and how much, each at the average of the other.

    Raises UsageError for equal days or one after the as-of date, DataError if no customer had a
    purchase by the earlier day.

    >>> import fairladder as fl
    >>> moved = fl.compare(fl.sample_orders(), "2025-12-31")
    >>> int(moved.frame["customers"].sum())
    1199
    """
    first, last = days_of(orders, then, now)
    if yardstick not in ("then", "each"):
        raise UsageError(
            f"There is no yardstick {yardstick!r}; choose then (the earlier day's ladders) or each."
        )
    engine = orders.customer_engine
    with engine.passing():
        before, after = orders.on(first), orders.on(last)
        was = _scored(before, first)
        later = scored(after, ladders=was.ladders if yardstick == "then" else None)
        sides = _Sides(
            engine, _there(was, first), _there(later, last), orders.scheme, "name" in later.kinds
        )
        parts, notes = change_of_spend(after, first, last)
        notes += forecast_notes(after)
        return _compared(sides, parts, drift_of_scored(was.ladders, later), (first, last), notes)


def compare_scored(
    before: pd.DataFrame, after: pd.DataFrame, scheme: Scheme | None = None
) -> Comparison:
    """Compare two saved scorings. The components of the change of spend are not included.

    Both need ``customer``, ``segment``, ``stance``, ``spend``, ``orders`` and the scores. Raises
    UsageError for a missing column or an id on two rows.
    """
    for when, frame in (("earlier", before), ("later", after)):
        needed = ("customer", "segment", "stance", "spend", "orders", "score_total", *SCORES)
        missing = [n for n in needed if n not in frame]
        if missing:
            raise UsageError(
                f"The {when} scoring has no column `{missing[0]}`; give two tables written "
                "by `fairladder score`."
            )
        if frame["customer"].duplicated().any():
            raise UsageError(
                f"The {when} scoring has "
                f"`{frame['customer'][frame['customer'].duplicated()].iloc[0]}` on two rows."
            )
    engine, scheme = Embedded(), scheme or Scheme()
    tiers = {name: tier for name, tier in scheme.tiers.items() if name in before and name in after}
    scheme = scheme.model_copy(update={"tiers": tiers})
    shown = ["customer", *(["name"] if "name" in after else []), *_compared_columns(scheme)]
    was, later = (
        select(["*"], engine.offer(plain_table(frame[[n for n in shown if n in frame]])))
        for frame in (before, after)
    )
    nothing = pd.DataFrame({"part": [], "customers": [], "spend": []})
    return _compared(
        _Sides(engine, was, later, scheme, "name" in after),
        nothing,
        pd.DataFrame(),
        (None, None),
        (),
    )


def paths(
    orders: Read,
    then: "str | dt.date",
    now: "str | dt.date | None" = None,
    *,
    every: str = "quarter",
) -> Paths:
    """Return segments as of ``then``, the end of each period in between, and ``now``, all on the
    first day's ladders.

    Raises as ``compare`` does, and UsageError for more than 60 days.
    """
    first, last = days_of(orders, then, now)
    unit = calendar_of(every, orders.scheme.time.year_starts)
    ends = [
        d.date() - dt.timedelta(days=1) for d in unit.starts(first, last + dt.timedelta(days=1))
    ]
    days = sorted({first, last, *(d for d in ends if first < d < last)})
    if len(days) > 60:
        raise UsageError(
            f"From {first} to {last} there are {len(days)} {unit}s to score; use a longer "
            "--every, 60 days at most."
        )
    with orders.customer_engine.passing():
        return _walked(orders, days)


def paths_of(sizes: Sequence[pd.DataFrame], paths: pd.DataFrame, days: Sequence[dt.date]) -> Paths:
    """Build the result from a table of sizes for each day and the paths in any order."""
    ordered = paths.sort_values(["customers", "path"], ascending=[False, True], ignore_index=True)
    columns = ["day", "segment", "stance", "customers", "spend"]
    table = pd.concat(
        [t.assign(day=pd.Timestamp(d).as_unit("s")) for t, d in zip(sizes, days, strict=True)],
        ignore_index=True,
    )
    exact = {
        "spend": ratio(
            to_minor(ordered["spend"].to_numpy(np.float64), EXACT_DECIMALS), 10**EXACT_DECIMALS
        )
    }
    return Paths(table[columns], ordered.assign(**exact), tuple(days))


def no_purchase_by(day: dt.date) -> str:
    """Return the error text if no customer had a purchase by the earlier day."""
    return (
        f"No customer had a purchase by {day}, so there is nothing to compare with. Choose a "
        "later first day."
    )


def days_of(
    orders: Read, then: "str | dt.date", now: "str | dt.date | None"
) -> tuple[dt.date, dt.date]:
    """Return the earlier day and the later one. Raises UsageError for equal days, DataError if no
    row is used.
    """
    given = [as_day(then), as_day(now) if now is not None else orders.as_of]
    if given[1] is None:
        raise DataError(
            "No usable rows, so there is nothing to compare. Run `fairladder check` to see why."
        )
    first, last = sorted(d for d in given if d is not None)
    if first == last:
        raise UsageError(f"Both days are {first}; a comparison needs two.")
    return first, last


def _scored(orders: Read, day: dt.date, ladders: Mapping[str, AnyLadder] | None = None) -> Scored:
    """Score the customers as of a day. Raises DataError if no customer has a purchase by then."""
    if not orders.groups.customers or not _any_bought(orders):
        raise DataError(no_purchase_by(day))
    return scored(orders, ladders=ladders)


def _any_bought(orders: Read) -> bool:
    bought = (
        select([sql("1")], orders.base).where(sql("orders > 0"), copy=False).limit(1, copy=False)
    )
    return len(orders.customer_engine.table(bought)) > 0


def _there(people: Scored, day: dt.date) -> exp.Select:
    """Return the customers with a row by that day, and members of the customers file unless they
    joined later.
    """
    rows, since = select(["*"], people.relation), since_of(people.scheme, people.kinds)
    if since is None:
        return rows
    joined = sql(
        "orders + refunds + zero_orders > 0 OR :s IS NULL OR :s <= :d",
        s=column(since),
        d=day_literal(day),
    )
    return rows.where(joined, copy=False)


def since_of(scheme: Scheme, kinds: Mapping[str, Kind]) -> str | None:
    """Return the column of the day on which a customer joined, or None. Raises UsageError if it is
    not a date column.
    """
    since = scheme.customers.since
    if since is not None and kinds.get(since) != "day":
        hint = "its cells are not dates" if since in kinds else nearest(since, kinds)
        raise UsageError(
            f"[customers] since names `{since}`, the day on which a customer joined: {hint}."
        )
    return since


@dataclass(frozen=True)
class _Sides:
    """The customers of two days in an engine."""

    engine: CustomerEngine
    was: exp.Select
    now: exp.Select
    scheme: Scheme
    named: bool
    """True if the later side has names."""


def _compared(
    sides: _Sides,
    parts: pd.DataFrame,
    drifted: pd.DataFrame,
    days: tuple[dt.date | None, dt.date | None],
    notes: Sequence[str],
) -> Comparison:
    engine, scheme = sides.engine, sides.scheme
    both = engine.keep(_both(sides))
    late = exp.In(
        this=column("stance_before"), expressions=[exp.convert("win-back"), exp.convert("leave")]
    )
    returned = select([named(sql("COUNT(*)"), "n")], both).where(
        late, sql("orders_after > orders_before"), copy=False
    )
    movers, counts = _movers(sides, both)
    if counts["moved"] > len(movers):
        notes = [
            *notes,
            f"Of {counts['moved']:,} customers in another segment, {len(movers):,} with the "
            "largest rises and falls of scores were transferred; the counts include all.",
        ]
    segments = {"from_segment": "segment_before", "to_segment": "segment_after"}
    rungs = pd.concat(
        [_rungs(sides, both, name) for name in (*SCORES, *scheme.tiers)], ignore_index=True
    )
    return Comparison(
        flows_table(_summed(sides, both, segments), scheme),
        rungs_table(rungs, scheme),
        movers,
        parts,
        drifted,
        *days,
        int(engine.table(returned)["n"][0].as_py()),
        counts["rose"],
        counts["fell"],
        tuple(notes),
    )


def _compared_columns(scheme: Scheme) -> list[str]:
    """Return the columns of each customer that are compared."""
    return ["segment", "stance", "spend", "orders", "score_total", *SCORES, *scheme.tiers]


def _both(sides: _Sides) -> exp.Select:
    """Return one row per customer of either day, with the columns of both days."""
    names = _compared_columns(sides.scheme)
    trees: dict[str, exp.Expr] = {"customer": sql("COALESCE(was.customer, later.customer)")}
    for side, table, absent in (("before", "was", NEW), ("after", "later", GONE)):
        for name in names:
            cell = exp.column(name, table, quoted=True)
            missing = exp.convert(absent)
            trees[f"{name}_{side}"] = (
                sql("COALESCE(:c, :m)", c=cell, m=missing) if name == "segment" else cell
            )
    if sides.named:
        trees["name"] = exp.column("name", "later", quoted=True)
    joined = select([named(tree, n) for n, tree in trees.items()], sides.was, "was")
    return joined.join(
        sides.now.subquery("later", copy=False),
        on=sql("was.customer = later.customer"),
        join_type="full",
        copy=False,
    )


def _summed(sides: _Sides, both: exp.Expr, keys: Mapping[str, str]) -> pd.DataFrame:
    """Return customers and spend of both days for each combination of the keys (name → column)."""
    trees = {
        "customers": sql("COUNT(*)"),
        **{f"spend_{s}": _spend(f"spend_{s}") for s in ("before", "after")},
    }
    columns = [
        *(named(column(c), n) for n, c in keys.items()),
        *(named(t, n) for n, t in trees.items()),
    ]
    query = select(columns, both).group_by(*(column(c) for c in keys.values()), copy=False)
    return typed_frame(sides.engine.table(query), sides.scheme)


def _rungs(sides: _Sides, both: exp.Expr, ladder: str) -> pd.DataFrame:
    table = _summed(sides, both, {"from_rung": f"{ladder}_before", "to_rung": f"{ladder}_after"})
    return table.astype({"from_rung": object, "to_rung": object}).assign(ladder=ladder)[
        ["ladder", *table.columns]
    ]


def _movers(sides: _Sides, both: exp.Expr) -> tuple[pd.DataFrame, dict[str, int]]:
    """Return ``Comparison.movers``, and how many customers ``moved``, ``rose`` and ``fell`` in
    total.
    """
    change = sql("score_total_after - score_total_before")
    trees = {
        "customer": column("customer"), **({"name": column("name")} if sides.named else {}),
        "from_segment": column("segment_before"), "to_segment": column("segment_after"),
        "score_before": column("score_total_before"), "score_after": column("score_total_after"),
        "change": change,
        **{f"{what}_{side}": column(f"{what}_{side}") for what in ("spend",
        "orders") for side in ("before", "after")},
    }  # fmt: skip
    query = select([named(tree, n) for n, tree in trees.items()], both)
    movers = query.where(sql("segment_before <> segment_after"), copy=False)
    known = {
        "moved": "1 = 1",
        "rose": "from_segment <> :n AND change > 0",
        "fell": "from_segment <> :n AND change < 0",
    }
    tests = {
        n: sql(f"COUNT(CASE WHEN {test} THEN 1 END)", n=exp.convert(NEW))
        for n, test in known.items()
    }
    counted = select([named(tree, n) for n, tree in tests.items()], movers, "movers")
    counts = {n: int(v) for n, v in sides.engine.table(counted).to_pylist()[0].items()}
    found = _first(sides, movers, falling=True)
    if counts["moved"] > MOST_MOVERS:
        fell = select(["*"], movers, "movers").where(sql("change < 0"), copy=False)
        found = pd.concat([found, _first(sides, fell, falling=False)]).drop_duplicates("customer")
        order = ["change", "spend_after", "customer"]
        found = found.sort_values(order, ascending=[False, False, True], ignore_index=True)
    return found, counts


def _first(sides: _Sides, movers: exp.Select, falling: bool) -> pd.DataFrame:
    """Return the first movers, from the largest rise down or from the largest fall up."""
    order: list[exp.Expr] = [
        exp.Ordered(this=column("change"), desc=falling, nulls_first=False),
        exp.Ordered(this=column("spend_after"), desc=True, nulls_first=False), column("customer"),
    ]  # fmt: skip
    query = (
        select(["*"], movers, "movers").order_by(*order, copy=False).limit(MOST_MOVERS, copy=False)
    )
    frame = typed_frame(sides.engine.table(query), sides.scheme)
    # Total scores are whole if their weights are; nulls come from customers of one day only.
    numbers = ("score_before", "score_after", "change", "orders_before", "orders_after")
    return frame.astype({n: "Int64" for n in numbers if frame[n].dtype.kind in "iu"})


def flows_table(flows: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    """Return ``Comparison.frame`` from rows in any order, with spend rounded to the minor unit."""
    others = sorted(set(flows["from_segment"]) | set(flows["to_segment"]))
    place = {
        n: i
        for i, n in enumerate(
            dict.fromkeys([NEW, *(s.name for s in scheme.segments), GONE, *others])
        )
    }
    keys = ["from_segment", "to_segment"]
    return _to_minor_units(flows).sort_values(keys, key=lambda c: c.map(place), ignore_index=True)


def rungs_table(moves: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    """Return ``Comparison.rungs`` from rows in any order: ladders as in the scheme, from the best
    rung down, nulls last.
    """
    names = [*SCORES, *scheme.tiers]
    place = {name: names.index(name) for name in moves["ladder"].unique()}
    tiers = {
        name: {label: i for i, label in enumerate(tier.names())}
        for name, tier in scheme.tiers.items()
    }

    def standing(ladder: str, rung: object) -> float:
        if wording.missing(rung):
            return float("inf")
        return float(tiers[ladder][str(rung)]) if ladder in tiers else -float(str(rung))

    order = [
        (place[m.ladder], standing(m.ladder, m.from_rung), standing(m.ladder, m.to_rung))
        for m in rows_of(moves)
    ]
    ordered = moves.iloc[sorted(range(len(order)), key=order.__getitem__)].reset_index(drop=True)
    for name in ("from_rung", "to_rung"):
        plain = [
            None if wording.missing(v) else v if isinstance(v, str) else int(v)
            for v in ordered[name]
        ]
        ordered[name] = pd.Series(plain, dtype=object)
    return _to_minor_units(ordered)


def _to_minor_units(table: pd.DataFrame) -> pd.DataFrame:
    """Round the sums of spend to minor units, so that the order of addition does not matter."""
    exact = {
        name: ratio(to_minor(table[name].to_numpy(np.float64), EXACT_DECIMALS), 10**EXACT_DECIMALS)
        for name in ("spend_before", "spend_after")
    }
    return table.assign(**exact)


def _walked(orders: Read, days: Sequence[dt.date]) -> Paths:
    engine, scheme = orders.customer_engine, orders.scheme
    ladders: Mapping[str, AnyLadder] | None = None
    sizes, steps = [], []
    for number, day in enumerate(days):
        people = _scored(orders.on(day), day, ladders)
        ladders = ladders or people.ladders
        columns = [
            column("customer"),
            column("segment"),
            column("spend"),
            named(exp.convert(number), "step"),
        ]
        with engine.passing() as last_there:
            there = last_there(engine.keep(select(columns, _there(people, day), "people")))
        held = engine.table(select([column("segment"), named(sql("COUNT(*)"), "customers"),
        named(_spend("spend"), "spend")], there)
                            .group_by(column("segment"), copy=False)).to_pylist()  # fmt: skip
        sizes.append(
            sizes_of(
                {h["segment"]: h["customers"] for h in held},
                {h["segment"]: h["spend"] for h in held},
                scheme,
            )
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
        [column("path"), named(sql("COUNT(*)"), "customers"), named(_spend("spend"), "spend")],
        walked,
        "walked",
    )
    table = engine.table(counted.group_by(column("path"), copy=False))
    paths = pd.DataFrame(table.to_pydict())
    return paths_of(sizes, paths, days)


def _spend(name: str) -> exp.Expr:
    """Return a sum of money as a float, computed in whole units of its last decimal."""
    return sql(
        "CAST(COALESCE(SUM(CAST(ROUND(:c * :u) AS BIGINT)), 0) AS DOUBLE) / :u",
        c=column(name),
        u=float(_UNIT),
    )


def sizes_of(
    customers: Mapping[str, int], spend: Mapping[str, float], scheme: Scheme
) -> pd.DataFrame:
    """Return ``segment``, ``stance``, ``customers``, ``spend``: one row for each segment of the
    scheme, by stance.
    """
    segments = sorted(scheme.segments, key=lambda s: STANCES.index(s.stance))
    minor = to_minor(np.array([spend.get(s.name, 0.0) for s in segments]), EXACT_DECIMALS)
    return pd.DataFrame({
        "segment": [s.name for s in segments], "stance": [s.stance for s in segments],
        "customers": [int(customers.get(s.name, 0)) for s in segments],
        "spend": ratio(minor, 10**EXACT_DECIMALS),
    })  # fmt: skip


def _by_frequency(
    n1: NDArray[np.int64], n2: NDArray[np.int64], s1: NDArray[np.int64], s2: NDArray[np.int64]
) -> Fraction:
    """Return Σ (n2 − n1)·½·(s1/n1 + s2/n2) exactly; ``s1`` and ``s2`` are summed over all customers
    of a pair of counts.
    """
    pairs = zip(n1.tolist(), n2.tolist(), s1.tolist(), s2.tolist(), strict=True)
    return sum(
        (Fraction(b - a, 2) * (Fraction(u, a) + Fraction(v, b)) for a, b, u, v in pairs),
        Fraction(0),
    )


def change_of_spend(orders: Read, first: dt.date, last: dt.date) -> tuple[pd.DataFrame, list[str]]:
    """Split the change of spend from the days before ``first`` to as many after it, exactly."""
    length = (last - first).days
    start = first - dt.timedelta(days=length)
    begin = orders.scheme.time.from_ or dt.date(1, 1, 2)
    before_all = begin - dt.timedelta(days=1)
    days = {"a": max(start, before_all), "b": max(first, before_all), "c": last, "f": begin}
    day = {n: day_literal(d) for n, d in days.items()}
    adds = counted(orders.scheme)
    early, late = "placed_on > :a AND placed_on <= :b", "placed_on > :b AND placed_on <= :c"
    measures = {
        name: sql(f"{what.format(when=when)}", **day)
        for side, when in (("before", early), ("after", late))
        for name, what in (
            (f"orders_{side}", "COUNT(CASE WHEN {when} AND amount > 0 THEN 1 END)"),
            (f"spend_{side}", f"COALESCE(SUM(CASE WHEN {{when}} THEN {adds} END), 0)"),
        )
    }
    placed = select(["*"], orders.order_table([], sequence=False), "orders")
    each = select(
        [
            named(sql("MIN(CASE WHEN placed_on >= :f THEN placed_on END)", f=day["f"]), "first"),
            named(
                sql(
                    "COALESCE(MAX(CASE WHEN placed_on <= :b AND amount > 0 THEN 1 END), 0)",
                    b=day_literal(first),
                ),
                "known",
            ),
            *(named(m, n) for n, m in measures.items()),
        ],
        placed,
        "placed",
    )
    each = each.group_by(column("customer"), copy=False)
    # The rest depends only on the two counts of orders, of which there are few pairs.
    sums = {
        "first": "MIN(first)", "customers": "COUNT(*)", "s1": "SUM(spend_before)",
        "s2": "SUM(spend_after)",
        "moved": "COUNT(CASE WHEN spend_before <> 0 OR spend_after <> 0 THEN 1 END)",
    }  # fmt: skip
    pairs = select(
        [
            column("orders_before"),
            column("orders_after"),
            column("known"),
            *(named(sql(m), n) for n, m in sums.items()),
        ],
        each,
        "each",
    )
    frame = orders.frame(
        pairs.group_by(*map(column, ("orders_before", "orders_after", "known")), copy=False)
    )
    n1, n2, known, customers, s1, s2, touched = (
        frame[c].to_numpy(dtype=np.int64)
        for c in ("orders_before", "orders_after", "known", "customers", "s1", "s2", "moved")
    )
    stayed, gained, left = (n1 > 0) & (n2 > 0), (n1 == 0) & (n2 > 0), (n1 > 0) & (n2 == 0)
    more = half_away(_by_frequency(n1[stayed], n2[stayed], s1[stayed], s2[stayed]))
    neither, change = (n1 == 0) & (n2 == 0), s2 - s1

    def of(which: NDArray[np.bool_], values: NDArray[np.int64] = customers) -> int:
        return int(values[which].sum())

    minor = [
        (f"spend in the {length} days up to {wording.day(first)}", of(n1 > 0), int(s1.sum())),
        (FIRST_TIME, of(gained & (known == 0)), of(gained & (known == 0), change)),
        (RETURNED, of(gained & (known > 0)), of(gained & (known > 0), change)),
        (STOPPED, of(left), of(left, change)),
        (FREQUENCY, of(stayed), more),
        (ORDER_VALUE, of(stayed), of(stayed, change) - more),
        ("refunds of customers without a purchase", of(neither, touched), of(neither, change)),
        (f"spend in the {length} days up to {wording.day(last)}", of(n2 > 0), int(s2.sum())),
    ]  # fmt: skip
    scale = 10**orders.scheme.money.decimals
    table = pd.DataFrame(minor, columns=["part", "customers", "spend"])
    table["spend"] = ratio(table["spend"].to_numpy(dtype=np.int64), scale)
    begun = pd.to_datetime(frame["first"]).min().date() if len(frame) else start
    notes = []
    if begun > start + dt.timedelta(days=1):
        notes.append(
            f"The orders begin on {begun}, after {wording.day(start)}: they do not cover the "
            f"{length} days before {wording.day(first)}, so the change of spend is too large. Choose a "
            "later first day."
        )
    return table, notes

"""Comparison: who moved between two days, on the same yardstick, and what the change of spend is made of."""

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from fairladder import wording
from fairladder.book.read import Read
from fairladder.book.spend import counted, nobody_bought
from fairladder.conditions import Kind, frame_kinds
from fairladder.days import as_day
from fairladder.errors import DataError, UsageError, nearest
from fairladder.frames import rows_of
from fairladder.history.periods import calendar_of
from fairladder.numbers import EXACT_DECIMALS, half_away, ratio, to_minor
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer
from fairladder.scheme import STANCES, Scheme
from fairladder.scores.fitting import SCORES
from fairladder.scores.saved import SavedLadders, drift
from fairladder.scores.scoring import fit_ladders, score
from fairladder.sqltree import column, day_literal, named, select, sql
from fairladder.value.to_score import customers_to_score

NEW, GONE = "(new)", "(gone)"
Yardstick = Literal["then", "each"]


@dataclass(frozen=True)
class Comparison(Answer):
    """Two days side by side.

    ``frame``: from–to of segments: ``from_segment`` (``(new)`` for customers not there before), ``to_segment`` (``(gone)`` for
    those not there any more), ``customers``, ``spend_before``, ``spend_after``. ``rungs``: the same for each score and tier: ``ladder``,
    ``from_rung``, ``to_rung`` (null without a purchase or on one day only). ``movers``: customers in another
    segment, and new ones: ``customer``,
    ``name``, both segments, ``score_before``, ``score_after``, ``change`` (of the total score), ``spend_before``, ``spend_after``,
    ``orders_before``, ``orders_after``; those who rose the most first. ``parts``: what the change of spend is made of (``part``,
    ``customers``, ``spend``), adding up to the minor unit; empty for two saved scorings. ``drift`` of the earlier ladders.
    """

    frame: pd.DataFrame
    rungs: pd.DataFrame
    movers: pd.DataFrame
    parts: pd.DataFrame
    drift: pd.DataFrame
    then: dt.date | None
    now: dt.date | None
    returned: int
    """Customers in a win-back or leave segment then, who have bought since."""
    rose: int
    """Customers of both days in another segment whose total score is higher now."""
    fell: int
    """Those whose total score is lower now."""
    notes: tuple[str, ...]

    @property
    def moved(self) -> int:
        """How many of the customers of both days are in another segment."""
        both = ~self.frame["from_segment"].isin([NEW]) & ~self.frame["to_segment"].isin([GONE])
        return int(self.frame.loc[both & (self.frame["from_segment"] != self.frame["to_segment"]), "customers"].sum())

    @property
    def new(self) -> int:
        """How many customers are there now who were not then."""
        return int(self.frame.loc[self.frame["from_segment"] == NEW, "customers"].sum())

    def tables(self) -> dict[str, pd.DataFrame]:
        """``segments``, ``rungs``, ``movers``, ``spend_change`` and ``drift``."""
        return {
            "segments": self.frame, "rungs": self.rungs, "movers": self.movers, "spend-change": self.parts, "drift": self.drift,
        }  # fmt: skip

    def facts(self) -> dict[str, Any]:
        """The two days, where they are known."""
        return {name: day.isoformat() for name, day in (("then", self.then), ("now", self.now)) if day is not None}

    def __repr__(self) -> str:
        return f"{self.finding()}\n{self.frame.to_string(index=False)}"

    def finding(self) -> str:
        """How many moved, are new and returned."""
        return f"From {self.then} to {self.now}: {self.moved:,} in another segment, {self.new:,} new, {self.returned:,} returned"

    def pieces(self) -> list[Piece]:
        """From where to where, and what the change of spend is made of."""
        return [Piece("segments", self.frame), *([Piece("spend-change", self.parts)] if len(self.parts) else [])]


@dataclass(frozen=True)
class Paths(Answer):
    """Segments over several days. ``frame``: ``day``, ``segment``, ``stance``, ``customers``, ``spend``, a row for each.

    ``paths``: ``path`` (segments day after day, with ``(new)`` before a customer is there), ``customers``, ``spend`` on the last day;
    the commonest first.
    """

    frame: pd.DataFrame
    paths: pd.DataFrame
    days: tuple[dt.date, ...]

    def tables(self) -> dict[str, pd.DataFrame]:
        """``sizes`` and ``paths``."""
        return {"sizes": self.frame, "paths": self.paths}

    def __repr__(self) -> str:
        sizes = self.frame.pivot(index="segment", columns="day", values="customers")
        return f"{sizes.to_string()}\n{self.paths.head(10).to_string(index=False)}"

    def pieces(self) -> list[Piece]:
        """The commonest paths."""
        return [Piece("paths", self.paths)]


def compare(
    orders: Read, then: "str | dt.date", now: "str | dt.date | None" = None, *, yardstick: Yardstick = "then"
) -> Comparison:
    """Score the customers as of two days and follow who moved; the earlier day comes first, whatever the order given.

    ``now`` is the day of reckoning unless given. By default both days are scored on the earlier day's ladders, so that a move
    means that the customer changed and not the yardstick; ``yardstick="each"`` fits each day its own. The change of spend
    compares the days from one to the other with as many before: customers gained and lost, and for those in both, how often
    they order and how much, each at the average of the other.

    Raises UsageError for equal days or one after the day of reckoning, DataError where nobody had a purchase then.

    >>> import fairladder as fl
    >>> moved = fl.compare(fl.sample_orders(), "2025-12-31")
    >>> int(moved.frame["customers"].sum())
    1199
    """
    first, last = days_of(orders, then, now)
    if yardstick not in ("then", "each"):
        raise UsageError(f"There is no yardstick {yardstick!r}; there are then (the earlier day's ladders) and each.")
    before, after = orders.on(first), orders.on(last)
    if orders.engine.keeps_customers:
        from fairladder.review.compared_on_cluster import compared_there

        return compared_there(before, after, first, last, yardstick)
    customers = customers_to_score(before)
    if nobody_bought(customers):
        raise DataError(nobody_by(first))
    ladders = fit_ladders(customers, orders.scheme)
    was = score(customers, orders.scheme, ladders=ladders)
    later = customers_to_score(after)
    scored = score(later, orders.scheme, ladders=ladders if yardstick == "then" else None)
    was, scored = _there(was, first, orders.scheme), _there(scored, last, orders.scheme)
    parts, notes = change_of_spend(after, first, last)
    saved = SavedLadders.of(ladders, orders.scheme, customers, first)
    return _compared(was, scored, orders.scheme, first, last, parts, drift(saved, scored), notes)


def compare_scored(before: pd.DataFrame, after: pd.DataFrame, scheme: Scheme | None = None) -> Comparison:
    """The same of two scorings, made and kept at two times. What the change of spend is made of is not in them.

    Both need ``customer``, ``segment``, ``stance``, ``spend``, ``orders`` and the scores. Raises UsageError for a missing column or
    an id on two rows.
    """
    for when, frame in (("earlier", before), ("later", after)):
        needed = ("customer", "segment", "stance", "spend", "orders", "score_total", *SCORES)
        missing = [n for n in needed if n not in frame]
        if missing:
            raise UsageError(
                f"The {when} scoring has no column `{missing[0]}`; give two tables as `fairladder score` writes them."
            )
        if frame["customer"].duplicated().any():
            raise UsageError(
                f"The {when} scoring has `{frame['customer'][frame['customer'].duplicated()].iloc[0]}` on two rows."
            )
    nothing = pd.DataFrame({"part": [], "customers": [], "spend": []})
    return _compared(before, after, scheme or Scheme(), None, None, nothing, pd.DataFrame(), ())


def paths(orders: Read, then: "str | dt.date", now: "str | dt.date | None" = None, *, every: str = "quarter") -> Paths:
    """Segments as of ``then``, of the end of each period in between, and of ``now``, all on the first day's ladders.

    Raises as ``compare`` does, and UsageError for more than 60 days.
    """
    first, last = days_of(orders, then, now)
    unit = calendar_of(every, orders.scheme.time.year_starts)
    ends = [d.date() - dt.timedelta(days=1) for d in unit.starts(first, last + dt.timedelta(days=1))]
    days = sorted({first, last, *(d for d in ends if first < d < last)})
    if len(days) > 60:
        raise UsageError(
            f"From {first} to {last} there are {len(days)} {unit}s to score; take a longer --every, 60 days at most."
        )
    if orders.engine.keeps_customers:
        from fairladder.review.compared_on_cluster import paths_there

        return paths_there(orders, days)
    customers = customers_to_score(orders.on(days[0]))
    if nobody_bought(customers):
        raise DataError(nobody_by(first))
    ladders = fit_ladders(customers, orders.scheme)
    tables, steps = [], {}
    for day in days:
        scored = _there(score(customers_to_score(orders.on(day)), orders.scheme, ladders=ladders), day, orders.scheme)
        tables.append(_sizes(scored, orders.scheme))
        steps[day] = scored.set_index("customer")["segment"].astype(str)
        last_spend = scored.set_index("customer")["spend"]
    walked = pd.DataFrame(steps).fillna(NEW)
    path_texts = walked.agg(" → ".join, axis=1)
    path = pd.DataFrame({"path": path_texts, "spend": last_spend.reindex(walked.index).fillna(0.0)})
    counted_paths = path.groupby("path").agg(customers=("spend", "size"), spend=("spend", "sum")).reset_index()
    return paths_of(tables, counted_paths, days)


def paths_of(sizes: Sequence[pd.DataFrame], paths: pd.DataFrame, days: Sequence[dt.date]) -> Paths:
    """The answer from a table of sizes for each day and the paths in any order."""
    ordered = paths.sort_values(["customers", "path"], ascending=[False, True], ignore_index=True)
    columns = ["day", "segment", "stance", "customers", "spend"]
    table = pd.concat(
        [t.assign(day=pd.Timestamp(d).as_unit("s")) for t, d in zip(sizes, days, strict=True)], ignore_index=True
    )
    exact = {"spend": ratio(to_minor(ordered["spend"].to_numpy(np.float64), EXACT_DECIMALS), 10**EXACT_DECIMALS)}
    return Paths(table[columns], ordered.assign(**exact), tuple(days))


def nobody_by(day: dt.date) -> str:
    """What is said where nobody had a purchase by the earlier day."""
    return f"Nobody had a purchase by {day}, so there is nothing to compare with. Take a later first day."


def days_of(orders: Read, then: "str | dt.date", now: "str | dt.date | None") -> tuple[dt.date, dt.date]:
    """The earlier day and the later one. Raises UsageError for equal days, DataError where no row is used."""
    given = [as_day(then), as_day(now) if now is not None else orders.as_of]
    if given[1] is None:
        raise DataError(
            "No row is used, so there is no day to compare. `fairladder check` says what became of the rows."
        )
    first, last = sorted(d for d in given if d is not None)
    if first == last:
        raise UsageError(f"Both days are {first}; a comparison takes two.")
    return first, last


def _there(scored: pd.DataFrame, day: dt.date, scheme: Scheme) -> pd.DataFrame:
    """Customers who had a row by that day, and members of the customers file, unless they joined it later."""
    since = since_of(scheme, frame_kinds(scored))
    if since is None:
        return scored
    rows = scored["orders"] + scored["refunds"] + scored["zero_orders"]
    joined = scored[since].isna() | (scored[since] <= pd.Timestamp(day))
    return scored[((rows > 0) | joined).to_numpy()]


def since_of(scheme: Scheme, kinds: Mapping[str, Kind]) -> str | None:
    """The column of the day on which a customer joined, among columns of such kinds. Raises UsageError where it is none."""
    since = scheme.customers.since
    if since is not None and kinds.get(since) != "day":
        hint = "its cells are no days" if since in kinds else nearest(since, kinds)
        raise UsageError(f"[customers] since names `{since}`, the day on which a customer joined: {hint}.")
    return since


def _compared(
    was: pd.DataFrame, scored: pd.DataFrame, scheme: Scheme, first: dt.date | None, last: dt.date | None, parts: pd.DataFrame,
    drifted: pd.DataFrame, notes: Sequence[str],
) -> Comparison:  # fmt: skip
    ladders = [*SCORES, *(name for name in scheme.tiers if name in was and name in scored)]
    columns = ["customer", "segment", "stance", "spend", "orders", "score_total", *ladders]
    names = scored.set_index("customer")["name"] if "name" in scored else None
    both = was[columns].merge(scored[columns], on="customer", how="outer", suffixes=("_before", "_after"))
    for side, absent in (("before", NEW), ("after", GONE)):
        both[f"segment_{side}"] = both[f"segment_{side}"].astype(object).where(both[f"segment_{side}"].notna(), absent)
    flows = both.groupby(["segment_before", "segment_after"], observed=True).agg(
        customers=("customer", "size"), spend_before=("spend_before", "sum"), spend_after=("spend_after", "sum")
    )
    flows = flows.reset_index().rename(columns={"segment_before": "from_segment", "segment_after": "to_segment"})
    rungs = pd.concat([_moves(both, name) for name in ladders], ignore_index=True)
    late = both["stance_before"].astype(object).isin(["win-back", "leave"])
    returned = int((late & (both["orders_after"] > both["orders_before"])).sum())
    moved = both[both["segment_before"] != both["segment_after"]]
    movers = pd.DataFrame({
        "customer": moved["customer"], **({"name": moved["customer"].map(names)} if names is not None else {}),
        "from_segment": moved["segment_before"], "to_segment": moved["segment_after"],
        "score_before": moved["score_total_before"], "score_after": moved["score_total_after"],
        "change": moved["score_total_after"] - moved["score_total_before"],
        "spend_before": moved["spend_before"], "spend_after": moved["spend_after"],
        "orders_before": moved["orders_before"].astype("Int64"), "orders_after": moved["orders_after"].astype("Int64"),
    })  # fmt: skip
    movers = movers.sort_values(
        ["change", "spend_after", "customer"], ascending=[False, False, True], ignore_index=True
    )
    change = movers.loc[(movers["from_segment"] != NEW).to_numpy(), "change"].dropna()
    return Comparison(
        flows_table(flows, scheme),
        rungs_table(rungs, scheme),
        movers,
        parts,
        drifted,
        first,
        last,
        returned,
        int((change > 0).sum()),
        int((change < 0).sum()),
        tuple(notes),
    )


def flows_table(flows: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    """``Comparison.frame`` of such rows in any order, spends to the minor unit."""
    others = sorted(set(flows["from_segment"]) | set(flows["to_segment"]))
    place = {n: i for i, n in enumerate(dict.fromkeys([NEW, *(s.name for s in scheme.segments), GONE, *others]))}
    keys = ["from_segment", "to_segment"]
    return _to_minor_units(flows).sort_values(keys, key=lambda c: c.map(place), ignore_index=True)


def rungs_table(moves: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    """``Comparison.rungs`` of such rows in any order: ladders as in the scheme, from the best rung down, nulls last."""
    names = [*SCORES, *scheme.tiers]
    place = {name: names.index(name) for name in moves["ladder"].unique()}
    tiers = {name: {label: i for i, label in enumerate(tier.names())} for name, tier in scheme.tiers.items()}

    def standing(ladder: str, rung: object) -> float:
        if wording.missing(rung):
            return float("inf")
        return float(tiers[ladder][str(rung)]) if ladder in tiers else -float(str(rung))

    order = [(place[m.ladder], standing(m.ladder, m.from_rung), standing(m.ladder, m.to_rung)) for m in rows_of(moves)]
    ordered = moves.iloc[sorted(range(len(order)), key=order.__getitem__)].reset_index(drop=True)
    for name in ("from_rung", "to_rung"):
        plain = [None if wording.missing(v) else v if isinstance(v, str) else int(v) for v in ordered[name]]
        ordered[name] = pd.Series(plain, dtype=object)
    return _to_minor_units(ordered)


def _to_minor_units(table: pd.DataFrame) -> pd.DataFrame:
    """The table with its sums of spend rounded to what money can have, so that the order of adding does not show."""
    exact = {
        name: ratio(to_minor(table[name].to_numpy(np.float64), EXACT_DECIMALS), 10**EXACT_DECIMALS)
        for name in ("spend_before", "spend_after")
    }
    return table.assign(**exact)


def _moves(both: pd.DataFrame, ladder: str) -> pd.DataFrame:
    """From–to of one ladder's rungs or tiers."""
    sides = {
        f"{side}_rung": both[f"{ladder}_{when}"].astype(object) for side, when in (("from", "before"), ("to", "after"))
    }
    grouped = both.assign(**sides).groupby(list(sides), dropna=False, sort=True)
    moves = grouped.agg(
        customers=("customer", "size"), spend_before=("spend_before", "sum"), spend_after=("spend_after", "sum")
    )
    return moves.reset_index().assign(ladder=ladder)[["ladder", *sides, *moves.columns]]


def _sizes(scored: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    held = scored.groupby(scored["segment"].astype(str))["spend"].agg(["size", "sum"])
    return sizes_of(
        dict(zip(held.index, held["size"], strict=True)), dict(zip(held.index, held["sum"], strict=True)), scheme
    )


def sizes_of(customers: Mapping[str, int], spend: Mapping[str, float], scheme: Scheme) -> pd.DataFrame:
    """``segment``, ``stance``, ``customers``, ``spend``: a row for each segment of the scheme, by stance."""
    segments = sorted(scheme.segments, key=lambda s: STANCES.index(s.stance))
    minor = to_minor(np.array([spend.get(s.name, 0.0) for s in segments]), EXACT_DECIMALS)
    return pd.DataFrame({
        "segment": [s.name for s in segments], "stance": [s.stance for s in segments],
        "customers": [int(customers.get(s.name, 0)) for s in segments], "spend": ratio(minor, 10**EXACT_DECIMALS),
    })  # fmt: skip


def _by_frequency(
    n1: NDArray[np.int64], n2: NDArray[np.int64], s1: NDArray[np.int64], s2: NDArray[np.int64]
) -> Fraction:
    """Σ (n2 − n1)·½·(s1/n1 + s2/n2), exactly; ``s1`` and ``s2`` summed over all customers of a pair of counts."""
    pairs = zip(n1.tolist(), n2.tolist(), s1.tolist(), s2.tolist(), strict=True)
    return sum((Fraction(b - a, 2) * (Fraction(u, a) + Fraction(v, b)) for a, b, u, v in pairs), Fraction(0))


def change_of_spend(orders: Read, first: dt.date, last: dt.date) -> tuple[pd.DataFrame, list[str]]:
    """The change of spend from the days before ``first`` to as many after it, split exactly."""
    length = (last - first).days
    start = first - dt.timedelta(days=length)
    day = {n: day_literal(d) for n, d in (("a", start), ("b", first), ("c", last))}
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
    placed = select(["*"], orders.order_table([], sequence=False, history=False), "orders")
    each = select(
        [named(sql("MIN(placed_on)"), "first"), *(named(m, n) for n, m in measures.items())], placed, "placed"
    )
    each = each.group_by(column("customer"), copy=False)
    # What follows depends on the two counts of orders alone, of which few pairs occur.
    sums = {
        "first": "MIN(first)", "customers": "COUNT(*)", "s1": "SUM(spend_before)", "s2": "SUM(spend_after)",
        "moved": "COUNT(CASE WHEN spend_before <> 0 OR spend_after <> 0 THEN 1 END)",
    }  # fmt: skip
    pairs = select(
        [column("orders_before"), column("orders_after"), *(named(sql(m), n) for n, m in sums.items())], each, "each"
    )
    frame = orders.frame(pairs.group_by(column("orders_before"), column("orders_after"), copy=False))
    n1, n2, customers, s1, s2, touched = (
        frame[c].to_numpy(dtype=np.int64) for c in ("orders_before", "orders_after", "customers", "s1", "s2", "moved")
    )
    stayed, gained, gone = (n1 > 0) & (n2 > 0), (n1 == 0) & (n2 > 0), (n1 > 0) & (n2 == 0)
    more = half_away(_by_frequency(n1[stayed], n2[stayed], s1[stayed], s2[stayed]))
    neither, change = (n1 == 0) & (n2 == 0), s2 - s1

    def of(which: NDArray[np.bool_], values: NDArray[np.int64] = customers) -> int:
        return int(values[which].sum())

    minor = [
        (f"spend in the {length} days up to {first}", of(n1 > 0), int(s1.sum())),
        ("customers gained", of(gained), of(gained, change)), ("customers lost", of(gone), of(gone, change)),
        ("order frequency of those who stayed", of(stayed), more),
        ("order value of those who stayed", of(stayed), of(stayed, change) - more),
        ("refunds of customers without a purchase", of(neither, touched), of(neither, change)),
        (f"spend in the {length} days up to {last}", of(n2 > 0), int(s2.sum())),
    ]  # fmt: skip
    scale = 10**orders.scheme.money.decimals
    table = pd.DataFrame(minor, columns=["part", "customers", "spend"])
    table["spend"] = ratio(table["spend"].to_numpy(dtype=np.int64), scale)
    begun = pd.to_datetime(frame["first"]).min().date() if len(frame) else start
    notes = []
    if begun > start + dt.timedelta(days=1):
        notes.append(
            f"The orders begin on {begun}, after {wording.day(start)}: the {length} days before {first} are not all in them, and the "
            "change of spend is larger for it. Take a later first day."
        )
    return table, notes

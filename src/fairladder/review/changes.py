"""Find the smallest changes to one customer's orders that change their scores, with all other
customers unchanged.

Ladders are fitted to the counts of the other customers' values plus the changed value. Rules are
evaluated for many changed customers together, as rows of one table.
"""

import datetime as dt
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
from numpy.typing import NDArray
from sqlglot import exp

from fairladder import wording
from fairladder.book.customers import measured_customers
from fairladder.book.measure_trees import measures
from fairladder.book.measures import OF_PURCHASES
from fairladder.book.read import Read
from fairladder.book.standing import percentiles
from fairladder.columns import better
from fairladder.conditions import parse_condition
from fairladder.engine.arrays import as_array
from fairladder.engine.protocol import CustomerEngine
from fairladder.ladder import GroupedLadder, Ladder
from fairladder.numbers import to_minor
from fairladder.scheme import Scheme
from fairladder.scores.as_sql import rules_of, totals
from fairladder.scores.fitting import SCORES, AnyLadder, score_ladder, tier_ladder
from fairladder.scores.scored import SCORE_KINDS, Scored, as_number, scored_of
from fairladder.sqltree import case, column, day_literal, named, select, sql

#: Measures that depend on other customers' rungs or shares: all customers are scored again for each
#: change.
_OF_ALL = frozenset(
    {
        *SCORES,
        "score_total",
        "percentile",
        "percent_rank",
        "spend_share",
        "spend_share_running",
        "spend_rank",
    }
)
#: Number of amounts of a range that are tried together.
_TRIED = 8


@dataclass(frozen=True)
class Change:
    """The smallest single change with an effect; anything smaller has none."""

    kind: str
    """``spend``, ``orders``, ``recency``, ``purchase`` or ``wait``."""
    by: int
    """Minor units, purchases or days; negative for a loss."""
    effect: str
    """The resulting score and rung."""
    segment: str
    """The resulting segment."""
    text: str


@dataclass(frozen=True)
class Others:
    """Distinct rising values of the other customers with a purchase, and their frequencies."""

    values: NDArray[Any]
    counts: NDArray[np.int64]

    def with_one(self, value: Any) -> tuple[NDArray[Any], NDArray[np.int64]]:
        """Return the values and frequencies with one more customer of this value."""
        at = int(np.searchsorted(self.values, value))
        if at < len(self.values) and self.values[at] == value:
            counts = self.counts.copy()
            counts[at] += 1
            return self.values, counts
        return np.insert(self.values, at, value), np.insert(self.counts, at, 1)

    def below(self, value: Any) -> int:
        """Return how many customers have less."""
        return int(self.counts[: np.searchsorted(self.values, value)].sum())

    def at(self, value: Any) -> int:
        """Return how many customers have as much."""
        return int(self.counts[self.values == value].sum())


def others_of(
    people: Scored, measure: str, within: str | None, group: str | None, one: str
) -> Others:
    """Return the values of a measure among the other customers with a purchase, of one group if
    ladders are within groups.
    """
    value = as_number(measure, people.kinds)
    rows = select([named(value, "value")], people.relation).where(
        sql("orders > 0 AND customer <> :c AND :v IS NOT NULL", c=exp.Literal.string(one), v=value),
        copy=False,
    )
    if within is not None:
        cell = exp.cast(column(within), "VARCHAR")
        same = (
            sql(":c IS NULL", c=cell)
            if group is None
            else sql(":c = :g", c=cell, g=exp.Literal.string(group))
        )
        rows = rows.where(same, copy=False)
    return _counted(people.engine, rows)


def _counted(engine: CustomerEngine, rows: exp.Select) -> Others:
    query = select([column("value"), named(sql("COUNT(*)"), "n")], rows, "valued").group_by(
        column("value"), copy=False
    )
    table = engine.table(query.order_by(column("value"), copy=False))
    return Others(as_array(table["value"]), as_array(table["n"]).astype(np.int64))


@dataclass(frozen=True)
class Candidate:
    """The customer's purchases after a change: the columns of ``OF_PURCHASES``, amounts in minor
    units.
    """

    orders: int
    lines: int
    spend: int
    smallest_order: int
    largest_order: int
    first_order: dt.date
    last_order: dt.date


assert tuple(Candidate.__dataclass_fields__) == OF_PURCHASES


@dataclass(frozen=True)
class Changes:
    """Finds the smallest changes of one customer with a purchase."""

    orders: Read
    people: Scored
    one: str
    own: pd.DataFrame
    """The customer's orders, as in the ledger."""
    row: Mapping[str, Any]
    """The customer's scores and measures."""
    _others: dict[tuple[str, str | None], Others] = field(default_factory=dict, repr=False)

    @property
    def scheme(self) -> Scheme:
        """All settings."""
        return self.people.scheme

    @property
    def as_of(self) -> dt.date:
        """The as-of date."""
        assert self.orders.as_of is not None
        return self.orders.as_of

    @property
    def scale(self) -> int:
        """Minor units per major unit."""
        return int(10**self.scheme.money.decimals)

    def all(self) -> tuple[Change, ...]:
        """Return every kind of change that has an effect on the customer."""
        with self.people.engine.passing():
            changes = [
                self._spend(up=True), self._orders(up=True), self._recency(), self._purchase_now(),
                self._wait(),
                self._spend(up=False), self._orders(up=False),
            ]  # fmt: skip
        return tuple(c for c in changes if c is not None)

    def changed(self, minor: int = 0, orders: int = 0, days: int = 0, today: int = 0) -> Candidate:
        """Return the purchases after a change: ``minor`` units more on the latest one, ``orders``
        more on its day, or the latest one ``days`` later.

        ``today`` adds one purchase of that many minor units on the as-of date. An added purchase
        has one line.
        """
        paid = self._paid
        amounts = to_minor(paid["amount"].to_numpy(), self.scheme.money.decimals).tolist()
        lines, before = paid["lines"].astype(int).tolist(), sum(amounts)
        amounts[-1] += minor
        amounts = amounts + [1] * orders if orders >= 0 else amounts[:orders] or amounts[:1]
        lines = lines + [1] * orders if orders >= 0 else lines[:orders] or lines[:1]
        dates = [d.date() for d in paid["placed_on"]]
        last = dates[-1] + dt.timedelta(days=days) if orders >= 0 else dates[:orders][-1]
        first = last if len(dates) == 1 else dates[0]
        if today:
            amounts, lines, last = [*amounts, today], [*lines, 1], self.as_of
        spend = self._minor(self.row["spend"]) + sum(amounts) - before
        return Candidate(len(amounts), sum(lines), spend, min(amounts), max(amounts), first, last)

    @property
    def _paid(self) -> pd.DataFrame:
        return self.own[self.own["nth"].notna()].sort_values("nth")

    def _minor(self, amount: float) -> int:
        return int(to_minor(np.array([amount]), self.scheme.money.decimals)[0])

    def _measure(self, name: str, candidate: Candidate) -> Any:
        """Return the measure of a score."""
        if name == "recency_days":
            return (self.as_of - candidate.last_order).days
        return candidate.orders if name == "orders" else candidate.spend / self.scale

    def ladder(self, name: str, measure: str, value: Any) -> Ladder:
        """Fit the ladder of a score or tier to the others and this value."""
        tier = self.scheme.tiers.get(name)
        within = tier.within if tier is not None else self.scheme.scores.within
        if (measure, within) not in self._others:
            group = None if within is None else self._group(within)
            self._others[measure, within] = others_of(self.people, measure, within, group, self.one)
        values, counts = self._others[measure, within].with_one(value)
        day = self.people.kinds.get(measure) == "day"
        known = values.astype("datetime64[D]") if day else values
        return (
            tier_ladder(tier, known, counts)
            if tier
            else score_ladder(SCORES[name][1], self.scheme, known, counts)
        )

    def _group(self, within: str) -> str | None:
        value = self.row[within]
        return None if wording.missing(value) else str(value)

    def rung(self, name: str, candidate: Candidate) -> int:
        """Return the customer's rung of a score."""
        value = self._measure(SCORES[name][0], candidate)
        return int(self.ladder(name, SCORES[name][0], value).place(np.array([value]))[0])

    def scored(self, candidates: Sequence[Candidate]) -> list[dict[str, Any]]:
        """Return the customer with all measures, scores, tiers and the segment after each of these
        changes.
        """
        if not candidates:
            return []
        of = {self.scheme.scores.percentile_of, *(tier.of for tier in self.scheme.tiers.values())}
        if of & _OF_ALL:
            return [self._scored_with_all(candidate) for candidate in candidates]
        measured = self._measured(candidates)
        rows = measured.to_pylist()
        added: dict[str, list[Any]] = {}
        for name in SCORES:
            added[name] = [self.rung(name, candidate) for candidate in candidates]
        for name, tier in self.scheme.tiers.items():
            added[name] = [self._label(name, tier.of, row[tier.of]) for row in rows]
        standing = [self._standing(row[self.scheme.scores.percentile_of]) for row in rows]
        added |= {
            name: [position[name] for position in standing] for name in ("below", "equal", "known")
        }
        for name, values in added.items():
            kind = pa.string() if name in self.scheme.tiers else pa.int64()
            measured = measured.append_column(name, pa.array(values, kind))
        return self._placed(measured)

    def _label(self, name: str, measure: str, value: Any) -> str | None:
        if value is None:
            return None
        tier = self.scheme.tiers[name]
        number = (value - dt.date(1970, 1, 1)).days if isinstance(value, dt.date) else value
        ladder = self.ladder(name, measure, number)
        there = np.array([number]).astype("datetime64[D]") if ladder.days else np.array([number])
        rung = int(ladder.place(there)[0])
        return tier.names()[tier.size - rung] if rung else None

    def _standing(self, value: Any) -> dict[str, int]:
        """Return how many customers with a purchase are below, at, and anywhere on the measure of
        percentiles.
        """
        of = self.scheme.scores.percentile_of
        if (of, None) not in self._others:
            self._others[of, None] = others_of(self.people, of, None, None, self.one)
        others = self._others[of, None]
        number = (value - dt.date(1970, 1, 1)).days if isinstance(value, dt.date) else value
        n = int(others.counts.sum())
        if number is None:
            return {"below": 0, "equal": 0, "known": n}
        return {"below": others.below(number), "equal": others.at(number) + 1, "known": n + 1}

    def _measured(self, candidates: Sequence[Candidate]) -> pa.Table:
        """Return the measures after each change, in the order of the changes."""
        spends, engine = self._spends(), self.people.engine
        columns: dict[str, Any] = {
            name: [getattr(c, name) for c in candidates] for name in OF_PURCHASES
        }
        whole = np.where(spends.values > 0, spends.values * spends.counts, 0)
        positive = [int(whole.sum()) + max(c.spend, 0) for c in candidates]
        held = [int(whole[spends.values >= c.spend].sum()) + max(c.spend, 0) for c in candidates]
        rank = [1 + int(spends.counts[spends.values > c.spend].sum()) for c in candidates]
        numbers = list(range(len(candidates)))
        offered = engine.offer(
            pa.table(
                {
                    **columns,
                    "all positive": positive,
                    "held from": held,
                    "rank here": rank,
                    "number": numbers,
                }
            )
        )
        refunds = {n: exp.convert(int(self.row[n])) for n in ("refunds", "zero_orders")}
        theirs = exp.Literal.string(self.one)
        base = select(
            ["*", named(theirs, "customer"), *(named(tree, n) for n, tree in refunds.items())],
            offered,
            "offered",
        )
        today, decimals = day_literal(self.as_of), self.scheme.money.decimals
        made = measures(
            (), today, column("all positive"), column("held from"), column("rank here"), decimals
        )
        measured = select([*made, column("number")], base, "base")
        own = [
            n
            for n in self.people.kinds
            if n not in {m.alias for m in made} and n not in _added(self.scheme)
        ]
        mine = select(list(map(column, own)), self.people.relation).where(
            sql("customer = :c", c=theirs), copy=False
        )
        everything = select(
            ["measured.*", *(exp.column(n, "mine", quoted=True) for n in own)], measured, "measured"
        )
        if own:
            everything = everything.join(
                mine.subquery("mine", copy=False), join_type="cross", copy=False
            )
        return engine.table(everything.order_by("number", copy=False))

    def _spends(self) -> Others:
        """Return the spend of all other customers, in minor units."""
        if ("spend", "minor") not in self._others:
            rows = select([named(column("spend"), "value")], self.orders.base)
            rows = rows.where(sql("customer <> :c", c=exp.Literal.string(self.one)), copy=False)
            self._others["spend", "minor"] = _counted(self.people.engine, rows)
        return self._others["spend", "minor"]

    def _placed(self, measured: pa.Table) -> list[dict[str, Any]]:
        """Return changed customers with their rungs, tiers and segments."""
        engine, scheme = self.people.engine, self.scheme
        found = percentiles(
            column("below"), column("equal"), column("known"), better(scheme.scores.percentile_of)
        )
        ranked = [named(sql("CASE WHEN equal > 0 THEN :t END", t=t), n) for n, t in found.items()]
        scored = select(["*", *totals(scheme), *ranked], engine.offer(measured))
        rules = rules_of(scheme, {**self.people.kinds, **SCORE_KINDS})
        segment = case(rules, exp.Literal.string(scheme.segments[-1].name))
        placed = select(["*", named(segment, "segment")], scored, "scored").order_by(
            "number", copy=False
        )
        rows: list[dict[str, Any]] = engine.table(placed).to_pylist()
        return rows

    def _scored_with_all(self, candidate: Candidate) -> dict[str, Any]:
        """Return the customer after one change that also affects other customers: all customers are
        measured and scored again.
        """
        engine, orders = self.people.engine, self.orders
        values = {name: exp.convert(getattr(candidate, name)) for name in OF_PURCHASES}
        values |= {
            n: exp.cast(tree, "DATE")
            for n, tree in values.items()
            if n in ("first_order", "last_order")
        }
        mine = sql("customer = :c", c=exp.Literal.string(self.one))
        there = engine.columns(orders.base)
        trees = {
            n: case([(mine, values[n])], column(n)) if n in values else column(n) for n in there
        }
        with engine.passing():
            base = engine.keep(select([named(tree, n) for n, tree in trees.items()], orders.base))
            spends = self._spends()
            positive = int(
                spends.values[spends.values > 0] @ spends.counts[spends.values > 0]
            ) + max(candidate.spend, 0)
            made = measured_customers(orders, base, replace(orders.groups, positive=positive))
            forecast = [
                n
                for n in self.people.kinds
                if n not in made.named_selects and n not in _added(self.scheme)
            ]
            people = engine.keep(self._with_forecast(made, forecast))
            kinds = {n: k for n, k in self.people.kinds.items() if n not in _added(self.scheme)}
            scored = scored_of(engine, self.scheme, people, kinds, None)
            row: dict[str, Any] = engine.table(
                select(["*"], scored.relation).where(mine, copy=False)
            ).to_pylist()[0]
        return row

    def _with_forecast(self, made: exp.Select, forecast: Sequence[str]) -> exp.Select:
        """Return the customers with forecast columns, which stay unchanged."""
        if not forecast:
            return made
        held = select(
            [named(column("customer"), "whose"), *map(column, forecast)], self.people.relation
        )
        both = select(["made.*", *map(column, forecast)], made, "made")
        return both.join(
            held.subquery("held", copy=False),
            on=sql("made.customer = whose"),
            join_type="left",
            copy=False,
        )

    def _now(self, score_name: str) -> int:
        value = self.row[score_name]
        return 0 if wording.missing(value) else int(value)

    @property
    def _was(self) -> str:
        return str(self.row["segment"])

    def _change(self, kind: str, by: int, name: str, candidate: Candidate, words: str) -> Change:
        segment = str(self.scored([candidate])[0]["segment"])
        effect = f"{name} {self._now(name)} → {self.rung(name, candidate)}"
        where = f"segment {segment}" if segment != self._was else f"still {segment}"
        return Change(kind, by, effect, segment, f"{words}: {effect}, {where}.")

    def _money(self, minor: int) -> str:
        return wording.money(minor / self.scale, self.scheme.money.decimals)

    def _spend(self, up: bool) -> Change | None:
        now, sign = self._now("monetary_score"), 1 if up else -1
        latest = self._minor(self._paid["amount"].to_numpy()[-1])
        most = self._most_spend() - self._minor(self.row["spend"]) + 1 if up else latest - 1

        def moves(by: int) -> bool:
            rung = self.rung("monetary_score", self.changed(minor=sign * by))
            return rung > now if up else rung < now

        by = _least(most, moves)
        if by is None:
            return None
        words = f"{self._money(by)} {'more' if up else 'less'} on the latest purchase"
        return self._change(
            "spend", sign * by, "monetary_score", self.changed(minor=sign * by), words
        )

    def _most_spend(self) -> int:
        """Return the largest spend of any customer."""
        return int(max(self._spends().values.max(initial=0), self._minor(self.row["spend"])))

    def _orders(self, up: bool) -> Change | None:
        now, count, sign = self._now("frequency_score"), int(self.row["orders"]), 1 if up else -1
        others = (
            others_of(self.people, "orders", None, None, self.one).values if up else np.zeros(0)
        )
        most = max(int(others.max(initial=0)), count) - count + 1 if up else count - 1

        def moves(by: int) -> bool:
            rung = self.rung("frequency_score", self.changed(orders=sign * by))
            return rung > now if up else rung < now

        by = _least(most, moves)
        if by is None:
            return None
        what = "purchase" if by == 1 else "purchases"
        more = f"{'One' if by == 1 else f'{by:,}'} more {what} on the day of the latest"
        words = more if up else f"Without the latest {f'{by:,} ' if by > 1 else ''}{what}"
        return self._change(
            "orders", sign * by, "frequency_score", self.changed(orders=sign * by), words
        )

    def _recency(self) -> Change | None:
        now, days = self._now("recency_score"), int(self.row["recency_days"])
        by = _least(days, lambda n: self.rung("recency_score", self.changed(days=n)) > now)
        if by is None:
            return None
        last = self._paid["placed_on"].iloc[-1].date() + dt.timedelta(days=by)
        words = f"Had the latest purchase been {by:,} {'day' if by == 1 else 'days'} later, on {wording.day(last)}"
        return self._change("recency", by, "recency_score", self.changed(days=by), words)

    def _purchase_now(self) -> Change | None:
        """Return the smallest purchase on the as-of date that changes the segment; one unit less is
        verified not to.

        The segment can only change where a value used by a rule crosses a number in it. Values are
        monotonic in the amount, so each such amount is found by bisection, and the smallest one
        that changes the segment is returned.
        """
        after: dict[int, dict[str, Any]] = {}

        def look(amounts: Iterable[int]) -> None:
            new = [amount for amount in dict.fromkeys(amounts) if amount not in after]
            after.update(
                zip(new, self.scored([self.changed(today=amount) for amount in new]), strict=True)
            )

        def moved(amount: int) -> bool:
            look([amount])
            return str(after[amount]["segment"]) != self._was

        amounts = sorted({1, *self._turning_points(look, after)})
        look(amounts)
        found = next((amount for amount in amounts if moved(amount)), None)
        if found is None:
            return None
        if found > 1 and moved(found - 1):
            below = max((amount for amount in amounts if amount < found), default=0)
            found = below + (_least(found - below, lambda n: moved(below + n)) or found - below)
        segment = str(after[found]["segment"])
        least = "of any amount" if found == 1 else f"of at least {self._money(found)}"
        text = f"One more purchase on {wording.day(self.as_of)}, {least}: segment {segment}."
        return Change("purchase", found, f"segment {self._was} → {segment}", segment, text)

    def _turning_points(
        self, look: Callable[[Iterable[int]], None], after: Mapping[int, Mapping[str, Any]]
    ) -> Iterator[int]:
        """Yield amounts of a purchase at which a value in some rule reaches or passes a number in
        it.

        ``look`` scores the customer after purchases of some amounts; ``after`` has the results so
        far.
        """
        numbers = _rule_numbers(self.people)
        largest = max((abs(n) for _, n in numbers), default=0)
        spend = self._minor(self.row["spend"])
        most = (
            self._most_spend()
            - spend
            + int(min(largest, 10**9) * self.scale * (len(self.own) + 2))
            + 1
        )
        look([1, most])
        searches: dict[tuple[str, float, bool], tuple[int, int]] = {}
        for name, number in sorted(numbers):
            low, high = (self._number(after[amount], name) for amount in (1, most))
            if low is None or high is None or low == high:
                continue
            for strict in (False, True):
                if _passed(low, number, strict) != _passed(high, number, strict):
                    searches[name, number, strict] = (1, most)
        while open_ := {key: ends for key, ends in searches.items() if ends[1] - ends[0] > 1}:
            look(amount for ends in open_.values() for amount in _between(*ends))
            for (name, number, strict), (low_end, high_end) in open_.items():
                before = _passed(self._number(after[low_end], name), number, strict)
                there = [a for a in after if low_end < a < high_end]
                same = {
                    a
                    for a in there
                    if _passed(self._number(after[a], name), number, strict) in (before, None)
                }
                under = max(same, default=low_end)
                over = min((a for a in there if a > under and a not in same), default=high_end)
                searches[name, number, strict] = (under, over)
        yield from (over for _, over in searches.values())

    def _number(self, row: Mapping[str, Any], name: str) -> float | None:
        value: Any = row.get(name)
        if name in self.scheme.tiers and not wording.missing(value):
            return float(self.scheme.tiers[name].names().index(str(value)))
        return None if wording.missing(value) or isinstance(value, str | dt.date) else float(value)

    def _wait(self) -> Change | None:
        """Return how long the recency score lasts without a purchase, on today's ladder."""
        ladder: AnyLadder = self.people.ladders["recency_score"]
        if isinstance(ladder, GroupedLadder):
            ladder = ladder.ladders[self._group(ladder.within)]
        rung, days = self._now("recency_score"), int(self.row["recency_days"])
        limits = [c for c in ladder.cuts if np.isfinite(c) and c >= days]
        if rung == 1 or not limits:
            return None
        left = int(min(limits)) - days
        after = int(ladder.place(np.array([days + left + 1]))[0])
        until = wording.day(self.as_of + dt.timedelta(days=left))
        text = f"One more purchase by {until} keeps recency_score {rung} on today's ladder; a day later it is {after}."
        return Change("wait", left, f"recency_score {rung} until then", self._was, text)


def _added(scheme: Scheme) -> set[str]:
    """Return the columns that scoring adds."""
    return {*SCORE_KINDS, *scheme.tiers, "segment", "stance"}


def _least(most: int, moves: Callable[[int], bool]) -> int | None:
    """Return the smallest change up to ``most`` that has an effect; all larger changes must have it
    as well.
    """
    if most < 1 or not moves(most):
        return None
    low, high = 0, most
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if moves(middle) else (middle, high)
    return high


def _between(low: int, high: int) -> list[int]:
    """Return up to ``_TRIED`` whole numbers, evenly spaced between two others."""
    return sorted(
        {low + (high - low) * i // (_TRIED + 1) for i in range(1, _TRIED + 1)} - {low, high}
    )


def _passed(value: float | None, number: float, strict: bool) -> bool | None:
    """Return True if the value has reached the number, or exceeds it if ``strict``; None if it is
    not known.
    """
    return None if value is None else value > number if strict else value >= number


def _rule_numbers(people: Scored) -> set[tuple[str, float]]:
    """Return every pair of a column and a number that occur in one rule. Tiers are compared with
    labels, so each gets the positions of all its labels.
    """
    found: set[tuple[str, float]] = set()
    kinds = {**people.kinds, **{n: people.kinds[ours] for n, ours in people.own_names.items()}}
    for segment in people.scheme.segments:
        if segment.when is None:
            continue
        condition = parse_condition(segment.when, kinds, segment.name)
        numbers = {float(n.name) * (-1 if isinstance(n.parent,
        exp.Neg) else 1) for n in condition.tree.find_all(exp.Literal)
                   if not n.is_string}  # fmt: skip
        found |= {(name, number) for name in condition.names for number in numbers}
        tiers = people.scheme.tiers
        found |= {
            (n, float(place))
            for n in condition.names & tiers.keys()
            for place in range(tiers[n].size)
        }
    return found

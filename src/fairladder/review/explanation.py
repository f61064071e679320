"""Why a customer stands where they stand: values, cuts, rungs, the rules tried, and the smallest changes that move them."""

import datetime as dt
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field, fields
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
from sqlglot import exp

from fairladder import wording
from fairladder.book.measures import OF_PURCHASES, with_measures
from fairladder.book.read import Read
from fairladder.book.spend import bought, buyers
from fairladder.conditions import Condition, frame_kinds, parse_condition, to_engine
from fairladder.errors import DataError, UsageError, nearest
from fairladder.frames import customers_frame
from fairladder.history.ledger import order_ledger
from fairladder.ladder import GroupedLadder, Ladder
from fairladder.numbers import to_minor
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer
from fairladder.scheme import Scheme, Tier
from fairladder.scores.fitting import SCORES, fit_score, group_labels, measure_values
from fairladder.scores.scored import Scored, as_number
from fairladder.scores.scoring import by_own_names, fit_ladders, score
from fairladder.sqltree import column, named, select, sql
from fairladder.value.to_score import customers_to_score, scored


@dataclass(frozen=True)
class Standing:
    """Where one value stands on its ladder."""

    name: str
    """Of the score or tier."""
    measure: str
    value: Any
    rung: int
    rungs: int
    label: str
    """The tier's name; the rung for a score."""
    above: Any
    """The rung holds values above this one (null at the end of the ladder) …"""
    up_to: Any
    """… and up to this one."""
    percentile: float
    same: int
    """How many customers share the value, this one included."""
    among: int
    cuts: tuple[Any, ...]
    sizes: tuple[int, ...]
    better: str
    labels: tuple[str, ...]
    """Names of the rungs, from the lowest."""


@dataclass(frozen=True)
class RuleTried:
    """A rule that was asked, whether it held, and the parts of its condition that did not."""

    segment: str
    condition: str
    held: bool
    failed: tuple[str, ...]


@dataclass(frozen=True)
class Change:
    """The smallest single change that has an effect; anything smaller has not."""

    kind: str
    """``spend``, ``orders``, ``recency``, ``purchase`` or ``wait``."""
    by: int
    """Minor units, purchases or days; negative where it is a loss."""
    effect: str
    """Score and rung that come of it."""
    segment: str
    """The segment after it."""
    text: str


@dataclass(frozen=True)
class Explanation(Answer):
    """Everything that placed one customer. ``frame`` is the customer's orders, ``repr`` the whole as text."""

    customer: str
    name: str | None
    as_of: dt.date
    segment: str
    stance: str
    standings: tuple[Standing, ...]
    rules: tuple[RuleTried, ...]
    changes: tuple[Change, ...]
    frame: pd.DataFrame = field(repr=False)

    def as_json(self) -> dict[str, Any]:
        """Plain values, the orders included."""
        plain = {k: v for k, v in asdict(self).items() if k != "frame"}
        return {
            **plain,
            "as_of": self.as_of.isoformat(),
            "orders": [{str(k): _jsonable(v) for k, v in row.items()} for row in self.frame.to_dict("records")],
        }

    def lines(self) -> list[str]:
        """The whole as plain sentences."""
        who = f"{self.customer}{f' ({self.name})' if self.name else ''}"
        lines = [f"{who} is in {self.segment} ({self.stance}) as of {wording.day(self.as_of)}."]
        lines += [_sentence(s) for s in self.standings]
        for rule in self.rules:
            lines.append(
                f"Rule {rule.segment}: "
                + (f"holds ({rule.condition})." if rule.held else f"not, since {' and '.join(rule.failed)}.")
            )
        return [*lines, *(c.text for c in self.changes)]

    def tables(self) -> dict[str, pd.DataFrame]:
        """``changes``, ``standings``, ``rules`` and ``orders``."""
        return tables_of([self])

    def facts(self) -> dict[str, Any]:
        """All but the orders, as plain values."""
        return {k: v for k, v in self.as_json().items() if k != "orders"}

    def finding(self) -> str:
        """The explanation, line by line."""
        return "\n".join(self.lines())

    def pieces(self) -> list[Piece]:
        """The customer's orders."""
        return [Piece("orders", self.frame)]

    def __repr__(self) -> str:
        return self.finding()


def tables_of(explained: Sequence[Explanation]) -> dict[str, pd.DataFrame]:
    """The tables of several explanations, each row with the customer's id."""
    parts = {}
    for name, kind in (("changes", Change), ("standings", Standing), ("rules", RuleTried)):
        rows = [
            {"customer": e.customer, **{k: _cell(v) for k, v in asdict(one).items()}}
            for e in explained for one in getattr(e, name)
        ]  # fmt: skip
        parts[name] = pd.DataFrame(rows, columns=["customer", *(f.name for f in fields(kind))])
    return {**parts, "orders": pd.concat([e.frame for e in explained], ignore_index=True)}


def _cell(value: object) -> object:
    return "; ".join(map(str, value)) if isinstance(value, tuple) else value


def _jsonable_row(row: dict[Any, Any]) -> dict[str, Any]:
    return {str(name): _jsonable(value) for name, value in row.items()}


def _jsonable(value: Any) -> Any:
    if wording.missing(value):
        return None
    return value.date().isoformat() if isinstance(value, pd.Timestamp) else value


def explain(orders: Read, ids: str | Sequence[str]) -> list[Explanation]:
    """Explain how each of these customers (or one) comes to scores, tiers and segment.

    Changes are found by refitting the ladders with this one customer changed and everybody else as they are, and are
    exact: the change moves the customer as told, and a minor unit, purchase or day less does not. A forecast that rules
    speak of is held as it is. Customers of a cluster come here for this; where they are more than a million, no changes are
    looked for. Raises UsageError for an id that is not among the customers, DataError where nobody has a purchase.

    >>> import fairladder as fl
    >>> why = fl.explain(fl.sample_orders(), ["09302"])
    >>> why[0].lines()[0]
    '09302 (Nesta Ashton) is in mainstay (keep) as of 30 June 2026.'
    """
    ids = [ids] if isinstance(ids, str) else ids
    people = scored(orders)
    assert orders.as_of is not None
    engine, scheme = people.engine, orders.scheme
    offered = exp.alias_(engine.offer(pa.table({"id": pa.array(ids, pa.string())})), "asked", table=True)
    rows = select(["people.*"], exp.alias_(people.relation, "people", table=True))
    theirs = engine.keep(rows.join(offered, on="asked.id = people.customer", copy=False))
    frame = customers_frame(engine.table(select(["*"], theirs)), scheme).set_index("customer", drop=False)
    for one in ids:
        if one not in frame.index:
            raise UsageError(f"There is no customer `{one}`. {_alike(people, one)}")
    ledger, tests = order_ledger(orders, customers=ids), _Tests.of(people, theirs)
    changes: Callable[[str, pd.DataFrame], tuple[Change, ...]] = _changes_of(orders, people)
    explained = []
    for one in ids:
        row = frame.loc[[one]].reset_index(drop=True)
        own = ledger[ledger["customer"] == one].reset_index(drop=True)
        paying = int(row["orders"].iloc[0]) > 0
        explained.append(
            Explanation(
                one, _text(row, "name"), orders.as_of, str(row["segment"].iloc[0]), str(row["stance"].iloc[0]),
                _standings(people, row) if paying else (), tuple(tests.tried(row)), changes(one, own) if paying else (), own,
            )
        )  # fmt: skip
    return explained


def explained_segment(orders: Read, segment: str, count: int) -> list[str]:
    """Ids of a segment, the most spend first. Raises DataError where it holds nobody."""
    people = scored(orders)
    held = select([column("customer")], people.relation)
    held = held.where(sql("segment = :s", s=exp.Literal.string(segment)), copy=False)
    ids = people.engine.table(held.order_by("spend DESC", column("customer"), copy=False).limit(count, copy=False))
    if not len(ids):
        raise DataError(f"Segment {segment} holds nobody, so there is nobody to explain.")
    return [str(c) for c in ids["customer"].to_pylist()]


def _alike(people: Scored, one: str) -> str:
    """Which id could be meant."""
    if people.engine.limits.rows_here is not None:
        return "Ids are as they are written in the orders, zeros included."
    query = select([column("customer")], people.relation).order_by("customer", copy=False)
    known = people.engine.table(query)["customer"].to_pylist()
    alike = [k for k in known if k.lstrip("0").casefold() == one.strip().lstrip("0").casefold()]
    return f"Did you mean `{alike[0]}`?" if alike else nearest(one, known)


def _changes_of(orders: Read, people: Scored) -> "Callable[[str, pd.DataFrame], tuple[Change, ...]]":
    """Looks for changes to a customer's own orders, where all customers may come to this machine; else finds none."""
    if not orders.groups.few:
        return lambda _, __: ()
    customers = customers_to_score(orders)
    known = customers["customer"].tolist()
    ladders = dict(people.ladders)
    everybody = score(customers, orders.scheme, ladders=ladders)
    assert orders.as_of is not None
    day = orders.as_of

    def changes(one: str, own: pd.DataFrame) -> tuple[Change, ...]:
        return _Changes(customers, known.index(one), own, orders.scheme, day, everybody).all(ladders)

    return changes


def _text(row: pd.DataFrame, name: str) -> str | None:
    return None if name not in row or row[name].isna().iloc[0] else str(row[name].iloc[0])


# --------------------------------------------------------------------------------------------------------- standings


def ladders_asked(scheme: Scheme) -> list[tuple[str, str, Tier | None]]:
    """Score or tier, its measure, and the tier."""
    asked: list[tuple[str, str, Tier | None]] = [(name, measure, None) for name, (measure, _) in SCORES.items()]
    return [*asked, *((name, tier.of, tier) for name, tier in scheme.tiers.items())]


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


def standing_of(
    name: str, measure: str, tier: Tier | None, ladder: Ladder, number: Any, stand: float, same: int, among: int
) -> Standing:
    """Where a number stands on its ladder, of which percentile and equals among others are known; days count from 1970."""
    days = np.array([number]).astype("datetime64[D]") if ladder.days else np.array([number])
    rung = int(ladder.place(days)[0])
    place = rung if ladder.better == "high" else ladder.rungs + 1 - rung
    ends = [-np.inf, *ladder.cuts, np.inf]
    labels = tuple(reversed(tier.names())) if tier else tuple(str(i + 1) for i in range(ladder.rungs))
    return Standing(
        name, measure, _shown(number, ladder), rung, ladder.rungs, labels[rung - 1],
        _shown(ends[place - 1], ladder), _shown(ends[place], ladder), stand, same, among,
        tuple(_shown(c, ladder) for c in ladder.cuts), ladder.sizes, ladder.better, labels,
    )  # fmt: skip


def _shown(value: Any, ladder: Ladder) -> Any:
    """A value as people read it: a day as ISO text, whole numbers whole, null for an open end."""
    if not np.isfinite(value):
        return None
    if ladder.days:
        return str(np.datetime64(int(value), "D"))
    return int(value) if float(value).is_integer() else float(value)


def _sentence(s: Standing) -> str:
    sharing = s.same - 1
    others = (
        "nobody shares the value"
        if not sharing
        else f"{sharing:,} {'other shares' if sharing == 1 else 'others share'} the value"
    )
    return (
        f"{s.name} {s.label if s.label != str(s.rung) else f'{s.rung} of {s.rungs}'}: {s.measure} is {wording.value(s.value)}, and the "
        f"rung holds {wording.span(s.above, s.up_to)}; better than {s.percentile:.1f} % of {s.among:,}, ties counted half; {others}."
    )  # fmt: skip


# ------------------------------------------------------------------------------------------------------------- rules


@dataclass(frozen=True)
class _Tests:
    """What each part of each rule says of some customers."""

    scheme: Scheme
    parts: Mapping[str, Sequence[Condition]]
    """The conditions that a segment's rule joins by AND."""
    holds: Mapping[str, Mapping[str, bool]]
    """Customer → text of a condition → whether it holds."""

    @classmethod
    def of(cls, people: Scored, some: exp.Expr) -> "_Tests":
        own = people.own_names
        kinds = {**people.kinds, **{n: people.kinds[ours] for n, ours in own.items()}}
        cells = {name: column(own.get(name, name)) for name in kinds}
        parts = {
            s.name: [
                parse_condition(part.sql("duckdb"), kinds, s.name)
                for part in _conjuncts(parse_condition(s.when, kinds, s.name).tree)
            ]
            for s in people.scheme.segments
            if s.when is not None
        }
        every = {c.tree.sql("duckdb"): c for conditions in parts.values() for c in conditions}
        trees = [named(to_engine(c, cells), f"test {i}") for i, c in enumerate(every.values())]
        rows = people.engine.table(select([column("customer"), *trees], some)).to_pylist()
        holds = {r["customer"]: {text: bool(r[f"test {i}"]) for i, text in enumerate(every)} for r in rows}
        return cls(people.scheme, parts, holds)

    def tried(self, row: pd.DataFrame) -> list[RuleTried]:
        """The rules in order, down to the one that placed the customer of this row."""
        row, tried = by_own_names(row, self.scheme), []
        holds = self.holds[row["customer"].iloc[0]]
        for segment in self.scheme.segments:
            if segment.when is None:
                tried.append(RuleTried(segment.name, "otherwise: no rule before held", True, ()))
                break
            failed = [c for c in self.parts[segment.name] if not holds[c.tree.sql("duckdb")]]
            told = tuple(f"{_plain(c.tree)} ({_values(row, c.names)})" for c in failed)
            tried.append(RuleTried(segment.name, segment.when, not failed, told))
            if not failed:
                break
        return tried


def _conjuncts(tree: exp.Expr) -> list[exp.Expr]:
    while isinstance(tree, exp.Paren):
        tree = tree.this
    if isinstance(tree, exp.And):
        return [*_conjuncts(tree.left), *_conjuncts(tree.right)]
    return [tree]


def _plain(part: exp.Expr) -> str:
    """A condition as people write it, names without quotes where they need none."""
    return str(part.sql("duckdb", identify="safe")).replace('"', "")


def _values(row: pd.DataFrame, names: Any) -> str:
    lines = []
    for name in sorted(names):
        value = row[name].iloc[0]
        shown = (
            "blank" if wording.missing(value) else str(value.date()) if isinstance(value, pd.Timestamp) else str(value)
        )
        lines.append(f"{name} is {shown}")
    return ", ".join(lines)


# ----------------------------------------------------------------------------------------------------------- changes


@dataclass(frozen=True)
class _Changes:
    """Looks for the smallest changes to one customer's orders, everybody else's staying as they are."""

    customers: pd.DataFrame
    at: int
    own: pd.DataFrame
    scheme: Scheme
    as_of: dt.date
    scored: pd.DataFrame

    def all(self, ladders: Any) -> tuple[Change, ...]:
        changes = [
            self._spend(up=True), self._orders(up=True), self._recency(), self._purchase_now(), self._wait(ladders),
            self._spend(up=False), self._orders(up=False),
        ]  # fmt: skip
        return tuple(c for c in changes if c is not None)

    # What one change makes of the customer: minor units on the latest purchase, purchases on its day, days later.

    def changed(self, minor: int = 0, orders: int = 0, days: int = 0, today: int = 0) -> pd.DataFrame:
        """The customers with this one changed; ``today`` is one more purchase of that many minor units on the as-of date.

        A purchase that is added has one line.
        """
        decimals = self.scheme.money.decimals
        frame = _raw(self.customers, decimals)
        paid = self.own[self.own["nth"].notna()].sort_values("nth")
        amounts = to_minor(paid["amount"].to_numpy(), decimals).tolist()
        lines = paid["lines"].astype(int).tolist()
        amounts[-1] += minor
        amounts = amounts + [1] * orders if orders >= 0 else amounts[:orders] or amounts[:1]
        dates = [d.date() for d in paid["placed_on"]]
        last = dates[-1] + dt.timedelta(days=days) if orders >= 0 else dates[:orders][-1]
        first = last if len(dates) == 1 else dates[0]
        lines = lines + [1] * orders if orders >= 0 else lines[:orders] or lines[:1]
        if today:
            amounts, lines, last = [*amounts, today], [*lines, 1], self.as_of
        before = sum(to_minor(paid["amount"].to_numpy(), decimals).tolist())
        change = {
            "orders": len(amounts), "lines": sum(lines), "spend": int(frame["spend"].iloc[self.at]) + sum(amounts) - before,
            "smallest_order": min(amounts), "largest_order": max(amounts),
            "first_order": pd.Timestamp(first), "last_order": pd.Timestamp(last),
        }  # fmt: skip
        assert change.keys() == set(OF_PURCHASES)
        for name, value in change.items():
            frame.iloc[self.at, list(frame.columns).index(name)] = value
        return with_measures(frame, self.as_of, decimals)

    def rung(self, score_name: str, customers: pd.DataFrame) -> int:
        """This customer's rung on a ladder fitted anew."""
        measure, better = SCORES[score_name]
        paying = buyers(customers)
        place = int(bought(customers)[: self.at].sum())
        ladder = fit_score(paying, measure, better, self.scheme)
        values = measure_values(paying, measure)
        if isinstance(ladder, GroupedLadder):
            groups = group_labels(paying, ladder.within)
            return int(ladder.place(values, groups)[place])
        return int(ladder.place(values[[place]])[0])

    def _now(self, score_name: str) -> int:
        value = self.scored[score_name].iloc[self.at]
        return 0 if wording.missing(value) else int(value)

    def _segment(self, customers: pd.DataFrame) -> str:
        return str(score(customers, self.scheme)["segment"].iloc[self.at])

    def _least(self, most: int, moves: Callable[[int], bool]) -> int | None:
        """The smallest change up to ``most`` that moves; moving never stops once begun."""
        if most < 1 or not moves(most):
            return None
        low, high = 0, most
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (low, middle) if moves(middle) else (middle, high)
        return high

    def _told(self, kind: str, by: int, name: str, customers: pd.DataFrame, words: str) -> Change:
        rung, segment, was = (
            self.rung(name, customers),
            self._segment(customers),
            str(self.scored["segment"].iloc[self.at]),
        )
        effect = f"{name} {self._now(name)} → {rung}"
        where = f"segment {segment}" if segment != was else f"still {segment}"
        return Change(kind, by, effect, segment, f"{words}: {effect}, {where}.")

    def _money(self, minor: int) -> str:
        return wording.money(minor / 10**self.scheme.money.decimals, self.scheme.money.decimals)

    def _spend(self, up: bool) -> Change | None:
        now = self._now("monetary_score")
        spend = to_minor(self.customers["spend"].to_numpy(), self.scheme.money.decimals)
        paid = self.own[self.own["nth"].notna()].sort_values("nth")
        latest = int(to_minor(paid["amount"].to_numpy()[-1:], self.scheme.money.decimals)[0])
        most = int(spend.max() - spend[self.at]) + 1 if up else latest - 1
        sign = 1 if up else -1

        def moves(by: int) -> bool:
            rung = self.rung("monetary_score", self.changed(minor=sign * by))
            return rung > now if up else rung < now

        by = self._least(most, moves)
        if by is None:
            return None
        words = f"{self._money(by)} {'more' if up else 'less'} on the latest purchase"
        return self._told("spend", sign * by, "monetary_score", self.changed(minor=sign * by), words)

    def _orders(self, up: bool) -> Change | None:
        now, count = self._now("frequency_score"), int(self.customers["orders"].iloc[self.at])
        most = int(self.customers["orders"].max()) - count + 1 if up else count - 1
        sign = 1 if up else -1

        def moves(by: int) -> bool:
            rung = self.rung("frequency_score", self.changed(orders=sign * by))
            return rung > now if up else rung < now

        by = self._least(most, moves)
        if by is None:
            return None
        what = "purchase" if by == 1 else "purchases"
        more = f"{'One' if by == 1 else f'{by:,}'} more {what} on the day of the latest"
        words = more if up else f"Without the latest {f'{by:,} ' if by > 1 else ''}{what}"
        return self._told("orders", sign * by, "frequency_score", self.changed(orders=sign * by), words)

    def _recency(self) -> Change | None:
        now, days = self._now("recency_score"), int(self.customers["recency_days"].iloc[self.at])
        by = self._least(days, lambda n: self.rung("recency_score", self.changed(days=n)) > now)
        if by is None:
            return None
        last = self.customers["last_order"].iloc[self.at].date() + dt.timedelta(days=by)
        words = f"Had the latest purchase been {by:,} {'day' if by == 1 else 'days'} later, on {wording.day(last)}"
        return self._told("recency", by, "recency_score", self.changed(days=by), words)

    def _purchase_now(self) -> Change | None:
        """The smallest purchase on the day of reckoning that changes the segment, one unit less being shown not to.

        The segment can change only where a value that a rule speaks of passes a number of that rule; the values move one way as
        the amount grows, so each such amount is found by halving, and the least that changes the segment is taken.
        """
        was = str(self.scored["segment"].iloc[self.at])
        after: dict[int, pd.Series[Any]] = {}

        def customer(amount: int) -> "pd.Series[Any]":
            if amount not in after:
                after[amount] = self._scored_after(amount)
            return after[amount]

        def moved(amount: int) -> bool:
            return str(customer(amount)["segment"]) != was

        amounts = sorted({1, *self._turning_points(customer, after)})
        found = next((amount for amount in amounts if moved(amount)), None)
        if found is None:
            return None
        if found > 1 and moved(found - 1):
            below = max((amount for amount in amounts if amount < found), default=0)
            found = below + (self._least(found - below, lambda n: moved(below + n)) or found - below)
        segment = str(customer(found)["segment"])
        least = "of any amount" if found == 1 else f"of at least {self._money(found)}"
        text = f"One more purchase on {wording.day(self.as_of)}, {least}: segment {segment}."
        return Change("purchase", found, f"segment {was} → {segment}", segment, text)

    def _scored_after(self, amount: int) -> "pd.Series[Any]":
        """This customer scored after one more purchase: ladders are fitted to all, and where no rule ranks all, only they are placed."""
        customers = self.changed(today=amount)
        if any("percent" in (segment.when or "").lower() for segment in self.scheme.segments):
            return score(customers, self.scheme).iloc[self.at]
        ladders = fit_ladders(customers, self.scheme)
        return score(customers.iloc[[self.at]], self.scheme, ladders=ladders).iloc[0]

    def _turning_points(
        self, customer: "Callable[[int], pd.Series[Any]]", after: "dict[int, pd.Series[Any]]"
    ) -> Iterator[int]:
        """Amounts of a purchase at which a value in some rule reaches or passes a number in it.

        ``customer`` scores after a purchase of an amount, ``after`` holds what it has scored so far.
        """
        spend = to_minor(self.customers["spend"].to_numpy(), self.scheme.money.decimals)
        numbers = _rule_numbers(self.scheme, by_own_names(self.scored.iloc[[self.at]], self.scheme))
        scale = 10**self.scheme.money.decimals
        largest = max((abs(n) for _, n in numbers), default=0)
        most = int(spend.max() - spend[self.at]) + int(min(largest, 10**9) * scale * (len(self.own) + 2)) + 1
        for name, number in sorted(numbers):
            low, high = (self._number(customer(amount), name) for amount in (1, most))
            if low is None or high is None or low == high:
                continue
            for passed in (_reaches, _exceeds):
                before = passed(low, number)
                if passed(high, number) == before:
                    continue
                # What is known of other amounts narrows the search: values move one way.
                values = {amount: self._number(row, name) for amount, row in after.items()}
                sides = {amount: passed(value, number) for amount, value in values.items() if value is not None}
                under = max(amount for amount, side in sides.items() if side == before)
                over = min(amount for amount, side in sides.items() if side != before)
                while over - under > 1:
                    middle = (under + over) // 2
                    value = self._number(customer(middle), name)
                    under, over = (
                        (middle, over) if value is None or passed(value, number) == before else (under, middle)
                    )
                yield over

    def _number(self, row: "pd.Series[Any]", name: str) -> float | None:
        value: Any = row.get(name)
        if name in self.scheme.tiers and not wording.missing(value):
            return float(self.scheme.tiers[name].names().index(str(value)))
        return None if wording.missing(value) or isinstance(value, str | pd.Timestamp) else float(value)

    def _wait(self, ladders: Any) -> Change | None:
        """How long the recency rung lasts without a purchase, on today's ladder."""
        ladder = ladders["recency_score"]
        if isinstance(ladder, GroupedLadder):
            ladder = ladder.ladders[group_labels(self.customers.iloc[[self.at]], ladder.within)[0]]
        rung, days = self._now("recency_score"), int(self.customers["recency_days"].iloc[self.at])
        limits = [c for c in ladder.cuts if np.isfinite(c) and c >= days]
        if rung == 1 or not limits:
            return None
        left = int(min(limits)) - days
        after = int(ladder.place(np.array([days + left + 1]))[0])
        until = wording.day(self.as_of + dt.timedelta(days=left))
        text = f"One more purchase by {until} keeps recency_score {rung} on today's ladder; a day later it is {after}."
        return Change("wait", left, f"recency_score {rung} until then", str(self.scored["segment"].iloc[self.at]), text)


def _reaches(value: float, number: float) -> bool:
    return value >= number


def _exceeds(value: float, number: float) -> bool:
    return value > number


def _rule_numbers(scheme: Scheme, row: pd.DataFrame) -> set[tuple[str, float]]:
    """Each column of a rule with each number of that rule; a tier with each of its places, which its labels stand for."""
    found: set[tuple[str, float]] = set()
    kinds = frame_kinds(row)
    for segment in scheme.segments:
        if segment.when is None:
            continue
        condition = parse_condition(segment.when, kinds, segment.name)
        numbers = {float(n.name) * (-1 if isinstance(n.parent, exp.Neg) else 1) for n in condition.tree.find_all(exp.Literal)
                   if not n.is_string}  # fmt: skip
        found |= {(name, number) for name in condition.names for number in numbers}
        found |= {
            (n, float(place)) for n in condition.names & scheme.tiers.keys() for place in range(scheme.tiers[n].size)
        }
    return found


def _raw(customers: pd.DataFrame, decimals: int) -> pd.DataFrame:
    """The customers table before its measures: whole minor units, counts and days."""
    frame = customers.copy()
    for name in ("spend", "smallest_order", "largest_order"):
        frame[name] = to_minor(frame[name].fillna(0).to_numpy(), decimals)
    return frame

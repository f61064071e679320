"""Explain why a customer is in a segment: values, cuts, rungs, the rules tried, and the smallest
changes with an effect.
"""

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, fields
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
from sqlglot import exp

from fairladder import wording
from fairladder.book.read import Read
from fairladder.conditions import Condition, parse_condition, to_engine
from fairladder.errors import DataError
from fairladder.history.ledger import order_ledger
from fairladder.ladder import GroupedLadder, Ladder
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer
from fairladder.review.changes import Change, Changes
from fairladder.scheme import Scheme, Tier
from fairladder.scores.fitting import SCORES, group_labels, measure_values
from fairladder.scores.on_frames import by_own_names
from fairladder.scores.scored import Scored, as_number
from fairladder.scores.selection import require_customers
from fairladder.sqltree import column, named, select, sql
from fairladder.value.to_score import scored


@dataclass(frozen=True)
class Standing:
    """The position of one value on its ladder."""

    name: str
    """The name of the score or tier."""
    measure: str
    value: Any
    rung: int
    rungs: int
    label: str
    """The tier's name; the rung for a score."""
    above: Any
    """The rung covers values above this one (null if it has no lower limit) …"""
    up_to: Any
    """… and up to this one (null if it has no upper limit)."""
    percentile: float
    same: int
    """Number of customers with this value, including this one."""
    among: int
    cuts: tuple[Any, ...]
    sizes: tuple[int, ...]
    better: str
    labels: tuple[str, ...]
    """Names of the rungs, lowest first."""


@dataclass(frozen=True)
class RuleTried:
    """A rule that was tried, whether it matched, and the parts of its condition that did not."""

    segment: str
    condition: str
    held: bool
    failed: tuple[str, ...]


@dataclass(frozen=True)
class Explanation(Answer):
    """Everything that determined one customer's segment. ``frame`` has the customer's orders,
    ``repr`` is the explanation as text.
    """

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
        """Return plain values, including the orders."""
        plain = {k: v for k, v in asdict(self).items() if k != "frame"}
        return {
            **plain,
            "as_of": self.as_of.isoformat(),
            "orders": [
                {str(k): _jsonable(v) for k, v in row.items()}
                for row in self.frame.to_dict("records")
            ],
        }

    def lines(self) -> list[str]:
        """Return the explanation as plain sentences."""
        who = f"{self.customer}{f' ({self.name})' if self.name else ''}"
        lines = [f"{who} is in {self.segment} ({self.stance}) as of {wording.day(self.as_of)}."]
        lines += [_sentence(s) for s in self.standings]
        for rule in self.rules:
            lines.append(
                f"Rule {rule.segment}: "
                + (
                    f"holds ({rule.condition})."
                    if rule.held
                    else f"not, since {' and '.join(rule.failed)}."
                )
            )
        return [*lines, *(c.text for c in self.changes)]

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``changes``, ``standings``, ``rules`` and ``orders``."""
        return tables_of([self])

    def facts(self) -> dict[str, Any]:
        """Return everything but the orders, as plain values."""
        return {k: v for k, v in self.as_json().items() if k != "orders"}

    def finding(self) -> str:
        """Return the explanation, line by line."""
        return "\n".join(self.lines())

    def pieces(self) -> list[Piece]:
        """Return the customer's orders."""
        return [Piece("orders", self.frame)]

    def __repr__(self) -> str:
        return self.finding()


def tables_of(explained: Sequence[Explanation]) -> dict[str, pd.DataFrame]:
    """Return the tables of several explanations, with the customer's id on each row."""
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


def _jsonable(value: Any) -> Any:
    if wording.missing(value):
        return None
    return value.date().isoformat() if isinstance(value, pd.Timestamp) else value


def explain(orders: Read, ids: str | Sequence[str]) -> list[Explanation]:
    """Explain how each of these customers (or one) gets their scores, tiers and segment.

    Changes are found by fitting the ladders again with this one customer changed, and are exact: a
    minor unit, purchase or day less has no effect. Forecast columns used by rules stay unchanged. A
    cluster's customers are brought to this machine; if there are more than a million, no changes
    are computed. Raises UsageError for an unknown id, DataError if no customer has a purchase.

    >>> import fairladder as fl
    >>> why = fl.explain(fl.sample_orders(), ["09302"])
    >>> why[0].lines()[0]
    '09302 (Nesta Ashton) is in mainstay (keep) as of 30 June 2026.'
    """
    ids = [ids] if isinstance(ids, str) else ids
    people = scored(orders)
    require_customers(people, ids)
    assert orders.as_of is not None
    engine = people.engine
    offered = exp.alias_(
        engine.offer(pa.table({"id": pa.array(ids, pa.string())})), "wanted", table=True
    )
    rows = select(["people.*"], exp.alias_(people.relation, "people", table=True))
    theirs = engine.keep(rows.join(offered, on="wanted.id = people.customer", copy=False))
    frame = orders.frame_of(engine.table(select(["*"], theirs))).set_index("customer", drop=False)
    ledger, tests = order_ledger(orders, customers=ids), _Tests.of(people, theirs)
    explained = []
    for one in ids:
        row = frame.loc[[one]].reset_index(drop=True)
        own = ledger[ledger["customer"] == one].reset_index(drop=True)
        paying = int(row["orders"].iloc[0]) > 0
        explained.append(
            Explanation(
                one, _text(row, "name"), orders.as_of, str(row["segment"].iloc[0]),
                str(row["stance"].iloc[0]),
                _standings(people, row) if paying else (), tuple(tests.tried(row)),
                _changes(orders, people, row, own) if paying else (), own,
            )
        )  # fmt: skip
    return explained


def explained_segment(orders: Read, segment: str, count: int) -> list[str]:
    """Return the ids of a segment, largest spend first. Raises DataError if it is empty."""
    people = scored(orders)
    held = select([column("customer")], people.relation)
    held = held.where(sql("segment = :s", s=exp.Literal.string(segment)), copy=False)
    ids = people.engine.table(
        held.order_by("spend DESC", column("customer"), copy=False).limit(count, copy=False)
    )
    if not len(ids):
        raise DataError(f"Segment {segment} has no customers, so there is nothing to explain.")
    return [str(c) for c in ids["customer"].to_pylist()]


def _changes(
    orders: Read, people: Scored, row: pd.DataFrame, own: pd.DataFrame
) -> tuple[Change, ...]:
    values: dict[str, Any] = {str(name): row[name].iloc[0] for name in row}
    return Changes(orders, people, values["customer"], own, values).all()


def _text(row: pd.DataFrame, name: str) -> str | None:
    return None if name not in row or row[name].isna().iloc[0] else str(row[name].iloc[0])


def ladder_list(scheme: Scheme) -> list[tuple[str, str, Tier | None]]:
    """Return the name and the measure of each ladder, with its tier; None for the three scores."""
    listed_ladders: list[tuple[str, str, Tier | None]] = [
        (name, measure, None) for name, (measure, _) in SCORES.items()
    ]
    return [*listed_ladders, *((name, tier.of, tier) for name, tier in scheme.tiers.items())]


def _standings(people: Scored, row: pd.DataFrame) -> tuple[Standing, ...]:
    found = []
    for name, measure, tier in ladder_list(people.scheme):
        ladder, peers = people.ladders[name], [sql("orders > 0")]
        if isinstance(ladder, GroupedLadder):
            group = group_labels(row, ladder.within)[0]
            cell = exp.cast(column(ladder.within), "VARCHAR")
            peers.append(
                sql(":c IS NULL", c=cell)
                if group is None
                else sql(":c = :g", c=cell, g=exp.convert(str(group)))
            )
            if group not in ladder.ladders:
                continue
            ladder = ladder.ladders[group]
        if (one := _standing(people, row, name, measure, tier, ladder, peers)) is not None:
            found.append(one)
    return tuple(found)


def _standing(
    people: Scored,
    row: pd.DataFrame,
    name: str,
    measure: str,
    tier: Tier | None,
    ladder: Ladder,
    peers: list[exp.Expr],
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
    query = select([named(tree, n) for n, tree in counts.items()], people.relation).where(
        *peers, copy=False
    )
    n = people.engine.table(query).to_pylist()[0]
    worse = n["below"] if ladder.better == "high" else n["known"] - n["below"] - n["same"]
    # Ties count half, as in `ladder.percentile`.
    percentile_now = (200 * worse + 100 * n["same"]) / (2 * n["known"])
    return standing_of(name, measure, tier, ladder, number, percentile_now, n["same"], n["among"])


def standing_of(
    name: str,
    measure: str,
    tier: Tier | None,
    ladder: Ladder,
    number: Any,
    percentile_now: float,
    same: int,
    among: int,
) -> Standing:
    """Return the position of a number on its ladder, given its percentile and the number of equal
    values; dates are days since 1970.
    """
    days = np.array([number]).astype("datetime64[D]") if ladder.days else np.array([number])
    rung = int(ladder.place(days)[0])
    place = rung if ladder.better == "high" else ladder.rungs + 1 - rung
    ends = [-np.inf, *ladder.cuts, np.inf]
    labels = (
        tuple(reversed(tier.names())) if tier else tuple(str(i + 1) for i in range(ladder.rungs))
    )
    return Standing(
        name, measure, _shown(number, ladder), rung, ladder.rungs, labels[rung - 1],
        _shown(ends[place - 1], ladder), _shown(ends[place], ladder), percentile_now, same, among,
        tuple(_shown(c, ladder) for c in ladder.cuts), ladder.sizes, ladder.better, labels,
    )  # fmt: skip


def _shown(value: Any, ladder: Ladder) -> Any:
    """Convert a value for display: dates as ISO text, integers without decimals, null for an open
    end.
    """
    if not np.isfinite(value):
        return None
    if ladder.days:
        return str(np.datetime64(int(value), "D"))
    return int(value) if float(value).is_integer() else float(value)


def _sentence(s: Standing) -> str:
    sharing = s.same - 1
    others = (
        "no other customer has the value"
        if not sharing
        else f"{sharing:,} {'other shares' if sharing == 1 else 'others share'} the value"
    )
    return (
        f"{s.name} {s.label if s.label != str(s.rung) else f'{s.rung} of {s.rungs}'}: "
        f"{s.measure} is {wording.value(s.value)}, and the rung covers "
        f"{wording.span(s.above, s.up_to)}; better than {s.percentile:.1f} % of {s.among:,} "
        f"(ties count half); {others}."
    )  # fmt: skip


@dataclass(frozen=True)
class _Tests:
    """The truth value of each part of each rule for some customers."""

    scheme: Scheme
    parts: Mapping[str, Sequence[Condition]]
    """The conditions that a segment's rule joins with AND."""
    holds: Mapping[str, Mapping[str, bool]]
    """Customer → text of a condition → whether it is true."""

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
        holds = {
            r["customer"]: {text: bool(r[f"test {i}"]) for i, text in enumerate(every)}
            for r in rows
        }
        return cls(people.scheme, parts, holds)

    def tried(self, row: pd.DataFrame) -> list[RuleTried]:
        """Return the rules in order, down to the one that placed the customer of this row."""
        row, tried = by_own_names(row, self.scheme), []
        holds = self.holds[row["customer"].iloc[0]]
        for segment in self.scheme.segments:
            if segment.when is None:
                tried.append(
                    RuleTried(segment.name, "otherwise: no earlier rule matched", True, ())
                )
                break
            failed = [c for c in self.parts[segment.name] if not holds[c.tree.sql("duckdb")]]
            failed_parts = tuple(f"{_plain(c.tree)} ({_values(row, c.names)})" for c in failed)
            tried.append(RuleTried(segment.name, segment.when, not failed, failed_parts))
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
    """Return a condition as a user would write it, with quotes only where needed."""
    return str(part.sql("duckdb", identify="safe")).replace('"', "")


def _values(row: pd.DataFrame, names: Any) -> str:
    lines = []
    for name in sorted(names):
        value = row[name].iloc[0]
        shown = (
            "blank"
            if wording.missing(value)
            else str(value.date())
            if isinstance(value, pd.Timestamp)
            else str(value)
        )
        lines.append(f"{name} is {shown}")
    return ", ".join(lines)

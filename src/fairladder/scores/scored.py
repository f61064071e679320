"""Score customers in their engine: ladders are fitted to counts per distinct value, and applied by
the scheme's SQL.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property, partial
from itertools import accumulate
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlglot import exp

from fairladder import columns
from fairladder.book.customers import RANKED, SPEND, customers_query
from fairladder.book.read import Read
from fairladder.book.standing import percentiles, standing
from fairladder.conditions import Kind
from fairladder.engine.protocol import CustomerEngine
from fairladder.errors import DataError, SchemeError, UsageError, nearest
from fairladder.ladder import GroupedLadder, Ladder
from fairladder.scheme import STANCES, Scheme, Tier
from fairladder.scores.as_sql import scheme_tree
from fairladder.scores.counting import Counts, all_counts, counts_by_group, counts_for_cuts
from fairladder.scores.fitting import (
    SCORES,
    AnyLadder,
    check_there,
    check_tier,
    score_ladder,
    tier_ladder,
)
from fairladder.sqltree import column, named, select, sql


@dataclass(frozen=True, eq=False)
class Scored:
    """Customers with their scores in their engine, and their ladders. The customers are dropped
    with this object.
    """

    engine: CustomerEngine
    relation: exp.Expr
    kinds: Mapping[str, Kind]
    """Kind of each column, in the order of the columns."""
    ladders: Mapping[str, AnyLadder]
    scheme: Scheme

    def fixed_names(self) -> dict[str, list[str]]:
        """Return the columns with a fixed set of names, with the set in order; for codes, those
        that occur.
        """
        codes = select([column("score_code")], self.relation).distinct(copy=False)
        found = self.engine.table(codes.where(sql("score_code IS NOT NULL"), copy=False))[
            "score_code"
        ].to_pylist()
        tiers = {name: list(tier.names()) for name, tier in self.scheme.tiers.items()}
        return {
            "score_code": sorted(found), **tiers, "segment": [s.name for s in self.scheme.segments],
            "stance": list(STANCES)
        }  # fmt: skip

    def segments(self) -> dict[str, str]:
        """Return customer id → segment, sorted by id."""
        query = select([column("customer"), column("segment")], self.relation).order_by(
            "customer", copy=False
        )
        table = self.engine.table(query)
        return dict(zip(table["customer"].to_pylist(), table["segment"].to_pylist(), strict=True))

    @property
    def own_names(self) -> dict[str, str]:
        """Return the orders' names of the id and name columns, which conditions may use → their
        names here.
        """
        mine = self.scheme.own_names().items()
        return {n: ours for n, ours in mine if n not in self.kinds and ours in self.kinds}

    @cached_property
    def bought(self) -> int:
        """Return the number of customers with a purchase."""
        count = select([named(sql("COUNT(CASE WHEN orders > 0 THEN 1 END)"), "n")], self.relation)
        return int(self.engine.table(count)["n"][0].as_py())


def scored(
    orders: Read,
    ladders: Mapping[str, AnyLadder] | None = None,
    people: Callable[[Read, bool], exp.Select] = customers_query,
) -> Scored:
    """Return customers with scores, percentiles, tiers, segment and stance, as in ``scores.score``.

    ``people`` is the query of the customers, by default ``customers_query``. Raises what that and
    ``fairladder.score`` raise, and DataError if no customer has a purchase.
    """
    engine, scheme = orders.customer_engine, orders.scheme
    orders.require_fit()
    with engine.passing() as last:
        by_spend = scheme.scores.percentile_of == SPEND
        customers = engine.keep(people(orders, by_spend))
        if not _any_bought(engine, customers):
            raise DataError(
                "No customer has a purchase, so no customer can be scored. Run `fairladder "
                "check` to see why."
            )
        made = scored_of(
            engine, scheme, customers, kinds_of(engine, customers), ladders, by_spend=by_spend
        )
        last(made.relation)
    engine.own(made, made.relation)
    return made


def _any_bought(engine: CustomerEngine, customers: exp.Expr) -> bool:
    one = select([sql("1")], customers).where(sql("orders > 0"), copy=False).limit(1, copy=False)
    return len(engine.table(one)) > 0


def require_ladders(scheme: Scheme, ladders: Mapping[str, AnyLadder] | None) -> None:
    """Raise UsageError if ladders are given, but not all that the scheme needs."""
    if ladders is not None and (
        missing := [n for n in (*SCORES, *scheme.tiers) if n not in ladders]
    ):
        raise UsageError(
            f"No ladder is given for {', '.join(missing)}. {nearest(missing[0], ladders)}"
        )


def scored_of(
    engine: CustomerEngine,
    scheme: Scheme,
    people: exp.Expr,
    kinds: Mapping[str, Kind],
    ladders: Mapping[str, AnyLadder] | None,
    *,
    by_spend: bool = False,
) -> Scored:
    """Score the customers in ``people``, with columns of these ``kinds``, on these ladders or on
    ladders fitted to them.

    ``by_spend`` means that they already have their percentiles. Raises SchemeError for a tier with
    the name of a column, UsageError for a missing ladder or column.
    """
    kinds = {n: k for n, k in kinds.items() if not by_spend or n not in RANKED}
    for name in scheme.tiers:
        if name in kinds or name in ("segment", "stance"):
            raise SchemeError(
                f"[tiers.{name}]: the customers already have a column `{name}`. Give the "
                "tier another name."
            )
    require_ladders(scheme, ladders)
    fitted, ranked = _fitted(engine, people, kinds, scheme, ladders, by_spend)
    customers = select([column(n) for n in (*kinds, *RANKED)], ranked)
    tree = scheme_tree(
        scheme,
        fitted,
        {**kinds, **SCORE_KINDS, **dict.fromkeys(scheme.tiers, "text")},
        customers.subquery("customers"),
    )
    names = [
        *kinds,
        *SCORES,
        "score_total",
        "score_code",
        *RANKED,
        *scheme.tiers,
        "segment",
        "stance",
    ]
    relation = engine.keep(_in_order(tree, names))
    return Scored(engine, relation, kinds_of(engine, relation), fitted, scheme)


def fit_all(
    engine: CustomerEngine, people: exp.Expr, kinds: Mapping[str, Kind], scheme: Scheme
) -> dict[str, AnyLadder]:
    """Fit the ladders of the three scores and of all tiers to the customers with a purchase."""
    return _fitted(engine, people, kinds, scheme, None, by_spend=False)[0]


def _fitted(
    engine: CustomerEngine,
    people: exp.Expr,
    kinds: Mapping[str, Kind],
    scheme: Scheme,
    ladders: Mapping[str, AnyLadder] | None,
    by_spend: bool,
) -> tuple[dict[str, AnyLadder], exp.Expr]:
    """Return all ladders, and the customers with their percentiles, which tiers can use."""
    fitted = dict(ladders) if ladders is not None else _score_ladders(engine, people, kinds, scheme)
    of = {scheme.scores.percentile_of, *(tier.of for tier in scheme.tiers.values())}
    placed = (
        engine.keep(_with_scores(scheme, fitted, kinds, people)) if of & set(_TOTALLED) else people
    )
    ranked = (
        placed
        if by_spend
        else engine.keep(_with_percentiles(engine, placed, {**kinds, **_TOTALLED}, scheme))
    )
    if ladders is None:
        fitted |= _tier_ladders(engine, ranked, {**kinds, **SCORE_KINDS}, scheme)
    return fitted, ranked


def _with_scores(
    scheme: Scheme, ladders: Mapping[str, AnyLadder], kinds: Mapping[str, Kind], people: exp.Expr
) -> exp.Select:
    """Return the customers with their scores, which percentiles and tiers can use."""
    alone = scheme.model_copy(
        update={"tiers": {}, "segments": [s for s in scheme.segments if s.otherwise]}
    )
    return scheme_tree(alone, ladders, {**kinds, **SCORE_KINDS}, people)


_TOTALLED: Mapping[str, Kind] = dict.fromkeys((*SCORES, "score_total"), "number")
SCORE_KINDS: Mapping[str, Kind] = {
    **_TOTALLED,
    **dict.fromkeys(RANKED, "number"),
    "score_code": "text",
}


def _in_order(tree: exp.Select, names: Sequence[str]) -> exp.Select:
    last = tree.selects[-1]  # the stance
    tree.set("expressions", [last if n == "stance" else column(n) for n in names])
    return tree


def kinds_of(engine: CustomerEngine, relation: exp.Expr) -> dict[str, Kind]:
    """Return the kind of every column, as conditions on customers need it."""
    return {name: _kind_of(type_) for name, type_ in engine.columns(relation).items()}


def _kind_of(type_: str) -> Kind:
    if type_.startswith(("DATE", "TIMESTAMP")):
        return "day"
    if type_ == "BOOLEAN":
        return "truth"
    return "text" if type_.startswith(("VARCHAR", "ENUM")) else "number"


def as_number(name: str, kinds: Mapping[str, Kind]) -> exp.Expr:
    """Return a measure as a number; for a date, days since 1970.

    Raises UsageError if the column does not exist, or contains neither numbers nor dates.
    """
    check_there(kinds, measure=name)
    if kinds[name] == "day":
        since = sql("CAST('1970-01-01' AS DATE)")
        return exp.DateDiff(
            this=exp.cast(column(name), "DATE"), expression=since, unit=exp.var("DAY")
        )
    if kinds[name] != "number":
        raise UsageError(
            f"`{name}` contains neither numbers nor dates, so no ladder can be fitted. Try "
            "spend, orders or first_order."
        )
    return column(name)


def _with_percentiles(
    engine: CustomerEngine, people: exp.Expr, kinds: Mapping[str, Kind], scheme: Scheme
) -> exp.Select:
    """Return the customers with percentile and percent rank of the scheme's measure, as in
    ``ladder.ranks``.
    """
    of = scheme.scores.percentile_of
    value = sql("CASE WHEN orders > 0 THEN :v END", v=as_number(of, kinds))
    valued = select(["*", named(value, _VALUE)], people)
    ranks = standing(engine, valued.subquery("people"), column(_VALUE), {"customers": sql("1")})
    n = exp.Select().select(sql("COALESCE(SUM(customers_here), 0)")).from_(ranks).subquery()
    found = percentiles(
        sql("ranks.customers_below"), sql("ranks.customers_here"), n, columns.better(of)
    )
    known = sql("ranks.customers_here IS NOT NULL")
    trees = [
        named(sql("CASE WHEN :k THEN :t END", k=known, t=t), name) for name, t in found.items()
    ]
    everything = exp.Column(this=exp.Star(), table=exp.to_identifier("people"))
    ranked = select([everything, *trees], valued, "people")
    on = exp.EQ(this=exp.column(_VALUE, "people", quoted=True), expression=sql("ranks.value"))
    return ranked.join(exp.alias_(ranks, "ranks", table=True), on=on, join_type="left", copy=False)


#: The ranked value, next to columns of any name.
_VALUE = "ranked value"


def _score_ladders(
    engine: CustomerEngine, people: exp.Expr, kinds: Mapping[str, Kind], scheme: Scheme
) -> dict[str, AnyLadder]:
    """Fit the ladders of the scores to the customers with a purchase."""
    found: dict[str, AnyLadder] = {}
    for name, (measure, better) in SCORES.items():
        shares = scheme.scores.shares if scheme.scores.method == "even" else None
        cuts = _at_or_below(
            [Fraction(str(s)) for s in shares]
            if shares
            else [Fraction(1, scheme.scores.rungs)] * scheme.scores.rungs,
            better,
        )
        need = _Need(
            measure, scheme.scores.within, cuts if scheme.scores.method == "even" else None
        )
        found[name] = _ladder(engine, people, kinds, need, partial(score_ladder, better, scheme))
    return found


def _tier_ladders(
    engine: CustomerEngine, people: exp.Expr, kinds: Mapping[str, Kind], scheme: Scheme
) -> dict[str, AnyLadder]:
    """Fit the ladders of the tiers to the customers with a purchase."""
    found: dict[str, AnyLadder] = {}
    for name, tier in scheme.tiers.items():
        check_tier(tier, kinds)
        need = _Need(tier.of, tier.within, _tier_cuts(tier))
        found[name] = _ladder(engine, people, kinds, need, partial(tier_ladder, tier))
    return found


@dataclass(frozen=True)
class _Need:
    """The data that a ladder is fitted to: a measure, optionally within groups; for even ladders
    the shares at or below the cuts.
    """

    measure: str
    within: str | None
    cuts: Sequence[Fraction] | None


def _tier_cuts(tier: Tier) -> Sequence[Fraction] | None:
    if tier.top_percents is not None or tier.spend_percents is not None:
        return None
    shares = (
        [Fraction(str(s)) for s in tier.shares]
        if tier.shares
        else [Fraction(1, tier.rungs or 1)] * (tier.rungs or 1)
    )
    return _at_or_below(shares, tier.better or columns.better(tier.of))


def _at_or_below(shares: Sequence[Fraction], better: str) -> list[Fraction]:
    """Return the cumulative shares in value order, without the last; ``shares`` are worst rung
    first.
    """
    return list(accumulate(shares if better == "high" else list(shares)[::-1]))[:-1]


def _ladder(
    engine: CustomerEngine,
    people: exp.Expr,
    kinds: Mapping[str, Kind],
    need: _Need,
    fit: Callable[[Any, Any], Ladder],
) -> AnyLadder:
    day = kinds.get(need.measure) == "day"
    if need.within is None and need.cuts is not None:
        counted = counts_for_cuts(
            engine, _valued(people, kinds, need.measure), need.cuts, even=True
        )
        return fit(_as_measured(counted, day), counted.counts)
    each = {
        group: fit(values, counts)
        for group, values, counts in valued(engine, people, kinds, need.measure, need.within)
    }
    return each[None] if need.within is None else GroupedLadder(need.within, each)


def valued(
    engine: CustomerEngine,
    people: exp.Expr,
    kinds: Mapping[str, Kind],
    measure: str,
    within: str | None,
) -> Iterator[tuple[str | None, NDArray[np.generic], NDArray[np.int64]]]:
    """Yield for each group (None without groups) the distinct values of a measure among customers
    with a purchase, with their frequencies.

    Raises UsageError for an unknown column, and for too many groups or values.
    """
    day, rows = kinds.get(measure) == "day", _valued(people, kinds, measure)
    if within is None:
        counted = all_counts(engine, rows)
        yield None, _as_measured(counted, day), counted.counts
        return
    check_there(kinds, group=within)
    grouped = rows.select(named(exp.cast(column(within), "VARCHAR"), "part"), copy=False)
    found = counts_by_group(engine, grouped)
    require_few_groups(len(found), within, "ladder")
    for group, counted in found.items():
        yield group, _as_measured(counted, day), counted.counts


def require_few_groups(n: int, within: str, what: str) -> None:
    """Raise UsageError if there are too many groups for a ladder, or a list, for each."""
    if n > MOST_GROUPS:
        raise UsageError(
            f"`{within}` has more than {MOST_GROUPS:,} values, too many to have a {what} for "
            "each. Choose another column."
        )


def groups_of(engine: CustomerEngine, people: exp.Expr, within: str) -> NDArray[np.object_]:
    """Return the groups of customers with a purchase as text, None last. Raises UsageError if there
    are too many.
    """
    cell = exp.cast(column(within), "VARCHAR")
    groups = (
        select([named(cell, "part")], people)
        .where(sql("orders > 0"), copy=False)
        .distinct(copy=False)
    )
    parts = engine.table(groups.limit(MOST_GROUPS + 1, copy=False))["part"].to_pylist()
    require_few_groups(len(parts), within, "ladder")
    return np.array(
        [*sorted(g for g in parts if g is not None), *([None] if None in parts else [])],
        dtype=object,
    )


def _valued(people: exp.Expr, kinds: Mapping[str, Kind], measure: str) -> exp.Select:
    value = as_number(measure, kinds)
    return select([named(value, "value")], people).where(
        sql("orders > 0 AND :v IS NOT NULL", v=value), copy=False
    )


#: Maximum number of groups.
MOST_GROUPS = 2_000


def _as_measured(counted: Counts, day: bool) -> NDArray[np.generic]:
    return counted.values.astype("datetime64[D]") if day else counted.values

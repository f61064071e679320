"""Scores and segments: ladders and rules applied to customers."""

from collections.abc import Mapping, Sequence
from fractions import Fraction
from functools import lru_cache
from math import lcm
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from fairladder import columns
from fairladder.book.spend import bought as bought_of
from fairladder.conditions import Condition, Kind, frame_kinds, parse_condition, to_mask
from fairladder.errors import SchemeError, UsageError, nearest
from fairladder.frames import as_numbers, categorical
from fairladder.ladder import GroupedLadder, percent_rank, percentile
from fairladder.numbers import EXACT_DECIMALS, half_away, ratio, to_minor
from fairladder.scheme import STANCES, Scheme
from fairladder.scores.fitting import (
    SCORES,
    AnyLadder,
    fit_score,
    fit_tier,
    group_labels,
    measure_values,
    require_measure,
    scheme_of,
)


def fit_ladders(customers: pd.DataFrame, scheme: Scheme | None = None) -> dict[str, AnyLadder]:
    """The ladders of the three scores and of all tiers, by name, fitted to the customers with at least one purchase.

    With ``within`` a ``GroupedLadder`` holds one for each group. Raises UsageError where a column is missing or is not of
    the kind that its ladder needs.

    >>> import fairladder as fl
    >>> ladders = fl.fit_ladders(fl.sample_orders().customers())
    >>> ladders["recency_score"].cuts
    (45, 149, 346, 664)
    """
    _need_frame(customers)
    scheme = scheme or scheme_of(customers)
    bought = customers[_buyers(customers)]
    ladders: dict[str, AnyLadder] = {
        name: fit_score(bought, measure, better, scheme) for name, (measure, better) in SCORES.items()
    }
    if scheme.tiers:
        scored = _with_scores(bought, scheme, ladders)
        ladders |= {name: fit_tier(scored, tier) for name, tier in scheme.tiers.items()}
    return ladders


def score(
    customers: pd.DataFrame, scheme: Scheme | None = None, *, ladders: Mapping[str, AnyLadder] | None = None
) -> pd.DataFrame:
    """Score customers and place them in tiers and segments.

    Parameters
    ----------
    customers
        One row per customer, as ``Orders.customers`` gives them; other columns are carried along.
    scheme
        Rungs, method, weights, tiers and segments. Without one, that of the orders that the customers come from, which their
        frame knows; all defaults for a frame that knows none.
    ladders
        Ladders to place on, by name of the score or tier; fitted to these customers without them.

    Returns
    -------
    pandas.DataFrame
        The customers with ``recency_score``, ``frequency_score`` and ``monetary_score`` (1..K, K best), ``score_total``
        (weighted sum), ``score_code`` (``5-4-5``), ``percentile`` (0..100) and ``percent_rank`` (0..1) of spend or what the
        scheme names, a column for each tier, and ``segment`` and ``stance``. All but the last two are null for customers
        without a purchase; scores and tiers also where their group has no ladder.

    Raises
    ------
    UsageError
        A measure's column is missing, or a ladder is.
    ConditionError
        A segment's condition is wrong.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> scored = fl.score(orders.customers())
    >>> scored["segment"].value_counts()["mainstay"].item()
    221
    """
    _need_frame(customers)
    scheme = scheme or scheme_of(customers)
    ladders = fit_ladders(customers, scheme) if ladders is None else ladders
    if missing := [name for name in (*SCORES, *scheme.tiers) if name not in ladders]:
        raise UsageError(f"No ladder is given for {', '.join(missing)}. {nearest(missing[0], ladders)}")
    return _placed(_with_tiers(_with_scores(customers, scheme, ladders), scheme, ladders), scheme)


def _with_tiers(scored: pd.DataFrame, scheme: Scheme, ladders: Mapping[str, AnyLadder]) -> pd.DataFrame:
    """The scored customers with a column of labels for each tier of the scheme; null without a purchase or a value."""
    bought = bought_of(scored)
    columns = {}
    for name, tier in scheme.tiers.items():
        if name in scored.columns or name in ("segment", "stance"):
            raise SchemeError(
                f"[tiers.{name}]: the customers have a column `{name}` already. Give the tier another name."
            )
        place = np.full(len(scored), -1, dtype=np.int64)
        rung = _placed_on(ladders[name], scored[bought], tier.of)
        place[bought] = np.where(rung > 0, tier.size - rung, -1)
        columns[name] = categorical(place, tier.names())
    return scored.assign(**columns)


def segment_summary(scored: pd.DataFrame, scheme: Scheme | None = None) -> pd.DataFrame:
    """One row per segment, in the order of the rules, those without customers included.

    Columns: ``segment``, ``stance``, ``customers``, ``customer_share`` (0..1), ``spend``, ``spend_share`` (of all spend,
    0..1; null where all spend is 0), ``orders``, ``median_recency_days`` (null without purchases) and
    ``average_order_value`` (spend ÷ orders of the segment, not an average of averages; null without orders).

    ``scheme`` tells the stance of segments that hold nobody; without it theirs is null. Raises UsageError where the
    frame is not scored.

    >>> import fairladder as fl
    >>> summary = fl.segment_summary(fl.sample_orders().score())
    >>> summary[["segment", "stance", "customers"]].head(2).values.tolist()
    [['no-orders-yet', 'welcome', 107], ['mainstay', 'keep', 221]]
    """
    _need(scored, ("segment", "stance", "orders", "spend", "recency_days"), "segment_summary needs scored customers")
    names = list(scored["segment"].cat.categories)
    place = scored["segment"].cat.codes.to_numpy()
    # Whole units of 10^-4 hold money of up to 4 decimals exactly, so sums do not depend on the order of rows.
    units = to_minor(scored["spend"].to_numpy(), EXACT_DECIMALS)
    orders = scored["orders"].to_numpy(dtype=np.int64)
    counts, spend, bought = (np.zeros(len(names), dtype=np.int64) for _ in range(3))
    for total, each in ((counts, 1), (spend, units), (bought, orders)):
        np.add.at(total, place, each)
    stances: dict[Any, str] = scored.drop_duplicates("segment").set_index("segment")["stance"].astype(str).to_dict()
    stances |= {s.name: s.stance for s in scheme.segments} if scheme else {}
    recency = scored.groupby("segment", observed=False)["recency_days"].median().astype(np.float64)
    return summary_of(names, stances, counts, spend, bought, recency.to_numpy(dtype=np.float64))


def summary_of(
    names: Sequence[str], stances: Mapping[Any, str], counts: NDArray[np.int64], spend: NDArray[np.int64],
    bought: NDArray[np.int64], recency: NDArray[Any],
) -> pd.DataFrame:  # fmt: skip
    """The table of ``segment_summary`` from the segments' sums, each of shape (segments,); spend in units of 10^-4."""
    return pd.DataFrame(
        {
            "segment": list(names),
            "stance": [stances.get(name) for name in names],
            "customers": counts,
            "customer_share": ratio(counts, int(counts.sum())),
            "spend": ratio(spend, 10**EXACT_DECIMALS),
            "spend_share": ratio(spend, int(spend.sum())),
            "orders": bought,
            "median_recency_days": recency,
            "average_order_value": ratio(spend, bought * 10**EXACT_DECIMALS),
        }
    )


def tier_summary(scored: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    """One row per tier of each of the scheme's tier ladders, the best first, those without customers included.

    Columns: ``tier`` (the ladder's name), ``label``, ``customers``, ``customer_share`` and ``spend_share`` (0..1, of those who
    have a tier; null where that is 0) and ``spend``. Empty without tiers. Raises UsageError where the frame has no tiers.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> fl.tier_summary(orders.score(), orders.scheme)[["tier", "label", "customers"]].head(1).values.tolist()
    [['reward', 'gold', 11]]
    """
    _need(scored, (*scheme.tiers, "spend"), "tier_summary needs scored customers")
    units = to_minor(scored["spend"].to_numpy(), EXACT_DECIMALS)
    tables = []
    for name, tier in scheme.tiers.items():
        labels = tier.names()
        place = pd.Categorical(scored[name].astype(object), categories=labels).codes
        known = place >= 0
        counts, spend = (np.zeros(len(labels), dtype=np.int64) for _ in range(2))
        np.add.at(counts, place[known], 1)
        np.add.at(spend, place[known], units[known])
        tables.append(tier_of(name, labels, counts, spend))
    return tiers_of(tables)


def tiers_of(tables: Sequence[pd.DataFrame]) -> pd.DataFrame:
    """The table of ``tier_summary`` from that of each ladder."""
    return pd.concat(tables, ignore_index=True) if tables else pd.DataFrame(columns=list(columns.names(columns.TIERS)))


def tier_of(name: str, labels: Sequence[str], counts: NDArray[np.int64], spend: NDArray[np.int64]) -> pd.DataFrame:
    """The rows of ``tier_summary`` for one ladder, from the tiers' sums; spend in units of 10^-4."""
    shares = {"customer_share": ratio(counts, int(counts.sum())), "spend": ratio(spend, 10**EXACT_DECIMALS)}
    shares["spend_share"] = ratio(spend, int(spend.sum()))
    return pd.DataFrame({"tier": name, "label": list(labels), "customers": counts, **shares})


def rule_coverage(scored: pd.DataFrame, scheme: Scheme | None = None) -> pd.DataFrame:
    """What each rule does: ``segment``, ``condition``, ``placed``, ``shadowed`` and ``reached``.

    ``placed`` counts the customers whom the rule placed; ``shadowed`` those whose condition held but whom an earlier
    rule had placed; ``reached`` is false where no customer came down to the rule, so that nothing it says matters.

    >>> import fairladder as fl
    >>> coverage = fl.rule_coverage(fl.sample_orders().score())
    >>> coverage["placed"].sum().item()
    1199
    """
    scheme = scheme or scheme_of(scored)
    waiting = np.ones(len(scored), dtype=bool)
    lines = []
    for segment, holds in zip(scheme.segments, _holds(scored, scheme), strict=True):
        placed = holds & waiting
        shadowed = 0 if segment.otherwise else int((holds & ~waiting).sum())
        lines.append((segment.name, segment.when or "otherwise", int(placed.sum()), shadowed, bool(waiting.any())))
        waiting &= ~holds
    return pd.DataFrame(lines, columns=["segment", "condition", "placed", "shadowed", "reached"])


# ------------------------------------------------------------------------------------------------------------ steps


def _need(frame: pd.DataFrame, names: tuple[str, ...], why: str) -> None:
    for name in names:
        if name not in frame.columns:
            raise UsageError(f"{why}: the column `{name}` is missing. {nearest(name, map(str, frame.columns))}")


def _with_scores(customers: pd.DataFrame, scheme: Scheme, ladders: Mapping[str, AnyLadder]) -> pd.DataFrame:
    """The customers with the three scores, their total and code, and percentiles."""
    bought = _buyers(customers)
    rungs = np.zeros((3, len(customers)), dtype=np.int64)
    for row, (name, (measure, _)) in zip(rungs, SCORES.items(), strict=True):
        row[bought] = _placed_on(ladders[name], customers[bought], measure)
    most = max(ladders[name].rungs for name in SCORES)
    return with_percentiles(customers.assign(**score_columns(rungs, scheme, most)), scheme)


def score_columns(rungs: NDArray[np.int64], scheme: Scheme, most: int) -> dict[str, Any]:
    """The three scores, their total and code, of rungs (3, customers) of ladders with at most ``most``; 0 is null."""
    scored = np.asarray(rungs.all(axis=0))
    return {
        **{name: pd.arrays.IntegerArray(row.copy(), row == 0) for name, row in zip(SCORES, rungs, strict=True)},
        "score_total": _total(rungs, scheme.scores.weights, scored),
        "score_code": _codes(rungs, scored, most),
    }


def with_percentiles(customers: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    """The customers with percentile and percent rank of the scheme's measure; null without a purchase."""
    of = scheme.scores.percentile_of
    require_measure(customers, of)
    ranked = np.where(_buyers(customers), as_numbers(customers[of]), np.nan)
    better = columns.better(of)
    return customers.assign(percentile=percentile(ranked, better), percent_rank=percent_rank(ranked, better))


def _placed_on(ladder: AnyLadder, customers: pd.DataFrame, measure: str) -> NDArray[np.int64]:
    """Rung of each customer, 0 where there is none."""
    if isinstance(ladder, GroupedLadder):
        _need(customers, (ladder.within,), "These ladders are within groups")
        return ladder.place(measure_values(customers, measure), group_labels(customers, ladder.within))
    return ladder.place(customers[measure])


def _need_frame(customers: Any) -> None:
    if not isinstance(customers, pd.DataFrame):
        raise UsageError(
            f"Customers to score are a pandas DataFrame, not {type(customers).__module__.split('.')[0]}'s {type(customers).__name__}. "
            "Turn them into one, with `.to_pandas()` for instance."
        )


def _buyers(customers: pd.DataFrame) -> NDArray[np.bool_]:
    _need(customers, tuple(measure for measure, _ in SCORES.values()), "Scores need customers")
    return bought_of(customers)


def _total(rungs: NDArray[np.int64], weights: tuple[Any, ...], bought: NDArray[np.bool_]) -> Any:
    """Weighted sum: whole where the weights are, else 2 decimals, halves away from zero."""
    exact = [Fraction(str(w)) for w in weights]
    whole = lcm(*(w.denominator for w in exact))
    sums = sum(int(w * whole) * row for w, row in zip(exact, rungs, strict=True))
    if whole == 1:
        return pd.arrays.IntegerArray(np.asarray(sums), ~bought)
    seen, back = np.unique(sums, return_inverse=True)
    hundredths = np.array([half_away(Fraction(int(s) * 100, whole)) for s in seen])
    return np.where(bought, ratio(hundredths, 100)[back], np.nan)


def _codes(rungs: NDArray[np.int64], bought: NDArray[np.bool_], k: int) -> "pd.Categorical[Any]":
    """``5-4-5``: one text for each code that occurs, however many customers share it."""
    keys = (rungs[0] * (k + 1) + rungs[1]) * (k + 1) + rungs[2]
    seen, back = np.unique(keys[bought], return_inverse=True)
    texts = [f"{key // (k + 1) ** 2}-{key // (k + 1) % (k + 1)}-{key % (k + 1)}" for key in seen.tolist()]
    order = np.argsort(np.array(texts, dtype=object), kind="stable")
    place = np.full(len(bought), -1, dtype=np.int64)
    place[bought] = np.argsort(order, kind="stable")[back]
    return categorical(place, [texts[i] for i in order])


def _holds(scored: pd.DataFrame, scheme: Scheme) -> list[NDArray[np.bool_]]:
    """Where each rule's condition is true, in the order of the rules."""
    scored = by_own_names(scored, scheme)
    kinds = tuple(frame_kinds(scored).items())
    conditions = [None if s.when is None else _rule(s.when, kinds, f"segment `{s.name}`") for s in scheme.segments]
    return [np.ones(len(scored), dtype=bool) if c is None else to_mask(c, scored)[0] for c in conditions]


@lru_cache(maxsize=512)
def _rule(when: str, kinds: tuple[tuple[str, Kind], ...], where: str) -> Condition:
    """A rule's condition, parsed once however often it is asked: an explanation scores some hundred times."""
    return parse_condition(when, dict(kinds), where)


def by_own_names(customers: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    """The customers with their id and name under the names of their own columns, too, as conditions may write them."""
    own = {n: customers[ours] for n, ours in scheme.own_names().items() if n not in customers and ours in customers}
    return customers.assign(**own) if own else customers


def first_rules(scored: pd.DataFrame, scheme: Scheme) -> NDArray[np.int16]:
    """The number of the first rule that holds for each customer."""
    place = np.full(len(scored), -1, dtype=np.int16)
    for number, holds in enumerate(_holds(scored, scheme)):
        place[holds & (place < 0)] = number
    return place


def _placed(scored: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    """Add segment and stance: the first rule, top down, whose condition holds."""
    place = first_rules(scored, scheme)
    names = [s.name for s in scheme.segments]
    stances = np.array([STANCES.index(s.stance) for s in scheme.segments])
    return scored.assign(
        segment=categorical(place, names),
        stance=categorical(stances[place], STANCES),
    )

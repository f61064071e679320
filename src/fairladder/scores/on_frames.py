"""The public functions on DataFrames of customers. The frame is loaded into an engine and then
treated like orders.
"""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pandas as pd
import pyarrow as pa
from sqlglot import exp

from fairladder.columns import SCORES as SCORE_COLUMNS
from fairladder.columns import names
from fairladder.conditions import Kind
from fairladder.engine.arrays import as_array
from fairladder.engine.embedded import Embedded
from fairladder.errors import SchemeError, UsageError, nearest
from fairladder.frames import plain_table, typed_frame
from fairladder.scheme import Scheme
from fairladder.scores import summary
from fairladder.scores.fitting import SCORES, AnyLadder, scheme_of
from fairladder.scores.scored import Scored, fit_all, kinds_of, require_ladders, scored_of
from fairladder.scores.selection import chosen_rows, require_known
from fairladder.scores.top import top_query
from fairladder.sqltree import column
from fairladder.sqltree import select as chosen_from

#: The row number in the frame, next to columns of any name.
_ROW = "row of the frame"


def fit_ladders(customers: pd.DataFrame, scheme: Scheme | None = None) -> dict[str, AnyLadder]:
    """Fit the ladders of the three scores and of all tiers to the customers with at least one
    purchase; return them by name.

    With ``within`` there is a ``GroupedLadder`` with one ladder per group. Raises UsageError if a
    column is missing or its kind does not suit its ladder.

    >>> import fairladder as fl
    >>> ladders = fl.fit_ladders(fl.sample_orders().customers())
    >>> ladders["recency_score"].cuts
    (45, 149, 346, 664)
    """
    _need_frame(customers)
    scheme = scheme or scheme_of(customers)
    held = _Held.of(customers, _spoken_of(customers, scheme))
    return fit_all(held.engine, held.relation, held.kinds, scheme)


def score(
    customers: pd.DataFrame,
    scheme: Scheme | None = None,
    *,
    ladders: Mapping[str, AnyLadder] | None = None,
) -> pd.DataFrame:
    """Score customers and assign tiers and segments.

    Parameters
    ----------
    customers
        One row per customer, as returned by ``Orders.customers``; other columns are kept.
    scheme
        Rungs, method, weights, tiers and segments; by default the scheme of the orders from which
        the customers were computed.
    ladders
        Ladders by name of the score or tier; by default fitted to these customers.

    Returns
    -------
    pandas.DataFrame
        The customers with ``recency_score``, ``frequency_score`` and ``monetary_score`` (1..K, K
        best), ``score_total`` (weighted sum), ``score_code`` (``5-4-5``), ``percentile`` (0..100)
        and ``percent_rank`` (0..1) of spend or the scheme's measure, a column for each tier, and
        ``segment`` and ``stance``. All but the last two are null for customers without a purchase;
        scores and tiers also if their group has no ladder.

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
    require_ladders(scheme, ladders)
    for name in scheme.tiers:
        if name in customers:
            raise SchemeError(
                f"[tiers.{name}]: the customers already have a column `{name}`. Give the "
                "tier another name."
            )
    added = [*names(SCORE_COLUMNS)[:-2], *scheme.tiers, "segment", "stance"]
    held = _Held.of(customers, [n for n in _spoken_of(customers, scheme) if n not in added])
    kinds: Mapping[str, Kind] = {**held.kinds, _ROW: "number"}
    made = scored_of(held.engine, scheme, held.relation, kinds, ladders)
    table = held.engine.table(
        chosen_from(list(map(column, added)), made.relation).order_by(column(_ROW), copy=False)
    )
    found = typed_frame(table, scheme)
    return customers.assign(**{n: found[n].array for n in added})


def segment_summary(scored: pd.DataFrame, scheme: Scheme | None = None) -> pd.DataFrame:
    """Return one row per segment, in the order of the rules, including empty segments.

    Columns: ``segment``, ``stance``, ``customers``, ``customer_share`` (0..1), ``spend``,
    ``spend_share`` (of all spend, 0..1; null where all spend is 0), ``orders``,
    ``median_recency_days`` (null without purchases) and ``average_order_value`` (spend ÷ orders of
    the segment, not an average of averages; null without orders).

    ``scheme`` supplies the stance of empty segments; without it theirs is null. Raises UsageError
    if the frame is not scored.

    >>> import fairladder as fl
    >>> summary = fl.segment_summary(fl.sample_orders().score())
    >>> summary[["segment", "stance", "customers"]].head(2).values.tolist()
    [['no-orders-yet', 'welcome', 107], ['mainstay', 'keep', 221]]
    """
    _need(
        scored,
        ("segment", "stance", "orders", "spend", "recency_days"),
        "segment_summary needs scored customers",
    )
    held = _Held.of(scored, ("segment", "stance", "orders", "spend", "recency_days"))
    known: dict[Any, str] = (
        scored.drop_duplicates("segment").set_index("segment")["stance"].astype(str).to_dict()
    )
    known |= {s.name: s.stance for s in scheme.segments} if scheme else {}
    stances = {str(name): known.get(name) for name in scored["segment"].cat.categories}
    return summary.segments_of(held.engine, held.relation, stances)


def tier_summary(scored: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    """Return one row per tier of each of the scheme's tier ladders, best first, including empty
    tiers.

    Columns: ``tier`` (the ladder's name), ``label``, ``customers``, ``customer_share`` and
    ``spend_share`` (0..1, of customers with a tier; null if that is 0) and ``spend``. Empty without
    tiers. Raises UsageError if the frame has no tiers.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> fl.tier_summary(orders.score(), orders.scheme)[["tier", "label", "customers"]].head(1).values.tolist()
    [['reward', 'gold', 11]]
    """
    _need(scored, (*scheme.tiers, "spend"), "tier_summary needs scored customers")
    held = _Held.of(scored, (*scheme.tiers, "spend", "orders"))
    return summary.tiers_of_relation(held.engine, held.relation, scheme)


def rule_coverage(scored: pd.DataFrame, scheme: Scheme | None = None) -> pd.DataFrame:
    """Return how many customers each rule places: ``segment``, ``condition``, ``placed``,
    ``shadowed`` and ``reached``.

    ``placed`` counts the customers placed by the rule; ``shadowed`` those who match it but were
    placed by an earlier rule. ``reached`` is false if no customer was left for the rule, so that it
    has no effect.

    >>> import fairladder as fl
    >>> coverage = fl.rule_coverage(fl.sample_orders().score())
    >>> coverage["placed"].sum().item()
    1199
    """
    scheme = scheme or scheme_of(scored)
    held = _Held.of(scored, [*_spoken_of(scored, scheme), "segment"])
    return summary.rule_coverage(Scored(held.engine, held.relation, held.kinds, {}, scheme))


def top(
    customers: pd.DataFrame,
    by: str = "spend",
    *,
    count: int | None = None,
    percent: float | None = None,
    worst: bool = False,
    within: str | None = None,
    all_customers: bool = False,
    ties: str = "include",
) -> pd.DataFrame:
    """Return the best customers by a measure, with their ``rank`` as the first column, sorted by
    rank, then by id.

    Parameters
    ----------
    customers
        One row per customer.
    by
        A column of numbers or dates. Less is better for recency, gaps, overdue ratio, first order,
        rank and refunds; more is better for all others. Nulls come last.
    count, percent
        The number of places (10 without either), or a percentage of the customers (of each group),
        rounded up. All customers tied with the last place are included, so there can be more.
    worst
        List the worst instead.
    within
        A column: a separate list for each of its values; null is a group of its own.
    all_customers
        Include customers without a purchase.
    ties
        ``exclude`` drops the customers tied with the last place if they do not all fit; there can
        be fewer.

    | value | rank |
    |------:|-----:|
    |     9 |    1 |
    |     7 |    2 |
    |     7 |    2 |
    |     4 |    4 |

    Raises UsageError for an unknown column, a measure that is not a number or date, or a wrong
    count or percentage; DataError if no customer has a purchase.

    >>> import fairladder as fl
    >>> best = fl.top(fl.sample_orders().customers(), by="spend", count=2)
    >>> best[["rank", "customer", "spend"]].values.tolist()
    [[1, '09302', 9172.55], [2, '09755', 7442.07]]
    """
    required = [by, *([] if within is None else [within])]
    held = _Held.of(customers, ["customer", "orders", *required])
    query = top_query(
        held.engine, held.relation, by, count=count, percent=percent, worst=worst, within=within,
        all_customers=all_customers, ties=ties,
    )  # fmt: skip
    keys = [*([] if within is None else [within]), "rank", "customer"]
    order = [
        exp.Ordered(
            this=column(f"{key} (cell)" if key == within == "rank" else key), nulls_first=False
        )
        for key in keys
    ]
    table = held.engine.table(
        chosen_from([column("rank"), column(_ROW)], query, "listed").order_by(*order, copy=False)
    )
    shown = customers.iloc[as_array(table[_ROW])].reset_index(drop=True)
    # A user's column with the name of one of ours gets another name, as in the order ledger.
    shown = shown.rename(columns={"rank": "rank (cell)"})
    first = [] if within is None else ["rank (cell)" if within == "rank" else within]
    shown.insert(0, "rank", as_array(table["rank"]))
    return shown[["rank", *first, *(c for c in shown.columns if c not in ("rank", *first))]]


def select(
    customers: pd.DataFrame,
    *,
    when: str | None = None,
    sort: str | None = None,
    columns: Sequence[str] | None = None,
) -> pd.DataFrame:
    """Return the customers who match ``when``, sorted by ``sort`` (best first, then by id; text by
    code point), with only ``columns``.

    ``when`` is a SQL condition on columns of the table; an unknown result, because of a null, is no
    match. Nulls sort last. Raises ConditionError for a wrong condition, UsageError for an unknown
    column.

    >>> import fairladder as fl
    >>> scored = fl.sample_orders().score()
    >>> fl.select(scored, when="segment = 'mainstay' AND orders > 60", sort="spend", columns=["customer", "orders"]).values.tolist()
    [['09302', 68], ['09755', 77]]
    """
    for name in (*([] if sort is None else [sort]), *(columns or ())):
        require_known(name, customers)
    words = [n for n in map(str, customers) if when is not None and n in when]
    held = _Held.of(
        customers,
        [*words, *([] if sort is None else [sort]), *(["customer"] if sort else [])],
        every=when,
    )
    rows, order = chosen_rows(
        held.relation, held.kinds, when, sort, (), "customer" if sort else _ROW
    )
    places = held.engine.table(
        chosen_from([column(_ROW)], rows.order_by(*order, copy=False), "chosen")
    )
    found = customers.iloc[as_array(places[_ROW])]
    return (found if columns is None else found[list(columns)]).reset_index(drop=True)


@dataclass(frozen=True)
class _Held:
    """Some columns of a frame in an engine, with their kinds."""

    engine: Embedded
    relation: exp.Expr
    kinds: Mapping[str, Kind]

    @classmethod
    def of(cls, frame: pd.DataFrame, wanted: Collection[str], every: str | None = None) -> "_Held":
        """Load those of the wanted columns that the frame has. ``every`` is the condition that uses
        them, for error messages.
        """
        there = [n for n in frame if n in set(wanted)]
        table = plain_table(frame[there]).append_column(
            _ROW, pa.array(range(len(frame)), pa.int64())
        )
        engine = Embedded()
        relation = engine.offer(table)
        kinds = kinds_of(engine, relation)
        there_too: dict[str, Kind] = {n: k for n, k in kinds.items() if n != _ROW}
        if every is not None:
            there_too |= {n: "text" for n in map(str, frame) if n not in kinds}
        return cls(engine, relation, there_too)


def _spoken_of(customers: pd.DataFrame, scheme: Scheme) -> list[str]:
    """Return the columns that scores need, and those whose names occur in the scheme."""
    _need(customers, tuple(measure for measure, _ in SCORES.values()), "Scores need customers")
    groups = [scheme.scores.within, *(tier.within for tier in scheme.tiers.values())]
    texts = " ".join([*scheme.spoken_of(), *(group for group in groups if group)])
    needed = {"orders", "recency_days", "spend", *scheme.own_names().values()}
    return [
        n for n in map(str, customers) if n in needed or n in texts or n.replace('"', '""') in texts
    ]


def _need(frame: pd.DataFrame, names_needed: tuple[str, ...], why: str) -> None:
    for name in names_needed:
        if name not in frame.columns:
            raise UsageError(
                f"{why}: the column `{name}` is missing. {nearest(name, map(str, frame.columns))}"
            )


def _need_frame(customers: Any) -> None:
    if not isinstance(customers, pd.DataFrame):
        raise UsageError(
            "Customers to score are a pandas DataFrame, not "
            f"{type(customers).__module__.split('.')[0]}'s {type(customers).__name__}. "
            "Turn them into one, with `.to_pandas()` for instance."
        )


def by_own_names(customers: pd.DataFrame, scheme: Scheme) -> pd.DataFrame:
    """Return the customers with id and name also under their original column names, which
    conditions may use.
    """
    own = {
        n: customers[ours]
        for n, ours in scheme.own_names().items()
        if n not in customers and ours in customers
    }
    return customers.assign(**own) if own else customers

"""Write the whole scheme as one portable SQL statement: ladders, tiers and rules, for a database
with the customers.
"""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from sqlglot import exp

from fairladder.conditions import Kind, parse_condition, to_engine
from fairladder.errors import UsageError, nearest
from fairladder.frames import frame_kinds
from fairladder.ladder import GroupedLadder
from fairladder.scheme import Scheme
from fairladder.scores.fitting import SCORES, AnyLadder
from fairladder.sqltree import case, column, named, select, sql

if TYPE_CHECKING:
    import pandas as pd


def scheme_sql(
    scheme: Scheme,
    ladders: Mapping[str, AnyLadder],
    customers: "pd.DataFrame",
    dialect: str = "duckdb",
    *,
    view: str | None = None,
) -> str:
    """Return a SELECT over a table ``customers`` that adds scores, total, code, tiers, segment and
    stance.

    ``customers`` has the columns and types of this frame (dates as dates; ISO text in SQLite). In
    DuckDB, SQLite, PostgreSQL, MariaDB and Spark the statement gives the same results as ``score``
    with the same ladders. For ``snowflake``, ``bigquery``, ``redshift``, ``databricks`` and
    ``trino`` it was parsed back but never run. With ``view`` it creates a view of that name.
    Percentile columns are omitted, since they depend on all customers. Raises UsageError for
    another dialect, for features that a dialect lacks, or for ladders within groups of a column
    that is not text.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> scored = orders.score()
    >>> text = fl.scheme_sql(orders.scheme, fl.fit_ladders(orders.customers()), scored, "sqlite")
    >>> text.splitlines()[0]
    'WITH scored AS ('
    """
    return scheme_text(scheme, ladders, frame_kinds(customers), dialect, view)


def scheme_text(
    scheme: Scheme,
    ladders: Mapping[str, AnyLadder],
    kinds: Mapping[str, Kind],
    dialect: str,
    view: str | None,
) -> str:
    """Return ``scheme_sql`` for customers with columns of these kinds."""
    from fairladder.engine.dialects import DIALECTS, in_dialect, require_understood, written_as
    from fairladder.engine.layout import laid_out

    if dialect not in DIALECTS:
        raise UsageError(
            f"SQL is written for {', '.join(DIALECTS)}, not {dialect!r}. "
            f"{nearest(dialect, DIALECTS)}"
        )
    tree: exp.Expr = in_dialect(scheme_tree(scheme, ladders, kinds), dialect, _texts(kinds))
    if view is not None:
        tree = exp.Create(this=exp.to_table(view), kind="VIEW", expression=tree)
    text = laid_out(tree, written_as(dialect))
    require_understood(text, dialect)
    return text


def scheme_tree(
    scheme: Scheme,
    ladders: Mapping[str, AnyLadder],
    kinds: Mapping[str, Kind],
    source: exp.Expr | None = None,
) -> exp.Select:
    """Return the statement of ``scheme_sql`` as a tree; over ``source`` if it is not the table
    ``customers``.
    """
    scores = [named(_for_buyers(_rung(ladders[n], m, kinds)), n) for n, (m, _) in SCORES.items()]
    layers = [
        ("scored", "The rung of each score, for customers with a purchase.", scores),
        ("totalled", "The weighted sum of the scores, and the score code.", totals(scheme)),
        ("tiered", "The label of each tier.",
        [named(_for_buyers(_tier(t, ladders[n], kinds)), n) for n, t in scheme.tiers.items()]),
        ("placed", "The segment of the first rule that matches.",
        [named(_segment(scheme, kinds), "segment")]),
    ]  # fmt: skip
    last: exp.Expr = exp.to_table("customers") if source is None else source
    tree = exp.Select()
    for name, comment, added in layers:
        if not added:
            continue
        layer = select(["*", *added], last)
        layer.add_comments([f" {comment} "])
        tree = tree.with_(name, as_=layer, copy=False)
        last = exp.to_table(name)
    stances = [
        (sql("segment = :n", n=s.name), exp.Literal.string(s.stance)) for s in scheme.segments
    ]
    return tree.select("*", named(case(stances, exp.null()), "stance"), copy=False).from_(
        "placed", copy=False
    )


def condition_sql(text: str, kinds: Mapping[str, Kind], dialect: str) -> str:
    """Return a condition in a dialect, over columns with their own names, with the same truth
    values as in ``score``.

    Raises ConditionError if it is wrong.
    """
    from fairladder.engine.dialects import in_dialect, written_as

    tree = to_engine(parse_condition(text, kinds), {name: column(name) for name in kinds})
    return str(
        in_dialect(exp.Select().select(tree), dialect, _texts(kinds))
        .expressions[0]
        .sql(written_as(dialect))
    )


def _texts(kinds: Mapping[str, Kind]) -> set[str]:
    """Return the columns of text: the customers' own, and those that the statement adds before its
    last layer.
    """
    return {name for name, kind in kinds.items() if kind == "text"} | {"segment"}


def _for_buyers(tree: exp.Expr) -> exp.Expr:
    return sql("CASE WHEN orders > 0 THEN :t END", t=tree)


def _rung(ladder: AnyLadder, measure: str, kinds: Mapping[str, Kind]) -> exp.Expr:
    if not isinstance(ladder, GroupedLadder):
        tree: exp.Expr = ladder.sql_tree(measure)
        return tree
    if kinds.get(ladder.within) != "text":
        raise UsageError(
            f"In SQL, ladders within groups need a column of text, and `{ladder.within}` is "
            "not text."
        )
    group = column(ladder.within)
    branches = [
        (sql(":g IS NULL", g=group) if name is None else sql(":g = :n", g=group,
        n=exp.Literal.string(name)), one.sql_tree(measure))
        for name, one in ladder.ladders.items()
    ]  # fmt: skip
    return case(branches, exp.null())


def _tier(tier: Any, ladder: AnyLadder, kinds: Mapping[str, Kind]) -> exp.Expr:
    labels = exp.Case(this=exp.paren(_rung(ladder, tier.of, kinds)))
    for place, label in enumerate(tier.names()):
        labels = labels.when(exp.convert(tier.size - place), exp.Literal.string(label), copy=False)
    return labels


def totals(scheme: Scheme) -> list[exp.Expr]:
    """Return the weighted sum of the scores and the score code, over the scores."""
    total: exp.Expr | None = None
    for name, weight in zip(SCORES, scheme.scores.weights, strict=True):
        part = sql(":w * :s", w=exp.convert(weight), s=column(name))
        total = part if total is None else sql(":a + :b", a=total, b=part)
    assert total is not None
    if any(isinstance(w, float) and not w.is_integer() for w in scheme.scores.weights):
        total = sql(
            "ROUND(CAST(:t AS DOUBLE) + 1e-9, 2)", t=exp.paren(total)
        )  # halves round up, whatever their float
    code = sql("CAST(:r AS VARCHAR) || '-' || CAST(:f AS VARCHAR) || '-' || CAST(:m AS VARCHAR)",
               r=column("recency_score"), f=column("frequency_score"),
               m=column("monetary_score"))  # fmt: skip
    return [named(total, "score_total"), named(code, "score_code")]


def rules_of(scheme: Scheme, kinds: Mapping[str, Kind]) -> list[tuple[exp.Expr, exp.Expr]]:
    """Return the condition of each rule with the segment that it assigns, except for the last
    rule.
    """
    others = {
        name: ours
        for name, ours in scheme.own_names().items()
        if name not in kinds and ours in kinds
    }
    cells = {name: column(others.get(name, name)) for name in (*kinds, *others)}
    kinds = {**kinds, **{name: kinds[ours] for name, ours in others.items()}}
    return [
        (
            to_engine(parse_condition(s.when, kinds, f"segment `{s.name}`"), cells),
            exp.Literal.string(s.name),
        )
        for s in scheme.segments
        if s.when is not None
    ]


def _segment(scheme: Scheme, kinds: Mapping[str, Kind]) -> exp.Expr:
    return case(rules_of(scheme, kinds), exp.Literal.string(scheme.segments[-1].name))

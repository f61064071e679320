"""SQL as a tree: short parsed patterns whose ``:names`` are replaced by trees, never text joined
to text.

Trees are built once and only read afterwards, so parts are shared and not copied: copying took
most of the time.
"""

import datetime as dt
from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import Any

import sqlglot
from sqlglot import exp


@lru_cache(maxsize=512)
def _parsed(pattern: str) -> exp.Expr:
    return sqlglot.parse_one(pattern, dialect="duckdb")


def sql(pattern: str, /, **parts: Any) -> exp.Expr:
    """The tree of ``pattern`` with each ``:name`` replaced by the tree or literal given under
    that name.
    """
    return exp.replace_placeholders(_parsed(pattern), **parts)


def day_literal(day: dt.date) -> exp.Expr:
    """A day, in the words of every engine."""
    return exp.cast(exp.Literal.string(day.isoformat()), "DATE")


def units(tree: exp.Expr, decimals: int) -> exp.Expr:
    """Minor units as a float of major ones."""
    return sql("(CAST(:m AS DOUBLE) / :scale)", m=tree, scale=10**decimals)


def numeric(tree: exp.Expr) -> exp.Expr:
    """The tree cast to exact decimals of any length, which the patterns' own dialect does not
    have.
    """
    return exp.Cast(this=tree, to=exp.DataType.build("numeric", dialect="postgres"))


def column(name: str) -> exp.Column:
    """A quoted column."""
    return exp.column(exp.to_identifier(name, quoted=True))


def cell_name(name: str) -> str:
    """What a column of somebody's table is called in our trees, whose own columns begin with
    one ``#``: never like one of them.
    """
    return f"#{name}" if name.startswith("#") else name


def cell_column(name: str) -> exp.Column:
    """A column of somebody's table, quoted."""
    return column(cell_name(name))


def named(tree: exp.Expr, name: str) -> exp.Expr:
    """``tree AS "name"``."""
    return exp.alias_(tree, exp.to_identifier(name, quoted=True), copy=False)


def select(columns: Iterable[exp.Expr | str], source: exp.Expr, alias: str = "") -> exp.Select:
    """``SELECT columns FROM source``; a query as the source takes the name ``alias``."""
    if isinstance(source, exp.Select):
        source = source.subquery(alias, copy=False)
    return exp.Select().select(*columns, copy=False).from_(source, copy=False)


def all_of(trees: Iterable[exp.Expr]) -> exp.Expr:
    """The trees joined by AND, in parentheses."""
    return _joined(exp.And, trees)


def any_of(trees: Iterable[exp.Expr]) -> exp.Expr:
    """The trees joined by OR, in parentheses."""
    return _joined(exp.Or, trees)


def _joined(kind: type[exp.Expr], trees: Iterable[exp.Expr]) -> exp.Expr:
    one, *more = (exp.paren(t, copy=False) if isinstance(t, exp.Connector) else t for t in trees)
    for other in more:
        one = kind(this=one, expression=other)
    return exp.paren(one, copy=False)


def case(branches: Sequence[tuple[exp.Expr, exp.Expr]], otherwise: exp.Expr) -> exp.Expr:
    """``CASE WHEN … THEN … ELSE … END``; plain ``otherwise`` where there is no branch."""
    if not branches:
        return otherwise
    tree = exp.Case()
    for when, then in branches:
        tree = tree.when(when, then, copy=False)
    return tree.else_(otherwise, copy=False)

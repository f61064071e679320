"""Build SQL as a tree from short parsed patterns whose ``:names`` are replaced by trees; text is
never joined to text.

Trees are not changed after they are built, so parts are shared instead of copied: copying took most
of the time.
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
    """Return the tree of ``pattern`` with each ``:name`` replaced by the tree or literal of that
    name.
    """
    return exp.replace_placeholders(_parsed(pattern), **parts)


def day_literal(day: dt.date) -> exp.Expr:
    """Return a date literal that every engine understands."""
    return exp.cast(exp.Literal.string(day.isoformat()), "DATE")


def units(tree: exp.Expr, decimals: int) -> exp.Expr:
    """Convert minor units to a float of major units."""
    return sql("(CAST(:m AS DOUBLE) / :scale)", m=tree, scale=10**decimals)


def numeric(tree: exp.Expr) -> exp.Expr:
    """Cast the tree to exact decimals of any length, which the patterns' own dialect does not
    have.
    """
    return exp.Cast(this=tree, to=exp.DataType.build("numeric", dialect="postgres"))


def column(name: str) -> exp.Column:
    """Return a quoted column."""
    return exp.column(exp.to_identifier(name, quoted=True))


def cell_name(name: str) -> str:
    """Return the name of a user's column in our trees. Our own columns begin with one ``#``, so the
    two never clash.
    """
    return f"#{name}" if name.startswith("#") else name


def cell_column(name: str) -> exp.Column:
    """Return a quoted column of a user's table."""
    return column(cell_name(name))


def named(tree: exp.Expr, name: str) -> exp.Expr:
    """Return ``tree AS "name"``."""
    return exp.alias_(tree, exp.to_identifier(name, quoted=True), copy=False)


def select(columns: Iterable[exp.Expr | str], source: exp.Expr, alias: str = "") -> exp.Select:
    """Return ``SELECT columns FROM source``; a query as the source gets the name ``alias``."""
    if isinstance(source, exp.Select):
        source = source.subquery(alias, copy=False)
    return exp.Select().select(*columns, copy=False).from_(source, copy=False)


def all_of(trees: Iterable[exp.Expr]) -> exp.Expr:
    """Join the trees with AND, in parentheses."""
    return _joined(exp.And, trees)


def any_of(trees: Iterable[exp.Expr]) -> exp.Expr:
    """Join the trees with OR, in parentheses."""
    return _joined(exp.Or, trees)


def _joined(kind: type[exp.Expr], trees: Iterable[exp.Expr]) -> exp.Expr:
    one, *more = (exp.paren(t, copy=False) if isinstance(t, exp.Connector) else t for t in trees)
    for other in more:
        one = kind(this=one, expression=other)
    return exp.paren(one, copy=False)


def case(branches: Sequence[tuple[exp.Expr, exp.Expr]], otherwise: exp.Expr) -> exp.Expr:
    """Return ``CASE WHEN … THEN … ELSE … END``; only ``otherwise`` if there is no branch."""
    if not branches:
        return otherwise
    tree = exp.Case()
    for when, then in branches:
        tree = tree.when(when, then, copy=False)
    return tree.else_(otherwise, copy=False)

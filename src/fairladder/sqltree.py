"""SQL as a tree: short parsed patterns whose ``:names`` are replaced by trees, never text joined to text."""

from functools import lru_cache
from typing import Any

import sqlglot
from sqlglot import exp


@lru_cache(maxsize=512)
def _parsed(pattern: str) -> exp.Expression:
    return sqlglot.parse_one(pattern, dialect="duckdb")  # type: ignore[return-value]


def sql(pattern: str, **parts: Any) -> exp.Expression:
    """The tree of ``pattern`` with each ``:name`` replaced by the tree or literal given under that name."""
    return exp.replace_placeholders(_parsed(pattern).copy(), **parts)  # type: ignore[return-value]


def column(name: str) -> exp.Column:
    """A quoted column."""
    return exp.column(exp.to_identifier(name, quoted=True))


def named(tree: exp.Expression, name: str) -> exp.Alias:
    """``tree AS "name"``."""
    return exp.alias_(tree, exp.to_identifier(name, quoted=True))


def all_of(trees: list[exp.Expression]) -> exp.Expression:
    """The trees joined by AND; TRUE where there are none."""
    return exp.and_(*trees) if trees else exp.true()


def case(branches: list[tuple[exp.Expression, exp.Expression]], otherwise: exp.Expression) -> exp.Expression:
    """``CASE WHEN … THEN … ELSE … END``; plain ``otherwise`` where there is no branch."""
    if not branches:
        return otherwise
    tree = exp.Case()
    for when, then in branches:
        tree = tree.when(when, then)
    return tree.else_(otherwise)

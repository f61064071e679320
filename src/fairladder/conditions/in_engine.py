"""A condition over the cells of an engine: the same values as on a frame, whatever the
engine's own habits.
"""

from collections.abc import Mapping

from sqlglot import exp

from fairladder.conditions.language import CALCULATIONS, COMPARISONS, LARGEST_ROUNDED, Condition
from fairladder.sqltree import sql

#: Their operands are put in parentheses where they are no single values: databases bind them
#: differently.
_TIGHT = (*COMPARISONS, *CALCULATIONS, exp.Is, exp.In, exp.Between, exp.Like, exp.Neg)
_SINGLE = (exp.Column, exp.Literal, exp.Null, exp.Boolean, exp.Paren, exp.Cast, exp.Case, exp.Func)
#: Decimal text of a float in so many digits holds its every digit from a ten-thousandth up.
_EXACT = "DECIMAL(38, 22)"


def to_engine(condition: Condition, cells: Mapping[str, exp.Expr]) -> exp.Expr:
    """The condition over ``cells`` (name → tree of the cell's value), in the embedded engine's
    words.
    """
    return exp.paren(_settled(condition.tree, cells))


def _settled(node: exp.Expr, cells: Mapping[str, exp.Expr]) -> exp.Expr:
    """The node with its parts settled, from the leaves up."""
    if isinstance(node, exp.Column):
        return cells[node.name]
    if isinstance(node, exp.Literal | exp.Cast):
        return node.copy()
    changed = node.copy()
    for key, value in list(node.args.items()):
        if isinstance(value, exp.Expr):
            changed.set(key, _operand(node, _settled(value, cells)))
        elif isinstance(value, list):
            changed.set(
                key,
                [
                    _operand(node, _settled(v, cells)) if isinstance(v, exp.Expr) else v
                    for v in value
                ],
            )
    match changed:
        case exp.Div():
            return sql("(:a / NULLIF(:b, 0))", a=_float(changed.this), b=_float(changed.expression))
        case exp.Add() | exp.Sub() | exp.Mul():
            return type(changed)(this=_float(changed.this), expression=_float(changed.expression))
        case exp.Neg() | exp.Abs():
            return type(changed)(this=_float(changed.this))
        case exp.Round():
            return _rounded(_float(changed.this), changed.args.get("decimals"))
        case exp.Like() if changed.args.get("negate"):
            return exp.Not(this=exp.Like(this=changed.this, expression=changed.expression))
    return changed


def _operand(parent: exp.Expr, part: exp.Expr) -> exp.Expr:
    return (
        exp.paren(part, copy=False)
        if isinstance(parent, _TIGHT) and not isinstance(part, _SINGLE)
        else part
    )


def _float(tree: exp.Expr) -> exp.Expr:
    """Whole numbers and decimals would be calculated with in ways of each database's own."""
    return sql("CAST(:x AS DOUBLE)", x=tree)


def _rounded(value: exp.Expr, decimals: exp.Expr | None) -> exp.Expr:
    """Halves away from zero by decimal text; numbers too large to have a half stay as they are."""
    digits = int(decimals.name) if decimals is not None else 0
    return sql(
        f"CASE WHEN ABS(:x) < :most THEN CAST(ROUND(CAST(CAST(:x AS VARCHAR) AS {_EXACT}), :n) AS "
        "DOUBLE) ELSE :x END",
        x=value, most=exp.Literal.number(f"1e{LARGEST_ROUNDED - digits}"), n=digits,
    )  # fmt: skip

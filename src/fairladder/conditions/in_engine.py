"""Evaluate a condition in an engine with the same result on every engine."""

from collections.abc import Mapping

from sqlglot import exp

from fairladder.conditions.language import CALCULATIONS, COMPARISONS, LARGEST_ROUNDED, Condition
from fairladder.sqltree import sql

#: Operands of these are parenthesised unless they are single values, since databases differ in
#: precedence.
_TIGHT = (*COMPARISONS, *CALCULATIONS, exp.Is, exp.In, exp.Between, exp.Like, exp.Neg)
_SINGLE = (exp.Column, exp.Literal, exp.Null, exp.Boolean, exp.Paren, exp.Cast, exp.Case, exp.Func)
#: Decimal text with this many digits is exact for every float above a ten-thousandth.
_EXACT = "DECIMAL(38, 22)"


def to_engine(condition: Condition, cells: Mapping[str, exp.Expr]) -> exp.Expr:
    """Translate the condition to the embedded engine's SQL, over ``cells`` (name → tree of the
    cell's value).
    """
    return exp.paren(_translated(condition.tree, cells))


def _translated(node: exp.Expr, cells: Mapping[str, exp.Expr]) -> exp.Expr:
    """Translate a node, from the leaves up."""
    if isinstance(node, exp.Column):
        return cells[node.name]
    if isinstance(node, exp.Literal | exp.Cast):
        return node.copy()
    changed = node.copy()
    for key, value in list(node.args.items()):
        if isinstance(value, exp.Expr):
            changed.set(key, _operand(node, _translated(value, cells)))
        elif isinstance(value, list):
            changed.set(
                key,
                [
                    _operand(node, _translated(v, cells)) if isinstance(v, exp.Expr) else v
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
    """Cast to float, since databases compute differently with integers and decimals."""
    return sql("CAST(:x AS DOUBLE)", x=tree)


def _rounded(value: exp.Expr, decimals: exp.Expr | None) -> exp.Expr:
    """Round halves away from zero by decimal text. Numbers too large to have a fraction are
    unchanged.
    """
    digits = int(decimals.name) if decimals is not None else 0
    return sql(
        f"CASE WHEN ABS(:x) < :most THEN CAST(ROUND(CAST(CAST(:x AS VARCHAR) AS {_EXACT}), :n) AS "
        "DOUBLE) ELSE :x END",
        x=value, most=exp.Literal.number(f"1e{LARGEST_ROUNDED - digits}"), n=digits,
    )  # fmt: skip

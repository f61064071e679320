"""A reference implementation of conditions: masks over a frame with three-valued logic."""

import re
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.conditions import letters
from fairladder.conditions.language import LARGEST_ROUNDED, Condition
from fairladder.numbers import to_minor

if TYPE_CHECKING:
    import pandas as pd

Values = tuple[NDArray[Any], NDArray[np.bool_]]
"""Data and its null flags, both of the frame's length or of shape ()."""


def to_mask(
    condition: Condition, frame: "pd.DataFrame"
) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Return two boolean arrays of len(frame): where the condition is true, and where it is unknown
    (because of NULL).
    """
    data, null = _Frame(frame).value(condition.tree)
    shape = (len(frame),)
    null = np.broadcast_to(null, shape)
    return np.broadcast_to(data.astype(bool), shape) & ~null, null.copy()


class _Frame:
    """The values of a condition's parts over one frame."""

    def __init__(self, frame: "pd.DataFrame") -> None:
        self._frame = frame

    def value(self, node: exp.Expr) -> Values:
        return _EVALUATE[type(node)](self, node)

    def column(self, node: exp.Expr) -> Values:
        series = self._frame[node.name]
        null = series.isna().to_numpy(dtype=bool)
        code = getattr(series.dtype, "kind", "O")
        if code == "M":
            return series.to_numpy(dtype="datetime64[D]"), null
        if code in "iufb":
            filler: Any = False if code == "b" else 0
            return (series.fillna(filler) if null.any() else series).to_numpy(
                dtype=_NUMPY[code]
            ), null
        data = series.to_numpy(dtype=object, copy=True)
        data[null] = ""
        return data, null


_NUMPY = {"i": np.int64, "u": np.int64, "f": np.float64, "b": np.bool_}
_NO = np.asarray(False)


def _literal(_: _Frame, node: exp.Expr) -> Values:
    return np.asarray(node.name, dtype=object) if node.is_string else np.asarray(
        float(node.name)
    ), _NO


def _and(a: Values, b: Values) -> Values:
    false = (~a[1] & ~a[0].astype(bool)) | (~b[1] & ~b[0].astype(bool))
    return ~false, (a[1] | b[1]) & ~false


def _or(a: Values, b: Values) -> Values:
    true = (~a[1] & a[0].astype(bool)) | (~b[1] & b[0].astype(bool))
    return true, (a[1] | b[1]) & ~true


def _not(a: Values) -> Values:
    return ~a[0].astype(bool), a[1]


def _only_null(values: Values) -> bool:
    """Return True for the literal NULL, which has no kind."""
    return values[1].shape == () and bool(values[1])


def _compare(how: Callable[[Any, Any], Any], a: Values, b: Values) -> Values:
    if a[1].all() or b[1].all():  # an all-NULL value matches every kind
        null = np.broadcast_to(np.asarray(True), np.broadcast_shapes(a[1].shape, b[1].shape))
        return np.zeros_like(null), null
    return np.asarray(how(a[0], b[0])).astype(bool), a[1] | b[1]


def _equal(a: Values, b: Values) -> Values:
    return _compare(lambda x, y: x == y, a, b)


def _calculated(how: Callable[[Any, Any], Any]) -> Callable[[_Frame, exp.Expr], Values]:
    def evaluate(frame: _Frame, node: exp.Expr) -> Values:
        (a, a_null), (b, b_null) = frame.value(node.this), frame.value(node.expression)
        with np.errstate(over="ignore", invalid="ignore"):
            return np.asarray(how(a.astype(np.float64), b.astype(np.float64))), a_null | b_null

    return evaluate


def _of_number(how: Callable[[Any], Any], a: Values) -> Values:
    return np.asarray(how(a[0].astype(np.float64))), a[1]


def _divided(frame: _Frame, node: exp.Expr) -> Values:
    (a, a_null), (b, b_null) = frame.value(node.this), frame.value(node.expression)
    zero = b == 0
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        quotient = np.true_divide(a.astype(np.float64), np.where(zero, 1, b).astype(np.float64))
    return quotient, a_null | b_null | zero


def _is(frame: _Frame, node: exp.Expr) -> Values:
    data, null = frame.value(node.this)
    if isinstance(node.expression, exp.Null):
        return null, np.zeros_like(null)
    return ~null & (data.astype(bool) == bool(node.expression.this)), np.zeros_like(null)


def _like(frame: _Frame, node: exp.Expr) -> Values:
    data, null = frame.value(node.this)
    wild = {"%": ".*", "_": "."}
    match = re.compile(
        "".join(wild.get(c, re.escape(c)) for c in node.expression.name), re.DOTALL
    ).fullmatch
    hit = np.asarray(
        np.frompyfunc(lambda s: isinstance(s, str) and match(s) is not None, 1, 1)(data)
    ).astype(bool)
    return (~hit if node.args.get("negate") else hit), null


def _in(frame: _Frame, node: exp.Expr) -> Values:
    this, hit = frame.value(node.this), (_NO, _NO)
    for item in node.expressions:
        hit = _or(hit, _equal(this, frame.value(item)))
    return hit


def _between(frame: _Frame, node: exp.Expr) -> Values:
    this = frame.value(node.this)
    low = _compare(lambda x, y: x >= y, this, frame.value(node.args["low"]))
    return _and(low, _compare(lambda x, y: x <= y, this, frame.value(node.args["high"])))


def _rounded(frame: _Frame, node: exp.Expr) -> Values:
    data, null = frame.value(node.this)
    digits = int(node.args["decimals"].name) if node.args.get("decimals") is not None else 0
    floats = data.astype(np.float64)
    safe = np.abs(floats) < 10.0 ** (LARGEST_ROUNDED - digits)
    return np.where(safe, to_minor(np.where(safe, floats, 0), digits) / 10**digits, floats), null


def _of_text(change: Callable[[str], Any]) -> Callable[[_Frame, exp.Expr], Values]:
    def evaluate(frame: _Frame, node: exp.Expr) -> Values:
        data, null = frame.value(node.this)
        changed = np.frompyfunc(lambda s: change(s if isinstance(s, str) else ""), 1, 1)(data)
        changed = np.asarray(changed, dtype=object)
        return (changed.astype(np.int64) if change is len else changed), null

    return evaluate


def _choose(branches: list[tuple[Values, Values]], default: Values) -> Values:
    data, null = default
    for (when, unknown), (then, then_null) in reversed(branches):
        hit = when.astype(bool) & ~unknown
        if _only_null((then, then_null)):
            null = np.where(hit, True, null)
            continue
        if _only_null((data, null)):
            data = then
        data, null = np.where(hit, then, data), np.where(hit, then_null, null)
    return data, null


def _coalesced(frame: _Frame, node: exp.Expr) -> Values:
    parts = [frame.value(p) for p in [node.this, *node.expressions]]
    return _choose([((~n, np.zeros_like(n)), (d, n)) for d, n in parts[:-1]], parts[-1])


def _case(frame: _Frame, node: exp.Expr) -> Values:
    default = node.args.get("default")
    last = frame.value(default) if default is not None else (np.asarray(0), np.asarray(True))
    subject = frame.value(node.this) if node.this is not None else None
    branches = []
    for branch in node.args["ifs"]:
        when = frame.value(branch.this)
        when = _equal(subject, when) if subject is not None else when
        branches.append((when, frame.value(branch.args["true"])))
    return _choose(branches, last)


def _compared(how: Callable[[Any, Any], Any]) -> Callable[[_Frame, exp.Expr], Values]:
    return lambda frame, node: _compare(how, frame.value(node.this), frame.value(node.expression))


_EVALUATE: dict[type[exp.Expr], Callable[[_Frame, exp.Expr], Values]] = {
    exp.Column: _Frame.column,
    exp.Literal: _literal,
    exp.Cast: lambda _, node: (np.asarray(np.datetime64(node.this.name, "D")), _NO),
    exp.Null: lambda _, __: (np.asarray(0), np.asarray(True)),
    exp.Boolean: lambda _, node: (np.asarray(bool(node.this)), _NO),
    exp.Paren: lambda frame, node: frame.value(node.this),
    exp.And: lambda frame, node: _and(frame.value(node.this), frame.value(node.expression)),
    exp.Or: lambda frame, node: _or(frame.value(node.this), frame.value(node.expression)),
    exp.Not: lambda frame, node: _not(frame.value(node.this)),
    exp.Is: _is,
    exp.Like: _like,
    exp.In: _in,
    exp.Between: _between,
    exp.EQ: _compared(lambda a, b: a == b),
    exp.NEQ: _compared(lambda a, b: a != b),
    exp.GT: _compared(lambda a, b: a > b),
    exp.GTE: _compared(lambda a, b: a >= b),
    exp.LT: _compared(lambda a, b: a < b),
    exp.LTE: _compared(lambda a, b: a <= b),
    exp.Add: _calculated(np.add),
    exp.Sub: _calculated(np.subtract),
    exp.Mul: _calculated(np.multiply),
    exp.Div: _divided,
    exp.Neg: lambda frame, node: _of_number(np.negative, frame.value(node.this)),
    exp.Abs: lambda frame, node: _of_number(np.abs, frame.value(node.this)),
    exp.Round: _rounded,
    exp.Lower: _of_text(letters.lower),
    exp.Upper: _of_text(letters.upper),
    exp.Length: _of_text(len),
    exp.Coalesce: _coalesced,
    exp.Case: _case,
}

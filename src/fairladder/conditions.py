"""SQL search conditions: parsed to an allow-listed tree, names and types checked, to an engine or to a mask.

Three-valued logic as in SQL: a comparison with NULL is unknown, and unknown is not true. Text compares by code point
and case-sensitively; ``/`` is real division and by zero gives NULL; ROUND is half away from zero by decimal text.
"""

import datetime as dt
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import sqlglot
from numpy.typing import NDArray
from sqlglot import exp
from sqlglot.errors import SqlglotError

from fairladder.errors import ConditionError, nearest
from fairladder.numbers import to_minor
from fairladder.sqltree import column, sql

if TYPE_CHECKING:
    import pandas as pd

Kind = Literal["text", "number", "day", "truth", "any"]

_COMPARISONS = (exp.EQ, exp.NEQ, exp.GT, exp.GTE, exp.LT, exp.LTE)
_ARITHMETIC = (exp.Add, exp.Sub, exp.Mul, exp.Div)
_ALLOWED = (
    *_COMPARISONS, *_ARITHMETIC, exp.And, exp.Or, exp.Not, exp.Paren, exp.In, exp.Between, exp.Like, exp.Is, exp.Null,
    exp.Boolean, exp.Literal, exp.Column, exp.Identifier, exp.Neg, exp.Case, exp.If, exp.Coalesce, exp.Abs, exp.Round,
    exp.Lower, exp.Upper, exp.Length,
)  # fmt: skip
_LANGUAGE = (
    "Conditions may use comparisons, AND, OR, NOT, IN, BETWEEN, LIKE, IS NULL, + − × ÷, CASE, COALESCE, ABS, ROUND, "
    "LOWER, UPPER and LENGTH."
)


@dataclass(frozen=True)
class Condition:
    """A checked condition: its text, its tree over known columns, and the names it uses."""

    text: str
    tree: exp.Expr
    names: frozenset[str]

    def __repr__(self) -> str:
        return f"Condition({self.text!r})"


def parse_condition(text: str, columns: Mapping[str, Kind], where: str = "condition") -> Condition:
    """Check ``text`` against the known ``columns`` (name → kind); ``where`` names its origin in errors.

    Raises ConditionError where it does not parse, goes beyond the language, names an unknown column or mixes kinds.
    """
    try:
        tree = sqlglot.parse_one(text)
    except (SqlglotError, RecursionError) as error:
        reason = str(error).splitlines()[0].split(". Line ")[0] if text.strip() else "it is empty"
        raise ConditionError(f"{where}: `{text}` does not parse as a SQL condition: {reason}.") from None
    tree = tree.transform(lambda node: _resolved(node, columns, text, where))
    if _kind(tree, columns, text, where) not in ("truth", "any"):
        raise ConditionError(f"{where}: `{text}` is a value, not a condition; compare it with something.")
    return Condition(text, tree, frozenset(c.name for c in tree.find_all(exp.Column)))


def _resolved(node: exp.Expr, columns: Mapping[str, Kind], text: str, where: str) -> exp.Expr:
    if not isinstance(node, _ALLOWED) or (isinstance(node, exp.In) and node.args.get("query")):
        name = node.name if isinstance(node, exp.Anonymous) else type(node).__name__
        raise ConditionError(f"{where}: `{text}` uses {name.upper()}, which is not allowed. {_LANGUAGE}")
    if not isinstance(node, exp.Column):
        return node
    if node.table:
        raise ConditionError(f"{where}: `{text}` writes `{node.sql()}`; name the column alone, without a table.")
    if node.name in columns:
        return column(node.name)
    alike = [c for c in columns if c.casefold() == node.name.casefold()]
    if len(alike) == 1 and not node.this.quoted:
        return column(alike[0])
    raise ConditionError(
        f"{where}: `{text}` names the column `{node.name}`, which is not there. {nearest(node.name, columns)}"
    )


def _kind(node: exp.Expr, columns: Mapping[str, Kind], text: str, where: str) -> Kind:
    """Kind of a node's value, refusing mixtures on the way."""

    def kind(part: exp.Expr) -> Kind:
        return _kind(part, columns, text, where)

    def refuse(why: str) -> ConditionError:
        return ConditionError(f"{where}: `{text}` {why}.")

    def same(parts: list[exp.Expr]) -> Kind:
        found: Kind = "any"
        for part in parts:
            new = kind(part)
            if "day" in (found, new) and {found, new} <= {"day", "text", "any"}:
                for literal in parts:
                    if literal.is_string and not _is_day(literal.name):
                        raise refuse(f"compares a day with {literal.sql()}; write a day as '2026-06-30'")
                    if kind(literal) == "text" and not literal.is_string:
                        raise refuse(f"compares a day with the text `{_shown(literal)}`")
                found = "day"
            elif "any" in (found, new):
                found = new if found == "any" else found
            elif found != new:
                raise refuse(f"compares {_A[found]} with {_A[new]} (`{_shown(parts[0])}` and `{_shown(part)}`)")
        return found

    def need(parts: list[exp.Expr], wanted: Kind) -> Kind:
        for part in parts:
            if kind(part) not in (wanted, "any"):
                raise refuse(f"needs {_A[wanted]} where it has {_A[kind(part)]}: `{_shown(part)}`")
        return wanted

    match node:
        case exp.Column():
            return columns[node.name]
        case exp.Literal():
            return "text" if node.is_string else "number"
        case exp.Null():
            return "any"
        case exp.Boolean():
            return "truth"
        case exp.Paren():
            return kind(node.this)
        case exp.And() | exp.Or():
            return need([node.left, node.right], "truth")
        case exp.Not():
            return need([node.this], "truth")
        case exp.Is():
            if not isinstance(node.expression, exp.Null | exp.Boolean):
                raise refuse("writes IS before something other than NULL, TRUE or FALSE")
            if isinstance(node.expression, exp.Boolean):
                need([node.this], "truth")
            kind(node.this)
            return "truth"
        case exp.Like():
            need([node.this, node.expression], "text")
            if not node.expression.is_string:
                raise refuse("needs a quoted pattern after LIKE")
            return "truth"
        case exp.In():
            same([node.this, *node.expressions])
            return "truth"
        case exp.Between():
            same([node.this, node.args["low"], node.args["high"]])
            return "truth"
        case exp.EQ() | exp.NEQ() | exp.GT() | exp.GTE() | exp.LT() | exp.LTE():
            same([node.left, node.right])
            return "truth"
        case exp.Add() | exp.Sub() | exp.Mul() | exp.Div():
            return need([node.left, node.right], "number")
        case exp.Neg() | exp.Abs():
            return need([node.this], "number")
        case exp.Round():
            digits = node.args.get("decimals")
            if digits is not None and not (digits.is_int and 0 <= int(digits.name) <= 9):
                raise refuse("needs 0 to 9 digits in ROUND")
            return need([node.this], "number")
        case exp.Lower() | exp.Upper():
            return need([node.this], "text")
        case exp.Length():
            need([node.this], "text")
            return "number"
        case exp.Coalesce():
            return same([node.this, *node.expressions])
        case exp.Case():
            branches = node.args["ifs"]
            if node.this is None:
                need([b.this for b in branches], "truth")
            else:
                same([node.this, *(b.this for b in branches)])
            return same([b.args["true"] for b in branches] + [d for d in [node.args.get("default")] if d is not None])
        case _:
            raise refuse(f"uses `{_shown(node)}`, which is not allowed. {_LANGUAGE}")


def _shown(node: exp.Expr) -> str:
    """A part of a condition as people write it: plain names without quotes."""
    shown = node.copy()
    for name in shown.find_all(exp.Identifier):
        name.set("quoted", not re.fullmatch(r"[A-Za-z_]\w*", name.name))
    return shown.sql()


_A = {"text": "text", "number": "a number", "day": "a day", "truth": "true or false", "any": "NULL"}


def _is_day(text: str) -> bool:
    try:
        return dt.date.fromisoformat(text).isoformat() == text
    except ValueError:
        return False


# ------------------------------------------------------------------------------------------------- to an engine


def to_engine(condition: Condition, cells: Mapping[str, exp.Expr], days: frozenset[str]) -> exp.Expr:
    """The condition over ``cells`` (name → tree of the cell's value); quoted days beside ``days`` become dates."""

    def settle(node: exp.Expr) -> exp.Expr:
        if isinstance(node, exp.Column):
            return cells[node.name]
        if isinstance(node, exp.Div):
            return sql(
                "(CAST(:a AS DOUBLE) / NULLIF(:b, 0))", a=node.left.transform(settle), b=node.right.transform(settle)
            )
        if isinstance(node, exp.Literal) and node.is_string and _is_day(node.name) and _beside_day(node, days):
            return sql("CAST(:d AS DATE)", d=node.copy())
        return node

    return exp.paren(condition.tree.copy().transform(settle))


def _beside_day(literal: exp.Expr, days: frozenset[str]) -> bool:
    """Whether a literal is compared with a day column, directly or through CASE or COALESCE."""
    node = literal.parent
    while node is not None and not isinstance(node, exp.And | exp.Or | exp.Not):
        if any(c.name in days for c in node.find_all(exp.Column)):
            return True
        node = node.parent
    return False


# --------------------------------------------------------------------------------------------------- to a mask

Values = tuple[NDArray[Any], NDArray[np.bool_]]
"""Data and its null flags, both of the frame's length or of shape ()."""


def to_mask(condition: Condition, frame: "pd.DataFrame") -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Where the condition is true, and where it is unknown (because of NULL): two boolean arrays of len(frame)."""
    data, null = _evaluate(condition.tree, frame)
    shape = (len(frame),)
    null = np.broadcast_to(null, shape)
    return np.broadcast_to(data.astype(bool), shape) & ~null, null.copy()


def frame_kinds(frame: "pd.DataFrame") -> dict[str, Kind]:
    """Kind of every column of a frame, as conditions see it."""
    kinds: dict[str, Kind] = {}
    for name in frame.columns:
        dtype = frame[name].dtype
        code = getattr(dtype, "kind", "O")
        kinds[str(name)] = {"i": "number", "u": "number", "f": "number", "b": "truth", "M": "day"}.get(code, "text")  # type: ignore[assignment]
    return kinds


def _column_values(series: "pd.Series[Any]") -> Values:
    null = series.isna().to_numpy(dtype=bool)
    code = getattr(series.dtype, "kind", "O")
    if code == "M":
        return series.to_numpy(dtype="datetime64[D]"), null
    if code in "iufb":
        filler: Any = False if code == "b" else 0
        return (series.fillna(filler) if null.any() else series).to_numpy(dtype=_NUMPY[code]), null
    data = series.to_numpy(dtype=object, copy=True)
    data[null] = ""
    return data, null


_NUMPY = {"i": np.int64, "u": np.int64, "f": np.float64, "b": np.bool_}


def _literal(node: exp.Expr) -> Values:
    value: Any = node.name if node.is_string else (int(node.name) if node.is_int else float(node.name))
    return np.asarray(value, dtype=object if node.is_string else None), np.asarray(False)


def _comparable(left: NDArray[Any], right: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
    """A quoted day beside a day column is a day."""
    if left.dtype.kind == "M" and right.dtype.kind == "O":
        return left, right.astype("datetime64[D]")
    if right.dtype.kind == "M" and left.dtype.kind == "O":
        return left.astype("datetime64[D]"), right
    return left, right


def _and(a: Values, b: Values) -> Values:
    false = (~a[1] & ~a[0].astype(bool)) | (~b[1] & ~b[0].astype(bool))
    return ~false, (a[1] | b[1]) & ~false


def _or(a: Values, b: Values) -> Values:
    true = (~a[1] & a[0].astype(bool)) | (~b[1] & b[0].astype(bool))
    return true, (a[1] | b[1]) & ~true


def _only_null(values: Values) -> bool:
    """Whether this is the literal NULL, whose data goes with no kind."""
    return values[1].shape == () and bool(values[1])


def _compare(how: Callable[[Any, Any], Any], a: Values, b: Values) -> Values:
    if _only_null(a) or _only_null(b):
        return np.asarray(False), np.asarray(True)
    left, right = _comparable(a[0], b[0])
    return np.asarray(how(left, right)).astype(bool), a[1] | b[1]


def _divide(a: Values, b: Values) -> Values:
    zero = b[0] == 0
    with np.errstate(divide="ignore", invalid="ignore"):
        quotient = np.true_divide(a[0], np.where(zero, 1, b[0]))
    return quotient, a[1] | b[1] | zero


def _like(a: Values, pattern: str) -> Values:
    wild = {"%": ".*", "_": "."}
    match = re.compile("".join(wild.get(c, re.escape(c)) for c in pattern), re.DOTALL).fullmatch
    return np.asarray(np.frompyfunc(lambda s: isinstance(s, str) and match(s) is not None, 1, 1)(a[0])).astype(bool), a[
        1
    ]


def _rounded(a: Values, digits: int) -> Values:
    safe = np.abs(a[0]) * 10.0**digits < 1e15
    return np.where(safe, to_minor(np.where(safe, a[0], 0), digits) / 10**digits, a[0]), a[1]


def _choose(branches: list[tuple[Values, Values]], default: Values) -> Values:
    data, null = default
    for (when, unknown), (then, then_null) in reversed(branches):
        hit = when.astype(bool) & ~unknown
        if _only_null((then, then_null)):
            null = np.where(hit, True, null)
            continue
        if _only_null((data, null)):
            data = then
        then, data = _comparable(*np.broadcast_arrays(then, data)) if then.dtype != data.dtype else (then, data)
        data, null = np.where(hit, then, data), np.where(hit, then_null, null)
    return data, null


_COMPARE: dict[type, Callable[[Any, Any], Any]] = {
    exp.EQ: lambda a, b: a == b, exp.NEQ: lambda a, b: a != b, exp.GT: lambda a, b: a > b,
    exp.GTE: lambda a, b: a >= b, exp.LT: lambda a, b: a < b, exp.LTE: lambda a, b: a <= b,
}  # fmt: skip
_CALCULATE: dict[type, Callable[[Any, Any], Any]] = {exp.Add: np.add, exp.Sub: np.subtract, exp.Mul: np.multiply}


def _evaluate(node: exp.Expr, frame: "pd.DataFrame") -> Values:
    def value(part: exp.Expr) -> Values:
        return _evaluate(part, frame)

    match node:
        case exp.Column():
            return _column_values(frame[node.name])
        case exp.Literal():
            return _literal(node)
        case exp.Null():
            return np.asarray(0), np.asarray(True)
        case exp.Boolean():
            return np.asarray(bool(node.this)), np.asarray(False)
        case exp.Paren():
            return value(node.this)
        case exp.And():
            return _and(value(node.left), value(node.right))
        case exp.Or():
            return _or(value(node.left), value(node.right))
        case exp.Not():
            data, null = value(node.this)
            return ~data.astype(bool), null
        case exp.Is():
            data, null = value(node.this)
            if isinstance(node.expression, exp.Null):
                return null, np.zeros_like(null)
            return ~null & (data.astype(bool) == bool(node.expression.this)), np.zeros_like(null)
        case exp.Like():
            return _like(value(node.this), node.expression.name)
        case exp.In():
            this, hit = value(node.this), (np.asarray(False), np.asarray(False))
            for item in node.expressions:
                hit = _or(hit, _compare(_COMPARE[exp.EQ], this, value(item)))
            return hit
        case exp.Between():
            this = value(node.this)
            low = _compare(_COMPARE[exp.GTE], this, value(node.args["low"]))
            return _and(low, _compare(_COMPARE[exp.LTE], this, value(node.args["high"])))
        case exp.Div():
            return _divide(value(node.left), value(node.right))
        case exp.Neg():
            data, null = value(node.this)
            return -data, null
        case exp.Abs():
            data, null = value(node.this)
            return np.abs(data), null
        case exp.Round():
            digits = node.args.get("decimals")
            return _rounded(value(node.this), int(digits.name) if digits is not None else 0)
        case exp.Lower() | exp.Upper() | exp.Length():
            change = {exp.Lower: str.lower, exp.Upper: str.upper, exp.Length: len}[type(node)]
            data, null = value(node.this)
            changed = np.asarray(
                np.frompyfunc(lambda s: change(s if isinstance(s, str) else ""), 1, 1)(data), dtype=object
            )
            return (changed.astype(np.int64) if isinstance(node, exp.Length) else changed), null
        case exp.Coalesce():
            parts = [value(p) for p in [node.this, *node.expressions]]
            return _choose([((~n, np.zeros_like(n)), (d, n)) for d, n in parts[:-1]], parts[-1])
        case exp.Case():
            default = node.args.get("default")
            last = value(default) if default is not None else (np.asarray(0), np.asarray(True))
            subject = value(node.this) if node.this is not None else None
            branches = []
            for branch in node.args["ifs"]:
                when = value(branch.this)
                when = _compare(_COMPARE[exp.EQ], subject, when) if subject is not None else when
                branches.append((when, value(branch.args["true"])))
            return _choose(branches, last)
        case _ if type(node) in _COMPARE:
            return _compare(_COMPARE[type(node)], value(node.this), value(node.expression))
        case _:
            (a, a_null), (b, b_null) = value(node.this), value(node.expression)
            return np.asarray(_CALCULATE[type(node)](a, b)), a_null | b_null
    raise AssertionError(node)


__all__ = ["Condition", "Kind", "frame_kinds", "parse_condition", "to_engine", "to_mask"]

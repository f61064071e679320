"""Translate the embedded engine's SQL to SQLite. Missing functions are Python functions; dates are
ISO text.
"""

import datetime as dt
import re
import sqlite3
from collections.abc import Callable
from functools import lru_cache
from typing import Any, ClassVar
from zoneinfo import ZoneInfo

from sqlglot import exp
from sqlglot.dialects.sqlite import SQLite

from fairladder.conditions import letters
from fairladder.engine.exact import exact_minor_functions
from fairladder.engine.protocol import CURRENCY_SIGNS
from fairladder.numbers import half_away_decimals
from fairladder.sqltree import sql


class StrictNames(SQLite):
    """SQLite dialect with names in backquotes: SQLite takes an unknown name in double quotes as
    text.
    """

    class Tokenizer(SQLite.Tokenizer):
        """Lists backquotes first, so that they are used for output."""

        IDENTIFIERS: ClassVar[list[str | tuple[str, str]]] = ["`", '"', ("[", "]")]


def translated(node: exp.Expr) -> exp.Expr:
    """Translate one node of a tree to SQLite."""
    match node:
        case exp.TryCast():
            return _call(f"try_{node.to.this.name.lower()}", node.this)
        case exp.Cast() if node.to.this in exp.DataType.TEXT_TYPES:
            return _call("as_text", node.this)
        case exp.Cast() if node.to.this == exp.DType.DATE:
            return _call("as_day", node.this)
        case exp.IsNan():
            return exp.false()  # SQLite has no NaN
        case exp.RegexpLike():
            return _call("regexp_matches", node.this, node.expression)
        case exp.RegexpFullMatch():
            return _call("regexp_full_match", node.this, node.expression)
        case exp.RegexpExtract():
            return _call("regexp_extract", node.this, node.expression, node.args["group"])
        case exp.RegexpReplace():
            every = exp.convert(int("g" in (node.text("modifiers") or "")))
            return _call(
                "regexp_replace", node.this, node.expression, node.args["replacement"], every
            )
        case exp.Array():  # a date in several notations, as one text
            return exp.Literal.string("\n".join(e.name for e in node.expressions))
        case exp.Anonymous() if node.name.upper() == "ARRAY_EXTRACT":
            text, place = node.expressions
            return _call("substr", text, place, exp.convert(1))
        case exp.TimestampTrunc():
            return _call("period_start", exp.Literal.string(node.text("unit").lower()), node.this)
        case exp.Chr():
            return _call("char", node.expressions[0])
        case exp.Add() if isinstance(node.left, exp.Cast) and node.left.to.this == exp.DType.DATE:
            return _call("day_plus", node.left.this, node.right)
        case exp.Add() if isinstance(node.left, exp.Anonymous) and node.left.name == "as_day":
            return _call(
                "day_plus", node.left, node.right
            )  # the same if the parts were translated before
    return _with_our_meaning(node)


def _with_our_meaning(node: exp.Expr) -> exp.Expr:
    """Replace functions that SQLite has with another meaning by ours."""
    match node:
        case exp.Like():
            return _call("fl_like", node.this, node.expression)
        case exp.Round():
            return _call("fl_round", node.this, node.args.get("decimals") or exp.convert(0))
        case exp.Lower() | exp.Upper() | exp.Floor() | exp.Trunc():
            return _call(f"fl_{node.key}", node.this)
    return node


def _call(name: str, *arguments: exp.Expr) -> exp.Anonymous:
    return exp.Anonymous(this=name, expressions=list(arguments))


def letter_by_letter(node: exp.Expr) -> exp.Expr:
    """Return LOWER or UPPER as conditions define them, for a SQLite without our functions, which
    knows A to Z only.
    """
    letters_, others = (
        letters.capitals() if isinstance(node, exp.Upper) else letters.small_letters()
    )
    return sql(
        "CASE WHEN :t IS NOT NULL THEN (WITH RECURSIVE part(n, done) AS (SELECT 1, '' UNION ALL "
        "SELECT n + 1, done || CASE WHEN "
        "INSTR(:own, SUBSTR(:t, n, 1)) > 0 THEN SUBSTR(:other, INSTR(:own, SUBSTR(:t, n, 1)), 1) "
        "ELSE SUBSTR(:t, n, 1) END "
        "FROM part WHERE n <= LENGTH(:t)) SELECT done FROM part ORDER BY n DESC LIMIT 1) END",
        t=node.this, own=exp.Literal.string(letters_), other=exp.Literal.string(others),
    )  # fmt: skip


def half_away(node: exp.Expr) -> exp.Expr:
    """Return ROUND by decimal text for a SQLite without our functions: a float is compared with
    that of the half below or above it.
    """
    digits = int(node.args["decimals"].name) if node.args.get("decimals") is not None else 0
    value = node.this
    while isinstance(value, exp.Cast):
        value = value.this
    size = sql("ABS(:x)", x=value)
    low = sql("CAST(:s * :u AS BIGINT)", s=size, u=float(10**digits))
    below = sql("(:low - (:low / :u > :s))", low=low, u=float(10**digits), s=size)
    up = sql("(:s >= (2 * :b + 1) / :two)", s=size, b=below, two=float(2 * 10**digits))
    return sql(
        "CASE WHEN :x < 0 THEN -1 ELSE 1 END * (:b + :up) / :u",
        x=value,
        b=below,
        up=up,
        u=float(10**digits),
    )


def prepare(connection: sqlite3.Connection) -> None:
    """Register the functions that ``translated`` calls, under names of their own, so that a user's
    query keeps its meaning.
    """
    for name, function, arguments in [*_FUNCTIONS, *exact_minor_functions()]:
        connection.create_function(name, arguments, function, deterministic=True)


def _known(work: Callable[..., Any]) -> Callable[..., Any]:
    """Wrap a function to return NULL for NULL and for values that it cannot read."""

    def one(*values: Any) -> Any:
        if any(v is None for v in values):
            return None
        try:
            return work(*values)
        except (ValueError, OverflowError):
            return None

    return one


def _text(value: Any) -> str:
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    if isinstance(value, float) and value == value // 1 and abs(value) < 1e15:
        return str(int(value))  # a column of mixed types gets integers as other engines write them
    return repr(value) if isinstance(value, float) else str(value)


def _day(text: str) -> str:
    parts = re.fullmatch(r"(\d{4})-(\d\d?)-(\d\d?)", text, re.ASCII)
    if parts is None:
        raise ValueError(text)
    return dt.date(*map(int, parts.groups())).isoformat()


def _moment(text: str) -> dt.datetime:
    """Parse a date with or without time, as leniently as the embedded engine."""
    one_space = re.sub(r"^(\d{4}-\d\d-\d\d)(?:T| +)(?=\d)", r"\1 ", text)
    return dt.datetime.fromisoformat(
        re.sub(r" ?([+-]\d\d)$", r"\1:00", one_space) if len(text) > 10 else one_space
    )


def _timestamp(text: str) -> str:
    return _moment(text).isoformat()


def _instant(text: str) -> str:
    moment = _moment(text)
    return (
        (moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)).astimezone(dt.UTC).isoformat()
    )


def _in_zone(zone: str, instant: str) -> str:
    return (
        dt.datetime.fromisoformat(instant)
        .astimezone(ZoneInfo(zone))
        .replace(tzinfo=None)
        .isoformat()
    )


def _period_start(unit: str, day: str) -> str:
    date = dt.date.fromisoformat(day[:10])
    if unit == "week":
        return (date - dt.timedelta(days=date.weekday())).isoformat()
    month = {"year": 1, "quarter": 3 * ((date.month - 1) // 3) + 1}.get(unit, date.month)
    return (date if unit == "day" else dt.date(date.year, month, 1)).isoformat()


def _double(text: Any) -> float | None:
    number = float(text)
    return number if "_" not in str(text) and number == number else None


def _in_patterns(text: str, patterns: str) -> str | None:
    for pattern in patterns.split("\n"):
        try:
            return dt.datetime.strptime(text, pattern).date().isoformat()
        except ValueError:
            continue
    return None


@lru_cache(maxsize=256)
def _pattern(text: str) -> re.Pattern[str]:
    wide = re.sub(r"\\x\{([0-9a-f]+)\}", lambda m: f"\\u{int(m[1], 16):04x}", text)
    return re.compile(wide.replace(r"\p{Sc}", f"[{CURRENCY_SIGNS}]"), re.ASCII)


@lru_cache(maxsize=256)
def _like(pattern: str) -> re.Pattern[str]:
    """Return a LIKE pattern as a regular expression that minds case; a backslash is a letter."""
    letters_ = (".*" if c == "%" else "." if c == "_" else re.escape(c) for c in pattern)
    return re.compile("".join(letters_), re.DOTALL)


def _twin(*cells: Any) -> str:
    return repr(cells)


_FUNCTIONS: list[tuple[str, Callable[..., Any], int]] = [
    ("as_text", _known(_text), 1),
    ("as_day", _known(lambda text: _day(_text(text)[:10])), 1),
    ("try_date", _known(_day), 1),
    ("try_timestampntz", _known(_timestamp), 1),
    ("try_timestamptz", _known(_instant), 1),
    ("try_double", _known(_double), 1),
    ("timezone", _known(_in_zone), 2),
    (
        "day_plus",
        _known(lambda day, n: (dt.date.fromisoformat(day) + dt.timedelta(days=int(n))).isoformat()),
        2,
    ),
    ("period_start", _known(_period_start), 2),
    ("try_strptime", _known(_in_patterns), 2),
    ("regexp_matches", _known(lambda text, p: bool(_pattern(p).search(text))), 2),
    ("regexp_full_match", _known(lambda text, p: bool(_pattern(p).fullmatch(text))), 2),
    (
        "regexp_extract",
        _known(lambda text, p, n: ((m := _pattern(p).search(text)) and m[n]) or ""),
        3,
    ),
    (
        "regexp_replace",
        _known(lambda text, p, by, every: _pattern(p).sub(by, text, count=0 if every else 1)),
        4,
    ),
    ("contains", _known(lambda text, part: part in text), 2),
    ("starts_with", _known(lambda text, part: text.startswith(part)), 2),
    ("ends_with", _known(lambda text, part: text.endswith(part)), 2),
    ("lpad", _known(lambda text, n, by: text.rjust(n, by)), 3),
    ("fl_like", _known(lambda text, pattern: bool(_like(pattern).fullmatch(_text(text)))), 2),
    ("fl_trunc", _known(float.__trunc__), 1),
    ("fl_floor", _known(lambda x: int(x // 1)), 1),
    ("fl_round", _known(lambda x, digits: float(half_away_decimals(x, digits))), 2),
    ("fl_lower", _known(lambda text: letters.lower(_text(text))), 1),
    ("fl_upper", _known(lambda text: letters.upper(_text(text))), 1),
    ("hash", _twin, -1),
]

"""Regular expressions for dates, times and strptime patterns, for engines where a failing cast
stops the query.
"""

import re
from collections.abc import Callable, Mapping, Sequence

from sqlglot import exp

from fairladder.sqltree import case, sql

#: A valid calendar date, with leap years, so that a text that matches can be cast safely.
DAY = (
    r"((?!0000)\d{4}-((0[13578]|1[02])-(0[1-9]|[12]\d|3[01])|(0[469]|11)-(0[1-9]|[12]\d|30)|02-(0[1-9]|1\d|2[0-8]))"
    r"|(?!0000)(\d\d(0[48]|[2468][048]|[13579][26])|([02468][048]|[13579][26])00)-02-29)"
)
TIME = r"((T| +)([01]\d|2[0-3]):[0-5]\d(:[0-5]\d(\.\d+)?)?)"
OFFSET = r"( ?([Zz]|[+-](0\d|1[0-4])(:?[0-5]\d)?))"

#: The pattern that a text must match to be cast safely to each type.
SHAPES: Mapping[exp.DType, str] = {
    exp.DType.DATE: f"^{DAY}$",
    exp.DType.TIMESTAMPNTZ: f"^{DAY}{TIME}?$",
    exp.DType.TIMESTAMPTZ: f"^{DAY}({TIME}{OFFSET}?)?$",
}

_MONTHS = (
    "january february march april may june july august september october november december".split()
)
_PIECES = {
    "Y": r"(?<Y>\d{4})", "y": r"(?<y>\d\d)", "m": r"(?<m>\d{1,2})", "d": r"(?<d>\d{1,2})",
    "b": r"(?<b>[A-Za-z]+)",
    "B": r"(?<b>[A-Za-z]+)", "H": r"\d{1,2}", "M": r"\d{1,2}", "S": r"\d{1,2}", "I": r"\d{1,2}",
    "p": "[AaPp][Mm]",
}  # fmt: skip


def tried(
    text: exp.Expr,
    kind: exp.DType,
    shape: str,
    matches: Callable[[exp.Expr, str], exp.Expr],
    replaced: Callable[[exp.Expr, str, str], exp.Expr],
    made: Callable[[exp.Expr], exp.Expr],
) -> exp.Expr:
    """Return the expression ``made`` for a text that matches a shape, and NULL for any other text;
    months and days of one digit get a leading zero.
    """
    if kind == exp.DType.DATE:
        text = replaced(replaced(text, r"-(\d)-", r"-0\1-"), r"-(\d)$", r"-0\1")
    return sql("CASE WHEN :shaped THEN :made END", shaped=matches(text, shape), made=made(text))


def first_day(
    arguments: Sequence[exp.Expr], day_in: Callable[[exp.Expr, str], exp.Expr]
) -> exp.Expr:
    """Translate ``TRY_STRPTIME``: the date by the first of its patterns that fits."""
    text, pattern = arguments
    patterns = pattern.expressions if isinstance(pattern, exp.Array) else [pattern]
    days = [day_in(text, p.name) for p in patterns]
    return exp.Coalesce(this=days[0], expressions=days[1:])


def shape_of(pattern: str) -> tuple[str, list[str]]:
    """Return a strptime pattern as a regular expression without anchors, and the letters of its
    groups in order.
    """
    parts = re.split(r"%-?([A-Za-z])", pattern)
    shape, groups = re.escape(parts[0]), []
    for letter, after in zip(parts[1::2], parts[2::2], strict=True):
        piece = _PIECES.get(letter, r"\d+")
        if piece.startswith("(?<"):
            groups.append(piece[3])
            piece = "(" + piece[5:]
        shape += piece + re.escape(after)
    return shape, groups


def day_of_groups(found: dict[str, exp.Expr]) -> exp.Expr:
    """Build ``2026-06-05`` from the groups of a pattern, by their letters; NULL for an unknown
    month name.
    """
    # Two-digit years from 69 to 99 are in the last century for strptime.
    century = "CASE WHEN :y >= '69' THEN '19' ELSE '20' END || :y"
    year = found["Y"] if "Y" in found else sql(century, y=found["y"])
    month = (
        sql("LPAD(:m, 2, '0')", m=found["m"])
        if "m" in found
        else _month_of(sql("LOWER(:b)", b=found["b"]))
    )
    return exp.paren(
        sql(
            ":y || '-' || :m || '-' || :d", y=year, m=month, d=sql("LPAD(:d, 2, '0')", d=found["d"])
        )
    )


def _month_of(name: exp.Expr) -> exp.Expr:
    """Return ``06`` for june or jun, NULL for other words."""
    known = exp.Tuple(
        expressions=[
            exp.Literal.string(n) for month in _MONTHS for n in dict.fromkeys((month, month[:3]))
        ]
    )
    place = sql("STRPOS(:starts, LEFT(:b, 3))", starts="".join(m[:3] for m in _MONTHS), b=name)
    number = sql("LPAD(CAST(CAST((:p + 2) / 3 AS INT) AS VARCHAR), 2, '0')", p=place)
    return case([(sql(":b IN :known", b=name, known=known), number)], exp.null())

"""Translate the embedded engine's SQL to MariaDB. Missing functions are spelled out; nothing is
created in the database.
"""

import datetime as dt
import re
from bisect import bisect
from functools import cache
from zoneinfo import ZoneInfo

import sqlglot
from sqlglot import exp

from fairladder.engine.exact import EXACT_MINOR, exact_minor_tree
from fairladder.engine.texts_of_days import SHAPES, day_of_groups, first_day, shape_of, tried
from fairladder.engine.words import part_of_text
from fairladder.sqltree import sql

#: Functions, besides those of the SQL library, that a query may call: they only read their
#: arguments.
FUNCTIONS = frozenset(
    "abs acos addtime adddate asin atan atan2 bin bit_and bit_count bit_length bit_or bit_xor "
    "ceil ceiling char_length character_length "
    "concat_ws conv convert_tz cos cot count crc32 cume_dist curdate curtime date date_format "
    "datediff dayname dayofmonth dayofweek "
    "dayofyear degrees dense_rank elt exp export_set extractvalue field find_in_set first_value "
    "floor format from_base64 from_days "
    "from_unixtime greatest group_concat hex hour ifnull inet_aton inet_ntoa insert instr "
    "interval isnull json_array json_arrayagg "
    "json_compact json_contains json_contains_path json_depth json_exists json_extract json_keys "
    "json_length json_object json_objectagg "
    "json_query json_quote json_search json_type json_unquote json_valid json_value lag last_day "
    "last_value lead least left length ln "
    "localtime localtimestamp locate log log10 log2 lower lpad ltrim makedate maketime md5 median "
    "microsecond mid minute mod month "
    "monthname natural_sort_key now nth_value ntile nullif nvl nvl2 oct octet_length ord "
    "percent_rank percentile_cont percentile_disc "
    "period_add period_diff pi position pow power quarter quote radians rank regexp_instr "
    "regexp_replace regexp_substr repeat replace "
    "reverse right round row_number rpad rtrim sec_to_time second sha sha1 sha2 sign sin soundex "
    "space sqrt std stddev stddev_pop "
    "stddev_samp str_to_date strcmp subdate substr substring substring_index subtime tan time "
    "time_format time_to_sec timediff timestamp "
    "timestampadd timestampdiff to_base64 to_char to_days to_seconds trim truncate unhex "
    "unix_timestamp upper utc_date utc_time "
    "utc_timestamp var_pop var_samp variance week weekday weekofyear weight_string year yearweek".split()
)
#: The session's collation: by code point, and trailing blanks count.
COLLATION = "utf8mb4_nopad_bin"
#: The collation whose letter cases match those of conditions one for one, except for the uppercase
#: ``ß``.
_WITH_LETTERS = "utf8mb4_uca1400_as_cs"
#: At most 299 digits before the point: MariaDB replaces a number beyond a float's range with the
#: largest float.
_NUMBER = r"^[+-]?(\d{1,200}\.?\d*|\.\d+)([eE][+-]?\d\d?)?$"
_DECIMAL = exp.DataType.build("DECIMAL(65, 30)", dialect="mysql")
_WHITE = r" \t\n\f\r"
#: Set on a timestamp that was moved to a time zone; as text its fraction has no trailing zeros.
_MOMENT = "moment"


def translated(node: exp.Expr) -> exp.Expr:
    """Translate one node of a tree to MariaDB."""
    match node:
        case exp.TryCast():
            return _tried(node.this, node.to.this)
        case exp.Cast():
            return _cast(node)
        case exp.IsNan():
            return sql("(:x IS NULL AND FALSE)", x=node.this)  # MariaDB has no NaN
        case exp.Div():
            return exp.Div(
                this=exp.cast(node.left, "DOUBLE"), expression=node.right
            )  # MariaDB gives integers four decimals
        case exp.Round():
            digits = node.args.get("decimals") or exp.convert(0)
            return sql("CAST(ROUND(:x, :n) AS DOUBLE)", x=_exact(node.this), n=digits)
        case exp.BitwiseOrAgg():
            # MariaDB returns no bits for an empty set
            return sql("NULLIF(:bits, 0)", bits=node.copy())
        case exp.Filter():
            return _of_those(node)
        case exp.Window() if node.args.get("spec") and node.args.get("order"):
            return _nulls_last(node)
        case exp.TimestampTrunc():
            return _period_start(node.text("unit").lower(), node.this)
        case exp.Add() if isinstance(node.left, exp.Cast) and node.left.to.this == exp.DType.DATE:
            return _later(node.left, node.right, "DAY")
        case exp.Anonymous():
            return _function(node)
    return _of_text(node)


def _of_text(node: exp.Expr) -> exp.Expr:
    """Translate a node that works on text."""
    match node:
        case exp.RegexpLike():
            return _matches(node.this, node.expression.name)
        case exp.RegexpFullMatch():
            return _matches(node.this, f"^(?:{node.expression.name})$")
        case exp.RegexpReplace():
            return _replaced(node.this, node.expression.name, node.args["replacement"].name)
        case exp.RegexpExtract():
            return _extracted(node.this, node.expression.name, node.args["group"])
        case exp.Contains() | exp.StartsWith() | exp.EndsWith():
            return part_of_text(node)
        case exp.Trim() if (
            len(node.text("expression")) > 1
        ):  # MariaDB strips a whole word, not any of its letters
            signs = f"[{re.escape(node.text('expression'))}]+"
            ends = {"LEADING": f"^{signs}", "TRAILING": f"{signs}$"}.get(
                node.text("position"), f"^{signs}|{signs}$"
            )
            return _replaced(node.this, ends, "")
        case exp.Like():
            changed = node.copy()
            changed.set(
                "expression", exp.Literal.string(node.expression.name.replace("\\", "\\\\"))
            )
            return changed
        case exp.Lower():
            return _collated(exp.Lower(this=_collated(node.this, _WITH_LETTERS)), COLLATION)
        case exp.Upper():
            sharp = sql("REPLACE(:t, 'ß', 'ẞ')", t=_collated(node.this, _WITH_LETTERS))
            return _collated(exp.Upper(this=sharp), COLLATION)
        case exp.Chr():
            return exp.Literal.string(chr(int(node.expressions[0].name)))
    return node


def as_text(cell: exp.Expr) -> exp.Expr:
    """Cast a cell of any character set and collation to text that compares by code point."""
    wide = sqlglot.parse_one("CAST(:cell AS CHAR CHARACTER SET utf8mb4)", dialect="mysql")
    return _collated(exp.replace_placeholders(wide, cell=cell), COLLATION)


def _collated(text: exp.Expr, collation: str) -> exp.Expr:
    return exp.paren(exp.Collate(this=exp.paren(text), expression=exp.var(collation)))


def _call(name: str, *arguments: exp.Expr) -> exp.Anonymous:
    return exp.Anonymous(this=name, expressions=list(arguments))


def _cast(node: exp.Cast) -> exp.Expr:
    kind = node.to.this
    if kind in exp.DataType.TEXT_TYPES and node.this.meta.get(_MOMENT):
        return sql("TRIM(TRAILING '.' FROM TRIM(TRAILING '0' FROM :t))", t=node.copy())
    if kind == exp.DType.TIMESTAMPTZ:
        instant: exp.Expr = node.this  # the session's clock is in UTC
        return instant
    if kind == exp.DType.DECIMAL and not node.to.expressions:
        return _exact(node.this)
    return node


def _of_those(node: exp.Filter) -> exp.Expr:
    condition = node.expression.this
    aggregate: exp.Expr = node.this.copy()
    aggregate.set("this", sql("CASE WHEN :w THEN :x END", w=condition, x=aggregate.this))
    return aggregate


def _nulls_last(window: exp.Window) -> exp.Expr:
    """Return the window with nulls sorted last; MariaDB sorts them first."""
    changed = window.copy()
    order: list[exp.Expr] = []
    for one in changed.args["order"].expressions:
        if not one.args.get("desc"):
            order.append(exp.Ordered(this=sql("(:x IS NULL)", x=one.this), nulls_first=True))
            one.set("nulls_first", True)
        order.append(one)
    changed.args["order"].set("expressions", order)
    return changed


def _function(node: exp.Anonymous) -> exp.Expr:
    name, arguments = node.name.upper(), node.expressions
    if name.startswith(EXACT_MINOR.upper()):
        return exact_minor_tree(name.lower(), arguments, _exact)
    match name, arguments:
        case "PRINTF", [form, number]:
            return _significant(number, int(re.sub(r"\D", "", form.name)))
        case "ARRAY_EXTRACT", [text, place]:
            return sql(
                "RIGHT(:t, 1)" if place.sql() == "-1" else "SUBSTRING(:t, :n, 1)", t=text, n=place
            )
        case "ISFINITE", [cell]:
            return sql("(:c IS NOT NULL)", c=cell)
        case (
            "HASH",
            _,
            # rows are sorted by the beginning of a long text only, so do not sort by a text of all
            # cells
        ):
            return _call("SHA2", _call("JSON_ARRAY", *arguments), exp.convert(256))
        case "TIMEZONE", [zone, instant]:
            return _in_zone(zone.name, instant)
        case "TRY_STRPTIME", _:
            return first_day(arguments, _day_in_pattern)
    return node


def _exact(number: exp.Expr) -> exp.Expr:
    return exp.Cast(this=number, to=_DECIMAL)


def _significant(number: exp.Expr, digits: int) -> exp.Expr:
    """Round a number to this many significant digits."""
    places = sql("(:n - FLOOR(LOG10(ABS(:x))))", n=digits - 1, x=number)
    return sql(
        "CASE WHEN :x = 0 THEN 0 ELSE ROUND(:e, :p) END", x=number, e=_exact(number), p=places
    )


def _pattern(pattern: str) -> exp.Expr:
    """Return a regular expression for PCRE: digits and whitespace are ASCII, and ``$`` matches only
    at the end of the text.
    """
    inside = re.sub(
        r"\[(?:\\.|[^\]\\])*\]",
        lambda m: m[0].replace(r"\s", _WHITE).replace("$", r"\$").replace(r"\d", "0-9"),
        pattern,
    )
    ends = re.sub(r"(?<!\\)\$", r"\\z", inside)
    return exp.Literal.string(ends.replace(r"\s", f"[{_WHITE}]").replace(r"\d", "[0-9]"))


def _matches(text: exp.Expr, pattern: str) -> exp.Expr:
    return sql("(:place > 0)", place=_call("REGEXP_INSTR", text, _pattern(pattern)))


def _extracted(text: exp.Expr, pattern: str, group: exp.Expr) -> exp.Expr:
    """Return a group of the first match; an empty text if there is none."""
    found = _call("REGEXP_SUBSTR", text, _pattern(pattern))
    return _call("REGEXP_REPLACE", found, _pattern(pattern), exp.Literal.string(f"\\{group.name}"))


def _later(moment: exp.Expr, number: exp.Expr, unit: str) -> exp.Expr:
    return exp.DateAdd(this=moment, expression=exp.paren(number), unit=exp.var(unit))


def _period_start(unit: str, day: exp.Expr) -> exp.Expr:
    """Return the first day of a week (from Monday), month, quarter or year."""
    back = {
        "day": sql("0"),
        "week": _call("WEEKDAY", day),
        "month": sql(":n - 1", n=_call("DAYOFMONTH", day)),
        "year": sql(":n - 1", n=_call("DAYOFYEAR", day)),
    }
    if unit == "quarter":
        first = _call("MAKEDATE", sql("YEAR(:d)", d=day), exp.convert(1))
        return _later(first, sql(":q - 1", q=_call("QUARTER", day)), "QUARTER")
    return _later(exp.cast(day, "DATE"), sql("-(:n)", n=back[unit]), "DAY")


def _tried(text: exp.Expr, kind: exp.DType) -> exp.Expr:
    """Convert the text to a type, NULL if it does not fit: a cast would convert part of it."""
    makers = {exp.DType.TIMESTAMPNTZ: _clock, exp.DType.TIMESTAMPTZ: _instant}

    def made(shaped: exp.Expr) -> exp.Expr:
        return makers[kind](shaped) if kind in makers else exp.cast(shaped, kind)

    return tried(text, kind, SHAPES.get(kind, _NUMBER), _matches, _replaced, made)


def _replaced(text: exp.Expr, pattern: str, by: str) -> exp.Expr:
    return _call("REGEXP_REPLACE", text, _pattern(pattern), exp.Literal.string(by))


def _clock(text: exp.Expr) -> exp.Expr:
    return exp.Cast(this=text, to=exp.DataType.build("DATETIME(6)", dialect="mysql"))


def _instant(text: exp.Expr) -> exp.Expr:
    """Return the timestamp in UTC: its clock time less the offset that follows it."""
    offset = r"[+-]\d\d(:?\d\d)?"
    shown = _call("REGEXP_SUBSTR", text, _pattern(rf":\d\d(:\d\d(\.\d+)?)? ?\K{offset}$"))
    clock = _clock(_replaced(text, rf"(:\d\d(:\d\d(\.\d+)?)?) ?([Zz]|{offset})$", r"\1"))
    # The number 33000 means half past three.
    hours = sql("CAST(RPAD(REPLACE(:o, ':', ''), 5, '0') AS INT) * 100", o=shown)
    return _call("SUBTIME", clock, hours)


def _day_in_pattern(text: exp.Expr, pattern: str) -> exp.Expr:
    """Parse the date in a text by a strptime pattern; NULL if it does not fit."""
    shape, groups = shape_of(pattern)
    found = {
        letter: _extracted(text, f"^{shape}$", exp.convert(n))
        for n, letter in enumerate(groups, start=1)
    }
    day = _tried(day_of_groups(found), exp.DType.DATE)
    return sql("CASE WHEN :fits THEN :day END", fits=_matches(text, f"^{shape}$"), day=day)


def _in_zone(zone: str, instant: exp.Expr) -> exp.Expr:
    """Return the local time of a time zone at a UTC instant. Servers may lack time zones, so its
    offsets are written out.
    """
    spells = _offsets(zone)
    since = exp.Literal.string("1970-01-01")
    seconds = exp.Anonymous(this="TIMESTAMPDIFF", expressions=[exp.var("SECOND"), since, instant])
    spell = _call("INTERVAL", seconds, *(exp.convert(start) for start, _ in spells))
    before_all = spells[0][1]
    offset = _call(
        "ELT",
        sql(":n + 1", n=spell),
        *map(exp.convert, (before_all, *(shift for _, shift in spells))),
    )
    moved = _later(instant, exp.cast(offset, "BIGINT"), "SECOND")
    made = exp.paren(moved)
    made.meta[_MOMENT] = True
    return made


#: Years for which the offsets of a time zone are written out.
_YEARS = (1900, 2101)
_EPOCH, _WEEK = dt.datetime(1970, 1, 1, tzinfo=dt.UTC), 7 * 24 * 3600


@cache
def _offsets(zone: str) -> tuple[tuple[int, int], ...]:
    """Return since when each offset applies, in seconds; the first one also applies before."""
    there = ZoneInfo(zone)

    def offset(second: int) -> int:
        shown = (_EPOCH + dt.timedelta(seconds=second)).astimezone(there).utcoffset()
        assert shown is not None
        return int(shown.total_seconds())

    first, last = (int(dt.datetime(year, 1, 1, tzinfo=dt.UTC).timestamp()) for year in _YEARS)
    spells = [(first, offset(first))]
    for second in range(first, last, _WEEK):
        if offset(second + _WEEK) != spells[-1][1]:
            since = bisect(range(_WEEK), 0, key=lambda n: offset(second + n) != spells[-1][1])
            spells.append((second + since, offset(second + since)))
    return tuple(spells)

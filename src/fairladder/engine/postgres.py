"""Translate the embedded engine's SQL to PostgreSQL. Missing functions are spelled out; nothing is
created in the database.
"""

import re

from sqlglot import exp

from fairladder.conditions import letters
from fairladder.engine.exact import EXACT_MINOR, exact_minor_tree
from fairladder.engine.protocol import CURRENCY_SIGNS
from fairladder.engine.texts_of_days import SHAPES, day_of_groups, first_day, shape_of, tried
from fairladder.engine.words import part_of_text
from fairladder.sqltree import numeric, sql

#: Functions, besides those of the SQL library, that a query may call: they only read their
#: arguments.
FUNCTIONS = frozenset(
    "abs acos age any_value array_agg array_append array_cat array_length array_position "
    "array_remove array_to_string array_upper asin "
    "atan atan2 bit_and bit_or bit_length bool_and bool_or btrim cardinality cbrt ceil ceiling "
    "char_length chr clock_timestamp "
    "concat_ws corr cos count cume_dist date_bin date_part date_trunc decode degrees dense_rank "
    "div encode exp extract factorial "
    "first_value floor format gcd generate_series greatest initcap isfinite json_agg "
    "json_array_elements json_array_elements_text "
    "json_array_length json_build_object json_each json_each_text json_extract_path "
    "json_extract_path_text json_object_agg "
    "json_typeof jsonb_agg jsonb_array_elements jsonb_array_elements_text jsonb_array_length "
    "jsonb_build_object jsonb_each "
    "jsonb_each_text jsonb_extract_path jsonb_extract_path_text jsonb_object_agg jsonb_path_query "
    "jsonb_path_query_first jsonb_typeof "
    "justify_days justify_hours lag last_value lcm lead least left length ln log lower lpad ltrim "
    "make_date make_interval make_time "
    "make_timestamp make_timestamptz md5 min_scale mod mode now nth_value ntile num_nonnulls "
    "num_nulls octet_length overlay "
    "percent_rank percentile_cont percentile_disc pi position power quote_literal radians rank "
    "regexp_count regexp_instr regexp_like "
    "regexp_match regexp_matches regexp_replace regexp_split_to_array regexp_split_to_table "
    "regexp_substr repeat replace reverse right "
    "round row_number row_to_json rpad rtrim scale sha256 sign sin split_part sqrt starts_with "
    "stddev stddev_pop stddev_samp "
    "string_agg string_to_array string_to_table strpos substr substring tan timezone to_char "
    "to_date to_hex to_json to_jsonb to_number "
    "to_timestamp translate trim_array trim_scale trunc unaccent unnest upper var_pop var_samp variance width_bucket".split()
)
#: No exponents of three digits: PostgreSQL raises an error for a number beyond a float's range.
_NUMBER = r"^[+-]?(\d{1,250}\.?\d*|\.\d+)([eE][+-]?\d\d?)?$"


def translated(node: exp.Expr) -> exp.Expr:
    """Translate one node of a tree to PostgreSQL."""
    match node:
        case exp.TryCast():
            return _tried(node.this, node.to.this)
        case exp.IsNan():
            return sql("(CAST(:x AS DOUBLE) = CAST('NaN' AS DOUBLE))", x=node.this)
        case exp.Round():
            digits = node.args.get("decimals") or exp.convert(0)
            return sql("CAST(ROUND(:x, :n) AS DOUBLE)", x=numeric(node.this), n=digits)
        case exp.RegexpLike():
            return exp.RegexpLike(this=node.this, expression=_pattern(node.expression))
        case exp.RegexpFullMatch():
            return _matches(node.this, f"^(?:{node.expression.name})$")
        case exp.RegexpReplace():
            changed = node.copy()
            changed.set("expression", _pattern(node.expression))
            return changed
        case exp.RegexpExtract():
            match = exp.Anonymous(
                this="REGEXP_MATCH", expressions=[node.this, _pattern(node.expression)]
            )
            group = exp.Bracket(this=exp.paren(match), expressions=[node.args["group"]], offset=1)
            return sql("COALESCE(:g, '')", g=group)
        case exp.Contains() | exp.StartsWith() | exp.EndsWith():
            return part_of_text(node)
        case exp.Like():
            return exp.Escape(this=node.copy(), expression=exp.Literal.string(""))
        case exp.Lower() | exp.Upper():
            return letter_by_letter(node)
        case exp.Anonymous():
            return _function(node)
    return node


#: Text compares by code point, whatever the database's collation.
_C = exp.to_identifier("C", quoted=True)


def letter_by_letter(node: exp.Expr) -> exp.Expr:
    """Return LOWER or UPPER as conditions define them; a database's letters depend on its
    locale.
    """
    letters_, others = (
        letters.capitals() if isinstance(node, exp.Upper) else letters.small_letters()
    )
    arguments = [
        exp.Collate(this=exp.paren(node.this), expression=_C),
        *map(exp.Literal.string, (letters_, others)),
    ]
    return exp.Anonymous(this="TRANSLATE", expressions=arguments)


def by_code_point(cell: exp.Expr) -> exp.Expr:
    """Cast a cell to text that compares by code point."""
    return exp.Collate(this=sql("CAST(:c AS VARCHAR)", c=cell), expression=_C)


def without_nan(cell: exp.Expr) -> exp.Expr:
    """Return a NUMERIC cell with NaN as null, as in every typed column."""
    return sql("NULLIF(:c, :nan)", c=cell, nan=numeric(exp.Literal.string("NaN")))


def _function(node: exp.Anonymous) -> exp.Expr:
    name, arguments = node.name.upper(), node.expressions
    if name.startswith(EXACT_MINOR.upper()):
        return exact_minor_tree(name.lower(), arguments, numeric)
    if name == "PRINTF":  # from a REAL, whose text is the shortest
        return sql("CAST(CAST(:x AS FLOAT) AS VARCHAR)", x=arguments[1])
    if name == "ARRAY_EXTRACT":
        text, place = arguments
        return sql(
            "RIGHT(:t, 1)" if place.sql() == "-1" else "SUBSTRING(:t, :n, 1)", t=text, n=place
        )
    if name == "HASH":
        return sql("CAST(:r AS VARCHAR)", r=exp.Anonymous(this="ROW", expressions=arguments))
    if name == "TRY_STRPTIME":
        return first_day(arguments, _day_in_pattern)
    return node


def _matches(text: exp.Expr, pattern: str) -> exp.Expr:
    return exp.RegexpLike(this=text, expression=_pattern(exp.Literal.string(pattern)))


def _pattern(literal: exp.Expr) -> exp.Expr:
    """Return a regular expression in PostgreSQL's syntax."""
    wide = re.sub(r"\\x\{([0-9a-f]+)\}", lambda m: f"\\u{int(m[1], 16):04x}", literal.name)
    wide = wide.replace(r"\p{Sc}", f"[{CURRENCY_SIGNS}]").replace(r"\b", r"\y")
    return exp.Literal.string(wide)


def _replaced(text: exp.Expr, pattern: str, by: str) -> exp.Expr:
    return exp.RegexpReplace(
        this=text, expression=exp.Literal.string(pattern), replacement=exp.Literal.string(by)
    )


def _tried(text: exp.Expr, kind: exp.DType) -> exp.Expr:
    """Convert the text to a type, NULL if it does not fit: a cast would raise an error."""

    def made(shaped: exp.Expr) -> exp.Expr:
        return exp.cast(shaped, kind)

    return tried(text, kind, SHAPES.get(kind, _NUMBER), _matches, _replaced, made)


def _day_in_pattern(text: exp.Expr, pattern: str) -> exp.Expr:
    """Parse the date in a text by a strptime pattern; NULL if it does not fit."""
    shape, groups = shape_of(pattern)
    match = exp.Anonymous(
        this="REGEXP_MATCH", expressions=[text, _pattern(exp.Literal.string(f"^{shape}$"))]
    )
    found: dict[str, exp.Expr] = {
        letter: exp.Bracket(this=exp.paren(match), expressions=[exp.convert(n)], offset=1)
        for n, letter in enumerate(groups, start=1)
    }
    return _tried(day_of_groups(found), exp.DType.DATE)

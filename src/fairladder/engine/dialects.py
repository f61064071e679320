"""Write SQL for other databases and warehouses, and check it against functions that each warehouse
has.
"""

import re
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from functools import reduce

import sqlglot
from sqlglot import exp

from fairladder.conditions import letters
from fairladder.engine import mariadb, postgres, spark, sqlite
from fairladder.engine.words import in_words
from fairladder.errors import UsageError
from fairladder.sqltree import numeric, sql

#: Dialects in which our tests run the statement.
RUN_HERE = ("duckdb", "sqlite", "postgres", "mariadb", "spark")
#: The SQL library's names of dialects, if different.
_WRITTEN_AS = {"mariadb": "mysql"}
#: For each warehouse, functions from its manual that have the same meaning there.
_EVERYWHERE = frozenset(
    "ABS CAST CASE COALESCE COUNT DATEDIFF DATE_DIFF IF LENGTH MAX MIN NULLIF REGEXP_REPLACE ROUND SUBSTRING SUM TRANSLATE TRIM".split()
)


@dataclass(frozen=True)
class _Warehouse:
    """A warehouse for which the statement is written but not run in our tests."""

    functions: frozenset[str]
    types: frozenset[str]
    escapes: bool
    """True if a backslash is an escape in LIKE patterns and must be doubled."""


_TYPES = frozenset("BIGINT DATE DECIMAL DOUBLE INT TEXT VARCHAR".split())
WAREHOUSES: Mapping[str, _Warehouse] = {
    "snowflake": _Warehouse(_EVERYWHERE | {"TO_CHAR"}, _TYPES, escapes=False),
    "bigquery": _Warehouse(
        _EVERYWHERE, _TYPES | {"BIGNUMERIC", "FLOAT64", "NUMERIC", "STRING"}, escapes=True
    ),
    "redshift": _Warehouse(_EVERYWHERE | {"TS_OR_DS_DIFF"}, _TYPES, escapes=True),
    "databricks": _Warehouse(_EVERYWHERE, _TYPES | {"STRING"}, escapes=True),
    "trino": _Warehouse(_EVERYWHERE | {"CHR", "CONCAT"}, _TYPES, escapes=False),
}
DIALECTS = (*RUN_HERE, *WAREHOUSES)


def written_as(dialect: str) -> str:
    """Return the SQL library's name of a dialect."""
    return _WRITTEN_AS.get(dialect, dialect)


def in_dialect(tree: exp.Select, dialect: str, texts: Collection[str]) -> exp.Expr:
    """Return the tree as text in a dialect; ``texts`` names its columns of text."""
    if dialect == "duckdb":
        return tree
    if dialect == "mariadb":
        return in_words(_by_code_point(tree, texts), mariadb.translated, keep_layers=False)
    copy = tree.copy()
    for node in reversed(list(copy.walk())):
        other = _changed(node, dialect)
        if other is not node:
            node.replace(other)
    return _by_number(copy) if dialect == "trino" else copy


#: Translators for databases. SQLite stores no column types, so the reduction is not written for it.
_WORDS: Mapping[str, Callable[[exp.Expr], exp.Expr]] = {
    "postgres": postgres.translated,
    "mariadb": mariadb.translated,
    "spark": spark.translated,
}
#: Dialects for which the reduction is written.
WITH_TYPES = tuple(dialect for dialect in DIALECTS if dialect != "sqlite")


def reduction_in_dialect(tree: exp.Select, dialect: str) -> exp.Expr:
    """Return a reduction of typed columns as text in a dialect, with inner names that every
    warehouse accepts.
    """
    plain = tree.copy()
    for name in plain.find_all(exp.Identifier):
        if name.name.startswith("#"):
            name.set("this", inner_name(name.name))
    if dialect in _WORDS:
        return in_words(_texts_by_code_point(plain, dialect), _WORDS[dialect], keep_layers=False)
    if dialect == "duckdb":
        return plain
    for node in reversed(list(plain.walk())):
        other = _reduced(node, dialect)
        other = _changed(other, dialect) if other is node else other
        if other is not node:
            node.replace(other)
    return _by_number(plain) if dialect == "trino" else plain


def _by_number(tree: exp.Select) -> exp.Select:
    """Write control signs in texts as ``CHR(9)``: Trino has no escapes, and an editor changes raw
    ones.
    """
    for text in list(tree.find_all(exp.Literal)):
        parts = re.split(r"([\x00-\x1f])", text.name) if text.is_string else [text.name]
        if len(parts) > 1:
            signs: list[exp.Expr] = [
                exp.Chr(expressions=[exp.convert(ord(part))]) if n % 2 else exp.Literal.string(part)
                for n, part in enumerate(parts)
                if part
            ]
            joined = reduce(lambda a, b: exp.DPipe(this=a, expression=b), signs)
            text.replace(exp.paren(joined) if len(signs) > 1 else joined)
    return tree


def inner_name(name: str) -> str:
    """Return the name that our column, which begins with ``#``, has in a statement for other
    databases.
    """
    return "own_" + re.sub(r"\W+", "_", name.lstrip("#"))


#: All whitespace stripped from an id, and the characters before which an apostrophe is whitespace,
#: see ``orders.cells``.
_WHITE = (
    " \t\n\f\r\u00a0\u1680"
    + "".join(map(chr, range(0x2000, 0x200B)))
    + "\u2028\u2029\u202f\u205f\u3000"
)
_GUARDED = "=+-@\t\r"


def _reduced(node: exp.Expr, dialect: str) -> exp.Expr:
    """Translate a node of a reduction to SQL that all warehouses know: few regular expressions, and
    none with a backslash.
    """
    match node:
        case exp.Anonymous() if node.name.upper() == "ISFINITE":
            return sql("(:c IS NOT NULL)", c=node.expressions[0])
        case exp.Cast() if node.to.this == exp.DType.TINYINT:
            return exp.cast(node.this, "BIGINT")
        case exp.Cast() if node.to.this == exp.DType.BIGINT and isinstance(node.this, exp.Mul):
            return sql("CAST(ROUND(:x) AS BIGINT)", x=node.this)  # some databases truncate in casts
        case exp.DPipe() if dialect == "snowflake" and isinstance(
            node.left, exp.Cast
        ):  # a date in whatever date style is set
            return exp.DPipe(this=_day_text(node.left.this), expression=node.right)
        case exp.NullSafeNEQ():
            return sql("(:a <> :b OR :a IS NULL)", a=node.left, b=node.right)
        case exp.RegexpReplace():
            return _without_pattern(node.this, node.expression.name, node.args["replacement"])
        case exp.Lower() if (words := _compared_with(node)) is not None:
            capitals, small = letters.capitals_of("".join(words))
            return exp.Anonymous(
                this="TRANSLATE",
                expressions=[node.this, *map(exp.Literal.string, (capitals, small))],
            )
    return node


def _texts_by_code_point(tree: exp.Select, dialect: str) -> exp.Select:
    """Make text in results compare by code point, since a table or connection may have another
    collation.
    """
    ordered = {"mariadb": mariadb.as_text, "postgres": postgres.by_code_point}.get(dialect)
    for cast in list(tree.find_all(exp.Cast)) if ordered else []:
        if ordered and cast.to.this in exp.DataType.TEXT_TYPES:
            cast.replace(ordered(cast.this))
    return tree


def _day_text(day: exp.Expr) -> exp.Expr:
    return exp.Anonymous(this="TO_CHAR", expressions=[day, exp.Literal.string("YYYY-MM-DD")])


def _without_pattern(text: exp.Expr, pattern: str, by: exp.Expr) -> exp.Expr:
    if pattern.startswith("^'"):
        return sql(
            "CASE WHEN SUBSTRING(:t, 1, 1) = :quote AND SUBSTRING(:t, 2, 1) IN :signs THEN "
            "SUBSTRING(:t, 2) ELSE :t END",
            t=text, quote=exp.Literal.string("'"),
            signs=exp.Tuple(expressions=list(map(exp.Literal.string, _GUARDED))),
        )  # fmt: skip
    if pattern.startswith('^="'):
        return sql(
            "CASE WHEN :t LIKE '=\"%\"' AND LENGTH(:t) > 2 THEN SUBSTRING(:t, 3, LENGTH(:t) - 3) "
            "ELSE :t END",
            t=text,
        )
    if "\\x{3000}" in pattern:
        return exp.Trim(this=text, expression=exp.Literal.string(_WHITE))
    plain = pattern.replace("\\s", "[ \t\n\f\r]")
    return exp.Anonymous(this="REGEXP_REPLACE", expressions=[text, exp.Literal.string(plain), by])


def _compared_with(lowered: exp.Lower) -> list[str] | None:
    """Return the words that a lowercase text is compared with; other letters do not matter."""
    listed = lowered.parent
    if not isinstance(listed, exp.In) or lowered.arg_key != "this":
        return None
    words = listed.expressions or getattr(listed.args.get("field"), "expressions", [])
    return (
        [word.name for word in words] if words and all(word.is_string for word in words) else None
    )


def _by_code_point(tree: exp.Select, texts: Collection[str]) -> exp.Select:
    """Make text compare letter by letter, since the table's collation may equate `North` and
    `north`.
    """
    copy = tree.copy()
    bare = [t for t in copy.find_all(exp.Literal) if t.is_string and _has_no_collation(t, texts)]
    for cell in [*copy.find_all(exp.Column), *bare]:
        if isinstance(cell, exp.Literal) or cell.name in texts:
            cell.replace(mariadb.as_text(cell.copy()))
    return copy


def _has_no_collation(text: exp.Literal, texts: Collection[str]) -> bool:
    """Return True if a text is compared without a column that fixes the collation; patterns use
    that of their operand.
    """
    if isinstance(text.parent, exp.Like) and text.arg_key == "expression":
        return False
    comparison = text.find_ancestor(exp.Predicate)
    return comparison is not None and not any(
        c.name in texts for c in comparison.find_all(exp.Column)
    )


def _changed(node: exp.Expr, dialect: str) -> exp.Expr:
    if dialect == "sqlite":
        return _in_sqlite(node)
    match node:
        case exp.Like() if dialect == "postgres":
            return exp.Escape(this=node.copy(), expression=exp.Literal.string(""))
        case exp.Like() if dialect == "spark" or WAREHOUSES[dialect].escapes:
            changed = node.copy()
            changed.set(
                "expression", exp.Literal.string(node.expression.name.replace("\\", "\\\\"))
            )
            return changed
        case exp.Lower() | exp.Upper():
            return (
                postgres.letter_by_letter(node)
                if dialect == "postgres"
                else spark.letter_by_letter(node)
            )
        case exp.Round() if dialect == "postgres":
            digits = node.args.get("decimals") or exp.convert(0)
            return sql("CAST(ROUND(:x, :n) AS DOUBLE)", x=numeric(node.this), n=digits)
        case exp.Identifier() if (
            dialect == "snowflake"
            and node.args.get("quoted")
            and re.fullmatch("[a-z_][a-z0-9_]*", node.name)
        ):
            return exp.to_identifier(
                node.name, quoted=False
            )  # in quotes, a lowercase letter would not match the table's uppercase one
        case exp.DataType() if (
            dialect == "redshift" and node.this == exp.DType.VARCHAR and not node.expressions
        ):
            return exp.DataType(this=exp.DType.TEXT)  # without a length it has 256 bytes
        case exp.Cast() if dialect in WAREHOUSES and _by_way_of_text(node):
            # Warehouses format floats differently; as a decimal a float is the same up to nine
            # decimals everywhere.
            return sql("CAST(:x AS DECIMAL(38, 9))", x=node.this.this)
    return node


def _by_way_of_text(node: exp.Cast) -> bool:
    """Return True if a float is converted to an exact decimal by its shortest text."""
    inner = node.this
    return (
        node.to.this == exp.DType.DECIMAL
        and isinstance(inner, exp.Cast)
        and inner.to.this in exp.DataType.TEXT_TYPES
    )


def _in_sqlite(node: exp.Expr) -> exp.Expr:
    match node:
        case exp.Like():  # SQLite's LIKE ignores case
            signs = {"%": "*", "_": "?", "*": "[*]", "?": "[?]", "[": "[[]"}
            pattern = "".join(signs.get(c, c) for c in node.expression.name)
            return exp.Glob(this=node.this, expression=exp.Literal.string(pattern))
        case exp.Lower() | exp.Upper():
            return sqlite.letter_by_letter(node)
        case exp.Round():
            return sqlite.half_away(node)
        case exp.Cast() if node.to.this == exp.DType.DATE:
            inner: exp.Expr = node.this  # dates are ISO text in SQLite
            return inner
    return node


def require_understood(text: str, dialect: str) -> None:
    """Raise UsageError if a statement does not parse in a warehouse's dialect, or calls a function
    that the warehouse lacks.
    """
    if dialect not in WAREHOUSES:
        return
    try:
        tree = sqlglot.parse_one(text, dialect=dialect)
    except sqlglot.errors.SqlglotError as error:
        raise UsageError(
            f"This scheme cannot be written for {dialect}: {str(error).splitlines()[0]}"
        ) from None
    known = WAREHOUSES[dialect]
    functions = {
        f.name if isinstance(f, exp.Anonymous) else f.sql_name() for f in tree.find_all(exp.Func)
    }
    lacking = _lacking(functions - _SPELT, known.functions) or _lacking(
        {t.this.value for t in tree.find_all(exp.DataType)}, known.types
    )
    if lacking:
        raise UsageError(
            f"This scheme cannot be written for {dialect}, which has no equivalent of "
            f"{', '.join(lacking)}. Write its conditions without it."
        )


#: Listed as functions by the SQL library, but they are not.
_SPELT = frozenset({"AND", "OR", "XOR", "CASE", "IF"})


def _lacking(used: Collection[str], known: Collection[str]) -> list[str]:
    return sorted({name.upper() for name in used} - {name.upper() for name in known})


def was_run(dialect: str) -> str:
    """Return a sentence on whether our tests run the statement in this dialect."""
    if dialect in WAREHOUSES:
        return (
            f"Written for {dialect} and parsed back, but never run there: compare some customers "
            "before you rely on it."
        )
    return (
        f"Our tests run such statements in {_NAMES[dialect]} and get the same customers as "
        "this command."
    )


_NAMES = dict(zip(RUN_HERE, ("DuckDB", "SQLite", "PostgreSQL", "MariaDB", "Spark"), strict=True))

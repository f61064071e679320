"""Translate the embedded engine's SQL to Spark's, in ANSI mode with a UTC clock."""

import re
from collections.abc import Collection

from sqlglot import exp

from fairladder.conditions import letters
from fairladder.engine.exact import EXACT_MINOR
from fairladder.engine.protocol import CURRENCY_SIGNS
from fairladder.engine.texts_of_days import SHAPES, day_of_groups, first_day, shape_of, tried
from fairladder.numbers import MOST_MINOR_UNITS
from fairladder.sqltree import sql

#: Spark accepts `1d`, `12f` and words as numbers; a power with more digits would take too long.
_NUMBER = r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d{1,4})?$"
_WHITE = r"\t\n\f\r "


def translated(node: exp.Expr, floats: Collection[str] = ()) -> exp.Expr:
    """Translate one node of a tree to Spark; ``floats`` names the columns of binary floats."""
    match node:
        case exp.TryCast():
            return _tried(node.this, node.to.this)
        case exp.Cast() if node.to.this in exp.DataType.TEXT_TYPES and _is_float(node.this, floats):
            return _float_text(node.this)
        case exp.Cast() if node.to.this == exp.DType.BIGINT and isinstance(node.this, exp.Mul):
            return _whole_units(node.this)
        case exp.Cast() if (
            node.to.this == exp.DType.BIGINT
            and isinstance(node.this, exp.Round)
            and not node.this.args.get("decimals")
        ):
            return _nearest(node.this.this)
        case exp.Cast() if node.to.this == exp.DType.INT and isinstance(node.this, exp.Count):
            return exp.cast(node.this, "BIGINT")
        case exp.Trunc() if not node.args.get("decimals"):
            # Larger floats have no fraction, and are too large for Spark's FLOOR.
            return sql(
                "CASE WHEN ABS(:x) < 1e18 THEN CASE WHEN :x < 0 THEN CEIL(:x) ELSE FLOOR(:x) END "
                "ELSE :x END",
                x=node.this,
            )
        case exp.RegexpLike():
            return exp.RegexpLike(this=node.this, expression=_pattern(node.expression.name))
        case exp.RegexpFullMatch():
            return _matches(node.this, f"^(?:{node.expression.name})$")
        case exp.RegexpReplace():
            by = exp.Literal.string(re.sub(r"\\(\d)", r"$\1", node.args["replacement"].name))
            return exp.Anonymous(
                this="REGEXP_REPLACE", expressions=[node.this, _pattern(node.expression.name), by]
            )
        case exp.RegexpExtract():
            return _extracted(node.this, node.expression.name, node.args["group"])
        case exp.Window() if isinstance(node.this, exp.RowNumber) and not node.args.get("order"):
            return _row_number(node)
        case exp.Like():
            changed = node.copy()
            changed.set(
                "expression", exp.Literal.string(node.expression.name.replace("\\", "\\\\"))
            )
            return changed
        case exp.Lower() | exp.Upper():
            return letter_by_letter(node)
        case exp.Anonymous():
            return _function(node)
    return node


def _function(node: exp.Anonymous) -> exp.Expr:
    name, arguments = node.name.upper(), node.expressions
    if name.startswith(EXACT_MINOR.upper()):
        return _exact_minor(name.lower(), arguments)
    match name, arguments:
        case "FLOAT_TEXT", [cell]:
            return _float_text(cell)
        case "PRINTF", _:
            return exp.Anonymous(this="FORMAT_STRING", expressions=arguments)
        case "ARRAY_EXTRACT", [text, place]:
            return exp.Anonymous(this="SUBSTRING", expressions=[text, place, exp.convert(1)])
        case "LIST_EXTRACT", [cells, place]:
            return exp.Anonymous(this="ELEMENT_AT", expressions=[cells, place])
        case "ISFINITE", [cell]:
            return sql("(:c IS NOT NULL)", c=cell)
        case "TIMEZONE", [zone, instant]:
            return exp.Anonymous(this="FROM_UTC_TIMESTAMP", expressions=[instant, zone])
        case "HASH", _:
            texts = [sql("CAST(:c AS VARCHAR)", c=cell) for cell in arguments]
            row = exp.Anonymous(this="TO_JSON", expressions=[exp.Array(expressions=texts)])
            return exp.Anonymous(this="SHA2", expressions=[row, exp.convert(256)])
        case "TRY_STRPTIME", _:
            return first_day(arguments, _day_in_pattern)
    return node


def _row_number(node: exp.Window) -> exp.Expr:
    """Return a row number. Rows of a cluster have none of their own; within a part any order will
    do unless one is given.
    """
    part = node.args.get("partition_by")
    if not part:
        return sql("CAST(NULL AS BIGINT)")
    changed = node.copy()
    changed.set("order", exp.Order(expressions=[exp.Ordered(this=part[0].copy())]))
    return changed


def letter_by_letter(node: exp.Expr) -> exp.Expr:
    """Return LOWER or UPPER as conditions define them, letter by letter."""
    letters_, others = (
        letters.capitals() if isinstance(node, exp.Upper) else letters.small_letters()
    )
    return exp.Anonymous(
        this="TRANSLATE", expressions=[node.this, *map(exp.Literal.string, (letters_, others))]
    )


def _pattern(pattern: str) -> exp.Expr:
    """Return a regular expression for Java: only a line feed ends a line, and ``$`` matches only at
    the end of the text.
    """
    # Whitespace as a class of its own, or within a class.
    inside = re.sub(
        r"\[(?:\\.|[^\]\\])*\]", lambda m: m[0].replace(r"\s", _WHITE).replace("$", r"\$"), pattern
    )
    ends = re.sub(r"(?<!\\)\$", r"\\z", inside).replace(r"\s", f"[{_WHITE}]")
    signs = re.sub(r"[$]", r"\\$", CURRENCY_SIGNS)
    return exp.Literal.string("(?d)" + ends.replace(r"\p{Sc}", f"[{signs}]"))


def _matches(text: exp.Expr, pattern: str) -> exp.Expr:
    return exp.RegexpLike(this=text, expression=_pattern(pattern))


def _extracted(text: exp.Expr, pattern: str, group: exp.Expr) -> exp.Expr:
    return exp.Anonymous(this="REGEXP_EXTRACT", expressions=[text, _pattern(pattern), group])


def _is_float(tree: exp.Expr, floats: Collection[str]) -> bool:
    """Return True if a column, a cast or any branch of a CASE is a binary float."""
    match tree:
        case exp.Paren():
            return _is_float(tree.this, floats)
        case exp.Column():
            return tree.name in floats
        case exp.Cast() | exp.TryCast():
            return tree.to.this in (exp.DType.DOUBLE, exp.DType.FLOAT)
        case exp.Case():
            branches = [branch.args["true"] for branch in tree.args["ifs"]]
            return any(
                _is_float(b, floats) for b in (*branches, tree.args.get("default")) if b is not None
            )
    return False


def _float_text(cell: exp.Expr) -> exp.Expr:
    """Return a float as text as in other engines; Java writes 1.0E7."""
    plain = exp.cast(cell, "VARCHAR")
    bare = _replaced(
        sql("CAST(CAST(:c AS DECIMAL(38, 21)) AS VARCHAR)", c=cell), r"(\.\d+?)0+\z", "$1"
    )
    power = _extracted(plain, r"E-?(\d+)", exp.convert(1))
    long = sql(
        ":m || 'e' || CASE WHEN CONTAINS(:p, 'E-') THEN '-' ELSE '+' END || LPAD(:e, "
        "GREATEST(LENGTH(:e), 2), '0')",
        m=_replaced(plain, r"(\.0)?E.*\z", ""), p=plain, e=power,
    )  # fmt: skip
    return sql(
        "CASE WHEN NOT CONTAINS(:p, 'E') THEN :p WHEN ABS(:c) >= 1e-4 AND ABS(:c) < 1e16 THEN :b "
        "ELSE :l END",
        p=plain, c=cell, b=bare, l=long,
    )  # fmt: skip


def _nearest(number: exp.Expr) -> exp.Expr:
    """Return the nearest whole number, halves away from zero. Spark's ROUND goes through decimals,
    which takes ten times as long.
    """
    size = sql("ABS(:x)", x=number)
    up = sql("CASE WHEN :s - FLOOR(:s) >= 0.5e0 THEN 1 ELSE 0 END", s=size)
    return sql(
        "CASE WHEN :x < 0 THEN -(FLOOR(:s) + :u) ELSE FLOOR(:s) + :u END", x=number, s=size, u=up
    )


def _whole_units(product: exp.Mul) -> exp.Expr:
    """Return an exact amount times the units per one, as a whole number. It is rounded at its own
    place first, since products keep fewer places.
    """
    amount, scale = product.left, product.right
    rounded = exp.Anonymous(this="ROUND", expressions=[amount, exp.convert(len(scale.name) - 1)])
    return exp.cast(exp.Mul(this=rounded, expression=scale), "BIGINT")


def _tried(text: exp.Expr, kind: exp.DType) -> exp.Expr:
    """Convert the text to a type, NULL if it does not fit."""

    def made(shaped: exp.Expr) -> exp.Expr:
        return _try_cast(
            shaped if kind in (exp.DType.DATE, exp.DType.DOUBLE) else _one_space(shaped), kind
        )

    return tried(text, kind, SHAPES.get(kind, _NUMBER), _matches, _replaced_once, made)


def _try_cast(text: exp.Expr, kind: exp.DType | exp.DataType) -> exp.Expr:
    # The SQL library writes a plain CAST unless it is marked safe.
    return exp.TryCast(this=text, to=exp.DataType.build(kind), safe=True)


def _replaced_once(text: exp.Expr, pattern: str, by: str) -> exp.Expr:
    return _replaced(text, pattern.replace("$", r"\z"), by.replace("\\", "$"))


def _one_space(text: exp.Expr) -> exp.Expr:
    """Return a timestamp with one space before its time, with seconds and a whole offset."""
    spaced = _replaced(text, r"^(.{10})(?:T| +)(\d\d:\d\d)(?!:)", "$1 $2:00")
    return _replaced(_replaced(spaced, r"^(.{10})(?:T| +)", "$1 "), r" ?([+-]\d\d)\z", "$1:00")


def _replaced(text: exp.Expr, pattern: str, by: str) -> exp.Expr:
    return exp.Anonymous(
        this="REGEXP_REPLACE", expressions=[text, *map(exp.Literal.string, (pattern, by))]
    )


def _day_in_pattern(text: exp.Expr, pattern: str) -> exp.Expr:
    """Parse the date in a text by a strptime pattern; NULL if it does not fit."""
    shape, groups = shape_of(pattern)
    found = {
        letter: _extracted(text, f"^{shape}$", exp.convert(n))
        for n, letter in enumerate(groups, start=1)
    }
    return sql(
        "CASE WHEN :fits THEN :day END",
        fits=_matches(text, f"^{shape}$"),
        day=_tried(day_of_groups(found), exp.DType.DATE),
    )


_WHOLE = "DECIMAL(38, 0)"


def _exact_minor(name: str, texts: list[exp.Expr]) -> exp.Expr:
    """Compute ``numbers.exact_minor`` with integers of 38 digits: digits and powers of ten
    separately, rounded once as text.

    More than 38 digits stop the query with advice; no number is rounded twice.
    """
    given, texts = (
        texts,
        [
            t if isinstance(t, exp.Null) else exp.column(f"t{i}", table=_BOUND)
            for i, t in enumerate(texts)
        ],
    )
    decimals, product = int(name.split("_")[2]), "_product" in name
    discount = texts[2] if product and not isinstance(texts[2], exp.Null) else None
    factors = [_Exact.of(t) for i, t in enumerate(texts) if not (product and i == 2)]
    if discount is not None and "_amount" in name:
        off = _Exact.of(sql("COALESCE(:d, '0')", d=discount))
        factors = [factors[0].times(factors[1]).minus(off), *factors[2:]]
    elif discount is not None:
        bare = _Exact.of(sql("COALESCE(RTRIM(RTRIM(:d, '%')), '0')", d=discount))
        hundredths = (
            exp.true()
            if "_percent" in name
            else sql("COALESCE(RIGHT(:d, 1) = '%', FALSE)", d=discount)
        )
        power = sql("(:e - CASE WHEN :h THEN 2 ELSE 0 END)", e=bare.power, h=hundredths)
        factors.append(
            _Exact(exp.cast(exp.convert(1), _WHOLE), exp.convert(0)).minus(
                _Exact(bare.digits, power)
            )
        )
    value = factors[0]
    for factor in factors[1:]:
        value = value.times(factor)
    return _with_bound(given, value.rounded(decimals))


#: Name of the array of a row's texts within the arithmetic.
_BOUND = "x"


def _with_bound(texts: list[exp.Expr], body: exp.Expr) -> exp.Expr:
    """Evaluate the body over texts that are computed once, as a function over an array of one;
    Spark has no other way.

    Few amounts need it. Repeating the texts in the body would exceed the length of a Java method.
    """
    fields = [
        part
        for i, t in enumerate(texts)
        if not isinstance(t, exp.Null)
        for part in (exp.Literal.string(f"t{i}"), t)
    ]
    one = exp.Array(expressions=[exp.Anonymous(this="NAMED_STRUCT", expressions=fields)])
    made = exp.Lambda(this=body, expressions=[exp.to_identifier(_BOUND)])
    return exp.Anonymous(
        this="ELEMENT_AT",
        expressions=[exp.Anonymous(this="TRANSFORM", expressions=[one, made]), exp.convert(1)],
    )


class _Exact:
    """A number as whole digits times a power of ten, both trees; never null where it is used."""

    def __init__(self, digits: exp.Expr, power: exp.Expr) -> None:
        self.digits, self.power = digits, power

    @classmethod
    def of(cls, text: exp.Expr) -> "_Exact":
        """Parse a decimal text: ``-12.50`` is -125 times a tenth. Trailing zeros are removed to
        keep digits few.
        """
        short = _replaced(_replaced(text, r"(\.\d*?)0+(?=[eE]|\z)", "$1"), r"^\+", "")
        digits = _replaced(_replaced(short, r"[eE].*\z", ""), r"\.", "")
        fraction = sql("LENGTH(:f)", f=_extracted(short, r"\.(\d*)", exp.convert(1)))
        after_e = _extracted(short, r"[eE]\+?(-?\d+)$", exp.convert(1))
        power = sql(
            "(CASE WHEN :e = '' THEN 0 ELSE CAST(:e AS INTEGER) END - :f)", e=after_e, f=fraction
        )
        return cls(
            exp.cast(sql("CASE WHEN :d IN ('', '-') THEN '0' ELSE :d END", d=digits), _WHOLE), power
        )

    def times(self, other: "_Exact") -> "_Exact":
        """Return the product."""
        product = exp.Anonymous(this="TRY_MULTIPLY", expressions=[self.digits, other.digits])
        return _Exact(_or_stop(product), sql("(:a + :b)", a=self.power, b=other.power))

    def minus(self, other: "_Exact") -> "_Exact":
        """Return the difference."""
        power = sql("LEAST(:a, :b)", a=self.power, b=other.power)
        less = exp.Anonymous(this="TRY_SUBTRACT", expressions=[self._at(power), other._at(power)])
        return _Exact(_or_stop(less), power)

    def _at(self, power: exp.Expr) -> exp.Expr:
        """Return the digits at a lower power of ten."""
        longer = sql(
            "(CAST(:d AS VARCHAR) || REPEAT('0', :p - :q))", d=self.digits, p=self.power, q=power
        )
        return _try_cast(longer, exp.DataType.build(_WHOLE))

    def rounded(self, decimals: int) -> exp.Expr:
        """Return minor units, halves away from zero; NULL above the largest amount."""
        places = sql("(:p + :n)", p=self.power, n=decimals)
        # Wide enough that the point is always inside; digits outside make no valid amount or round
        # to nothing.
        wide = sql("(LPAD(CAST(ABS(:d) AS VARCHAR), 40, '0') || REPEAT('0', 40))", d=self.digits)
        size = _try_cast(sql("LEFT(:w, 40 + :p)", w=wide, p=places), exp.DataType.build(_WHOLE))
        up = sql("CASE WHEN SUBSTRING(:w, 41 + :p, 1) >= '5' THEN 1 ELSE 0 END", w=wide, p=places)
        signed = sql(
            "CAST(CASE WHEN :d < 0 THEN -(:s + :up) ELSE :s + :up END AS BIGINT)",
            d=self.digits,
            s=size,
            up=up,
        )
        return sql(
            "CASE WHEN :s <= :most THEN :signed END", s=size, most=MOST_MINOR_UNITS, signed=signed
        )


def _or_stop(value: exp.Expr) -> exp.Expr:
    """Return the value, or stop the query if it has more than 38 digits."""
    advice = "An amount has more than 38 digits, which cannot be kept exact on a cluster. Round prices, quantities and discounts."
    stop = exp.Anonymous(this="RAISE_ERROR", expressions=[exp.Literal.string(advice)])
    return exp.Coalesce(this=value, expressions=[stop])

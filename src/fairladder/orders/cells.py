"""Trees that read one cell as an id, a date, an amount or a plain value, by the kind of its column.

Text functions are the most expensive part, so cells that clearly need no special care skip them.
"""

from collections.abc import Callable, Sequence

from sqlglot import exp

from fairladder.engine.exact import exact_minor_name
from fairladder.numbers import MOST_MINOR_UNITS, DiscountUnit
from fairladder.orders.source import CellKind
from fairladder.sqltree import case, sql

#: A regular expression for a whitespace character in any alphabet.
SPACE = r"[\s\x{a0}\x{1680}\x{2000}-\x{200a}\x{2028}\x{2029}\x{202f}\x{205f}\x{3000}]"
_EDGES = f"^{SPACE}+"
TRIM = f"{_EDGES}|{_EDGES[1:]}$"
#: The prefix that keeps a spreadsheet from reading a text as a formula, and the character after it.
GUARD = r"^'([=+\-@\t\r])"
#: A formula that makes a spreadsheet show text: ``="00123"``.
FORMULA_TEXT = '^="(.*)"$'
#: As long as price × quantity × 10^decimals is below this, floats are wrong by less than 1e-6 minor
#: units.
_SURE_BELOW = 10**8
#: The largest finite float.
_LARGEST = 1.7976931348623157e308


def text(cell: exp.Expr, kind: CellKind) -> exp.Expr:
    """Return the cell as trimmed text; NULL if blank. Whole numbers lose a trailing ``.0``.

    A spreadsheet's leading apostrophe is removed, and so is the formula around ``="00123"``.
    """
    if kind == "text":
        plain = sql("CAST(:c AS VARCHAR)", c=cell)
        return sql(
            "CASE WHEN :p THEN :c ELSE :trimmed END",
            p=plainly_trimmed(cell),
            c=plain,
            trimmed=trimmed_with_care(cell),
        )
    if kind == "single":
        return text(single(cell), "float")
    if kind in ("float", "decimal"):
        return sql(
            "CASE WHEN ISNAN(CAST(:c AS DOUBLE)) THEN NULL WHEN :c = TRUNC(:c) AND ABS(:c) < 1e18 "
            "THEN CAST(CAST(:c AS BIGINT) AS VARCHAR) ELSE CAST(:c AS VARCHAR) END",
            c=cell,
        )
    return sql("CAST(:c AS VARCHAR)", c=cell)


def plainly_trimmed(cell: exp.Expr) -> exp.Expr:
    """Return a condition for text cells that begin and end with a visible ASCII character, and not
    with an apostrophe or ``=``: they need no trimming.
    """
    plain = sql("CAST(:c AS VARCHAR)", c=cell)
    return sql(
        "(:c >= '!' AND :c < CHR(127) AND ARRAY_EXTRACT(:c, -1) BETWEEN '!' AND '~' AND "
        "ARRAY_EXTRACT(:c, 1) NOT IN (:quote, '='))",
        c=plain, quote=exp.Literal.string("'"),
    )  # fmt: skip


def trimmed_with_care(cell: exp.Expr) -> exp.Expr:
    """Return ``text`` of a text cell without the shortcut for cells that need no trimming."""
    trim = exp.Literal.string(TRIM)
    return sql("NULLIF(REGEXP_REPLACE(:c, :trim, '', 'g'), '')", c=_without_guard(cell), trim=trim)


def _without_guard(cell: exp.Expr) -> exp.Expr:
    bare = sql(
        "REGEXP_REPLACE(CAST(:c AS VARCHAR), :guard, '\\1')",
        c=cell,
        guard=exp.Literal.string(GUARD),
    )
    return sql(
        "REGEXP_REPLACE(:c, :formula, '\\1')", c=bare, formula=exp.Literal.string(FORMULA_TEXT)
    )


def trimmed_for_people(cell: exp.Expr) -> exp.Expr:
    """Return ``text`` of a text cell in a short form for readers, in the embedded engine's SQL."""
    return sql(
        "NULLIF(REGEXP_REPLACE(:c, '^[\\s\\p{Z}]+|[\\s\\p{Z}]+$', '', 'g'), '')",
        c=_without_guard(cell),
    )


def day(cell: exp.Expr, kind: CellKind, time_zone: str | None) -> exp.Expr:
    """Return the calendar date in the business time zone; NULL if blank or unreadable. Text cells
    must be trimmed.
    """
    if kind == "date":
        return cell
    if kind == "timestamp":
        return sql("CASE WHEN ISFINITE(:c) THEN CAST(:c AS DATE) END", c=cell)
    if kind == "instant":
        instant = _instant(cell)
        there = sql("TIMEZONE(:z, :c)", z=exp.Literal.string(time_zone or "UTC"), c=instant)
        return sql("CASE WHEN ISFINITE(:c) THEN CAST(:there AS DATE) END", c=instant, there=there)
    if kind != "text":
        return sql("CAST(NULL AS DATE)")
    return sql(
        "CASE WHEN :plain THEN CAST(TRY_CAST(:c AS TIMESTAMP) AS DATE) WHEN :iso THEN :written END",
        c=cell, plain=to_the_second(cell), iso=_iso(cell),
        written=_written_day(cell, time_zone, offset),
    )  # fmt: skip


def day_with_care(cell: exp.Expr, time_zone: str | None) -> exp.Expr:
    """Return ``day`` of a text cell, without the shortcut for the simplest cells."""
    written = _written_day(cell, time_zone, offset_with_care)
    return sql("CASE WHEN :iso THEN :written END", iso=_iso(cell), written=written)


def _written_day(
    cell: exp.Expr, time_zone: str | None, has_offset: Callable[[exp.Expr], exp.Expr]
) -> exp.Expr:
    written = sql("TRY_CAST(SUBSTRING(:c, 1, 10) AS DATE)", c=cell)
    if not time_zone:
        return written
    zone = exp.Literal.string(time_zone)
    there = sql(
        "CAST(TIMEZONE(:z, TRY_CAST(:c AS TIMESTAMPTZ)) AS DATE)",
        z=zone,
        c=_with_plain_offset(cell),
    )
    return sql(
        "CASE WHEN :offset THEN :there ELSE :written END",
        offset=has_offset(cell),
        there=there,
        written=written,
    )


def _iso(cell: exp.Expr) -> exp.Expr:
    return sql(
        "SUBSTRING(:c, 5, 1) = '-' AND SUBSTRING(:c, 8, 1) = '-' "
        "AND (LENGTH(:c) = 10 OR REGEXP_MATCHES(:c, :shape) AND TRY_CAST(:plain AS TIMESTAMPTZ) "
        "IS NOT NULL)",
        c=cell, shape=exp.Literal.string(_TIME_BEHIND), plain=_with_plain_offset(cell),
    )  # fmt: skip


def _with_plain_offset(cell: exp.Expr) -> exp.Expr:
    """Return a text timestamp with its offset in the standard form: `` +0200`` becomes
    ``+02:00``.
    """
    return sql("REGEXP_REPLACE(:c, ' ?([+-][0-9][0-9]):?([0-5][0-9])$', '\\1:\\2')", c=cell)


def day_there_is(day: exp.Expr) -> exp.Expr:
    """Return a date, or NULL before the year 1 and after 9999, which not every engine supports."""
    return sql("CASE WHEN :d BETWEEN DATE '0001-01-01' AND DATE '9999-12-31' THEN :d END", d=day)


#: Text that may follow an ISO date: a time, and a valid offset. Era names and named zones are not
#: supported.
_TIME_BEHIND = (
    r"^.{10}(T| +)\d\d?:\d\d?(:\d\d?([.,]\d+)?)?( ?([Zz]|[+-](0\d|1[0-4])(:?[0-5]\d)?))?$"
)
#: Hours, minutes, seconds and am or pm at the end of a date.
_CLOCK = r"[ T,](\d{1,2})[:.](\d{2})(?:[:.](\d{2}(?:[.,]\d+)?))?(?: ?([AaPp])\.?[Mm]\.?)?"


def moment(cell: exp.Expr, day: exp.Expr, kind: CellKind, time_zone: str | None) -> exp.Expr:
    """Return a value that sorts like the row's date and time; a row without a time counts as the
    day's start.
    """
    if kind == "timestamp":
        return cell
    if kind == "instant":
        return sql("TIMEZONE(:z, :c)", z=exp.Literal.string(time_zone or "UTC"), c=_instant(cell))
    if kind != "text":
        return day
    clock = _clock(sql("CAST(:c AS VARCHAR)", c=cell))
    if time_zone:
        zone = exp.Literal.string(time_zone)
        there = sql("TIMEZONE(:z, TRY_CAST(:c AS TIMESTAMPTZ))", z=zone, c=_with_plain_offset(cell))
        clock = sql(
            "CASE WHEN :o THEN :t ELSE :l END",
            o=offset(cell),
            t=_clock(sql("CAST(:t AS VARCHAR)", t=there)),
            l=clock,
        )
    plain = sql(
        "CASE WHEN :p THEN SUBSTRING(:c, 12, 8) ELSE :clock END",
        p=to_the_second(cell),
        c=cell,
        clock=clock,
    )
    return sql("CAST(:d AS VARCHAR) || :t", d=day, t=plain)


def hour(cell: exp.Expr, day: exp.Expr, kind: CellKind, time_zone: str | None) -> exp.Expr:
    """Return the hour of the row's time as text, ``00`` to ``23``; NULL if it has none. Text cells
    must be trimmed.
    """
    if kind in ("timestamp", "instant"):
        return sql("SUBSTRING(CAST(:m AS VARCHAR), 12, 2)", m=moment(cell, day, kind, time_zone))
    if kind != "text":
        return sql("CAST(NULL AS VARCHAR)")
    timed = sql("REGEXP_EXTRACT(:c, :p, 1)", c=cell, p=exp.Literal.string(_CLOCK))
    return sql(
        "CASE WHEN :t <> '' THEN SUBSTRING(:m, 11, 2) END",
        t=timed,
        m=moment(cell, day, kind, time_zone),
    )


def _instant(cell: exp.Expr) -> exp.Expr:
    """Return an instant in microseconds; for nanoseconds the engine has no time zones and a shorter
    range.
    """
    return sql("CAST(:c AS TIMESTAMPTZ)", c=cell)


def _clock(text: exp.Expr) -> exp.Expr:
    """Return ``18:30:00`` for a text with a time, ``00:00:00`` for one without."""

    def part(group: int) -> exp.Expr:
        return sql("REGEXP_EXTRACT(:t, :p, :g)", t=text, p=exp.Literal.string(_CLOCK), g=group)

    hour, minute, second = (sql("COALESCE(NULLIF(:x, ''), '00')", x=part(g)) for g in (1, 2, 3))
    number = sql("CAST(:h AS INT)", h=hour)
    noon = sql(
        "CASE WHEN UPPER(:m) = 'P' AND :h < 12 THEN 12 WHEN UPPER(:m) = 'A' AND :h = 12 THEN -12 "
        "ELSE 0 END",
        m=part(4),
        h=number,
    )
    whole = sql("LPAD(CAST(:h + :n AS VARCHAR), 2, '0')", h=number, n=noon)
    return sql(":h || ':' || :m || ':' || REPLACE(:s, ',', '.')", h=whole, m=minute, s=second)


def to_the_second(cell: exp.Expr) -> exp.Expr:
    """Return a condition for text cells like ``2026-06-30 23:59:59``, the most common and cheapest
    form.
    """
    return sql(
        "LENGTH(:c) = 19 AND ARRAY_EXTRACT(:c, 17) = ':' AND ARRAY_EXTRACT(:c, 5) = '-' AND ARRAY_EXTRACT(:c, 8) = '-'", c=cell
    )  # fmt: skip


def offset(cell: exp.Expr) -> exp.Expr:
    """Return a condition for text timestamps that end in an offset from UTC."""
    return sql(
        "CASE WHEN :plain THEN FALSE ELSE :odd END",
        plain=to_the_second(cell),
        odd=offset_with_care(cell),
    )


def offset_with_care(cell: exp.Expr) -> exp.Expr:
    """Return ``offset`` without the shortcut for texts that clearly have none."""
    return sql("LENGTH(:c) > 16 AND REGEXP_MATCHES(:c, '([Zz]|[+-]\\d\\d(:?\\d\\d)?)$')", c=cell)


def blank(cell: exp.Expr, kind: CellKind) -> exp.Expr:
    """Return a condition for blank cells: NULL, whitespace only, NaN in a typed column."""
    if kind == "text":
        return sql("(:t IS NULL)", t=text(cell, kind))
    if kind in ("float", "single"):
        return sql("(:c IS NULL OR ISNAN(:c))", c=cell)
    return sql("(:c IS NULL)", c=cell)


def number(cell: exp.Expr, kind: CellKind) -> exp.Expr:
    """Return the cell as a float; NULL unless it is a finite plain number."""
    if kind == "text":
        return number_of_text(text(cell, kind))
    if kind in ("whole", "decimal", "float", "single"):
        wide = single(cell) if kind == "single" else sql("CAST(:c AS DOUBLE)", c=cell)
        return sql("CASE WHEN :w BETWEEN -:most AND :most THEN :w END", w=wide, most=_LARGEST)
    return sql("CAST(NULL AS DOUBLE)")


def number_of_text(clean: exp.Expr) -> exp.Expr:
    """Return ``number`` of a trimmed text cell."""
    return sql(
        "CASE WHEN NOT CONTAINS(:c, '_') AND TRY_CAST(:c AS DOUBLE) BETWEEN -:most AND :most THEN "
        "TRY_CAST(:c AS DOUBLE) END",
        c=clean,
        most=_LARGEST,
    )


def single(cell: exp.Expr) -> exp.Expr:
    """Return a 32-bit float as the number of its shortest text: the first of 6 to 9 digits that
    converts back to it.
    """
    texts = [
        sql(f"CAST(PRINTF('%.{digits}g', CAST(:c AS DOUBLE)) AS DOUBLE)", c=cell)
        for digits in (6, 7, 8, 9)
    ]
    branches = [(sql("CAST(:t AS FLOAT) = :c", t=text, c=cell), text) for text in texts[:-1]]
    plain = sql("CAST(:c AS DOUBLE)", c=cell)
    return case(
        [(sql("ABS(:p) <= :most", p=plain, most=_LARGEST), case(branches, texts[-1]))], plain
    )


def cast_number(cell: exp.Expr) -> exp.Expr:
    """Return a text cell as a float if the engine accepts it, to be checked by
    ``number_of_cast``.
    """
    return sql("TRY_CAST(:c AS DOUBLE)", c=cell)


def number_of_cast(cast: exp.Expr, cell: exp.Expr, careful: exp.Expr) -> exp.Expr:
    """Return ``number`` of an untrimmed text cell from the result of a cast; if that is NULL, from
    ``careful``.
    """
    return sql(
        "CASE WHEN :n IS NULL THEN :careful WHEN NOT CONTAINS(:c, '_') AND :n BETWEEN -:most AND "
        ":most THEN :n END",
        n=cast, c=cell, careful=careful, most=_LARGEST,
    )  # fmt: skip


def discount(clean: exp.Expr, kind: CellKind, unit: DiscountUnit, blank_cell: exp.Expr) -> exp.Expr:
    """Return the discount as a float in the scheme's unit, 0 if blank; a text cell ``15%`` is 0.15
    and never an amount.

    ``clean`` is the trimmed text of a text cell, in plain number notation; the cell itself for
    other kinds.
    """
    if kind != "text":
        return sql("CASE WHEN :b THEN 0 ELSE :d END", b=blank_cell, d=number(clean, kind))
    bare = number(sql("RTRIM(:t, '%')", t=clean), kind)
    part = (
        exp.null()
        if unit == "amount"
        else sql(":n / :unit", n=bare, unit=1 if unit == "percent" else 100)
    )
    plain = sql(
        "CASE WHEN CONTAINS(:c, '%') THEN :part ELSE :plain END",
        c=clean,
        part=part,
        plain=number_of_text(clean),
    )
    return sql("CASE WHEN :b THEN 0 ELSE :d END", b=blank_cell, d=plain)


def whole_minor(cell: exp.Expr, kind: CellKind, decimals: int) -> exp.Expr | None:
    """Return minor units of an exact numeric amount in one step; None if the column's kind needs
    more care.
    """
    if kind not in ("whole", "decimal"):
        return None
    exact = sql("CAST(:c AS BIGINT)", c=cell) if kind == "whole" else cell
    return sql(
        "CASE WHEN :c BETWEEN -:most AND :most THEN CAST(:exact * :scale AS BIGINT) END",
        c=cell, exact=exact, scale=10**decimals, most=MOST_MINOR_UNITS // 10**decimals,
    )  # fmt: skip


def minor(
    numbers: Sequence[exp.Expr],
    discount: exp.Expr | None,
    texts: Sequence[exp.Expr],
    decimals: int,
    unit: DiscountUnit,
    rate: exp.Expr | None = None,
) -> exp.Expr:
    """Return the minor units of an amount, of price × quantity × (1 − discount), or of an amount
    less the discount: exact, then rounded once.

    ``numbers`` and ``discount`` are floats (see ``number``; a blank discount is 0), ``texts`` the
    same cells as exact text; ``rate`` is one more factor, as text. NULL if one is not a usable
    number or the discount is out of range. The float product is used only if it provably rounds
    like the exact decimal: its error is below 1e-6 and it is farther than that from a half.
    """
    name = exact_minor_name(decimals, unit, len(numbers) > 1, rate is not None)
    if rate is not None:
        numbers, texts = [*numbers, sql("CAST(:r AS DOUBLE)", r=rate)], [*texts, rate]
    full = sql(":a * :scale", a=numbers[0], scale=10**decimals)
    for factor in numbers[1:]:
        full = sql(":a * :b", a=full, b=factor)
    usable, scaled = sql(":s IS NOT NULL", s=full), full
    if discount is not None and unit == "amount":
        off = sql(":d * :scale", d=discount, scale=10**decimals)
        if rate is not None:
            off = sql(":o * :r", o=off, r=numbers[-1])
        scaled = sql(":s - :o", s=full, o=exp.paren(off))
        # The tolerance of 1e-6 is for float errors: discounts up to the whole price are allowed,
        # and returns are negative.
        usable = sql(
            ":u AND ((:s >= 0 AND :o BETWEEN 0 AND :s + 1e-6) OR (:s < 0 AND :o BETWEEN :s - 1e-6 "
            "AND 0))",
            u=usable, s=exp.paren(full), o=exp.paren(off),
        )  # fmt: skip
    elif discount is not None:
        share = sql(":d / 100", d=discount) if unit == "percent" else discount
        scaled = sql(":s * (1 - :d)", s=full, d=share)
        usable = sql(":u AND :d BETWEEN 0 AND 1", u=usable, d=share)
    exact = exp.Anonymous(this=name, expressions=list(texts))
    return sql(
        "CASE WHEN :usable THEN CASE WHEN ABS(:full) < :sure AND ABS(ABS(:s - TRUNC(:s)) - 0.5) > "
        "1e-6 "
        "THEN CAST(ROUND(:s) AS BIGINT) ELSE :exact END END",
        usable=usable, full=full, s=scaled, sure=_SURE_BELOW, exact=exact,
    )  # fmt: skip

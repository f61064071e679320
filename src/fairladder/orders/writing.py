"""Determine the formats of dates and numbers in text, column by column from most cells, with the
evidence for the user.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

from sqlglot import exp

from fairladder.conditions import Kind
from fairladder.engine.protocol import Engine
from fairladder.errors import DataError, Question
from fairladder.numbers import DiscountUnit
from fairladder.orders import cells
from fairladder.orders.calendars import day_before_year, months_in, order_of_short
from fairladder.orders.numbers_in_text import DIGITS, TURNS, WORDS, ZEROS, currency_of
from fairladder.orders.source import CellKind, Source
from fairladder.scheme import DATE_ORDERS, EPOCHS, SPREADSHEET_DAYS
from fairladder.sqltree import all_of, any_of, case, cell_column, column, named, select, sql
from fairladder.wording import counted

Mark = Literal[".", ","]
_TIME = r"(?:[ T,]+\d{1,2}[:.]\d{2}(?:[:.]\d{2}(?:[.,]\d+)?)?(?: ?[AaPp]\.?[Mm]\.?)?)?"
_BETWEEN = r"(?: *[./-] *| +)"
_NUMERIC = rf"^(\d{{1,2}}){_BETWEEN}(\d{{1,2}}){_BETWEEN}(\d{{4}})\.?(?: ?г\.?)?{_TIME}$"
_YEAR_FIRST = rf"^(\d{{4}}) *[./年년] *(\d{{1,2}}) *[./月월] *(\d{{1,2}}) *[.日일]?{_TIME}$"
_SHORT = rf"^(\d{{1,2}}){_BETWEEN}(\d{{1,2}}){_BETWEEN}(\d{{2}}){_TIME}$"
#: Separators between a day's number, a month's name and a year.
_GAP = r"(?:st|nd|rd|th|er|º|ª)?[ .,/-]*(?:(?:de|del|of|d)[ '’])?"
_NAMED = (
    "%d %b %Y",
    "%d %B %Y",
    "%d. %B %Y",
    "%d-%b-%Y",
    "%b %d, %Y",
    "%B %d, %Y",
    "%d %b %Y %H:%M",
    "%d %b %Y %H:%M:%S",
)

#: Numbers that are read in the same way with either decimal mark.
_READ_ANYWAY = r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$"
_PLAIN = r"^-?\d+(\.\d+)?$"


@dataclass(frozen=True)
class DateStyle:
    """The date format of a column, and the evidence (empty if all dates are ISO)."""

    name: str
    evidence: str = ""
    months: tuple[tuple[str, int], ...] = ()
    """Month words → month numbers, if months are named."""
    short: bool = False
    """True if years have two digits: 69 to 99 are in the last century."""
    any_years: bool = False
    """True if two-digit and four-digit years are both read, when the user gave the order of day and
    month.
    """


@dataclass(frozen=True)
class Writing:
    """The formats of dates and numbers in text, as far as they are given or determined."""

    dates: DateStyle | None = None
    """The format of dates that are not ISO."""
    mark: Mark | None = None
    """The decimal mark, if some numbers are not plain."""
    evidence: tuple[str, ...] = ()
    """The evidence for the formats, in words."""
    point_proven: bool = False
    """True if the first rows prove that the decimal mark is a point."""
    zero: str = ""
    """The zero of the script of the digits, if it is not ASCII."""
    currencies: tuple[tuple[str, str], ...] = ()
    """Text next to the digits of amounts → its currency, if there are several and no column of
    currencies.
    """
    discounts: DiscountUnit | None = None
    """The unit of discounts, if the column's name and its cells show that it is percent."""
    detected: bool = False
    """True if formats were detected from the cells; cells that are still unread stay so."""


def day_in_style(cell: exp.Expr, how: DateStyle, time_zone: str | None = None) -> exp.Expr:
    """Return the date of a trimmed text cell that is not ISO; NULL if the format does not fit."""
    style = how.name
    if how.months:
        return _day_of_named(cell, how.months, how.short)
    if how.short:
        return _day_of_short(cell, style)
    if how.any_years and style in DATE_ORDERS:
        whole = day_in_style(cell, replace(how, any_years=False), time_zone)
        return sql("COALESCE(:w, :s)", w=whole, s=_day_of_short(cell, style))
    if style in EPOCHS:
        return _day_since_epoch(cell, EPOCHS[style], time_zone)
    if style == SPREADSHEET_DAYS:
        number = sql(
            "CASE WHEN REGEXP_MATCHES(:c, :p) THEN TRY_CAST(:c AS DOUBLE) END", c=cell, p=_PLAIN
        )
        # Day 60 of spreadsheets is 29 February 1900, which never existed; from there on day 0 is
        # 1899-12-30.
        return sql(
            "CASE WHEN :n BETWEEN 61 AND 2958465 THEN DATE '1899-12-30' + CAST(FLOOR(:n) AS "
            "INTEGER) END",
            n=number,
        )
    whole_year = sql("REGEXP_MATCHES(:c, '[0-9]{4}')", c=cell)  # `%Y` would read 24 as the year 24
    cell = sql(
        "CASE WHEN REGEXP_MATCHES(:c, '[0-9]') THEN :c END", c=cell
    )  # the engine accepts words for dates, too
    if "%" in style:
        day = sql("CAST(TRY_STRPTIME(:c, :p) AS DATE)", c=cell, p=exp.Literal.string(style))
        return (
            sql("CASE WHEN :whole THEN :day END", whole=whole_year, day=day)
            if "%Y" in style
            else day
        )
    named_month = sql(
        "CAST(TRY_STRPTIME(:c, :p) AS DATE)",
        c=cell,
        p=exp.Array(expressions=[exp.Literal.string(p) for p in _NAMED]),
    )
    pattern, parts = {
        "day-first": (_NUMERIC, r"\3-\2-\1"), "month-first": (_NUMERIC, r"\3-\1-\2"),
        "year-first": (_YEAR_FIRST, r"\1-\2-\3"),
    }[style]  # fmt: skip
    turned = sql(
        "TRY_CAST(REGEXP_REPLACE(:c, :pattern, :parts) AS DATE)",
        c=cell, pattern=exp.Literal.string(pattern), parts=exp.Literal.string(parts),
    )  # fmt: skip
    return sql(
        "CASE WHEN REGEXP_MATCHES(:c, :pattern) THEN :turned WHEN REGEXP_MATCHES(:c, "
        "'[A-Za-z]{3}') AND :whole THEN :named END",
        c=cell, whole=whole_year, pattern=exp.Literal.string(pattern), turned=turned,
        named=named_month,
    )  # fmt: skip


def _day_of_named(cell: exp.Expr, months: Sequence[tuple[str, int]], short: bool) -> exp.Expr:
    """Return the date of a cell with a month's name, before or after the day's number or after the
    year.
    """
    words = "|".join(re.escape(word) for word, _ in sorted(months, key=lambda m: -len(m[0])))
    shapes: list[tuple[str, tuple[int, int, int]]] = [
        (rf"(\d{{1,2}}){_GAP}({words})\.?{_GAP}(\d{{4}})", (3, 2, 1)),
        (rf"({words})\.?{_GAP}(\d{{1,2}}){_GAP}(\d{{4}})", (3, 1, 2)),
        (rf"(\d{{4}}){_GAP}({words})\.?{_GAP}(\d{{1,2}})", (1, 2, 3)),
    ]
    if short:
        shapes = [(shape.replace(r"(\d{4})", r"(\d{2})"), places) for shape, places in shapes[:2]]
    branches = []
    for shape, places in shapes:
        pattern = exp.Literal.string(rf"(^|[^0-9]){shape}([^0-9]|$)")
        year, month, day = (
            sql("REGEXP_EXTRACT(:c, :p, :g)", c=cell, p=pattern, g=place + 1) for place in places
        )
        number = case(
            [
                (sql(":m = :w", m=month, w=exp.Literal.string(w)), exp.Literal.string(f"{n:02}"))
                for w, n in months
            ],
            exp.null(),
        )
        if short:
            year = sql("CASE WHEN :y >= '69' THEN '19' ELSE '20' END || :y", y=year)
        read = sql(
            "TRY_CAST(:y || '-' || :m || '-' || LPAD(:d, 2, '0') AS DATE)",
            y=exp.paren(year),
            m=number,
            d=day,
        )
        branches.append((sql("REGEXP_MATCHES(:c, :p)", c=cell, p=pattern), read))
    return case(branches, exp.null())


def _day_of_short(cell: exp.Expr, style: str) -> exp.Expr:
    """Return the date of a cell with a two-digit year, read like C's ``%y``."""
    day, month, year = {"day-first": (1, 2, 3), "month-first": (2, 1, 3), "year-first": (3, 2, 1)}[
        style
    ]
    pattern = exp.Literal.string(_SHORT)
    d, m, y = (
        sql("LPAD(REGEXP_EXTRACT(:c, :p, :g), 2, '0')", c=cell, p=pattern, g=g)
        for g in (day, month, year)
    )
    read = sql(
        "TRY_CAST(CASE WHEN :y >= '69' THEN '19' ELSE '20' END || :y || '-' || :m || '-' || :d AS "
        "DATE)",
        y=y,
        m=m,
        d=d,
    )
    return sql("CASE WHEN REGEXP_MATCHES(:c, :p) THEN :read END", c=cell, p=pattern, read=read)


def _day_since_epoch(cell: exp.Expr, per_second: int, time_zone: str | None) -> exp.Expr:
    """Return the date of a Unix time in any unit: an instant, in the business time zone or in
    UTC.
    """
    number = sql(
        "CASE WHEN REGEXP_MATCHES(:c, :p) THEN TRY_CAST(:c AS DOUBLE) / :n END",
        c=cell,
        p=_PLAIN,
        n=per_second,
    )
    there = sql(
        "TIMEZONE(:z, TO_TIMESTAMP(:n))", z=exp.Literal.string(time_zone or "UTC"), n=number
    )
    return sql(
        "CASE WHEN :n BETWEEN 0 AND 4102444800 THEN CAST(:there AS DATE) END", n=number, there=there
    )


_DAYS = {
    "iso": ("%Y-%m-%d",), "day-first": ("%d.%m.%Y", "%d/%m/%Y", "%d-%m-%Y"),
    "month-first": ("%m/%d/%Y", "%m-%d-%Y", "%m.%d.%Y"),
    "year-first": ("%Y/%m/%d", "%Y.%m.%d"),
}  # fmt: skip
_CLOCKS = ("T%H:%M:%S", " %H:%M:%S", "", " %H:%M")
#: An earlier year may stem from two or three digits and blanks, and needs a careful look.
_SURE_FROM = "1000-01-01"


def day_at_once(cell: exp.Expr, styles: Sequence[str]) -> exp.Expr:
    """Return the date of an untrimmed text cell in its most common forms, in one step; valid where
    ``sure_day`` is true.

    In the embedded engine: ``2026-06-30 23:59:59``, ``2026-06-30 23:59`` and ``2026-06-30`` are
    ``iso``, and similarly for other styles. With the right length, only the year can be too short.
    A pattern that fails costs the engine ten times one that fits, so each is tried only on cells of
    its shape.
    """
    branches = []
    for style in styles:
        for pattern in (day + clock for day in _DAYS.get(style, ()) for clock in _CLOCKS):
            shape = re.sub("%.", "__", pattern.replace("%Y", "____"))
            like = sql("LENGTH(:c) = :n AND :c LIKE :shape", c=cell, n=len(shape), shape=shape)
            if style == "iso":  # the usual form, for which parsing is test enough
                like = sql(
                    f"LENGTH(:c) = :n{' AND CONTAINS(:c, :t)' if 'T' in pattern else ''}",
                    c=cell,
                    n=len(shape),
                    t="T",
                )
            branches.append((like, sql("CAST(TRY_STRPTIME(:c, :p) AS DATE)", c=cell, p=pattern)))
    return case(branches, exp.null())


def sure_day(at_once: exp.Expr) -> exp.Expr:
    """Return a condition that the date from the shortcut equals that of a careful look."""
    return sql("(:d >= CAST(:sure AS DATE))", d=at_once, sure=_SURE_FROM)


def detect_date_format(
    relation: exp.Expr, name: str, engine: Engine, column_label: str
) -> DateStyle:
    """Return the format that reads most cells of a text column besides ISO ones; ``column_label`` names
    the column in messages.

    Raises DataError, with two cells, if day-first and month-first read equally many and differ.
    """
    others = select([named(cells.text(cell_column(name), "text"), "c")], relation)
    c = exp.column("c")
    days = {style: day_in_style(c, DateStyle(style)) for style in DATE_ORDERS}
    foreign = all_of([sql("c IS NOT NULL"), sql(":d IS NULL", d=cells.day(c, "text", None))])
    if engine is engine.reader:
        # If the second part is never a month, day-first need not be tried; month-first then reads
        # the swapped parts.
        first = sql(
            "CASE WHEN SUBSTRING(c, 4, 2) <= '12' THEN :d END", d=day_at_once(c, ["day-first"])
        )
        others = select([c, named(first, "day-first at once")], others, "trimmed")
        turned = "CASE WHEN DAY(:d) <= 12 THEN MAKE_DATE(YEAR(:d), DAY(:d), MONTH(:d)) END"
        d = column("day-first at once")
        other = case([(sure_day(d), sql(turned, d=d))], day_at_once(c, ["month-first"]))
        others = select([c, d, named(other, "month-first at once")], others, "glanced")
        days, foreign = _glanced_at(days, foreign)
    others = select(
        [c, named(foreign, "foreign"), *(named(tree, style) for style, tree in days.items())],
        others,
        "read",
    )
    days_read = {style: column(style) for style in DATE_ORDERS}
    differ = sql(":a IS DISTINCT FROM :b", a=days_read["day-first"], b=days_read["month-first"])
    columns = [
        named(sql("COUNT(*)"), "cells"),
        *(named(sql("COUNT(:d)", d=tree), style) for style, tree in days_read.items()),
        *(named(sql("COUNT(CASE WHEN :d IS NOT NULL AND :o IS NULL THEN 1 END)", d=days_read[a],
        o=days_read[b]), f"only {a}")
          for a, b in (("day-first", "month-first"), ("month-first", "day-first"))),
        named(sql("MIN(CASE WHEN :x THEN c END)", x=differ), "one"),
        named(sql("MAX(CASE WHEN :x THEN c END)", x=differ), "two"),
    ]  # fmt: skip
    counts = engine.table(
        select(columns, others, "cells").where(column("foreign"), copy=False)
    ).to_pylist()[0]
    best = max(DATE_ORDERS, key=lambda style: counts[style])
    if counts[best] * 100 < counts["cells"] * 99:
        rarer = _rarer_style(relation, name, engine, column_label)
        if rarer is not None and rarer[1] > counts[best]:
            return replace(
                rarer[0],
                evidence=(
                    f"{rarer[1]:,} of {counts['cells']:,} dates that are not ISO fit "
                    f"it{rarer[0].evidence}"
                ),
            )
    if not counts["cells"] or not counts[best]:
        return DateStyle("iso")
    if (
        best != "year-first"
        and counts["day-first"] == counts["month-first"]
        and counts["one"] is not None
    ):
        error = DataError(
            f"The dates in `{column_label}` can be read day first or month first, "
            f"`{counts['one']}` and `{counts['two']}` for instance, and no other cell "
            'decides it. Set `date_format = "day-first"` or "month-first" under '
            "[orders]."
        )
        raise error.asking(_which_order(column_label, (counts["one"], counts["two"]), engine))
    proof = f"{counts[best]:,} of {counts['cells']:,} dates that are not ISO fit it"
    rival = {"day-first": "only day-first", "month-first": "only month-first"}.get(best)
    more = f", {counts[rival]:,} of them in no other order" if rival and counts[rival] else ""
    return DateStyle(best, proof + more)


def _which_order(name: str, written: Sequence[str], engine: Engine) -> Question:
    """Return the question whether dates are day first or month first, with example cells."""
    orders = ("day-first", "month-first")
    read = [
        named(
            sql("CAST(:d AS VARCHAR)", d=day_in_style(exp.Literal.string(cell), DateStyle(order))),
            f"{order} {i}",
        )
        for order in orders
        for i, cell in enumerate(written)
    ]
    days = engine.table(exp.Select().select(*read, copy=False)).to_pylist()[0]
    shown = {
        o: tuple(f"{cell} is {days[f'{o} {i}']}" for i, cell in enumerate(written)) for o in orders
    }
    return Question(f"How are the dates in `{name}` written?", "date_format", shown)


def _shown_number(cell: str, thousands: str, mark: str) -> str:
    return cell.replace(thousands, "").replace(mark, ".")


#: Number of different cells that are searched for month names and two-digit years.
_MOST_CELLS = 5_000


def _rarer_style(
    relation: exp.Expr, name: str, engine: Engine, column_label: str
) -> tuple[DateStyle, int] | None:
    """Return a format with month names or two-digit years, and how many cells it reads; None if the
    cells show neither.

    Raises DataError if the language, or the order of day and month, is ambiguous.
    """
    others = select([named(cells.text(cell_column(name), "text"), "c")], relation)
    c = exp.column("c")
    foreign = all_of([sql("c IS NOT NULL"), sql(":d IS NULL", d=cells.day(c, "text", None))])
    distinct = (
        select([c], others, "trimmed")
        .where(foreign, copy=False)
        .distinct(copy=False)
        .order_by("c", copy=False)
    )
    texts = engine.table(distinct.limit(_MOST_CELLS, copy=False))["c"].to_pylist()
    if not any(re.search(r"\d", text) for text in texts):
        return None
    style = None
    if named_so := months_in(texts):
        months, language, rival = named_so
        if rival:
            raise DataError(
                f"The months in `{column_label}`, {', '.join(f'`{m}`' for m in list(months)[:3])} "
                "for instance, are words of several languages that mean different months. "
                "Write the dates in numbers, or export a longer period."
            )
        short_years = not any(re.search(r"\d{4}", text) for text in texts)
        if short_years and not day_before_year(texts):
            return None
        evidence_text = f", months in {_name_of_language(language)}{', years of two digits' if short_years else ''}"
        style = DateStyle("named months", evidence_text, tuple(months.items()), short_years)
    elif short := order_of_short(texts):
        order, open_ones = short
        if open_ones:
            raise DataError(
                f"The dates in `{column_label}` have two-digit years and can be read day first or "
                f"month first, `{open_ones[0]}` and `{open_ones[1]}` for instance. Set "
                '`date_format = "%d.%m.%y"` or similar under [orders].'
            )
        style = DateStyle(order, ", two-digit years", short=True)
    if style is None:
        return None
    count = select(
        [named(sql("COUNT(:d)", d=day_in_style(c, style)), "n")], others, "trimmed"
    ).where(foreign, copy=False)
    return style, int(engine.table(count)["n"].to_pylist()[0])


def _name_of_language(language: str) -> str:
    from babel import Locale

    return Locale.parse(language).get_display_name("en") or language


def _glanced_at(
    days: dict[str, exp.Expr], foreign: exp.Expr
) -> tuple[dict[str, exp.Expr], exp.Expr]:
    """Return the dates by style, with a careful look only where no shortcut fits. Year-first is
    excluded where another style fits.
    """
    first, other = (sure_day(column(f"{style} at once")) for style in ("day-first", "month-first"))
    either = any_of([first, other])
    glanced = {
        style: case(
            [
                (sure_day(column(f"{style} at once")), column(f"{style} at once")),
                (either, exp.null()),
            ],
            days[style],
        )
        for style in ("day-first", "month-first")
    }
    glanced["year-first"] = case([(either, exp.null())], days["year-first"])
    return glanced, case([(either, exp.true())], foreign)


def detect_zero_digit(relation: exp.Expr, names: list[str], engine: Engine) -> str:
    """Return the zero of the script in which number columns are written; empty for ASCII digits.

    Raises DataError if digits of several other scripts occur.
    """
    if not names:
        return ""
    digit = sql("NULLIF(REGEXP_EXTRACT(c, :p, 0), '')", p=exp.Literal.string(f"[{DIGITS}]"))
    digits = select([named(digit, "digit")], _all_cells(relation, names)).distinct(copy=False)
    there = {
        text for text in engine.table(digits.limit(100, copy=False))["digit"].to_pylist() if text
    }
    zeros = sorted({zero for zero in ZEROS for text in there if 0 <= ord(text) - ord(zero) < 10})
    if len(zeros) > 1:
        raise DataError(
            f"The numbers have digits of several scripts ({', '.join(zeros)}). Write them in one."
        )
    return zeros[0] if zeros else ""


def in_ascii(cell: exp.Expr, zero: str) -> exp.Expr:
    """Convert a text with another script's digits, decimal mark and thousands separators to
    ASCII.
    """
    if not zero:
        return cell
    for old, new in [*((chr(ord(zero) + i), str(i)) for i in range(10)), ("٫", "."), ("٬", ",")]:
        cell = sql(
            "REPLACE(:c, :old, :new)",
            c=cell,
            old=exp.Literal.string(old),
            new=exp.Literal.string(new),
        )
    return cell


def _all_cells(relation: exp.Expr, names: Sequence[str]) -> exp.Expr:
    """Return the trimmed cells of several text columns as one column ``c``."""
    parts = [select([named(cells.text(cell_column(n), "text"), "c")], relation) for n in names]
    together: exp.Expr = parts[0]
    for part in parts[1:]:
        together = exp.Union(this=together, expression=part, distinct=False)
    return exp.Subquery(this=together, alias=exp.TableAlias(this=exp.to_identifier("written")))


#: Characters around the digits of an amount, besides letters and currency symbols.
_NO_CURRENCY = rf"[0-9.,'’()+\-−–—\s\x{{a0}}\x{{2009}}\x{{202f}}{TURNS}{DIGITS}٫٬]"


def detect_currencies(relation: exp.Expr, name: str, engine: Engine) -> tuple[tuple[str, str], ...]:
    """Return the marks next to a text column's amounts, with their currencies; empty unless there
    are several.
    """
    mark = currency_mark(cells.text(cell_column(name), "text"))
    marks = (
        select([named(mark, "mark")], relation).distinct(copy=False).limit(_MOST_CELLS, copy=False)
    )
    there = sorted(m for m in engine.table(marks)["mark"].to_pylist() if m)
    known = [(m, code) for m in there if (code := currency_of(m)) is not None]
    return tuple(known) if len({code for _, code in known}) > 1 else ()


def currency_mark(cell: exp.Expr) -> exp.Expr:
    """Return the text next to an amount's digits, in uppercase; empty if there is none."""
    return sql("UPPER(REGEXP_REPLACE(:c, :p, '', 'g'))", c=cell, p=exp.Literal.string(_NO_CURRENCY))


def currency_in_cell(cell: exp.Expr, currencies: Sequence[tuple[str, str]]) -> exp.Expr:
    """Return the currency of an amount's text cell; NULL if it names none."""
    mark = currency_mark(cell)
    branches = [
        (sql(":m = :t", m=mark, t=exp.Literal.string(t)), exp.Literal.string(code))
        for t, code in currencies
    ]
    return case(branches, exp.cast(exp.null(), "VARCHAR"))


def detect_discount_unit(
    relation: exp.Expr, name: str, kind: CellKind, engine: Engine
) -> DiscountUnit | None:
    """Return ``percent`` for a column whose name says so, if some discount is over 1; None if all
    are blank or 0.

    Raises DataError if all discounts are from 0 to 1, which can be fractions or percentages.
    """
    if kind == "text":
        text = cells.text(cell_column(name), kind)
        plain = sql("TRY_CAST(REPLACE(:t, ',', '.') AS DOUBLE)", t=text)
        shown, number = text, sql("CASE WHEN NOT CONTAINS(:t, '%') THEN :n END", t=text, n=plain)
    else:
        shown, number = (
            sql("CAST(:c AS VARCHAR)", c=cell_column(name)),
            cells.number(cell_column(name), kind),
        )
    read = select([named(number, "number"), named(shown, "shown")], relation)
    sums = ["COUNT(CASE WHEN ABS(number) > 1 THEN 1 END) AS over",
    "COUNT(CASE WHEN number <> 0 THEN 1 END) AS some",
            "MIN(CASE WHEN number <> 0 THEN shown END) AS one"]  # fmt: skip
    counts = engine.table(select([sql(s) for s in sums], read, "discounts")).to_pylist()[0]
    if counts["over"]:
        return "percent"
    if not counts["some"]:
        return None
    error = DataError(
        f"The discounts in `{name}` are all from 0 to 1, `{counts['one']}` for instance: "
        'they can be fractions of the price or percentages. Set `discount_as = "percent"` '
        'or "fraction" under [orders] (--discount-as).'
    )
    one = counts["one"]
    shown_as = {
        "percent": (f"{one} is {one} % off",),
        "fraction": (f"{one} is {one} of the price off",),
    }
    raise error.asking(Question(f"What are the discounts in `{name}`?", "discount_as", shown_as))


def proves_point(relation: exp.Expr, names: list[str], engine: Engine) -> bool:
    """Return True if some number of these text columns can only have a decimal point, such as
    ``12.50``.
    """
    if not names:
        return False
    proof = sql("REGEXP_MATCHES(c, :p)", p=r"^-?(\d+\.\d{1,2}|\d+\.\d{4,}|0\d*\.\d+|\d{4,}\.\d+)$")
    query = (
        select([sql("c")], _all_cells(relation, names), "written")
        .where(proof, copy=False)
        .limit(1, copy=False)
    )
    return bool(engine.table(query).num_rows)


def detect_decimal_mark(
    relation: exp.Expr, names: list[str], engine: Engine, zero: str = ""
) -> tuple[Mark | None, str]:
    """Return the decimal mark of all number columns of a text source, with the evidence; None if
    all cells are plain.

    ``zero`` is the result of ``detect_zero_digit``. Raises DataError, with two cells, if commas, or
    points before exactly three digits, could be either.
    """
    if not names:
        return None, ""
    comma = r"(^|[^,])\.\d{3},\d*$|^[^,]*,(\d{0,2}|\d{4,})$|\.\d{3}\."
    # A number that begins with 0, or has four digits before a point, has no thousands separator.
    point = r",\d{3}\.\d*$|^[^.]*\.(\d{0,2}|\d{4,})$|,\d{3},|,\d{2},\d{3}|^-?(0\d*|\d{4,})\.\d{3}$"
    # Most cells are of the two plain kinds, so one or two queries find them.
    kinds = [(sql("REGEXP_MATCHES(c, :p)", p=_PLAIN), exp.convert("plain")),
             (sql("REGEXP_MATCHES(c, :p)", p=r"^-?\d+,\d{1,2}$"),
             exp.convert("comma"))]  # fmt: skip
    body = sql(
        "CASE WHEN kind = 'other' THEN REGEXP_REPLACE(REGEXP_REPLACE(c, :words, '', 'g'), "
        "'[^0-9.,]', '', 'g') ELSE c END",
        words=exp.Literal.string(rf"^(?:{WORDS})|(?:{WORDS})$|[.,][-–—]{{1,2}}"),
    )
    columns = [
        sql("COUNT(CASE WHEN kind <> 'plain' THEN 1 END) AS odd"),
        sql(
            "COUNT(CASE WHEN kind = 'comma' OR kind = 'other' AND REGEXP_MATCHES(b, :p) THEN 1 "
            "END) AS comma",
            p=comma,
        ),
        sql(
            "COUNT(CASE WHEN kind <> 'comma' AND REGEXP_MATCHES(b, :p) THEN 1 END) AS point",
            p=point,
        ),
        sql("MIN(CASE WHEN CONTAINS(b, ',') THEN c END) AS one"),
        sql("MAX(CASE WHEN CONTAINS(b, ',') THEN c END) AS two"),
        sql("MIN(CASE WHEN REGEXP_MATCHES(b, :p) THEN c END) AS three", p=_THOUSANDS_OR_DECIMALS),
        sql("MIN(CASE WHEN kind = 'plain' AND NOT CONTAINS(b, '.') THEN c END) AS whole"),
    ]
    written = select([named(in_ascii(exp.column("c"), zero), "c")], _all_cells(relation, names))
    looked = select(
        [exp.column("c"), named(case(kinds, exp.convert("other")), "kind")], written, "cells"
    )
    bodies = select([exp.column("c"), exp.column("kind"), named(body, "b")], looked, "looked")
    bodies = bodies.where(sql("kind <> 'other' OR REGEXP_MATCHES(c, '[0-9]')"), copy=False)
    counts = engine.table(select(columns, bodies, "bodies")).to_pylist()[0]
    if (
        counts["three"] is not None
        and not counts["comma"]
        and not counts["point"]
        and counts["one"] is None
    ):
        cells_shown = [counts["three"], *([counts["whole"]] if counts["whole"] else [])]
        error = DataError(
            f"The point in `{counts['three']}` can be a decimal mark or a thousands "
            'separator, and no other cell decides it. Set `decimal_mark = "."` or "," '
            "under [orders] (--decimal-mark)."
        )
        shown = {
            mark: tuple(f"{c} is {_shown_number(c, other, mark)}" for c in cells_shown)
            for mark, other in ((".", ","), (",", "."))
        }
        raise error.asking(Question("Which character is the decimal mark?", "decimal_mark", shown))
    if not counts["odd"]:
        return ("." if zero else None), ""
    if counts["comma"] == counts["point"] and counts["one"] is not None:
        error = DataError(
            f"The commas in `{counts['one']}` and `{counts['two']}` can be decimal marks or "
            "thousands separators, and "
            f"{'as many cells show the one as the other' if counts['comma'] else 'no other cell decides it'}. "
            'Set `decimal_mark = ","` or "." under [orders].'
        )
        shown = {
            ",": tuple(
                f"{c} is {_shown_number(c, '.', ',')}" for c in (counts["one"], counts["two"])
            ),
            ".": tuple(
                f"{c} is {_shown_number(c, ',', '.')}" for c in (counts["one"], counts["two"])
            ),
        }
        raise error.asking(Question("Which character is the decimal mark?", "decimal_mark", shown))
    mark: Mark = "," if counts["comma"] > counts["point"] else "."
    shown = {",": counts["comma"], ".": counts["point"]}[mark]
    against = {",": counts["point"], ".": counts["comma"]}[mark]
    but = f", {against:,} show the other" if against else ""
    return (
        mark,
        f"{counted(shown, 'amounts', 'show')} a decimal {'comma' if mark == ',' else 'point'}{but}",
    )


def plain_at_once(cell: exp.Expr, mark: Mark, careful: exp.Expr) -> exp.Expr:
    """Return ``plain_number`` of an untrimmed text cell: one test for cells without symbols except
    a minus, ``careful`` for the rest.
    """
    thousands, decimal = (".", ",") if mark == "," else (",", ".")
    common = rf"-?(\d+|\d{{1,3}}(\{thousands}\d{{3}})+)(\{decimal}\d+)?"
    bare = sql("REPLACE(REPLACE(:c, :t, ''), :d, '.')", c=cell, t=thousands, d=decimal)
    return sql(
        "CASE WHEN REGEXP_FULL_MATCH(:c, :p) THEN :bare ELSE :careful END",
        c=cell,
        p=common,
        bare=bare,
        careful=careful,
    )


#: A point before exactly three digits, which can be a decimal point or a thousands separator.
_THOUSANDS_OR_DECIMALS = r"^-?[1-9]\d{0,2}\.\d{3}$"


def plain_number(cell: exp.Expr, mark: Mark, zero: str = "") -> exp.Expr:
    """Return a trimmed text cell as plain decimal text: currency symbols, spaces and thousands
    separators removed, minus in front.

    NULL if it is not a number with this mark; cells that are already plain stay unchanged if the
    mark is a point.
    """
    thousands, decimal = (r"\.", ",") if mark == "," else (",", r"\.")
    cell = in_ascii(cell, zero)
    bare = sql(
        "REGEXP_REPLACE(:c, :off, '', 'g')",
        c=cell,
        off=exp.Literal.string(
            rf"^(?:{WORDS})|(?:{WORDS})$|\p{{Sc}}|[\s\x{{a0}}\x{{2009}}\x{{202f}}'’{TURNS}]|^[A-Z]{{3}}\b|\b[A-Z]{{3}}$|[.,][-–—]{{1,2}}$"
        ),
    )
    bare = sql("REPLACE(:b, '−', '-')", b=bare)
    # thousands, or lakhs
    whole_part = (
        rf"\d{{1,3}}(?:{thousands}\d{{3}})+|\d{{1,2}}(?:{thousands}\d{{2}})+{thousands}\d{{3}}|\d*"
    )
    shape = rf"^(\(|-|\+)?({whole_part})(?:{decimal}(\d+))?(\)|-)?$"
    digits = sql(
        "REPLACE(REGEXP_EXTRACT(:b, :s, 2), :t, '')",
        b=bare,
        s=exp.Literal.string(shape),
        t=exp.Literal.string("." if mark == "," else ","),
    )
    minus = sql(
        "CASE WHEN REGEXP_EXTRACT(:b, :s, 1) IN ('(', '-') OR REGEXP_EXTRACT(:b, :s, 4) = '-' "
        "THEN '-' ELSE '' END",
        b=bare,
        s=exp.Literal.string(shape),
    )
    rest = sql("REGEXP_EXTRACT(:b, :s, 3)", b=bare, s=exp.Literal.string(shape))
    whole = sql("CASE WHEN :d = '' THEN '0' ELSE :d END", d=digits)
    built = sql(
        "CASE WHEN :r = '' THEN :m || :w ELSE :m || :w || '.' || :r END", m=minus, w=whole, r=rest
    )
    closed = sql("(STARTS_WITH(:b, '(') = ENDS_WITH(:b, ')'))", b=bare)
    usable = sql(
        "REGEXP_MATCHES(:b, :s) AND REGEXP_MATCHES(:b, '[0-9]') AND :closed",
        b=bare,
        s=exp.Literal.string(shape),
        closed=closed,
    )
    tidy = case([(usable, built)], exp.null())
    if mark == ",":
        return tidy
    return sql(
        "CASE WHEN REGEXP_MATCHES(:c, :p) THEN :c ELSE :t END",
        c=cell,
        p=exp.Literal.string(_READ_ANYWAY),
        t=tidy,
    )


def detect_kinds(
    source: Source, names: list[str], trimmed: exp.Expr | None = None
) -> dict[str, Kind]:
    """Return number or day for the named text columns in which every non-blank cell is one.

    ``trimmed`` is a table of the rows with trimmed cells, if there is one.
    """
    if not names:
        return {}
    tests = []
    for name in names:
        cell = cell_column(name) if trimmed is not None else cells.text(cell_column(name), "text")
        tests.append(
            named(
                sql("BOOL_AND(REGEXP_FULL_MATCH(:c, :plain))", c=cell, plain=_PLAIN_NUMBER),
                f"number {name}",
            )
        )
        tests.append(
            named(
                sql(
                    "BOOL_AND(TRY_CAST(:c AS DATE) IS NOT NULL AND LENGTH(:c) = 10) FILTER (WHERE "
                    ":c IS NOT NULL)",
                    c=cell,
                ),
                f"day {name}",
            )
        )
    answer = source.engine.table(
        select(tests, source.relation if trimmed is None else trimmed)
    ).to_pylist()[0]
    kinds: dict[str, Kind] = {}
    for name in names:
        if answer[f"number {name}"]:
            kinds[name] = "number"
        elif answer[f"day {name}"]:
            kinds[name] = "day"
    return kinds


_PLAIN_NUMBER = exp.Literal.string(r"-?(0|[1-9]\d*)(\.\d+)?")

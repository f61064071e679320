"""Dates and numbers in text: settled once a column, by what most cells show, with the evidence kept for people."""

from dataclasses import dataclass
from typing import Literal

from sqlglot import exp

from fairladder.engine.protocol import Engine
from fairladder.errors import DataError
from fairladder.orders import cells
from fairladder.scheme import DATE_ORDERS, SPREADSHEET_DAYS
from fairladder.sqltree import all_of, case, column, named, select, sql

Mark = Literal[".", ","]
_TIME = r"(?:[ T,]+\d{1,2}[:.]\d{2}(?:[:.]\d{2}(?:[.,]\d+)?)?(?: ?[AaPp]\.?[Mm]\.?)?)?"
_NUMERIC = rf"^(\d{{1,2}})[./ -](\d{{1,2}})[./ -](\d{{4}}){_TIME}$"
_YEAR_FIRST = rf"^(\d{{4}})[./](\d{{1,2}})[./](\d{{1,2}}){_TIME}$"
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
_PLAIN = r"^-?\d+(\.\d+)?$"


@dataclass(frozen=True)
class DateStyle:
    """How the dates of a column are written, and what showed it (empty where all are ISO)."""

    name: str
    evidence: str = ""


def day_in_style(cell: exp.Expr, style: str) -> exp.Expr:
    """The day that a trimmed text cell means when it is not ISO; NULL where the style does not read it."""
    if style == SPREADSHEET_DAYS:
        number = sql("TRY_CAST(:c AS DOUBLE)", c=cell)
        # Day 60 of spreadsheets is a 29 February 1900 that never was; from there on 1899-12-30 is day 0.
        return sql(
            "CASE WHEN :n BETWEEN 61 AND 2958465 THEN DATE '1899-12-30' + CAST(FLOOR(:n) AS INTEGER) END", n=number
        )
    whole_year = sql("REGEXP_MATCHES(:c, '[0-9]{4}')", c=cell)  # `%Y` would take 24 for the year 24
    if "%" in style:
        day = sql("CAST(TRY_STRPTIME(:c, :p) AS DATE)", c=cell, p=exp.Literal.string(style))
        return sql("CASE WHEN :whole THEN :day END", whole=whole_year, day=day) if "%Y" in style else day
    named_month = sql(
        "CAST(TRY_STRPTIME(:c, :p) AS DATE)", c=cell, p=exp.Array(expressions=[exp.Literal.string(p) for p in _NAMED])
    )
    pattern, parts = {
        "day-first": (_NUMERIC, r"\3-\2-\1"), "month-first": (_NUMERIC, r"\3-\1-\2"), "year-first": (_YEAR_FIRST, r"\1-\2-\3"),
    }[style]  # fmt: skip
    turned = sql(
        "TRY_CAST(REGEXP_REPLACE(:c, :pattern, :parts) AS DATE)",
        c=cell, pattern=exp.Literal.string(pattern), parts=exp.Literal.string(parts),
    )  # fmt: skip
    return sql(
        "CASE WHEN REGEXP_MATCHES(:c, :pattern) THEN :turned WHEN REGEXP_MATCHES(:c, '[A-Za-z]{3}') AND :whole THEN :named END",
        c=cell, whole=whole_year, pattern=exp.Literal.string(pattern), turned=turned, named=named_month,
    )  # fmt: skip


def settle_dates(relation: exp.Expr, name: str, engine: Engine, told_as: str) -> DateStyle:
    """The style that reads most cells of a text column (for people, ``told_as``) beside the ISO ones.

    Raises DataError where day-first and month-first read equally many and differ, naming two cells.
    """
    cell = cells.text(column(name), "text")
    others = select([named(cell, "c")], relation)
    c = exp.column("c")
    iso = cells.day(c, "text", None)
    found = {style: day_in_style(c, style) for style in DATE_ORDERS}
    differ = sql(":a IS DISTINCT FROM :b", a=found["day-first"], b=found["month-first"])
    columns = [
        named(sql("COUNT(*)"), "cells"),
        *(named(sql("COUNT(:d)", d=tree), style) for style, tree in found.items()),
        *(named(sql("COUNT(CASE WHEN :d IS NOT NULL AND :o IS NULL THEN 1 END)", d=found[a], o=found[b]), f"only {a}")
          for a, b in (("day-first", "month-first"), ("month-first", "day-first"))),
        named(sql("MIN(CASE WHEN :x THEN c END)", x=differ), "one"),
        named(sql("MAX(CASE WHEN :x THEN c END)", x=differ), "two"),
    ]  # fmt: skip
    foreign = all_of([sql("c IS NOT NULL"), sql(":d IS NULL", d=iso)])
    told = engine.table(select(columns, others, "cells").where(foreign)).to_pylist()[0]
    best = max(DATE_ORDERS, key=lambda style: told[style])
    if not told["cells"] or not told[best]:
        return DateStyle("iso")
    if best != "year-first" and told["day-first"] == told["month-first"] and told["one"] is not None:
        raise DataError(
            f"The dates in `{told_as}` can be read day first or month first, `{told['one']}` and `{told['two']}` for instance, and no "
            'other cell settles it. Say `date_format = "day-first"` or "month-first" under [orders].'
        )
    proof = f"{told[best]:,} of {told['cells']:,} dates that are not ISO read so"
    rival = {"day-first": "only day-first", "month-first": "only month-first"}.get(best)
    more = f", {told[rival]:,} of them in no other order" if rival and told[rival] else ""
    return DateStyle(best, proof + more)


def settle_mark(relation: exp.Expr, names: list[str], engine: Engine) -> tuple[Mark | None, str]:
    """The decimal mark of all number columns of a text source, and the evidence; None where all cells are plain.

    Raises DataError where commas could be either, naming two cells.
    """
    if not names:
        return None, ""
    parts = [select([named(cells.text(column(n), "text"), "c")], relation) for n in names]
    together: exp.Expr = parts[0]
    for part in parts[1:]:
        together = exp.Union(this=together, expression=part, distinct=False)
    plain = sql("REGEXP_MATCHES(c, :p)", p=exp.Literal.string(_PLAIN))
    body = sql("CASE WHEN plain THEN c ELSE REGEXP_REPLACE(c, '[^0-9.,]', '', 'g') END")
    comma = r"(^|[^,])\.\d{3},\d*$|^[^,]*,(\d{0,2}|\d{4,})$|\.\d{3}\."
    point = r",\d{3}\.\d*$|^[^.]*\.(\d{0,2}|\d{4,})$|,\d{3},"
    columns = [
        sql("COUNT(CASE WHEN NOT plain THEN 1 END) AS odd"),
        # A plain number shows no comma; most cells are, so that they are looked at but once more.
        named(
            sql("COUNT(CASE WHEN NOT plain AND REGEXP_MATCHES(b, :p) THEN 1 END)", p=exp.Literal.string(comma)), "comma"
        ),
        named(sql("COUNT(CASE WHEN REGEXP_MATCHES(b, :p) THEN 1 END)", p=exp.Literal.string(point)), "point"),
        sql("MIN(CASE WHEN CONTAINS(b, ',') THEN c END) AS one"),
        sql("MAX(CASE WHEN CONTAINS(b, ',') THEN c END) AS two"),
    ]
    looked = select(
        [exp.column("c"), named(plain, "plain")],
        exp.Subquery(this=together, alias=exp.TableAlias(this=exp.to_identifier("written"))),
    )
    bodies = select([exp.column("c"), exp.column("plain"), named(body, "b")], looked, "looked")
    told = engine.table(
        select(columns, bodies.where(sql("plain OR REGEXP_MATCHES(c, '[0-9]')")), "bodies")
    ).to_pylist()[0]
    if not told["odd"]:
        return None, ""
    if told["comma"] == told["point"] and told["one"] is not None:
        raise DataError(
            f"The commas in `{told['one']}` and `{told['two']}` can be decimal marks or thousands, and "
            f"{'as many cells show the one as the other' if told['comma'] else 'no other cell settles it'}. "
            'Say `decimal_mark = ","` or "." under [orders].'
        )
    mark: Mark = "," if told["comma"] > told["point"] else "."
    shown = {",": told["comma"], ".": told["point"]}[mark]
    against = {",": told["point"], ".": told["comma"]}[mark]
    but = f", {against:,} show the other" if against else ""
    return mark, f"{shown:,} amounts show a decimal {'comma' if mark == ',' else 'point'}{but}"


def plain_number(cell: exp.Expr, mark: Mark) -> exp.Expr:
    """A trimmed text cell as a plain decimal text: signs of currency, spaces and thousands taken off, minus in front.

    NULL where it is no number under this mark; cells that are plain already stay as they are where the mark is a point.
    """
    thousands, decimal = (r"\.", ",") if mark == "," else (",", r"\.")
    bare = sql(
        "REGEXP_REPLACE(:c, :off, '', 'g')",
        c=cell,
        off=exp.Literal.string(r"\p{Sc}|[\s\x{a0}\x{2009}\x{202f}'’]|^[A-Z]{3}\b|\b[A-Z]{3}$"),
    )
    bare = sql("REPLACE(:b, '−', '-')", b=bare)
    shape = rf"^(\(|-|\+)?(\d{{1,3}}(?:{thousands}\d{{3}})+|\d*)(?:{decimal}(\d+))?(\)|-)?$"
    digits = sql(
        "REPLACE(REGEXP_EXTRACT(:b, :s, 2), :t, '')",
        b=bare,
        s=exp.Literal.string(shape),
        t=exp.Literal.string("." if mark == "," else ","),
    )
    minus = sql(
        "CASE WHEN REGEXP_EXTRACT(:b, :s, 1) IN ('(', '-') OR REGEXP_EXTRACT(:b, :s, 4) = '-' THEN '-' ELSE '' END",
        b=bare,
        s=exp.Literal.string(shape),
    )
    rest = sql("REGEXP_EXTRACT(:b, :s, 3)", b=bare, s=exp.Literal.string(shape))
    whole = sql("CASE WHEN :d = '' THEN '0' ELSE :d END", d=digits)
    built = sql("CASE WHEN :r = '' THEN :m || :w ELSE :m || :w || '.' || :r END", m=minus, w=whole, r=rest)
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
    return sql("CASE WHEN REGEXP_MATCHES(:c, :p) THEN :c ELSE :t END", c=cell, p=exp.Literal.string(_PLAIN), t=tidy)

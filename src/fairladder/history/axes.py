"""Axes of a breakdown: a column, a column in bands, age at the order in bands, or a part of the
order's date.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise

from sqlglot import exp

from fairladder.book.line_cells import HOUR
from fairladder.errors import UsageError, nearest
from fairladder.history.periods import Calendar
from fairladder.history.purchases import MIXED, UNKNOWN
from fairladder.sqltree import case, column, sql

#: Above this age, and before birth, an age is unknown.
OLDEST = 120
#: Parts of an order's date, as in ``weekday(placed)``.
PARTS = ("year", "quarter", "month", "week", "calendar-month", "weekday", "hour")
MONTHS = tuple(
    "January February March April May June July August September October November December".split()
)
WEEKDAYS = tuple("Monday Tuesday Wednesday Thursday Friday Saturday Sunday".split())


@dataclass(frozen=True)
class Axis:
    """One axis of a breakdown: a column, with edges in rising order if it is in bands; or a part of
    the order's date.
    """

    column: str
    edges: tuple[Fraction, ...] = ()
    age: bool = False
    part: str = ""
    year_starts: int = 1
    """The month in which years and quarters begin."""

    @property
    def title(self) -> str:
        """The axis' heading: the column, the age, or the part of the date."""
        if self.part:
            return f"{self.part.replace('-', ' ')} of order"
        return f"age ({self.column})" if self.age else self.column

    @property
    def columns(self) -> list[str]:
        """The columns that the axis reads: one, or none for a part of the order's date."""
        return [] if self.part and self.part != "hour" else [self.column]

    @property
    def ordered(self) -> bool:
        """True if its names have a natural order, like bands and months."""
        return bool(self.edges or self.part)

    @property
    def bands(self) -> list[str]:
        """The names of the bands, lowest first; empty without edges."""
        if not self.edges:
            return []
        return self.named(all(edge.denominator == 1 for edge in self.edges))

    def tree(self, whole_numbers: bool) -> exp.Expr:
        """Return the name of each cell as a tree over the relation's columns."""
        if self.part and self.part != "hour":
            return _part_of_day(self.part, self.year_starts)
        cell = column(f"in {self.column}")
        if not self.edges:
            return sql("COALESCE(:c, :u)", c=cell, u=UNKNOWN)
        number = _age(cell) if self.age else sql("TRY_CAST(:c AS DOUBLE)", c=cell)
        names = self.named(whole_numbers)
        branches = [(sql(":n IS NULL", n=number), exp.Literal.string(UNKNOWN))]
        branches += [
            (sql(":n < :e", n=number, e=float(edge)), exp.Literal.string(name))
            for edge, name in zip(self.edges, names, strict=False)
        ]
        return case(branches, exp.Literal.string(names[-1]))

    def named(self, whole_numbers: bool) -> list[str]:
        """Return the bands' names for whole numbers (``30 to 39``), or for fractions (``30 to under
        40``).
        """
        if not self.edges:
            return []
        shown = [f"{float(e):g}" for e in self.edges]
        between = []
        for low, high in pairwise(self.edges):
            last = high - 1
            until = (
                f" to under {float(high):g}"
                if not whole_numbers
                else f" to {float(last):g}"
                if last > low
                else ""
            )
            between.append(f"{float(low):g}{until}")
        return [f"under {shown[0]}", *between, f"{shown[-1]} and over"]


def _part_of_day(part: str, year_starts: int) -> exp.Expr:
    """Return a part of the order's date as text. Weeks are named by their Monday, years that begin
    in April ``2026/27``.
    """
    day = sql("CAST(placed_on AS VARCHAR)")
    month = sql("SUBSTRING(:d, 6, 2)", d=day)
    match part:
        case "year":
            return _year(year_starts)
        case "month":
            return sql("SUBSTRING(:d, 1, 7)", d=day)
        case "week":
            return sql("CAST(:w AS VARCHAR)", w=_WEEK.start_of(column("placed_on")))
        case "quarter":
            quarter = {m: f" Q{(m - year_starts) % 12 // 3 + 1}" for m in range(1, 13)}
            tests = [
                (sql(":m = :n", m=month, n=f"{m:02}"), exp.Literal.string(quarter[m]))
                for m in range(1, 12)
            ]
            return sql(
                ":y || :q",
                y=exp.paren(_year(year_starts)),
                q=exp.paren(case(tests, exp.Literal.string(quarter[12]))),
            )
        case "calendar-month":
            named_ = [
                (sql(":m = :n", m=month, n=f"{i:02}"), exp.Literal.string(n))
                for i, n in enumerate(MONTHS, start=1)
            ]
            return case(named_[:-1], named_[-1][1])
    monday = _WEEK.start_of(column("placed_on"))
    after = [
        (sql("placed_on = :w + :n", w=monday, n=n), exp.Literal.string(WEEKDAYS[n]))
        for n in range(6)
    ]
    return case(after, exp.Literal.string(WEEKDAYS[6]))


_WEEK = Calendar("week")


def _year(year_starts: int) -> exp.Expr:
    if year_starts == 1:
        return sql("SUBSTRING(CAST(placed_on AS VARCHAR), 1, 4)")
    first = sql(
        "CAST(:d AS VARCHAR)", d=Calendar("year", year_starts).start_of(column("placed_on"))
    )
    year = sql("SUBSTRING(:f, 1, 4)", f=first)
    return sql(":y || '/' || SUBSTRING(CAST(CAST(:y AS INT) + 1 AS VARCHAR), 3, 2)", y=year)


def _age(born: exp.Expr) -> exp.Expr:
    """Return the completed years on the order's date. A birthday on 29 February falls on 1 March in
    other years.
    """
    day = sql("CAST(placed_on AS VARCHAR)")
    years = sql(
        "CAST(SUBSTRING(:d, 1, 4) AS INT) - CAST(SUBSTRING(:b, 1, 4) AS INT)", d=day, b=born
    )
    before = sql(
        "CASE WHEN SUBSTRING(:d, 6, 5) < SUBSTRING(:b, 6, 5) THEN 1 ELSE 0 END", d=day, b=born
    )
    age = sql("(:y) - (:b)", y=years, b=before)
    return sql(
        "CASE WHEN TRY_CAST(SUBSTRING(:b, 1, 10) AS DATE) IS NOT NULL AND :b <= :d AND :a <= "
        ":most THEN :a END",
        b=born, d=day, a=exp.paren(age), most=OLDEST,
    )  # fmt: skip


def parsed_axis(text: str) -> Axis:
    """Parse ``channel``, ``spend:50,100``, ``age(birth_date):30,40,50`` or ``weekday(placed)``.

    Raises UsageError if edges are not rising numbers, age has none, or a date has no such part.
    """
    if of_day := re.fullmatch(r"\s*([\w-]+)\(\s*placed\s*\)(:.*)?", text):
        return _parsed_part(text, of_day[1], bool(of_day[2]))
    name, colon, edges = text.rpartition(":")
    if not colon or not re.fullmatch(r"[\d.,\s-]+", edges):
        name, edges = text, ""
    aged = re.fullmatch(r"age\((.+)\)", name.strip())
    try:
        cuts = tuple(Fraction(e.strip()) for e in edges.split(",")) if edges else ()
    except ValueError:
        raise UsageError(
            f"{text!r}: bands are numbers with commas between, as in spend:50,100,200."
        ) from None
    if list(cuts) != sorted(set(cuts)):
        raise UsageError(f"{text!r}: the edges of bands must rise.")
    if aged and not cuts:
        raise UsageError(f"{text!r}: age needs bands, as in age({aged[1]}):30,40,50.")
    return Axis(aged[1].strip() if aged else name.strip(), cuts, bool(aged))


def _parsed_part(text: str, part: str, banded: bool) -> Axis:
    if part not in PARTS:
        raise UsageError(f"{text!r}: a date has no part {part!r}. {nearest(part, PARTS)}")
    if banded:
        raise UsageError(
            f"{text!r}: parts of a date have no bands; remove the colon and what follows it."
        )
    return Axis(HOUR if part == "hour" else "", part=part)


def in_natural_order(names: Sequence[str], bands: Sequence[str]) -> list[str]:
    """Sort bands from low to high; other names by number if all are numbers, else by name;
    ``mixed`` and ``unknown`` last.
    """
    special = {MIXED: 1, UNKNOWN: 2}
    plain = [n for n in names if n not in special]
    if bands:
        ordered = [b for b in bands if b in plain]
    elif all(re.fullmatch(r"-?\d+(\.\d+)?", n) for n in plain):
        ordered = sorted(plain, key=lambda n: (float(n), n))
    else:
        ordered = sorted(plain, key=lambda n: (_natural(n), n))
    return ordered + sorted((n for n in names if n in special), key=lambda n: special[n])


_ORDERED = tuple([name.casefold() for name in names] for names in (MONTHS, WEEKDAYS))


def _natural(name: str) -> tuple[int, str]:
    """Return a sort key: months and weekdays in their order, other names alphabetically."""
    for names in _ORDERED:
        for place, full in enumerate(names):
            if name.casefold() in (full, full[:3]):
                return place, ""
    return 0, name

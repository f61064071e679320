"""Describe a sample of each column's cells, regardless of names: ids, dates, numbers, addresses."""

import re
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import pyarrow as pa
from sqlglot import exp

from fairladder.orders.calendars import months_in
from fairladder.orders.numbers_in_text import NUMBER
from fairladder.orders.source import Source
from fairladder.sqltree import cell_column, named, select, sql

SAMPLE_ROWS = 5000
_TIME = r"([T ,]+\d{1,2}[:.]\d{2}.*)?"
_DATE = re.compile(
    r"^(\d{4}-\d{1,2}-\d{1,2}|\d{1,2} *[./-] *\d{1,2} *[./-] *\d{2,4}\.?(?: ?г\.?)?|\d{4} *[./年년] *\d{1,2} *[./月월] *\d{1,2} *[.日일]?"
    rf"|\d{{1,2}} \d{{1,2}} \d{{4}}){_TIME}$"
)
_NAMED = re.compile(r"(?=.*\d)(?=.*[^\W\d_]{3,})(?=.*(\d{4}|\d{1,2}\D+\d{2}\b))")
_FRACTION = re.compile(r"[.,]\d{1,2}(\D|$)")
_WHOLE = re.compile(r"\d{5,13}")
#: Whole numbers that can be dates: their format, and the range for 1990 to 2060.
_STAMPS = (
    ("spreadsheet-days", 5, 32874, 58805), ("%Y%m%d", 8, 19900101, 20601231),
    ("epoch-seconds", 10, 1_000_000_000, 2_840_140_800),
    ("epoch-milliseconds", 13, 1_000_000_000_000, 2_840_140_800_000),
)  # fmt: skip


@dataclass(frozen=True)
class Look:
    """Statistics of a sample of a column's cells; shares are of the non-blank cells."""

    cells: int
    distinct: int
    dates: float
    numbers: float
    fractions: float
    digits: float
    """Share of the cells that contain a digit, as ids do."""
    addresses: float
    """Share of e-mail addresses."""
    stamp: str = ""
    """The date format of whole numbers that can be dates, if all cells are such numbers."""
    records: bool = False
    """True if cells contain lists or objects, which cannot be ids."""


@dataclass(frozen=True)
class Sample:
    """Cells by column as text, blank ones None, from the first rows and others across the file; and
    the look of each column.
    """

    cells: Mapping[str, Sequence[str | None]]
    looks: Mapping[str, Look]
    first: int
    """Number of cells from the first rows."""

    def days_each(self, name: str, day: str) -> float:
        """Return the average number of different days on which a column's values occur: about 1 for
        orders, more for customers.
        """
        seen: dict[str, set[str]] = defaultdict(set)
        for value, when in zip(
            self.cells[name][: self.first], self.cells[day][: self.first], strict=True
        ):
            if value is not None and when is not None:
                seen[value].add(when[:10])
        return sum(map(len, seen.values())) / len(seen) if seen else 0.0


def sample_of(source: Source) -> Sample:
    """Sample the first rows of a source and, if it has more, as many others, independent of their
    order.
    """
    texts = [
        named(sql("NULLIF(TRIM(CAST(:c AS VARCHAR)), '')", c=cell_column(n)), f"c{i}")
        for i, n in enumerate(source.columns)
    ]
    table = source.engine.table(
        select(texts, select(["*"], source.relation).limit(SAMPLE_ROWS, copy=False), "sample")
    )
    first = table.num_rows
    if first == SAMPLE_ROWS and source.engine is source.engine.reader:
        whole = sql("HASH(:c)", c=exp.Tuple(expressions=[cell_column(n) for n in source.columns]))
        others = (
            select(["*"], source.relation)
            .order_by(whole, copy=False)
            .limit(SAMPLE_ROWS, copy=False)
        )
        table = pa.concat_tables([table, source.engine.table(select(texts, others, "others"))])
    cells = {name: table[f"c{i}"].to_pylist() for i, name in enumerate(source.columns)}
    return Sample(
        cells, {name: _look(cells[name], kind) for name, kind in source.columns.items()}, first
    )


def _look(cells: Sequence[str | None], kind: str) -> Look:
    known = [c for c in cells if c is not None]
    n = len(known) or 1

    def share(pattern: re.Pattern[str]) -> float:
        return sum(pattern.search(c) is not None for c in known) / n

    typed = kind in ("date", "timestamp", "instant")
    dates = 1.0 if typed else max(share(_DATE), _named_dates(known))
    numbers = 0.0 if dates > 0.8 else share(NUMBER)
    fractions = (
        sum(NUMBER.search(c) is not None and _FRACTION.search(c) is not None for c in known) / n
    )
    records = bool(known) and all(c[0] in "[{" for c in known)
    return Look(
        len(known), len(set(known)), dates, numbers, fractions, share(re.compile(r"\d")),
        share(re.compile(r"^\S+@\S+\.\S+$")),
        _stamp(known) if kind in ("text", "whole") else "", records,
    )  # fmt: skip


def _named_dates(known: Sequence[str]) -> float:
    """Return the share of cells with a month name among numbers, if the names are in one
    language.
    """
    some = [c for c in known[:400] if _NAMED.search(c) and len(c) < 40]
    if len(some) * 2 < min(len(known), 400) or months_in(some) is None:
        return 0.0
    return len(some) / min(len(known), 400)


def _stamp(known: Sequence[str]) -> str:
    if not known or not all(_WHOLE.fullmatch(c) for c in known):
        return ""
    for name, digits, low, high in _STAMPS:
        if all(len(c) == digits and low <= int(c) <= high for c in known) and len(set(known)) > 1:
            return name
    return ""

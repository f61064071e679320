"""Test that engines agree on single cells: random texts read as ids, dates, times and numbers in
all of them.
"""

import datetime as dt
import re

import pandas as pd
import pytest
from hypothesis import Phase, example, given, settings
from hypothesis import strategies as st

from conftest import DATABASES, in_database, times
from fairladder.days import PERIODS
from fairladder.engine.database import Database
from fairladder.engine.embedded import Embedded
from fairladder.history.periods import Calendar
from fairladder.orders import cells
from fairladder.orders.source import open_source
from fairladder.orders.writing import (
    DateStyle,
    day_at_once,
    day_in_style,
    plain_at_once,
    plain_number,
    sure_day,
)
from fairladder.scheme import DATE_ORDERS, OrdersPart
from fairladder.sqltree import column, named, select

digits = st.integers(0, 99).map(str)
two = st.integers(0, 61).map(lambda n: f"{n:02}")
year = st.sampled_from(["2024", "2025", "1999", "1900", "2000", "24"])
DATES = st.one_of(
    st.tuples(year, two, two).map("-".join),
    st.tuples(st.tuples(year, two, two).map("-".join), st.sampled_from([" ", "T", "  "]), two, two, st.sampled_from(["", ":00", ":30.5", ":61"]),
              st.sampled_from(["", "Z", "+02:00", "-0330", "+01"])).map(lambda p: f"{p[0]}{p[1]}{p[2]}:{p[3]}{p[4]}{p[5]}"),
    st.tuples(digits, st.sampled_from([".", "/", "-", " "]), digits, year).map(lambda p: f"{p[0]}{p[1]}{p[2]}{p[1]}{p[3]}"),
    st.tuples(st.integers(1, 31), st.sampled_from(["Jan", "Feb", "March", "Sept", "december", "Mai"]), year).map(lambda p: f"{p[0]} {p[1]} {p[2]}"),
    st.tuples(two, two, year, two, two, st.sampled_from(["", " PM", " am"])).map(lambda p: f"{p[0]}/{p[1]}/{p[2]} {p[3]}:{p[4]}{p[5]}"),
)  # fmt: skip
NUMBERS = st.one_of(
    st.decimals(-99999, 99999, places=3).map(str),
    st.sampled_from(["1,234.50", "1.234,50", "$ 12.5", "(3.00)", "2.00-", "EUR 3", "1 234", "−4", "1e3", "1_0", "12,", ".5", "5.", "--1", "",
                     "1,23,4", "£9", "9 €", "NaN", "inf", "0x1", "1e400", "+7", "7%", "12.345.678"]),
)  # fmt: skip
IDS = st.text(st.sampled_from("a B0\u00a0\t\u2003é~!'=-"), max_size=6)


def read_everywhere(tmp_path_factory, rows, trees, first=None):
    """Return the trees' values in the embedded engine and in each database, as plain texts, row by
    row.

    ``first`` are trees of a lower layer, whose names are then columns, as in the rows.
    """
    frame = pd.DataFrame(rows, columns=["n", "c"])
    answers = {}
    for kind in ["embedded", *DATABASES]:
        if kind == "embedded":
            engine = Embedded()
            relation = open_source(frame, engine, OrdersPart()).relation
        else:
            engine = Database(
                in_database(kind, frame, tmp_path_factory.mktemp("cells"), table="cells_read")
            )
            relation = engine.relation("cells_read", None)
            relation = engine.by_code_point(relation, engine.columns(relation))
        if first:
            relation = select(
                ["*", *(named(t, name) for name, t in first.items())], relation
            ).subquery("first", copy=False)
        query = select(
            [column("n"), *(named(t, name) for name, t in trees.items())], relation
        ).order_by(column("n"))
        answers[kind] = [
            {
                k: None if v is None else float(v) if k.startswith("number") else str(v)
                for k, v in row.items()
                if k != "n"
            }
            for row in engine.table(query).to_pylist()
        ]
    return answers


def agree(answers, rows):
    here = answers.pop("embedded")
    for kind, there in answers.items():
        for (_, cell), one, other in zip(rows, here, there, strict=True):
            assert one == other, (kind, cell)


CELL = column("c")
COMMON = {
    "max_examples": times(3),
    "deadline": None,
    "phases": [Phase.explicit, Phase.reuse, Phase.generate],
}


@settings(**COMMON)
@given(st.lists(DATES, min_size=1, max_size=25))
def test_engines_agree_on_dates_and_times_in_any_text(tmp_path_factory, dates):
    rows = list(enumerate(dates))
    trimmed = cells.text(CELL, "text")
    trees = {
        "iso": cells.day(trimmed, "text", None),
        "lisbon": cells.day(trimmed, "text", "Europe/Lisbon"),
        "tokyo": cells.day(trimmed, "text", "Asia/Tokyo"),
        "first": day_in_style(trimmed, DateStyle("day-first")),
        "month": day_in_style(trimmed, DateStyle("month-first")),
        "pattern": day_in_style(trimmed, DateStyle("%d.%m.%Y")),
        "moment": cells.moment(trimmed, cells.day(trimmed, "text", None), "text", None),
    }
    trees = {name: cells.sql("CAST(:t AS VARCHAR)", t=tree) for name, tree in trees.items()}
    agree(read_everywhere(tmp_path_factory, rows, trees), rows)


@settings(**{**COMMON, "max_examples": times(1)})
@given(st.lists(NUMBERS, min_size=10, max_size=40))
def test_engines_agree_on_numbers_in_any_text(tmp_path_factory, numbers):
    rows = list(enumerate(numbers))
    text = cells.text(CELL, "text")
    first = {
        "t": text,
        "comma": plain_number(text, ","),
        "point": plain_number(text, "."),
        "num": cells.number(CELL, "text"),
    }
    trees = {"number": column("num"), "of comma": cells.number(column("comma"), "text")}
    trees |= {name: column(name) for name in ("comma", "point")}
    trimmed, number = column("t"), column("num")
    for decimals in (2,):
        trees[f"minor {decimals}"] = cells.minor([number], None, [trimmed], decimals, "fraction")
        trees[f"product {decimals}"] = cells.minor(
            [number, number], None, [trimmed, trimmed, cells.sql("NULL")], decimals, "fraction"
        )
        for unit in ("fraction", "percent", "amount"):
            trees[f"less {unit}"] = cells.minor(
                [number, number], number, [trimmed] * 3, decimals, unit
            )
    agree(read_everywhere(tmp_path_factory, rows, trees, first), rows)


PADS = st.sampled_from(["", "", "", " ", "\u00a0", "\t", "    "])
WRITTEN = st.one_of(
    DATES,
    DATES.map(lambda d: d[:19]),
    DATES.map(lambda d: d[:16]),
    DATES.map(lambda d: d[1:]),
    NUMBERS,
)


@settings(**{**COMMON, "max_examples": times(10)})
@given(
    st.lists(st.tuples(PADS, WRITTEN, PADS).map("".join), min_size=100, max_size=300),
    st.sampled_from(["iso", *DATE_ORDERS]),
)
def test_shortcuts_agree_with_careful_reading(texts, style):
    """The embedded engine reads untrimmed cells in one step, with the same results."""
    engine = Embedded()
    relation = open_source(pd.DataFrame({"c": texts}), engine, OrdersPart()).relation
    trimmed = cells.text(CELL, "text")
    careful = cells.day(trimmed, "text", "Europe/Lisbon")
    if style != "iso":
        careful = cells.sql(
            "COALESCE(:iso, :styled)", iso=careful, styled=day_in_style(trimmed, DateStyle(style))
        )
    once = day_at_once(CELL, [style, "iso"])
    plain = {mark: plain_number(trimmed, mark) for mark in (",", ".")}
    trees = {
        "at once": cells.sql("CASE WHEN :sure THEN :d END", sure=sure_day(once), d=once),
        "careful": careful,
        "number at once": cells.number_of_cast(
            cells.cast_number(CELL), CELL, cells.number(CELL, "text")
        ),
        "number": cells.number(CELL, "text"),
        **{
            f"plain {mark} at once": plain_at_once(CELL, mark, tree) for mark, tree in plain.items()
        },
        **{f"plain {mark}": tree for mark, tree in plain.items()},
    }
    read = engine.table(
        select([column("c"), *(named(t, name) for name, t in trees.items())], relation)
    ).to_pylist()
    for row in read:
        assert row["at once"] in (None, row["careful"]), row
        for name in ("number", "plain ,", "plain ."):
            assert row[f"{name} at once"] == row[name], row


@settings(**COMMON)
@given(st.lists(IDS, min_size=1, max_size=25))
@example(["'=1+1", "'+49", "'-7 a", "'@b", "'\tc ", "'\t", "''=", "'t Hart", " '=d", "'"])
def test_engines_agree_on_ids_in_any_text(tmp_path_factory, ids):
    rows = list(enumerate(ids))
    blank = cells.sql("CASE WHEN :b THEN 'y' ELSE 'n' END", b=cells.blank(CELL, "text"))
    answers = read_everywhere(
        tmp_path_factory, rows, {"id": cells.text(CELL, "text"), "blank": blank}
    )
    plain = [re.sub(r"^'(?=[=+\-@\t\r])", "", c).strip() or None for c in ids]
    for one, cell in zip(answers["embedded"], plain, strict=True):
        assert one == {"id": cell, "blank": "n" if cell else "y"}
    agree(answers, rows)


@pytest.mark.parametrize(
    "text",
    [
        "2026-06-30 14:05:09",
        "30.06.2026 2:05 PM",
        "2026-06-30T14:05:09.250",
        "30/06/2026, 14:05",
        "2026-06-30",
    ],
)
def test_timestamps_sort_by_time(text):
    engine = Embedded()
    day = cells.sql("DATE '2026-06-30'")
    trees = [
        named(
            cells.moment(
                cells.sql("CAST(:t AS VARCHAR)", t=cells.exp.Literal.string(t)), day, "text", None
            ),
            n,
        )
        for n, t in (("a", text), ("b", "2026-06-30 14:05:08"))
    ]
    row = engine.table(cells.exp.Select().select(*trees)).to_pylist()[0]
    later = {
        "2026-06-30 14:05:09": True,
        "30.06.2026 2:05 PM": False,
        "2026-06-30T14:05:09.250": True,
        "30/06/2026, 14:05": False,
        "2026-06-30": False,
    }
    assert (row["a"] > row["b"]) == later[text], row


@settings(max_examples=times(4), deadline=None)
@given(
    st.lists(st.dates(dt.date(1901, 1, 1), dt.date(2199, 12, 31)), min_size=1, max_size=12),
    st.integers(1, 12),
)
def test_engines_agree_on_period_starts(tmp_path_factory, days, year_starts):
    """The tree in each engine compared with Python; the first day is in its own period, the next
    period begins after the day.
    """
    rows = list(enumerate(map(str, days)))
    calendars = {period: Calendar(period, year_starts) for period in PERIODS}
    trees = {p: c.start_of(cells.sql("CAST(c AS DATE)")) for p, c in calendars.items()}
    wanted = [{p: str(c.floor(day)) for p, c in calendars.items()} for day in days]
    for read in read_everywhere(tmp_path_factory, rows, trees).values():
        assert read == wanted
    for calendar in calendars.values():
        for day in days:
            first = calendar.floor(day)
            one, following = calendar.starts(day, day + dt.timedelta(days=370))[:2]
            assert one.date() == first == calendar.floor(first) <= day < following.date()
            assert calendar.ordinal_of(following.date()) - calendar.ordinal_of(day) == 1
            assert calendar.floor(following.date() - dt.timedelta(days=1)) == first

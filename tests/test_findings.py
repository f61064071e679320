"""Every finding of `check` on rows made to show it: count, effect, examples, and silence where there is nothing."""

import datetime as dt

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import fairladder as fl
from fairladder.ladder import ties_at_cuts

START = dt.date(2024, 1, 1)


def frame_of(lines, columns=("customer", "order", "placed", "amount")):
    return pd.DataFrame(lines, columns=list(columns))


def calm():
    """Two hundred orders of forty customers, over more than a year, nothing odd about them."""
    return [(f"c{i % 40:02d}", f"o{i}", START + dt.timedelta(days=3 * i), 10 + i % 7 + i / 100) for i in range(200)]


def found(lines, columns=("customer", "order", "placed", "amount"), **settings):
    check = fl.open_orders(frame_of(lines, columns), scheme=settings or None, allow_set_aside=True).check()
    return {f.code: f for f in check.findings if f.code != "ties-at-cuts"}


def test_calm_orders_have_no_findings():
    assert found(calm()) == {}


@pytest.mark.parametrize(
    ("extra", "code", "count", "effect", "example"),
    [
        ([("c01", "x", START, 5), ("c01", "x", START, 5), ("c01", "x", START, 5), ("c01", "x", START, 2)], "duplicate-rows", 2, "add 10.00 to spend", "rows 201 and 203"),
        ([("c01", "o2", START, 5)], "shared-order", 1, "count as 2 orders (17.02)", "order o2 from row 3"),
        ([("c01", "new", dt.date(2999, 1, 1), 5)], "after-today", 1, "with 5.00", "row 201, 2999-01-01"),
        ([("c01", "x", START, 5.125), ("c02", "x2", START, 5.124)], "excess-decimals", 2, "in all by 0.00", "row 201"),
        ([("C01", "x", START, 5), (" c0 1", "y", START, 7)], "id-near-twins", 1, "the rarer ones hold 2 orders and 12.00 of spend", "`C01` and `c0 1` and `c01`"),
        ([("c01", "x", START, -4)], "refunds", 1, "of 1 customers", "c01"),
        ([("c01", "x", START, 0)], "zero-orders", 1, "do not count as purchases", "c01"),
        ([("big", "x", START, 10**6)], "one-customer-dominates", 1, "100 % of all spend is one customer's", "big"),
    ],
)  # fmt: skip
def test_one_thing_wrong_gives_one_finding(extra, code, count, effect, example):
    told = found([*calm(), *extra], time={"as_of": dt.date(2026, 1, 1)})
    assert set(told) == {code}
    assert told[code].count == count
    assert effect in told[code].effect
    assert example in told[code].examples
    assert told[code].level in ("warning", "note")


def test_totals_joined_onto_lines_are_noticed():
    """Three orders of three lines each repeat 30.00: spend is 3 × 60.00 too high; one honest order does not hide it."""
    lines = [
        *calm(),
        *((f"c{o}", f"x{o}", START, 30) for o in range(3) for _ in range(3)),
        ("c01", "z", START, 1),
        ("c01", "z", START, 2),
    ]
    told = found([(*line, i) for i, line in enumerate(lines)], ("customer", "order", "placed", "amount", "line"))
    assert set(told) == {"repeated-total"}
    assert "of 4 orders with several rows repeat one amount" in told["repeated-total"].effect
    assert "spend is 180.00 too high" in told["repeated-total"].effect
    assert told["repeated-total"].examples[0] == "order x0 from row 201"


def test_windows_that_cut_orders_are_noticed():
    lines = [*calm(), ("c01", "o1", START + dt.timedelta(days=300), 8)]
    told = found(lines, time={"through": START + dt.timedelta(days=200)})
    assert set(told) == {"straddling-orders"}
    assert (
        told["straddling-orders"].effect == "orders have rows on both sides of the window; 1 rows with 8.00 are outside"
    )


def test_names_and_short_history():
    lines = [("1", "a", START, 1, "Ann"), ("2", "b", START, 2, "Ann"), ("3", "c", START + dt.timedelta(9), 3, "Bo")]
    told = found(lines, ("customer", "order", "placed", "amount", "name"))
    assert set(told) == {"name-twins", "short-history", "one-customer-dominates"}
    assert told["name-twins"].examples == ("Ann: 1, 2",)
    assert (told["name-twins"].effect, told["short-history"].count) == (
        "names belong to several ids: 2 customers with 2 orders and 3.00 of spend",
        9,
    )


def test_spreadsheet_days_get_a_hint():
    lines = [(c, o, str(d), a) for c, o, d, a in calm()]
    told = found([*lines, ("c01", "x", "45123", 5)])
    assert told["reading"].examples == ("row 201, 45123",)
    assert "spreadsheet-days" in told["reading"].advice


@given(st.lists(st.integers(0, 6), max_size=40), st.integers(2, 6))
def test_ties_at_cuts_counts_the_smaller_sides(values, rungs):
    """Against numbering off row by row: for each cut through a run of equals, the members on its smaller side."""
    ranked = np.sort(values)
    parts = [len(part) for part in np.array_split(ranked, rungs)]
    ends = np.cumsum(parts)[:-1]
    parted = 0
    for end in ends:
        if 0 < end < len(ranked) and ranked[end - 1] == ranked[end]:
            below = sum(v == ranked[end] for v in ranked[:end])
            parted += min(below, sum(v == ranked[end] for v in ranked) - below)
    assert ties_at_cuts(values, rungs) == parted

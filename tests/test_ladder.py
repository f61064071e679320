"""Test the ladder's laws, the best partition against trying all of them, percentiles and ranks."""

import contextlib
import itertools
import json
import sqlite3
from decimal import Decimal

import duckdb
import numpy as np
import pandas as pd
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import fairladder as fl
import fairladder.ladder.even as even
import fairladder.ladder.ladder as ladders
import reference

values_of = st.lists(
    st.one_of(st.integers(-3, 3), st.integers(0, 40), st.sampled_from([7, 7, 7, 12])),
    min_size=1,
    max_size=60,
)
better_of = st.sampled_from(["high", "low"])
method_of = st.sampled_from(["even", "inclusive", "exclusive", "inverse"])


@settings(max_examples=300, deadline=None)
@given(values=values_of, rungs=st.integers(2, 6), better=better_of, whole=st.sampled_from([512, 2]))
def test_even_ladder_is_the_best_partition(values, rungs, better, whole):
    """Sizes equal those of trying every partition, in both directions, and above the limit of
    exhaustive windows.
    """
    counts = np.unique(values, return_counts=True)[1]
    if len(counts) < rungs:
        return
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(even, "SEARCH_WHOLE", whole)  # if 2, the search is narrowed step by step
        ladder = fl.Ladder.fit(values, rungs=rungs, better=better)
    assert ladder.sizes == reference.most_even(counts if better == "high" else counts[::-1], rungs)
    turned = fl.Ladder.fit(
        -np.array(values), rungs=rungs, better="low" if better == "high" else "high"
    )
    assert turned.sizes == ladder.sizes
    assert list(turned.place(-np.array(values))) == list(ladder.place(values))


@settings(max_examples=300, deadline=None)
@given(
    values=values_of, rungs=st.integers(2, 6), better=better_of, method=method_of, others=values_of
)
@example(values=[5], rungs=4, better="low", method="even", others=[4, 5, 6])
def test_ladder_laws(values, rungs, better, method, others):
    """Equal values share a rung, better values never get a lower rung, sizes count the placed
    values, and saving changes nothing. Counting whole numbers gives the same ladder as sorting, and
    so do distinct values with frequencies.
    """
    ladder = fl.Ladder.fit(values, rungs=rungs, better=better, method=method)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(ladders, "MANY", 1)
        for kind in (np.int64, np.int8):
            counted = fl.Ladder.fit(
                np.array(values, kind), rungs=rungs, better=better, method=method
            )
            assert counted == ladder
            assert list(counted.place(np.array(others, kind))) == list(
                ladder.place([float(v) for v in others])
            )
    each, often = np.unique(values, return_counts=True)
    assert fl.Ladder.fit(each, rungs=rungs, better=better, method=method, counts=often) == ladder
    placed = ladder.place(values)
    assert [int((placed == rung).sum()) for rung in range(1, rungs + 1)] == list(ladder.sizes)
    everything = np.array(values + others)
    order = np.argsort(everything if better == "high" else -everything, kind="stable")
    assert np.all(np.diff(ladder.place(everything)[order]) >= 0)
    assert len({(v, r) for v, r in zip(everything, ladder.place(everything), strict=True)}) == len(
        set(everything)
    )
    again = fl.Ladder.from_dict(json.loads(json.dumps(ladder.to_dict())))
    assert again == ladder
    assert list(again.place(everything)) == list(ladder.place(everything))


@settings(max_examples=200, deadline=None)
@given(
    values=values_of,
    rungs=st.integers(2, 5),
    better=better_of,
    who=st.integers(0, 59),
    gain=st.integers(1, 20),
)
def test_improving_one_value_never_lowers_its_rung(values, rungs, better, who, gain):
    who %= len(values)
    before = fl.Ladder.fit(values, rungs=rungs, better=better).place(values)[who]
    moved = list(values)
    moved[who] += gain if better == "high" else -gain
    assert fl.Ladder.fit(moved, rungs=rungs, better=better).place(moved)[who] >= before


@pytest.mark.parametrize(
    ("counts", "rungs", "sizes"),
    [
        # 10 + 1 + 1 + 1 + 1 in 3: wanted 14/3 each. {10}{2}{2} deviates by 16/3, 8/3, 8/3; any
        # other by more.
        ([10, 1, 1, 1, 1], 3, (10, 2, 2)),
        # 1 1 1 in 2: {1}{2} and {2}{1} are equally good; the worst rung must be the smaller.
        ([1, 1, 1], 2, (1, 2)),
        # Two values on five rungs: the ends. Three: ends and middle. One: the middle.
        ([3, 4], 5, (3, 0, 0, 0, 4)),
        ([3, 4, 5], 5, (3, 0, 4, 0, 5)),
        ([9], 5, (0, 0, 9, 0, 0)),
        # Four on five: 1 + half up of 0, 4/3, 8/3, 4 → rungs 1, 2, 4, 5.
        ([1, 1, 1, 1], 5, (1, 1, 0, 1, 1)),
        # Three on four, on six: 1 + half up of 0, 3/2, 3 → rungs 1, 3, 4; of 0, 5/2, 5 → 1, 4, 6.
        ([2, 3, 4], 4, (2, 0, 3, 4)),
        ([2, 3, 4], 6, (2, 0, 0, 3, 0, 4)),
    ],
)
def test_even_ladder_worked_examples(counts, rungs, sizes):
    worst_first = np.repeat(np.arange(len(counts)), counts)
    assert fl.Ladder.fit(worst_first, rungs=rungs).sizes == sizes
    assert fl.Ladder.fit(-worst_first, rungs=rungs, better="low").sizes == sizes


def test_shares_give_exact_sizes():
    """70 %, 20 %, 10 % of 1..100: exactly 70, 20 and 10; with ties as close as possible."""
    ladder = fl.Ladder.fit(np.arange(1, 101), rungs=3, shares=["0.7", Decimal("0.2"), "0.1"])
    assert (ladder.sizes, ladder.cuts, ladder.size_deviation) == ((70, 20, 10), (70, 90), 0.0)
    tied = fl.Ladder.fit([1] * 75 + [2] * 20 + [3] * 5, rungs=3, shares=["0.7", "0.2", "0.1"])
    assert (tied.sizes, tied.size_deviation) == ((75, 20, 5), 0.05)


def test_inclusive_cuts_equal_spreadsheet_percentiles():
    """Four values 1, 2, 4, 9 in quarters: positions 0.75, 1.5, 2.25 → 1.75, 3, 5.25. A value at a
    cut belongs below.
    """
    ladder = fl.Ladder.fit([9, 4, 1, 2], rungs=4, method="inclusive")
    assert ladder.cuts == (1.75, 3, 5.25)
    assert list(ladder.place([1.75, 1.76, 3, 100, -100, np.nan])) == [1, 2, 2, 4, 1, 0]
    amounts = np.random.default_rng(3).integers(0, 10**6, 997) / 100
    for rungs in (3, 5, 10):
        wanted = np.percentile(amounts, [100 * j / rungs for j in range(1, rungs)])
        assert fl.Ladder.fit(amounts, rungs=rungs, method="inclusive").cuts == pytest.approx(wanted)
    assert fl.Ladder.fit([1, 1, 1, 1, 5], rungs=4, method="inclusive").empty == (2, 3)


@pytest.mark.parametrize("atom", [None, 0.0, 0.5, 1.0])
def test_large_even_ladder_cannot_be_improved_by_one_move(atom):
    """300,000 values, with and without one that makes up 60 %: moving any single cut does not
    improve it.
    """
    dice = np.random.default_rng(11)
    values = dice.random(300_000)
    if atom is not None:
        values[dice.random(len(values)) < 0.6] = atom
    ladder = fl.Ladder.fit(values, rungs=5)
    sizes, (_, counts) = np.array(ladder.sizes), np.unique(values, return_counts=True)
    ends, best = (
        np.searchsorted(np.cumsum(counts), np.cumsum(sizes)),
        (sizes.astype(object) ** 2).sum(),
    )
    for k, reach in itertools.product(range(4), (1, 2, 7, 40, 1000)):
        for end in (ends[k] - reach, ends[k] + reach):
            if 0 <= end < len(counts):
                moved = np.cumsum(counts)[np.sort(np.where(np.arange(5) == k, end, ends))]
                assert (np.diff(moved, prepend=0).astype(object) ** 2).sum() >= best


@pytest.mark.parametrize(
    ("method", "of_numpy"),
    [("exclusive", "weibull"), ("inverse", "inverted_cdf"), ("inclusive", "linear")],
)
@given(values=st.lists(st.integers(-50, 50), min_size=1, max_size=40), rungs=st.integers(2, 7))
def test_quantile_cuts_match_numpy(method, of_numpy, values, rungs):
    """Cuts of unused rungs at the ends are infinite."""
    ladder = fl.Ladder.fit(values, rungs=rungs, method=method)
    for j, cut in enumerate(ladder.cuts, start=1):
        if not np.isinf(cut):
            assert (
                cut == pytest.approx(np.quantile(values, j / rungs, method=of_numpy))
                or method == "inverse"
            )
            assert (
                method != "inverse"
                or (np.array(values) <= cut).sum() * rungs
                >= j * len(values)
                > (np.array(values) < cut).sum() * rungs
            )
    assert ladder.place([10**9]) == ladder.place([max(values)])
    assert ladder.place([-(10**9)]) == ladder.place([min(values)])


@settings(max_examples=100, deadline=None)
@given(
    values=values_of, rungs=st.integers(2, 6), better=better_of, method=method_of, others=values_of
)
def test_ladder_sql_equals_place(values, rungs, better, method, others):
    """The CASE in DuckDB and in SQLite gives the rungs of ``place``, also for unseen values, and
    NULL for NULL.
    """
    ladder = fl.Ladder.fit(np.array(values) / 4, rungs=rungs, better=better, method=method)
    arguments = [v / 4 for v in values + others] + [None]
    wanted = [*ladder.place(arguments[:-1]).tolist(), None]
    with (
        contextlib.closing(sqlite3.connect(":memory:")) as lite,
        contextlib.closing(duckdb.connect()) as duck,
    ):
        for dialect, engine in (("sqlite", lite), ("duckdb", duck)):
            engine.execute('CREATE TABLE t (i INTEGER, "my value" DOUBLE)')
            engine.executemany("INSERT INTO t VALUES (?, ?)", list(enumerate(arguments)))
            got = engine.execute(
                f"SELECT {ladder.to_sql('my value', dialect)} FROM t ORDER BY i"
            ).fetchall()
            assert [row[0] for row in got] == wanted


def test_ladder_sql_for_dates():
    ladder = fl.Ladder.fit(
        pd.to_datetime(["2026-01-01", "2026-02-01", "2026-03-01"]), rungs=3, better="low"
    )
    assert ladder.to_sql("first_order", "postgres") == (
        'CASE WHEN "first_order" IS NULL THEN NULL WHEN "first_order" <= CAST(\'2026-01-01\' AS DATE) THEN 3 '
        "WHEN \"first_order\" <= CAST('2026-02-01' AS DATE) THEN 2 ELSE 1 END"
    )


def test_fixed_cuts_are_kept():
    """Up to 100 is rung 1, up to 500 rung 2; no value is above 500 yet, and 501 will be rung 3."""
    ladder = fl.Ladder.fit([20, 100, 101, 500], method="fixed", cuts=[100, 500])
    assert (ladder.sizes, ladder.empty, ladder.place([501]).tolist()) == ((2, 2, 0), (3,), [3])
    days = fl.Ladder.fit(
        pd.to_datetime(["2026-01-31", "2026-02-01"]),
        method="fixed",
        better="low",
        cuts=["2026-01-31"],
    )
    assert days.sizes == (1, 1)
    for wrong, message in (
        (
            {"cuts": [2, 1]},
            "Cuts must rise from one to the next (or stay equal), and these do not: [2, 1].",
        ),
        ({}, "`cuts` and the method `fixed` go together."),
    ):
        with pytest.raises(fl.UsageError) as caught:
            fl.Ladder.fit([1], method="fixed", **wrong)
        assert str(caught.value) == message


def test_ladder_of_dates_and_nulls():
    days = pd.Series(pd.to_datetime(["2026-01-01", "2026-02-01", None, "2026-03-01"]))
    ladder = fl.Ladder.fit(days, rungs=3, better="low")
    assert ladder.place(days).tolist() == [3, 2, 0, 1]
    assert ladder.to_dict()["cuts"] == ["2026-01-01", "2026-02-01"]
    assert fl.Ladder.from_dict(ladder.to_dict()) == ladder
    assert fl.Ladder.fit(pd.array([None, 1, 2], dtype="Int64"), rungs=2).sizes == (1, 1)
    assert fl.Ladder.fit([], rungs=3).place([1.0]).tolist() == [1]


@pytest.mark.parametrize(
    ("call", "message"),
    [
        (
            lambda: fl.Ladder.fit([1], method="quantile"),
            "There is no ladder method 'quantile'; choose from even, inclusive, exclusive, inverse, fixed.",
        ),
        (lambda: fl.Ladder.fit([1], rungs=1), "A ladder has 2 to 100 rungs, not 1."),
        (lambda: fl.Ladder.fit(["a"]), "A ladder needs numbers or days, not <U1."),
        (lambda: fl.Ladder.fit([1], better="up"), "`better` must be high or low, not 'up'."),
        (
            lambda: fl.Ladder.fit([1], rungs=2, shares=[0.5, 0.4]),
            "Shares must be 2 positive numbers that add up to 1, not [0.5, 0.4].",
        ),
    ],
)
def test_wrong_ladder_arguments_get_advice(call, message):
    with pytest.raises(fl.UsageError) as caught:
        call()
    assert str(caught.value) == message


def test_percentile_and_percent_rank():
    """1, 5, 5, 9: counts worse 0, 1, 1, 3 and equal 1, 2, 2, 1 of 4."""
    assert fl.percentile([1, 5, 5, 9, np.nan]).tolist()[:4] == [12.5, 50.0, 50.0, 87.5]
    assert fl.percent_rank([1, 5, 5, 9]).tolist() == [0, 1 / 3, 1 / 3, 1]
    assert fl.percentile([1, 5, 5, 9], better="low").tolist() == [87.5, 50, 50, 12.5]
    assert (fl.percentile([3]).tolist(), fl.percent_rank([3]).tolist()) == ([50.0], [0.0])
    assert np.isnan(fl.percentile([1, np.nan])[1])

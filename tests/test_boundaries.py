"""Worked examples at the boundaries: first and last days, orders of zero, ties, and both ends of a
range.
"""

import datetime as dt
from types import SimpleNamespace

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import fairladder as fl
from conftest import in_database, needs_mariadb
from fairladder.history.ledger import ledger_listing, sums_of_ledger
from fairladder.orders.guess import _is_like_quantity
from fairladder.report import contents, customers, figures
from fairladder.value.season import YEAR, season_of

DAY = dt.date(2026, 3, 10)


def opened(rows, **scheme):
    """Open orders given as ``customer, order, placed, amount, channel``."""
    frame = pd.DataFrame(rows, columns=["customer", "order", "placed", "amount", "channel"])
    frame["placed"] = pd.to_datetime(frame["placed"])
    return fl.open_orders(frame, scheme=scheme)


def test_breakdown_includes_first_and_last_day():
    days = [DAY + dt.timedelta(days=n) for n in (-1, 0, 5, 6)]
    rows = [(f"c{i}", f"o{i}", day, 10.0 * (i + 1), "web") for i, day in enumerate(days)]
    orders = opened(rows, time={"from": DAY, "as_of": DAY + dt.timedelta(days=5)})
    assert orders.breakdown("channel").frame["spend"].tolist()[0] == 20.0 + 30.0


def test_breakdown_with_too_many_names_breaks_ties_by_name():
    """Four channels; z and a have equal spend, so with three rows a is shown and the others are
    combined.
    """
    rows = [
        ("c", f"o{i}", DAY, spend, name)
        for i, (spend, name) in enumerate([(9, "m"), (5, "z"), (5, "a"), (1, "q")])
    ]
    shown = opened(rows).breakdown("channel", most=3).frame
    assert set(shown.iloc[:3, 0].astype(str)) == {"m", "a", "the rest"}


@pytest.mark.parametrize(("amount", "responses"), [(0.0, 0), (0.01, 1), (-5.0, 0)])
def test_order_of_zero_is_not_a_response(amount, responses):
    listed = pd.DataFrame({
        "customer": ["a", "b"], "group": ["contact", "holdout"], "listed_on": pd.Timestamp(DAY), "segment": "s",
    })  # fmt: skip
    after = DAY + dt.timedelta(days=1)
    measured = fl.lift(
        listed,
        opened(
            [
                ("a", "1", DAY, 5, "web"),
                ("a", "2", after, amount, "web"),
                ("b", "3", after, 1, "web"),
            ]
        ),
    )
    assert measured.frame.iloc[0]["bought_contacted"] == responses


@pytest.mark.parametrize("last", [0, 1])
def test_kept_files_end_at_the_earlier_of_as_of_and_last_day(tmp_path, last):
    """A file with rows after the range's last day is read again, even if the as-of date is later."""
    lines = [f"a,{n},{DAY + dt.timedelta(days=n)},{10**n}" for n in range(2 + last)]
    (tmp_path / "o.csv").write_text("\n".join(["customer,order,placed,amount", *lines]))
    time = {"through": DAY + dt.timedelta(days=1), "as_of": DAY + dt.timedelta(days=9)}
    for _ in range(2):
        kept = fl.open_orders(
            tmp_path / "o.csv", scheme={"time": time, "orders": {"kept_in": str(tmp_path / "kept")}}
        )
        assert kept.customers()["spend"].tolist() == [11.0]


def test_first_scheme_excludes_void_statuses(tmp_path, fairladder):
    states = ["paid"] * 30 + ["cancelled"] * 4
    lines = [f"c{i % 9},{i},2026-01-{i % 28 + 1:02},10,{state}" for i, state in enumerate(states)]
    (tmp_path / "o.csv").write_text("\n".join(["customer,order,placed,amount,status", *lines]))
    assert fairladder("start", tmp_path / "o.csv", cwd=tmp_path).returncode == 0
    (line,) = [
        text for text in (tmp_path / "scheme.toml").read_text().splitlines() if "where = " in text
    ]
    assert "'cancelled'" in line
    assert "'paid'" not in line


def test_concentration_counts_largest_spenders_first():
    """Of ten customers one spent 91 and each other 1: the first fifth, two of them, account for 92
    of 100.
    """
    about = SimpleNamespace(customers=pd.DataFrame({"orders": 1, "spend": [1.0] * 9 + [91.0]}))
    drawn = figures.concentration(about)
    assert drawn.finding == "The first fifth of customers contribute 92.0 % of spend"


@pytest.mark.parametrize(
    ("days", "unit"),
    [(27, "day"), (28, "week"), (179, "week"), (180, "month"), (1599, "month"), (1600, "quarter")],
)
def test_report_period_depends_on_length_of_history(days, unit):
    people = pd.DataFrame(
        {"first_order": [pd.Timestamp(DAY), pd.Timestamp(DAY) + pd.Timedelta(days=9)]}
    )
    assert contents._unit_of(people, DAY + dt.timedelta(days=days)) == unit


@pytest.mark.parametrize(("days", "ago"), [(181, None), (182, 91), (455, 91), (456, 365)])
def test_report_comparison_day_has_history_before_it(days, ago):
    """91 days before the earlier day are enough: 182 = 91 + 91, 456 = 365 + 91."""
    people, as_of = (
        pd.DataFrame({"first_order": [pd.Timestamp(DAY)]}),
        DAY + dt.timedelta(days=days),
    )
    assert contents._ago(people, as_of) == (None if ago is None else as_of - dt.timedelta(days=ago))


@pytest.mark.parametrize(("most", "shown"), [(1, 1), (2, 1), (3, 3), (4, 4)])
def test_page_limit_excludes_all_tied_customers(monkeypatch, most, shown):
    monkeypatch.setattr(customers, "MOST_ON_PAGE", most)
    about = SimpleNamespace(
        customers=pd.DataFrame({"customer": list("abcd"), "spend": [3.0, 2.0, 2.0, 1.0]})
    )
    assert len(customers.shown(about)) == shown


def test_month_strip_includes_last_month():
    """Orders from December to March as of the 10th of March: four months."""
    strips = pd.DataFrame(
        {
            "customer": ["a", "a"],
            "month": pd.to_datetime(["2025-12-01", "2026-03-01"]),
            "orders": [1, 2],
        }
    )
    made = customers._strips(
        SimpleNamespace(strips=strips, as_of=DAY), pd.DataFrame({"customer": ["a"]})
    )
    assert made[0].extra == {"first": 2025 * 12 + 11, "months": 4}


def test_what_if_change_is_within_its_range():
    orders = fl.sample_orders()
    output = fl.what_if(
        fl.value_formula(orders), fl.value_forecast(orders, method="naive"), retention=0.05
    ).frame
    for row in output.dropna().itertuples():
        assert row.change_low <= row.value_change <= row.change_high
        assert row.value_then == pytest.approx(row.value_now + row.value_change)


@pytest.mark.parametrize(("weeks", "known"), [(103, False), (104, True)])
def test_season_needs_two_years_and_is_centred_on_weeks(weeks, known):
    """If weekly orders follow a sine wave, the season of a day equals the wave on that day, without
    a shift of some days.
    """
    begins = np.arange(weeks) * 7
    wave = 0.5 * np.cos(2 * np.pi / YEAR * (begins + 3.5))
    season = season_of(
        begins, np.round(10_000 * np.exp(wave)), np.full(weeks, 10_000.0), tried=(0, 1)
    )
    assert (season is not None) == known
    if season is not None:
        assert season.weights == pytest.approx([0.5, 0.0], abs=0.002)


@needs_mariadb
def test_timestamp_with_offset_is_the_utc_day_in_mariadb(tmp_path):
    frame = pd.DataFrame({
        "customer": ["a", "b"], "order": ["1", "2"], "amount": ["1", "2"],
        "placed": ["2026-03-10T01:00:00+02:00", "2026-03-10T23:00:00-02:00"],
    })  # fmt: skip
    there = fl.open_orders(
        in_database("mariadb", frame, tmp_path),
        scheme={"orders": {"table": "orders"}, "time": {"time_zone": "UTC"}},
    )
    assert there.customers()["last_order"].astype(str).tolist() == ["2026-03-09", "2026-03-11"]


@pytest.mark.parametrize(
    ("name", "cells", "like"),
    [("n", ["1", "2"], True), ("n", ["1", "1.0"], False), ("n", ["0", "1"], False), ("n", ["1000", "2"], False),
     ("n", ["2", None], True), ("n", [None], False), ("line", ["1", "2"], False), ("n", ["1.5", "2"], False)],
)  # fmt: skip
def test_small_whole_numbers_above_one_look_like_quantities(name, cells, like):
    assert _is_like_quantity(name, cells) is like


@pytest.mark.parametrize(
    ("rate", "read"), [("0", False), ("-1", False), ("0.0001", True), ("", False), ("x", False)]
)
def test_exchange_rate_must_be_positive(tmp_path, rate, read):
    (tmp_path / "rates.csv").write_text(f"currency,day,rate\nUSD,,{rate}\n")
    (tmp_path / "o.csv").write_text(
        "customer,order,placed,amount,currency\na,1,2026-01-01,20000,USD\n"
    )
    scheme = {
        "money": {"currency": "EUR", "rates": str(tmp_path / "rates.csv")},
        "orders": {"currency": "currency"},
    }
    if read:
        assert fl.open_orders(tmp_path / "o.csv", scheme=scheme).customers()["spend"].tolist() == [
            2.0
        ]
    else:
        with pytest.raises(fl.DataError, match="a positive number"):
            fl.open_orders(tmp_path / "o.csv", scheme=scheme)


@pytest.mark.parametrize(
    ("count", "ties", "listed"),
    [
        (1, "include", "a"),
        (2, "include", "abc"),
        (2, "exclude", "a"),
        (3, "exclude", "abc"),
        (4, "exclude", "abcd"),
    ],
)
@pytest.mark.parametrize("within", [None, "only_channel"])
def test_campaign_limit_treats_ties_together(count, ties, listed, within):
    """Spends of 9, 7, 7 and 4: two customers share the second of two places."""
    spends = zip("abcd", (9.0, 7.0, 7.0, 4.0), strict=True)
    orders = opened([(who, who, DAY, spend, "web") for who, spend in spends])
    for found in (
        orders.top(count=count, ties=ties, within=within),
        fl.top(orders.customers(), count=count, ties=ties),
    ):
        assert "".join(found["customer"]) == listed
        assert found["rank"].tolist() == [1, 2, 2, 4][: len(listed)]


def test_ledger_sums_purchases_repeats_and_refunds():
    rows = [
        ("a", "1", DAY, 5, "web"),
        ("a", "2", DAY, 6, "web"),
        ("a", "3", DAY, -1, "web"),
        ("b", "4", DAY, 0, "web"),
        ("b", "5", DAY, 2, "web"),
    ]
    assert sums_of_ledger(ledger_listing(opened(rows))) == (3, 1, 1)


def test_top_list_puts_nulls_last_in_both_directions(tmp_path, fairladder):
    """One order each for b and c, so their gap is null; the gap of a is 4 days and that of d 2, and
    less is better.
    """
    rows = [("a", 0), ("a", 4), ("b", 0), ("c", 1), ("d", 0), ("d", 2)]
    lines = [
        f"{who},{n},{DAY + dt.timedelta(days=day)},{n + 1}" for n, (who, day) in enumerate(rows)
    ]
    (tmp_path / "o.csv").write_text("\n".join(["customer,order,placed,amount", *lines]))
    for column, order in (("average_gap_days", "dabc"), ("orders", "adbc"), ("spend", "")):
        table = fairladder(
            "customers", tmp_path / "o.csv", "--sort", column, "--columns", "customer", "--quiet"
        ).stdout
        wanted = (
            order
            if column != "spend"
            else "".join(sorted("abcd", key=lambda c: -{"a": 3, "b": 3, "c": 4, "d": 11}[c]))
        )
        assert "".join(table.split()[1:]) == wanted, column
        people = fl.select(fl.open_orders(tmp_path / "o.csv").customers(), sort=column)
        assert "".join(people["customer"]) == wanted


def test_nan_in_typed_customers_file_is_null(tmp_path):
    members = pd.DataFrame(
        {
            "customer": ["a", "b", "c"],
            "weight": [1.5, np.nan, 2.0],
            "born": pd.to_datetime(["1990-01-01 10:00", None, "1991-01-01 00:00"]),
        }
    )
    members["children"] = pd.array([1, None, 2], dtype="Int64")
    table = pa.Table.from_pandas(members, preserve_index=False)
    weights = pa.array([1.5, float("nan"), 2.0])  # pandas would write a blank
    pq.write_table(table.set_column(1, "weight", weights), tmp_path / "m.parquet")
    (tmp_path / "o.csv").write_text(
        "customer,order,placed,amount\na,1,2026-01-01,5\nb,2,2026-01-01,6\n"
    )
    rules = [
        {"name": "blank", "when": "weight IS NULL", "stance": "grow"},
        {"name": "rest", "otherwise": True, "stance": "keep"},
    ]
    orders = fl.open_orders(
        tmp_path / "o.csv", customers=tmp_path / "m.parquet", scheme={"segments": rules}
    )
    assert orders.score()["segment"].tolist() == ["rest", "blank", "rest"]
    people = orders.customers()
    assert people["weight"].isna().tolist() == [False, True, False]
    fl.write(people[["customer", "weight", "born", "children"]], tmp_path / "c.csv")
    assert (
        tmp_path / "c.csv"
    ).read_text() == "customer,weight,born,children\na,1.5,1990-01-01,1\nb,,,\nc,2.0,1991-01-01,2\n"
    assert fl.select(people, when="weight IS NULL OR children > 1")["customer"].tolist() == [
        "b",
        "c",
    ]


def test_returned_customers_have_bought_since():
    """Both were in a win-back segment on the earlier day; one of them bought after it."""
    later = DAY + dt.timedelta(days=100)
    rows = [
        ("a", "1", DAY, 5, "web"),
        ("b", "2", DAY, 5, "web"),
        ("a", "3", later, 5, "web"),
        ("z", "4", later, 1, "web"),
    ]
    segments = [
        {"name": "late", "when": "orders > 0", "stance": "win-back"},
        {"name": "rest", "otherwise": True, "stance": "leave"},
    ]
    moved = opened(rows, segments=segments).compare(DAY + dt.timedelta(days=50), later)
    assert (moved.returned, moved.new) == (1, 1)


def test_exclude_removes_exactly_the_listed_ids(tmp_path):
    (tmp_path / "out.csv").write_text("customer\nb\nnobody\n")
    orders = opened([(who, who, DAY, 5.0, "web") for who in "abc"])
    made = fl.campaign(orders, when="orders > 0", exclude=[str(tmp_path / "out.csv")])
    assert made.frame["customer"].tolist() == ["a", "c"]
    assert made.funnel["removed"].tolist() == [0, 0, 1]


def test_percentile_of_changed_purchase_counts_ties_half():
    """Spends of 1 to 10: 8 of 10 are below the ninth, so (8 + 0.5) / 10 = 85 %; a tie with the
    ninth is (7 + 1) / 10.
    """
    segments = [
        {"name": "high", "when": "percentile >= 85", "stance": "keep"},
        {"name": "rest", "otherwise": True, "stance": "leave"},
    ]
    orders = opened(
        [(f"c{n}", f"o{n}", DAY, float(n), "web") for n in range(1, 11)], segments=segments
    )
    (why,) = fl.explain(orders, ["c1"])
    assert [change.by for change in why.changes if change.kind == "purchase"] == [801]

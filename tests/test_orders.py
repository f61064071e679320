"""Test reading orders: column kinds, dates and zones, currencies, the customers file, findings,
scheme errors.
"""

import datetime as dt
from decimal import Decimal
from fractions import Fraction

import duckdb
import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import fairladder as fl
import reference
from fairladder.numbers import ratio, standing, to_minor


def frame_of(**columns):
    n = len(next(iter(columns.values()), [0]))
    plain = {
        "customer": ["a"] * n,
        "order": list(range(n)),
        "placed": ["2026-01-01"] * n,
        "amount": [1] * n,
    }
    return pd.DataFrame(plain | columns)


@given(st.floats(-1e9, 1e9), st.integers(0, 4))
def test_floats_round_by_their_shortest_text(value, decimals):
    wanted = reference.half_away(Fraction(repr(value)) * 10**decimals)
    assert to_minor([value], decimals).tolist() == [wanted]
    half = float(
        Decimal(wanted * 10 + 5).scaleb(-decimals - 1)
    )  # the hardest: a decimal that ends in 5
    assert to_minor([half], decimals).tolist() == [
        reference.half_away(Fraction(repr(half)) * 10**decimals)
    ]


@given(st.lists(st.integers(-(10**17), 10**17), min_size=1), st.integers(1, 10**17))
def test_ratios_are_rounded_once_and_ranks_count(tops, bottom):
    assert ratio(tops, bottom).tolist() == [
        top / bottom for top in tops
    ]  # Python rounds a quotient of whole numbers once
    below, at_most = standing(np.array(tops))
    assert below.tolist() == [sum(other < top for other in tops) for top in tops]
    assert at_most.tolist() == [sum(other <= top for other in tops) for top in tops]


@pytest.mark.parametrize(
    ("type_", "cells", "spend"),
    [
        ("DECIMAL(9, 3)", "1.005, 2.675, -0.005", 368),  # 1.01 + 2.68 − 0.01
        ("DOUBLE", "1.005, 2.675, -0.005", 368),
        ("FLOAT", "1.005, 2.675, -0.005", 368),
        ("INTEGER", "3, -1, 7", 900),
        ("DECIMAL(38, 2)", "1.10, 2.20, 123456789012.34", 12345678901564),
        ("VARCHAR", "'1.005', '2.675', ' -0.005 '", 368),
        ("DOUBLE", "'NaN', 'inf', 2.5", 250),  # blank, unusable, usable
    ],
)
def test_amount_types_agree(tmp_path, type_, cells, spend):
    values = ", ".join(
        f"({i}, CAST({cell} AS {type_}))" for i, cell in enumerate(cells.split(", "))
    )
    path = tmp_path / "typed.parquet"
    duckdb.sql(
        f"COPY (SELECT 'a' AS customer, o AS \"order\", DATE '2026-01-01' AS placed, amount FROM (VALUES {values}) v(o, amount)) TO '{path}'"
    )
    orders = fl.open_orders(path, allow_set_aside=True)
    assert to_minor(orders.customers()["spend"], 2).tolist() == [spend]
    assert sum(orders.balance.amounts.values()) == spend


def test_dates_by_zone_and_as_written():
    """23:30 in Lisbon in summer is 22:30 UTC: the day as written without a zone, the business day
    with one.
    """
    frame = frame_of(
        placed=["2026-06-30T23:30:00+01:00", "2026-06-30T23:30:00Z", "2026-06-30 23:30"]
    )
    plain = fl.open_orders(frame)
    assert plain.customers(as_of="2026-07-31")["first_order"].dt.date.tolist() == [
        dt.date(2026, 6, 30)
    ]
    assert plain.customers(as_of="2026-07-31")["last_order"].dt.date.tolist() == [
        dt.date(2026, 6, 30)
    ]
    assert (
        "Some timestamps have an offset from UTC; the day is taken as written. Set `time_zone` to convert them."
        in plain.notes
    )
    tokyo = fl.open_orders(frame, scheme={"time": {"time_zone": "Asia/Tokyo"}})
    days = tokyo.customers(as_of="2026-07-31")
    assert days["last_order"].dt.date.tolist() == [dt.date(2026, 7, 1)]
    assert days["first_order"].dt.date.tolist() == [
        dt.date(2026, 6, 30)
    ]  # already local: no offset, no shift
    assert tokyo.customers(as_of="2026-06-30")["orders"].tolist() == [
        1
    ]  # the date range applies to the business day


def test_currencies_are_never_added_up():
    frame = frame_of(currency=["EUR", "GBP", "EUR"], amount=[1.5, 2.5, 4])
    with pytest.raises(
        fl.DataError, match=r"in several currencies \(EUR, GBP\), which must not be added up"
    ):
        fl.open_orders(frame).customers()
    assert [f.code for f in fl.open_orders(frame).check().errors] == ["mixed-currencies"]
    chosen = fl.open_orders(frame, scheme={"money": {"currency": "EUR"}}, allow_set_aside=True)
    assert chosen.customers()["spend"].tolist() == [5.5]
    assert chosen.check().set_aside[["row", "reason"]].to_numpy().tolist() == [
        [2, "other-currency"]
    ]
    assert chosen.balance.as_json()["by_currency"]["GBP"]["set_aside"] == "2.50"


def test_customers_file_is_joined_without_losing_rows(tmp_path):
    """Members without orders stay, customers missing in the file stay, other columns are kept,
    blank ids are set aside.
    """
    (tmp_path / "members.csv").write_text(
        "customer,name,born,size\na,Ann,1990-02-28,007\n b ,Bo,,12\n,Ann,,1\n"
    )
    frame = frame_of(
        customer=["a", "z", "a"],
        name=["Anna", "Zed", "Old Ann"],
        placed=["2026-02-01", "2026-01-01", "2026-01-31"],
    )
    orders = fl.open_orders(frame, customers=tmp_path / "members.csv")
    table = orders.customers()
    assert table["customer"].tolist() == ["a", "b", "z"]
    assert table["name"].tolist() == [
        "Ann",
        "Bo",
        "Zed",
    ]  # the file's name first, else the latest in the orders
    assert table["orders"].tolist() == [2, 0, 1]
    assert table["size"].tolist()[:2] == ["007", "12"]  # a leading zero: text
    assert table["born"].dt.year.tolist()[0] == 1990
    check = orders.check()
    assert check.set_aside[["row", "reason", "name"]].to_numpy().tolist() == [
        [4, "no-customer", "Ann"]
    ]
    assert {f.code: f.count for f in check.findings} == {
        "no-orders": 1, "unknown-customers": 1, "short-history": 31, "one-customer-dominates": 1,
    }  # fmt: skip
    assert "error" not in repr(check)
    assert fl.open_orders(frame).customers()["name"].tolist() == ["Anna", "Zed"]
    placed = fl.score(table)
    assert placed.set_index("customer")["segment"].to_dict()["b"] == "no-orders-yet"


def test_repeated_totals_count_once():
    """Each row repeats its order's total: 12.50 once, not twice; two totals for one order set its
    rows aside.
    """
    frame = frame_of(order=[1, 1, 2, 2, 3], amount=[12.5, 12.5, 4, 5, 7])
    orders = fl.open_orders(frame, scheme={"orders": {"amount_is": "order"}}, allow_set_aside=True)
    table = orders.customers()
    assert (table["orders"].tolist(), table["lines"].tolist(), table["spend"].tolist()) == (
        [2],
        [3],
        [19.5],
    )
    assert orders.set_aside["reason"].tolist() == ["conflicting-total"] * 2
    assert orders.balance.as_json()["amounts"]["used"] == "32.00"  # the rows' amounts, unchanged


def test_refunds_net_or_ignored():
    frame = frame_of(order=[1, 2, 2, 3, 4], amount=[20, 10, -4, -6, 0])
    net, ignored = (
        fl.open_orders(frame, scheme={"money": {"refunds": how}}).customers()
        for how in ("net", "ignore")
    )
    for table in (
        net,
        ignored,
    ):  # the return on slip 2 is netted in it; 3 is a refund order, 4 a zero order
        assert table[["orders", "refunds", "zero_orders", "lines"]].to_numpy().tolist() == [
            [2, 1, 1, 3]
        ]
        assert (table["smallest_order"].tolist(), table["largest_order"].tolist()) == (
            [6.0],
            [20.0],
        )
    assert (net["spend"].tolist(), ignored["spend"].tolist()) == ([20.0], [26.0])


@pytest.mark.parametrize(
    ("settings", "message"),
    [
        (
            {"orders": {"customr": "x"}},
            "the scheme: orders.customr: unknown key. Did you mean `customer`?",
        ),
        (
            {"orders": {"unit_price": "p"}},
            "the scheme: orders: `unit_price` and `quantity` go together",
        ),
        (
            {"money": {"decimals": "2"}},
            "the scheme: money.decimals: expected a valid integer, not '2'",
        ),
        (
            {"time": {"time_zone": "Lisbon"}},
            "the scheme: time.time_zone: no such time zone: 'Lisbon'; give an IANA name such as Europe/Lisbon",
        ),
        (
            {"segments": [{"name": "a", "stance": "keep"}]},
            'the scheme: segments[1]: give either `when = "condition"` or `otherwise = true`',
        ),
        ({"scores": {"weights": [1, 2]}}, "the scheme: scores.weights[3]: this key is missing"),
    ],
)
def test_scheme_errors_name_the_key(settings, message):
    with pytest.raises(fl.SchemeError) as caught:
        fl.open_orders(frame_of(), scheme=settings)
    assert str(caught.value) == message


def test_failed_write_keeps_the_old_file(tmp_path):
    target = tmp_path / "out.json"
    target.write_text("before")
    with pytest.raises(ValueError, match="JSON compliant"):
        fl.write(frame_of(), target, facts={"x": float("nan")})
    assert target.read_text() == "before"
    assert [p.name for p in tmp_path.iterdir()] == ["out.json"]


@pytest.mark.parametrize(
    ("orders", "message"),
    [
        (3, "Orders must be a path, a frame of pandas, Polars or Arrow, or a DuckDB relation, not int."),
        ("orders.doc", "'orders.doc': files ending in .doc are not read; use .csv, .tsv, .txt, .parquet, .json, .jsonl, .xlsx, .xls or .ods, "
         "text and JSON also with .gz or .zst, any of them alone in a .zip."),
        (pd.DataFrame({"customer": ["a"], "Customer": ["b"]}), "the DataFrame: the column name `Customer` occurs twice in the header. Rename one of them."),
        (pd.DataFrame({"who": ["a"], "amount": [1]}), "the DataFrame: no column is known for `customer` and `placed`. Name it under [orders] in "
         "the scheme or with --customer-column NAME --placed-column NAME. The columns are: `who`, `amount`."),
    ],
)  # fmt: skip
def test_unreadable_sources_are_refused(tmp_path, monkeypatch, orders, message):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "orders.doc").write_text("x")
    with pytest.raises(fl.FairLadderError) as caught:
        fl.open_orders(orders)
    assert str(caught.value) == message


def test_exchange_rates_apply_before_rounding(tmp_path):
    """3 × 0.335 GBP at 1.17 is 1.17585, so 1.18; at 1.16 from February on 1.1658, so 1.17. Unknown
    currencies are set aside.
    """
    (tmp_path / "rates.csv").write_text(
        "currency,day,rate\nGBP,2026-01-01,1.17\nGBP,2026-02-01,1.16\nCHF,,1.05\n"
    )
    (tmp_path / "scheme.toml").write_text('[money]\ncurrency = "EUR"\nrates = "rates.csv"\n')
    rows = [
        ("a", "GBP", "2026-01-31"),
        ("b", "GBP", "2026-02-01"),
        ("c", "EUR", "2026-01-01"),
        ("d", "CHF", "2020-01-01"),
        ("e", "GBP", "2025-12-31"),
        ("f", "USD", "2026-01-01"),
    ]
    frame = pd.DataFrame(rows, columns=["customer", "currency", "placed"]).assign(
        order=range(6), unit_price=0.335, quantity=3
    )
    orders = fl.open_orders(frame, scheme=tmp_path / "scheme.toml", allow_set_aside=True)
    assert dict(orders.customers()[["customer", "spend"]].to_numpy()) == {
        "a": 1.18,
        "b": 1.17,
        "c": 1.01,
        "d": 1.06,
    }
    assert orders.set_aside[["row", "reason"]].to_numpy().tolist() == [
        [5, "other-currency"],
        [6, "other-currency"],
    ]
    assert "mixed-currencies" not in {f.code for f in orders.check().findings}
    for text, message in (
        ("currency,rate\nGBP,1,2\n", "has 3 cells but the header has 2"),
        ("currency,rate\nGBP,x\n", "rates.csv, row 2: a rate needs a currency, a positive number"),
        (
            "currency,day,rate\nGBP,,1\nGBP,,2\n",
            "row 3: `GBP` already has a rate for all days. Keep one.",
        ),
        (
            "money,rate\nGBP,1\n",
            "rates need the columns `currency` and `rate` (and optionally `day`); `currency` is missing.",
        ),
    ):
        (tmp_path / "rates.csv").write_text(text)
        with pytest.raises(fl.DataError) as caught:
            fl.open_orders(frame, scheme=tmp_path / "scheme.toml")
        assert message in str(caught.value)

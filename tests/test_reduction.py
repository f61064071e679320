"""Test the reduction from order rows to customers: against the definitions in plain Python, and
plain SQL on the sample shop.
"""

import csv
import datetime as dt
import io
import random

import duckdb
import numpy as np
import pandas as pd
import pytest
from hypothesis import Phase, given, reject, settings
from hypothesis import strategies as st

import fairladder as fl
import reference
from conftest import DATABASES, in_database, times

AS_OF = dt.date(2026, 3, 31)
IDS = [
    "00412",
    " 00412",
    "412",
    "00412\u00a0",
    "a",
    "A",
    "b c",
    "",
    "  ",
    "Total",
    "sub-total :",
    "GRAND  TOTAL",
]
DAYS = [
    "2026-03-31T23:59:59",
    "2026-04-01",
    "2026-03-31",
    "2025-12-24 10:00:00",
    "2026-01-15",
    " 2026-01-15 ",
    "2024-02-29",
    "",
    "31.13.2026",
    "2026-02-30",
    "45000",
]
AMOUNTS = [
    "10.00",
    "0.005",
    "-0.005",
    "1.005",
    "2.675",
    "-10",
    "0",
    "19.99",
    " 7.5",
    "1000000",
    "",
    "ten",
    "NaN",
    "inf",
    "1_0",
]
CHANNELS = ["web", "web ", "post", ""]


def row_of(cells, priced):
    customer, order, placed, amount, channel, state, price, quantity, discount = cells
    row = {
        "customer": customer,
        "order": order,
        "placed": placed,
        "channel": channel,
        "state": state,
    }
    return row | (
        {"unit_price": price, "quantity": quantity, "discount": discount}
        if priced
        else {"amount": amount}
    )


rows_of = st.tuples(
    st.lists(
        st.tuples(
            st.sampled_from(IDS), st.sampled_from(["o1", "o2", " o2", "o3", "", "7"]), st.sampled_from(DAYS), st.sampled_from(AMOUNTS),
            st.sampled_from(CHANNELS), st.sampled_from(["ok", "ok", "void", ""]), st.sampled_from(["3.35", "0.15", "", "1.99951"]),
            st.sampled_from(["1", "3", "-1", "2.5", "x"]), st.sampled_from(["", "0.1", "15%", "1", "1.1", "0.333"]),
        ),
        min_size=1, max_size=30,
    ),
    st.booleans(),
)  # fmt: skip


def write_rows(path, rows):
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.DictWriter(file, list(rows[0]))
        writer.writeheader()
        writer.writerows(rows)
    return path


@settings(
    max_examples=times(9), deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate]
)  # too slow to shrink
@given(made=rows_of, grain=st.sampled_from(["line", "line", "order"]), refunds=st.sampled_from(["net", "ignore"]),
       decimals=st.integers(0, 3), start=st.sampled_from([None, None, dt.date(2025, 1, 1)]), where=st.booleans(),
       kind=st.sampled_from(["csv", "csv", "parquet", "frame", *DATABASES]), with_members=st.booleans())  # fmt: skip
def test_rows_and_customers_match_the_definitions(
    tmp_path_factory, made, grain, refunds, decimals, start, where, kind, with_members
):
    """States of all rows, the balance, and all columns of the customers table; shuffled rows give
    the same bytes.
    """
    cells, priced = made
    grain = "line" if priced else grain
    rows = [row_of(c, priced) for c in cells]
    folder = tmp_path_factory.mktemp("rows")
    path = write_rows(folder / "rows.csv", rows)
    source = path
    if kind != "csv":
        frame = pd.read_csv(path, dtype=str, keep_default_na=False)
        source = frame
        if kind == "parquet":
            source = folder / "rows.parquet"
            frame.to_parquet(source)
        elif kind != "frame":
            source = in_database(kind, frame, folder)
    members = ["zoe", "a"] if with_members else []
    customers = (
        write_rows(folder / "members.csv", [{"customer": m, "town": "Quillmoor"} for m in members])
        if members
        else None
    )
    scheme = fl.Scheme().with_options(
        orders={"amount_is": grain, "where": "state <> 'void'" if where else None, "table": "orders" if kind in DATABASES else None},
        money={"decimals": decimals, "refunds": refunds}, time={"as_of": AS_OF, "from": start},
    )  # fmt: skip

    def keep(row):
        return not where or row["state"].strip() not in ("void", "")

    found = reference.states(rows, decimals, AS_OF, start, grain, keep)
    try:
        orders = fl.open_orders(source, customers=customers, scheme=scheme, allow_set_aside=True)
    except fl.DataError as error:
        assert "can be a decimal mark or a thousands separator" in str(error)  # noqa: PT017  # rows that leave this open prove nothing here
        reject()
    check = orders.check()
    first = 2 if kind == "csv" else 1
    # A CSV reader may skip completely blank lines, so row numbers are compared only without any.
    aside = [(i + first, state) for i, (state, _) in enumerate(found) if state in reference.REASONS]
    assert list(zip(check.set_aside["row"], check.set_aside["reason"], strict=True)) == aside
    balance = check.balance
    output = [
        balance.rows_read,
        balance.used,
        balance.filtered_out,
        balance.outside_range,
        balance.set_aside,
    ]
    counts = pd.Series([state for state, _ in found]).value_counts()
    wanted = [counts.get(s, 0) for s in ("used", "filtered-out", "outside-window")]
    assert output == [len(rows) - counts.get("blank", 0), *wanted, len(aside)]
    assert sum(output[1:]) == output[0]
    assert sum(balance.amounts.values()) == sum(
        a for s, a in found if a is not None and s != "blank"
    )

    table = orders.customers()
    expected = reference.customers(rows, found, decimals, AS_OF, grain, refunds, members)
    assert list(table["customer"]) == sorted(expected)
    for one in table.to_dict("records"):
        for name, value in expected[one["customer"]].items():
            if name == "spend_minor" or (name == "only_channel" and name not in one):
                continue
            got = one[name].date() if isinstance(one[name], pd.Timestamp) else one[name]
            assert (None if pd.isna(got) else got) == value, (one["customer"], name)

    random.Random(len(rows)).shuffle(rows)
    if kind == "csv":
        again = fl.open_orders(
            write_rows(path, rows), customers=customers, scheme=scheme, allow_set_aside=True
        ).customers()
        assert written(again, folder) == written(table, folder)


@settings(
    max_examples=times(1), deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate]
)
@given(made=rows_of, kind=st.sampled_from(["csv", "parquet", "frame"]), refunds=st.sampled_from(["net", "ignore"]), where=st.booleans(),
       day=st.sampled_from([AS_OF, None]))  # fmt: skip
def test_shortcuts_give_the_same_results_for_messy_rows(
    tmp_path_factory, made, kind, refunds, where, day
):
    """Orders kept in the pass that gives the balance, customers from rows kept for the findings,
    findings after customers.
    """
    cells, priced = made
    rows = [row_of(c, priced) for c in cells]
    source = write_rows(tmp_path_factory.mktemp("rows") / "rows.csv", rows)
    if kind != "csv":
        frame = pd.read_csv(source, dtype=str, keep_default_na=False)
        source = frame
        if kind == "parquet":
            source = tmp_path_factory.mktemp("rows") / "rows.parquet"
            frame.to_parquet(source)
    scheme = fl.Scheme().with_options(
        orders={"where": "state <> 'void'" if where else None},
        money={"refunds": refunds},
        time={"as_of": day},
    )
    slow, *others = (
        fl.open_orders(source, scheme=scheme, allow_set_aside=True, keep=k)
        for k in (None, ["channel"], "orders", "rows")
    )
    check = slow.check()
    tables = (
        (["channel"], True, True),
        (None, False, True),
        (["channel"], False, False),
        ([], False, False),
    )

    def order_tables(orders):
        arguments = (
            orders.frame(orders.order_table(names, mixed=m, sequence=s)) for names, m, s in tables
        )
        return [frame.sort_values(["customer", "order"], ignore_index=True) for frame in arguments]

    wanted = order_tables(slow)
    for kept in others:
        for ours, theirs in zip(order_tables(kept), wanted, strict=True):
            pd.testing.assert_frame_equal(ours, theirs, check_dtype=False)
        assert (kept.balance, kept.as_of, kept.notes) == (slow.balance, slow.as_of, slow.notes)
        pd.testing.assert_frame_equal(kept.customers(), slow.customers())
        again = kept.check()
        assert again.findings == check.findings
        assert again.set_aside.equals(check.set_aside)
    last = slow.as_of or AS_OF  # if every row is set aside, there is no last day
    # one day whose rows have been read already, and one whose have not
    for day, arguments in ((last, [slow]), (last - dt.timedelta(days=40), [others[0], others[-1]])):
        fresh = fl.open_orders(
            source, scheme=scheme.with_options(time={"as_of": day}), allow_set_aside=True
        )
        customers, findings = fresh.customers(), fresh.check().findings
        for orders in arguments:
            pd.testing.assert_frame_equal(orders.on(day).customers(), customers)
            assert orders.on(day).check().findings == findings


def written(table, folder):
    fl.write(table, folder / "out.csv")
    return (folder / "out.csv").read_bytes()


PLAIN_SQL = r"""
WITH lines AS (
    SELECT trim(member_no) AS customer, slip, try_cast(sold_at AS TIMESTAMP)::DATE AS day,
           try_cast(line_total AS DECIMAL(12, 2)) AS amount, channel
    FROM read_csv('{orders}', all_varchar = true)
    WHERE state <> 'cancelled' AND lower(trim(member_no)) <> 'total'
), orders AS (
    SELECT customer, slip, sum(amount) AS amount, min(day) AS day, count(*) AS lines
    FROM lines WHERE customer IS NOT NULL AND day IS NOT NULL AND amount IS NOT NULL GROUP BY ALL
), customers AS (
    SELECT coalesce(o.customer, m.member_no) AS customer, any_value(full_name) AS name,
           count(*) FILTER (amount > 0) AS orders, count(*) FILTER (amount < 0) AS refunds, coalesce(sum(amount), 0) AS spend,
           max(day) FILTER (amount > 0) AS last_order, min(day) FILTER (amount > 0) AS first_order
    FROM orders o FULL JOIN read_csv('{members}', all_varchar = true) m ON m.member_no = o.customer GROUP BY 1
), measured AS (
    SELECT *, date_diff('day', last_order, DATE '2026-06-30') AS recency_days, rank() OVER (ORDER BY spend DESC) AS spend_rank,
           sign(spend) * ((abs(spend) * 200)::BIGINT + orders) // nullif(2 * orders, 0) / 100 AS average_order_value
    FROM customers
)
SELECT *, {scores} FROM measured ORDER BY customer
"""


def test_score_equals_plain_sql_on_the_sample_shop(shop, fairladder, tmp_path):
    """To the minor unit: ids, counts, dates, money, ranks, the three scores by the best cuts,
    segments.
    """
    done = fairladder(
        "score",
        shop / "orders.csv",
        "--scheme",
        shop / "scheme.toml",
        "--out",
        tmp_path / "scored.csv",
    )
    assert done.returncode == 0, done.stderr
    ours = pd.read_csv(tmp_path / "scored.csv", dtype=str, keep_default_na=False)
    files = {"orders": shop / "orders.csv", "members": shop / "members.csv"}
    plain = duckdb.sql(PLAIN_SQL.format(**files, scores="0 AS x")).df()
    cases = [case(plain, "recency_days", -1), case(plain, "orders", 1), case(plain, "spend", 1)]
    scored = duckdb.sql(PLAIN_SQL.format(**files, scores=", ".join(cases))).df()
    r, f, m = (scored[f"{name}_rung"].fillna(0) for name in ("recency_days", "orders", "spend"))
    segment = np.select(
        [(scored["orders"] == 0) & (scored["refunds"] == 0), (r >= 4) & (f >= 4) & (m >= 4),
         (r <= 2) & (f >= 4) & (m >= 4), (scored["orders"] == 1) & (r >= 4), r >= 4, (r == 3) & ((f >= 3) | (m >= 3)),
         (r == 2) & ((f >= 3) | (m >= 3)), scored["orders"] == 1],
        ["no-orders-yet", "mainstay", "drifting-mainstay", "fresh-face", "building", "dependable", "cooling", "one-and-gone"],
        "quiet",
    )  # fmt: skip
    scored["segment"] = segment
    scored = scored.rename(
        columns={
            "recency_days_rung": "recency_score",
            "orders_rung": "frequency_score",
            "spend_rung": "monetary_score",
        }
    )
    for name in [c for c in scored.columns if c in ours.columns]:
        theirs = [text(v, money=name in ("spend", "average_order_value")) for v in scored[name]]
        assert list(ours[name]) == theirs, name
    n = (scored["orders"] > 0).sum()
    bought = scored[scored["orders"] > 0]
    worse = [
        (bought["spend"] < s).sum() * 100 / n + (bought["spend"] == s).sum() * 50 / n
        for s in bought["spend"]
    ]
    assert pd.to_numeric(ours.loc[bought.index, "percentile"]).to_numpy() == pytest.approx(worse)


def text(value, money):
    if pd.isna(value):
        return ""
    if money:
        return f"{value:.2f}"
    if isinstance(value, pd.Timestamp):
        return value.date().isoformat()
    return str(int(value)) if isinstance(value, float) and value == int(value) else str(value)


def case(plain, measure, sign):
    """Return the rungs of a measure as SQL, from sizes found by trying every partition."""
    worst_first = (
        (plain.loc[plain["orders"] > 0, measure].astype(float) * sign).value_counts().sort_index()
    )
    sizes = reference.most_even(worst_first.tolist(), 5)
    values = np.repeat(worst_first.index, worst_first)
    cuts = [sign * values[end - 1] for end in np.cumsum(sizes)[:-1]]
    compare = "<=" if sign > 0 else ">="
    branches = " ".join(
        f"WHEN {measure} {compare} {cut:.2f} THEN {rung}" for rung, cut in enumerate(cuts, start=1)
    )
    return f"CASE WHEN orders > 0 THEN CASE {branches} ELSE 5 END END AS {measure}_rung"


def test_shuffled_orders_give_the_same_bytes(shop, process, tmp_path):
    lines = (shop / "orders.csv").read_text().splitlines(keepends=True)
    body = lines[1:]
    random.Random(5).shuffle(body)
    (tmp_path / "orders.csv").write_text("".join([lines[0], *body]))
    written = []
    for orders in (shop / "orders.csv", tmp_path / "orders.csv"):
        out = tmp_path / f"{orders.parent.name}.csv"
        done = process("score", orders, "--scheme", shop / "scheme.toml", "--out", out)
        assert done.returncode == 0, done.stderr
        written.append(out.read_bytes())
    assert written[0] == written[1]


def test_typed_columns_read_like_text():
    """Whole ids stay whole, floats count as their shortest text, instants get the business day, NaN
    is null.
    """
    frame = pd.DataFrame(
        {
            "customer": pd.array([7, 7, 8, None], dtype="Float64"),
            "order": [1, 2, 3, 4],
            "placed": pd.to_datetime(
                ["2026-06-29T23:30Z", "2026-06-30T21:30Z", "2026-06-30T22:30Z", "2026-06-30T22:30Z"]
            ),
            "amount": [1.005, 2.675, float("nan"), 5.0],
        }
    )
    scheme = {"time": {"time_zone": "Europe/Paris"}}
    orders = fl.open_orders(frame, scheme=scheme, allow_set_aside=True)
    table = orders.customers(as_of="2026-06-30")
    assert table["customer"].tolist() == ["7"]
    assert table["spend"].tolist() == [3.69]  # 1.01 and 2.68: half away from zero by decimal text
    assert table["first_order"].dt.date.tolist() == [dt.date(2026, 6, 30)]  # 01:30 in Paris
    aside = orders.on("2026-06-30").set_aside
    assert aside[["row", "reason"]].to_numpy().tolist() == [[3, "no-amount"], [4, "no-customer"]]
    assert str(frame.loc[0, "customer"]) == "7.0"  # and the frame is unchanged


def test_without_order_column_every_row_is_an_order():
    rows = io.StringIO("customer,placed,amount\nann,2026-01-01,5\nann,2026-01-01,6\n")
    orders = fl.open_orders(pd.read_csv(rows))
    assert orders.customers(as_of="2026-01-31")["orders"].tolist() == [2]
    assert any("every row counts as one order" in note for note in orders.notes)


@pytest.mark.parametrize("kind", ["csv", "frame", *DATABASES])
def test_money_off_is_exact(tmp_path, kind):
    """0.7 × 3 − 2.1 = 0; 10 × 2 − 1.005 = 18.995, which rounds to 19; 5 × −1 + 2 = −3; 2.675 − 0.67
    = 2.005, which rounds to 2.01; 1.005 with no discount rounds to 1.01.
    """
    lines = [
        ("A", "0.7", "3", "2.1"),
        ("A", "10", "2", "1.005"),
        ("B", "1.1", "3", ""),
        ("B", "5", "-1", "-2"),
        ("E", "2.675", "1", "0.67"),
        ("F", "1.005", "1", ""),
    ]
    wrong = [
        ("C", "5", "1", "6"),
        ("C", "5", "1", "-1"),
        ("C", "9", "1", "50%"),
        ("C", "9", "1", "x"),
        ("C", "5", "1", "5.005"),
    ]
    frame = pd.DataFrame(
        lines + wrong, columns=["customer", "unit_price", "quantity", "discount"]
    ).assign(placed="2026-01-05")
    source = (
        frame
        if kind == "frame"
        else tmp_path / "o.csv"
        if kind == "csv"
        else in_database(kind, frame, tmp_path)
    )
    frame.to_csv(tmp_path / "o.csv", index=False)
    table = "orders" if kind in DATABASES else None
    orders = fl.open_orders(
        source, scheme={"orders": {"discount_as": "amount", "table": table}}, allow_set_aside=True
    )
    assert orders.balance.reasons == {"bad-amount": 5}
    assert dict(orders.customers()[["customer", "spend"]].to_numpy()) == {
        "A": 19,
        "B": 0.3,
        "E": 2.01,
        "F": 1.01,
    }
    if kind == "csv":
        shown = duckdb.sql(orders.sql()).df()
        assert shown["spend"].sum() == 2232  # in minor units

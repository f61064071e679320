"""Test history: identities on random orders against a slow reference, and plain SQL on the sample
shop, in three engines.
"""

import datetime as dt
import io
from collections import defaultdict
from itertools import pairwise

import duckdb
import numpy as np
import pandas as pd
import pytest
from hypothesis import Phase, example, given, settings
from hypothesis import strategies as st

import fairladder as fl
from conftest import DATABASES, in_database, times

ENGINES = ["frame", *DATABASES]
DAYS = st.dates(dt.date(2024, 11, 20), dt.date(2025, 6, 10))
LINES = st.lists(
    st.tuples(st.sampled_from("abcde"), st.integers(1, 12), DAYS, st.integers(-400, 900), st.sampled_from(["web", "stall", None]),
              st.sampled_from(["kits", "skeins"])),
    min_size=1, max_size=40,
)  # fmt: skip
AS_OF = dt.date(2025, 6, 15)


def frame_of(lines):
    """Return orders in which each order has one day and one channel: those of its first line."""
    first, rows = {}, []
    for who, order, day, cents, channel, category in lines:
        day, channel = first.setdefault((who, order), (day, channel))
        rows.append((who, f"{who}{order}", pd.Timestamp(day), cents / 100, channel, category))
    return pd.DataFrame(
        rows, columns=["customer", "order", "placed", "amount", "channel", "category"]
    )


def purchases_of(frame):
    """Return (customer, order) → day, cents, channel, and nth of purchases by day, then order
    id.
    """
    orders = defaultdict(lambda: [None, 0, None])
    for row in frame.itertuples(index=False):
        held = orders[row.customer, row.order]
        held[0], held[1], held[2] = (
            row.placed.date(),
            held[1] + round(row.amount * 100),
            row.channel if isinstance(row.channel, str) else "unknown",
        )
    history = defaultdict(list)
    for (who, order), (day, cents, channel) in sorted(
        orders.items(), key=lambda o: (o[1][0], o[0][1])
    ):
        history[who].append((day, order, cents, channel))
    return history


def month(day):
    return day.replace(day=1)


@settings(
    max_examples=times(6), deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate]
)
@given(LINES, st.sampled_from(["net", "ignore"]), st.sampled_from(ENGINES))
def test_growth_and_cohorts_match_reference(tmp_path_factory, lines, refunds, engine):
    frame = frame_of(lines)
    scheme = fl.Scheme().with_options(
        money={"refunds": refunds},
        time={"as_of": AS_OF},
        orders={"table": None if engine == "frame" else "orders"},
    )
    source = (
        frame if engine == "frame" else in_database(engine, frame, tmp_path_factory.mktemp("db"))
    )
    orders = fl.open_orders(source, scheme=scheme)
    history = purchases_of(frame)
    bought = {who: [o for o in own if o[2] > 0] for who, own in history.items()}
    counting = [
        o for own in history.values() for o in own if o[2] > 0 or (o[2] < 0 and refunds == "net")
    ]
    if not counting:
        with pytest.raises(fl.DataError, match="No order counts towards spend"):
            fl.growth(orders)
        return
    table = fl.growth(orders, period="month")
    for row in table.itertuples(index=False):
        begin = row.period.date()
        here = [
            (n, o) for own in bought.values() for n, o in enumerate(own) if month(o[0]) == begin
        ]
        refunded = sum(o[2] for o in counting if o[2] < 0 and month(o[0]) == begin)
        new, repeat = (sum(o[2] for n, o in here if (n == 0) == first) for first in (True, False))
        people = {who for who, own in bought.items() if any(month(o[0]) == begin for o in own)}
        output = (
            row.orders,
            row.customers,
            row.new_customers,
            round(row.new_revenue * 100),
            round(row.repeat_revenue * 100),
            round(row.refunded * 100),
        )
        assert output == (
            len(here),
            len(people),
            sum(n == 0 for n, _ in here),
            new,
            repeat,
            refunded,
        )
    assert table["period"].iloc[0].date() == month(min(o[0] for o in counting))
    assert (
        (table["revenue"] * 100)
        .round()
        .eq(((table["new_revenue"] + table["repeat_revenue"] + table["refunded"]) * 100).round())
        .all()
    )
    assert (table["customers"] == table["new_customers"] + table["returning_customers"]).all()
    assert table["new_customers_running"].iloc[-1] == sum(map(bool, bought.values()))
    assert table["complete"].tolist() == [True] * (len(table) - 1) + [False]
    none = (table["new_customers"] == 0) & table["complete"]
    assert (
        table["flat"] == (none & (none.shift(fill_value=False) | none.shift(-1, fill_value=False)))
    ).all()

    by = fl.growth(orders, period="month", by="channel")
    for name in (
        "orders",
        "new_customers",
        "new_revenue",
        "repeat_revenue",
        "refunded",
        "new_customers_running",
    ):
        assert (
            by.groupby("period")[name].sum().round(2).tolist() == table[name].round(2).tolist()
        ), name
    if not any(bought.values()):
        return
    found = fl.cohorts(orders, period="month")
    starts = {who: month(own[0][0]) for who, own in bought.items() if own}
    months = {who: {month(o[0]) for o in own} for who, own in bought.items()}
    grid = pd.date_range(min(starts.values()), AS_OF, freq="MS")
    for row in found.frame.itertuples(index=False):
        members = [who for who, start in starts.items() if start == row.cohort.date()]
        then = grid[list(grid).index(row.cohort) + row.k].date()
        assert row.size == len(members)
        wanted = None if then == month(AS_OF) else sum(then in months[who] for who in members)
        assert (None if pd.isna(row.active) else row.active) == wanted
    pairs = [(a.date(), b.date()) for a, b in pairwise(grid) if b.date() < month(AS_OF)]
    both = sum(a in m and b in m for m in months.values() for a, b in pairs)
    base = sum(a in m for m in months.values() for a, _ in pairs)
    assert (found.repeat_retention.numerator, found.repeat_retention.denominator) == (both, base)


DAY_PARTS = {
    "year": lambda day: f"{day:%Y}", "quarter": lambda day: f"{day.year} Q{(day.month + 2) // 3}", "month": lambda day: f"{day:%Y-%m}",
    "week": lambda day: f"{day - pd.Timedelta(days=day.weekday()):%Y-%m-%d}", "calendar-month": lambda day: f"{day:%B}",
    "weekday": lambda day: f"{day:%A}",
}  # fmt: skip


@settings(
    max_examples=times(8), deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate]
)
@given(
    LINES,
    st.sampled_from(
        ["channel", "category", "amount:0,3.5", *(f"{part}(placed)" for part in DAY_PARTS)]
    ),
    st.sampled_from(["category", "channel", "weekday(placed)", None]),
    st.sampled_from(ENGINES),
)
@example(
    [
        ("a", 1, dt.date(2024, 11, 26), 39, "web", "kits"),
        ("a", 2, dt.date(2024, 12, 1), 50, "web", "kits"),
    ],
    "weekday(placed)",
    None,
    "sqlite",
)
def test_breakdown_totals_count_rows(tmp_path_factory, lines, rows, columns, engine):
    frame = frame_of(lines)
    if rows == columns:
        columns = None
    scheme = fl.Scheme().with_options(
        time={"as_of": AS_OF}, orders={"table": None if engine == "frame" else "orders"}
    )
    source = (
        frame if engine == "frame" else in_database(engine, frame, tmp_path_factory.mktemp("db"))
    )
    orders = fl.open_orders(source, scheme=scheme)
    whole = frame.assign(cents=(frame["amount"] * 100).round().astype(int))
    whole["total"] = whole.groupby(["customer", "order"])["cents"].transform("sum")
    whole["one"] = whole["customer"] + whole["order"]
    if not (whole["total"] > 0).any():
        with pytest.raises(fl.DataError, match="nothing to break down"):
            fl.breakdown(orders, rows, columns)
        return

    def cell(row, axis, differs):
        if axis is None:
            return "total"
        name = axis.partition(":")[0]
        if name.endswith("(placed)"):
            return DAY_PARTS[name.removesuffix("(placed)")](row["placed"])
        value = row[name] if differs or name != "amount" else row["total"] / 100
        if ":" in axis:
            return "under 0" if value < 0 else "0 to under 3.5" if value < 3.5 else "3.5 and over"
        return value if isinstance(value, str) else "unknown"

    table = fl.breakdown(orders, rows, columns)
    differs = any("differs within orders" in note for note in table.notes)
    names = [a.partition(":")[0] for a in (rows, columns) if a and not a.endswith("(placed)")]
    varied = (
        whole.astype({"channel": object})
        .fillna({"channel": "unknown"})
        .groupby("one")[names]
        .nunique()
        .max(axis=None)
        > 1
        if names
        else False
    )
    assert differs == bool(varied)
    whole["r"] = [cell(r, rows, True) for r in whole.to_dict("records")]
    whole["c"] = [cell(r, columns, True) for r in whole.to_dict("records")]
    got = table.frame.set_index(["row", "column"])
    pieces = {(r, c): part for (r, c), part in whole.groupby(["r", "c"])}
    pieces |= {(r, "total"): part for r, part in whole.groupby("r")} | {
        ("total", c): part for c, part in whole.groupby("c")
    }
    pieces |= {("total", "total"): whole}
    for key, part in pieces.items():
        paid = part[part["total"] > 0]
        output = got.loc[key]
        wanted = (paid["one"].nunique(), paid["customer"].nunique(), part["cents"].sum(), len(paid))
        assert (
            output["orders"],
            output["customers"],
            round(output["spend"] * 100),
            output["lines"],
        ) == wanted, key
        if wanted[0]:
            assert output["lines_per_order"] == pytest.approx(len(paid) / wanted[0])
            assert output["average_order_value"] == pytest.approx(wanted[2] / 100 / wanted[0])
    if columns:
        shares = fl.breakdown(orders, rows, columns, measure="lines", shares="row").frame
        inner = shares[(shares["column"] != "total")].groupby("row")["share"].sum()
        reached = shares[(shares["column"] == "total")].set_index("row")["lines"] > 0
        assert np.allclose(inner[reached], 1)


PLAIN = """
WITH lines AS (
  SELECT trim(member_no) AS customer, slip, try_cast(sold_at AS TIMESTAMP) AS moment, try_cast(line_total AS DECIMAL(12, 2)) AS amount, channel
  FROM read_csv('{orders}', all_varchar = true) WHERE state <> 'cancelled' AND lower(trim(member_no)) <> 'total'
), orders AS (
  SELECT customer, slip, min(moment) AS moment, sum(amount)::DOUBLE AS amount, any_value(channel) AS channel FROM lines
  WHERE customer IS NOT NULL AND slip IS NOT NULL AND moment IS NOT NULL AND amount IS NOT NULL AND moment < DATE '2026-07-01' GROUP BY 1, 2
), purchases AS (
  SELECT *, row_number() OVER (PARTITION BY customer ORDER BY moment, slip) AS nth FROM orders WHERE amount > 0
) {query}
"""


def plain(shop, query):
    return duckdb.sql(PLAIN.format(orders=shop / "orders.csv", query=query)).df()


def test_sample_shop_history_equals_plain_sql(shop, fairladder):
    orders = fl.open_orders(shop / "orders.csv", scheme=shop / "scheme.toml")
    by = fl.growth(orders, period="quarter", by="channel")
    theirs = plain(shop, "SELECT channel, date_trunc('quarter', moment) AS period, count(*) FILTER (nth = 1) AS new, count(*) AS orders, "
                         "sum(amount) FILTER (nth > 1) AS repeat FROM purchases GROUP BY ALL ORDER BY ALL")  # fmt: skip
    assert by["new_customers"].tolist() == theirs["new"].tolist()
    assert by["orders"].tolist() == theirs["orders"].tolist()
    assert np.allclose(by["repeat_revenue"], theirs["repeat"].fillna(0))
    counts = fl.order_counts(orders)
    theirs = plain(
        shop,
        "SELECT n, count(*) AS customers FROM (SELECT count(*) AS n FROM purchases GROUP BY customer) GROUP BY n ORDER BY n",
    )
    assert (
        counts[counts["customers"] > 0][["n", "customers"]].to_numpy().tolist()
        == theirs.to_numpy().tolist()
    )
    assert np.allclose(counts["went_on"], 1 - counts["customers"] / counts["at_least_n"])
    only = fl.one_channel(orders)
    theirs = plain(shop, "SELECT channel, count(*) AS n, sum(k) AS k FROM (SELECT any_value(channel) AS channel, count(*) AS k FROM purchases "
                         "GROUP BY customer HAVING count(DISTINCT channel) = 1) GROUP BY channel ORDER BY channel")  # fmt: skip
    assert (
        only[["customers", "orders"]].to_numpy().tolist() == theirs[["n", "k"]].to_numpy().tolist()
    )
    flow = fl.channel_flow(orders)
    assert flow.loc[flow["later_channel"].isna(), "customers"].sum() == counts["customers"].iloc[0]
    near = fl.one_order_short(orders, 4)
    assert (near["orders"] == 3).all()
    assert near["recency_days"].is_monotonic_increasing
    spells = fl.flat_spells(fl.growth(orders, by="district"), "district")
    assert tuple(spells.iloc[0]) == ("Saltmarsh", "Mar 2025", "Jun 2026", 16, 102)

    window = fairladder(
        "growth", shop / "orders.csv", "--scheme", shop / "scheme.toml", "--from", "2026-05-10"
    )
    shown = pd.read_csv(pd.io.common.StringIO(window.stdout))
    everything = fl.growth(orders)
    assert (
        shown["new_customers_running"].tolist() == everything["new_customers_running"].tolist()[-2:]
    )  # new customers do not change


def test_age_at_the_order_in_leap_years_and_unknown(fairladder, tmp_path):
    people = tmp_path / "people.csv"
    people.write_text(
        "customer,born\nleap,1995-02-28\nlater,2030-01-01\nold,1890-01-01\nnone,\nmarch,1996-02-29\n"
    )
    rows = [("march", "2026-02-28", "20 to 29"), ("march", "2026-03-01", "30 and over"), ("later", "2025-01-01", "unknown"),
            ("old", "2025-01-01", "unknown"), ("none", "2025-01-01", "unknown"), ("leap", "2025-02-27", "20 to 29"), ("leap", "2025-02-28", "30 and over")]  # fmt: skip
    for who, day, band in rows:
        orders = tmp_path / "orders.csv"
        orders.write_text(f"customer,placed,amount\n{who},{day},5\n")
        done = fairladder(
            "breakdown",
            orders,
            "--customers",
            people,
            "--rows",
            "age(born):20,30",
            "--measure",
            "orders",
        )
        cells = pd.read_csv(pd.io.common.StringIO(done.stdout))
        assert cells[cells["row"] != "total"]["row"].tolist() == [band], (who, day, done.stderr)


def test_crosstab_equals_the_long_table(shop, fairladder):
    arguments = [
        "breakdown",
        shop / "orders.csv",
        "--scheme",
        shop / "scheme.toml",
        "--rows",
        "calendar-month(placed)",
        "--columns",
        "channel",
    ]
    long = pd.read_csv(io.StringIO(fairladder(*arguments, "--measure", "lines_per_order").stdout))
    wide = pd.read_csv(
        io.StringIO(
            fairladder(*arguments, "--measure", "lines_per_order", "--layout", "crosstab").stdout
        )
    )
    assert wide["calendar month of order"].tolist()[:2] == ["January", "February"]
    extra = wide.melt(id_vars="calendar month of order").set_axis(
        ["row", "column", "lines_per_order"], axis=1
    )
    pd.testing.assert_frame_equal(
        *(t.sort_values(["row", "column"], ignore_index=True) for t in (long, extra))
    )
    assert "There are: `long`, `crosstab`" in fairladder(*arguments, "--layout", "wide").stderr
    for axis, says in (
        ("minute(placed)", "no part 'minute'"),
        ("day(placed)", "no part 'day'"),
        ("month(placed):1,2", "have no bands"),
    ):
        assert says in fairladder("breakdown", shop / "orders.csv", "--rows", axis).stderr


def test_impossible_history_questions_are_refused(shop, fairladder):
    orders, scheme = shop / "orders.csv", shop / "scheme.toml"
    for words, output in {
        ("growth", "--period", "mont"): "There is no period 'mont'. Did you mean `month`?",
        (
            "growth",
            "--by",
            "distrikt",
        ): "There is no column `distrikt` among the orders or the customers. Did you mean `district`?",
        (
            "breakdown",
            "--rows",
            "district",
            "--measure",
            "average_order_value",
            "--shares",
            "row",
        ): "Averages have no shares",
        ("breakdown", "--rows", "age(born)"): "age needs bands, as in age(born):30,40,50",
        ("breakdown", "--rows", "quantity:4,2"): "the edges of bands must rise",
        (
            "breakdown",
            "--rows",
            "category",
            "--amount-is",
            "order",
            "--allow-set-aside",
        ): "differs within orders, and with `amount_is",
        ("retention", "--goal", "1"): "A goal is 2 purchases or more, not 1.",
        ("retention", "--figure-of", "cohort"): "Did you mean `cohorts`?",
    }.items():
        done = fairladder(words[0], orders, "--scheme", scheme, *words[1:])
        assert output in done.stderr, words
        assert done.returncode == 2
    long = fairladder(
        "breakdown",
        orders,
        "--scheme",
        scheme,
        "--rows",
        "product",
        "--most",
        4,
        "--measure",
        "customers",
    )
    cells = pd.read_csv(pd.io.common.StringIO(long.stdout))
    assert cells["row"].tolist()[-2:] == ["the rest", "total"]
    assert len(cells) == 5
    assert "`product` has 19 names; the 3 largest by customers are shown" in long.stderr


def test_kept_date_range_is_not_used_as_whole_history():
    frame = pd.DataFrame({"customer": ["a"] * 3, "order": list("123"), "amount": 5.0})
    frame["placed"] = pd.to_datetime(["2025-01-01", "2025-03-01", "2025-03-09"])
    orders = fl.open_orders(frame, scheme={"time": {"as_of": AS_OF, "from": dt.date(2025, 2, 1)}})
    seen = [
        len(orders.run(orders.order_table([], sequence=False, history=h)))
        for h in (False, True, False)
    ]
    assert seen == [2, 3, 2]
    assert fl.breakdown(orders, "customer").frame["orders"].tolist() == [2, 2]
    assert fl.growth(orders)["new_customers"].sum() == 0


def test_ledger_uses_whole_history_and_stable_order():
    """Shares are of the total spend up to the day; without ids equal days are sorted to the last
    column; one name of a day.
    """
    frame = pd.DataFrame({"customer": list("aabaab"), "placed": ["2025-01-01", "2025-03-01", "2025-03-01", "2025-03-01", "2025-04-01", "2025-04-02"],
                          "amount": [60.0, 20.0, 5.0, 20.0, 0.0, -5.0], "x": ["p", "r", "q", "q", "s", "t"], "name": ["n", "z", "b", "Z", "m", "c"]})  # fmt: skip
    for refunds, shares in (("net", [0.6, 0.2, 0.2, 0.0]), ("ignore", [0.6, 0.2, 0.2, 0.0])):
        texts = set()
        for seed in range(2):
            scheme = {"money": {"refunds": refunds}, "time": {"as_of": AS_OF}}
            shuffled = frame.sample(frac=1, random_state=seed)
            ledger = fl.order_ledger(fl.open_orders(shuffled, scheme=scheme))
            texts.add(ledger.to_csv())
            assert ledger.loc[ledger["customer"] == "a", "share_of_customer"].tolist() == shares
            window = fl.order_ledger(
                fl.open_orders(
                    shuffled,
                    scheme={**scheme, "time": {"as_of": AS_OF, "from": dt.date(2025, 2, 1)}},
                )
            )
            pd.testing.assert_frame_equal(
                window, ledger[ledger["placed_on"] >= "2025-02-01"].reset_index(drop=True)
            )
            day = fl.open_orders(
                shuffled, scheme={"time": {"as_of": dt.date(2025, 3, 31)}}
            ).customers()
            assert day["name"].tolist() == ["z", "b"]  # the greatest of the latest day
        assert len(texts) == 1
    # Rows after the as-of date are outside even a range that ends later, and rows that fail `where`
    # are filtered out first.
    later = {
        "time": {"as_of": dt.date(2025, 3, 1), "through": dt.date(2025, 12, 31)},
        "orders": {"where": "x <> 's'"},
    }
    balance = fl.open_orders(frame, scheme=later).balance
    assert (balance.used, balance.filtered_out, balance.outside_range) == (4, 1, 1)


def test_flat_spells_end_with_their_group():
    """A's last two months and B's first two have no new customers; they are two spells of two and
    not one of four.
    """
    lines = [
        ("a1", "A", "2025-01-05"),
        ("b1", "B", "2025-03-05"),
        ("b2", "B", "2025-04-05"),
        ("a2", "A", "2025-02-05"),
    ]
    frame = pd.DataFrame(
        [(c, g, d, 5.0) for c, g, d in lines], columns=["customer", "town", "placed", "amount"]
    )
    table = fl.growth(
        fl.open_orders(frame, scheme={"time": {"as_of": dt.date(2025, 4, 30)}}), by="town"
    )
    assert table.groupby("town")["flat"].apply(list).to_dict() == {
        "A": [False, False, True, True],
        "B": [True, True, False, False],
    }
    one = frame[
        frame["customer"] != "b2"
    ]  # B: none in January and February, one in March, none in April
    table = fl.growth(
        fl.open_orders(one, scheme={"time": {"as_of": dt.date(2025, 4, 30)}}), by="town"
    )
    assert table.groupby("town")["flat"].apply(list).to_dict()["B"] == [True, True, False, False]
    a_first = one[one["customer"] != "a1"].assign(
        placed=["2025-01-05", "2025-02-05"]
    )  # B in January, A in February
    table = fl.growth(
        fl.open_orders(a_first, scheme={"time": {"as_of": dt.date(2025, 2, 28)}}), by="town"
    )
    assert not table["flat"].any()  # A's January and B's February are adjacent


def test_kept_orders_serve_only_queries_on_kept_columns():
    frame = pd.DataFrame(
        {
            "customer": list("aab"),
            "order": list("112"),
            "placed": "2026-01-01",
            "amount": 5.0,
            "channel": ["web", "stall", "web"],
        }
    )
    for keep in (None, "orders", ["channel"], ["channel", "nothing there"]):
        orders = fl.open_orders(frame, keep=keep)
        assert fl.order_ledger(orders)["channel"].fillna("").tolist() == ["", "web"]
        assert fl.breakdown(orders, "channel", measure="orders").frame["row"].tolist() == [
            "stall",
            "web",
            "total",
        ]
        plain = orders.frame(orders.order_table(["channel"], sequence=False)).sort_values(
            "customer"
        )
        assert plain["of channel"].fillna("").tolist() == [
            "",
            "web",
        ]  # by row if its rows disagree, and null as a cell


def test_years_can_begin_in_another_month(shop):
    """April: sums of the months from April to March; quarters end with March; labels show both
    years; breakdowns agree.
    """
    scheme = fl.load_scheme(shop / "scheme.toml").with_options(time={"year_starts": "04"})
    orders = fl.open_orders(shop / "orders.csv", scheme=scheme)
    months = orders.growth(period="month")
    fiscal = (months["period"].dt.year - (months["period"].dt.month < 4)).map(
        lambda y: f"{y}/{(y + 1) % 100}"
    )
    years = orders.growth(period="year").set_index("label")
    assert years["orders"].to_dict() == months.groupby(fiscal)["orders"].sum().to_dict()
    assert years["complete"].tolist() == [True, True, True, False]
    quarters = orders.growth(period="quarter")
    assert quarters["label"].tolist()[:4] == [
        "2023/24 Q2",
        "2023/24 Q3",
        "2023/24 Q4",
        "2024/25 Q1",
    ]
    for axis, table in (("year(placed)", years), ("quarter(placed)", quarters.set_index("label"))):
        rows = (
            orders.breakdown(axis, measure="orders").frame.set_index("row")["orders"].drop("total")
        )
        assert rows.to_dict() == table["orders"].to_dict()
    assert orders.cohorts(period="year").wide().index.tolist() == years.index.tolist()
    assert fl.value_formula(orders, period="year").frame["formula_value"].notna().all()
    for wrong in ("13", 0, "april"):
        with pytest.raises(fl.SchemeError, match="year_starts"):
            scheme.with_options(time={"year_starts": wrong})


@pytest.mark.parametrize("engine", ["embedded", *DATABASES])
def test_hours_are_those_of_the_orders(tmp_path, engine):
    """14:05 by am and pm, 00:30, one without a time; of an order's rows the earliest counts, also
    across midnight. Typed dates have no hours.
    """
    frame = pd.DataFrame({"customer": list("abcdd"), "order": list("abcdd"), "amount": [1] * 5,
                          "placed": ["2026-01-05 14:05", "2026-01-05 09:59:59", "2026-01-05 00:30", "2026-01-06 23:50", "2026-01-07 00:10"]})  # fmt: skip
    plain = frame if engine == "embedded" else in_database(engine, frame, tmp_path, table="hours")
    orders = fl.open_orders(
        plain, scheme={} if engine == "embedded" else {"orders": {"table": "hours"}}
    )
    hours = (
        orders.breakdown("hour(placed)", measure="orders")
        .frame.set_index("row")["orders"]
        .to_dict()
    )
    assert hours == {"00": 1, "09": 1, "14": 1, "23": 1, "total": 4}
    if engine == "embedded":
        late = frame.assign(
            placed=[
                "05.01.2026 2:05 PM",
                "13.01.2026",
                "05.01.2026 12:30 AM",
                *["05.01.2026 9:10 am"] * 2,
            ]
        )
        hours = (
            fl.open_orders(late)
            .breakdown("hour(placed)", measure="orders")
            .frame.set_index("row")["orders"]
            .to_dict()
        )
        assert hours == {"00": 1, "09": 1, "14": 1, "unknown": 1, "total": 4}
        with pytest.raises(fl.UsageError, match="contains dates without times"):
            fl.open_orders(frame.assign(placed=pd.array([dt.date(2026, 1, 5)] * 5))).breakdown(
                "hour(placed)"
            )
        midnight = fl.open_orders(frame.assign(placed=pd.Timestamp("2026-01-05"))).breakdown(
            "hour(placed)"
        )
        assert any("probably lost" in note for note in midnight.notes)


def test_lines_add_up_to_orders_and_customers(shop, fairladder):
    scheme = shop / "scheme.toml"
    orders = fl.open_orders(shop / "orders.csv", scheme=scheme)
    lines, ledger = orders.order_lines(), orders.order_ledger()
    keys = ["customer", "order"]
    cents = lines.assign(cents=(lines["line_amount"] * 100).round()).groupby(keys)
    whole = ledger.set_index(keys).sort_index()
    assert (cents["cents"].sum() == (whole["amount"] * 100).round()).all()
    assert (cents["order_amount"].first() == whole["amount"]).all()
    assert (cents["placed_on"].first() == whole["placed_on"]).all()
    assert (cents.size() == whole["lines"]).all()
    for share, by, wanted in (
        ("share_of_order", keys, 1.0),
        ("share_of_customer", ["customer"], 1.0),
    ):
        known = lines[lines[share].notna()]
        assert known.groupby(by)[share].sum().to_numpy() == pytest.approx(wanted)
    assert lines[lines["order_amount"] <= 0]["share_of_order"].isna().all()
    late = fl.open_orders(
        shop / "orders.csv",
        scheme=fl.load_scheme(scheme).with_options(time={"from": dt.date(2026, 1, 1)}),
    ).order_lines()
    pd.testing.assert_frame_equal(
        late, lines[lines["placed_on"] >= "2026-01-01"].reset_index(drop=True)
    )
    whole_orders = shop / "orders.csv", "--scheme", scheme, "--amount-is", "order", "--lines"
    assert "rows have no amounts of their own" in fairladder("orders", *whole_orders).stderr


@pytest.mark.parametrize("engine", ["embedded", *DATABASES])
def test_first_and_latest_order_columns_match_pandas(shop, engine, tmp_path):
    """By time, then by order id; mixed if an order's lines disagree; null for non-buyers."""
    scheme = fl.load_scheme(shop / "scheme.toml").with_options(
        customers={"at_first": ["channel", "category"], "at_latest": ["channel"]}
    )
    rows = pd.read_csv(shop / "orders.csv", dtype=str, keep_default_na=False).iloc[:3000]
    url = rows if engine == "embedded" else in_database(engine, rows, tmp_path, table="orders")
    scheme = scheme.with_options(orders={"table": None if engine == "embedded" else "orders"})
    orders = fl.open_orders(url, scheme=scheme, customers=shop / "members.csv")
    table = orders.customers().set_index("customer")
    bought = orders.order_ledger().query("amount > 0")
    mixed = rows.groupby("slip")["category"].agg(
        lambda c: c.iloc[0] if c.nunique() == 1 else "mixed"
    )
    first = bought[bought["nth"] == 1].set_index("customer")
    latest = bought.sort_values("nth").groupby("customer").last()
    there = table[table["orders"] > 0]
    assert there["first_channel"].to_dict() == first["channel"].astype(object).to_dict()
    assert there["latest_channel"].to_dict() == latest["channel"].astype(object).to_dict()
    assert there["first_category"].to_dict() == first["order"].map(mixed).to_dict()
    assert table.loc[table["orders"] == 0, "first_channel"].isna().all()
    for columns, says in (
        (["chanel"], "Did you mean `channel`"),
        (["order"], "already have a column `first_order`"),
    ):
        with pytest.raises(fl.SchemeError, match=says):
            fl.open_orders(
                url,
                scheme=scheme.with_options(customers={"at_first": columns}),
                customers=shop / "members.csv",
            ).customers()


@pytest.mark.parametrize("engine", ["embedded", *DATABASES])
def test_sum_of_column_matches_pandas(shop, engine, tmp_path):
    """By a column of orders and by one that differs within them; numbers in text with a comma;
    other text is refused.
    """
    rows = pd.read_csv(shop / "orders.csv", dtype=str, keep_default_na=False).iloc[:2500]
    scheme = fl.load_scheme(shop / "scheme.toml").with_options(
        orders={"table": None if engine == "embedded" else "orders"}
    )
    orders = fl.open_orders(
        rows if engine == "embedded" else in_database(engine, rows, tmp_path), scheme=scheme
    )
    bought = orders.order_ledger().query("amount > 0")[["customer", "order"]]
    lines = orders.order_lines().merge(bought, on=["customer", "order"])
    lines["quantity"] = lines["quantity"].astype(int)
    for axis in ("channel", "category"):
        summed = orders.breakdown(axis, measure="sum(quantity)").frame.set_index("row")[
            "sum(quantity)"
        ]
        assert summed.drop("total").to_dict() == lines.groupby(axis)["quantity"].sum().to_dict()
        assert summed["total"] == lines["quantity"].sum()
    for measure, says in (
        ("sum(product)", "contains cells that are not plain numbers"),
        ("sum(pieces)", "no column `pieces`"),
    ):
        with pytest.raises(fl.UsageError, match=says):
            orders.breakdown("channel", measure=measure)
    frame = pd.DataFrame(
        {
            "customer": list("aab"),
            "placed": "2026-01-05",
            "unit_price": ["1,50", "2,25", "3"],
            "quantity": ["1,5", "2", "0,25"],
        }
    )
    priced = fl.open_orders(frame).breakdown("customer", measure="sum(quantity)").frame
    assert priced["sum(quantity)"].tolist() == [3.5, 0.25, 3.75]


@pytest.mark.parametrize("lines", [[], ["--lines"]])
def test_orders_of_some_customers_are_those_of_the_whole_ledger(shop, tmp_path, fairladder, lines):
    """The condition sees scores; it selects rows and changes no number and no share in them."""
    words = ["orders", shop / "orders.csv", "--scheme", shop / "scheme.toml", "--quiet", *lines]
    when = "segment = 'cooling' OR customer = '09302'"
    for name, more in (("some", ["--when", when]), ("all", [])):
        done = fairladder(*words, *more, "--out", tmp_path / f"{name}.csv")
        assert done.returncode == 0, done.stderr
    some, everything = (
        pd.read_csv(tmp_path / f"{name}.csv", dtype=str) for name in ("some", "all")
    )
    scored = fl.open_orders(shop / "orders.csv", scheme=shop / "scheme.toml").score()
    ids = {*scored.loc[scored["segment"] == "cooling", "customer"], "09302"}
    wanted = everything[everything["customer"].isin(ids)].reset_index(drop=True)
    pd.testing.assert_frame_equal(some, wanted)
    assert set(some["customer"]) == ids
    named = ["--customer", "09302", "--customer", sorted(ids)[0], "--when", "spend > 0"]
    few = pd.read_csv(io.StringIO(fairladder(*words, *named).stdout), dtype=str)
    both = everything["customer"].isin({"09302", sorted(ids)[0]})
    pd.testing.assert_frame_equal(few, everything[both].reset_index(drop=True))
    assert "There is no customer `9302`. Did you mean `09302`?" in (
        fairladder(*words, "--customer", "9302").stderr
    )

"""Test explanations, the order ledger and stability: every promised change is applied to the orders
and scored again.
"""

import datetime as dt

import duckdb
import numpy as np
import pandas as pd
import pytest

import fairladder as fl
from fairladder.scheme import scheme_from
from fairladder.scores.rescoring import rescoring_of
from fairladder.value.to_score import scored as people_scored

AS_OF = pd.Timestamp("2026-06-30")


@pytest.fixture(scope="module")
def book(shop):
    scheme = fl.load_scheme(shop / "scheme.toml")
    orders = fl.open_orders(shop / "orders.csv", scheme=scheme)
    ledger = fl.order_ledger(orders)
    frame = ledger[["customer", "order", "placed_on", "amount"]].rename(
        columns={"placed_on": "placed"}
    )
    return frame, {"time": {"as_of": AS_OF.date()}}


def scored(frame, scheme):
    orders = fl.open_orders(frame, scheme=scheme)
    return fl.score(orders.customers(), orders.scheme).set_index("customer")


def applied(frame, who, change, by):
    """Return the orders with the change applied, of size ``by`` in its own unit."""
    own = frame[(frame["customer"] == who) & (frame["amount"] > 0)].sort_values(["placed", "order"])
    latest, changed = own.index[-1], frame.copy()
    last = own["placed"].iloc[-1]
    if change.kind == "spend":
        changed.loc[latest, "amount"] = round(changed.loc[latest, "amount"] + by / 100, 2)
    elif change.kind == "recency":
        changed.loc[latest, "placed"] = last + pd.Timedelta(days=by)
    elif change.kind == "orders" and by < 0:
        changed = changed.drop(own.index[by:])
    else:
        day, amount, n = (AS_OF, by / 100, 1) if change.kind == "purchase" else (last, 0.01, by)
        new = [
            {"customer": who, "order": f"new {i}", "placed": day, "amount": amount}
            for i in range(n)
        ]
        changed = pd.concat([changed, pd.DataFrame(new)], ignore_index=True) if n else changed
    return changed


@pytest.mark.parametrize(
    "segment",
    [
        "mainstay",
        "drifting-mainstay",
        "building",
        "dependable",
        "cooling",
        "one-and-gone",
        "quiet",
        "fresh-face",
    ],
)
def test_explained_change_moves_the_customer_and_nothing_smaller_does(book, segment):
    frame, scheme = book
    before = scored(frame, scheme)
    held = before[before["segment"] == segment].index
    orders = fl.open_orders(frame, scheme=scheme)
    seen = set()
    for e in fl.explain(orders, [held[0]]):
        who, was = e.customer, before.loc[e.customer]
        assert e.rules[-1].held
        assert not any(rule.held for rule in e.rules[:-1])
        for change in e.changes:
            seen.add(change.kind)
            step = 1 if change.by > 0 else -1
            if change.kind == "wait":  # on today's ladder, not on a newly fitted one
                ladder = fl.fit_ladders(orders.customers(), orders.scheme)["recency_score"]
                days = int(was["recency_days"]) + change.by
                assert ladder.place([days])[0] == was["recency_score"]
                assert ladder.place([days + 1])[0] < was["recency_score"]
                continue
            after, less = (
                scored(applied(frame, who, change, by), scheme).loc[who]
                for by in (change.by, change.by - step)
            )
            assert after["segment"] == change.segment, change
            if change.kind == "purchase":
                assert after["segment"] != was["segment"]
                assert change.by == 1 or less["segment"] == was["segment"]
                continue
            name, _, _, rung = change.effect.split()
            assert after[name] == int(rung), change
            assert (after[name] > was[name]) == (step > 0)
            assert less[name] == was[name], change
    assert {"wait"} <= seen or segment in ("quiet", "one-and-gone")


def test_standing_equals_direct_counts(book, shop, fairladder):
    frame, scheme = book
    table = scored(frame, scheme)
    who = table.index[table["segment"] == "mainstay"][3]
    (e,) = fl.explain(fl.open_orders(frame, scheme=scheme), [who])
    bought = table[table["orders"] > 0]
    for s in e.standings:
        value, low = table.loc[who, s.measure], s.measure == "recency_days"
        worse = (bought[s.measure] > value).sum() if low else (bought[s.measure] < value).sum()
        same = (bought[s.measure] == value).sum()
        assert (s.same, s.among) == (same, len(bought))
        assert s.percentile == pytest.approx(100 * (worse + same / 2) / len(bought))
        mates = bought[bought[s.name] == s.rung][s.measure]
        assert s.above is None or mates.min() > s.above
        assert s.up_to is None or mates.max() <= s.up_to
    output = fairladder("explain", shop / "orders.csv", "363", "--scheme", shop / "scheme.toml")
    assert (output.returncode, output.stderr) == (
        2,
        "Error: There is no customer `363`. Did you mean `00363`?\n",
    )
    several = fairladder(
        "explain",
        shop / "orders.csv",
        "--segment",
        "cooling",
        "--count",
        2,
        "--scheme",
        shop / "scheme.toml",
        "--part",
        "rules",
    )
    rules = pd.read_csv(pd.io.common.StringIO(several.stdout), dtype=str)
    assert rules.groupby("customer")["segment"].last().tolist() == ["cooling", "cooling"]


LEDGER = """
WITH lines AS (
  SELECT trim(member_no) AS customer, slip, try_cast(sold_at AS TIMESTAMP) AS moment, try_cast(line_total AS DECIMAL(12, 2)) AS amount
  FROM read_csv('{orders}', all_varchar = true)
  WHERE state <> 'cancelled' AND lower(trim(member_no)) <> 'total' AND try_cast(sold_at AS TIMESTAMP) <= TIMESTAMP '2026-06-30 23:59:59'
), orders AS (
  SELECT customer, slip, min(moment) AS moment, sum(amount) AS amount, count(*) AS lines FROM lines
  WHERE customer IS NOT NULL AND slip IS NOT NULL AND moment IS NOT NULL AND amount IS NOT NULL GROUP BY 1, 2
), numbered AS (
  SELECT *, row_number() OVER w AS nth, moment::DATE - lag(moment::DATE) OVER w AS gap FROM orders WHERE amount > 0
  WINDOW w AS (PARTITION BY customer ORDER BY moment, slip)
)
SELECT o.customer, o.slip, o.moment::DATE AS day, o.amount::DOUBLE AS amount, o.lines, n.nth, n.gap,
       o.amount::DOUBLE / nullif(sum(o.amount) OVER (PARTITION BY o.customer), 0)::DOUBLE AS share
FROM orders o LEFT JOIN numbered n USING (customer, slip) ORDER BY day, customer, slip
"""


def test_order_ledger_equals_plain_sql(shop, fairladder):
    ours = fl.order_ledger(fl.open_orders(shop / "orders.csv", scheme=shop / "scheme.toml"))
    plain = duckdb.sql(LEDGER.format(orders=shop / "orders.csv")).df()
    assert ours["order"].tolist() == plain["slip"].tolist()
    for name, theirs in (
        ("amount", "amount"),
        ("lines", "lines"),
        ("nth", "nth"),
        ("gap_days", "gap"),
    ):
        got = ours[name].astype("Float64").fillna(-1).to_numpy(dtype=float)
        assert np.array_equal(
            got, plain[theirs].astype("Float64").fillna(-1).to_numpy(dtype=float)
        ), name
    positive = plain.groupby("customer")["amount"].transform("sum") > 0
    assert np.allclose(ours["share_of_customer"][positive.to_numpy()], plain["share"][positive])
    assert ours["share_of_customer"][~positive.to_numpy()].isna().all()
    late = fairladder(
        "orders", shop / "orders.csv", "--scheme", shop / "scheme.toml", "--from", "2026-06-01"
    )
    window = pd.read_csv(pd.io.common.StringIO(late.stdout), dtype={"customer": str})
    whole = ours[
        ours["placed_on"] >= "2026-06-01"
    ]  # a date range limits what is shown, not what is first
    assert window["nth"].fillna(0).tolist() == whole["nth"].fillna(0).tolist()


def test_stability_equals_rescoring(shop):
    orders = fl.open_orders(shop / "orders.csv", scheme=shop / "scheme.toml")
    steady = fl.stability(orders, resamples=20)
    again = fl.stability(orders, resamples=20)
    pd.testing.assert_frame_equal(steady.customers, again.customers)
    before = (
        fl.score(orders.customers(), orders.scheme).set_index("customer")["segment"].astype(str)
    )
    day = orders.on(orders.as_of - dt.timedelta(days=1))
    earlier = fl.score(day.customers(), day.scheme).set_index("customer")["segment"].astype(str)
    output = steady.frame.set_index("change")["customers"]
    assert output["a day earlier"] == (earlier.reindex(before.index) != before).sum()
    exclusive = orders.scheme.with_options(scores={"method": "exclusive"})
    other = fl.score(orders.customers(), exclusive).set_index("customer")["segment"].astype(str)
    assert output["method exclusive"] == (other != before).sum()
    hair = steady.near_cut
    assert ((hair["keeps_segment"] < 0.9) | hair["a_day_matters"]).all()
    assert hair.loc[hair["keeps_segment"] < 1, "other_segment"].notna().all()


@pytest.mark.parametrize(
    "file",
    ["scheme.toml", "scheme-points.toml", "scheme-cells.toml", "scheme-behaviour.toml", "within"],
)
def test_batched_rescoring_equals_single_rescoring(shop, file):
    """Rules by scores, totals, codes, percentiles and names; ladders within districts; not
    available if a rule names a tier.
    """
    scheme = fl.load_scheme(shop / ("scheme.toml" if file == "within" else file))
    scheme = scheme.with_options(scores={"within": "district"}) if file == "within" else scheme
    orders = fl.open_orders(shop / "orders.csv", scheme=scheme)
    customers = orders.customers()
    quick, random = rescoring_of(customers, people_scored(orders)), np.random.default_rng(3)
    samples = [np.sort(random.choice(len(customers), len(customers))) for _ in range(4)]
    placed = quick.segments([quick.ladders(rows) for rows in samples])
    names = [s.name for s in scheme.segments]
    for rows, there in zip(samples, placed, strict=True):
        ladders = fl.fit_ladders(customers.iloc[rows], scheme)
        assert [names[i] for i in there] == fl.score(customers, scheme, ladders=ladders)[
            "segment"
        ].astype(str).tolist()
    rules = [
        {"name": "gold", "when": "reward = 'gold'", "stance": "keep"},
        {"name": "rest", "otherwise": True, "stance": "leave"},
    ]
    by_tier = scheme_from(
        {**fl.load_scheme(shop / "scheme.toml").settings(), "segments": rules}, "test"
    )
    by_tier = people_scored(fl.open_orders(shop / "orders.csv", scheme=by_tier))
    assert rescoring_of(customers, by_tier) is None


def test_explanation_of_single_customer_and_of_non_buyer(shop, fairladder, tmp_path):
    """No change affects a single customer; a non-buyer has a rule and no ladder."""
    (tmp_path / "one.csv").write_text("customer,order,placed,amount\na,1,2026-05-05,10\n")
    alone = fairladder("explain", tmp_path / "one.csv", "a", "--quiet")
    assert (alone.returncode, alone.stdout) == (0, "customer,kind,by,effect,segment,text\n")
    base = (shop / "orders.csv", "--scheme", shop / "scheme.toml", "--quiet")
    never = fairladder("explain", *base[:1], "00026", *base[1:], "--part", "rules")
    assert never.stdout.splitlines()[1] == '00026,no-orders-yet,orders = 0 AND refunds = 0,true,""'
    undrawn = fairladder(
        "explain", *base[:1], "00026", *base[1:], "--figure", tmp_path / "none.png"
    )
    assert (undrawn.returncode, undrawn.stderr) == (
        1,
        "Error: Customer 00026 has no purchase and so no rungs.\n",
    )
    assert not (tmp_path / "none.png").exists()
    both = fairladder("explain", *base[:1], "00026", *base[1:], "--segment", "quiet")
    assert both.stderr == "Error: Name customers by their ids, or a segment with --segment NAME.\n"


def test_smallest_purchase_for_rules_with_amounts():
    """c0 spent 50.00, and 55.50 make a mainstay: 5.50 is enough, 5.49 is not; likewise for
    averages, largest orders and tiers.
    """
    frame = pd.DataFrame(
        [(f"c{i}", f"o{i}", pd.Timestamp("2026-06-01"), 50.0 + 10 * i) for i in range(40)],
        columns=["customer", "order", "placed", "amount"],
    )
    for when, amount in {
        "spend >= 55.5": 550, "spend > 55.5": 551, "average_order_value > 60": 7001, "largest_order >= 61.25": 6125, "reward = 'best' AND orders = 2": 30000,
    }.items():  # fmt: skip
        segments = [
            {"name": "there", "when": when, "stance": "keep"},
            {"name": "rest", "otherwise": True, "stance": "leave"},
        ]
        tiers = {"reward": {"of": "spend", "top_percents": [25], "labels": ["best", "other"]}}
        scheme = {"segments": segments, "tiers": tiers, "time": {"as_of": AS_OF.date()}}
        (output,) = fl.explain(fl.open_orders(frame, scheme=scheme), ["c0"])
        change = next((c for c in output.changes if c.kind == "purchase"), None)
        assert change is not None, when
        assert change.by == amount, when
        for by, moved in ((change.by, True), (change.by - 1, False)):
            more = pd.DataFrame([("c0", "new", AS_OF, by / 100)], columns=list(frame.columns))
            after = scored(pd.concat([frame, more]) if by else frame, scheme)
            assert (after.loc["c0", "segment"] == "there") == moved, (when, by)


@pytest.mark.parametrize(
    "rule",
    ["orders > 3", "lines > 4", "spend > 60", "smallest_order < 15", "largest_order > 30", "first_order < DATE '2025-01-02'", "last_order > DATE '2026-06-01'"],
)  # fmt: skip
def test_purchase_changes_the_columns_of_its_rule(rule):
    """A rule on each column that purchases change: the predicted effect of one more purchase equals
    scoring it.
    """
    rows = [
        (
            f"c{i % 9}",
            f"o{i}",
            pd.Timestamp("2025-01-01") + pd.Timedelta(days=17 * i),
            16.0 + i % 11,
        )
        for i in range(27)
    ]
    frame = pd.DataFrame(
        [*rows, ("c0", "o0", rows[0][2], 2.0)], columns=["customer", "order", "placed", "amount"]
    )
    segments = [
        {"name": "in", "when": rule, "stance": "keep"},
        {"name": "out", "otherwise": True, "stance": "leave"},
    ]
    scheme = {"time": {"as_of": AS_OF.date()}, "segments": segments}
    before = scored(frame, scheme)["segment"]
    orders = fl.open_orders(frame, scheme=scheme)
    for who in ("c0", "c4"):
        (explained,) = fl.explain(orders, [who])
        purchase = next((c for c in explained.changes if c.kind == "purchase"), None)
        enough = frame["amount"].max() * 4
        any_amount = [
            scored(applied(frame, who, type("Change", (), {"kind": "purchase"}), 100 * by), scheme)[
                "segment"
            ][who]
            for by in (0.01, enough)
        ]
        if purchase is None:
            assert set(any_amount) == {before[who]}
            continue
        after = scored(applied(frame, who, purchase, purchase.by), scheme)["segment"][who]
        assert (after, after != before[who]) == (purchase.segment, True)

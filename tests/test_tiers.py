"""Test tiers, ladders within groups, saved ladders, and the scheme as SQL: against direct counts
and databases.
"""

import dataclasses
import json
import sqlite3
from fractions import Fraction

import duckdb
import numpy as np
import pandas as pd
import pytest
import sqlalchemy
import sqlglot
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import chi2

import fairladder as fl
from conftest import MARIADB, POSTGRES
from fairladder.engine import dialects
from fairladder.ladder.drift import chance_index, verdict

VALUES = st.lists(st.integers(-3, 12), min_size=1, max_size=40)
PERCENTS = st.lists(
    st.sampled_from(["0.5", "1", "5", "12.5", "20", "33.3", "50", "80", "99"]),
    min_size=1,
    max_size=4,
    unique=True,
)


@given(VALUES, PERCENTS, st.sampled_from(["high", "low"]), st.sampled_from(["include", "exclude"]))
def test_top_percent_tiers_match_direct_counts(values, percents, better, ties):
    percents = sorted(percents, key=float)
    ladder = fl.top_ladder(values, percents, better=better, ties=ties)
    n = len(values)
    for value, rung in zip(values, ladder.place(values), strict=True):
        better_ones = sum(v > value if better == "high" else v < value for v in values)
        as_good = better_ones + values.count(value)
        fits = [
            Fraction(better_ones) < Fraction(p) * n / 100 if ties == "include" else Fraction(as_good) <= Fraction(p) * n / 100
            for p in percents
        ]  # fmt: skip
        tier = fits.index(True) if True in fits else len(percents)
        assert rung == len(percents) + 1 - tier
    assert sum(ladder.sizes) == n
    assert fl.Ladder.from_dict(json.loads(json.dumps(ladder.to_dict()))) == ladder


@given(VALUES, PERCENTS)
def test_spend_percent_tiers_match_direct_sums(values, percents):
    percents = sorted(percents, key=float)
    ladder = fl.spend_ladder([v * 100 for v in values], percents, unit=100)
    total = sum(v for v in values if v > 0)
    for value, rung in zip(values, ladder.place(values), strict=True):
        held = sum(v for v in values if v > value and v > 0)
        tier = next(
            (i for i, p in enumerate(percents) if held < Fraction(p) * total / 100), len(percents)
        )
        assert rung == len(percents) + 1 - tier, (values, percents)


def scheme_of(shop, **settings):
    parts = fl.load_scheme(shop / "scheme.toml").settings() | settings
    return fl.Scheme.model_validate(parts)


TIERS = {
    "reward": {
        "of": "spend",
        "top_percents": [1, 5, 20],
        "labels": ["gold", "silver", "bronze", "everyone"],
    },
    "bringers": {"of": "spend", "spend_percents": [50, 80, 95]},
    "arrival": {"of": "first_order", "rungs": 4, "within": "district"},
    "points": {"of": "score_total", "rungs": 2, "shares": [0.75, 0.25]},
}
RULES = [
    {"name": "a", "when": "district LIKE '%b%' OR name LIKE 'A_a%'", "stance": "keep"},
    {
        "name": "b",
        "when": "ROUND(spend / orders, 1) > 40.5 AND first_order >= '2025-01-01'",
        "stance": "grow",
    },
    {
        "name": "c",
        "when": "reward IN ('bronze', 'gold') OR COALESCE(overdue_ratio, 9) BETWEEN 1 AND 2",
        "stance": "win-back",
    },
    {"name": "rest", "otherwise": True, "stance": "leave"},
]


def test_tiers_of_the_sample_shop(shop):
    """By first order, in quarters of each district; the customers with the first half of the
    revenue.
    """
    scheme = scheme_of(shop, tiers=TIERS)
    customers = fl.open_orders(shop / "orders.csv", scheme=scheme).customers()
    scored = fl.score(customers, scheme)
    assert list(scored["arrival"].cat.categories) == [
        "first quarter",
        "second quarter",
        "third quarter",
        "fourth quarter",
    ]
    assert list(scored["bringers"].cat.categories) == [
        "first 50 %",
        "50 to 80 %",
        "80 to 95 %",
        "the rest",
    ]
    bought = scored[scored["orders"] > 0]
    by_spend = bought.sort_values("spend", ascending=False)
    running = by_spend["spend"].cumsum() - by_spend["spend"]
    positive = bought.loc[bought["spend"] > 0, "spend"].sum()
    assert set(by_spend.loc[running < positive / 2, "customer"]) == set(
        bought.loc[bought["bringers"] == "first 50 %", "customer"]
    )
    for _, district in bought.groupby("district"):
        first = district[district["arrival"] == "first quarter"]
        assert abs(len(first) - len(district) / 4) <= 2
        assert (
            first["first_order"].max()
            < district.loc[district["arrival"] == "second quarter", "first_order"].min()
        )
    assert scored.loc[scored["orders"] == 0, "reward"].isna().all()
    with pytest.raises(
        fl.UsageError,
        match="`spend_percents` needs a measure that adds up, such as spend or orders; `recency_days` does not",
    ):
        fl.score(
            customers, scheme_of(shop, tiers={"x": {"of": "recency_days", "spend_percents": [50]}})
        )
    for wrong, output in [
        ({"of": "spend"}, "give one of `top_percents`, `spend_percents` and `rungs`"),
        ({"of": "spend", "top_percents": [5, 1]}, "percentages must rise, between 0 and 100"),
        (
            {"of": "spend", "rungs": 2, "labels": ["a"]},
            "`labels` must be 2 different names, best first",
        ),
        ({"of": "spend", "label": ["a"]}, "unknown key. Did you mean `labels`"),
    ]:
        with pytest.raises(fl.SchemeError, match=r"tiers\.x") as error:
            fl.open_orders(shop / "orders.csv", scheme={"tiers": {"x": wrong}})
        assert output in str(error.value)


def test_percentiles_of_dates_equal_those_of_days_ago(shop):
    people = fl.open_orders(shop / "orders.csv", scheme=shop / "scheme.toml").customers()
    assert (people["orders"] == 0).any()
    for day, ago in (("first_order", "tenure_days"), ("last_order", "recency_days")):
        of_day, of_days = (
            fl.score(people, fl.Scheme.model_validate({"scores": {"percentile_of": n}}))
            for n in (day, ago)
        )
        pd.testing.assert_frame_equal(of_day, of_days)
    with pytest.raises(fl.UsageError, match="`name` contains neither numbers nor dates"):
        fl.score(people, fl.Scheme.model_validate({"scores": {"percentile_of": "name"}}))


@pytest.mark.parametrize(
    "changes",
    [{}, {"segments": RULES, "scores": {"within": "district", "weights": [1.5, 1, 0.25]}}],
    ids=["shop", "all"],
)
def test_scheme_sql_equals_score_in_every_engine(shop, changes):
    scheme = scheme_of(shop, tiers=TIERS, **changes)
    customers = fl.open_orders(shop / "orders.csv", scheme=scheme).customers()
    ladders = fl.fit_ladders(customers, scheme)
    scored = fl.score(customers, scheme, ladders=ladders)
    days = ("first_order", "last_order")
    dated = customers.assign(**{d: customers[d].dt.date for d in days})
    written = customers.assign(**{d: customers[d].dt.strftime("%Y-%m-%d") for d in days})
    results = {}
    duck, lite = duckdb.connect(), sqlite3.connect(":memory:")
    duck.execute("CREATE TABLE customers AS SELECT * FROM dated")
    results["duckdb"] = duck.sql(fl.scheme_sql(scheme, ladders, scored, "duckdb")).df()
    written.to_sql("customers", lite, index=False)
    results["sqlite"] = pd.read_sql(fl.scheme_sql(scheme, ladders, scored, "sqlite"), lite)
    lite.close()
    if POSTGRES:
        engine = sqlalchemy.create_engine(POSTGRES.replace("postgresql:", "postgresql+psycopg:"))
        dated.to_sql("customers", engine, index=False, if_exists="replace")
        text = fl.scheme_sql(scheme, ladders, scored, "postgres")
        results["postgres"] = pd.read_sql(sqlalchemy.text(text.replace(":", r"\:")), engine)
        engine.dispose()
    if MARIADB:
        engine = sqlalchemy.create_engine(MARIADB)
        dated.to_sql("customers", engine, index=False, if_exists="replace")
        text = fl.scheme_sql(scheme, ladders, scored, "mariadb")
        results["mariadb"] = pd.read_sql(sqlalchemy.text(text.replace(":", r"\:")), engine)
        engine.dispose()
    for warehouse in dialects.WAREHOUSES:  # not available here: translated back to DuckDB
        text = fl.scheme_sql(scheme, ladders, scored, warehouse, view="placed_customers")
        assert text.startswith("CREATE VIEW placed_customers AS")
        tree = sqlglot.parse_one(text, dialect=warehouse).expression
        results[warehouse] = duck.sql(tree.sql("duckdb").replace("TEXT(MAX)", "TEXT")).df()
    for dialect, result in results.items():
        result = result.sort_values("customer").reset_index(drop=True)
        for name in (
            "recency_score",
            "frequency_score",
            "monetary_score",
            "score_total",
            "score_code",
            *TIERS,
            "segment",
            "stance",
        ):
            ours, theirs = (
                f[name].astype(object).where(f[name].notna(), None).tolist()
                for f in (scored, result)
            )
            assert ours == theirs, (dialect, name)


def test_scheme_sql_refuses_functions_a_warehouse_lacks(shop, monkeypatch, fairladder):
    """Functions outside a warehouse's list are refused, and statements never run there say so."""
    few = {
        "bigquery": dataclasses.replace(
            dialects.WAREHOUSES["bigquery"], functions=frozenset({"CAST", "COALESCE"})
        )
    }
    words = ["score", shop / "orders.csv", "--scheme", shop / "scheme.toml", "--quiet", "--as-sql"]
    assert "never run there" in fairladder(*words, "bigquery").stdout
    scheme = scheme_of(shop, segments=[{**RULES[0], "when": "UPPER(district) = 'WELD'"}, RULES[-1]])
    customers = fl.open_orders(shop / "orders.csv", scheme=scheme).customers()
    monkeypatch.setattr(dialects, "WAREHOUSES", few)
    with pytest.raises(fl.UsageError, match="bigquery, which has no equivalent of TRANSLATE"):
        fl.scheme_sql(scheme, fl.fit_ladders(customers, scheme), customers, "bigquery")
    assert "--as-view needs --as-sql" in fairladder(*words[:-1], "--as-view", "x").stderr


def test_saved_ladders_score_another_day_and_report_drift(shop, tmp_path, fairladder):
    orders, file = shop / "orders.csv", tmp_path / "ladders.json"
    scheme = tmp_path / "scheme.toml"
    scheme.write_text(
        (shop / "scheme.toml").read_text().replace('"members.csv"', f'"{shop / "members.csv"}"')
        + '[tiers.arrival]\nof = "first_order"\nrungs = 4\nwithin = "district"\n'
    )
    first = fairladder(
        "score", orders, "--scheme", scheme, "--as-of", "2025-12-31", "--save-ladders", file
    )
    again = fairladder(
        "score", orders, "--scheme", scheme, "--as-of", "2025-12-31", "--with-ladders", file
    )
    assert again.returncode == 0, again.stderr
    assert again.stdout == first.stdout  # the same customers on the same ladders
    later = fairladder(
        "score", orders, "--scheme", scheme, "--with-ladders", file, "--part", "drift"
    )
    frame = pd.read_csv(pd.io.common.StringIO(later.stdout))
    spend = frame[frame["ladder"] == "monetary_score"]
    then, now = spend["customers_then"].to_numpy(), spend["customers_now"].to_numpy()
    p, q = then / then.sum(), now / now.sum()
    assert spend["drift_index"].to_numpy() == pytest.approx(float(np.sum((q - p) * np.log(q / p))))
    saved = fl.load_ladders(file)
    customers = fl.open_orders(orders, scheme=fl.load_scheme(scheme)).customers()
    bought = customers[customers["orders"] > 0]
    assert (
        spend["above"].iloc[0] == (bought["spend"] > saved.ladders["monetary_score"].ends[1]).sum()
    )
    scheme.write_text(scheme.read_text().replace("rungs = 4", "rungs = 3"))
    wrong = fairladder("score", orders, "--scheme", scheme, "--with-ladders", file)
    assert (
        wrong.returncode,
        wrong.stderr.startswith("Error: The saved ladder `arrival` has 4 rungs of `first_order`"),
    ) == (2, True)


def test_drift_verdicts_allow_for_the_number_of_customers():
    """Two samples of one population are found to have moved in about one case of twenty, whatever
    their size; a real change is still found in larger ones.
    """
    draw = np.random.default_rng(5)
    even, steep = np.full(5, 0.2), np.array([0.04, 0.12, 0.2, 0.28, 0.36])

    def alarms(n: int, later: np.ndarray) -> float:
        pairs = [(draw.multinomial(n, even), draw.multinomial(n, later)) for _ in range(500)]
        return np.mean([verdict(a.tolist(), b.tolist()).startswith("moved") for a, b in pairs])

    assert max(alarms(n, even) for n in (20, 60, 300, 2000)) < 0.12
    assert alarms(300, steep) > 0.95
    assert alarms(20, steep) < 0.6
    for rungs in (2, 5, 10):
        exact = chi2.ppf(0.95, rungs - 1) * (1 / (7 * rungs) + 1 / (9 * rungs))
        assert chance_index([7] * rungs, [9] * rungs) == pytest.approx(exact, rel=0.03)
    assert chance_index([7, 0, 7], [9, 0, 9]) == chance_index([7, 7], [9, 9])
    assert verdict([20, 20], [20, 20]) == "steady"
    assert verdict([4, 4], [0, 0]).startswith("no ")
    assert verdict([10, 10], [14, 6]) == "too few customers to tell"  # index 0.17, chance 0.38
    assert verdict([100, 100], [140, 60]) == "moved somewhat"  # index 0.17, chance 0.038


def test_groups_without_ladder_get_no_score_and_small_groups_are_reported(shop):
    scheme = scheme_of(shop, scores={"within": "district"})
    orders = fl.open_orders(shop / "orders.csv", scheme=scheme)
    customers = orders.customers()
    home = customers[customers["district"] != "Oxenholt"]
    ladders = fl.fit_ladders(home, scheme)
    scored = fl.score(customers, scheme, ladders=ladders)
    assert scored.loc[(scored["district"] == "Oxenholt"), "recency_score"].isna().all()
    assert (
        scored.loc[(scored["district"] == "Quillmoor") & (scored["orders"] > 0), "score_code"]
        .notna()
        .all()
    )
    from fairladder.scores.fairness import ladder_notes
    from fairladder.value.to_score import scored as people_scored

    output = " ".join(ladder_notes(people_scored(orders, ladders=ladders)))
    assert "no ladder was saved for Oxenholt" in output
    few = fl.GroupedLadder.fit(
        "town",
        np.array([1, 2, 3]),
        np.array(["a", "a", None], dtype=object),
        lambda v: fl.Ladder.fit(v, rungs=2),
    )
    assert few.small == ("a", None)
    assert few.place(np.array([1, 2, 3]), np.array(["a", "b", None], dtype=object)).tolist() == [
        1,
        0,
        1,
    ]
    assert fl.GroupedLadder.from_dict(few.to_dict()) == few


def test_tier_summary_sums_its_customers(shop):
    orders = fl.open_orders(shop / "orders.csv", scheme=shop / "scheme.toml")
    scored = orders.score()
    summary = fl.tier_summary(scored, orders.scheme).set_index("label")
    by_hand = (
        scored[scored["orders"] > 0].groupby("reward", observed=False)["spend"].agg(["size", "sum"])
    )
    assert summary["customers"].to_dict() == by_hand["size"].to_dict()
    assert summary["spend"].to_dict() == pytest.approx(by_hand["sum"].to_dict())
    assert summary[["customer_share", "spend_share"]].sum().tolist() == pytest.approx([1, 1])
    assert fl.tier_summary(scored, fl.Scheme()).empty

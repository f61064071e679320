"""Test orders on a real Spark cluster with separate executors: equal answers, customers stay there,
nothing half written.

The tests run if FAIRLADDER_SPARK names a master, such as local-cluster[2,1,1024].
"""

import datetime as dt
import json
import os
import signal
import subprocess
import tomllib
from dataclasses import replace
from fractions import Fraction

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest

import fairladder as fl
from conftest import times
from fairladder.engine import cluster
from test_dialects import CELL, DATES, IDS, NUMBERS, agree
from test_on_paper import SCHEME as PAPER
from test_on_paper import typed_orders
from test_sources import continental

MASTER = os.environ.get("FAIRLADDER_SPARK")
pytestmark = [
    pytest.mark.skipif(
        not MASTER,
        reason="no cluster: set FAIRLADDER_SPARK to a master such as local-cluster[2,1,1024]",
    ),
    pytest.mark.xdist_group("spark"),
]
ROWS = 2500


@pytest.fixture(scope="module")
def spark():
    cluster._STARTED["spark.sql.shuffle.partitions"] = "4"  # few rows
    # On two cores Java's second compiler costs more for some hundred short queries than it saves.
    os.environ.setdefault("JDK_JAVA_OPTIONS", "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC")
    session = cluster.session_at(MASTER)
    session.conf.set("spark.sql.ansi.enabled", "false")  # a user's session: ours is another one
    yield session
    assert session.conf.get("spark.sql.ansi.enabled") == "false"
    session.stop()


@pytest.fixture(scope="module")
def rows(shop):
    return pd.read_csv(shop / "orders.csv", dtype=str, keep_default_na=False)[:ROWS]


@pytest.fixture(scope="module")
def both(spark, rows, shop):
    scheme = fl.load_scheme(shop / "scheme.toml")
    return fl.open_orders(spread(spark, rows), scheme=scheme), fl.open_orders(rows, scheme=scheme)


def spread(spark, frame):
    from fairladder.engine.cluster import _quietly

    with _quietly():
        return spark.createDataFrame(pa.Table.from_pandas(frame, preserve_index=False)).repartition(
            2
        )


def collected(frame, key="customer"):
    """Return a Spark DataFrame as the plain values of its rows, sorted by a column."""
    table = frame.toArrow().to_pandas(date_as_object=False)
    return plain(table.sort_values(key) if key else table)


def plain(frame):
    texts = {
        name: values.astype(object).where(values.notna(), None).to_list()
        for name, values in frame.items()
    }
    days = {
        n: [str(v)[:10] if hasattr(v, "isoformat") else v for v in values]
        for n, values in texts.items()
    }
    return pd.DataFrame(days, dtype=object)


def test_spark_reads_any_text_like_the_embedded_engine(spark):
    """Random texts as ids, dates and numbers, in one query."""
    from hypothesis import HealthCheck, Phase, given, settings
    from hypothesis import strategies as st

    from fairladder.engine.cluster import Cluster
    from fairladder.engine.embedded import Embedded
    from fairladder.orders import cells
    from fairladder.orders.source import open_source
    from fairladder.orders.writing import DateStyle, day_in_style, plain_number
    from fairladder.scheme import OrdersPart
    from fairladder.sqltree import column, named, select

    found = [
        "'=1+1",
        "'-7 a",
        "\t",
        "2024-02-30",
        "1d",
        "12f",
        "0x1p3",
        "1e5",
        "2026-06",
        "12:30",
        "1.005",
        "99999999.995",
    ]

    @settings(
        max_examples=times(150),
        database=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @given(st.one_of(DATES, NUMBERS, IDS))
    def collect(text):
        found.append(text)

    collect()
    rows = list(enumerate(found))
    text = cells.text(CELL, "text")
    first = {
        "t": text,
        "num": cells.number(CELL, "text"),
        "comma": plain_number(text, ","),
        "point": plain_number(text, "."),
    }
    t, num = column("t"), column("num")
    trees = {
        "id": t, "number": num, "comma": column("comma"), "point": column("point"),
        "day": cells.day(t, "text", None), "tokyo": cells.day(t, "text", "Asia/Tokyo"),
        "styled": day_in_style(t, DateStyle("day-first")), "pattern": day_in_style(t, DateStyle("%d.%m.%Y")),
        "moment": cells.moment(t, cells.day(t, "text", None), "text", None),
        "minor": cells.minor([num], None, [t], 2, "fraction"),
        "less": cells.minor([num, num], num, [t] * 3, 2, "fraction"), "off": cells.minor([num, num], num, [t] * 3, 2, "amount"),
    }  # fmt: skip
    frame, answers = pd.DataFrame(rows, columns=["n", "c"]), {}
    cluster, here = Cluster(spread(spark, frame)), Embedded()
    for name, engine, relation in (
        ("embedded", here, open_source(frame, here, OrdersPart()).relation), ("spark", cluster, cluster.relation)
    ):  # fmt: skip
        beneath = select(["*", *(named(tree, n) for n, tree in first.items())], relation)
        query = select(
            [column("n"), *(named(tree, n) for n, tree in trees.items())], beneath, "first"
        ).order_by("n")
        answers[name] = [
            {
                k: v if v is None else float(v) if k == "number" else str(v)
                for k, v in row.items()
                if k != "n"
            }
            for row in engine.table(query).to_pylist()
        ]
    agree(answers, rows)


def test_spark_customers_scores_and_lists_equal_files_and_stay_on_the_cluster(both, monkeypatch):
    there, here = both
    assert there.balance == here.balance
    assert there.notes == here.notes
    scored, wanted = there.score(), here.score()
    assert type(scored).__module__.startswith("pyspark.")
    pd.testing.assert_frame_equal(collected(scored), plain(wanted))
    pd.testing.assert_frame_equal(there.segment_summary(), here.segment_summary())
    people = there.customers()
    people.createOrReplaceTempView("customers")  # the scheme as SQL for a user's own job
    text = fl.scheme_sql(here.scheme, fl.fit_ladders(here.customers()), wanted, "spark")
    placed = collected(people.sparkSession.sql(text))
    names = [name for name in wanted if name in placed]
    pd.testing.assert_frame_equal(placed[names], plain(wanted)[names])
    rows = typed_orders(300, seed=5)
    paper = fl.open_orders(rows, scheme=PAPER, allow_set_aside=True)
    spread(people.sparkSession, rows).createOrReplaceTempView("paper")
    reduced = people.sparkSession.sql(fl.customers_sql(paper, "spark", table="paper"))
    pd.testing.assert_frame_equal(collected(reduced), plain(paper.customers()))
    for arguments in ({"by": "average_gap_days", "percent": 30, "worst": True},
                  {"by": "orders", "count": 300, "worst": True, "all_customers": True, "ties": "exclude"},
                  {"by": "recency_days", "within": "district", "percent": 15, "all_customers": True},
                  {"by": "first_order", "within": "only_channel", "count": 6, "ties": "exclude"}):  # fmt: skip
        pd.testing.assert_frame_equal(
            collected(there.top(**arguments), None), plain(here.top(**arguments))
        )
    pd.testing.assert_frame_equal(
        there.growth(period="quarter", by="channel"), here.growth(period="quarter", by="channel")
    )
    pd.testing.assert_frame_equal(there.order_counts(), here.order_counts())
    with monkeypatch.context() as ranges:  # ties among more values than are transferred
        ranges.setattr("fairladder.scores.counting.FEW", 20)
        ours, theirs = there.check(), here.check()
    assert "ties-at-cuts" in {f.code for f in ours.findings}
    assert found_by(ours) == found_by(theirs)
    assert sorted(ours.set_aside["reason"]) == sorted(theirs.set_aside["reason"])
    assert (
        fl.stability(there, resamples=3).customers.to_csv()
        == fl.stability(here, resamples=3).customers.to_csv()
    )
    monkeypatch.setattr(cluster, "_LIMITS", replace(cluster._LIMITS, rows_here=10))
    with pytest.raises(fl.UsageError, match="At most 10 can be transferred from a Spark cluster"):
        there.on("2026-06-01").stability()


def found_by(check):
    """Return the findings without row numbers, which a cluster does not have."""
    output = [
        (f.code, f.level, f.count, f.effect, f.advice)
        for f in check.findings
        if f.code != "reading"
    ]
    return output, [
        e for f in check.findings for e in f.examples if f.code != "reading" and "row" not in e
    ]


def test_spark_customer_findings_equal_files(spark):
    """Refunds, orders of zero, twins by name and by id, odd accounts, each in its currency."""
    random = np.random.default_rng(3)
    ids = [
        "Kim 1",
        "kim1",
        "KI\u00a0M1",
        "İA",
        "ia",
        "test-1",
        "Test-2",
        "guest77",
        "TestUser",
        "000",
        "Ångå",
        "åNGÅ",
        "Anna",
        "-",
    ]
    names = ["Zoë", "zoë", "Demo customer", "n/a", "İpek", None, "Iñternal Tést", "Lee"]
    who = [*random.choice(ids, 300), *[f"c{i}" for i in random.integers(0, 900, 2200)]]
    frame = pd.DataFrame({
        "customer": who, "called": random.choice(names, 2500), "order": [str(i) for i in range(2500)],
        "placed": [f"2026-0{m}-{d:02}" for m, d in zip(random.integers(1, 7, 2500), random.integers(1, 29, 2500), strict=True)],
        "amount": [str(a) for a in np.round(random.integers(-40, 900, 2500) / 10, 2)], "currency": random.choice(["EUR", "USD", None], 2500),
    }).drop_duplicates(["customer", "called"])  # fmt: skip
    frame["amount"] = frame["amount"].where(random.random(len(frame)) > 0.05, "0")
    roles = {
        "customer": "customer",
        "order": "order",
        "placed": "placed",
        "amount": "amount",
        "name": "called",
        "currency": "currency",
    }
    ours, theirs = (
        fl.check(fl.open_orders(rows, scheme={"orders": roles}))
        for rows in (spread(spark, frame), frame)
    )
    assert found_by(ours) == found_by(theirs)
    codes = {f.code for f in ours.findings}
    assert codes >= {
        "mixed-currencies",
        "refunds",
        "zero-orders",
        "name-twins",
        "id-near-twins",
        "odd-accounts",
        "short-history",
    }


def test_spark_ledger_campaigns_and_comparisons_equal_files(both, tmp_path, monkeypatch):
    """Ledger, explanations, campaigns with every step, two days, and the forecast."""
    there, here = both
    ledger, keys = here.order_ledger(), ["placed_on", "customer", "order"]
    pd.testing.assert_frame_equal(
        collected(there.order_ledger(), keys), plain(ledger.sort_values(keys))
    )
    people = here.customers()
    ids = [
        *people["customer"][people["orders"] > 2][:3],
        people["customer"][people["orders"] == 0].iloc[0],
    ]
    wanted = [e.as_json() for e in here.explain(ids)]
    assert [e.as_json() for e in there.explain(ids)] == wanted
    # more than may be transferred, so explanations have no changes
    with monkeypatch.context() as many:
        many.setattr(cluster, "_LIMITS", replace(cluster._LIMITS, rows_here=200))
        assert [e.as_json() for e in there.explain(ids)] == wanted
    (tmp_path / "leave-out.csv").write_text("customer\n" + "\n".join(people["customer"][::7]))
    earlier = fl.campaign(here, when="orders > 3").frame
    earlier.to_csv(tmp_path / "earlier.csv", index=False)
    day = earlier["listed_on"].iloc[0].date()
    for arguments in (
        {"when": "member_no <> 'x' AND joined IS NOT NULL", "exclude": [str(tmp_path / "leave-out.csv")], "consent": "email_ok",
         "contacted": [str(tmp_path / "earlier.csv")], "contacted_days": 9, "limit": 40, "holdout": 25, "by": "recency_days"},
        {"bought_through": day.replace(year=day.year - 1), "at_least": 30, "budget": 50, "cost": 2.5, "by": "last_order"},
        {"when": "spend < -1"},
    ):  # fmt: skip
        ours, theirs = fl.campaign(there, **arguments), fl.campaign(here, **arguments)
        pd.testing.assert_frame_equal(ours.funnel, theirs.funnel)
        assert ours.frame.to_csv() == theirs.frame.to_csv()
        assert (ours.notes, ours.receipt) == (theirs.notes, theirs.receipt)
    then = day.replace(month=day.month - 3, day=28)
    theirs = here.compare(then)
    with monkeypatch.context() as many:  # more movers than may be transferred: both ends are
        many.setattr("fairladder.review.comparison.MOST_MOVERS", 9)
        ours = there.compare(then)
    falling = theirs.movers.sort_values(
        ["change", "spend_after", "customer"], ascending=[True, False, True]
    )
    ends = {*theirs.movers["customer"][:9], *falling[falling["change"] < 0]["customer"][:9]}
    kept = theirs.movers[theirs.movers["customer"].isin(ends)].reset_index(drop=True)
    assert 9 < len(kept) < len(theirs.movers)
    wanted = theirs.tables() | {"movers": kept}
    assert {n: t.to_csv() for n, t in ours.tables().items()} == {
        n: t.to_csv() for n, t in wanted.items()
    }
    assert (ours.notes[:-1], ours.returned, ours.rose, ours.fell) == (
        theirs.notes,
        theirs.returned,
        theirs.rose,
        theirs.fell,
    )
    assert (
        f"Of {len(theirs.movers):,} customers in another segment, {len(kept)} with the largest"
        in ours.notes[-1]
    )
    ours, theirs = (fl.paths(o, then, every="quarter") for o in both)
    assert {n: t.to_csv() for n, t in ours.tables().items()} == {
        n: t.to_csv() for n, t in theirs.tables().items()
    }
    ours, theirs = (o.value_forecast(method="beta-geometric") for o in both)
    assert ours.frame.to_csv() == theirs.frame.to_csv()
    assert "transferred from the cluster" in ours.notes[-1]


def test_spark_rules_can_use_the_forecast(spark, rows, shop):
    """Forecasts are computed here and sent back; order lines with ignored refunds, in a date range."""
    plain_scheme = tomllib.loads((shop / "scheme.toml").read_text())
    scheme = plain_scheme | {
        "customers": {**plain_scheme["customers"], "file": str(shop / "members.csv")},
        "money": {**plain_scheme["money"], "refunds": "ignore"}, "time": {"as_of": dt.date(2024, 3, 1), "from": dt.date(2023, 9, 1)},
        "scores": {**plain_scheme["scores"], "percentile_of": "score_total"},
        "tiers": {"worth": {"of": "expected_value", "top_percents": [10, 30], "labels": ["a", "b", "c"]}},
        "segments": [{"name": "likely", "when": "worth = 'a' OR active_probability > 0.6 AND expected_value > 20", "stance": "keep"},
                     {"name": "others", "otherwise": True, "stance": "leave"}],
    }  # fmt: skip
    there, here = (
        fl.open_orders(spread(spark, rows), scheme=scheme),
        fl.open_orders(rows, scheme=scheme),
    )
    lines = here.order_lines()
    assert lines["share_of_customer"].isna().any()
    pd.testing.assert_frame_equal(
        collected(there.order_lines(), [*lines]), plain(lines.sort_values([*lines]))
    )
    pd.testing.assert_frame_equal(collected(there.score()), plain(here.score()))
    for arguments in (
        {"response": 0.05, "when": "expected_return < 0.3", "by": "expected_return", "limit": 50},
        {"when": "active_probability < 0.3", "by": "value_low"},
    ):
        ours, theirs = fl.campaign(there, **arguments), fl.campaign(here, **arguments)
        assert ours.frame.to_csv() == theirs.frame.to_csv()
        pd.testing.assert_frame_equal(
            ours.funnel, theirs.funnel
        )  # customers without a purchase have no expected return
        assert "were sent back" in ours.notes[0]
        assert ours.notes[1:] == theirs.notes


@pytest.mark.usefixtures("spark")
def test_spark_command_writes_equal_parts_or_nothing(shop, rows, tmp_path, fairladder, monkeypatch):
    """German numbers and dates in CSV as the cluster reads it; ladders within groups, tiers by
    spend, saved ladders; refusals.
    """
    style = pd.DataFrame([continental(r) for r in rows.to_dict("records")])
    style.to_csv(tmp_path / "orders.csv", index=False)
    text = (shop / "scheme.toml").read_text() + (
        '\n[tiers.held]\nof = "spend"\nspend_percents = [50, 80]\nlabels = ["half", "most", "rest"]\n'
        '\n[tiers.first]\nof = "first_order"\nrungs = 3\nlabels = ["early", "mid", "late"]\nwithin = "district"\n'
    )
    (tmp_path / "scheme.toml").write_text(text)
    (tmp_path / "members.csv").write_bytes((shop / "members.csv").read_bytes())
    common = [
        "score",
        "orders.csv",
        "--scheme",
        "scheme.toml",
        "--at-first",
        "channel",
        "--at-latest",
        "category",
    ]
    here = fairladder(*common, "--out", "here.csv", cwd=tmp_path)
    assert here.returncode == 0, here.stderr
    there = fairladder(
        *common,
        "--spark",
        MASTER,
        "--out",
        "there.csv",
        "--save-ladders",
        "ladders.json",
        cwd=tmp_path,
    )
    assert there.returncode == 0, there.stderr
    parts = sorted((tmp_path / "there.csv").glob("part-*"))
    lines = [part.read_text().splitlines(keepends=True) for part in parts]
    assert (
        "".join(lines[0][:1] + [line for part in lines for line in part[1:]])
        == (tmp_path / "here.csv").read_text()
    )
    some = [
        "customers",
        *common[1:],
        "--when",
        "first_channel <> 'web' AND active_probability < 0.9",
        "--sort",
        "expected_value",
    ]
    some += ["--columns", "customer,expected_value,first_channel,latest_category"]
    assert fairladder(*some, "--spark", MASTER, "--out", "some.csv", cwd=tmp_path).returncode == 0
    (part,) = (tmp_path / "some.csv").glob("part-*")
    assert part.read_text() == fairladder(*some, cwd=tmp_path).stdout
    receipt = json.loads((tmp_path / "there.csv/_settings.json").read_text())
    assert receipt["balance"]["rows_read"] == len(rows)
    best = [
        "top",
        *common[1:],
        "--within",
        "district",
        "--when",
        "orders > 2",
        "--by",
        "overdue_ratio",
        "--columns",
        "rank,customer",
    ]
    drifted = ["--with-ladders", "ladders.json", "--part", "drift", "--as-of", "2024-05-01"]
    for arguments in ([*common, *drifted], best, [*common, "--as-sql", "postgres"]):
        assert (
            fairladder(*arguments, "--spark", MASTER, cwd=tmp_path).stdout
            == fairladder(*arguments, cwd=tmp_path).stdout
        )
    (tmp_path / "few.csv").write_text(
        "customer,date,amount\na,2026-01-05,10\nb,2026-01-06,20\nc,2026-02-05,30\na,2026-03-05,10\n"
    )
    with monkeypatch.context() as seen:  # what a terminal shows
        seen.setattr("fairladder.cli.screen.for_people", lambda _: True)
        seen.setattr(
            "fairladder.book.look.codes_in", lambda _: ()
        )  # findings that only `check` looks for on a cluster, as the note says
        seen.setattr(
            "fairladder.scores.fairness.in_words", lambda *_: ""
        )  # findings that only `check` reports for a cluster
        for arguments in (
            ["customers", *common[1:4]],
            ["orders", *common[1:4], "--lines"],
            ["score", "few.csv"],
        ):
            ours, theirs = (
                fairladder(*arguments, *where, cwd=tmp_path).stdout
                for where in (["--spark", MASTER], [])
            )
            assert ours == theirs
    assert "Too few to advise" in ours
    assert "Too early to advise" in ours

    (tmp_path / "mine.csv").mkdir()
    (tmp_path / "mine.csv/letter").write_text("dear")
    output = fairladder(*common, "--spark", MASTER, "--out", "mine.csv", cwd=tmp_path)
    assert "was not written by Fair Ladder" in output.stderr
    assert [p.name for p in (tmp_path / "mine.csv").iterdir()] == ["letter"]
    taken = fairladder(
        "growth", "orders.csv", "--spark", MASTER, "--out", "orders.csv", cwd=tmp_path
    )
    assert (taken.returncode, "is read. Inputs are never changed" in taken.stderr) == (2, True)
    roles = [
        "--customer-column",
        "customer",
        "--placed-column",
        "last_order",
        "--amount-column",
        "spend",
        "--order-column",
        "customer",
    ]
    parts_of = fairladder(
        "score", "there.csv", *roles, "--spark", MASTER, "--out", "there.csv", cwd=tmp_path
    )
    assert "contains files that are read" in parts_of.stderr
    assert "Pass --out NAME.parquet" in fairladder(*common, "--spark", MASTER, cwd=tmp_path).stderr
    assert (
        "are folders of parts"
        in fairladder(*common, "--spark", MASTER, "--out", "x.xlsx", cwd=tmp_path).stderr
    )
    with (tmp_path / "orders.csv").open("a") as file:
        file.write("one,cell,too\n")
    ragged = fairladder(*common, "--spark", MASTER, "--out", "there.csv", cwd=tmp_path)
    assert ragged.returncode == 1
    assert "more or fewer cells than the header" in ragged.stderr
    assert (
        json.loads((tmp_path / "there.csv/_settings.json").read_text()) == receipt
    )  # the old one still exists
    assert not list(tmp_path.glob("there.csv.*"))


def test_spark_cuts_are_found_without_all_values(spark, monkeypatch):
    """Ladders from ranges of values, opened only where a cut could be, compared with ladders of all
    values.
    """
    from fairladder.scores import counting
    from fairladder.sqltree import select

    monkeypatch.setattr(counting, "FEW", 50)
    monkeypatch.setattr(counting, "_OPENED", 3000)
    random = np.random.default_rng(7)
    spread_out = np.round(random.lognormal(4, 1.2, 60_000), 2)
    heavy = np.where(random.random(60_000) < 0.3, 9.99, spread_out)
    rows_there = cluster.Cluster(
        spread(
            spark, pd.DataFrame({"spread": spread_out, "heavy": heavy, "refunds": spread_out - 60})
        )
    )
    for name, values in (("spread", spread_out), ("heavy", heavy), ("refunds", spread_out - 60)):
        relation = select([f"{name} AS value"], rows_there.relation)
        for better, shares in (
            ("high", [Fraction(1, 5)] * 5),
            ("low", [Fraction(1, 2), Fraction(3, 10), Fraction(1, 5)]),
        ):
            rungs = len(shares)
            wanted = np.cumsum(shares if better == "high" else shares[::-1])[:-1]
            counts = counting.counts_for_cuts(rows_there, relation, list(wanted), even=True)
            assert counts.counts.sum() == len(values)
            given = fl.Ladder.fit(
                counts.values, rungs, better=better, shares=shares, counts=counts.counts
            )
            assert given == fl.Ladder.fit(values, rungs, better=better, shares=shares)
            if name != "heavy":
                assert len(counts.values) < len(np.unique(values)) / 2


def test_spark_survives_a_lost_executor(spark, both, rows, shop):
    there = fl.open_orders(spread(spark, rows), scheme=fl.load_scheme(shop / "scheme.toml"))
    found = subprocess.run(
        ["pgrep", "-f", "CoarseGrainedExecutorBackend"], capture_output=True, text=True, check=False
    )
    executors = [int(pid) for pid in found.stdout.split()]
    if not executors:
        pytest.skip("this master has no executors of its own")
    os.kill(executors[0], signal.SIGKILL)  # with the kept groups
    pd.testing.assert_frame_equal(collected(there.customers()), plain(both[1].customers()))


def test_spark_writes_floats_like_other_engines(spark):
    """Groups by numbers that Java would write as 1.0E7, in columns of both widths."""
    frame = pd.DataFrame({
        "customer": list("abac"), "order": list("1234"), "placed": ["2024-01-01"] * 4, "amount": [5.5, 1e7, 12345678.9, 2.0],
        "weight": [1e7, 5e-5, 2.5, 12345678.25], "small": np.array([1e7, 0.25, 3e-5, 7], dtype="float32"),
    })  # fmt: skip
    there, here = fl.open_orders(spread(spark, frame)), fl.open_orders(frame)
    for column in ("weight", "small"):
        pd.testing.assert_frame_equal(there.breakdown(column).frame, here.breakdown(column).frame)

"""Test campaigns: lists, holdouts, intervals of the lift, and safe files."""

import datetime as dt
import hashlib
import io
import json

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from rich.console import Console
from scipy.stats import ttest_ind

import fairladder as fl
from conftest import times
from fairladder.campaigns.holdout import held_out
from fairladder.campaigns.lift import difference_of_means, newcombe, newcombe_p, smallest_effect
from fairladder.cli.campaign import lift_view
from fairladder.output.files import made_safe, receipt_trouble

DAY = st.dates(dt.date(2026, 1, 1), dt.date(2026, 1, 12))
ROWS = st.lists(
    st.tuples(st.sampled_from("abcdefghijklmnop"), DAY, st.sampled_from([10, 20, 20.01, 50])),
    min_size=1,
    max_size=40,
)
ANYBODY = [{"name": "second", "holdout": 30}]


def opened(rows, campaigns=(), order=None):
    frame = pd.DataFrame(rows, columns=["customer", "placed", "amount"]).astype(
        {"placed": "datetime64[s]", "amount": float}
    )
    frame = frame.iloc[order] if order is not None else frame
    return fl.open_orders(
        frame, scheme={"campaigns": list(campaigns), "time": {"as_of": dt.date(2026, 1, 31)}}
    )


@settings(max_examples=times(6), deadline=None)
@given(
    ROWS, st.sampled_from(["spend", "orders", "recency_days", "average_gap_days"]), st.sampled_from([None, "include", "exclude"]),
    st.one_of(st.integers(1, 12), st.tuples(st.sampled_from([5, 7.7, 0.3]), st.sampled_from([1.1, 0.1]))),
    st.sampled_from([0, 25, 99.5]), st.randoms(use_true_random=False),
)  # fmt: skip
def test_campaign_list_satisfies_its_settings(rows, by, ties, limit, percent, random):
    how = {"limit": limit} if isinstance(limit, int) else {"budget": limit[0], "cost": limit[1]}
    first = {
        "name": "first",
        "when": "spend >= 20",
        "by": by,
        "holdout": percent,
        **how,
        **({"ties": ties} if ties else {}),
    }
    orders = opened(rows, [first, *ANYBODY])
    lists = fl.campaign_lists(orders)
    listed = lists["first"].frame
    shuffled = fl.campaign_lists(
        opened(rows, [first, *ANYBODY], order=random.sample(range(len(rows)), len(rows)))
    )
    for name, made in lists.items():
        pd.testing.assert_frame_equal(made.frame, shuffled[name].frame)
        assert made.receipt["digests"]["list"] == shuffled[name].receipt["digests"]["list"]
        steps = made.funnel
        assert (
            steps["customers"].shift(1).fillna(steps["customers"]) - steps["customers"]
            == steps["removed"]
        ).all()
        assert len(made.frame) == len(made.contacts) + len(made.holdout)
        assert steps["customers"].iloc[-1] == len(made.contacts)
        # A customer's holdout status does not depend on who else is listed.
        alone = {
            c: bool(held_out(name, [c], made.campaign.holdout)[0]) for c in made.frame["customer"]
        }
        assert ((made.frame["group"] == "holdout") == made.frame["customer"].map(alone)).all()
        # Another campaign draws another holdout: of 200 ids, two draws of half agree completely
        # with a probability of 2^-200.
        assert (
            held_out(name, map(str, range(200)), 50)
            != held_out(f"{name}!", map(str, range(200)), 50)
        ).any()
    assert not set(listed["customer"]) & set(lists["second"].frame["customer"])
    # No excluded customer has as good a value as a listed one; with "exclude" the list never
    # exceeds the limit.
    customers = orders.customers().set_index("customer")
    eligible = customers[customers["spend"] >= 20]
    sign = 1 if by in ("recency_days", "average_gap_days") else -1
    value = (sign * eligible[by].astype(float)).fillna(np.inf)
    inside, outside = value[listed["customer"]], value.drop(listed["customer"])
    assert inside.empty or outside.empty or inside.max() < outside.min()
    places = limit if isinstance(limit, int) else round(limit[0] * 10) // round(limit[1] * 10)
    if (ties or ("include" if isinstance(limit, int) else "exclude")) == "include":
        assert len(inside) >= min(places, len(eligible))
        assert inside.empty or (inside < inside.max()).sum() < places
    else:
        assert len(inside) <= places
        assert outside.empty or (value <= outside.min()).sum() > places
    assert listed["rank"].tolist() == [
        1 + int((value < value[c]).sum()) for c in listed["customer"]
    ]
    assert list(zip(listed["rank"], listed["customer"], strict=True)) == sorted(
        zip(listed["rank"], listed["customer"], strict=True)
    )


@settings(max_examples=times(6), deadline=None)
@given(ROWS, DAY, DAY, st.sampled_from([None, 20, 20.01, 50]))
def test_bought_from_needs_one_purchase_of_minimum_amount(rows, one, two, least):
    start, end = min(one, two), max(one, two)
    made = fl.campaign(opened(rows), bought_from=start, bought_through=end, at_least=least)
    wanted = {}
    for who, day, amount in rows:
        if start <= day <= end and amount >= (least or 0):
            wanted[who] = max(wanted.get(who, (0, day)), (amount, day))
    assert set(made.frame["customer"]) == set(wanted)
    for row in made.frame.itertuples():
        assert row.reason == f"bought {wanted[row.customer][0]:.2f} on {wanted[row.customer][1]}"


def test_exclusions_consent_and_earlier_lists_remove_customers(tmp_path):
    ids = ["=1+1", "'quoted", "-5", "plain", "late", "held", "silent", "opted-out"]
    orders = fl.open_orders(
        pd.DataFrame({"customer": ids, "placed": pd.Timestamp("2026-01-05"), "amount": 5.0}),
        customers=pd.DataFrame(
            {"customer": ids, "news": ["Yes", " y ", "TRUE", "1", "yes", "yes", None, "no"]}
        ),
        scheme={"time": {"as_of": dt.date(2026, 1, 31)}},
    )
    made = fl.campaign(orders, consent="news")
    assert set(made.frame["customer"]) == set(ids) - {"silent", "opted-out"}
    assert made.notes[0] == "Consent by `news`: 6 yes, 1 no, 1 blank."
    # Cells made safe for a spreadsheet are read back unchanged; an id's own apostrophe stays.
    fl.write(made.frame.head(3), tmp_path / "out.csv", spreadsheet_safe=True)
    assert "'=1+1," in (tmp_path / "out.csv").read_text()
    assert "\n-5," in (tmp_path / "out.csv").read_text()
    left = fl.campaign(orders, consent="news", exclude=[str(tmp_path / "out.csv")])
    assert set(left.frame["customer"]) == set(made.frame["customer"]) - set(
        made.frame["customer"].head(3)
    )
    earlier = pd.DataFrame({
        "customer": ["plain", "late", "held"], "group": ["contact", "contact", "holdout"],
        "listed_on": ["2026-01-21", "2026-01-20", "2026-01-30"],
    })  # fmt: skip
    earlier.to_csv(tmp_path / "earlier.csv", index=False)
    now = fl.campaign(
        orders, contacted=[str(tmp_path / "earlier.csv")], contacted_days=10
    )  # from the 21st on, inclusive
    assert set(ids) - set(now.frame["customer"]) == {"plain"}
    assert now.funnel["step"].tolist() == ["customers", "not contacted recently"]
    secret = fl.campaign(orders, pseudonym_key=b"a secret of the studio")
    assert not set(secret.frame["customer"]) & set(ids)
    assert secret.frame["customer"].str.fullmatch("[0-9a-f]{32}").all()
    assert (
        secret.frame["customer"].tolist()
        != fl.campaign(orders, pseudonym_key=b"quite another secret").frame["customer"].tolist()
    )


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('[[campaigns]]\nname = "a"\nlimt = 3\n', "campaigns[1].limt (line 3): unknown key. Did you mean `limit`?"),
        ('[[campaigns]]\nname = "a"\nholdout = 100\n', "campaigns[1].holdout (line 3)"),
        ('[[campaigns]]\nname = "a"\n[[campaigns]]\nname = "a"\n', "two campaigns are named `a`; give each its own name"),
        ('[[campaigns]]\nname = "a"\ncontacted_days = 30\n', "`contacted` (files of earlier lists) and `contacted_days` go together"),
        ('[[campaigns]]\nname = "a"\nbought_from = 2026-02-01\nbought_through = 2026-01-01\n', "`bought_through` (2026-01-01) is before"),
        ("[value]\nhorizn = 90\n", "value.horizn (line 2): unknown key. Did you mean `horizon`?"),
        ("[value]\nmargin = 40\n", "value.margin (line 2)"), ('[value]\nmethod = "guess"\n', "value.method (line 2)"),
    ],
)  # fmt: skip
def test_wrong_campaign_keys_are_reported_with_their_place(tmp_path, text, says):
    (tmp_path / "scheme.toml").write_text(text)
    with pytest.raises(fl.SchemeError) as caught:
        fl.load_scheme(tmp_path / "scheme.toml")
    assert says in str(caught.value)


def test_campaign_files_are_relative_to_scheme_and_safe_csv_is_optional(tmp_path, fairladder):
    (tmp_path / "no.csv").write_text("customer\n=b\n")
    (tmp_path / "scheme.toml").write_text('[[campaigns]]\nname = "a"\nexclude = ["no.csv"]\n')
    (tmp_path / "orders.csv").write_text(
        "customer,placed,amount\n=b,2026-01-01,5\nc,2026-01-02,6\n"
    )
    orders = fl.open_orders(tmp_path / "orders.csv", scheme=tmp_path / "scheme.toml")
    assert fl.campaign_lists(orders)["a"].frame["customer"].tolist() == ["c"]
    base = ("customers", tmp_path / "orders.csv", "--as-of", "2026-01-31", "--quiet")
    assert "\n=b,1," in fairladder(*base).stdout
    assert "\n'=b,1," in fairladder(*base, "--spreadsheet-safe").stdout
    score = fairladder(
        "score",
        tmp_path / "orders.csv",
        "--as-of",
        "2026-01-31",
        "--quiet",
        "--out",
        tmp_path / "scored.xlsx",
    )
    assert score.returncode == 0, score.stderr
    sheet = pd.read_excel(tmp_path / "scored.xlsx", sheet_name="customers", engine="calamine")
    assert sheet[["customer", "spend"]].to_numpy().tolist() == [["=b", 5], ["c", 6]]
    assert sheet["first_order"].tolist() == [pd.Timestamp("2026-01-01"), pd.Timestamp("2026-01-02")]
    as_written = fairladder(
        "campaign",
        tmp_path / "orders.csv",
        "--when",
        "spend < 6",
        "--as-of",
        "2026-01-31",
        "--text-as-written",
        "--quiet",
    )
    assert as_written.stdout.splitlines()[1].startswith("=b,contact,1,")


def test_campaign_csv_contains_no_formulas(tmp_path):
    nasty = ["=HYPERLINK(1)", "+49 1", "-2+3", "@sum", "\tx", "\rx", "-2.50", "+3", "fine", None]
    frame = pd.DataFrame(
        {"name": nasty, "spend": np.arange(10.0), "segment": pd.Categorical(["=a", *["b"] * 9])}
    )
    assert made_safe(frame)["name"].tolist()[:9] == [f"'{t}" for t in nasty[:6]] + nasty[6:9]
    fl.write(
        {"list": frame, "other": frame.head(2)},
        tmp_path / "out.xlsx",
        facts={"as_of": "2026-01-31"},
    )
    back = pd.read_excel(tmp_path / "out.xlsx", sheet_name=None, engine="calamine", header=0)
    assert list(back) == ["list", "other", "definitions", "about"]
    assert (
        back["list"]["name"].tolist()[:4] == nasty[:4]
    )  # as text: a formula would be read as its value
    assert back["list"]["spend"].tolist() == frame["spend"].tolist()
    assert b"<f>" not in (tmp_path / "out.xlsx").read_bytes()
    fl.write(
        {"list": frame, "other": frame.head(2)},
        tmp_path / "again.xlsx",
        facts={"as_of": "2026-01-31"},
    )
    assert (tmp_path / "out.xlsx").read_bytes() == (tmp_path / "again.xlsx").read_bytes()


def test_newcombe_interval_matches_published_figures_and_covers():
    """Newcombe's example: 56 of 70 against 48 of 80. In 4,000 draws, 95 % intervals of rates
    contain the truth in 93 to 97 %.
    """
    assert newcombe(56, 70, 48, 80) == (
        pytest.approx(0.0524, abs=5e-5),
        pytest.approx(0.3339, abs=5e-5),
    )
    random = np.random.default_rng(5)
    for p1, n1, p2, n2 in ((0.12, 400, 0.08, 100), (0.5, 60, 0.3, 40), (0.02, 900, 0.02, 300)):
        draws = zip(random.binomial(n1, p1, 4000), random.binomial(n2, p2, 4000), strict=True)
        bounds = np.array([newcombe(int(a), n1, int(b), n2) for a, b in draws])
        assert 0.93 < ((bounds[:, 0] <= p1 - p2) & (p1 - p2 <= bounds[:, 1])).mean() < 0.97
    effect = smallest_effect(0.1, 600, 200)
    seen = [
        newcombe_p(int(a), 600, int(b), 200) < 0.05
        for a, b in zip(
            random.binomial(600, 0.1 + effect, 1000), random.binomial(200, 0.1, 1000), strict=True
        )
    ]
    assert 0.76 < np.mean(seen) < 0.84


@settings(max_examples=times(60))
@given(
    one=st.integers(0, 900), two=st.integers(0, 100), n=st.integers(1, 900), m=st.integers(1, 100)
)
def test_newcombe_p_value_agrees_with_interval(one, two, n, m):
    one, two = min(one, n), min(two, m)
    low, high = newcombe(one, n, two, m)
    p = newcombe_p(one, n, two, m)
    assert (p < 0.05) == (low > 1e-12 or high < -1e-12) or p == pytest.approx(0.05)
    assert newcombe_p(two, m, one, n) == pytest.approx(p)
    assert (p == 1) == (one * m == two * n)


@pytest.mark.parametrize(
    ("contacted", "held_out", "rate", "tail"),
    [(900, 100, 0.05, 0.8), (900, 50, 0.05, 0.8), (900, 100, 0.02, 1.5), (90, 10, 0.2, 0.8), (9900, 100, 0.05, 0.8), (400, 400, 0.1, 0.8)],
)  # fmt: skip
def test_spend_interval_has_nominal_coverage(contacted, held_out, rate, tail):
    """Without any effect, 95 % intervals contain 0 in at least 93 %; Welch's alone contained it in
    77 to 88 % of the first five cases.
    """
    random, held, agrees = np.random.default_rng(contacted + held_out), [], []
    for _ in range(600):
        one, two = (
            np.where(random.random(n) < rate, random.lognormal(3.5, tail, n), 0.0)
            for n in (contacted, held_out)
        )
        low, high, _p = difference_of_means(one, two)
        held.append(np.isnan(low) or low <= 0 <= high)
        agrees.append(difference_of_means(two, one)[1] == pytest.approx(-low, nan_ok=True))
    assert np.mean(held) >= 0.93
    assert all(agrees)


def test_spend_interval_worked_example():
    """Equal variances: 3, 4, 5 against 1, 2, 3 is 2 ± 2.776·√(1·2/3); a small group that varies
    more gets Welch's interval.
    """
    reach = 2.776445 * (2 / 3) ** 0.5
    assert difference_of_means(np.array([3.0, 4, 5]), np.array([1.0, 2, 3]))[:2] == pytest.approx(
        (2 - reach, 2 + reach), rel=1e-6
    )
    calm, wild = np.array([4.0, 5, 4, 5, 4, 5]), np.array([0.0, 30])
    other = ttest_ind(calm, wild, equal_var=False)
    assert difference_of_means(calm, wild) == pytest.approx(
        (*other.confidence_interval(0.95), other.pvalue), rel=1e-9
    )
    assert np.isnan(difference_of_means(calm, wild[:1])).all()


def test_lift_worked_example():
    """Contacted: a, b, c, d; held out: e, f. In the window a and b spend 30 and 10, b returns 4, e
    spends 6.
    """
    listed = pd.DataFrame({
        "customer": list("abcdef"), "group": ["contact"] * 4 + ["holdout"] * 2, "segment": list("xxyyxy"), "listed_on": pd.Timestamp("2026-01-31"),
    })  # fmt: skip
    rows = [("a", "2026-02-01", 30), ("b", "2026-02-10", 10), ("b", "2026-02-10", -4), ("c", "2026-01-31", 99), ("e", "2026-02-10", 6),
            ("d", "2026-02-11", 50), ("z", "2026-02-05", 70)]  # fmt: skip
    frame = pd.DataFrame(rows, columns=["customer", "placed", "amount"])
    found = fl.lift(
        listed, fl.open_orders(frame.assign(order=range(len(frame)))), through="2026-02-10"
    )
    whole = found.frame.iloc[0]
    assert whole[["contacted", "held_out", "bought_contacted", "bought_held_out"]].tolist() == [
        4,
        2,
        2,
        1,
    ]
    assert whole[["response_contacted", "response_held_out", "response_lift"]].tolist() == [
        0.5,
        0.5,
        0,
    ]
    assert whole[["spend_contacted", "spend_held_out"]].tolist() == [9, 3]
    assert np.isnan(whole["spend_p"])
    assert "No p-value is given for spend: with fewer than 10 buyers in a group" in found.notes[0]
    assert found.frame["segment"].tolist() == ["all", "x", "y"]
    assert found.in_words().endswith(
        "chance (p = 1.00). These groups are too small to detect any effect."
    )
    assert (found.since, found.through) == (dt.date(2026, 2, 1), dt.date(2026, 2, 10))
    alone = fl.lift(listed[listed["group"] == "contact"], fl.open_orders(frame))
    assert "cannot be determined" in alone.in_words()
    console = Console(width=200, file=io.StringIO(), color_system=None)
    console.print(*lift_view(alone, "spring"))
    assert "Did spring work? There is no comparison\n" in console.file.getvalue()
    with pytest.raises(fl.UsageError, match="the results end before the campaign begins"):
        fl.lift(
            listed,
            fl.open_orders(frame.head(0).assign(placed=pd.Series(dtype="datetime64[s]"))),
            through="2026-01-20",
        )
    plan = fl.plan_holdout(2000, 0.1, 0.05)
    assert (
        smallest_effect(0.1, 2000 - plan.held_out, plan.held_out)
        <= 0.05
        < smallest_effect(0.1, 2001 - plan.held_out, plan.held_out - 1)
    )
    assert fl.plan_holdout(50, 0.1, 0.05).held_out is None


def test_consent_words_in_other_languages_are_recognised_and_reported():
    reported = {
        "ja": 1,
        "Sí": 1,
        "oui": 1,
        "tak": 1,
        "はい": 1,
        "1.0": 1,
        "nein": 0,
        "ne": 0,
        "нет": 0,
        "0.0": 0,
        "maybe": None,
        "10": None,
        "x": None,
    }
    people = pd.DataFrame(
        {"customer": [f"k{i}" for i in range(len(reported))], "news": list(reported)}
    )
    orders = fl.open_orders(
        people[["customer"]].assign(placed=pd.Timestamp("2026-01-05"), amount=5.0), customers=people
    )
    made = fl.campaign(orders, consent="news")
    assert set(made.frame["customer"]) == set(people["customer"][people["news"].map(reported) == 1])
    wanted = "Warning: Consent by `news`: 6 yes, 4 no, 0 blank, and 3 neither (`10`, `maybe`, `x`), which counts as no."
    assert made.notes[0].startswith(wanted)


def test_saved_list_needs_no_conditions_and_plan_needs_no_list(fairladder, shop):
    then = [
        "campaign",
        "orders.csv",
        "--when",
        "orders >= 1",
        "--holdout",
        20,
        "--as-of",
        "2026-03-31",
        "--out",
        "then.csv",
        "--quiet",
    ]
    assert fairladder(*then, cwd=shop).returncode == 0
    arguments = ["campaign", "orders.csv", "--results", "orders.csv", "--list", "then.csv"]
    by_scheme = fairladder(*arguments, "--as-of", "2026-05-15", "--out", "lift.csv", cwd=shop)
    assert "Measured up to the as-of date, 15 May 2026" in by_scheme.stderr
    stated = fairladder(
        *arguments, "--measure-through", "2026-05-15", "--out", "stated.csv", cwd=shop
    )
    assert (by_scheme.returncode, stated.returncode) == (0, 0), stated.stderr
    assert (shop / "lift.csv").read_bytes() == (shop / "stated.csv").read_bytes()
    whole = fairladder(*arguments, "--out", "whole.csv", "--when", "orders = 1", cwd=shop)
    assert "between 2026-04-01 and 2026-06-30" in whole.stderr
    assert "the conditions given have no effect" in whole.stderr
    assert (shop / "whole.csv").read_bytes() != (shop / "stated.csv").read_bytes()
    later = ("--measure-through", "2026-07-30")  # April to June are 91 days, July adds 30
    beyond = fairladder(*arguments, *later, "--out", "beyond.csv", cwd=shop)
    assert "The results end on 30 June 2026, so 91 of the 121 days up to 30 July 2026" in (
        " ".join(beyond.stderr.split())
    )
    assert (shop / "beyond.csv").read_bytes() == (shop / "whole.csv").read_bytes()
    early = fairladder(*arguments, "--measure-through", "2026-03-31", cwd=shop)
    assert (early.returncode, "contains no day" in early.stderr) == (2, True)
    assert (
        "has no funnel"
        in fairladder(*arguments, "--figure", "f.png", "--figure-of", "funnel", cwd=shop).stderr
    )
    plan = fairladder(
        "campaign", "orders.csv", "--plan-effect", "12%", "--base-rate", "10%", cwd=shop
    )
    count = (fl.open_orders(shop / "orders.csv").customers()["orders"] > 0).sum()
    output = fl.plan_holdout(int(count), 0.1, 0.12)
    assert (plan.returncode, output.in_words() in plan.stderr) == (0, True), plan.stderr
    assert plan.stdout.splitlines()[1].split(",")[:4] == [
        str(count),
        "0.1",
        "0.12",
        str(output.held_out),
    ]


def test_campaign_command_from_list_to_lift(fairladder, shop):
    scheme = (shop / "scheme.toml").read_text().split("[[campaigns]]")[0]
    scheme += '\n[[campaigns]]\nname = "win-back"\nwhen = "stance = \'win-back\'"\nconsent = "email_ok"\nlimit = 60\nholdout = 20\n'
    scheme += '\n[[campaigns]]\nname = "thanks"\nat_least = 300\nbought_from = 2026-01-01\nbudget = 40\ncost = 1.25\nby = "largest_order"\n'
    (shop / "campaigns.toml").write_text(scheme)
    arguments = ["campaign", "orders.csv", "--scheme", "campaigns.toml", "--as-of", "2026-03-31"]
    done = fairladder(*arguments, "--out", "lists.csv", "--figure", "funnel.png", cwd=shop)
    assert done.returncode == 0, done.stderr
    both = pd.read_csv(shop / "lists.csv", dtype={"customer": str})
    assert both["campaign"].unique().tolist() == ["win-back", "thanks"]
    assert not both["customer"].duplicated().any()
    assert (both["campaign"] == "thanks").sum() <= 32
    receipt = json.loads((shop / "lists.settings.json").read_text())["receipt"][0]
    assert (
        receipt["groups"]["contact"] + receipt["groups"]["holdout"]
        == receipt["funnel"][-2]["customers"]
    )
    one = fairladder(*arguments, "--name", "win-back", "--out", "list.csv", "--quiet", cwd=shop)
    assert one.returncode == 0, one.stderr
    measured = fairladder(
        *arguments,
        "--name",
        "win-back",
        "--results",
        "orders.csv",
        "--list",
        "list.csv",
        "--out",
        "lift.json",
        "--figure",
        "lift.png",
        cwd=shop,
    )
    assert (measured.returncode, "between 2026-04-01 and 2026-06-30" in measured.stderr) == (
        0,
        True,
    ), measured.stderr
    assert (
        json.loads((shop / "lift.json").read_text())["lift"][0]["contacted"]
        == (pd.read_csv(shop / "list.csv")["group"] == "contact").sum()
    )
    for wrong, says in (
        (["--name", "winback"], "There is no campaign `winback` in the scheme. Did you mean `win-back`?"),
        (["--when", "spend > 10", "--by", "name"], "no column of numbers or dates `name` to rank by"),
        (["--limit", 5, "--budget", 3, "--cost", 1], "not both"), (["--budget", 3], "go together"), (["--when", "spnd > 10"], "Did you mean `spend`?"),
        (["--when", "spend > 10", "--consent", "emil_ok"], "no consent column `emil_ok`"), (["--exclude", "nowhere.csv"], "nowhere.csv"),
        (["--contacted", "orders.csv", "--contacted-days", 3], "no column `listed_on`"), (["--plan-effect", 0.1], "go together"),
        (["--results", "orders.csv"], "choose it with --name"), (["--name", "win-back", "--figure-of", "lift"], "it needs --results"),
        (["--bought-from", "yesterday"], "that is not a date"),
    ):  # fmt: skip
        refused = fairladder(*arguments, *wrong, cwd=shop)
        assert refused.returncode in (1, 2), wrong
        assert says in refused.stderr, refused.stderr


def test_limit_that_fits_ties_exactly():
    """Spends of 30, 20, 20 and 10: two customers tie for the second place."""
    orders = opened(
        [(c, dt.date(2026, 1, 2), spend) for c, spend in zip("abcd", (30, 20, 20, 10), strict=True)]
    )
    inside = {
        (places, ties): len(fl.campaign(orders, when="orders > 0", limit=places, ties=ties).frame)
        for places in (1, 2, 3, 4)
        for ties in ("include", "exclude")
    }
    assert inside == {(1, "include"): 1, (1, "exclude"): 1, (2, "include"): 3, (2, "exclude"): 1, (3, "include"): 3, (3, "exclude"): 3,
                      (4, "include"): 4, (4, "exclude"): 4}  # fmt: skip


def test_receipt_matches_its_list(tmp_path, fairladder, shop):
    """The receipt is written last and contains the digests of the list and of the files read, also
    for files with equal names.
    """
    other = tmp_path / "orders.csv"
    other.write_text("nothing to do with it")
    listed, receipt = tmp_path / "list.csv", tmp_path / "list.settings.json"
    base = (
        "campaign",
        shop / "orders.csv",
        "--scheme",
        shop / "scheme.toml",
        "--name",
        "autumn",
        "--quiet",
        "--as-of",
        "2026-03-31",
    )
    made = ("--when", "stance = 'win-back'", "--holdout", "20%", "--out", listed)
    assert fairladder(*base, *made, cwd=tmp_path).returncode == 0
    output = json.loads(receipt.read_text())
    assert output["digest"] == hashlib.sha256(listed.read_bytes()).hexdigest()
    assert (
        output["receipt"][0]["digests"]["files"]["orders.csv"]
        == hashlib.sha256((shop / "orders.csv").read_bytes()).hexdigest()
    )
    assert receipt_trouble(listed) == ""
    measure = ("campaign", shop / "orders.csv", "--scheme", shop / "scheme.toml", "--as-of", "2026-03-31", *made[:4], "--name", "autumn", "--list", listed,
               "--results", shop / "orders.csv")  # fmt: skip
    trouble = fairladder(*measure).stderr
    assert "does not match" not in trouble
    assert "has no receipt" not in trouble
    listed.write_text(listed.read_text() + "\n")
    assert "The receipt list.settings.json does not match list.csv" in fairladder(*measure).stderr
    receipt.unlink()
    assert "list.csv has no receipt list.settings.json" in fairladder(*measure).stderr
    assert fairladder(*base, "--when", "stance = 'win-back'", "--holdout", "0.2").stderr.startswith(
        "Error: --holdout 0.2: this is a percentage"
    )

"""Test comparisons: every customer on both days, the change of spend to the minor unit, the same
ladders.
"""

import datetime as dt

import pandas as pd
import pytest
from hypothesis import Phase, example, given, settings
from hypothesis import strategies as st

import fairladder as fl
from conftest import times
from fairladder.demo import SHOP

FIRST, LAST = dt.date(2026, 3, 31), dt.date(2026, 6, 30)
ROWS = st.lists(
    st.tuples(
        st.sampled_from("abcdefg"), st.dates(dt.date(2025, 12, 1), LAST), st.integers(-900, 5000)
    ),
    min_size=1,
    max_size=40,
)


def opened(rows, refunds="net"):
    frame = pd.DataFrame(rows, columns=["customer", "placed", "cents"])
    frame = frame.assign(
        placed=pd.to_datetime(frame["placed"]), amount=frame["cents"] / 100, order=range(len(frame))
    )
    return fl.open_orders(frame, scheme={"money": {"refunds": refunds}, "time": {"as_of": LAST}})


@settings(
    max_examples=times(5), deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate]
)
@given(ROWS, st.sampled_from(["net", "ignore"]))
@example(  # b returns after months, c is new
    [
        ("b", dt.date(2025, 6, 1), 500),
        ("b", dt.date(2026, 5, 1), 700),
        ("c", dt.date(2026, 5, 2), 90),
    ],
    "net",
)
def test_comparison_covers_all_customers_and_parts_add_up(rows, refunds):
    rows = [*rows, ("a", dt.date(2026, 1, 1), 700)]  # at least one customer had a purchase then
    orders = opened(rows, refunds)
    found = fl.compare(orders, FIRST)
    other_way = fl.compare(orders, LAST, FIRST)
    pd.testing.assert_frame_equal(found.frame, other_way.frame)
    was, now = (orders.on(day).customers() for day in (FIRST, LAST))
    flows = found.frame
    assert flows["customers"].sum() == len(now)
    assert flows.loc[flows["from_segment"] != "(new)", "customers"].sum() == len(was)
    assert flows["spend_before"].sum() == pytest.approx(was["spend"].sum())
    assert flows["spend_after"].sum() == pytest.approx(now["spend"].sum())
    ladders = fl.fit_ladders(was, orders.scheme)
    scored = fl.score(now, orders.scheme, ladders=ladders)
    assert (
        flows.groupby("to_segment")["customers"].sum().to_dict()
        == scored["segment"].astype(str).value_counts().to_dict()
    )
    # 91 days on either side of 31 March, by hand in minor units.
    side = {"early": {}, "late": {}}
    for who, day, cents in rows:
        if day > FIRST - dt.timedelta(days=91) and (cents > 0 or refunds == "net"):
            n, total = side["late" if day > FIRST else "early"].get(who, (0, 0))
            side["late" if day > FIRST else "early"][who] = (n + (cents > 0), total + cents)
    minor = (found.parts.set_index("part")["spend"] * 100).round().astype(int)
    assert minor.iloc[0] == sum(t for _, t in side["early"].values())
    assert minor.iloc[-1] == sum(t for _, t in side["late"].values())
    assert minor.iloc[0] + minor.iloc[1:-1].sum() == minor.iloc[-1]
    bought = {name: {c for c, (n, _) in held.items() if n} for name, held in side.items()}
    gained, lost = bought["late"] - bought["early"], bought["early"] - bought["late"]
    known = {who for who, day, cents in rows if day <= FIRST and cents > 0}
    late, early = ({c: t for c, (_, t) in side[s].items()} for s in ("late", "early"))
    for part, those in (
        ("first-time buyers", gained - known),
        ("customers who returned", gained & known),
    ):
        assert minor[part] == sum(late[c] - early.get(c, 0) for c in those)
        assert found.parts.set_index("part")["customers"][part] == len(those)
    assert minor["customers who did not buy this time"] == sum(
        late.get(c, 0) - early[c] for c in lost
    )


def test_change_of_spend_worked_example():
    """Two orders of 10 each before, three of 20 after: (3 − 2) × (10 + 20) ÷ 2 = 15 by frequency,
    10 × (2 + 3) ÷ 2 = 25 by value.
    """
    days = [dt.date(2026, 2, 1), dt.date(2026, 3, 1), *(dt.date(2026, m, 5) for m in (4, 5, 6))]
    found = fl.compare(opened([("a", d, 1000 if d <= FIRST else 2000) for d in days]), FIRST)
    assert found.parts["spend"].tolist() == [20, 0, 0, 0, 15, 25, 0, 60]
    assert "they do not cover the" in found.notes[0]


def test_saved_scorings_paths_and_drift_of_the_sample_shop(fairladder, shop):
    orders = fl.open_orders(SHOP / "orders.csv", scheme=SHOP / "scheme.toml")
    found = fl.compare(orders, "2025-12-31", "2026-06-30")
    assert (
        found.drift["customers_then"].sum()
        == 3 * 923 + found.drift.loc[found.drift["ladder"] == "reward", "customers_then"].sum()
    )
    tiers = found.rungs[found.rungs["ladder"] == "reward"]
    assert set(tiers["from_rung"].dropna()) == {"gold", "silver", "bronze", "everyone"}
    assert (
        found.rungs.groupby("ladder")["customers"].sum().tolist()
        == [found.frame["customers"].sum()] * 4
    )
    each = fl.compare(orders, "2025-12-31", "2026-06-30", yardstick="each")
    late = fl.score(orders.customers(), orders.scheme)
    assert (
        each.frame.groupby("to_segment")["customers"].sum().to_dict()
        == late["segment"].astype(str).value_counts().to_dict()
    )
    early = fl.score(orders.on("2025-12-31").customers(), orders.scheme)
    kept = fl.compare_scored(early.head(600), late.tail(700), orders.scheme)
    missing = set(early["customer"].head(600)) - set(late["customer"].tail(700))
    assert kept.frame.loc[kept.frame["to_segment"] == "(gone)", "customers"].sum() == len(missing)
    assert kept.new == len(set(late["customer"].tail(700)) - set(early["customer"].head(600)))
    walked = fl.paths(orders, "2025-06-30", every="quarter")
    assert [str(d) for d in walked.days] == [
        "2025-06-30",
        "2025-09-30",
        "2025-12-31",
        "2026-03-31",
        "2026-06-30",
    ]
    assert walked.paths["customers"].sum() == len(late)
    last = walked.frame[walked.frame["day"] == "2026-06-30"].set_index("segment")["customers"]
    ends = (
        walked.paths.assign(end=walked.paths["path"].str.split(" → ").str[-1])
        .groupby("end")["customers"]
        .sum()
    )
    assert ends.to_dict() == last[last > 0].to_dict()
    arguments = ["compare", "orders.csv", "--scheme", "scheme.toml", "--quiet"]
    done = fairladder(
        *arguments, "--then", "2025-12-31", "--out", "moves.xlsx", "--figure", "flows.png", cwd=shop
    )
    assert done.returncode == 0, done.stderr
    sheets = pd.read_excel(shop / "moves.xlsx", sheet_name=None, engine="calamine")
    assert list(sheets) == [
        "segments",
        "rungs",
        "movers",
        "spend-change",
        "drift",
        "definitions",
        "about",
    ]
    assert sheets["segments"]["customers"].sum() == len(late)
    early.to_csv(shop / "then.csv", index=False)
    late.to_csv(shop / "now.csv", index=False)
    files = fairladder(
        "compare",
        "--scored-then",
        "then.csv",
        "--scored-now",
        "now.csv",
        "--scheme",
        "scheme.toml",
        cwd=shop,
    )
    assert files.stdout.startswith(
        "from_segment,to_segment,customers,spend_before,spend_after\n"
    ), files.stderr
    sizes = fairladder(
        *arguments,
        "--then",
        "2025-06-30",
        "--every",
        "quarter",
        "--part",
        "paths",
        "--figure",
        "sizes.png",
        cwd=shop,
    )
    assert sizes.stdout.startswith("path,customers,spend\n"), sizes.stderr
    for wrong, says in (
        ([*arguments, "--then", "2026-06-30"], "Both days are 2026-06-30"), ([*arguments], "Give the days"), (["compare"], "Give ORDERS and --then DAY"),
        ([*arguments, "--then", "2020-01-01"], "No customer had a purchase by 2020-01-01"), ([*arguments, "--then", "2025-12-31", "--ladders", "now"], "choose then or each"),
        ([*arguments, "--then", "2025-12-31", "--figure-of", "sizes"], "sizes needs --every"),
        (["compare", "--scored-then", "members.csv", "--scored-now", "now.csv"], "no column `customer`"),
    ):  # fmt: skip
        refused = fairladder(*wrong, cwd=shop)
        assert refused.returncode in (1, 2), wrong
        assert says in refused.stderr, refused.stderr


def test_comparison_counts_members_by_joining_day():
    """A buys before and after, B only after, C never; D joined the file between the days and E, who
    buys nothing, before.
    """
    members = pd.DataFrame(
        {
            "customer": list("ABCDE"),
            "joined": pd.to_datetime([None, "2025-06-01", None, "2026-05-01", "2025-06-01"]),
        }
    )
    rows = [
        ("A", dt.date(2026, 1, 1), 700),
        ("A", dt.date(2026, 5, 1), 700),
        ("B", dt.date(2026, 5, 1), 700),
        ("X", dt.date(2026, 5, 1), 700),
    ]
    frame = pd.DataFrame(
        [(c, d, m / 100) for c, d, m in rows], columns=["customer", "placed", "amount"]
    )
    for since, new in ((None, {"X"}), ("joined", {"X", "D"})):
        scheme = {"time": {"as_of": LAST}, "customers": {"since": since} if since else {}}
        found = fl.compare(
            fl.open_orders(frame, customers=members, scheme=scheme, allow=["unmatched-customers"]),
            FIRST,
        )
        flows = found.frame.set_index(["from_segment", "to_segment"])["customers"]
        assert flows.groupby("from_segment").sum().to_dict().get("(new)") == len(new)
        assert flows["no-orders-yet", "no-orders-yet"] == 3 - ("D" in new)
        assert set(found.movers.loc[found.movers["from_segment"] == "(new)", "customer"]) == new
    with pytest.raises(
        fl.UsageError,
        match=r"since names `customer`, the day on which a customer joined: its cells are not dates",
    ):
        fl.compare(
            fl.open_orders(
                frame,
                customers=members,
                scheme={"time": {"as_of": LAST}, "customers": {"since": "customer"}},
            ),
            FIRST,
        )


def test_comparison_footer_shows_the_later_day(fairladder, shop):
    done = fairladder(
        "compare",
        shop / "orders.csv",
        "--scheme",
        shop / "scheme.toml",
        "--then",
        "2025-12-31",
        "--now",
        "2026-03-31",
    )
    assert "As of 31 March 2026" in done.stderr
    used = (
        fl.open_orders(shop / "orders.csv", scheme=shop / "scheme.toml")
        .on("2026-03-31")
        .balance.used
    )
    assert f"{used:,} used" in done.stderr


def test_rungs_table_is_sorted_best_first_with_exact_sums():
    """Scores fall, tiers are as in the scheme, and rows without a rung come last, for any
    original order.
    """
    quillmoor = fl.sample_orders()
    rungs = fl.compare(quillmoor, "2025-12-31").rungs
    for name, of in rungs.groupby("ladder", sort=False):
        tier = quillmoor.scheme.tiers.get(name)
        order = [*(tier.names() if tier else range(5, 0, -1)), None]
        pairs = [(order.index(m.from_rung), order.index(m.to_rung)) for m in of.itertuples()]
        assert pairs == sorted(pairs)
    assert {type(v) for v in rungs["from_rung"]} <= {int, str, type(None)}
    assert (rungs["spend_after"] == rungs["spend_after"].round(2)).all()

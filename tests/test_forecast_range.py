"""Test what forecasts include besides retention: season, rising prices, spend that depends on
frequency, earlier misses, what-if.
"""

import datetime as dt
from math import exp, log, sqrt

import numpy as np
import pandas as pd
import pytest
from scipy.special import stdtrit

import fairladder as fl
from fairladder.campaigns.limit import paid_in_words, pays_down_to
from fairladder.value.histories import histories
from fairladder.value.prices import prices_of
from fairladder.value.season import YEAR, Season, season_of
from fairladder.value.spend import fit_spend
from fairladder.value.spread import LATE, LEAST_LATE, UNEVEN, Miss, lately, spread_of
from test_value import BG, PARETO, mixed, one

DAY = np.datetime64("2023-01-02")  # a Monday


def made_up(seed, *, days=1095, ahead=180, customers=400, season=None, prices=0.0):
    """Simulate customers who order at random until they leave, by a season's clock: orders up to
    the day, and what followed.
    """
    random = np.random.default_rng(seed)
    every = np.arange(days + ahead + 1)
    clock = (season.clock(every + DAY.astype(int)) if season else every).astype(float)
    rows = []
    for number in range(customers):
        first = int(random.integers(0, days))
        most = clock[first] + random.exponential(700)
        ticks = clock[first] + np.cumsum(random.exponential(1 / random.gamma(1.5, 1 / 45), 80))
        at = np.unique([first, *np.searchsorted(clock, ticks[ticks < min(most, clock[-1])])])
        worth = 200 / random.gamma(6) * random.gamma(6, 1 / 6, len(at)) * np.exp(prices * at / 365)
        rows += [(f"c{number:03}", d, w) for d, w in zip(at, worth, strict=True)]
    frame = pd.DataFrame(rows, columns=["customer", "day", "amount"]).round({"amount": 2})
    frame["placed"] = DAY + frame["day"].to_numpy().astype("timedelta64[D]")
    frame["order"] = np.arange(len(frame))
    known = frame[frame["day"] <= days].drop(columns="day")
    return known, frame[(frame["day"] > days) & frame["customer"].isin(known["customer"])]


def opened(known, **value):
    return fl.open_orders(
        known, scheme={"time": {"as_of": (DAY + 1095).astype(object)}, "value": value}
    )


WINTER = Season(np.array([0.9, -0.2, 0.3, 0.1]))


def test_season_is_found_only_where_there_is_one():
    weeks = 19_000 + 7 * np.arange(150)
    expected = 40 * np.linspace(1, 0.6, 150)  # the rest of it is a trend
    rate = np.array([WINTER.rate(week + np.arange(7) + 0.5).mean() for week in weeks])
    random = np.random.default_rng(5)
    growing = np.linspace(0.6, 1.7, 150)
    found = season_of(weeks, random.poisson(expected * growing * rate).astype(float), expected)
    assert found.waves == 2
    assert found.by_month() == pytest.approx(WINTER.by_month(), abs=0.15)
    none = [
        season_of(weeks, random.poisson(expected * growing).astype(float), expected)
        for _ in range(40)
    ]
    assert none.count(None) >= 39
    assert (
        season_of(weeks[:103], 1.0 * random.poisson(expected * rate)[:103], expected[:103]) is None
    )  # under two years
    bursts = random.negative_binomial(2, 2 / (2 + expected)).astype(
        float
    )  # far more uneven than chance
    assert season_of(weeks, bursts, expected) is None

    days = np.arange(0.0, 3 * YEAR)
    assert WINTER.clock(days + YEAR) == pytest.approx(WINTER.clock(days) + YEAR)
    assert np.diff(WINTER.clock(days)) == pytest.approx(WINTER.rate(days[:-1] + 0.5), rel=1e-3)
    assert WINTER.rate(np.arange(0, 4 * YEAR) + 0.5).mean() == pytest.approx(1, rel=1e-3)


def test_season_clock_forecasts_and_keeps_quiet_customers_active():
    spring = Season(np.array([-0.3, 0.8, 0.0, 0.2]))
    known, later = made_up(3, season=spring)
    by_clock, even = (
        fl.value_forecast(opened(known, season=s), horizon=150, method="Pareto")
        for s in ("auto", "off")
    )
    arrived = int((later["day"] <= 1095 + 150).sum())
    orders = [float(made.frame["expected_orders"].sum()) for made in (by_clock, even)]
    assert abs(log(orders[0] / arrived)) < 0.15 < 0.3 < abs(log(orders[1] / arrived))
    assert "Orders are seasonal: in March" in " ".join(by_clock.notes)
    assert by_clock.fitted.season is not None
    assert even.fitted.season is None
    assert by_clock.backtest.frame["error"].min() < even.backtest.frame["error"].min()
    # At the end of a slow autumn, customers who last ordered before it are more likely active than
    # by the calendar.
    last = known.groupby("customer")["placed"].max()
    before = last.index[last.between(np.datetime64("2025-06-15"), np.datetime64("2025-09-01"))]
    there = [
        float(made.frame.set_index("customer").loc[before, "active_probability"].mean())
        for made in (by_clock, even)
    ]
    assert there[0] > there[1] + 0.1
    forced = fl.value_forecast(
        opened(made_up(4, customers=150)[0], season="yearly"), method="beta-geometric"
    )
    assert forced.fitted.season is not None


def test_price_trend_and_frequency_affect_values():
    known, later = made_up(5, prices=0.2, ahead=365)
    trend = prices_of(histories(opened(known)))
    assert abs(trend.yearly - 0.2) < 3 * trend.error < 0.1
    ahead = fl.value_forecast(opened(known))
    worth = float(
        (ahead.frame["expected_orders"] * ahead.frame["expected_order_value"]).sum()
        / ahead.frame["expected_orders"].sum()
    )
    assert worth == pytest.approx(later["amount"].mean(), rel=0.12)
    assert "order value of the same customers grows by" in " ".join(ahead.notes)
    assert prices_of(histories(opened(made_up(6)[0]))).yearly == 0

    random = np.random.default_rng(8)
    n = random.geometric(0.3, 5000).astype(float)
    level = random.gamma(4 * n, 1) / random.gamma(5, 1 / 40, 5000) / n
    assert fit_spend(n, level).power == 0  # averages of few orders vary more, and are no smaller
    tied = fit_spend(n, level * n**0.4)
    assert tied.power == pytest.approx(0.4, abs=0.05)
    many = tied.expected(np.array([10.0]), np.array([40.0 * 10**0.4]))
    assert many[0] == pytest.approx(
        10**0.4 * fit_spend(n, level).expected(np.array([10.0]), np.array([40.0]))[0], rel=0.05
    )


def test_recent_deviations_widen_the_range():
    # ln(50 ÷ 100)² less the variance of 100 expected orders; few expected orders, or a good
    # forecast, imply nothing.
    assert lately(50, 100) == pytest.approx(log(0.5) ** 2 - UNEVEN / 100)
    assert (lately(99, 100), lately(0, LEAST_LATE - 1)) == (0, 0)
    assert lately(0, 100) == pytest.approx(log(0.01) ** 2 - UNEVEN / 100)
    wide = spread_of([], 90, late=0.09)
    assert np.quantile(wide.draws(4001, 90, np.random.default_rng(1)), 0.9) == pytest.approx(
        exp(sqrt(wide.size**2 + 0.09) * stdtrit(wide.freedom, 0.9)), rel=0.01
    )
    known, _ = made_up(10)
    stopped = known[(known["placed"] < DAY + 1095 - LATE) | (known["order"] % 5 == 0)]
    usual, burst = (
        fl.value_forecast(opened(k), method="beta-geometric", earlier=False)
        for k in (known, stopped)
    )
    assert burst.late > 0.5 > usual.late
    assert "% in repeat orders over the last 30 days" in burst.of_range()


def test_earlier_misses_widen_the_range_beyond_the_model():
    day = dt.date(2025, 1, 1)
    missed = [
        Miss(day, 90, 130.0, 100.0, 0.01),
        Miss(day, 90, 100.0, 100.0, 0.04),
        Miss(day, 90, 5.0, 0.0, 0.01),
    ]
    usual, sure = spread_of([], 90), 4.0
    # One miss implies ln(1.3)² beyond its variance, one nothing, and the third, without actual
    # orders, is undefined.
    wide = spread_of(missed, 90)
    assert wide.freedom == sure + 2
    assert wide.size == pytest.approx(
        sqrt((sure * usual.size**2 + log(1.3) ** 2 - 0.01) / (sure + 2))
    )
    draws = wide.draws(4001, 90, np.random.default_rng(1))
    assert np.quantile(draws, 0.9) == pytest.approx(
        exp(wide.size * stdtrit(wide.freedom, 0.9)), rel=0.01
    )
    assert np.median(draws) == pytest.approx(1, rel=0.01)
    assert np.quantile(wide.draws(4001, 360, np.random.default_rng(1)), 0.9) > np.quantile(
        draws, 0.9
    )

    known, _ = made_up(7)
    steady = fl.value_forecast(opened(known), method="beta-geometric")
    # The same shop, whose customers almost stopped ordering during the test days of the backtest.
    quiet = known["placed"].between(DAY + 850, DAY + 1094) & (known["order"] % 10 > 2)
    shaken = fl.value_forecast(opened(known[~quiet]), method="beta-geometric")
    widths = [
        log(t["value_high"].iloc[0] / t["value_low"].iloc[0])
        for t in (steady.totals(), shaken.totals())
    ]
    assert widths[1] > 2 * widths[0]
    tested = steady.backtest
    first = tested.misses["beta-geometric"][0]
    row = tested.frame.set_index("method").loc["beta-geometric"]
    assert (first.value, first.actual_value) == pytest.approx(
        (row["expected_value"], row["actual_value"])
    )
    assert row["value_error"] == pytest.approx(row["expected_value"] / row["actual_value"] - 1)
    assert len(tested.misses["beta-geometric"]) == 3
    assert (
        "The range should contain the actual total for 8 in 10 shops like this one"
        in steady.of_range()
    )
    giant = known.assign(
        amount=np.where(known["customer"] == known["customer"].iloc[0], 1e5, known["amount"])
    )
    assert (
        "one customer contributes half of it"
        in fl.value_forecast(opened(giant), method="beta-geometric").of_range()
    )


@pytest.mark.parametrize("model", [BG, PARETO], ids=["beta-geometric", "Pareto"])
def test_changed_leaving_and_frequency_match_integration(model):
    p, x, seen, t, leaving, rate = (
        (0.8, 40.0, 1.2, 3.0 if model is BG else 300.0),
        3,
        260.0,
        180.0,
        0.7,
        1.25,
    )
    if model is PARETO:
        still = lambda k, m: k**x * np.exp(-(k + m) * seen)  # noqa: E731
        ahead = lambda k, m: -rate * k / (leaving * m) * np.expm1(-leaving * m * t)  # noqa: E731
    else:
        still = lambda k, q: (1 - q) ** x * k**x * np.exp(-k * seen)  # noqa: E731
        ahead = lambda k, q: -np.expm1(-rate * k * leaving * q * t) / (leaving * q)  # noqa: E731
    wanted = mixed(model, p, lambda k, q: still(k, q) * ahead(k, q)) / mixed(model, p, still)
    found = model.expected_if_changed(np.array(p), *one(x, seen), t, leaving, rate)
    assert found[0] == pytest.approx(wanted, rel=1e-6)
    assert model.expected_if_changed(np.array(p), *one(x, seen), t, 1.0, 1.0) == pytest.approx(
        model.expected_if_active(np.array(p), *one(x, seen), t)
    )


def test_worth_of_a_change_and_of_a_return(fairladder, shop):
    known, _ = made_up(9)
    orders = opened(known)
    formula, ahead = (
        fl.value_formula(orders, period="quarter"),
        fl.value_forecast(orders, method="Pareto"),
    )
    row, people = formula.frame.iloc[0], len(ahead.frame)
    made = fl.what_if(formula, ahead, retention=0.05, order_value=0.1)
    r = row["retention"]
    then = row["average_order_value"] * 1.1 * row["orders_per_period"] / (1 - r - 0.05)
    by_formula, by_forecast = made.frame.iloc[0], made.frame.iloc[1]
    assert by_formula["value_change"] == pytest.approx(then - row["formula_value"])
    assert by_formula["change_low"] < by_formula["value_change"] < by_formula["change_high"]
    assert by_forecast["all_change"] == pytest.approx(people * by_forecast["value_change"])
    assert by_forecast["change_low"] < by_forecast["value_change"] < by_forecast["change_high"]
    alone = fl.what_if(formula, ahead, order_value=0.1).frame.iloc[1]
    assert alone["value_change"] == pytest.approx(0.1 * ahead.frame["expected_value"].mean())
    assert by_forecast["value_change"] > alone["value_change"]
    often = fl.what_if(formula, ahead, frequency=-0.2).frame["value_change"]
    assert often.iloc[1] == pytest.approx(
        -0.2 * ahead.frame["expected_value"].mean()
    )  # no customer leaves by ordering
    for wrong in ({}, {"retention": 1 - r}, {"frequency": -1}):
        with pytest.raises(fl.UsageError):
            fl.what_if(formula, ahead, **wrong)

    worth = fl.worth_of_return(ahead, 0.05)
    frame = ahead.frame.set_index("customer")
    # response × (1 − p) × value if active, where value if active is the expected value ÷ p
    wanted = (
        0.05
        * (1 - frame["active_probability"])
        * frame["expected_value"]
        / frame["active_probability"]
    )
    there = frame["active_probability"] > 1e-6
    assert worth[there].to_numpy() == pytest.approx(wanted[there].to_numpy(), rel=1e-6)
    # Customers who have most certainly left are worth the most, however small their expected value.
    missing = pd.DataFrame({
        "customer": np.repeat([f"g{i:02}" for i in range(40)], 40), "amount": 20.0, "order": np.arange(1600),
        "placed": np.tile(DAY + np.arange(40), 40),
    })  # fmt: skip
    both = fl.value_forecast(
        opened(pd.concat([known.assign(order=known["order"] + 5000), missing])),
        method="beta-geometric",
    )
    lost = both.frame.set_index("customer").loc[[f"g{i:02}" for i in range(40)]]
    assert (lost["active_probability"] < 1e-15).all()
    assert (fl.worth_of_return(both, 0.05)[lost.index] > 1).all()
    groups = pd.Series(np.where(np.arange(people) % 2, "odd", "even"), index=frame.index)
    table = fl.break_even(ahead, groups, 0.05).set_index("segment")
    assert table.loc["odd", "break_even"] == pytest.approx(worth[groups == "odd"].mean())
    assert table["all_worth"].sum() == pytest.approx(worth.sum())
    assert pays_down_to(np.array([5.0, 3.0, 2.0, 4.0]), 2.0) == (2, 8.0)
    assert pays_down_to(np.array([1.0]), 2.0) == (0, 0.0)
    assert "contacts pay off down to rank 2" in paid_in_words(2, 8.0, 4, 2.0)
    listed = fl.campaign(
        orders,
        when="expected_return > 0.1",
        response="5%",
        by="expected_return",
        budget=20,
        cost=0.5,
    )
    assert listed.frame["expected_return"].is_monotonic_decreasing
    best = worth.sort_values(ascending=False).head(len(listed.frame))
    assert listed.frame["expected_return"].sum() == pytest.approx(
        fl.worth_of_return(fl.value_forecast(orders), 0.05)
        .sort_values(ascending=False)
        .head(len(best))
        .sum()
    )
    assert any("At 0.50 for each of 40 contacts" in note for note in listed.notes)

    arguments = ["value", "orders.csv", "--scheme", "scheme.toml", "--quiet"]
    done = fairladder(
        *arguments, "--if-retention", 5, "--if-order-value", "-5%", "--part", "what-if", cwd=shop
    )
    assert done.stdout.startswith(
        "answer,value_now,value_then,value_change,change_low,change_high,all_change,all_low,all_high\nby formula,"
    ), done.stderr
    back = fairladder(*arguments, "--if-response", "5%", "--part", "win-back", cwd=shop)
    assert back.stdout.startswith(
        "segment,customers,active_probability,value_if_active,break_even,all_worth\n"
    ), back.stderr
    for wrong, says in (
        (["--if-retention", "much"], "give points, such as 5 or -2"),
        (["--if-frequency", "0.1"], "if 0.1% is meant, write it so"),
        (["--part", "win-back"], "needs --if-response"),
    ):
        refused = fairladder(*arguments, *wrong, cwd=shop)
        assert (refused.returncode, says in refused.stderr) == (2, True), refused.stderr

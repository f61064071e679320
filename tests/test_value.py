"""Test lifetime value against direct integration, simulation, published figures and plain SQL."""

import datetime as dt

import duckdb
import numpy as np
import pandas as pd
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from scipy.special import gammaln

import fairladder as fl
from conftest import times
from fairladder import columns
from fairladder.demo import SHOP
from fairladder.value.backtest import top_found
from fairladder.value.buying import Buying
from fairladder.value.histories import histories_as_of
from fairladder.value.likelihood import Fit
from fairladder.value.ordering import MODELS, fit_ordering
from fairladder.value.predict import discounted_orders
from fairladder.value.ranges import outcomes
from fairladder.value.spend import fit_spend, log_likelihood

BG, CENTRAL, PARETO = MODELS.values()
ALL = pytest.mark.parametrize("model", MODELS.values(), ids=list(MODELS))
STEP = 0.06


def one(*values):
    return [np.array([float(v)]) for v in values]


def mixed(model, p, integrand):
    """Return ∫∫ integrand(λ, θ) under gamma(r, α) and beta(a, b) or gamma(s, β) by the trapezoidal
    rule, where both are smooth and vanish.
    """

    def gamma(shape, rate):
        u = np.arange(-90, 6, STEP) - np.log(rate)
        return np.exp(u), shape * np.log(rate) - gammaln(shape) + shape * u - rate * np.exp(u)

    r, alpha, c, d = p
    rate, log_g = gamma(r, alpha)
    if model is PARETO:
        other, log_h = gamma(c, d)
    else:
        v = np.arange(-90, 90, STEP)
        other = 1 / (1 + np.exp(-v))
        log_h = (
            gammaln(c + d)
            - gammaln(c)
            - gammaln(d)
            - c * np.logaddexp(0, -v)
            - d * np.logaddexp(0, v)
        )
    weight = np.exp(log_g)[:, None] * np.exp(log_h)[None, :]
    return float((weight * integrand(rate[:, None], other[None, :])).sum() * STEP**2)


def by_integration(model, p, x, t_x, T, t):
    """Return likelihood, probability of being active and expected purchases, from the behaviour of
    one customer with known λ and θ.
    """
    if model is PARETO:
        there = lambda k, m: k**x * np.exp(-(k + m) * T)  # noqa: E731
        left = lambda k, m: k**x * m / (k + m) * (np.exp(-(k + m) * t_x) - np.exp(-(k + m) * T))  # noqa: E731
        ahead = lambda k, m: -k / m * np.expm1(-m * t)  # noqa: E731
    else:
        coins = x + (model is CENTRAL)
        there = lambda k, q: (1 - q) ** coins * k**x * np.exp(-k * T)  # noqa: E731
        left = lambda k, q: (coins > 0) * q * (1 - q) ** max(coins - 1, 0) * k**x * np.exp(-k * t_x)  # noqa: E731
        ahead = lambda k, q: -np.expm1(-k * q * t) / q  # noqa: E731
    stayed, missing = mixed(model, p, there), mixed(model, p, left)
    return (
        stayed + missing,
        stayed / (stayed + missing),
        mixed(model, p, lambda k, q: there(k, q) * ahead(k, q)) / (stayed + missing),
    )


@ALL
@pytest.mark.parametrize(
    ("p", "x", "t_x", "T"),
    [
        ((0.55, 10.58, 0.61, 11.67), 2, 30.43, 38.86), ((0.8, 4.4, 1.0, 2.4), 0, 0, 38.9), ((1.4, 9.0, 0.4, 0.6), 3, 20, 20),
        ((1.0, 300.0, 1.0, 300.0), 1, 5, 700), ((2.0, 3.0, 1.7, 0.9), 0, 0, 0), ((0.6, 50.0, 2.5, 40.0), 9, 200, 365),
        ((25.0, 900.0, 20.0, 3000.0), 2, 20, 420), ((50.0, 900.0, 20.0, 3000.0), 1, 10, 600),
    ],
)  # fmt: skip
def test_models_match_integration_of_mixing_distributions(model, p, x, t_x, T):
    p = np.array(p)
    likelihood, active, expected = by_integration(model, p, x, t_x, T, 39)
    rows = one(x, t_x, T)
    assert np.exp(model.log_likelihood(p, *rows)[0][0]) == pytest.approx(likelihood, rel=1e-8)
    assert model.active_probability(p, *rows)[0] == pytest.approx(active, rel=1e-8)
    ours = model.active_probability(p, *rows) * model.expected_if_active(p, rows[0], rows[2], 39.0)
    assert ours[0] == pytest.approx(expected, rel=1e-8)
    if x == T == 0 and model is not CENTRAL:  # a new customer, about whom nothing is known
        assert model.expected_from_start(p, np.array([39.0]))[0] == pytest.approx(
            expected, rel=1e-8
        )


def test_beta_geometric_matches_published_example():
    p = np.array([0.243, 4.414, 0.793, 2.426])
    x, t_x, T = one(2, 30.43, 38.86)
    ahead = BG.active_probability(p, x, t_x, T) * BG.expected_if_active(p, x, T, 39.0)
    assert round(float(ahead[0]), 3) == 1.226


ROWS = st.tuples(
    st.sampled_from([0, 1, 3, 40, 1000]),
    st.floats(0, 1),
    st.sampled_from([0.0, 1.0, 90.0, 1100.0, 7300.0]),
)


@settings(max_examples=times(12), deadline=None)
@given(
    st.sampled_from(list(MODELS)), st.tuples(*[st.floats(-2.5, 2.5)] * 4), st.lists(ROWS, min_size=1, max_size=5),
    st.sampled_from([1 / 7, 30.4, 365.0]),
)  # fmt: skip
@example("Pareto", (0.0, 0.0, 0.0, 0.0), [(1000, 1.0, 7300.0)], 365.0)
def test_gradients_and_units_of_time(name, logs, rows, unit):
    """The gradient matches the value; another unit changes only the times, and the likelihood by
    ln(unit) per repeat.
    """
    model, theta = MODELS[name], np.array(logs) + np.array([0, 4, 0, 4 if name == "Pareto" else 0])
    x, share, T = map(np.array, zip(*rows, strict=True))
    x = np.where(T > 0, x, 0).astype(float)
    t_x = np.where(x > 0, share * T, 0)
    value, slope = model.log_likelihood(np.exp(theta), x, t_x, T)
    assert np.isfinite(value).all()
    for i, step in enumerate(1e-5 * np.eye(4)):
        about = [model.log_likelihood(np.exp(theta + way * step), x, t_x, T)[0] for way in (1, -1)]
        assert slope[i] == pytest.approx((about[0] - about[1]) / 2e-5, rel=1e-4, abs=1e-4)
    scale = np.array([unit if time else 1 for time in model.times])
    other, _ = model.log_likelihood(np.exp(theta) / scale, x, t_x / unit, T / unit)
    assert other == pytest.approx(value + x * np.log(unit), rel=1e-9, abs=1e-7)
    active = model.active_probability(np.exp(theta), x, t_x, T)
    assert ((active >= 0) & (active <= 1)).all()
    if model is BG:
        assert (active[x == 0] == 1).all()
    if model is PARETO:
        assert (
            np.diff(
                model.active_probability(
                    np.exp(theta), *np.zeros((2, 3)), np.array([0.0, 10, 1000])
                )
            )
            < 0
        ).all()


@pytest.mark.parametrize("x", [0, 4])
def test_models_are_continuous_at_singular_points(x):
    """a = 1, s = 1 and a + b = 1: the value equals that on either side, within the precision of the
    steps.
    """
    rows = one(x, 50 if x else 0, 80)
    for model, p, at in (
        (BG, [0.7, 9.0, 1.0, 2.0], 2), (PARETO, [0.7, 9.0, 1.0, 30.0], 2), (BG, [0.7, 9.0, 0.4, 0.6], 3), (CENTRAL, [0.7, 9.0, 1.0, 1.0], 2),
    ):  # fmt: skip
        near = [np.array(p) for _ in range(3)]
        near[0][at] -= 1e-6
        near[2][at] += 1e-6
        below, there, above = (
            model.expected_if_active(q, rows[0], rows[2], 100.0)[0] for q in near
        )
        assert there == pytest.approx((below + above) / 2, rel=1e-10)


def simulated(model, p, customers, random, span=1000, ahead=300):
    """Simulate purchases one by one as each model describes them; return x, t_x, T and the
    purchases in the days ahead.
    """
    r, alpha, c, d = p
    T = random.integers(span // 3, span, customers).astype(float)
    rate = random.gamma(r, 1 / alpha, customers)
    life = (
        random.exponential(1 / random.gamma(c, 1 / d, customers))
        if model is PARETO
        else np.full(customers, np.inf)
    )
    leaves = np.zeros(customers) if model is PARETO else random.beta(c, d, customers)
    there = (
        random.random(customers) >= leaves if model is CENTRAL else np.ones(customers, dtype=bool)
    )
    now, x, t_x, later = (np.zeros(customers) for _ in range(4))
    while there.any():
        now = now + random.exponential(1 / rate)
        there &= (now <= T + ahead) & (now <= life)
        seen = there & (now <= T)
        x[seen] += 1
        t_x[seen] = now[seen]
        later += there & (now > T)
        there &= random.random(customers) >= leaves
    return x, t_x, T, later


@ALL
def test_parameters_are_recovered_and_ranges_cover(model):
    random = np.random.default_rng(7)
    true = (0.9, 30.0, 0.8, 500.0) if model is PARETO else (0.9, 30.0, 0.7, 6.0)
    x, t_x, T, later = simulated(model, true, 12_000, random)
    buying = Buying.of(x, t_x, T)
    fit = fit_ordering(model, buying)
    assert fit.converged
    assert not fit.notes
    for (name, value), wanted in zip(fit.parameters.items(), true, strict=True):
        assert abs(value - wanted) < 4 * fit.errors[name], name
        assert fit.errors[name] < 0.4 * wanted
    level = random.gamma(6.0, 1 / 50, len(x))
    orders = random.gamma(4 * (x + 1), 1) / level
    spend = fit_spend(x + 1, orders / (x + 1))
    p, q, gamma = spend.fit.values
    assert (
        abs(np.array([p, q, gamma]) - (4, 6, 50)) < 4 * np.array(list(spend.fit.errors.values()))
    ).all()
    active = model.active_probability(fit.values, buying.x, buying.t_x, buying.T)
    drawn = outcomes(model, fit, spend, buying, active, 300.0, random)
    spent = np.where(later > 0, random.gamma(np.maximum(4 * later, 1e-9), 1) / level, 0)
    low, high = (v[buying.row_of] * (gamma + orders) for v in (drawn.low, drawn.high))
    expects = high > 0
    inside = ((low <= spent) & (spent <= high))[expects]
    assert 0.77 < inside.mean() < 0.83
    assert 0.7 < inside[low[expects] > 0].mean() < 0.9
    expected = (active * model.expected_if_active(fit.values, buying.x, buying.T, 300.0))[
        buying.row_of
    ]
    assert expected.sum() == pytest.approx(later.sum(), rel=0.06)
    assert expected[x == 0].sum() == pytest.approx(later[x == 0].sum(), rel=0.25)


@ALL
def test_flat_likelihood_is_maximised(model):
    """One customer of 5,000 returned: the same maximum from every start, and no fit that stopped
    before it.
    """
    random = np.random.default_rng(1)
    x, t_x, end = np.zeros(5000), np.zeros(5000), random.integers(1, 700, 5000).astype(float)
    x[0], t_x[0], end[0] = 1, 100, 400
    buying = Buying.of(x, t_x, end)
    found = fit_ordering(model, buying)
    others = [
        fit_ordering(model, buying, fl_fit(model, np.array(p)))
        for p in ((0.01, 30.0, 0.5, 90.0), (3.0, 9e5, 0.1, 900.0))
    ]
    assert found.converged
    assert found.log_likelihood > max(f.log_likelihood for f in others) - 0.02


@ALL
def test_customers_who_are_alike_have_one_fit_from_every_start(model):
    """All order once in 60 days and none leaves: r and alpha grow in proportion up to a bound,
    where a difference of their logarithms would round the likelihood away.
    """
    random = np.random.default_rng(2)
    end = random.uniform(200, 900, 12_000)
    x = random.binomial((end / 30).astype(int), 0.5).astype(float)
    t_x = np.where(x > 0, end * random.beta(np.maximum(x, 1), 1), 0.0)
    buying = Buying.of(x, t_x, end)
    assert len(buying.x) > 8_000  # so it begins with a sample
    tries = [(0.5, 30.0, 0.5, 90.0), (30.0, 9e3, 0.01, 900.0), (9e3, 9e4, 2.0, 3.0)]
    fits = [fit_ordering(model, buying)]
    fits += [fit_ordering(model, buying, fl_fit(model, np.array(p))) for p in tries]
    # Poisson: x ln(rate) - rate * T of each customer, with rate = sum(x) / sum(T)
    rate = x.sum() / end.sum()
    best = x.sum() * np.log(rate) - x.sum()
    for fit in fits:
        assert fit.converged
        assert "r" in fit.at_bound
        assert any("order at the same rate, once in 6" in note for note in fit.notes)
        assert any("no customer leaves for good" in note for note in fit.notes)
        assert not any("hardly determine" in note for note in fit.notes)
        assert fit.parameters["r"] / fit.parameters["alpha"] == pytest.approx(rate, rel=2e-4)
        assert fit.log_likelihood == pytest.approx(best, abs=2)
        assert fit.log_likelihood == pytest.approx(fits[0].log_likelihood, abs=1e-3)


def test_spend_model_matches_integration_and_its_notes():
    shape, q, gamma, n, mean = 2.2, 3.1, 14.0, 3.0, 20.0
    u = np.arange(-40, 6, 0.01) - np.log(gamma)
    level, log_g = np.exp(u), q * np.log(gamma) - gammaln(q) + q * u - gamma * np.exp(u)
    likely = np.exp(
        log_g
        + n * shape * np.log(n * level)
        - gammaln(n * shape)
        + (n * shape - 1) * np.log(mean)
        - n * level * mean
    )
    value, slope = log_likelihood(np.array([shape, q, gamma]), *one(n, mean))
    assert value[0] == pytest.approx(np.log(likely.sum() * 0.01), rel=1e-10)
    for i, step in enumerate(1e-6 * np.eye(3)):
        about = [
            log_likelihood(np.array([shape, q, gamma]) * np.exp(w * step), *one(n, mean))[0][0]
            for w in (1, -1)
        ]
        assert slope[i][0] == pytest.approx((about[0] - about[1]) / 2e-6, rel=1e-5)
    random = np.random.default_rng(2)
    n = random.integers(1, 9, 4000).astype(float)
    for unit in (0.001, 1.0, 1e9):  # amounts in thousandths and in billions
        spend = fit_spend(n, unit * random.gamma(4 * n, 1) / random.gamma(5, 1 / 40, 4000) / n)
        p, q, gamma = spend.fit.values
        assert p * gamma / (q - 1) / unit == pytest.approx(4 * 40 / 4, rel=0.1)
    wild = fit_spend(n, random.gamma(4 * n, 1) / random.gamma(0.6, 1 / 40, 4000) / n)
    assert not wild.usable
    assert "mean is infinite" in " ".join(wild.fit.notes)
    assert wild.expected(n, n).tolist() == n.tolist()
    tied = fit_spend(n, n * random.gamma(4 * n, 1) / random.gamma(5, 1 / 40, 4000) / n)
    assert "place larger orders: twice as many orders go with +" in " ".join(tied.fit.notes)


@pytest.mark.parametrize(
    ("days_of", "says"),
    [
        ({f"c{i}": range(0, 700, 70) for i in range(320)}, "all customers order at the same rate, once in"),
        ({f"c{i}": range(0, 20 * i + 1, 20) for i in range(6)}, "a weak prior keeps"),
        ({"often": range(0, 7300, 7), **{f"c{i}": [i, i + 9] for i in range(30)}}, ""),
    ],
)  # fmt: skip
def test_unusual_histories_give_finite_forecasts_with_notes(days_of, says):
    rows = [
        (c, pd.Timestamp("2006-01-01") + pd.Timedelta(days=d), 5.0 + d % 3)
        for c, days in days_of.items()
        for d in days
    ]
    orders = fl.open_orders(
        pd.DataFrame(rows, columns=["customer", "placed", "amount"]),
        scheme={"time": {"as_of": dt.date(2026, 1, 1)}},
    )
    ahead = fl.value_forecast(
        orders,
        method="beta-geometric",
        split="2015-01-01" if "often" in days_of else None,
        discount_rate=0.1,
    )
    assert says in " ".join(ahead.notes)
    assert np.isfinite(ahead.frame.drop(columns="customer").to_numpy(dtype=float)).all()
    assert np.isfinite(ahead.models["value"]).all()
    total = ahead.totals()
    assert (total["value_low"] <= total["expected_value"]).all()


@pytest.mark.parametrize(
    ("days_of", "why"),
    [
        ({f"c{i}": [0] for i in range(400)}, "no customer has ordered on a second day"),
        ({f"c{i}": [0, 1] for i in range(40)}, "the orders span 2 days, and fewer than 28 do not show which customers stay"),
        ({"a": range(0, 700, 70)}, "only 1 customer has ordered on a second day, and fewer than 5 do not show how customers differ"),
    ],
)  # fmt: skip
def test_no_forecast_without_enough_history(days_of, why, fairladder, tmp_path):
    """Nulls and the reason, in the forecast and everything derived from it; spend to date stays."""
    start = pd.Timestamp("2025-01-01")
    rows = [(c, start + pd.Timedelta(days=d), 5.0) for c, days in days_of.items() for d in days]
    frame = pd.DataFrame(rows, columns=["customer", "placed", "amount"])
    end = start + pd.Timedelta(days=2 if "span 2" in why else 730 if "only" in why else 0)
    orders = fl.open_orders(frame, scheme={"time": {"as_of": end.date()}})
    ahead = fl.value_forecast(orders)
    assert (ahead.method, why in ahead.notes[0], ahead.backtest) == ("none", True, None)
    assert ahead.frame[list(columns.names(columns.FORECAST))].isna().all().all()
    assert ahead.frame["spend_to_date"].sum() == 5 * len(rows)
    assert ahead.totals().iloc[0, 2:].isna().all()
    assert fl.with_forecast(orders.customers(), ahead)["expected_value"].isna().all()
    with pytest.raises(fl.DataError, match="there is no forecast"):
        fl.figures.value_active(ahead, orders.customers())
    frame.to_csv(tmp_path / "o.csv", index=False)
    output = fairladder("value", tmp_path / "o.csv", "--as-of", end.date(), "--part", "answers")
    assert output.returncode == 0
    assert why in output.stderr
    assert output.stdout.splitlines()[-1].split(",")[1:5] == ["", "", "", ""]


def test_backtest_does_not_look_ahead():
    """Every row after the split is replaced by nonsense, including returns of earlier orders: the
    training data stay the same.
    """
    orders = pd.read_csv(SHOP / "orders.csv", dtype=str)
    split, scheme = "2025-09-30", fl.load_scheme(SHOP / "scheme.toml")
    later = orders["sold_at"].str[:10] > split
    nonsense = orders.copy()
    nonsense.loc[later, "line_total"] = "-77.77"  # lines that subtract from earlier purchases
    nonsense.loc[later, "slip"] = orders["slip"].iloc[0]
    nonsense.loc[later, "member_no"] = orders["member_no"].iloc[0]
    trained = [
        histories_as_of(fl.open_orders(o, scheme=scheme), dt.date(2025, 9, 30)).frame
        for o in (orders, nonsense)
    ]
    known = ["customer", "first", "last", "days", "bought"]
    pd.testing.assert_frame_equal(trained[0][known], trained[1][known])
    assert trained[0]["later_days"].sum() > 1000
    assert trained[1]["later_days"].sum() == 0


@pytest.fixture(scope="module")
def quillmoor():
    return fl.open_orders(SHOP / "orders.csv", scheme=SHOP / "scheme.toml")


@pytest.fixture(scope="module")
def forecast(quillmoor):
    return fl.value_forecast(quillmoor, margin=0.4, discount_rate=0.1)


@pytest.fixture(scope="module")
def paid(quillmoor):
    """Return purchases by plain SQL on the rows that are used."""
    ledger = fl.order_ledger(quillmoor)
    with duckdb.connect() as con:
        con.register("ledger", ledger)
        yield con.sql(
            "SELECT customer AS id, placed_on::DATE AS day, amount, channel FROM ledger WHERE amount > 0"
        ).df()


def test_histories_and_formula_equal_plain_sql(quillmoor, paid):
    from fairladder.value.histories import histories

    past = histories(quillmoor, dt.date(2025, 9, 30))
    output = duckdb.sql("""
        SELECT id, min(day) AS first, max(day) AS last, count(DISTINCT day) AS days, sum(amount) AS bought FROM paid
        WHERE day <= DATE '2025-09-30' GROUP BY 1 ORDER BY 1
    """).df()
    assert past.frame["customer"].tolist() == output["id"].tolist()
    for name in ("first", "last", "days"):
        assert (past.frame[name].to_numpy() == output[name].to_numpy()).all()
    assert past.frame["bought"].to_numpy() == pytest.approx(output["bought"].to_numpy())
    later = duckdb.sql("SELECT count(*) FROM (SELECT DISTINCT id, day FROM paid WHERE day > DATE '2025-09-30') "
                       "WHERE id IN (SELECT id FROM paid WHERE day <= DATE '2025-09-30')").fetchall()[0][0]  # fmt: skip
    assert past.frame["later_days"].sum() == later
    made = fl.value_formula(quillmoor, period="quarter", by="channel", margin=0.4)
    row = made.frame.iloc[0]
    orders, active, both, could = duckdb.sql("""
        WITH active AS (SELECT id, date_trunc('quarter', day) AS q, count(*) AS n FROM paid GROUP BY 1, 2)
        SELECT sum(n), count(*), count(*) FILTER (EXISTS (FROM active b WHERE b.id = a.id AND b.q = a.q + INTERVAL 3 MONTH)),
          count(*) FILTER (q < DATE '2026-04-01') FROM active a
    """).fetchall()[0]
    assert (row["retained"], row["could_return"]) == (both, could)
    revenue = row["revenue"]
    assert row["formula_value"] == pytest.approx(
        revenue / orders * (orders / active) * (1 / (1 - both / could)) * 0.4
    )
    assert row["quick_value"] == pytest.approx(revenue / paid["id"].nunique())
    assert made.frame["customers"].iloc[1:].sum() == row["customers"]
    assert made.frame["retained"].iloc[1:].sum() == both
    assert made.factors().loc[1, "unit"] == "orders per quarter"
    again = (
        # the totals of all quarters give the same value, for periods of one quarter
        fl.value_from_totals(
            revenue=revenue,
            orders=int(orders),
            customers=int(active),
            retention=both / could,
            periods=12,
            period="quarter",
            margin=0.4,
        )
    )
    assert again.frame["formula_value"].iloc[0] == pytest.approx(row["formula_value"])


def test_formula_worked_example():
    """Two complete months: 3 orders of 90 in total by 2 + 1 active customers; one of two returned,
    so 2 months; 30 × 1 × 2 × 0.5 = 30.
    """
    rows = [
        ("a", "2026-01-05", 20),
        ("b", "2026-01-06", 40),
        ("a", "2026-02-07", 30),
        ("a", "2026-03-01", 500),
    ]
    orders = fl.open_orders(
        pd.DataFrame(rows, columns=["customer", "placed", "amount"]),
        scheme={"time": {"as_of": dt.date(2026, 3, 2)}},
    )
    made = fl.value_formula(orders, period="month", margin=0.5)
    row = made.frame.iloc[0]
    assert row[
        [
            "average_order_value",
            "orders_per_period",
            "retention",
            "lifespan_periods",
            "formula_value",
        ]
    ].tolist() == [30, 1, 0.5, 2, 30]
    assert row["value_if_lower"] == pytest.approx(30 * 0.5 / 0.55)
    assert row["quick_value"] == 295
    assert [f.split(":")[0] for f in made.notes] == [
        "Only 2 complete months",
        "The orders span 55 days",
    ]
    for wrong, says in (
        ({"retention": 1.0}, "no customer ever leaves"), ({"retention": 62.0}, "for 60 % write 0.6"), ({"margin": 40.0}, "for 40 % write 0.4"),
        ({"period": "fortnight"}, "no period 'fortnight'"), ({"by": "chanel"}, "no column `chanel`"),
    ):  # fmt: skip
        with pytest.raises(fl.UsageError, match=says):
            fl.value_formula(orders, **wrong)
    by_cohort = fl.value_formula(orders, period="month", by="cohort").frame
    assert by_cohort[["cohort", "customers", "revenue"]].to_numpy().tolist() == [
        ["all", 2, 590],
        ["2026-01-01", 2, 590],
    ]
    with pytest.raises(fl.DataError, match="No year of the orders is complete"):
        fl.value_formula(orders, period="year")
    with pytest.raises(fl.UsageError, match="at least one order a year"):
        fl.value_from_totals(revenue=100, orders=5, customers=8, retention=0.5)


def test_margin_from_costs_and_refunds():
    """Spend 10 + 20 + 30 − 5 = 55, costs 4 + 8.5 − 2 = 10.5, one unknown: margin 44.5 ÷ 55; 55 of
    purchases of 60 remain.
    """
    rows = pd.DataFrame({
        "customer": list("aabb"), "placed": pd.to_datetime(["2026-01-05", "2026-02-05", "2026-01-06", "2026-01-20"]),
        "amount": [10.0, 20, 30, -5], "cost": [4, 8.5, None, -2],
    })  # fmt: skip
    orders = fl.open_orders(
        rows, scheme={"orders": {"cost": "cost"}, "time": {"as_of": dt.date(2026, 2, 28)}}
    )
    ahead = fl.value_forecast(orders, method="naive")
    assert ahead.frame[["spend_to_date", "margin_to_date"]].to_numpy().tolist() == [
        [30, 17.5],
        [25, 27],
    ]
    assert (ahead.margin.share, ahead.margin.after_refunds) == (
        pytest.approx(44.5 / 55),
        pytest.approx(55 / 60),
    )
    assert ahead.frame["expected_value"].to_numpy() == pytest.approx(
        (
            ahead.frame["expected_orders"] * ahead.frame["expected_order_value"] * 44.5 / 55
        ).to_numpy()
    )
    made = fl.value_formula(orders, period="month")
    assert made.frame["margin"].iloc[0] == pytest.approx(44.5 / 55)
    for findings in (ahead.notes, made.notes):
        assert "1 row has no cost, which counts as 0." in findings
    kept = fl.open_orders(
        rows, scheme=orders.scheme.with_options(value={"margin": 0.25, "horizon": 30})
    )
    assert (fl.value_forecast(kept).margin.share, fl.value_forecast(kept).horizon) == (0.25, 30)
    assert fl.value_formula(kept, period="month").frame["margin"].iloc[0] == 0.25
    with pytest.raises(fl.UsageError, match="no margin is left to forecast"):
        fl.value_forecast(fl.open_orders(rows.assign(cost=99.0), scheme=orders.scheme))


def test_forecast_adds_up_and_its_backtest_is_convincing(quillmoor, forecast):
    frame, tested = forecast.frame, forecast.backtest
    assert tested.convincing
    assert forecast.method == tested.winner
    assert tested.better_by > 0.2
    assert 0.75 < tested.frame["coverage"].iloc[0] < 0.88
    assert tested.calibration["customers"].sum() == tested.customers
    weighed = (tested.calibration["actual"] * tested.calibration["customers"]).sum()
    assert weighed == pytest.approx(tested.frame["actual_orders"].iloc[0])
    assert tested.tracking["actual"].iloc[:-40].sum() + tested.frame["actual_orders"].iloc[
        0
    ] == pytest.approx(tested.tracking["actual"].sum(), rel=0.02)
    after = tested.tracking[tested.tracking["week"] > pd.Timestamp(tested.split)]
    assert after[forecast.method].sum() == pytest.approx(tested.frame["orders"].iloc[0], rel=0.05)
    assert np.allclose(frame["margin_to_date"], 0.4 * frame["spend_to_date"])
    ratio = frame["expected_value"] / (
        frame["expected_orders"] * frame["expected_order_value"] * 0.4
    )
    assert (
        (ratio > 1.1**-0.55) & (ratio < 1.1**-0.3)
    ).all()  # a year at 10 %: about half a year's discount, since orders are spread over it
    members = quillmoor.members.table.to_pandas().set_index("customer")["district"]
    by_district = forecast.totals(members)
    whole = forecast.totals().iloc[0]
    shares = forecast.top_shares.set_index("customers")["share"]
    best = frame["expected_value"].nlargest(100)
    assert shares[10] == pytest.approx(best[:10].sum() / whole["expected_value"])
    assert shares[100] == pytest.approx(best.sum() / whole["expected_value"])
    assert by_district["customers"].sum() == whole["customers"] == len(frame)
    assert by_district["expected_value"].sum() == pytest.approx(whole["expected_value"])
    assert (
        by_district["value_high"].sum()
        > whole["value_high"]
        > whole["expected_value"]
        > whole["value_low"]
    )
    again = fl.value_forecast(quillmoor, margin=0.4, discount_rate=0.1)
    pd.testing.assert_frame_equal(again.frame, frame)
    assert any("all customers are equally likely to leave, after 7" in n for n in forecast.notes)


def test_naive_forecast_is_used_for_regular_customers():
    rows = [
        (f"c{i}", pd.Timestamp("2024-01-01") + pd.Timedelta(days=d), 10.0)
        for i in range(60)
        for d in range(i % 7, 700, 7 + i % 9)
    ]
    orders = fl.open_orders(pd.DataFrame(rows, columns=["customer", "placed", "amount"]))
    ahead = fl.value_forecast(orders, horizon=70)
    assert ahead.method == ahead.backtest.winner == "naive"
    assert "No model beats each customer's own past rate" in ahead.backtest.in_words()
    assert ahead.frame["expected_orders"].iloc[0] == pytest.approx(10, rel=0.01)  # every 7 days
    assert ahead.frame["value_low"].isna().all()


def test_value_answers_what_it_can_when_every_customer_comes_back(fairladder, tmp_path):
    """Two customers who buy every month: retention is 1, so there is no formula value, and the
    other values stand.
    """
    days = pd.date_range("2024-01-10", "2025-12-10", freq="MS") + pd.Timedelta(days=9)
    rows = pd.DataFrame([(c, d, 10.0) for c in "ab" for d in days])
    rows.columns = ["customer", "placed", "amount"]
    made = fl.value_formula(fl.open_orders(rows), period="month")
    first = made.frame.iloc[0]
    assert first["retention"] == 1
    assert first["quick_value"] == 10 * len(days)
    assert first[["lifespan_periods", "formula_value", "value_if_higher"]].isna().all()
    assert first["value_if_lower"] == pytest.approx(10 / 0.05)
    assert any("came back in the next month, so retention is 1" in note for note in made.notes)
    rows.to_csv(tmp_path / "orders.csv", index=False)
    shown = fairladder(
        "value", "orders.csv", "--part", "answers", "--period", "month", cwd=tmp_path
    )
    assert shown.returncode == 0
    assert "retention is 1" in shown.stderr
    refused = fairladder("campaign", "orders.csv", "--name", "x", "--response", "0", cwd=tmp_path)
    assert "response: expected a number greater than 0, not 0.0" in refused.stderr


def test_top_found_counts_ties_by_probability():
    actual = np.array([5, 5, 1, 0, 0, 0, 0, 0, 0, 0.0])
    assert top_found(actual, actual) == 1.0  # the tenth is one customer, and one tied with it: two
    assert top_found(np.array([9, 3, 3, 3, 0, 0, 0, 0, 0, 0.0]), actual) == pytest.approx(
        (1 + 1 / 3) / 2
    )


def test_value_command_parts_and_scheme(fairladder, shop):
    arguments = ["value", "orders.csv", "--scheme", "scheme.toml", "--quiet"]
    done = fairladder(
        *arguments,
        "--out",
        "value.json",
        "--by",
        "segment",
        "--figure",
        "active.png",
        "--figure-of",
        "active",
        cwd=shop,
    )
    assert done.returncode == 0, done.stderr
    held = pd.read_json(shop / "value.json", typ="series")
    assert {
        "customers",
        "answers",
        "factors",
        "groups",
        "models",
        "backtest",
        "calibration",
        "tracking",
    } <= set(held.index)
    assert [a["answer"] for a in held["answers"]] == [
        "to date",
        "by formula",
        "forecast for 365 days",
    ]
    assert (shop / "active.png").stat().st_size > 20_000
    totals = fairladder(
        "value", "--revenue", 1000, "--orders", 20, "--customers", 10, "--retention", 0.5, cwd=shop
    )
    assert "formula value,200.0,money per customer" in totals.stdout
    (shop / "short.csv").write_text(
        "customer,placed,amount\na,2026-01-01,5\nb,2026-01-20,7\na,2026-02-20,5\n"
    )
    short = fairladder(
        "value", "short.csv", "--as-of", "2026-02-28", "--out", "short.json", cwd=shop
    )
    assert (short.returncode, "there is no forecast: only 1 customer has" in short.stderr) == (
        0,
        True,
    ), short.stderr
    assert "tracking" not in pd.read_json(shop / "short.json", typ="series").index
    for wrong, says in (
        (["value", "short.csv", "--as-of", "2026-02-28", "--part", "tracking"], "too short for a backtest"),
        (["value", "--orders", 3], "give --revenue, --orders, --customers and --retention"),
        ([*arguments, "--revenue", 3], "--revenue is only for totals"), ([*arguments, "--backtest", "2026-06-30"], "leaves no day up to 2026-06-30"),
        ([*arguments, "--horizon", 0], "give 1 to 3,650"), ([*arguments, "--method", "guess"], "There is no forecast method 'guess'"),
    ):  # fmt: skip
        refused = fairladder(*wrong, cwd=shop)
        assert (refused.returncode, says in refused.stderr) == (2, True), refused.stderr
    text = (shop / "scheme.toml").read_text()
    text = text.replace(
        "[tiers.reward]",
        '[tiers.promise]\nof = "expected_value"\ntop_percents = [5]\n\n[tiers.reward]',
    )
    rule = '[[segments]]\nname = "slipping"\nwhen = "active_probability < 0.5 AND spend > 500"\nstance = "win-back"\n\n'
    (shop / "ahead.toml").write_text(text.replace("[[segments]]", rule + "[[segments]]", 1))
    scored = fairladder(
        "score", "orders.csv", "--scheme", "ahead.toml", "--quiet", "--out", "ahead.csv", cwd=shop
    )
    assert scored.returncode == 0, scored.stderr
    table = pd.read_csv(shop / "ahead.csv", dtype={"customer": str})
    assert (
        (table["segment"] == "slipping")
        == ((table["active_probability"] < 0.5) & (table["spend"] > 500))
    ).all()
    best = table[table["promise"] == "top 5 %"]
    assert (
        best["expected_value"].min()
        >= table.loc[table["promise"] != "top 5 %", "expected_value"].max()
    )
    one = table.loc[table["segment"] == "slipping", "customer"].iloc[0]
    why = fairladder(
        "explain",
        "orders.csv",
        one,
        "--scheme",
        "ahead.toml",
        "--out",
        "why.json",
        "--quiet",
        cwd=shop,
    )
    assert (why.returncode, "slipping" in (shop / "why.json").read_text()) == (0, True), why.stderr


@ALL
def test_discounting_follows_orders_over_the_horizon(model):
    """∫ e^(−δu) dE(u) compared with a sum over small steps; later orders weigh less, and without a
    rate nothing changes.
    """
    p = np.array([0.9, 30.0, 0.8, 400.0]) if model is PARETO else np.array([0.9, 30.0, 0.7, 4.0])
    buying = Buying.of([0, 3, 3, 40], [0, 100, 100, 690], [10, 300, 300, 700])
    fit = fl_fit(model, p)
    force, days = np.log(1.1) / 365, np.linspace(0, 730, 1461)
    expected = np.array([model.expected_if_active(p, buying.x, buying.T, float(d)) for d in days])
    steps = np.exp(-force * (days[1:] + days[:-1]) / 2)[:, None] * np.diff(expected, axis=0)
    found = discounted_orders(model, fit, buying, 730, force)
    assert found == pytest.approx(steps.sum(axis=0), rel=1e-6)
    assert (found < expected[-1]).all()
    assert discounted_orders(model, fit, buying, 730, 0.0) == pytest.approx(expected[-1])
    assert buying.weight.tolist() == [1, 2, 1]
    assert buying.row_of[1] == buying.row_of[2]
    assert (np.diff(model.expected_from_start(p, np.array([0.0, 10, 100, 1000]))) > 0).all()


def fl_fit(model, p):
    parameters = dict(zip(model.names, p.tolist(), strict=True))
    return Fit(
        model.name, parameters, errors={}, log_likelihood=0.0, customers=4, converged=True,
        at_bound=(), penalised=False, vague=(), notes=(), covariance=np.zeros((4, 4)),
    )  # fmt: skip


@pytest.mark.parametrize(
    ("rows", "says"),
    [
        (([1, 2.5], [1, 1], [3, 3]), "Row 2: x below 0 or not whole"), (([1, 1], [1, 4], [3, 3]), "Row 2: t_x below 0 or after T"),
        (([0], [2], [3]), "Row 1: t_x above 0 without a repeat purchase"), (([0], [0], [np.nan]), "Row 1: not a finite number"),
        (([0, 1], [0], [3]), "of one length"),
    ],
)  # fmt: skip
def test_impossible_histories_are_refused(rows, says):
    with pytest.raises(fl.UsageError, match=says):
        Buying.of(*rows)


def test_grouped_rows_and_samples_give_the_same_counts():
    random = np.random.default_rng(1)
    x, t_x, T, _ = simulated(BG, (0.9, 30.0, 0.7, 4.0), 3000, random)
    whole = Buying.of(x, np.ceil(t_x), T)
    separate = Buying(x, np.ceil(t_x), T, np.ones(3000), np.arange(3000))
    p = np.array([0.8, 25.0, 0.6, 3.0])
    sums = [
        float(b.weight @ BG.log_likelihood(p, b.x, b.t_x, b.T)[0])
        for b in (whole, separate, whole.sample(800))
    ]
    assert sums[0] == pytest.approx(sums[1], rel=1e-12)
    assert sums[2] == pytest.approx(sums[0], rel=0.02)
    assert whole.sample(800).weight.sum() == 3000
    one, other = fit_ordering(BG, whole), fit_ordering(BG, whole.scaled(7.0))
    assert other.parameters["alpha"] * 7 == pytest.approx(one.parameters["alpha"], rel=1e-4)
    assert other.parameters["a"] == pytest.approx(one.parameters["a"], rel=1e-4)
    assert other.log_likelihood == pytest.approx(one.log_likelihood + x.sum() * np.log(7), rel=1e-9)

"""Test that figures have a finding as title and match their tables, that files are complete, and
what is refused.
"""

import itertools
import json
import random
import re

import matplotlib as mpl
import pandas as pd
import pytest
from matplotlib import font_manager, pyplot
from matplotlib.patches import Rectangle
from matplotlib.text import Text

import fairladder as fl
from fairladder import figures, wording
from fairladder.figures import fonts
from fairladder.figures.fitting import shortened

mpl.use("agg")


@pytest.fixture(scope="module")
def orders(shop):
    return fl.open_orders(shop / "orders.csv", scheme=shop / "scheme.toml")


@pytest.fixture(scope="module")
def scored(orders):
    return fl.score(orders.customers(), orders.scheme)


def texts(figure):
    return [t.get_text() for axes in figure.axes for t in axes.texts] + [
        t.get_text() for t in figure.texts
    ]


def title(figure):
    return figure.texts[0].get_text()


def test_ladder_figure_shows_every_rung_with_its_size(orders, scored):
    figure = figures.ladders(scored, orders.scheme, facts=orders.facts())
    output = texts(figure)
    for name in ("recency_score", "frequency_score", "monetary_score"):
        for size in scored[name].value_counts():
            assert f"{size:,}" in output
    assert (
        title(figure)
        == "Ties make frequency_score the least even: one rung deviates by 8.8 % of all customers"
    )
    assert len(figure.axes) == 3


def test_concentration_figure_marks_the_tiers(orders, scored):
    figure = figures.concentration(scored, orders.scheme)
    bought = scored[scored["orders"] > 0].sort_values("spend", ascending=False)
    gold = bought["reward"] == "gold"
    share = bought["spend"][gold].sum() / bought["spend"].clip(lower=0).sum()
    assert f"gold: {100 * gold.mean():.1f} % of customers, {100 * share:.1f} % of spend" in texts(
        figure
    )
    plain = figures.concentration(scored.drop(columns="reward"))
    assert any(t.startswith("first 20 %: 20.0 % of customers,") for t in texts(plain))
    with pytest.raises(fl.DataError, match="There is no positive spend"):
        figures.concentration(scored.assign(spend=0.0))


def test_growth_figure_shades_the_flat_district(orders):
    table = fl.growth(orders, by="district")
    figure = figures.growth_running(table, "district")
    assert (
        title(figure)
        == "Saltmarsh stopped growing: no new customer for 16 months, from Mar 2025 to Jun 2026"
    )
    (axes,) = figure.axes
    wide = [line for line in axes.lines if line.get_linewidth() == 12]
    assert max(len(line.get_xdata()) for line in wide) == 16
    assert "Saltmarsh: 102" in texts(figure)
    unfinished = figures.growth_running(fl.growth(orders.on("2026-06-20")))
    assert any(line.get_linestyle() == "--" for line in unfinished.axes[0].lines)
    revenue = fl.growth(orders)
    bars = figures.growth_revenue(revenue).axes[0].patches
    drawn = sum(b.get_height() for b in bars if isinstance(b, Rectangle))
    assert drawn == pytest.approx(revenue["revenue"].sum())


def test_cohort_and_count_figures_match_their_tables(orders):
    found = fl.cohorts(orders, period="quarter")
    cells = [t for t in texts(figures.cohort_map(found)) if re.fullmatch(r"\d+", t)]
    assert len(cells) == found.frame["active"].notna().sum()
    assert cells.count("100") == 12
    back = wording.percent(found.average()[1])
    assert title(figures.cohort_map(found)) == f"Of a cohort, {back} buy again in the next quarter"
    day = pd.DataFrame({"customer": list("abc"), "date": "2026-01-05", "amount": [1, 2, 3]})
    young = fl.cohorts(fl.open_orders(day))
    assert title(figures.cohort_map(young)) == "No cohort has had a next month yet"
    counts = fl.order_counts(orders)
    bars = figures.order_counts(counts).axes[0].patches
    assert [b.get_height() for b in bars] == counts["customers"].head(15).tolist()
    ledger = fl.order_ledger(orders)
    middle = ledger["gap_days"].dropna().astype(float).median()
    assert title(figures.gaps(ledger)).startswith(
        f"Half of all repeat orders come within {int(middle + 0.5)} days"
    )
    with pytest.raises(fl.DataError, match="No customer has ordered twice"):
        figures.gaps(ledger[ledger["kind"] == "first"])


def test_stacked_breakdown_adds_up_to_100_percent(orders):
    found = fl.breakdown(orders, "district", "channel", measure="orders")
    (axes,) = figures.breakdown_stacked(found).axes
    widths = (
        pd.Series([p.get_width() for p in axes.patches])
        .groupby([p.get_y() for p in axes.patches])
        .sum()
    )
    assert widths.to_numpy() == pytest.approx(100)
    assert len(widths) == found.frame["row"].nunique()
    heat = texts(
        figures.breakdown_heat(
            fl.breakdown(orders, "district", "channel", measure="spend", shares="total")
        )
    )
    assert heat.count("100.0 %") == 1
    with pytest.raises(fl.UsageError, match="need two axes and a measure with parts"):
        figures.breakdown_stacked(fl.breakdown(orders, "district"))


def test_heat_without_columns_names_the_largest_row(orders):
    found = fl.breakdown(orders, "channel")
    table = found.frame[found.frame["row"] != "total"]
    largest = table.loc[table["spend"].idxmax(), "row"]
    assert table["row"].iloc[0] != largest  # not just the first one
    assert title(figures.breakdown_heat(found)) == f"The most spend: {largest}"


def test_shortened_names_stay_different():
    names = [
        "Skeins and needles, lot 1 und more of it",
        "Skeins and needles, lot 2 und more of it",
        "x",
    ]
    assert len(set(shortened([names[0], names[0]], 12))) == 1
    made = shortened(names, 12)
    assert len(set(made)) == 3
    assert all(len(m) <= len(n) for m, n in zip(made, names, strict=True))


def test_letters_are_drawn_in_a_font_that_has_them(monkeypatch):
    """The usual font lacks Ω here, and only one other has it; no font has 顧."""
    serif = next(e.fname for e in font_manager.fontManager.ttflist if e.name == "DejaVu Serif")
    without = {font_manager.findfont(fonts.USUAL): set(range(32, 127)), serif: {ord("Ω")}}
    fonts._family_with.cache_clear()
    monkeypatch.setattr(fonts, "_letters_of", lambda path: without.get(path, set()))
    assert fonts.families("plain") == [fonts.USUAL]
    assert fonts.families("Ω 1") == [fonts.USUAL, "DejaVu Serif"]
    assert fonts.missing(["plain", "Ω"]) == ""
    assert fonts.missing(["顧客", "Ω"]).endswith(
        "Install fonts-noto-cjk or another font with them."
    )
    fonts._family_with.cache_clear()


def test_forecast_figures_match_the_backtest(orders):
    ahead = fl.value_forecast(orders, method="beta-geometric")
    tested = ahead.backtest
    best = tested.frame.iloc[0]
    tracked = figures.value_tracking(tested, facts=orders.facts())
    assert (
        title(tracked)
        == f"After the split {best['actual_orders']:,.0f} orders were placed, {best['orders']:,.0f} were forecast ({100 * best['total_error']:+.0f} %)"
    )
    assert "trained on data up to 30 September 2025 " in texts(tracked)
    bars = [p.get_height() for p in figures.value_calibration(tested).axes[0].patches]
    n = len(tested.calibration)
    assert bars[:n] == pytest.approx(tested.calibration["actual"].tolist())
    assert bars[n : 2 * n] == pytest.approx(tested.calibration[best["method"]].tolist())
    value = ahead.frame["expected_value"].sort_values(ascending=False)
    spread = figures.value_expected(ahead)
    assert title(spread).startswith(
        f"A tenth of the customers have {100 * value.head(110).sum() / value.sum():.0f} % of the value"
    )
    assert sum(p.get_width() for p in spread.axes[0].patches) == len(value)
    cells = [t.get_text() for t in figures.value_active(ahead, orders.customers()).axes[0].texts]
    assert sum(int(t.replace(",", "")) for t in cells if "%" not in t) == len(value)
    naive = fl.value_forecast(orders, method="naive")
    assert (
        title(figures.value_active(naive, orders.customers()))
        == "No method estimates who is active"
    )


def test_campaign_and_flow_figures_match_their_tables(orders):
    made = fl.campaign(
        orders, "spring", when="recency_days <= 90", consent="email_ok", limit=100, holdout=30
    )
    funnel = figures.campaign_funnel(made)
    assert title(funnel) == f"spring: {len(made.contacts)} of 1,199 customers are contacted"
    assert [p.get_width() for p in funnel.axes[0].patches] == made.funnel["customers"].tolist()
    found = fl.compare(orders, "2025-12-31")
    flows = figures.segment_flows(found, orders.scheme)
    assert title(flows) == f"{found.moved} customers changed segment, {found.new} are new"
    assert len(flows.axes[0].patches) == len(found.frame)
    now = found.frame.groupby("to_segment")["customers"].sum()
    assert {f"{s}  {n:,}" for s, n in now.items()} <= set(texts(flows))
    walked = fl.paths(orders, "2025-12-31", every="quarter")
    lines = figures.segment_sizes(walked).axes[0].lines
    assert sum(line.get_ydata()[-1] for line in lines) == 1199
    later = orders.on("2026-03-31")
    early = fl.campaign(later, "spring", when="recency_days <= 90", holdout=40)
    drawn = figures.campaign_lift(fl.lift(early.frame, orders))
    assert "4.3 percentage points lower than of the holdout, which may be chance" in title(drawn)
    assert (
        len([t for t in texts(drawn) if " against " in t]) == 1 + early.frame["segment"].nunique()
    )


def test_callers_axes_get_the_same_drawing(orders, scored):
    """The same drawing and title without a footer; texts with dollar signs are not formulas."""
    whole, (left, right) = pyplot.subplots(1, 2)
    there = right.get_position().bounds
    for draw in (
        lambda **how: figures.segments(scored, **how),
        lambda **how: figures.growth_revenue(orders.growth(), **how),
    ):
        alone = draw(facts=orders.facts())
        left.clear()
        assert draw(ax=left, facts=orders.facts()) is whole
        assert left.get_title(loc="left").strip() == title(alone)
        assert len(left.patches) == len(alone.axes[0].patches)
        assert {t.get_text() for t in left.texts} == {t.get_text() for t in alone.axes[0].texts} | {
            alone.texts[1].get_text()
        }
    assert (right.get_position().bounds, len(right.patches), whole.texts) == (there, 0, [])
    pyplot.close(whole)


@pytest.fixture(scope="module")
def hard():
    """Return a difficult shop: twenty segments with long names, right-to-left names, long channels,
    huge amounts, many refunds.
    """
    dice = random.Random(3)
    names = ["שרה לוי", "محمد علي", "李雷 王芳", "Ωμέγα", "$x_1$ and co"]
    rows = [
        (f"{names[i % 5]}{i}", names[i % 5], f"{i}-{k}", f"{2024 + dice.random() // 0.5:.0f}-{1 + dice.randrange(12):02}-11",
         (-1) ** (dice.random() < 0.2) * (1e8 + dice.random() * 1e9), f"a rather long name of a channel {i % 9}")
        for i in range(90) for k in range(1 + i % 12)
    ]  # fmt: skip
    segments = [
        {
            "name": f"a segment with rather a long name {i:02}",
            "when": f"spend > {5e9 - 2.5e8 * i:.0f}",
            "stance": stance,
        }
        for i, stance in enumerate(["keep", "grow", "welcome", "win-back", "leave"] * 4)
    ]
    columns = ["customer", "name", "order", "placed", "amount", "channel"]
    scheme = {
        "orders": {c: c for c in columns},
        "segments": [*segments, {"name": "rest", "otherwise": True, "stance": "leave"}],
    }
    return fl.open_orders(pd.DataFrame(rows, columns=columns), scheme=scheme)


def test_figure_texts_are_neither_cut_nor_covered(hard):
    scored, facts = hard.score(), hard.facts()
    ahead, moved = hard.value_forecast(), hard.compare("2025-06-30")
    drawn = {
        "segments": figures.segments(scored, facts=facts), "grid": figures.grid(scored, facts=facts),
        "ladders": figures.ladders(scored, hard.scheme, facts=facts), "concentration": figures.concentration(scored, facts=facts),
        "revenue": figures.growth_revenue(hard.growth(), facts=facts),
        "running": figures.growth_running(hard.growth(by="channel"), "channel", facts=facts),
        "cohorts": figures.cohort_map(fl.cohorts(hard, period="quarter"), facts=facts), "flows": figures.segment_flows(moved, hard.scheme, facts=facts),
        "stacked": figures.breakdown_stacked(fl.breakdown(hard, "quarter(placed)", "channel", measure="orders", shares="row"), facts=facts),
        "heat": figures.breakdown_heat(fl.breakdown(hard, "channel", "quarter(placed)"), facts=facts),
        "expected": figures.value_expected(ahead, facts=facts), "calibration": figures.value_calibration(ahead.backtest, facts=facts),
        "sizes": figures.segment_sizes(fl.paths(hard, "2025-09-30"), facts=facts), "gaps": figures.gaps(fl.order_ledger(hard), facts=facts),
    }  # fmt: skip
    assert {
        name: found for name, figure in drawn.items() if (found := _cut_or_covered(figure))
    } == {}


def _cut_or_covered(figure):
    """Return texts that leave the figure, and pairs of horizontal texts that overlap."""
    figure.canvas.draw()
    renderer, width, height = figure.canvas.get_renderer(), figure.bbox.width, figure.bbox.height
    outside = set()
    for axes in figure.axes:
        for axis, ends in ((axes.xaxis, axes.get_xlim()), (axes.yaxis, axes.get_ylim())):
            outside |= {
                id(t.label1)
                for t in axis.get_major_ticks()
                if not min(ends) <= t.get_loc() <= max(ends)
            }
    texts = [
        (t.get_text(), t.get_window_extent(renderer)) for t in figure.findobj(Text)
        if t.get_text().strip() and not t.get_text().endswith("\n") and t.get_rotation() % 90 == 0 and id(t) not in outside
    ]  # fmt: skip
    cut = [t for t, b in texts if b.x0 < -2 or b.y0 < -2 or b.x1 > width + 2 or b.y1 > height + 2]
    over = [
        (a, c) for (a, p), (c, q) in itertools.combinations(texts, 2)
        if min(p.x1, q.x1) - max(p.x0, q.x0) > 2 and min(p.y1, q.y1) - max(p.y0, q.y0) > 4
    ]  # fmt: skip
    return cut + over


def test_commands_write_complete_figures_and_all_parts(shop, fairladder, tmp_path):
    base = (shop / "orders.csv", "--scheme", shop / "scheme.toml", "--quiet")
    runs = {
        "explain": (["00363"], ["changes", "standings", "rules", "orders"], "png", "svg"),
        "growth": (["--by", "district"], ["growth", "flat-spells"], "pdf", "png"),
        "retention": (
            ["--period", "year"],
            ["cohorts", "rates", "order-counts", "one-order-short", "channels", "flow"],
            "svg",
            "png",
        ),
        "breakdown": (["--rows", "channel", "--columns", "category"], ["spend"], "png", "svg"),
        "score": (
            ["--stability", "--figure-of", "stability"],
            ["customers", "segments", "rules", "stability", "near-cut"],
            "png",
            "pdf",
        ),
    }
    magic = {"png": b"\x89PNG", "svg": b"<?xml", "pdf": b"%PDF"}
    for name, (options, parts, *kinds) in runs.items():
        if name == "score":  # scored a hundred times, so fewer orders are enough
            base = (tmp_path / "some.csv", *base[1:])
            base[0].write_text(
                "".join((shop / "orders.csv").read_text("utf-8").splitlines(keepends=True)[:3000]),
                "utf-8",
            )
        figure, out = tmp_path / f"{name}.{kinds[0]}", tmp_path / f"{name}.json"
        done = fairladder(name, *base[:1], *options, *base[1:], "--figure", figure, "--out", out)
        assert done.returncode == 0, done.stderr
        assert figure.read_bytes().startswith(magic[kinds[0]])
        output = json.loads(out.read_text())
        assert output["as_of"] == "2026-06-30"
        if name == "explain":
            (one,) = output["explanations"]
            assert (one["customer"], one["segment"], len(one["orders"])) == ("00363", "building", 5)
        else:
            assert set(parts) <= output.keys()
        if name != "score":  # scoring a hundred samples once is enough
            table = fairladder(name, *base[:1], *options, *base[1:], "--part", parts[-1])
            assert table.stdout.count("\n") > 1, name
    wrong = fairladder("score", *base, "--figure", tmp_path / "x.png", "--figure-of", "stability")
    assert (wrong.returncode, wrong.stderr) == (
        2,
        "Error: --figure-of stability needs --stability.\n",
    )
    assert not (tmp_path / "x.png").exists()

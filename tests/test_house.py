"""Test the package itself: lazy imports, the shipped sample, figures, examples and
documentation.
"""

import dataclasses
import doctest
import functools
import os
import runpy
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from matplotlib.image import imread

import fairladder as fl
from fairladder import columns, findings, settings
from fairladder.book import measure_trees
from fairladder.demo import SHOP
from fairladder.demo.generator import make_shop
from fairladder.scheme import ROLES
from fairladder.settings import with_option
from fairladder.sqltree import sql

ROOT = Path(__file__).parents[1]


def test_import_is_light_and_public_names_exist():
    heavy = "import sys, fairladder; print(sorted({'pandas', 'scipy', 'matplotlib', 'duckdb', 'numpy'} & set(sys.modules)))"
    done = subprocess.run([sys.executable, "-c", heavy], capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"
    assert fl.__all__ == sorted(fl.__all__)
    for name in fl.__all__:
        assert getattr(fl, name).__doc__, name
    with pytest.raises(AttributeError, match="has no attribute 'scorez'"):
        fl.scorez  # noqa: B018


def test_shipped_sample_equals_generator_output(tmp_path):
    make_shop(tmp_path)
    for name in ("orders.csv", "members.csv"):
        assert (tmp_path / name).read_bytes() == (SHOP / name).read_bytes()


def test_new_measure_needs_one_entry_and_one_line(tmp_path):
    """The recipe of docs/house.md, followed in a copy: a file, a database and a frame then have the
    measure.
    """
    recipe = (
        (ROOT / "docs" / "house.md")
        .read_text("utf-8")
        .partition("**A measure of customers**")[2]
        .split("```")[1]
    )
    shutil.copytree(ROOT / "src", tmp_path / "src", ignore=shutil.ignore_patterns("__pycache__"))
    for part in recipe.split("--- ")[1:]:
        name, *added = part.splitlines()
        lines = (tmp_path / name).read_text("utf-8").splitlines()
        before = next(
            i
            for i, line in enumerate(lines)
            if line.strip().startswith(('_is("largest_order"', '"largest_order": where'))
        )
        lines[before + 1 : before + 1] = [line[1:] for line in added if line.startswith("+")]
        (tmp_path / name).write_text("\n".join(lines), "utf-8")
    asks = """
import sqlite3, sys
import pandas as pd, fairladder as fl
frame = pd.DataFrame({"customer": list("aab"), "order": list("123"), "placed": ["2026-01-01"] * 3, "amount": [2.0, 8.0, 5.0]})
frame.to_csv(sys.argv[1] + "/o.csv", index=False)
frame.to_sql("orders", sqlite3.connect(sys.argv[1] + "/o.db"), index=False)
for source in (sys.argv[1] + "/o.csv", "sqlite:///" + sys.argv[1] + "/o.db", frame):
    orders = fl.open_orders(source)
    print(orders.top("evenness")["evenness"].tolist(), fl.select(orders.score(), when="evenness < 1")["customer"].tolist())
"""
    done = subprocess.run(
        [sys.executable, "-W", "ignore", "-c", asks, str(tmp_path)],
        env={**os.environ, "PYTHONPATH": str(tmp_path / "src")}, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.stdout == "[1.0, 0.25] ['a']\n" * 3, done.stderr


def test_every_role_has_an_option():
    assert {f"--{role.replace('_', '-')}-column" for role in ROLES} <= {
        s.option for s in with_option("orders")
    }


def test_docstring_examples_run(monkeypatch):
    """Every fast public function has an example that runs."""
    monkeypatch.setattr(fl, "sample_orders", functools.cache(fl.sample_orders), raising=False)
    homes = {
        sys.modules[getattr(fl, name).__module__]
        for name in fl.__all__
        if hasattr(getattr(fl, name), "__module__")
    }
    tried = [doctest.testmod(home) for home in homes]
    assert sum(t.failed for t in tried) == 0
    assert sum(t.attempted for t in tried) > 70


def test_api_page_is_current():
    assert runpy.run_path(str(ROOT / "docs" / "api.py"))["page"]() == (
        ROOT / "docs" / "api.md"
    ).read_text("utf-8")


def test_value_format_depends_on_its_table(tmp_path):
    """Rates are shares, factors and parameters are not: 74.14 per order must never be shown as
    7,414 %.
    """
    orders = fl.sample_orders()
    made, rates = fl.value_formula(orders, period="quarter"), fl.cohorts(orders, period="quarter")
    for name, result, part, share in (
        ("factors", made, None, False),
        ("rates", rates, "rates", True),
    ):
        frame = result.tables()[part or name]
        assert columns.is_share(frame, "value") == share
        result.to_file(tmp_path / f"{name}.md", part=part)
        assert (" % |" in (tmp_path / f"{name}.md").read_text("utf-8")) == share
    shown = made._repr_html_()
    assert ">74.1<" in shown
    assert "7414" not in shown
    assert "63.2 %" in rates._repr_html_()
    hostile = fl.explain(orders, "09302")[0]
    assert "&lt;b&gt;" in dataclasses.replace(hostile, name="<b>")._repr_html_()


def test_measure_without_tree_is_refused(monkeypatch):
    """A registered measure is also computed on a cluster and as SQL, or refused by its name."""
    parts = [sql(name) for name in ("today", "positive", "held", "place")]
    made = [tree.alias for tree in measure_trees.measures(["name", "only_channel"], *parts, 2)]
    assert made == list(columns.names(columns.CUSTOMERS))
    monkeypatch.setattr(measure_trees, "NAMES", (*columns.names(columns.CUSTOMERS), "evenness"))
    with pytest.raises(fl.UsageError, match="`evenness` cannot be computed"):
        measure_trees.measures([], *parts, 2)


def test_every_column_is_in_the_registry(scored):
    table, _ = scored
    assert (ROOT / "docs" / "columns.md").read_text("utf-8") == columns.as_markdown()
    assert (ROOT / "docs" / "findings.md").read_text("utf-8") == findings.as_markdown()
    assert (ROOT / "docs" / "scheme.md").read_text("utf-8") == settings.as_markdown()
    orders = fl.sample_orders()
    numbers = {
        "money": "f",
        "share": "f",
        "ratio": "f",
        "count": "iu",
        "days": "iuf",
        "day": "M",
        "score": "iu",
        "points": "iuf",
        "truth": "b",
    }
    made = {
        "growth": orders.growth(),
        "cohorts": orders.cohorts().frame,
        "orders": orders.order_ledger(),
        "segments": orders.segment_summary(),
    }
    for where, frame in {"customers": table, **made}.items():
        (known,) = [{c.name: c for c in t} for t in columns.TABLES if t[0].table == where]
        known |= {c.name: c for c in columns.SCORES} if where == "customers" else {}
        for name, values in frame.items():
            if name in known:
                assert (
                    values.dtype.kind in numbers.get(known[name].kind, "OUT")
                    or known[name].kind == "text"
                ), (where, name)
                assert known[name].nulls or values.notna().all(), (where, name)
            else:
                assert (
                    name in frame.attrs.get(columns.CARRIED, ()) or name in orders.scheme.tiers
                ), (where, name)


@pytest.fixture(scope="module")
def scored():
    orders = fl.open_orders(SHOP / "orders.csv", scheme=SHOP / "scheme.toml")
    return fl.score(orders.customers(), orders.scheme), orders.facts()


def test_segment_figure_matches_the_summary(scored, tmp_path):
    table, facts = scored
    figure = fl.figures.segments(table, facts=facts)
    summary = fl.segment_summary(table).set_index("segment")
    drawn = [bar.get_width() for bar in figure.axes[0].patches]
    shares = sorted(summary["spend_share"] * 100, reverse=True)
    assert drawn[: len(shares)] == pytest.approx(shares)
    words = [t.get_text() for t in [*figure.texts, *figure.axes[0].texts]]
    assert "The customers to keep are 30 % of all and contribute 70 % of spend" in words
    assert "55.4 % of spend, 297,378" in words
    assert words[2].startswith("As of 30 June 2026 (set by as_of). 17,756 rows read")
    figure.savefig(tmp_path / "segments.png")
    assert imread(tmp_path / "segments.png").shape[:2] == (800, 1280)


def test_grid_figure_counts_every_customer_once(scored):
    table, facts = scored
    figure = fl.figures.grid(table, facts=facts)
    counts = [
        int(t.get_text().replace(",", "")) for t in figure.axes[0].texts if t.get_fontsize() == 17
    ]
    assert sum(counts) == (table["orders"] > 0).sum()
    empty = table[table["orders"] == 0]
    with pytest.raises(fl.DataError, match="No customer has a score"):
        fl.figures.grid(empty)
    with pytest.raises(fl.DataError, match="not above zero"):
        fl.figures.segments(empty)


@pytest.mark.parametrize("path", sorted((ROOT / "examples").glob("*.py")), ids=lambda p: p.stem)
def test_example_runs(path, capsys):
    runpy.run_path(str(path), run_name="__main__")
    assert capsys.readouterr().out.count("\n") > 3


def test_readme_examples_run_as_shown(monkeypatch):
    monkeypatch.chdir(SHOP)
    failed, tried = doctest.testfile(
        str(ROOT / "README.md"), module_relative=False, optionflags=doctest.NORMALIZE_WHITESPACE
    )
    assert tried > 3
    assert failed == 0


def test_tab_completion_shows_questions_only(tmp_path):
    orders = fl.sample_orders()
    shown = [name for name in dir(orders) if not name.startswith("_")]
    assert {"campaign", "report", "score", "check", "balance"} <= set(shown)
    assert not {"engine", "groups", "base", "customers_there", "kept_rows"} & set(shown)
    assert all(hasattr(orders, name) for name in shown)
    with pytest.raises(fl.UsageError, match=r"end the name in \.html"):
        orders.report(tmp_path / "report.pdf")

"""Test the commands: what they print, what they write, and how they refuse."""

import csv
import datetime as dt
import io
import json
import os
import re
import signal
import socket
import stat
import subprocess
import sys
import threading
import zipfile
from decimal import Decimal
from types import SimpleNamespace

import duckdb
import numpy as np
import pandas as pd
import pyarrow.parquet as pq
import pytest
import typer
from rich.console import Console
from sqlglot import parse_one

import fairladder as fl
from fairladder import palette, steps
from fairladder.book.opened import open_unread
from fairladder.cli import screen
from fairladder.cli.options import report_errors
from fairladder.engine.embedded import Embedded
from fairladder.output import files, large_sheets
from fairladder.review.stability import stability
from fairladder.scheme import Scheme

GOOD = "customer,order,placed,amount\n" + "".join(
    f"c{i},o{i},2026-01-{i + 1:02d},{10 + i}.50\n" for i in range(8)
)


@pytest.fixture
def orders(tmp_path):
    path = tmp_path / "orders.csv"
    path.write_text(GOOD)
    return path


def test_demo_runs_the_whole_workflow(process, tmp_path):
    done = process("demo", tmp_path / "shop")
    assert done.returncode == 0, done.stderr
    for output in (
        "Does every row count?",
        "Who spent most?",
        "Need a retention campaign: 167 customers (13.9 %)",
        "Where to find everything",
    ):
        assert output in done.stdout
    made = {p.name for p in (tmp_path / "shop" / "results").iterdir()}
    assert made == {
        "customers.csv",
        "customers.settings.json",
        "concentration.png",
        "grid.png",
        "ladders.png",
        "report.html",
        "scored.csv",
        "scored.json",
        "scored.parquet",
        "scored.settings.json",
        "segments.png",
        "set-aside.csv",
    }
    assert process("demo", tmp_path / "shop").returncode == 0  # again, over its own files
    (tmp_path / "shop" / "scheme.toml").write_text("# mine now")
    refused = process("demo", tmp_path / "shop")
    assert refused.returncode == 2
    assert (
        "scheme.toml' exists already and differs from the sample; name another folder."
        in refused.stderr
    )
    assert (tmp_path / "shop" / "scheme.toml").read_text() == "# mine now"


def test_all_output_formats_contain_the_same_customers(shop, fairladder, tmp_path):
    """CSV, Parquet and JSON by suffix, CSV into a pipe, the same table in Python; settings are in
    the files.
    """
    command = ("score", shop / "orders.csv", "--scheme", shop / "scheme.toml")
    piped = fairladder(*command)
    outs = {ending: tmp_path / f"scored.{ending}" for ending in ("csv", "parquet", "json")}
    for out in outs.values():
        done = fairladder(*command, "--out", out)
        assert (done.returncode, done.stdout) == (0, ""), done.stderr
        assert "As of 30 June 2026 (set by as_of). 17,756 rows read: 17,023 used" in done.stderr
    assert outs["csv"].read_text() == piped.stdout
    assert fairladder(*command, "--out", "-", "--quiet").stderr == ""
    orders = fl.open_orders(shop / "orders.csv", scheme=shop / "scheme.toml")
    python = fl.score(orders.customers(), orders.scheme)
    parquet = pd.read_parquet(outs["parquet"])
    assert list(parquet.columns) == list(python.columns) == piped.stdout.splitlines()[0].split(",")
    assert parquet["spend_share"].tolist() == python["spend_share"].tolist()
    output = json.loads(outs["json"].read_text())
    extra = json.loads((tmp_path / "scored.settings.json").read_text())
    assert (extra["settings"], extra["balance"]) == (output["settings"], output["balance"])
    assert output["settings"]["orders"]["customer"] == "member_no"
    assert (
        json.loads(pq.read_schema(outs["parquet"]).metadata[b"fairladder"])["as_of"]
        == output["as_of"]
        == "2026-06-30"
    )
    rows = list(csv.DictReader(io.StringIO(piped.stdout)))
    assert (
        [r["customer"] for r in rows]
        == [r["customer"] for r in output["customers"]]
        == python["customer"].tolist()
    )
    one, same = rows[0], output["customers"][0]
    assert (one["customer"], one["spend"], one["first_order"]) == ("00007", "33.25", "2025-04-17")
    assert (same["spend"], same["first_order"], same["average_gap_days"]) == (
        33.25,
        "2025-04-17",
        None,
    )
    assert sum(s["customers"] for s in output["segments"]) == len(rows) == 1199
    rules = pd.read_csv(io.StringIO(fairladder(*command, "--part", "rules").stdout))
    assert rules["placed"].sum() == 1199
    assert (
        rules.set_index("segment")["shadowed"].to_dict()["building"] == 303
    )  # 221 mainstay and 82 fresh-face customers


def test_check_accounts_for_every_row(shop, fairladder, tmp_path):
    done = fairladder(
        "check",
        shop / "orders.csv",
        "--scheme",
        shop / "scheme.toml",
        "--out",
        tmp_path / "check.json",
    )
    assert done.returncode == 0, done.stderr
    output = json.loads((tmp_path / "check.json").read_text())
    balance = output["balance"]
    assert (
        balance["rows_read"]
        == 17756
        == sum(balance[k] for k in ("used", "set_aside", "filtered_out", "outside_range"))
    )
    cents = {k: round(float(v) * 100) for k, v in balance["amounts"].items()}
    assert (
        cents["rows_read"]
        == cents["used"] + cents["set_aside"] + cents["filtered_out"] + cents["outside_range"]
    )
    total = output["set_aside"][-1]
    assert (total["row"], total["reason"], total["member_no"], total["line_total"]) == (
        17757,
        "total-row",
        "Total",
        "560228.10",
    )
    lines = (shop / "orders.csv").read_text().splitlines()
    for aside in output["set_aside"]:  # the original cells, by the row numbers of the file
        cells = next(csv.reader([lines[aside["row"] - 1]]))
        assert [aside[k] or "" for k in ("slip", "sold_at", "member_no", "line_total")] == [
            cells[0],
            cells[1],
            cells[2],
            cells[9],
        ]
    assert {f["code"]: f["count"] for f in output["findings"]}["no-orders"] == 107


def test_options_replace_a_scheme(fairladder, tmp_path):
    """Roles by option, a date range with both days included, two conditions combined, the as-of
    date reported as given.
    """
    path = tmp_path / "rows.tsv"
    path.write_text(
        "who\tslip\twhen\tprice\tpieces\toff\tkind\n007\ta\t2026-03-01 23:59:59\t2.50\t3\t10%\tx\n007\tb\t2026-02-28\t1\t1\t\tx\n"
        "7\tc\t2026-03-31T23:59\t4\t2\t0.25\tx\n7\td\t2026-04-01\t4\t2\t\tx\n8\te\t2026-03-05\t4\t2\t\ty\n"
    )
    roles = "--customer-column who --order-column slip --placed-column when --unit-price-column price --quantity-column pieces".split()
    window = [
        "--discount-column",
        "off",
        "--from",
        "2026-03-01",
        "--through",
        "2026-03-31",
        "--where",
        "kind = 'x'",
    ]
    done = fairladder("customers", path, *roles, *window)
    rows = list(csv.DictReader(io.StringIO(done.stdout)))
    # 2.50 × 3 × 0.9 = 6.75 and 4 × 2 × 0.75 = 6.00; 007 and 7 are two customers.
    assert [(r["customer"], r["orders"], r["spend"], r["recency_days"]) for r in rows] == [
        ("007", "1", "6.75", "30"),
        ("7", "1", "6.00", "0"),
    ]
    assert (
        "As of 31 March 2026 (end of the date range). 5 rows read: 2 used, 1 filtered out, 2 outside the date range."
        in done.stderr
    )
    sql = fairladder("customers", path, *roles, *window, "--show-sql").stdout
    assert "OVER (" not in sql  # mergeable aggregates, no window functions
    output = duckdb.connect().execute(sql).df()  # it runs unchanged in any DuckDB
    assert output[output["state"] == 0][["customer", "spend"]].values.tolist() == [
        ["007", 675],
        ["7", 600],
    ]


@pytest.mark.parametrize(
    ("words", "code", "output"),
    [
        (["score", "orders.cvs"], 2, "There is no file 'orders.cvs'."),
        (["score", "orders.csv", "--customer-column", "custmer"], 2,
         "orders.csv has no column `custmer`, which [orders] customer requires. Did you mean `customer`?"),
        (["check", "empty.csv"], 1, "The file 'empty.csv' is empty. Export the orders again, with a header line."),
        (["score", "header.csv"], 1, "No customer has a purchase, so no customer can be scored."),
        (["score", "orders.csv", "--scheme", "typo.toml"], 2, "typo.toml: orders.plced (line 2): unknown key. Did you mean `placed`?"),
        (["score", "orders.csv", "--scheme", "rule.toml"], 2, "segment `a`: `orders >` does not parse as a SQL condition"),
        (["score", "orders.csv", "--scheme", "open.toml"], 2, "the last segment needs `otherwise = true`, so that every customer gets a segment"),
        (["score", "orders.csv", "--scheme", "rungs.toml"], 2, "write your own `[[segments]]` for another number"),
        (["score", "orders.csv", "--scheme", "missing.toml"], 2, "There is no scheme file 'missing.toml'. Check the path given with --scheme."),
        (["score", "bad.csv"], 1, "2 of 8 rows are set aside (1 no-customer, 1 bad-date): more than 20 %"),
        (["score", "ragged.csv"], 1, "Line 3 of the orders has 5 cells but the header has 4 (`c1,x,o1,2026-01-02,11.50`). Look for a stray separator"),
        (["score", "orders.csv", "--where", "amont > 3"], 2, "where: `amont > 3` names the column `amont`, which does not exist. Did you mean `amount`?"),
        (["score", "orders.csv", "--as-of", "30.6.2026"], 2, "--as-of 30.6.2026: that is not a date; write it as 2026-06-30."),
        (["score", "orders.csv", "--from", "2026-02-01", "--through", "2026-01-01"], 2, "`through` (2026-01-01) is before `from` (2026-02-01)"),
        (["score", "orders.csv", "--out", "x.doc"], 2, "'x.doc': results cannot be written as doc; end the name in .csv, .parquet, .json, .xlsx, .md, .html."),
        (["score", "orders.csv", "--out", "no/x.csv"], 2, "There is no folder 'no' to write 'x.csv' into. Create it first."),
        (["score", "orders.csv", "--part", "people"], 2, "--part people: this result has no such part. Choose from: customers, segments, tiers, rules."),
        (["check", "orders.csv", "--figure", "x.png"], 2, "This command draws no figure; `fairladder score` does."),
        (["score", "orders.csv", "--figure", "no/x.png"], 2, "There is no folder 'no' to write 'x.png' into. Create it first."),
        (["score", "later.csv"], 1, "The latest day in the orders is 2999-01-01, which is after today"),
        (["score", "orders.csv", "--customers", "twice.csv"], 1, "repeated-customers: twice.csv has 1 ids on more than one row, the first `c1` (rows 2, 4)."),
        (["score", "orders.csv", "--customers", "taken.csv"], 1, "taken.csv has a column `spend`, which is the name of a computed column."),
        (["frobnicate"], 2, "No such command 'frobnicate'"),
    ],
)  # fmt: skip
def test_errors_are_one_message_with_exit_code(fairladder, orders, words, code, output):
    """The exit code, what is wrong and what to do; no traceback, and no file is left behind."""
    files = {
        "empty.csv": "", "header.csv": GOOD.splitlines()[0] + "\n", "typo.toml": '[orders]\nplced = "placed"\n',
        "rule.toml": '[[segments]]\nname = "a"\nwhen = "orders >"\nstance = "keep"\n[[segments]]\nname = "b"\notherwise = true\nstance = "leave"\n',
        "open.toml": '[[segments]]\nname = "a"\nwhen = "orders > 1"\nstance = "keep"\n', "rungs.toml": "[scores]\nrungs = 4\n",
        "bad.csv": GOOD.replace("c3,", ",").replace("2026-01-05", "soon"), "ragged.csv": GOOD.replace("c1,o1", "c1,x,o1"),
        "later.csv": GOOD.replace("2026-01-08", "2999-01-01"), "twice.csv": "customer\nc1\nc2\nc1\n", "taken.csv": "customer,spend\nc1,4\n",
    }  # fmt: skip
    for name, text in files.items():
        (orders.parent / name).write_text(text)
    before = sorted(p.name for p in orders.parent.iterdir())
    done = fairladder(
        *words,
        *([] if "--out" in words or len(words) < 2 else ["--out", "out.csv"]),
        cwd=orders.parent,
    )
    assert output in done.stderr
    assert (done.returncode, done.stdout) == (code, "")
    assert "Traceback" not in done.stderr
    assert sorted(p.name for p in orders.parent.iterdir()) == before


def test_unusable_rows_still_give_tables_with_headers(fairladder, orders):
    """Without usable rows, `customers` lists the members, and `check` prints its report before it
    exits with an error.
    """
    (orders.parent / "header.csv").write_text(GOOD.splitlines()[0] + "\n")
    (orders.parent / "members.csv").write_text("customer,name\nann,Ann Ashbarrow\n")
    done = fairladder(
        "customers",
        "header.csv",
        "--customers",
        "members.csv",
        "--fail-on",
        "never",
        cwd=orders.parent,
    )
    assert done.returncode == 0
    assert [r["name"] for r in csv.DictReader(io.StringIO(done.stdout))] == ["Ann Ashbarrow"]
    assert "No row can be used" in done.stderr
    checked = fairladder("check", "header.csv", "--part", "balance", cwd=orders.parent)
    assert (checked.returncode, checked.stdout.splitlines()[:2]) == (
        1,
        ["what,rows,amount", "rows read,0,0.00"],
    )
    allowed = fairladder("score", "bad.csv", "--allow-set-aside", cwd=orders.parent)
    assert allowed.returncode == 2  # that file does not exist: the option alone changes nothing
    (orders.parent / "bad.csv").write_text(GOOD.replace("c3,", ",").replace("2026-01-05", "soon"))
    assert fairladder("score", "bad.csv", "--allow-set-aside", cwd=orders.parent).returncode == 0


def test_score_totals_and_codes_follow_weights():
    """Weights 1.5, 1, 0.25 on 5-4-3: 7.5 + 4 + 0.75 = 12.25; a scheme by points; customers without
    a purchase have no scores.
    """
    frame = pd.DataFrame(
        {
            "customer": list("abcdef"),
            "order": range(6),
            "placed": pd.date_range("2026-01-01", periods=6),
            "amount": [5, 4, 3, 2, 1, -1],
        }
    )
    scheme = fl.Scheme.model_validate(
        {"scores": {"weights": (1.5, 1, 0.25)}, "segments": (
            {"name": "high", "when": "score_total >= 9", "stance": "keep"},
            {"name": "rest", "otherwise": True, "stance": "leave"})}
    )  # fmt: skip
    scored = fl.score(fl.open_orders(frame).customers(), scheme)
    # All have one order: frequency is on the middle rung, 3. Recency rises and spend falls from a
    # to e.
    assert scored["score_code"].tolist()[:5] == ["1-3-5", "2-3-4", "3-3-3", "4-3-2", "5-3-1"]
    assert scored["score_total"].tolist()[:5] == [5.75, 7.0, 8.25, 9.5, 10.75]
    assert scored["segment"].tolist() == ["rest", "rest", "rest", "high", "high", "rest"]
    assert scored.loc[5, ["recency_score", "score_total", "percentile"]].isna().all()
    summary = fl.segment_summary(scored)
    assert summary["spend"].tolist() == [3.0, 11.0]
    assert summary["average_order_value"].tolist() == [1.5, 11 / 3]  # the refund is netted


def test_outputs_never_overwrite_inputs(tmp_path, fairladder, process):
    """Also through links, case and the settings file of a CSV; modes and links are kept; special
    files are refused.
    """
    orders, scheme = tmp_path / "orders.csv", tmp_path / "scheme.toml"
    orders.write_text(
        "customer,placed,amount\n" + "".join(f"c{i},2026-01-0{i % 9 + 1},5\n" for i in range(40))
    )
    scheme.write_text("[money]\ndecimals = 2\n")
    (tmp_path / "link.csv").symlink_to(orders)
    (tmp_path / "hard.csv").hardlink_to(orders)
    before = orders.read_bytes()
    for words in (["--out", orders], ["--out", tmp_path / "link.csv"], ["--out", tmp_path / "hard.csv"], ["--out", tmp_path / "ORDERS.csv"],
                  ["--figure", tmp_path / "x.png", "--save-ladders", tmp_path / "X.PNG"], ["--out", "a.csv", "--save-ladders", "a.settings.json"],
                  ["--out", "s.json", "--with-ladders", "s.json"]):  # fmt: skip
        done = fairladder("score", orders, "--scheme", scheme, *words, cwd=tmp_path)
        assert (done.returncode, done.stderr.count("\n")) == (2, 1), words
        assert "which is read" in done.stderr or "name one file" in done.stderr
    assert orders.read_bytes() == before
    os.mkfifo(tmp_path / "pipe.csv")
    assert (
        "is not a regular file"
        in fairladder("score", orders, "--out", tmp_path / "pipe.csv").stderr
    )
    kept = tmp_path / "kept.csv"
    kept.write_text("old")
    kept.chmod(0o640)
    (tmp_path / "to-kept.csv").symlink_to(kept)
    left = (
        tmp_path / f".kept.fairladder-{socket.gethostname()}-999999.csv"
    )  # of a process that is no longer running
    left.write_text("half")
    assert fairladder("customers", orders, "--out", tmp_path / "to-kept.csv").returncode == 0
    assert kept.read_text().startswith("customer,orders")
    assert (
        stat.S_IMODE(kept.stat().st_mode),
        (tmp_path / "to-kept.csv").is_symlink(),
        left.exists(),
    ) == (0o640, True, False)
    with open("/dev/full", "w") as full:
        done = subprocess.run(
            [sys.executable, "-m", "fairladder", "score", orders],
            stdout=full,
            stderr=subprocess.PIPE,
            text=True,
            check=False,
        )
    assert (done.returncode, done.stderr.splitlines()[-1]) == (
        1,
        "Error: the output could not be written: No space left on device.",
    )
    plain = {**os.environ, "PYTHONIOENCODING": "ascii", "PYTHONOPTIMIZE": "1"}
    done = subprocess.run(
        [sys.executable, "-m", "fairladder", "score", orders],
        capture_output=True,
        text=True,
        env=plain,
        check=False,
    )
    assert (done.returncode, done.stdout) == (
        0,
        process("score", orders).stdout,
    )  # no assert has side effects, no character of the table is lost


def test_names_are_printed_as_plain_text(tmp_path, fairladder, monkeypatch):
    names = ["[/b]x", "[link=http://e]z[/link]", "\x1b[31mred", "=1+1", "$a$b_c$", "\u202egnp.exe"]
    frame = pd.DataFrame({"customer": [f"c{i % 6}" for i in range(60)], "placed": pd.date_range("2025-01-01", periods=60, freq="9D").strftime("%Y-%m-%d"),
                          "amount": range(5, 65), "name": [names[i % 6] for i in range(60)], "=evil[/b]": "[bold]v"})  # fmt: skip
    frame.to_csv(tmp_path / "o.csv", index=False)
    monkeypatch.setattr("fairladder.cli.screen.for_people", lambda _: True)
    done = fairladder("top", tmp_path / "o.csv", "--count", 6)
    for shown in (
        "[/b]x",
        "[link=http://e]z[/link]",
        "\ufffd[31mred",
        "=1+1",
        "$a$b_c$",
        "\ufffdgnp.exe",
    ):
        assert shown in done.stdout, shown
    assert "\x1b" not in done.stdout
    score = fairladder("score", tmp_path / "o.csv", "--figure", tmp_path / "x.png")
    assert score.returncode == 0
    assert "Too few to advise: only 6 customers have a purchase, under 30." in score.stdout
    assert "Safe to leave alone" not in score.stdout
    fairladder("orders", tmp_path / "o.csv", "--out", tmp_path / "led.csv", "--spreadsheet-safe")
    assert ",'=evil[/b]," in (tmp_path / "led.csv").read_text().splitlines()[0]


def test_customers_end_with_the_totals_of_all_that_match(shop, fairladder, monkeypatch):
    """Of all 315 customers with one order, not only of the twelve that are shown."""
    monkeypatch.setattr("fairladder.cli.screen.for_people", lambda _: True)
    monkeypatch.setenv("COLUMNS", "140")
    words = ["customers", shop / "orders.csv", "--scheme", shop / "scheme.toml", "--quiet"]
    shown = fairladder(*words, "--when", "orders = 1").stdout
    frame = fl.open_orders(shop / "orders.csv", scheme=shop / "scheme.toml").customers()
    once = frame[frame["orders"] == 1]
    spend = once["spend"].sum()
    line = next(line.split() for line in shown.splitlines() if line.startswith("all "))
    share = f"{100 * once['spend_share'].sum():.1f}"
    assert line == ["all", "315", f"{spend:,.2f}", f"{spend / 315:,.2f}", share, "%"]


@pytest.mark.parametrize("width", [40, 60, 80, 120])
def test_terminal_tables_never_cut_numbers_or_words(width):
    cells = [
        ["drifting-mainstay", "1,234,567.89", "64.7 %", "a rather long reason of several words"],
        ["quiet", "2", "–", "short"],
    ]
    console = Console(width=width, file=io.StringIO(), color_system=None)
    order = [cells[0][i] for i in (0, 3, 1, 2)], [cells[1][i] for i in (0, 3, 1, 2)]
    console.print(
        screen.table(
            "What", ["segment", "why they are here", "spend of them all", "share"], order, left=2
        )
    )
    lines = console.file.getvalue().splitlines()
    assert max(map(len, lines)) <= width
    shown = " ".join(" ".join(lines).split())
    assert all(word in shown.split() for row in cells for cell in row for word in cell.split())
    assert shown.count("drifting-mainstay") == (1 if width > 40 else 2)


@pytest.mark.parametrize(("width", "lengths"), [(100, [12, 6, 0, 0]), (24, [0, 0, 0, 0])])
def test_bars_are_proportional_to_shares_where_they_fit(width, lengths):
    """A bar has twelve cells for the largest share; negative shares and totals have none."""
    console = Console(width=width, file=io.StringIO(), color_system=None)
    rows = [["mainstay", "60 %"], ["cooling", "30 %"], ["quiet", "-2 %"], ["all", "88 %"]]
    console.print(screen.table("Who", ["segment", "spend"], rows, shares=[0.6, 0.3, -0.02]))
    assert [line.count("█") for line in console.file.getvalue().splitlines()[2:]] == lengths
    shades = [
        palette.SHADES.index(str(screen.shaded("x", s).style).split()[-1])
        for s in (0, 0.3, 0.5, 0.7, 1)
    ]
    assert (shades[0], shades[-1], shades) == (0, len(palette.SHADES) - 1, sorted(shades))


def test_long_query_reports_progress_and_can_be_interrupted():
    """40 billion pairs would take minutes; after the interruption the engine still works."""
    engine, output = Embedded(), []
    pairs = parse_one(
        "SELECT SUM(a.range * b.range) AS s FROM RANGE(200000) AS a, RANGE(200000) AS b",
        read="duckdb",
    )
    over = threading.Event()

    def watch():
        while not over.wait(0.05):
            output.append(engine.progress())

    watching = threading.Thread(target=watch)
    watching.start()
    signal.signal(signal.SIGALRM, signal.default_int_handler)
    signal.setitimer(signal.ITIMER_REAL, 0.7)
    try:
        with pytest.raises(KeyboardInterrupt):
            engine.table(pairs)
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        over.set()
        watching.join()
    assert any(done is not None and 0 <= done <= 1 for done in output)
    assert engine.table(parse_one("SELECT 7 AS n")).to_pylist() == [{"n": 7}]
    for rows, of in ((None, ""), (12_345, "of 12,345 rows")):
        console = Console(width=80, file=io.StringIO())
        console.print(screen._how_far("Reading the orders", 0.25, 3.0, rows))
        wanted = f"Reading the orders 25 % {of} about 9 s left".split()
        assert re.sub(r"[^ -~]+", "", console.file.getvalue()).split() == wanted


def test_notebook_shows_progress_after_a_second(monkeypatch):
    """With a fake kernel: silent in the first second, and nothing left at the end."""
    output, now = [], iter([0.0, 1.0, 2.5, 3.0, 4.0])
    page = SimpleNamespace(update=lambda data, **_: output.append(data["text/plain"]))
    view = SimpleNamespace(display=lambda data, **_: output.append(data["text/plain"]) or page)
    monkeypatch.setitem(
        sys.modules,
        "IPython",
        SimpleNamespace(get_ipython=lambda: SimpleNamespace(kernel=1), display=view),
    )
    monkeypatch.setitem(sys.modules, "IPython.display", view)
    monkeypatch.setattr(steps, "monotonic", lambda: next(now))
    tell = steps.seen_by(None, "Forecasting")
    for share in (0.2, 0.5, 0.7, 1.0):
        tell(share)
    assert output == ["Forecasting: 50 %", "Forecasting: 70 %", ""]
    monkeypatch.delitem(sys.modules, "IPython")
    assert steps.seen_by(None, "Forecasting") is None


def test_progress_of_forecast_resamples_and_parquet(tmp_path):
    """Three models fitted twice and three predictions are nine steps, the forecast is one more; one
    step per resample.
    """
    orders, output = fl.sample_orders(), []
    orders.value_forecast(progress=output.append)
    assert output == pytest.approx([n / 10 for n in range(1, 11)])
    output.clear()
    stability(orders, resamples=4, progress=output.append)
    assert output == [0.25, 0.5, 0.75, 1.0]
    one, two = (tmp_path / name for name in ("a.parquet", "b.parquet"))
    pd.DataFrame(
        {"customer": ["a", "b"], "placed": ["2026-01-01"] * 2, "amount": [1, 2]}
    ).to_parquet(one)
    pd.read_parquet(one).head(1).to_parquet(two)
    assert open_unread([one, two], None, Scheme()).source.row_count == 3
    assert open_unread(pd.read_parquet(one), None, Scheme()).source.row_count is None


@pytest.mark.parametrize("rows", [0, 1, 6, 7, 8, 300])
def test_json_written_in_batches_equals_json_in_one(monkeypatch, tmp_path, rows):
    monkeypatch.setattr(files, "_JSON_ROWS", 7)
    orders = fl.sample_orders()
    tables = {
        "customers": orders.score().head(rows),
        "segments": orders.segment_summary(),
        "balance": orders.score().head(2),
    }
    facts = {**orders.facts(), "text": 'a\n "b"\u2028', "nothing": [], "balance": 1}
    for output in (facts, {}, None):
        fl.write(tables, tmp_path / "o.json", facts=output)
        whole = {**(output or {}), **{n: files.json_rows(t, 2) for n, t in tables.items()}}
        assert (tmp_path / "o.json").read_text("utf-8") == files.as_json(whole)


def test_large_workbook_equals_small_workbook(monkeypatch, tmp_path):
    """Text in batches of seven rows: the same cells, dates as dates, no formulas, and no cell that
    is too long.
    """
    orders = fl.sample_orders()
    noon = dt.datetime(2026, 3, 1, 12, 30)
    odd = ["=1+1", "<b>&amp;", " spaced ", "a\x07b_x0041_", "two\nlines", None, True, noon,
           noon.date(), noon.astimezone(dt.UTC), float("-inf"), Decimal("12.345"), dt.datetime(1900, 1, 15)]  # fmt: skip
    tables = {
        "customers": orders.score().head(50),
        "segments": orders.segment_summary(),
        "odd": pd.DataFrame({"any": odd, "n": [0.1 + 0.2, None, -1e-300, float("inf"), *range(9)]}),
    }
    fl.write(tables, tmp_path / "small.xlsx", facts=orders.facts())
    monkeypatch.setattr(large_sheets, "MOST_CELLS_HELD", 10)
    monkeypatch.setattr(large_sheets, "_ROWS_AT_ONCE", 7)
    fl.write(tables, tmp_path / "large.xlsx", facts=orders.facts())
    small, large = (
        pd.read_excel(tmp_path / f"{n}.xlsx", sheet_name=None, engine="calamine")
        for n in ("small", "large")
    )
    assert list(small) == list(large) == ["customers", "segments", "odd", "definitions", "about"]
    for name, sheet in small.items():
        pd.testing.assert_frame_equal(large[name], sheet)
    assert large["customers"]["last_order"].dtype.kind == "M"
    with zipfile.ZipFile(tmp_path / "large.xlsx") as whole:
        sheets = [whole.read(f"xl/worksheets/sheet{n}.xml").decode() for n in (1, 2, 3)]
    stored = [float(v) for sheet in sheets for v in re.findall(r"<v>([^<]*)</v>", sheet)]
    assert np.isfinite(stored).all()  # nulls are no cells
    with pytest.raises(fl.DataError, match="Row 9, column `x` has 40,000 characters"):
        fl.write(
            pd.DataFrame({"x": ["=1"] * 8 + ["y" * 40_000] + ["z"] * 9}), tmp_path / "long.xlsx"
        )
    assert not (tmp_path / "long.xlsx").exists()


def test_too_little_memory_is_one_sentence(capsys):
    def work():
        raise MemoryError

    with pytest.raises(typer.Exit) as end:
        report_errors(work)
    assert end.value.exit_code == 1
    assert re.fullmatch("Error: there is too little memory.* cluster.\\n", capsys.readouterr().err)

"""Test the report: its page in a real browser, its block of customers, its workbook, and anonymous
reports.
"""

import base64
import csv
import gzip
import hashlib
import io
import json
import re
import shutil
import subprocess
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from python_calamine import CalamineWorkbook

import fairladder as fl
from conftest import EACH_DATABASE, in_database
from fairladder.report import charts, customers, workbook, write
from fairladder.report import figures as report_figures
from fairladder.report.answer import answer_of
from fairladder.report.contents import contents_of
from fairladder.report.page import page_of

pytestmark = pytest.mark.xdist_group("report")  # computed once for all tests
CHROMIUM, OFFICE = shutil.which("chromium"), shutil.which("soffice")
in_browser = pytest.mark.skipif(not CHROMIUM, reason="no chromium: apt-get install chromium")
in_office = pytest.mark.skipif(
    not OFFICE, reason="no soffice: apt-get install libreoffice-calc-nogui"
)
HOSTILE = [
    "</script><script>alert(1)</script>",
    '"><img src=x onerror=alert(2)>',
    "=HYPERLINK(1)",
    "\u202eevil\u202c",
    "שרה לוי",
    "O'Neil & <b>",
]


@pytest.fixture(scope="module")
def about():
    return contents_of(fl.sample_orders(), by="district")


@pytest.fixture(scope="module")
def made(about, tmp_path_factory):
    """Return the page of the sample shop."""
    path = tmp_path_factory.mktemp("report") / "report.html"
    write.save(about, path, write.Made("fairladder report orders.csv", {}), "A shop")
    return path


@pytest.fixture(scope="module")
def browser():
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        yield play.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox"])


@pytest.fixture
def opened(browser):
    """Open a page file; any log entry, network request or dialog fails the test."""
    output, contexts = [], []

    def go(path, **how):
        context = browser.new_context(**{"viewport": {"width": 1280, "height": 800}, **how})
        contexts.append(context)
        page = context.new_page()
        for event in ("console", "pageerror", "dialog"):
            page.on(
                event,
                lambda what, event=event: output.append((event, str(getattr(what, "text", what)))),
            )
        page.on(
            "request",
            lambda request: (
                output.append(("request", request.url))
                if not request.url.startswith(("file:", "blob:"))
                else None
            ),
        )
        page.goto(f"file://{path}")
        if how.get("java_script_enabled", True):
            page.wait_for_selector("html[data-ready]")
        return page

    yield go
    for context in contexts:
        context.close()
    assert not output


def decoded(block):
    """Return the columns of a block, decoded as its docstring says, independently of the page's own
    code.
    """
    whole = gzip.decompress(base64.b64decode(block))
    length = int.from_bytes(whole[:4], "little")
    head, data = json.loads(whole[4 : 4 + length]), whole[4 + length :]
    found = {}
    for c in head["columns"]:
        raw = data[c["at"] : c["at"] + c["bytes"]]
        if c["stored"] == "text":
            sizes, place, texts = np.frombuffer(raw, "<u4", head["rows"]), 4 * head["rows"], []
            for size in sizes.tolist():
                texts.append(None if size == 2**32 - 1 else raw[place : place + size].decode())
                place += 0 if size == 2**32 - 1 else size
            found[c["name"]] = texts
        elif c["stored"] == "names":
            found[c["name"]] = [
                None if code == 0 else c["names"][code - 1]
                for code in np.frombuffer(raw, "<u2").tolist()
            ]
        elif c["stored"] == "u2":
            found[c["name"]] = np.frombuffer(raw, "<u2").tolist()
        else:
            whole_numbers, units = c["stored"] == "i32", 10 ** c["decimals"]
            found[c["name"]] = [
                None if (v == customers.NULL if whole_numbers else v != v) else v / units
                for v in np.frombuffer(raw, "<i4" if whole_numbers else "<f8").tolist()
            ]
    return found, head


texts = st.one_of(st.none(), st.text(max_size=12), st.sampled_from([*HOSTILE, "a\nb", "0012"]))


@settings(max_examples=25, deadline=None)
@given(
    names=st.lists(texts, min_size=1, max_size=8),
    spend=st.lists(st.integers(-(10**11), 10**11), min_size=8, max_size=8),
)
@example(names=[None, ""], spend=[-(2**31), 2**31, *[0] * 6])
def test_customer_block_decodes_to_the_customers(about, names, spend):
    """Nulls, negatives, amounts beyond 32 bits, line breaks and any letters survive."""
    frame = about.customers.head(len(names)).assign(name=names)
    frame["spend"] = np.array(spend[: len(names)]) / 100
    found, head = decoded(customers.block(about, frame))
    assert found["customer"] == frame["customer"].tolist()
    assert found["name"] == [None if n is None else n for n in names]
    assert [round(v * 100) for v in found["spend"]] == spend[: len(names)]
    assert found["segment"] == frame["segment"].astype(str).tolist()
    assert found["recency_days"] == [None if pd.isna(v) else v for v in frame["recency_days"]]
    assert found["reward"] == [None if pd.isna(v) else v for v in frame["reward"]]
    months = iter(zip(found["#month"], found["#count"], strict=True))
    orders = [sum(next(months)[1] for _ in range(n)) for n in found["#strip"]]
    assert orders == frame["orders"].tolist()
    assert head["columns"][0]["at"] == 0


@in_browser
def test_page_table_works_by_keyboard(about, made, opened):
    page, frame = opened(made), about.customers
    assert made.stat().st_size < 500_000
    page.focus("#search")
    page.keyboard.type("kettle")
    mine = frame[
        frame["name"].fillna("").str.lower().str.contains("kettle")
        | frame["customer"].str.contains("kettle")
    ]
    money = f"{mine['spend'].sum():,.2f}"
    assert page.inner_text("#sums").startswith(
        f"{len(mine)} of 1,199 customers · {mine['orders'].sum():,} orders · {money} spend"
    )
    page.select_option("#filters select >> nth=0", label="mainstay")
    mine = mine[mine["segment"] == "mainstay"]
    page.focus("#rows thead button >> nth=4")  # of the orders
    page.keyboard.press("Enter")
    page.keyboard.press("Enter")
    shown = page.locator("#rows tbody tr").all_inner_texts()
    assert len(shown) == len(mine)
    orders = mine.set_index("customer")["orders"]
    ids = [line.split("\t")[0] for line in shown]
    assert orders.loc[ids].is_monotonic_increasing
    assert page.get_attribute("#rows thead th:nth-child(5)", "aria-sort") == "ascending"
    page.focus("#rows tbody button >> nth=0")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    output = page.inner_text("#one")
    one = mine.set_index("customer").loc[ids[1]]
    assert output.startswith(f"{ids[1]}, {one['name']}")
    assert f"rung {one['recency_score']} of 5" in output
    assert "recency_score >= 4 AND frequency_score >= 4" in output
    reported = page.get_attribute("#one-body svg", "aria-label")
    assert sum(int(n) for n in re.findall(r"\d{4}-\d\d (\d+)", reported)) == one["orders"]
    page.keyboard.press("Escape")
    assert page.evaluate("document.activeElement.textContent") == ids[1]
    page.focus("#save")
    with page.expect_download() as saving:
        page.keyboard.press("Enter")
    saved = list(csv.DictReader(io.StringIO(Path(saving.value.path()).read_text("utf-8"))))
    assert [line["customer"] for line in saved] == ids
    for line in saved:
        row = frame.set_index("customer").loc[line["customer"]]
        assert (line["spend"], line["orders"], line["last_order"]) == (
            f"{row['spend']:.2f}",
            str(row["orders"]),
            f"{row['last_order']:%Y-%m-%d}",
        )
    page.focus("#revenue svg.wide")
    page.keyboard.press("ArrowRight")
    assert page.inner_text("#revenue .detail").startswith("Jul 2023: new revenue")


@in_browser
def test_scrolling_to_the_end_shows_the_last_customers(about, made, opened):
    """Sorted by spend; the table contains only the visible rows and a few more."""
    page = opened(made)
    page.evaluate("document.getElementById('scroll').scrollTop = 1e9")
    page.wait_for_selector('#rows tr[aria-rowindex="1200"]')
    assert page.locator("#rows tbody tr").count() < 60
    last = page.inner_text('#rows tr[aria-rowindex="1200"] th')
    assert about.customers.set_index("customer")["spend"][last] == about.customers["spend"].min()
    for _ in range(2):  # by recency, largest first, then smallest: non-buyers come last both times
        page.click("#rows thead button:has-text('recency')")
        page.evaluate("document.getElementById('scroll').scrollTop = 1e9")
        page.wait_for_selector('#rows tr[aria-rowindex="1200"]')
        assert page.inner_text('#rows tr[aria-rowindex="1200"] td:nth-child(5)') == "0"
    page.focus('#rows button[data-place="1198"]')
    for _ in range(30):
        page.keyboard.press("ArrowUp")
    assert page.evaluate("document.activeElement.dataset.place") == "1168"


@in_browser
@pytest.mark.parametrize(("scheme", "width"), [("dark", 1280), ("light", 390)])
def test_page_has_no_serious_accessibility_violations_and_no_cut_text(made, opened, scheme, width):
    from axe_playwright_python.sync_playwright import Axe

    page = opened(made, color_scheme=scheme, viewport={"width": width, "height": 844})
    page.evaluate("document.querySelectorAll('details').forEach((d) => { d.open = true; })")
    found = Axe().run(page).response["violations"]
    assert [
        (v["id"], v["nodes"][0]["html"][:80])
        for v in found
        if v["impact"] in ("serious", "critical")
    ] == []
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    assert page.evaluate(_CUT) == []


#: Texts of charts that extend beyond their chart, and pairs of overlapping texts.
_CUT = """[...document.querySelectorAll("figure svg[role=img]")].filter((s) => s.getBoundingClientRect().width).flatMap((svg) => {
  const box = svg.getBoundingClientRect();
  const texts = [...svg.querySelectorAll("text")].map((t) => [t.textContent, t.getBoundingClientRect()]);
  const out = texts.filter(([, r]) => r.left < box.left - 3 || r.right > box.right + 3 || r.bottom > box.bottom + 3);
  const over = texts.flatMap(([a, r], i) => texts.slice(i + 1).filter(([, q]) =>
    r.left < q.right - 1 && q.left < r.right - 1 && r.top < q.bottom - 4 && q.top < r.bottom - 4).map(([b]) => a + " / " + b));
  return [...out.map(([t]) => t), ...over];
})"""


def _orders(rows):
    return pd.DataFrame(rows, columns=["customer", "name", "order", "placed", "amount"])


def hard_orders():
    """Return orders with hostile names, 20 segments with long names, negative spend, and a
    right-to-left name.
    """
    dice = np.random.default_rng(5)
    rows = [
        (
            f"{HOSTILE[n % 6]}{n}",
            HOSTILE[n % 6],
            f"{n}-{k}",
            f"2025-{1 + k:02}-{1 + n % 28:02}",
            float(dice.integers(-40, 400)),
        )
        for n in range(90)
        for k in range(1 + n % 11)
    ]
    segments = [
        {
            "name": f"{HOSTILE[n % 6]} rather-a-long-name-for-a-segment-{n}",
            "when": f"spend > {2000 - 100 * n}",
            "stance": stance,
        }
        for n, stance in enumerate(["keep", "grow", "welcome", "win-back", "leave"] * 4)
    ]
    scheme = fl.Scheme.model_validate(
        {"segments": [*segments, {"name": "rest", "otherwise": True, "stance": "leave"}]}
    )
    return fl.open_orders(_orders(rows), scheme=scheme)


@in_browser
def test_hostile_texts_are_escaped_and_hard_data_fits(opened, tmp_path):
    path = tmp_path / "hard.html"
    fl.report.write_html(hard_orders(), path, title=HOSTILE[0])
    for how in ({}, {"viewport": {"width": 390, "height": 844}}):
        page = opened(path, **how)
        assert page.inner_text("h1") == HOSTILE[0]
        assert page.evaluate(_CUT) == []
        assert page.evaluate("document.images.length + document.querySelectorAll('b').length") == 0
        assert HOSTILE[1] in page.inner_text("#rows")
    still = opened(path, java_script_enabled=False)
    assert "=HYPERLINK(1)" in still.inner_text(".still tbody")
    assert not still.is_visible("#scroll")
    assert "The 50 with the largest spend of 90 customers." in still.inner_text(".still")
    page.emulate_media(media="print")
    assert not page.is_visible("#scroll")
    assert page.locator(".still tbody tr").count() == 50


@in_browser
def test_amounts_beyond_32_bits_are_shown(opened, tmp_path):
    """As a float, the smallest 32-bit number is an amount, not a null."""
    rows = [("a", "A", "1", "2026-01-05", 3e7), ("b", "B", "2", "2026-01-05", -(2**31) / 100)]
    fl.report.write_html(fl.open_orders(_orders(rows)), tmp_path / "r.html")
    shown = opened(tmp_path / "r.html").inner_text("#rows")
    assert "30,000,000.00" in shown
    assert "-21,474,836.48" in shown


@pytest.mark.parametrize("kind", ["page", "workbook"])
def test_report_of_one_customer_and_of_none(tmp_path, kind):
    path = tmp_path / ("r.html" if kind == "page" else "r.xlsx")
    made = fl.report.write_html if kind == "page" else fl.report.write_workbook
    made(fl.open_orders(_orders([("a", "A", "1", "2026-01-05", 12.5)])), path)
    if kind == "page":
        text = path.read_text("utf-8")
        assert "Too few to advise: only 1 customer has a purchase" in text
        assert "The history is too short to compare with an earlier day." in text
    else:
        assert (
            CalamineWorkbook.from_path(str(path)).get_sheet_by_name("Customers").to_python()[1][0]
            == "a"
        )
    with pytest.raises(
        fl.DataError, match="No customer has a purchase, so there is nothing to report"
    ):
        made(fl.open_orders(_orders([("a", "A", "1", "2026-01-05", -12.5)])), tmp_path / path.name)


def test_anonymous_report_contains_no_names_and_key_sets_pseudonyms(about, tmp_path):
    names = {*about.customers["name"].dropna(), *about.customers["customer"]}
    key = b"sixteen bytes ok"
    telling = fl.Finding(
        "x", "error", 9, "the orders write `09302`, where 12 stand", ("09755",), "Ask Nesta Ashton."
    )
    output = replace(
        about,
        checked=replace(about.checked, findings=(telling,)),
        notes=("Error: it is `09302`.", "A note of 12 rows."),
    )
    hidden = customers.without_names(output, key)
    assert hidden.notes == ("A note of 12 rows.",)
    files = [tmp_path / "a.html", tmp_path / "a.xlsx"]
    for file in files:
        write.save(hidden, file, write.Made("fairladder report", {}), "A shop")
    found, head = decoded(customers.block(hidden, hidden.customers))
    with zipfile.ZipFile(files[1]) as book:
        words = set(
            re.findall(
                r">([^<>]+)<",
                "".join(book.read(n).decode() for n in book.namelist() if n.endswith(".xml")),
            )
        )
    words |= set(re.findall(r">([^<>]+)<", files[0].read_text("utf-8")))
    assert not names & {*words, *found["customer"]}
    assert {"name", "district", "email_ok"}.isdisjoint(c["name"] for c in head["columns"])
    ids = about.customers["customer"]
    assert sorted(found["customer"]) == sorted(customers.pseudonym(i, key) for i in ids)
    assert len(
        {customers.pseudonym(i, key) for i in ids}
        | {customers.pseudonym(i, b"another 16 bytes") for i in ids}
    ) == 2 * len(ids)
    spend = dict(zip(found["customer"], found["spend"], strict=True))
    assert (
        spend[customers.pseudonym("09302", key)]
        == about.customers.set_index("customer")["spend"]["09302"]
    )
    with pytest.raises(
        fl.UsageError, match="A key for pseudonyms has at least 16 bytes, this one 5"
    ):
        write.prepared(fl.sample_orders(), pseudonym_key=b"short")


def test_report_workbook_contains_numbers_and_no_formulas_from_data(about, tmp_path):
    path = tmp_path / "r.xlsx"
    write.save(about, path, write.Made("fairladder report", {}), "A shop")
    book = CalamineWorkbook.from_path(str(path))
    assert book.sheet_names == ["Summary", "Customers", "Segments", "Ladders and tiers", "Growth", "Cohorts", "Value", "Changes",
                                "Findings", "Set aside", "Settings"]  # fmt: skip
    rows = book.get_sheet_by_name("Customers").to_python()
    at = rows[0].index("spend")
    assert [(r[0], r[at]) for r in rows[1:-1]] == list(
        zip(about.customers["customer"], about.customers["spend"], strict=True)
    )
    assert rows[-1][at] == pytest.approx(about.customers["spend"].sum())
    summary = {r[0]: r[1] for r in book.get_sheet_by_name("Summary").to_python()}
    assert summary["customers with a purchase"] == (about.customers["orders"] > 0).sum()
    assert summary["spend per order"] == pytest.approx(
        about.customers["spend"].sum() / about.customers["orders"].sum()
    )
    fl.report.write_workbook(hard_orders(), tmp_path / "hard.xlsx")
    with zipfile.ZipFile(tmp_path / "hard.xlsx") as hard:
        formulas = {
            f
            for n in hard.namelist()
            if "worksheets/" in n
            for f in re.findall(r"<f>([^<]*)</f>", hard.read(n).decode())
        }
    assert all(
        re.fullmatch(r"(SUM|ROWS|COUNTIF|[A-Z])[^<]*", f) and "HYPERLINK" not in f for f in formulas
    )
    assert "=HYPERLINK(1)2" in [
        r[0]
        for r in CalamineWorkbook.from_path(str(tmp_path / "hard.xlsx"))
        .get_sheet_by_name("Customers")
        .to_python()
    ]


def test_workbook_splits_customers_over_sheets(about, tmp_path, monkeypatch):
    """1,199 customers on sheets of 500 are 500, 500 and 199; the sums of the summary cover all
    three.
    """
    monkeypatch.setattr(workbook, "MOST_ROWS", 502)
    monkeypatch.setattr(workbook, "MOST_CELLS_HELD", 0)  # written row by row because of the size
    path = tmp_path / "r.xlsx"
    write.save(about, path, write.Made("fairladder report", {}), "A shop")
    book = CalamineWorkbook.from_path(str(path))
    parts = [
        book.get_sheet_by_name(name).to_python()
        for name in ("Customers", "Customers 2", "Customers 3")
    ]
    assert [len(rows) - 2 for rows in parts] == [500, 500, 199]
    assert [r[0] for rows in parts for r in rows[1:-1]] == about.customers["customer"].tolist()
    summary = book.get_sheet_by_name("Summary").to_python()
    assert any(
        "The customers are on 3 sheets, since one holds 500." in map(str, row) for row in summary
    )
    with zipfile.ZipFile(path) as whole:
        first = whole.read("xl/worksheets/sheet1.xml").decode()
    assert re.search(
        r"SUM\('Customers'[^+]*\)\+SUM\('Customers 2'[^+]*\)\+SUM\('Customers 3'", first
    )


@in_office
def test_workbook_formulas_recalculate_to_stored_values(about, tmp_path):
    """Every formula recalculated by an office program equals the stored value; the customers equal
    the CSV's.
    """
    path = tmp_path / "r.xlsx"
    write.save(about, path, write.Made("fairladder report", {}), "A shop")
    with zipfile.ZipFile(path) as whole, zipfile.ZipFile(tmp_path / "bare.xlsx", "w") as bare:
        for name in whole.namelist():  # without the values, so that they must be recalculated
            text = whole.read(name)
            bare.writestr(
                name,
                re.sub(rb"</f><v>[^<]*</v>", b"</f>", text)
                if name.startswith("xl/worksheets/sheet")
                else text,
            )
    profile = f"-env:UserInstallation=file://{tmp_path / 'profile'}"
    command = [
        OFFICE,
        profile,
        "--headless",
        "--convert-to",
        "xlsx:Calc MS Excel 2007 XML",
        "--outdir",
        str(tmp_path / "new"),
        str(tmp_path / "bare.xlsx"),
    ]
    subprocess.run(command, check=True, capture_output=True, timeout=120)
    ours, theirs = (
        CalamineWorkbook.from_path(str(p)) for p in (path, tmp_path / "new" / "bare.xlsx")
    )
    for sheet in ("Summary", "Customers", "Segments", "Growth"):
        mine, worked_out = (b.get_sheet_by_name(sheet).to_python() for b in (ours, theirs))
        for a, b in zip(mine, worked_out, strict=False):
            assert [
                pytest.approx(c, rel=1e-9, abs=1e-9) if isinstance(c, float) else c for c in a
            ] == b[: len(a)]


@pytest.mark.parametrize(
    ("words", "output"),
    [
        (
            ["--out", "r.csv"],
            "--out r.csv: a report is a page (.html) or a workbook (.xlsx); without --out it is both.",
        ),
        (
            ["--part", "customers"],
            "A report has no --part: the page and the workbook contain everything.",
        ),
        (["--pseudonym-key", "gone"], "--pseudonym-key gone: there is no such file."),
        (["--by", "distrct"], "distrct"),
        (["--then", "2026-06-30"], "Both days are 2026-06-30; a comparison needs two."),
        ([], ""),
    ],
)
def test_report_command(fairladder, shop, tmp_path, monkeypatch, words, output):
    """Wrong arguments are reported before anything is written; without --out both files are named
    after the orders.
    """
    monkeypatch.chdir(tmp_path)
    done = fairladder("report", shop / "orders.csv", "--scheme", shop / "scheme.toml", *words)
    made = sorted(p.name for p in tmp_path.iterdir())
    if output:
        assert (done.returncode, made) == (2, [])
        assert output in done.stderr
    else:
        assert (done.returncode, made) == (0, ["orders-report.html", "orders-report.xlsx"])
        assert (
            "Wrote orders-report.html: the page of 1,199 customers.\nWrote orders-report.xlsx: the workbook"
            in done.stderr
        )


def test_report_answer_follows_the_findings(about):
    """364 customers to keep of 1,199, 95 to contact; an error comes before any advice; no slipping
    customers are reported as such.
    """
    output = {line.question: line.answer for line in answer_of(about)}
    keep = about.segments[about.segments["stance"] == "keep"]
    assert output["Who contributes most?"] == (
        f"{keep['customers'].sum()} customers (30.4 % of all) in mainstay and dependable. They have spent "
        f"{keep['spend'].sum():,.0f}, 69.8 % of all spend."
    )
    expected = about.customers.loc[about.customers["stance"] == "win-back", "expected_value"].sum()
    assert output["Who is slipping?"].endswith(
        f"their expected value is {expected:,.0f} in the next 365 days."
    )
    assert output["What is the one thing to do next?"].startswith(
        "Contact the 95 customers in drifting-mainstay. They have spent 882 on average"
    )
    trouble = fl.Finding(
        "repeated-total", "error", 9, "totals are on every line", (), "Say amount_is."
    )
    wrong = replace(about, checked=replace(about.checked, findings=(trouble,)))
    output = {line.question: line.answer for line in answer_of(wrong)}
    assert (
        output["What is the one thing to do next?"]
        == "Resolve what makes these numbers wrong first: totals are on every line. Say amount_is."
    )
    assert output["How certain is this?"].startswith("Not certain: 1 finding has to be resolved")
    assert (
        'role="alert">1 finding has to be resolved before these numbers count: totals are on every line.'
        in page_of(wrong, write.Made("fairladder report", {}), "A shop")
    )
    empty = replace(about, segments=about.segments[about.segments["stance"] != "win-back"])
    assert {line.question: line.answer for line in answer_of(empty)}["Who is slipping?"].startswith(
        "No customers: the segments to win back are empty"
    )
    euros = about.scheme.model_copy(
        update={"money": about.scheme.money.model_copy(update={"currency": "EUR"})}
    )
    assert " EUR, 69.8 % of all spend" in answer_of(replace(about, scheme=euros))[0].answer


def test_report_figures_match_their_tables(about):
    """The parts of the change lead from the first bar to the last; the parts of the balance fill
    its bar; rungs add up.
    """
    wide, _ = report_figures.change(about).layouts
    parts = about.changes.parts["spend"].tolist()
    assert sum(parts[:-1]) == pytest.approx(parts[-1])
    bars = [dict(s.attributes) for s in wide.shapes if s.tag == "rect"]
    ends = [(float(b["x"]), float(b["x"]) + float(b["width"])) for b in bars]
    scale = (ends[0][1] - ends[0][0]) / parts[0]
    assert ends[-1][1] - ends[-1][0] == pytest.approx(parts[-1] * scale, abs=0.2)
    drawn = [
        p
        for p, n in zip(parts[1:-1], about.changes.parts["customers"].tolist()[1:-1], strict=True)
        if n
    ]
    at = ends[0][1]
    for part, (low, high) in zip(drawn, ends[1:-1], strict=True):
        assert (low if part > 0 else high) == pytest.approx(at, abs=0.2)
        at = high if part > 0 else low
    assert at == pytest.approx(ends[-1][1], abs=0.2)
    whole = [dict(s.attributes) for s in report_figures.balance(about).layouts[0].shapes]
    assert sum(float(s["width"]) for s in whole) == pytest.approx(charts.WIDE, abs=0.5)
    for lines in report_figures.rung_lines(about).values():
        assert sum(n for _, _, n, _ in lines) == (about.customers["orders"] > 0).sum()
        assert sum(s for *_, s in lines) == pytest.approx(
            about.customers.loc[about.customers["orders"] > 0, "spend"].sum()
        )


def test_user_column_named_like_a_forecast_is_omitted():
    """The customers file's own `expected_value` is omitted with a note; the forecast's replaces it."""
    members = pd.read_csv(fl.sample_shop("members.csv"), dtype=str).assign(expected_value="7")
    theirs = fl.open_orders(
        fl.sample_shop("orders.csv"),
        customers=members,
        scheme=fl.load_scheme(fl.sample_shop("scheme.toml")),
    )
    made = contents_of(theirs)
    assert made.customers["expected_value"].sum() == pytest.approx(
        made.forecast.frame["expected_value"].sum()
    )
    assert "The customers file's column `expected_value` is omitted" in made.notes[0]


@pytest.fixture(scope="module")
def some(about):
    """Return the first rows of the shop, and their report."""
    rows = pd.read_csv(fl.sample_shop("orders.csv"), dtype=str)[:4000]
    return rows, contents_of(fl.open_orders(rows, scheme=about.scheme), by="district")


@pytest.mark.parametrize("kind", EACH_DATABASE)
def test_report_of_a_database_equals_that_of_the_file(about, some, tmp_path, kind):
    orders, here = some
    scheme = about.scheme.with_options(orders={"table": "orders"})
    there = contents_of(
        fl.open_orders(in_database(kind, orders, tmp_path), scheme=scheme), by="district"
    )
    pd.testing.assert_frame_equal(there.strips, here.strips)
    pd.testing.assert_frame_equal(there.segments, here.segments)
    assert customers.block(there, there.customers) == customers.block(here, here.customers)
    assert answer_of(there) == answer_of(here)


def test_files_with_equal_names_have_separate_digests(tmp_path):
    paths = [tmp_path / month / "orders.csv" for month in ("jan", "feb")]
    for day, path in enumerate(paths, start=1):
        path.parent.mkdir()
        path.write_text(f"customer,order,placed,amount\na,{day},2026-01-0{day},5\n")
    made = write.digests_of(fl.open_orders(paths))
    assert made == {str(p): hashlib.sha256(p.read_bytes()).hexdigest() for p in paths}


def test_charts_have_round_ticks_and_separate_labels():
    """Worked examples: 0 to 27,600 in four steps of 10,000; three names 3 apart are moved to 14
    apart, in order.
    """
    assert charts.nice(0, 27_600, 4) == [0, 10_000, 20_000, 30_000]
    assert charts.nice(-50, 120, 4) == [-50, 0, 50, 100, 150]
    assert charts.nice(0, 0, 4) == [0, 0.25, 0.5, 0.75, 1.0]
    assert charts.spread([10, 13, 100], 14, 0, 200) == [10, 24, 100]
    assert charts.spread([198, 199, 200], 14, 0, 200) == [172, 186, 200]

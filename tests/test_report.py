"""Test the report: its page in a real browser, its block of customers, its workbook, and anonymous
reports.
"""

import base64
import csv
import datetime as dt
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
from fairladder import wording
from fairladder.history.growth import repeat_share
from fairladder.output import large_sheets
from fairladder.report import actions, charts, customers, pseudonyms, workbook, write
from fairladder.report import figures as report_figures
from fairladder.report.answer import answer_of
from fairladder.report.contents import contents_of
from fairladder.report.key_figures import key_figures
from fairladder.report.page import page_of
from fairladder.scheme import Segment

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
def sample():
    return fl.sample_orders()


@pytest.fixture(scope="module")
def about(sample):
    return contents_of(sample, by="district")


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
    saved = _saved(saving)
    assert [line["customer"] for line in saved] == ids
    for line in saved:
        row = frame.set_index("customer").loc[line["customer"]]
        assert (line["spend"], line["orders"], line["last_order"]) == (
            f"{row['spend']:.2f}",
            str(row["orders"]),
            f"{row['last_order']:%Y-%m-%d}",
        )
    assert "search=kettle&segment=mainstay" in page.url
    page.goto("about:blank")
    again = opened(f"{made}#segment=mainstay&customer={ids[1]}")  # a colleague opens the address
    assert again.inner_text("#one-title").startswith(f"{ids[1]}, ")
    assert again.inner_text("#sums").startswith(
        f"{(frame['segment'] == 'mainstay').sum()} of 1,199"
    )
    page = opened(made)
    for action in about.plan.actions:
        with page.expect_download() as saving:
            page.click(f"[data-action={action.name}]")
        listed = about.plan.group_of[about.plan.group_of == action.name].index
        assert {line["customer"] for line in _saved(saving)} == set(listed)
        assert action.customers == len(listed)
    shares = [1, sum([0.1] * 10), 0.99996, 0.9995, 0.9994, 0.0005, 0.0004, 0]
    assert page.evaluate("s => s.map(percent)", shares) == [wording.percent(s) for s in shares]
    page.focus("#revenue svg.wide")
    page.keyboard.press("ArrowRight")
    assert page.inner_text("#revenue .detail").startswith("Jul 2023: new revenue")


def _saved(saving):
    """Return the rows of a saved CSV, which begins with a byte order mark for spreadsheets."""
    text = Path(saving.value.path()).read_bytes()
    assert text.startswith(b"\xef\xbb\xbf")
    return list(csv.DictReader(io.StringIO(text.decode("utf-8-sig"))))


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
    assert "−21,474,836.48" in shown


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


def test_report_with_pseudonyms_contains_no_id_and_no_name(tmp_path, monkeypatch):
    """Ids and names occur in rules, in the condition on rows, in findings, notes and the command;
    none of them is in the page, its block, or the workbook, not even in its metadata.
    """
    scheme = fl.load_scheme(fl.sample_shop("scheme.toml"))
    nesta = Segment(name="vip", stance="keep", when="name = 'Nesta Ashton' OR customer = '09755'")
    orders = fl.open_orders(
        fl.sample_shop("orders.csv"),
        scheme=scheme.model_copy(update={
            "segments": (nesta, *scheme.segments),
            "orders": scheme.orders.model_copy(update={"where": "state <> 'cancelled' AND member_no <> '03673'"}),
        }),
    )  # fmt: skip
    about = contents_of(orders, by="district")
    names = {*about.customers["name"].dropna(), *about.customers["customer"], "03673"}
    key = b"sixteen bytes ok"
    telling = fl.Finding(
        "x", "error", 9, "the orders write `09302`, where 12 stand", ("09755",), "Ask Nesta Ashton."
    )
    output = replace(
        about,
        checked=replace(about.checked, findings=(telling,)),
        notes=("Error: it is `09302`.", "A note of 12 rows."),
    )
    hidden = pseudonyms.with_pseudonyms(output, key)
    assert hidden.notes == ("A note of 12 rows.",)
    files = [tmp_path / "a.html", tmp_path / "a.xlsx"]
    made = write.Made(
        "fairladder report /home/nesta/09302.csv --pseudonym-key k", {"09302.csv": "0"}
    )
    for file in files:
        write.save(hidden, file, made)
    found, head = decoded(customers.block(hidden, hidden.customers))
    with zipfile.ZipFile(files[1]) as book:
        texts = [book.read(n).decode() for n in book.namelist() if n.endswith((".xml", ".rels"))]
    words = set()
    for text in (*texts, files[0].read_text("utf-8"), json.dumps(head), json.dumps(found)):
        assert "/home/nesta" not in text
        plain = re.sub(r"<script.*?</script>", "", text, flags=re.DOTALL)
        words |= set(re.findall(r">([^<>]+)<|\"([^\"]*)\"|'([^']*)'", plain))
    assert not names & {word for some in words for word in some}
    assert all("Nesta Ashton" not in text for text in (*texts, files[0].read_text("utf-8")))
    assert {"name", "district", "email_ok"}.isdisjoint(c["name"] for c in head["columns"])
    ids = about.customers["customer"]
    assert sorted(found["customer"]) == sorted(pseudonyms.pseudonym(i, key) for i in ids)
    assert len(
        {pseudonyms.pseudonym(i, key) for i in ids}
        | {pseudonyms.pseudonym(i, b"another 16 bytes") for i in ids}
    ) == 2 * len(ids)
    spend = dict(zip(found["customer"], found["spend"], strict=True))
    assert (
        spend[pseudonyms.pseudonym("09302", key)]
        == about.customers.set_index("customer")["spend"]["09302"]
    )
    sizes = about.grown_by.groupby("district")["new_customers"].sum()
    least = int(sizes.sort_values().iloc[1])  # the second smallest group is just large enough
    monkeypatch.setattr(pseudonyms, "_FEWEST", least)
    few = pseudonyms.with_pseudonyms(output, key)
    assert set(few.grown_by["district"]) == set(sizes[sizes >= least].index) < set(sizes.index)


@pytest.mark.parametrize(
    ("given", "output"),
    [
        ({"pseudonym_key": b"short"}, "A key for pseudonyms has at least 16 bytes, this one 5"),
        ({"by": "member_no"}, "--by member_no names customers or orders"),
        ({"by": "full_name"}, "--by full_name"),
        ({"by": "slip"}, "--by slip"),
    ],
)
def test_report_with_pseudonyms_refuses_what_would_name_people(sample, given, output):
    with pytest.raises(fl.UsageError, match=output):
        write.prepared(sample, pseudonyms=True, **given)


def test_report_workbook_contains_numbers_and_no_formulas_from_data(about, tmp_path):
    path = tmp_path / "r.xlsx"
    write.save(about, path, write.Made("fairladder report", {}), "A shop")
    book = CalamineWorkbook.from_path(str(path))
    assert book.sheet_names == ["Summary", "Actions", "Customers", "Segments", "Ladders and tiers", "Growth", "Cohorts", "Value", "Changes",
                                "Findings", "Set aside", "Settings"]  # fmt: skip
    rows = book.get_sheet_by_name("Customers").to_python()
    at = rows[0].index("spend")
    assert [(r[0], r[at]) for r in rows[1:-1]] == list(
        zip(about.customers["customer"], about.customers["spend"], strict=True)
    )
    assert rows[-1][at] == pytest.approx(about.customers["spend"].sum())
    lists = book.get_sheet_by_name("Actions").to_python()
    for n, action in enumerate(about.plan.actions, start=1):
        listed = {r[1] for r in lists if r[0] == f"{n}. {action.title}"}
        assert listed == set(about.plan.group_of[about.plan.group_of == action.name].index)
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
        re.fullmatch(r'(SUM|ROWS|COUNTIF|[A-Z]|"sum of "&amp;SUBTOTAL)[^<]*', f)
        and "HYPERLINK" not in f
        for f in formulas
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
    monkeypatch.setattr(large_sheets, "MOST_CELLS_HELD", 0)  # written as text because of the size
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


def test_key_figures_of_the_last_three_months(sample, about):
    """April to June 2026 against April to June 2025, counted from the ledger."""
    ledger = sample.order_ledger()

    def counted(year):
        start, end, before = (pd.Timestamp(f"{year}-{m}-01") for m in ("04", "07", "01"))
        here = ledger[(ledger["placed_on"] >= start) & (ledger["placed_on"] < end)]
        earlier = ledger[(ledger["placed_on"] >= before) & (ledger["placed_on"] < start)]
        bought, known = (set(t.loc[t["amount"] > 0, "customer"]) for t in (here, earlier))
        spend = here["amount"].sum()
        return [len(bought), spend, spend / len(bought), len(bought & known) / len(known)]

    figures = about.key_figures.figures
    assert [f.value for f in figures] == pytest.approx(counted(2026))
    assert [f.before for f in figures] == pytest.approx(counted(2025))
    assert about.key_figures.compared == "the same three months a year before"
    assert figures[0].change_in_words == "+15.7 %"  # 347 after 300
    assert figures[3].change_in_words == "+1.6 points"


@pytest.mark.parametrize(
    ("days", "values", "compared"),
    [
        # four periods of a month, whose first day is 1 March: one customer bought in three of them
        (["2026-03-01", "2026-04-30", "2026-06-01", "2026-06-30"], [1, 20, 20, None], "the month before"),
        (["2026-01-01", "2026-03-31", "2026-04-01"], [1, 10, 10, 1], "the three months before"),
        (["2026-06-30"], [1, 10, 10, None], ""),
        (["2026-06-16", "2026-06-23", "2026-06-24"], [1, 10, 10, 1], "the seven days before"),
    ],
)  # fmt: skip
def test_key_figures_of_a_short_history(days, values, compared):
    """The longest period of which the orders cover two; the first and the last day belong to it."""
    rows = [("a", "A", str(n), day, 10.0) for n, day in enumerate(days)]
    orders = fl.open_orders(_orders(rows), scheme={"time": {"as_of": dt.date(2026, 6, 30)}})
    found = key_figures(orders, orders.as_of, pd.Timestamp(days[0]).date())
    assert [None if f.value != f.value else f.value for f in found.figures] == values
    assert found.compared == compared


@pytest.mark.parametrize(
    ("refunds", "spend", "words"), [("net", 6, ", less refunds"), ("ignore", 10, "")]
)
def test_spend_in_key_figures_follows_the_setting_of_refunds(refunds, spend, words):
    rows = [("a", "A", "1", "2026-06-29", 10.0), ("a", "A", "2", "2026-06-30", -4.0)]
    scheme = {"time": {"as_of": dt.date(2026, 6, 30)}, "money": {"refunds": refunds}}
    orders = fl.open_orders(_orders(rows), scheme=scheme)
    figure = key_figures(orders, orders.as_of, dt.date(2026, 6, 29)).figures[1]
    assert figure.value == spend
    assert figure.definition == f"Spend of all customers in the seven days{words}."


def test_customers_are_grouped_at_every_boundary():
    """Three orders, three times the usual gap, and the usual days of 100 are the boundaries."""
    cases = [  # stance, orders, overdue ratio, recency → group
        ("keep", 3, 3.01, 100, "slipping"), ("keep", 3, 3.0, 100, "keep"),
        ("keep", 2, 3.01, 100, "keep"), ("keep", 3, 3.01, 101, "keep"),
        ("keep", 5, None, 50, "keep"), ("win-back", 3, 4.0, 100, "slipping"),
        ("win-back", 3, 4.0, 101, "win-back"), ("leave", 3, 4.0, 100, "leave"),
        ("grow", 4, 3.5, 99, "slipping"), ("grow", 2, 1.0, 5, "next-order"),
        ("welcome", 1, None, 5, "second-order"), ("welcome", 2, 1.0, 5, "next-order"),
        ("grow", 1, None, 5, "second-order"), ("welcome", 0, None, None, ""),
    ]  # fmt: skip
    frame = pd.DataFrame(
        cases, columns=["stance", "orders", "overdue_ratio", "recency_days", "group"]
    )
    frame = frame.assign(customer=[f"c{n}" for n in range(len(frame))])
    assert actions._groups(frame, 100.0).tolist() == frame["group"].tolist()
    assert "slipping" not in set(actions._groups(frame, float("nan")))  # nobody ordered twice


def test_actions_are_ranked_by_expected_return(sample, about):
    """Each customer's return is the response × the chance of having left × the value while active;
    customers in a group are counted by hand; without a trusted forecast, size decides.
    """
    frame = about.customers.set_index("customer")
    worth = fl.worth_of_return(about.forecast, 0.05)
    gaps = sample.order_ledger()["gap_days"].dropna().astype(float).sort_values()
    usual = gaps.iloc[int(np.ceil(0.99 * len(gaps))) - 1]
    late = frame["overdue_ratio"].gt(3) & frame["orders"].ge(3) & frame["recency_days"].le(usual)
    stance = frame["stance"].astype(str)
    groups = {
        "slipping": late & stance.ne("leave"),
        "keep": stance.eq("keep") & ~late,
        "win-back": stance.eq("win-back") & ~late & frame["orders"].gt(0),
    }
    assert [a.name for a in about.plan.actions] == list(groups)
    for action in about.plan.actions:
        held = frame[groups[action.name]]
        each = worth[held.index] * np.where(held["recency_days"] > usual, 0.2, 1.0)
        assert (action.customers, action.worth) == (len(held), pytest.approx(each.sum()))
        assert action.low < action.worth < action.high
        assert action.each == pytest.approx(each.mean())
    assert about.plan.leave.customers == stance.eq("leave").sum()
    untested = replace(about.forecast, backtest=None)
    by_size = actions.plan_of(sample, about.customers, untested)
    sizes = [a.customers for a in by_size.actions]
    assert sizes == sorted(sizes, reverse=True)
    assert sizes[0] == groups["keep"].sum()
    assert all(np.isnan(a.worth) for a in by_size.actions)
    assert "Ranked by number of customers, since the forecast did not pass" in by_size.basis


def test_report_answer_follows_the_findings(about):
    """An error comes before any advice; amounts have the currency."""
    output = [line.text for line in answer_of(about)]
    first = about.plan.actions[0]
    assert output[0].startswith("75 customers. They contributed 15.6 % of spend and are overdue")
    assert output[0].endswith(f"A contact may cost up to {first.each:,.2f}.")
    trouble = fl.Finding(
        "repeated-total", "error", 9, "totals are on every line", (), "Say amount_is."
    )
    wrong = replace(about, checked=replace(about.checked, findings=(trouble,)))
    lines = answer_of(wrong)
    assert [line.heading for line in lines] == [
        "First resolve what makes these numbers wrong.", "How certain is this?",
    ]  # fmt: skip
    assert lines[0].text == "Totals are on every line. Say amount_is."
    assert lines[1].text.startswith("Not certain: 1 finding has to be resolved before")
    page = page_of(wrong, write.Made("fairladder report", {}), "A shop")
    assert (
        'role="alert">1 finding has to be resolved before these numbers count: totals are on every line.'
        in page
    )
    assert "data-action" not in page.split("<script")[0]
    euros = about.scheme.model_copy(
        update={"money": about.scheme.money.model_copy(update={"currency": "EUR"})}
    )
    assert answer_of(replace(about, scheme=euros))[0].text.endswith(" EUR.")


def test_words_of_the_report_do_not_contradict_each_other(about):
    """Shares of first and repeat revenue add up; a formula value below past spend is explained; no
    share below one is written as 100.0 %; one sign for minus, one style of dates.
    """
    revenue = report_figures.revenue(about)
    first, repeat = (about.growth[c].sum() for c in ("new_revenue", "repeat_revenue"))
    assert repeat_share(about.growth) == repeat / (first + repeat)
    share = wording.percent(repeat_share(about.growth))
    assert revenue.finding == f"Repeat orders are {share} of revenue before refunds"
    to_date, formula = (value for _, value, *_ in report_figures.worth_lines(about)[:2])
    assert ("counts a customer as gone" in report_figures.worth(about).shows) == (formula < to_date)
    assert formula < to_date
    assert [wording.percent(s) for s in (1, sum([0.1] * 10), 0.99996, 0.9995, 0.9994, 0.0004, 0)] == [
        "100.0 %", "100.0 %", "over 99.9 %", "over 99.9 %", "99.9 %", "under 0.1 %", "0.0 %",
    ]  # fmt: skip
    before, after = about.changes.parts["spend"].iloc[[0, -1]]
    said = about.changes.spend_in_words
    numbers = [float(n.replace("−", "-").replace(",", "")) for n in re.findall(r"[+−][\d,]+", said)]
    assert sum(numbers) == pytest.approx(after - before, abs=1)
    assert said.startswith("Spend rose by 51,122: +35,827 from customers who bought in both")
    page = page_of(about, write.Made("fairladder report", {}), "A shop").split("<script")[0]
    texts = re.sub(
        r"<[^>]*>|&#?\w+;", " ", page.split("</style>")[1].split('id="customers-part"')[0]
    )
    assert re.findall(r"\d{4}-\d\d-\d\d", texts) == []
    assert re.findall(r"(?<![\w-])-\d", texts) == []


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
        assert (low if part > 0 else high) == pytest.approx(at, abs=0.3)
        at += part * scale
    assert at == pytest.approx(ends[-1][1], abs=0.3)
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

"""Test that the same orders in many formats give the same bytes, that formats are reported, and
that ambiguous ones are asked.
"""

import csv
import gzip
import io
import json
import re
import zipfile

import duckdb
import pandas as pd
import polars as pl
import pyarrow as pa
import pytest
import xlsxwriter
import xlwt

import fairladder as fl
from conftest import in_database

LINES = 2500


@pytest.fixture(scope="module")
def rows(shop):
    with (shop / "orders.csv").open() as file:
        return list(csv.DictReader(file))[:LINES]


def continental(row):
    """Write 31.12.2025 18:30:00 and 1.234,50."""
    day, _, time = row["sold_at"].partition("T")
    placed = ".".join(reversed(day.split("-"))) + (f" {time}" if time else "")
    whole, _, cents = row["line_total"].partition(".")
    total = f"{int(whole):,}".replace(",", ".") + f",{cents}" if cents else ""
    return row | {"sold_at": placed, "line_total": total, "product": row["product"] + " été"}


def american(row):
    """Write 12/31/2025, $1,234.50 and ($4.00)."""
    day = row["sold_at"].partition("T")[0].split("-")
    placed = "/".join((*day[1:], day[0])) if len(day) == 3 else row["sold_at"]
    total = f"${abs(float(row['line_total'])):,.2f}" if row["line_total"] else ""
    return row | {
        "sold_at": placed,
        "line_total": f"({total})" if row["line_total"].startswith("-") else total,
    }


def text(rows, separator=",", quoting=csv.QUOTE_MINIMAL):
    out = io.StringIO()
    writer = csv.DictWriter(out, list(rows[0]), delimiter=separator, quoting=quoting)
    writer.writeheader()
    writer.writerows(rows)
    return out.getvalue()


def typed(rows):
    """Return ids as text, amounts as numbers, dates as dates."""
    frame = pd.DataFrame(rows)
    frame["line_total"] = pd.to_numeric(frame["line_total"])
    frame["sold_at"] = [pd.Timestamp(v) if len(v) == 19 else v for v in frame["sold_at"]]
    return frame


def workbook(rows, path):
    """Write a workbook with a title above the header."""
    frame = typed(rows)
    with pd.ExcelWriter(path, engine="xlsxwriter") as book:
        frame.to_excel(book, index=False, startrow=3, sheet_name="Orders")
        book.sheets["Orders"].write(0, 0, "Quillmoor Yarns")


def old_workbook(rows, path):
    book = xlwt.Workbook()
    sheet, day = book.add_sheet("Orders"), xlwt.easyxf(num_format_str="yyyy-mm-dd hh:mm:ss")
    frame = typed(rows)
    for at, name in enumerate(frame):
        sheet.write(0, at, name)
        for row, cell in enumerate(frame[name], start=1):
            if isinstance(cell, pd.Timestamp):
                sheet.write(row, at, cell.to_pydatetime(), day)
            elif not pd.isna(cell):
                sheet.write(row, at, cell)
    book.save(path)


def locked(path):
    """Write the container of a workbook with a password: one stream, EncryptedPackage."""
    book = xlwt.Workbook()
    book.add_sheet("Orders")
    book.save(path)
    content, name = bytearray(path.read_bytes()), "EncryptedPackage".encode("utf-16-le")
    at = content.index("Workbook".encode("utf-16-le"))
    content[at : at + 66] = name.ljust(64, b"\0") + (len(name) + 2).to_bytes(2, "little")
    return bytes(content)


WAYS = {
    "plain.csv": lambda r, p: p.write_text(text(r)),
    "marked.csv": lambda r, p: p.write_bytes(text(r).encode("utf-8-sig")),
    "continental.csv": lambda r, p: p.write_bytes(
        text([continental(x) for x in r], ";").encode("cp1252")
    ),
    "wide.txt": lambda r, p: p.write_bytes(
        text([continental(x) for x in r], "\t").encode("utf-16")
    ),
    "american.csv": lambda r, p: p.write_text(text([american(x) for x in r], "|", csv.QUOTE_ALL)),
    "titled.csv": lambda r, p: p.write_bytes(
        b"Quillmoor Yarns,,,\nall orders\n\n" + text(r).encode()
    ),
    "turning.csv": lambda r, p: p.write_text(
        text([*r[:2000], *map(american, r[2000:])])
    ),  # as the first rows do not show
    "packed.csv.gz": lambda r, p: p.write_bytes(gzip.compress(text(r).encode())),
    "packed.csv.zst": lambda r, p: p.write_bytes(
        pa.compress(text(r).encode(), "zstd", asbytes=True)
    ),
    "lines.jsonl": lambda r, p: p.write_text("\n".join(json.dumps(x) for x in r)),
    "all.json": lambda r, p: p.write_text(json.dumps(r)),
    "columns.parquet": lambda r, p: pd.DataFrame(r).to_parquet(p),
    "book.xlsx": workbook,
    "book.xls": old_workbook,
    "book.ods": lambda r, p: typed(r).to_excel(p, engine="odf", index=False),
    "half*.csv": lambda r, p: [
        p.with_name(f"half{i}.csv").write_text(text(half))
        for i, half in enumerate((r[:999], r[999:]))
    ],
}


@pytest.fixture(scope="module")
def expected(shop, rows, tmp_path_factory):
    return scored_bytes(pd.DataFrame(rows), shop, tmp_path_factory.mktemp("expected"))[0]


@pytest.fixture(scope="module")
def as_rows(shop, rows):
    """Return growth and findings of the same rows as a frame."""
    grown = fl.growth(
        fl.open_orders(pd.DataFrame(rows), scheme=shop / "scheme.toml"), period="month"
    )
    return grown, checked(pd.DataFrame(rows), shop)[0]


def checked(source, shop):
    """Return the findings of `check` without reading notes, and the sorted reasons and examples of
    set-aside rows.
    """
    check = fl.open_orders(source, scheme=shop / "scheme.toml").check()
    found = [(f.code, f.count, f.effect) for f in check.findings if f.code != "reading"]
    return (found, check.balance, check.set_aside["reason"].tolist()), {
        f.code: f.examples for f in check.findings
    }


def scored_bytes(source, shop, folder):
    orders = fl.open_orders(source, scheme=shop / "scheme.toml")
    fl.write(fl.score(orders.customers(), orders.scheme), folder / "out.csv")
    return (folder / "out.csv").read_bytes(), orders


@pytest.mark.parametrize("way", WAYS)
def test_many_formats_give_the_same_bytes(shop, rows, expected, as_rows, tmp_path, way):
    WAYS[way](rows, tmp_path / way)
    got, orders = scored_bytes(tmp_path / way, shop, tmp_path)
    assert got == expected
    if way in (
        "continental.csv",
        "turning.csv",
        "lines.jsonl",
        "columns.parquet",
        "book.xlsx",
        "half*.csv",
    ):  # one of each kind
        grown = fl.growth(
            fl.open_orders(tmp_path / way, scheme=shop / "scheme.toml"), period="month"
        )
        pd.testing.assert_frame_equal(grown, as_rows[0])
    found, examples = checked(tmp_path / way, shop)
    assert found == as_rows[1]
    assert (" of half1.csv" in examples["duplicate-rows"][0]) == (way == "half*.csv")
    output = " ".join(orders.notes)
    reported = {
        "continental.csv": ("is read as cp1252", "The separator of continental.csv is `;`", "are read day-first", "show a decimal comma"),
        "wide.txt": ("is read as utf-16", "show a decimal comma"),
        "american.csv": ("are read month-first", "show a decimal point"),
        "turning.csv": ("are read month-first", "show a decimal point"),
        "titled.csv": ("from line 4",), "book.xlsx": ("from row 4",), "half*.csv": ("2 files are read together",),
    }  # fmt: skip
    for words in reported.get(way, ()):
        assert words in output


def test_frames_of_other_libraries_are_read(shop, rows, expected, tmp_path, fairladder):
    frame = pd.DataFrame(rows)  # noqa: F841  # read by name below
    assert (
        scored_bytes(pd.DataFrame([continental(r) for r in rows]), shop, tmp_path)[0] == expected
    )  # text in typed columns
    for source in (
        pl.DataFrame(rows),
        pa.Table.from_pylist(rows),
        duckdb.sql("SELECT * FROM frame"),
    ):
        assert scored_bytes(source, shop, tmp_path)[0] == expected
    done = fairladder("score", "-", "--scheme", shop / "scheme.toml", input=text(rows))
    assert done.stdout.encode() == expected


def test_surprises_after_the_first_rows_are_found(shop, rows, expected, tmp_path, monkeypatch):
    """Channels and formats that the first rows do not show."""
    monkeypatch.setattr("fairladder.orders.formats.FIRST_ROWS", 2)
    (tmp_path / "plain.csv").write_text(text(rows))
    got, orders = scored_bytes(tmp_path / "plain.csv", shop, tmp_path)
    assert got == expected
    found = {f.code: f.examples for f in orders.check().findings}
    assert found["duplicate-rows"] == ("rows 1545 and 1546",)


@pytest.mark.parametrize("rated", [False, True])
def test_row_numbers_are_line_numbers_with_several_threads(tmp_path, rated):
    """Rows read by several threads, and rows joined with rates, have their line numbers in the
    file.
    """
    note = "x" * 300  # threads start at byte offsets, not at lines
    lines = [
        f"M{i % 5000},S{i // 2},2026-01-{1 + i % 28:02},web,{i % 90}.50,EUR,{note}"
        for i in range(300_000)
    ]
    bad = {
        5: ("M1,S9,2026-13-01,web,1,EUR,", "bad-date"),
        133_333: (" Total :,,,,9,EUR,", "total-row"),
        299_999: (" ,S9,2026-01-01,web,7,GBP,", "no-customer"),
    }
    for place, (line, _) in bad.items():
        lines[place] = line
    lines[260_001] = lines[260_000] = "M2,S7777777,2026-02-01,web,3,GBP,"
    path = tmp_path / "long.csv"
    path.write_text("\n".join(["customer,order,placed,channel,amount,currency,note", *lines]))
    (tmp_path / "rates.csv").write_text("currency,rate\nGBP,1.2\n")
    money = {"currency": "EUR", "rates": str(tmp_path / "rates.csv")}
    roles = {"orders": {"currency": "currency"}, "money": money} if rated else {}
    check = fl.open_orders(path, scheme=roles).check()
    output = dict(zip(check.set_aside["row"], check.set_aside["reason"], strict=True))
    assert output == {place + 2: reason for place, (_, reason) in bad.items()}
    assert check.set_aside["customer"].tolist()[1:] == [" Total :", " "]
    assert {f.code: f.examples for f in check.findings}["duplicate-rows"] == (
        "rows 260002 and 260003",
    )


def orders_of(tmp_path, header, *lines, **settings):
    path = tmp_path / "orders.csv"
    path.write_text("\n".join([header, *lines]) + "\n")
    return fl.open_orders(
        path, scheme={"orders": settings} if settings else None, allow_set_aside=True
    )


@pytest.mark.parametrize(
    ("cells", "settings", "minor"),
    [
        (["1.234,50", "12,5", "7"], {}, [123450, 1250, 700]),
        (["1,234.50", "$ 12.5", "(3.00)"], {}, [123450, 1250, -300]),
        (["1'234.50", "2.00-", "EUR 3"], {}, [123450, -200, 300]),
        (["1,234", "2,500"], {"decimal_mark": "."}, [123400, 250000]),
        (["1,234", "2,500"], {"decimal_mark": ","}, [123, 250]),
        (["1.234", "12.5"], {}, [123, 1250]),  # points alone are decimal points
        (
            ["12,5", "13,5", "1.5"],
            {},
            [1250, 1350, None],
        ),  # the majority wins, the rest is bad-amount
        (["1,23,456.00", "5.00"], {}, [12345600, 500]),
        (["1.200", "950"], {"decimal_mark": ","}, [120000, 95000]),
        (["1,2,3.00", "5.00"], {}, [None, 500]),
        (["1.234.567", "1,5"], {}, [123456700, 150]),
        (["1 234,5", "−2,5"], {}, [123450, -250]),
    ],
)
def test_numbers_in_text(tmp_path, cells, settings, minor):
    lines = [f'c{i};2026-01-01;"{cell}"' for i, cell in enumerate(cells)]
    orders = orders_of(tmp_path, "customer;placed;amount", *lines, **settings)
    spend = dict(zip(orders.customers()["customer"], orders.customers()["spend"], strict=True))
    assert [
        round(spend[f"c{i}"] * 100) if f"c{i}" in spend else None for i in range(len(cells))
    ] == minor
    assert set(orders.set_aside["reason"]) == ({"bad-amount"} if None in minor else set())


@pytest.mark.parametrize(
    ("cells", "settings", "days"),
    [
        (["31/12/2025", "01/02/2026"], {}, ["2025-12-31", "2026-02-01"]),
        (["12/31/2025", "01/02/2026 9:15 PM"], {}, ["2025-12-31", "2026-01-02"]),
        (
            ["31.1.2026", "2026-02-01T10:00:00", "1 Feb 2026"],
            {},
            ["2026-01-31", "2026-02-01", "2026-02-01"],
        ),
        (["2026/01/31", "2026/02/01"], {}, ["2026-01-31", "2026-02-01"]),
        (["04/04/2026", "05/05/2026"], {}, ["2026-04-04", "2026-05-05"]),  # both ways the same
        (["01/02/2026"], {"date_format": "month-first"}, ["2026-01-02"]),
        (["31.12.25"], {"date_format": "%d.%m.%y"}, ["2025-12-31"]),
        (["31.12.25", "30.12.2025"], {}, [None, "2025-12-30"]),  # two-digit years only on request
        (["45000", "2026-01-01"], {}, [None, "2026-01-01"]),
        (
            ["45000", "45000.75", "59"],
            {"date_format": "spreadsheet-days"},
            ["2023-03-15", "2023-03-15", None],
        ),
        (["0000-01-01", "9999-12-31", "2026-01-01"], {}, [None, "9999-12-31", "2026-01-01"]),
    ],
)
def test_dates_in_text(tmp_path, cells, settings, days):
    lines = [f"c{i},{cell},1" for i, cell in enumerate(cells)]
    orders = orders_of(tmp_path, "customer,placed,amount", *lines, **settings).on("9999-12-31")
    first = dict(
        zip(*orders.customers()[["customer", "first_order"]].astype(str).to_numpy().T, strict=True)
    )
    assert [first.get(f"c{i}") for i in range(len(cells))] == days
    assert set(orders.set_aside["reason"]) == ({"bad-date"} if None in days else set())


def test_ambiguous_dates_and_numbers_raise_a_question(tmp_path):
    with pytest.raises(fl.DataError) as caught:
        orders_of(
            tmp_path, "customer,placed,amount", "a,01/02/2026,1", "b,03/04/2026,1"
        ).customers()
    assert str(caught.value) == (
        "The dates in `placed` can be read day first or month first, `01/02/2026` and `03/04/2026` for instance, and no other cell "
        'decides it. Set `date_format = "day-first"` or "month-first" under [orders].'
    )
    with pytest.raises(
        fl.DataError, match="day first or month first, `12/31/2025` and `31/12/2025`"
    ):
        orders_of(
            tmp_path, "customer,placed,amount", "a,31/12/2025,1", "b,12/31/2025,1"
        ).customers()  # each reads one
    with pytest.raises(fl.DataError) as caught:
        orders_of(
            tmp_path, "customer;placed;amount", "a;2026-01-01;1,234", "b;2026-01-01;2,500"
        ).customers()
    assert str(caught.value) == (
        "The commas in `1,234` and `2,500` can be decimal marks or thousands separators, and no other cell decides it. "
        'Set `decimal_mark = ","` or "." under [orders].'
    )


@pytest.mark.parametrize(
    ("content", "names"),
    [
        (b"customer , placed ,amount\n a , 2026-01-01 , 5 \n", ["a"]),
        (
            b"customer,placed,amount,\na,2026-01-01,1,\nb,2026-01-02,2,\n",
            ["a", "b"],
        ),  # a separator at the end of each line
        (b"customer,,placed,amount\na,x,2026-01-01,1\n", ["a"]),  # a column without a name
        (
            b"customer,placed,amount\r\na,2026-01-01,1\nb,2026-01-02,2\r\n",
            ["a", "b"],
        ),  # mixed line ends
        (b"customer;placed;amount;note\n'a;b';2026-01-01;1;'x'\n".replace(b"'", b'"'), ["a;b"]),
        (b'customer,placed,amount,note\na,2026-01-01,1,"two\nlines"\n', ["a"]),
        (
            b"customer,placed,amount\n" + b"a,2026-01-01,1\n" * 100_000 + b"\xe9,2026-01-01,1\n",
            ["a", "é"],
        ),  # detected late
    ],
)
def test_small_irregularities_are_tolerated(tmp_path, content, names):
    (tmp_path / "orders.csv").write_bytes(content)
    orders = fl.open_orders(tmp_path / "orders.csv")
    assert orders.customers()["customer"].tolist() == names
    assert orders.balance.set_aside == 0


HEADER = b"customer,placed,amount\n"
BROKEN = {
    "nulls.csv": HEADER + b"a,2026-01-01,1\n\0\0\0",
    "binary.csv": bytes(range(256)) * 40,
    "really.csv": b"PK\x03\x04" + b"\0" * 200,
    "wide.csv": b",".join(b"c%d" % i for i in range(20_000)) + b"\n",
    "open.csv": HEADER + b'a,2026-01-01,"1\nb,2026-01-02,2\n',
    "ragged.csv": HEADER + b"a,2026-01-01,1\nb,2026-01-02\nc,2026-01-03,3,4\n",
    "twice.csv": b"customer,placed,amount,customer\na,2026-01-01,1,a\n",
    "broken.csv.gz": b"\x1f\x8b nothing packed here",
    "broken.xlsx": b"PK\x03\x04 no workbook",
    "broken.parquet": b"PAR1 but nothing else PAR1",
    "broken.json": b'[{"customer": "a", "placed":',
    "long.csv": HEADER + b"a,2026-01-01,1\nb,2026-01-02," + b"9" * 10_000_000 + b"\n",
}


@pytest.mark.parametrize("name", BROKEN)
def test_broken_files_give_a_clear_error(tmp_path, fairladder, name):
    """A clear error or a row set aside: no traceback, no half-written file."""
    (tmp_path / name).write_bytes(BROKEN[name])
    done = fairladder("score", tmp_path / name, "--out", tmp_path / "out.csv")
    assert done.returncode == 1, done.stdout
    assert done.stderr.startswith("Error: ")
    assert "Traceback" not in done.stderr
    assert len(done.stderr) < 700
    assert not (tmp_path / "out.csv").exists()


def test_protected_workbook_and_zip_bomb_are_refused(tmp_path, fairladder):
    (tmp_path / "locked.xlsx").write_bytes(locked(tmp_path / "made.xls"))
    with zipfile.ZipFile(tmp_path / "bomb.xlsx", "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("xl/worksheets/sheet1.xml", b" " * 200_000_000)
    for name, says in (
        ("locked.xlsx", "is protected by a password. Save it without one."),
        ("bomb.xlsx", "far more than any workbook needs. It is not read."),
    ):
        done = fairladder("check", tmp_path / name)
        assert (done.returncode, done.stderr.strip().endswith(says)) == (1, True), done.stderr


def test_strange_cells_are_kept_or_set_aside(tmp_path):
    lines = [
        "אבג,2026-01-01,1",
        "🧶🧶,2026-01-02,2",
        f"{'x' * 10_000},2026-01-03,3",
        "a,2026-01-04,1e308",
        "b,2026-01-05,NaN",
    ]
    orders = orders_of(tmp_path, "customer,placed,amount", *lines, "customer,placed,amount")
    assert sorted(len(c) for c in orders.customers()["customer"]) == [2, 3, 10_000]
    aside = orders.set_aside
    assert aside[["row", "reason"]].to_numpy().tolist() == [
        [5, "bad-amount"],
        [6, "bad-amount"],
        [7, "bad-date"],
    ]


SHEETS = {  # sheets → whose spend is reported, or the question
    "months": ({"Januar": [("A", 5), ("B", 7)], "Februar": [("A", 2)]}, {"A": 7, "B": 7}),
    "weeks of which one is blank": ({"Week 1": [("A", 5)], "Week 2": [], "Notes": None}, {"A": 5}),
    "a year that holds the months": ({"Jan": [("A", 5)], "Feb": [("A", 5), ("B", 1)], "Year": [("B", 1), ("A", 5), ("A", 5)]}, {"A": 10, "B": 1}),
    "a copy": ({"Orders": [("A", 5), ("B", 1)], "Orders (2)": [("A", 5), ("B", 1)]}, {"A": 5, "B": 1}),
    "names that do not carry on": ({"Orders": [("A", 5), ("B", 1)], "Returns": [("A", 5)]}, 'Set `sheet = "Orders"` for one of them'),
}  # fmt: skip


@pytest.mark.parametrize("case", SHEETS)
def test_sheets_with_equal_columns(tmp_path, case):
    sheets, wanted = SHEETS[case]
    path = tmp_path / "book.xlsx"
    with xlsxwriter.Workbook(path) as book:
        for name, rows in sheets.items():
            sheet = book.add_worksheet(name)
            for at, row in enumerate(
                [("customer", "amount", "placed"), *((*r, "2026-01-05") for r in rows)]
                if rows is not None
                else [("x",)]
            ):
                sheet.write_row(at, 0, row)
    if isinstance(wanted, str):
        with pytest.raises(fl.DataError, match=re.escape(wanted)):
            fl.open_orders(path)
        every = fl.open_orders(path, scheme={"orders": {"sheet": "*"}})
        assert dict(every.customers()[["customer", "spend"]].to_numpy()) == {"A": 10, "B": 1}
        one = fl.open_orders(path, scheme={"orders": {"sheet": "Returns"}}).customers()
        assert one[["customer", "spend"]].to_numpy().tolist() == [["A", 5]]
        return
    orders = fl.open_orders(path)
    assert dict(orders.customers()[["customer", "spend"]].to_numpy()) == wanted
    assert any(name in note for name in sheets for note in orders.notes)
    assert orders.input_files == [path]


def test_files_with_renamed_columns_are_combined(tmp_path):
    (tmp_path / "w1.csv").write_text("Member No,Order No,Placed,Total\nA,1,2026-01-05,5\n")
    (tmp_path / "w2.csv").write_text(
        "order_no,member_no,PLACED,total\n2,,2026-02-05,4\n3,B,2026-02-06,7\n"
    )
    orders = fl.open_orders(tmp_path / "w*.csv", allow_set_aside=True)
    assert dict(orders.customers()[["customer", "spend"]].to_numpy()) == {"A": 5, "B": 7}
    assert any("`order_no` as `Order No`" in note for note in orders.notes)
    assert orders.check().set_aside[["file", "row"]].to_numpy().tolist() == [["w2.csv", 2]]
    (tmp_path / "w3.csv").write_text("order_no,member_no,PLACED,sum\n2,A,2026-02-05,5\n")
    with pytest.raises(fl.DataError, match=r"only one of them has `Total`, `sum`"):
        fl.open_orders(tmp_path / "w[13].csv")


def test_headers_in_two_rows_and_merged_cells(tmp_path):
    """Two headings over four columns; ids, names and dates are filled down, an amount counts once;
    titles stay titles.
    """
    rows = [["K1", "Ann", "O1", "2026-01-01", 5.5], ["", "", "O2", "2026-02-01", 7], ["K2", "Bo", "O3", "2026-01-03", 2.25],
            ["K2", "Bo", "O3", "2026-01-03", ""]]  # fmt: skip
    with xlsxwriter.Workbook(tmp_path / "two.xlsx") as book:
        sheet = book.add_worksheet()
        for cells, text in (
            ((0, 0, 0, 1), "Customer"),
            ((0, 2, 0, 3), "Order"),
            ((0, 4, 1, 4), "Amount"),
        ):
            sheet.merge_range(*cells, text)
        sheet.write_row(1, 0, ["No", "Name", "No", "Date"])
        for at, row in enumerate(rows, start=2):
            sheet.write_row(at, 0, row)
        for column, text in ((0, "K1"), (1, "Ann")):
            sheet.merge_range(2, column, 3, column, text)
        sheet.merge_range(4, 4, 5, 4, 2.25)
    orders = fl.open_orders(tmp_path / "two.xlsx", allow_set_aside=True)
    assert orders.customers()[["customer", "name", "orders", "spend"]].to_numpy().tolist() == [
        ["K1", "Ann", 2, 12.5],
        ["K2", "Bo", 1, 2.25],
    ]
    assert orders.set_aside[["row", "reason"]].to_numpy().tolist() == [[6, "no-amount"]]
    output = " ".join(orders.notes)
    assert "has two rows, 1 and 2: `Customer No` for instance" in output
    assert "filled down, in 2 cells of `Customer No`, `Customer Name`" in output
    assert "Merged cells of `Amount` count once" in output
    below = "".join(f"K{i % 4},Ann,O{i},2026-01-0{i},5.5\n" for i in range(1, 10))
    for head, customer in (("Customer,,Order,,Amount\nNo,Name,No,Date,EUR\n", "Customer No"), ("Sales,,,,\nNo,Name,Slip,Date,Amount\n", None),
                           ("Customer,Name,Order,Date,Amount\nCu,Na,Or,Da,EUR\n", "Customer")):  # fmt: skip
        (tmp_path / "o.csv").write_text(head + below)
        columns = fl.open_orders(tmp_path / "o.csv", scheme={"orders": {"customer": customer}} if customer else {"orders": {"customer": "No"}},
                                 allow_set_aside=True).columns  # fmt: skip
        assert (customer or "No") in columns


def test_single_table_needs_no_name_and_large_files_are_sampled_throughout(tmp_path, fairladder):
    url = in_database(
        "sqlite",
        pd.DataFrame({"customer": ["a"], "placed": ["2026-01-01"], "amount": [5]}),
        tmp_path,
        table="sales",
    )
    assert (
        fairladder("customers", url, "--columns", "customer,spend").stdout
        == "customer,spend\na,5.00\n"
    )
    # In the first 6,000 rows there is no fraction and no repeated order; later rows decide.
    rows = [
        f"{i % 50};2026-{1 + i % 12:02}-{1 + i % 28:02};{i if i < 6000 else i + 0.5};{'EUR' if i > 7000 else ''}"
        for i in range(9000)
    ]
    (tmp_path / "large.csv").write_text("Who;When;Much;Unit\n" + "\n".join(rows) + "\n")
    assert (
        'currency = "Unit" # it contains only currency codes'
        in fairladder("start", tmp_path / "large.csv", "--out", "-").stdout
    )


@pytest.mark.parametrize("encoding", [None, "utf-8", "UTF8", "utf-8-sig"])
def test_byte_order_mark_is_not_part_of_the_first_name(tmp_path, encoding):
    (tmp_path / "o.csv").write_bytes(b"\xef\xbb\xbfcustomer,placed,amount\na,2026-01-01,5\n")
    scheme = {"orders": {"encoding": encoding} if encoding else {}}
    assert fl.open_orders(tmp_path / "o.csv", scheme=scheme).customers()["customer"].tolist() == [
        "a"
    ]

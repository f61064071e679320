"""Test unusual and invalid input, about three hundred cases, each with its one correct result."""

import datetime as dt
import json
import threading

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
import xlsxwriter

import fairladder as fl
from conftest import DATABASES, EACH_DATABASE, in_database

BAD, NONE = "bad-amount", "no-amount"
#: A cell → the amount in minor units, or why the row is set aside; with a decimal point, then with
#: a comma.
POINT = {
    "5": 500, "5.00": 500, " 5 ": 500, "+5": 500, "5.": 500, ".5": 50, "-5": -500, "1.005": 101, "2.675": 268, "-1.005": -101, "0": 0,
    "1e2": 10000, "1E2": 10000, "1_0": BAD, "ten": BAD, "NaN": BAD, "nan": BAD, "inf": BAD, "": NONE, "  ": NONE, "\u00a0": NONE,
    "1,234.50": 123450, "1 234.50": 123450, "1\u00a0234.50": 123450, "1\u202f234.50": 123450, "1'234.50": 123450, "$5": 500, "€ 5": 500,
    "5 €": 500, "£1,000.00": 100000, "EUR 5": 500, "5 EUR": 500, "(5)": -500, "(5": BAD, "5-": -500, "−5": -500, "--5": BAD, "5.5.5": BAD,
    "1,2,3": BAD, "12,34.5": BAD, "0x1F": BAD, "1/2": BAD, "5%": BAD, "null": BAD, "NA": BAD, "n/a": BAD, "#N/A": BAD, "TRUE": BAD, "٥": BAD,
    "1e400": BAD, "99999999999999": BAD, "0.004": 0, "0.005": 1, "-0.005": -1, "000.50": 50, "1,000": 100000, "1,000,000.00": 100000000,
}  # fmt: skip
COMMA = {
    "5,00": 500, "1.234,50": 123450, "1 234,50": 123450, "1'234,50": 123450, "-5,5": -550, "5,5-": -550, "(5,50)": -550, "€ 5,50": 550,
    "5,50 €": 550, "1,005": 101, "12": 1200, "1.000": 100000, "1.5": BAD, "1.234.567,8": 123456780, "1,2,3": BAD, "5,5 EUR": 550, "": NONE,
}  # fmt: skip


def amounts(cells, tmp_path, **orders):
    """Return the result of each cell, all in one file."""
    frame = pd.DataFrame(
        {
            "customer": "c",
            "order": [f"o{i}" for i in range(len(cells))],
            "placed": "2026-01-01",
            "amount": list(cells),
        }
    )
    frame.to_csv(tmp_path / "rows.csv", index=False)
    opened = fl.open_orders(tmp_path / "rows.csv", scheme={"orders": orders}, allow_set_aside=True)
    output = {
        int(o[1:]): round(a * 100)
        for o, a in zip(*(fl.order_ledger(opened)[c] for c in ("order", "amount")), strict=True)
    }
    return output | {row["row"] - 2: row["reason"] for row in opened.set_aside.to_dict("records")}


@pytest.mark.parametrize(("mark", "cells"), [(".", POINT), (",", COMMA)])
def test_amount_notations(tmp_path, mark, cells):
    output = amounts(cells, tmp_path, decimal_mark=mark, currency="none")
    assert {cell: output[i] for i, cell in enumerate(cells)} == cells


D, BAD_DAY = dt.date, "bad-date"
DAYS = {
    "iso": {
        "2026-03-01": D(2026, 3, 1), "2026-03-01 23:59:59": D(2026, 3, 1), "2026-03-01T10:00:00Z": D(2026, 3, 1), "2026-3-1": BAD_DAY,
        "2026-03-01 10:00:00.123+02": D(2026, 3, 1), "2026-03-01T10:00+02:00": D(2026, 3, 1), "2026-02-30": BAD_DAY, "2026-03-01 (BC)": BAD_DAY,
        "2026-03-01 10:00+99:00": BAD_DAY, "2026-03-01 10:00 America/New_York": BAD_DAY, "epoch": BAD_DAY, "infinity": BAD_DAY, "today": BAD_DAY,
        "now": BAD_DAY, "": "no-date", " ": "no-date", "45000": BAD_DAY, "20260301": BAD_DAY, "2026-03": BAD_DAY, "26-03-01": BAD_DAY,
        " 2026-03-01 ": D(2026, 3, 1), "2026-03-01garbage": BAD_DAY, "0000-01-01": BAD_DAY, "2026-13-01": BAD_DAY, "NaT": BAD_DAY, "None": BAD_DAY,
    },
    "day-first": {
        "01.02.2026": D(2026, 2, 1), "1/2/2026": D(2026, 2, 1), "31-12-2025": D(2025, 12, 31), "31.12.2025 23:59": D(2025, 12, 31),
        "1 Feb 2026": D(2026, 2, 1), "1. February 2026": D(2026, 2, 1), "12.31.2025": BAD_DAY, "1.2.26": D(2026, 2, 1), "2025-12-31": D(2025, 12, 31),
        "29.02.2025": BAD_DAY, "29.02.2024": D(2024, 2, 29), "epoch": BAD_DAY, "32.01.2026": BAD_DAY, "1.2.2026 11:30 PM": D(2026, 2, 1),
    },
    "month-first": {"2/1/2026": D(2026, 2, 1), "12/31/2025": D(2025, 12, 31), "31/12/2025": BAD_DAY, "Feb 1, 2026": D(2026, 2, 1)},
    "spreadsheet-days": {
        "45000": D(2023, 3, 15), "45000.75": D(2023, 3, 15), "1_000": BAD_DAY, "60": BAD_DAY, "61": D(1900, 3, 1), "1e5": BAD_DAY, "-5": BAD_DAY,
        "2026-03-01": D(2026, 3, 1), "99999999": BAD_DAY,
    },
    "%d.%m.%y": {"01.02.26": D(2026, 2, 1), "31.12.69": D(1969, 12, 31), "31.13.69": BAD_DAY, "x": BAD_DAY, "epoch": BAD_DAY},
}  # fmt: skip


@pytest.mark.parametrize("style", DAYS)
def test_date_notations(tmp_path, style):
    cells = list(DAYS[style])
    frame = pd.DataFrame(
        {"customer": [f"c{i}" for i in range(len(cells))], "placed": cells, "amount": 1}
    )
    frame.to_csv(tmp_path / "rows.csv", index=False)
    orders = fl.open_orders(
        tmp_path / "rows.csv", scheme={"orders": {"date_format": style}}, allow_set_aside=True
    )
    output = {
        int(c[1:]): d.date()
        for c, d in zip(*(orders.customers()[n] for n in ("customer", "first_order")), strict=True)
    }
    output |= {row["row"] - 2: row["reason"] for row in orders.set_aside.to_dict("records")}
    assert {cell: output[i] for i, cell in enumerate(cells)} == DAYS[style]


#: Text of a JSON value → the text that is read, as an id, a price or any other cell.
JSON_CELLS = {
    '"00123"': "00123", "123": "123", "123.0": "123", "1.10": "1.10", "12.75": "12.75", "1e5": "1e5", "-0.50": "-0.50", "true": "true",
    "0.1234567890123456789": "0.1234567890123456789", "12345678901234567890": "12345678901234567890", '"12:30:00"': "12:30:00",
    '"7c1b1b1e-2222-4333-8444-555555555555"': "7c1b1b1e-2222-4333-8444-555555555555", '"2026-01-01"': "2026-01-01", '"01.02.26"': "01.02.26",
    '[{"x": 1}]': '[{"x": "1"}]', "[1, 2]": '["1", "2"]', '"Zo\\u00eb \\"q\\""': 'Zoë "q"', '"NaN"': "NaN", '"null"': "null",
}  # fmt: skip


@pytest.mark.parametrize("kind", ["list", "lines", "wrapped", "spread"])
def test_json_values_keep_their_text(tmp_path, kind):
    rows = [
        f'{{"customer": {cell}, "placed": "2026-01-01", "amount": 1.10, "order": {i}}}'
        for i, cell in enumerate(JSON_CELLS)
    ]
    rows[3] = rows[3][:-1] + ', "only here": "07"}'
    whole = {"list": f"[{', '.join(rows)}]", "lines": "\n".join(rows), "wrapped": f'{{"n": 20, "data": [{",".join(rows)}]}}',
             "spread": "[\n" + ",\n\n ".join(rows).replace("{", "{\n  ") + "\n]\n"}[kind]  # fmt: skip
    (tmp_path / "rows.json").write_text(whole)
    orders = fl.open_orders(tmp_path / "rows.json")
    output = fl.order_ledger(orders).sort_values("order", key=lambda c: c.astype(int))
    assert dict(zip(JSON_CELLS, output["customer"], strict=True)) == JSON_CELLS
    assert output["only here"].dropna().tolist() == ["07"]
    assert set(output["amount"]) == {1.1}


@pytest.mark.parametrize(
    ("text", "message"),
    [("[1, 2]", "value 1 is `1`, which is not an object"), ('{"a": 1, "a": 2}', "has `a` twice"), ("[{}, {}]", "no rows with columns"),
     ('[{"a": 1}', "ends before its list does"), ('[{"a": 1}] [', "goes on after its list ends"), ('{"a": }', "is not valid JSON at"),
     ("[" * 5000, "nests too deep|is not valid JSON"), ('{"A": 1, "a": 2}', "occurs twice"), ("hello", "is not valid JSON")],
)  # fmt: skip
def test_json_that_is_not_a_table_is_refused(tmp_path, text, message):
    (tmp_path / "rows.json").write_text(text)
    with pytest.raises(fl.DataError, match=message):
        fl.open_orders(tmp_path / "rows.json")


INNER = (
    "#customer #order #day #minor #state #row #cell_state #factor0 #CUSTOMER #Order #placed #first #why #place ##x order_id state minor day "
    "lines moment before nth kind row twin off written cells channel_bits unread latest offset reason period home least most files void_rows "
    "over_one n a b c label example dated valued read stated at_once numbered spend orders customers Segment tier revenue refunded"
).split()


@pytest.mark.parametrize("kind", ["csv", "frame", *EACH_DATABASE])
def test_headers_do_not_clash_with_our_names(tmp_path, kind):
    """The same orders with extra columns of these names, and with roles assigned to columns of
    these names.
    """
    plain = pd.DataFrame({
        "member": ["a", "a", "b", "c", "b", " a"], "slip": ["1", "1", "2", "3", "4", "5"], "total": ["5.00", "2.50", "7.00", "1.00", "3.00", "4.00"],
        "sold": ["2026-01-01", "2026-01-01", "2026-02-01", "2026-02-03", "2026-03-01", "2026-03-05"], "way": ["web", "web", "stall", "web", "post", "web"],
    })  # fmt: skip
    roles = {
        "customer": "member",
        "order": "slip",
        "placed": "sold",
        "amount": "total",
        "channel": "way",
    }
    names = list({n.casefold(): n for n in INNER}.values()) if kind in DATABASES else INNER
    names = list({n.casefold(): n for n in names}.values())
    extra = plain.assign(**{name: [f"{name}{i}" for i in range(6)] for name in names})
    renamed = {
        "member": "#Order",
        "slip": "state",
        "total": "minor",
        "sold": "#row",
        "way": "order_id",
    }
    tables = {
        "plain": (plain, roles),
        "beside": (extra, roles),
        "roles": (plain.rename(columns=renamed), {r: renamed[c] for r, c in roles.items()}),
        "then": (plain.rename(columns={"way": "then"}), roles | {"channel": "then"}),
        "row": (plain.rename(columns={"way": "row"}), roles | {"channel": "row"}),
    }
    output = {}
    for name, (frame, columns) in tables.items():
        source, given = tmp_path / f"{name}.{kind}", {**columns}
        if kind == "csv":
            frame.to_csv(source, index=False)
        elif kind == "frame":
            source = frame
        else:
            source, given = (
                in_database(kind, frame, tmp_path, f"clash_{name[:4]}"),
                {**columns, "table": f"clash_{name[:4]}"},
            )
        orders = fl.open_orders(source, scheme={"orders": given})
        check = orders.check()
        found = [(f.code, f.count) for f in check.findings if f.code != "reading"]
        ledger = fl.order_ledger(fl.open_orders(source, scheme={"orders": given}))[
            ["customer", "order", "amount", "nth", "channel"]
        ]
        grown = fl.growth(orders, by=columns["channel"]).to_csv(header=False)
        ways = {"at_first": [columns["channel"]], "at_latest": [columns["channel"]]}
        carried = (
            fl.open_orders(source, scheme={"orders": given, "customers": ways})
            .customers()
            .to_csv(header=False)
        )
        crossed = fl.breakdown(
            fl.open_orders(source, scheme={"orders": given}), columns["channel"], measure="lines"
        )
        cells = (crossed.frame.to_csv(), crossed.notes)
        output[name] = (
            orders.customers().to_csv(),
            found,
            ledger.to_csv(),
            grown,
            carried,
            cells,
            check.balance,
        )
    for name in ("beside", "roles", "then", "row"):
        assert output[name] == output["plain"]


@pytest.mark.parametrize(
    "name",
    [
        "o[1].csv",
        "o*.csv",
        "o?.csv",
        "~.csv",
        "o 1.csv",
        "o'1.csv",
        'o"1.csv',
        "ö.csv",
        "[ab]/o.csv",
        "x=1/o.csv",
        "-o.csv",
    ],
)
def test_existing_file_name_is_not_a_pattern(tmp_path, monkeypatch, name):
    monkeypatch.chdir(tmp_path)
    for other, amount in {"o1.csv": 1, "o11.csv": 2, "oX.csv": 3, "a/o.csv": 4, name: 7}.items():
        (tmp_path / other).parent.mkdir(exist_ok=True)
        (tmp_path / other).write_text(f"customer,placed,amount\nc,2026-01-01,{amount}\n")
    assert fl.open_orders(name).customers()["spend"].tolist() == [7]
    assert fl.open_orders("[ab]/*.csv" if name.startswith("[") else "o1*.csv").customers()[
        "spend"
    ].tolist() == [7 if name.startswith("[") else 3]


def test_folders_named_key_value_become_columns(tmp_path):
    for paid, amount in ((1, 5), (2, 6)):
        (tmp_path / f"paid={paid}").mkdir()
        pd.DataFrame({"customer": ["c"], "placed": ["2026-01-01"], "amount": [amount]}).to_parquet(
            tmp_path / f"paid={paid}" / "o.parquet"
        )
    orders = fl.open_orders(
        str(tmp_path / "paid=*" / "o.parquet"), scheme={"orders": {"where": "paid = '2'"}}
    )
    assert orders.customers()["spend"].tolist() == [6]
    (tmp_path / "amount=1").mkdir()
    pd.DataFrame({"customer": ["c"], "placed": ["2026-01-01"], "amount": [5]}).to_parquet(
        tmp_path / "amount=1" / "o.parquet"
    )
    with pytest.raises(
        fl.DataError, match="is in a folder `amount=1`, but its own column `amount` contains `5`"
    ):
        fl.open_orders(tmp_path / "amount=1" / "o.parquet")


LETTERS = {
    "cp1252": "Müller;Größe", "cp1252 ": "Café Crème;Noël", "cp1252  ": "Núñez;España", "cp1250": "Łukasz Żółć;Gdańsk;Święta", "cp1250 ": "Dvořák Nováček;Plzeň;Žižkov",
    "cp1250  ": "Kőszegi Győző;Űrlap", "cp1251": "Иван Петров;Москва;Заказ", "cp1253": "Γιώργος Παπαδόπουλος;Αθήνα", "cp1254": "Şule Yılmaz;İstanbul;Ağaç",
    "cp1255": "שלום;תל אביב", "cp1257": "Jānis Bērziņš;Rīga", "iso8859-2": "Łukasz Żółć;Gdańsk;Święta", "iso8859-15": "Œuvre cœur;5 €", "koi8-r": "Иван Петров;Москва",
    "cp850": "Müller;Größe", "mac-roman": "Zoë Müller;Café", "shift_jis": "山田太郎;東京;注文", "gb18030": "张伟;北京", "big5": "王小明;台北", "euc_kr": "김철수;서울",
    "utf-8": "Zoë;Łukasz", "utf-8-sig": "Zoë", "utf-16": "Zoë;山田", "utf-16-le": "Zoë;Müller",
}  # fmt: skip


@pytest.mark.parametrize("encoding", LETTERS)
def test_encodings_are_detected(tmp_path, encoding):
    text = "customer;note;placed;amount\n" + "".join(f"{n};{LETTERS[encoding]};2026-01-{i % 28 + 1:02};5\n".replace(";", "|", 0)
                                                    for i, n in enumerate(LETTERS[encoding].split(";") * 40))  # fmt: skip
    text = "\n".join(
        [
            text.split("\n")[0],
            *(
                f'{r.split(";")[0]};"{LETTERS[encoding]}";2026-01-01;5'
                for r in text.split("\n")[1:-1]
            ),
        ]
    )
    (tmp_path / "o.csv").write_bytes(text.encode(encoding.strip()))
    assert sorted(fl.open_orders(tmp_path / "o.csv").customers()["customer"]) == sorted(
        set(LETTERS[encoding].split(";"))
    )


def test_ambiguous_encodings_raise_a_question(tmp_path):
    (tmp_path / "o.csv").write_bytes(
        "customer,placed,amount\nGdañsk,2026-01-01,5\n".encode("cp1252")
    )
    with pytest.raises(
        fl.DataError, match=r"`Gdañsk` as cp1252, `Gdańsk` as cp1250. Choose with `encoding`"
    ):
        fl.open_orders(tmp_path / "o.csv")
    assert fl.open_orders(
        tmp_path / "o.csv", scheme={"orders": {"encoding": "cp1250"}}
    ).customers()["customer"].tolist() == ["Gdańsk"]


@pytest.mark.parametrize(
    "name", ["base64", "hex", "rot13", "idna", "undefined", "zlib", "unicode_escape", "nope", "\0"]
)
def test_unknown_encodings_are_refused(tmp_path, name):
    (tmp_path / "o.csv").write_text("customer,placed,amount\nc,2026-01-01,5\n")
    with pytest.raises(fl.UsageError, match="There is no encoding"):
        fl.open_orders(tmp_path / "o.csv", scheme={"orders": {"encoding": name}})


SETTINGS = [
    ({"scores": {"weights": [float("nan"), 1, 1]}}, "weights are numbers from 0"), ({"scores": {"weights": [float("inf"), 1, 1]}}, "weights are"),
    ({"scores": {"weights": [1e300, 1, 1]}}, "weights are"), ({"scores": {"weights": [0, 0, 0]}}, "weights are"), ({"scores": {"weights": [1, 1]}}, "weights"),
    ({"scores": {"rungs": 1}}, "rungs"), ({"scores": {"rungs": 4}}, "written for 5 rungs, not 4"), ({"money": {"decimals": 5}}, "decimals"),
    ({"value": {"margin": 40}}, "write 0.4 or 40%, not 40"), ({"value": {"margin": 0}}, "margin"), ({"value": {"horizon": 0}}, "horizon"),
    ({"value": {"discount_rate": 1.5}}, "a share is a fraction"), ({"campaigns": [{"name": "x", "holdout": 0.2}]}, "write 20 or 20%"),
    ({"campaigns": [{"name": "x", "holdout": 100}]}, "holdout"), ({"campaigns": [{"name": "x", "limit": 0}]}, "limit"), ({"orders": 3}, "a table of settings"),
    ({"tiers": [1]}, "expected a table"), ({"segments": "x"}, "expected a list"), ({"orders": {"customr": "x"}}, "Did you mean `customer`"),
    ({"orders": {"drop": "all"}}, "repeats"), ({"orders": {"discount_as": "half"}}, "fraction"), ({"orders": {"separator": ";;"}}, "separator"),
    ({"time": {"time_zone": "Mars"}}, "no such time zone"), ({"time": {"as_of": "2026-01-01"}}, "a date without quotes"), ({"orders": {"header_row": -1}}, "header_row"),
    ({"tiers": {"t": {"of": "spend", "top_percents": [5, 1]}}}, "percentages must rise"), ({"tiers": {"t": {"of": "spend"}}}, "give one of"),
    ({"orders": {"date_format": "%Y"}}, "is not a date format"), ({"scores": {"shares": [0.5, 0.6, 0.1, 0.1, 0.1]}}, "add up to 1"),
]  # fmt: skip


@pytest.mark.parametrize(("settings", "message"), SETTINGS)
def test_impossible_settings_are_refused(settings, message):
    with pytest.raises(fl.SchemeError, match=message):
        fl.open_orders(
            pd.DataFrame({"customer": ["c"], "placed": ["2026-01-01"], "amount": [1]}),
            scheme=settings,
        )


ROWS = pd.DataFrame(
    {
        "customer": ["a", "b", "a"],
        "order": [1, 2, 3],
        "placed": ["2026-01-01", "2026-01-02", "2026-02-01"],
        "amount": [5.0, 6.0, 7.0],
    }
)
NS = pd.to_datetime(ROWS["placed"], utc=True).astype("datetime64[ns, UTC]")
FRAMES = {
    "mixed ids": (ROWS.assign(customer=[7, "7", 7.0]), [("7", 18.0)]), "sparse": (ROWS.assign(amount=pd.arrays.SparseArray([5.0, 0, 7.0])), [("a", 12.0), ("b", 0.0)]),
    "nanoseconds": (ROWS.assign(placed=NS), [("a", 12.0), ("b", 6.0)]), "periods": (ROWS.assign(placed=pd.PeriodIndex(ROWS["placed"], freq="D")), [("a", 12.0), ("b", 6.0)]),
    "singles": (ROWS.assign(amount=np.float32([3322334.75, 1.005, 82770256])), [("a", 86092594.8), ("b", 1.01)]),
    "categories": (ROWS.assign(customer=ROWS["customer"].astype("category")), [("a", 12.0), ("b", 6.0)]),
    "whole floats": (ROWS.assign(customer=[1.0, 2.0, 1.0]), [("1", 12.0), ("2", 6.0)]),
    "zones": (pa.table({**ROWS.drop(columns="placed").to_dict("list"), "placed": pa.array([1] * 3, pa.timestamp("ns", "Europe/Berlin"))}), [("a", 12.0), ("b", 6.0)]),
}  # fmt: skip


@pytest.mark.parametrize("kind", FRAMES)
def test_frames_with_unusual_types_are_read(kind):
    frame, wanted = FRAMES[kind]
    customers = fl.open_orders(frame).customers()
    assert list(zip(customers["customer"], customers["spend"], strict=True)) == wanted


@pytest.mark.parametrize(
    ("columns", "message"),
    [({"amount": [1 + 2j, 2, 3]}, "complex numbers"), ({"extra": [[1], "x", {}]}, "neither text nor numbers nor dates"), ({"AMOUNT": 1}, "occurs twice"),
     ({"amount": ["1.5", "x", "y"]}, "more than 20 %"), ({"placed": pd.NaT}, "more than 20 %")],
)  # fmt: skip
def test_unsupported_frames_are_refused(columns, message):
    with pytest.raises(fl.DataError, match=message):
        fl.open_orders(ROWS.assign(**columns)).customers()


def test_later_changes_to_a_frame_have_no_effect():
    frame = ROWS.copy()
    orders = fl.open_orders(frame)
    frame.loc[0, "amount"] = 1000
    frame["amount"] *= 2
    assert orders.customers()["spend"].tolist() == [12, 6]


def test_unusual_workbook_cells_are_read_or_reported(tmp_path):
    with xlsxwriter.Workbook(tmp_path / "o.xlsx") as book:
        sheet = book.add_worksheet()
        sheet.write_row(0, 0, ["customer", "placed", "amount", "note"])
        sheet.write_row(1, 0, [12, "2026-01-01", 5])
        sheet.write_row(2, 0, ["A7", "2026-01-01", 5.5, "x" * 32767])
        sheet.write_row(3, 0, ["b", "2026-01-01"])
        sheet.write_formula(3, 2, "=1/0", None, "#DIV/0!")
    orders = fl.open_orders(tmp_path / "o.xlsx", allow_set_aside=True)
    assert orders.customers()["customer"].tolist() == ["12", "A7"]
    assert orders.set_aside[["row", "reason", "amount"]].to_numpy().tolist() == [
        [4, "bad-amount", "#DIV/0!"]
    ]
    assert any("`#DIV/0!` in row 4, column 3" in note for note in orders.notes)
    assert any("they were cut off" in note for note in orders.notes)
    with xlsxwriter.Workbook(tmp_path / "far.xlsx") as book:
        book.add_worksheet().write(1_048_575, 16_383, "x")
    with pytest.raises(fl.DataError, match="extends to row 1,048,576 and column 16,384"):
        fl.open_orders(tmp_path / "far.xlsx")
    with pytest.raises(
        fl.DataError,
        match=r"`note` has 40,000 characters, but a cell of a sheet has at most 32,767",
    ):
        fl.write(pd.DataFrame({"note": ["x" * 40_000]}), tmp_path / "out.xlsx")


def test_very_long_last_line_is_refused(tmp_path):
    with (tmp_path / "o.csv").open("w") as file:
        file.write(
            "customer,placed,amount,note\n"
            + "c,2026-01-01,1,x\n" * 1000
            + "d,2026-01-01,2,"
            + "y" * (40 << 20)
        )
    assert fl.open_orders(tmp_path / "o.csv").customers()["spend"].tolist() == [1000, 2]


def test_user_columns_with_our_names_are_written_unchanged(tmp_path):
    """Text and numbers with names of our money columns are written unchanged in every format."""
    members = pd.DataFrame(
        {"customer": ["a", "b"], "revenue": ["high", "low"], "quick_value": [7, 8]}
    )
    orders = fl.open_orders(ROWS.assign(revenue=[7, 8, 9]), customers=members)
    for name, frame, wanted in (
        ("customers", orders.score(), [["high", 7], ["low", 8]]),
        ("orders", fl.order_ledger(orders), [7, 8, 9]),
    ):
        for kind in ("csv", "json", "parquet", "xlsx"):
            fl.write(frame, tmp_path / f"{name}.{kind}")
        rows = json.loads((tmp_path / f"{name}.json").read_text())["rows"]
        assert [
            [r["revenue"], r["quick_value"]] if name == "customers" else r["revenue"] for r in rows
        ] == wanted
        text = pd.read_csv(tmp_path / f"{name}.csv", dtype=str)
        assert "7" in text.to_numpy()
        assert "7.00" not in text[["revenue"]].to_numpy()
        assert (
            text["spend" if name == "customers" else "amount"].str.fullmatch(r"-?\d+\.\d\d").all()
        )


def test_name_of_both_column_and_role_is_refused():
    frame = pd.DataFrame(
        {
            "member": ["a", "b", "c"],
            "day": "2026-01-01",
            "total": [5.0, 6.0, 7.0],
            "amount": [7, 7, 1],
            "Customer": ["x", "y", "z"],
        }
    )
    roles = {"customer": "member", "placed": "day", "amount": "total"}

    def used(where):
        return (
            fl.open_orders(frame, scheme={"orders": {**roles, "where": where}})
            .customers()["customer"]
            .tolist()
        )

    assert used('"amount" = 7') == ["a", "b"]
    assert used("role.amount = 7") == used("total = 7") == ["c"]
    assert used("\"Customer\" = 'y' OR role.customer = 'c'") == ["b", "c"]
    for where in ("amount = 7", "AMOUNT = 7", "customer = 'x'"):
        with pytest.raises(
            fl.ConditionError,
            match=r'is both a column and a role of another column\. Write `"\w+"` for the column and `role\.\w+` for',
        ):
            used(where)
    members = pd.DataFrame({"member": ["a", "b"], "full_name": ["Ann", "Bo"]})
    segments = [{"name": "ann", "when": "full_name = 'Ann' AND name = 'Ann' AND member = customer", "stance": "keep"},
                {"name": "rest", "otherwise": True, "stance": "leave"}]  # fmt: skip
    scheme = {"orders": roles, "customers": {"name": "full_name"}, "segments": segments}
    orders = fl.open_orders(
        frame.drop(columns=["amount", "Customer"]), customers=members, scheme=scheme
    )
    assert orders.score()["segment"].tolist() == ["ann", "rest", "rest"]
    pd.testing.assert_frame_equal(
        fl.score(orders.customers()), orders.score()
    )  # the frame has the scheme
    assert "CASE WHEN" in fl.scheme_sql(
        orders.scheme, fl.fit_ladders(orders.customers()), orders.customers()
    )


def test_findings_by_currency_before_one_is_chosen():
    frame = pd.DataFrame({"customer": list("aabA"), "order": range(4), "placed": ["2026-01-01", "2026-05-02", "2025-01-03", "2026-01-03"],
                          "amount": [5, 7, 9, 1], "currency": ["EUR", "USD", "EUR", "USD"], "name": list("xxyx")})  # fmt: skip
    findings = {(f.code, f.effect) for f in fl.open_orders(frame).check().findings}
    assert ("one-customer-dominates", "customer has 64 % of all spend (in EUR)") in findings
    assert (
        "id-near-twins",
        "ids are written in several ways that differ only in case, spaces or leading zeros; the most used spellings have 1 order and 7.00 of "
        "spend, the others 1 order and 1.00 of spend (in USD)",
    ) in findings
    assert not any(
        "a and a" in str(f) or "a, a" in str(f) for f in fl.open_orders(frame).check().findings
    )
    with pytest.raises(
        fl.DataError,
        match=r"Or convert them: `rates` under \[money\] names a file of currency, day and rate",
    ):
        fl.open_orders(frame).customers()


def test_money_columns_have_decimals_in_every_part(shop, fairladder):
    base = (shop / "orders.csv", "--scheme", shop / "scheme.toml", "--quiet")
    answers = pd.read_csv(
        pd.io.common.StringIO(fairladder("value", *base, "--part", "answers").stdout), dtype=str
    )
    for column in ("per_customer", "low", "high", "all_customers"):
        assert answers[column].dropna().str.fullmatch(r"\d+\.\d\d").all()
    done = fairladder(
        "breakdown",
        *base,
        "--rows",
        "channel",
        "--measure",
        "spend",
        "--measure",
        "orders",
        "--shares",
        "total",
    )
    table = pd.read_csv(pd.io.common.StringIO(done.stdout))
    assert table.columns.tolist() == [
        "row",
        "column",
        "spend",
        "spend_share",
        "orders",
        "orders_share",
    ]
    odd = fairladder("breakdown", *base[:-1], "--rows", "age(district):30,40")
    assert "Warning: `age (district)` is unknown for every order" in odd.stderr


def test_weighted_totals_have_two_decimals(tmp_path):
    scored = fl.open_orders(ROWS, scheme={"scores": {"weights": [1, 0.5, 0.25]}}).score()
    fl.write(scored, tmp_path / "s.csv")
    assert (
        pd.read_csv(tmp_path / "s.csv", dtype=str)["score_total"].str.fullmatch(r"\d+\.\d\d").all()
    )
    with pytest.raises(
        fl.UsageError, match=r"Customers to score are a pandas DataFrame, not pyarrow's Table"
    ):
        fl.score(pa.table({"customer": ["a"]}))
    with pytest.raises(
        fl.SchemeError, match=r"\[tiers\.segment\]: the customers already have a column `segment`"
    ):
        fl.open_orders(
            ROWS, scheme={"tiers": {"segment": {"of": "spend", "top_percents": [10]}}}
        ).score()


def test_orders_can_be_shared_between_threads():
    orders, wanted, wrong = fl.open_orders(ROWS), fl.open_orders(ROWS).customers(), []

    def ask():
        try:
            pd.testing.assert_frame_equal(orders.customers(), wanted)
            assert orders.check().balance.used == 3
            assert len(fl.order_ledger(orders)) == 3
        except Exception as error:
            wrong.append(error)

    threads = [threading.Thread(target=ask) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert wrong == []


def test_customers_file_columns_do_not_clash_with_our_names(tmp_path):
    members = pd.DataFrame({"member": ["a", "b", "", ""], "#row": ["x", "y", "z", ""], "row": ["1", "2", "3", ""], "reason": ["p", "q", "r", ""],
                            "#customer": ["k", "l", "m", ""], "state": ["s", "t", "u", ""]})  # fmt: skip
    members.to_csv(tmp_path / "members.csv", index=False)
    orders = fl.open_orders(
        ROWS.rename(columns={"customer": "member"}),
        customers=tmp_path / "members.csv",
        scheme={"orders": {"customer": "member"}},
    )
    output = orders.customers()
    assert output[["customer", "#row", "reason", "#customer", "state"]].to_numpy().tolist() == [
        ["a", "x", "p", "k", "s"],
        ["b", "y", "q", "l", "t"],
    ]
    (aside,) = orders.set_aside.to_dict("records")
    assert [
        aside[n] for n in ("row", "reason", "#row", "row (cell)", "reason (cell)", "#customer")
    ] == [4, "no-customer", "z", 3, "r", "m"]

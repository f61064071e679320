"""Tables as a workbook: a sheet for each, data never a formula, days as days, and the facts on a sheet of their own."""

import datetime as dt
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pandas as pd

from fairladder.columns import is_money
from fairladder.errors import DataError
from fairladder.scratch import a_scratch_folder

#: Rows of a sheet, its header among them.
MOST_ROWS = 1_048_576
#: What a cell holds of a text.
LONGEST_CELL = 32_767


def write_workbook(
    tables: Mapping[str, pd.DataFrame],
    path: Path,
    decimals: int,
    facts: Mapping[str, Any] | None,
) -> None:
    """Write every table to a sheet of its name. Money shows that many ``decimals``.

    Raises DataError where a table has more rows than a sheet holds.
    """
    import xlsxwriter

    for name, table in tables.items():
        if len(table) >= MOST_ROWS:
            raise DataError(
                f"{name} has {len(table):,} rows, and a sheet holds {MOST_ROWS - 1:,}. Write csv or parquet."
            )
    plain = {"strings_to_formulas": False, "strings_to_urls": False, "strings_to_numbers": False}
    with a_scratch_folder() as scraps, xlsxwriter.Workbook(str(path), {**plain, "tmpdir": str(scraps)}) as book:
        book.set_properties({"created": dt.datetime(2000, 1, 1, tzinfo=dt.UTC)})  # the same tables, the same bytes
        looks = {
            "head": book.add_format({"bold": True, "bottom": 1}), "day": book.add_format({"num_format": "yyyy-mm-dd"}),
            "money": book.add_format({"num_format": f"#,##0.{'0' * decimals}" if decimals else "#,##0"}),
        }  # fmt: skip
        for name, table in tables.items():
            sheet = book.add_worksheet(name[:31])
            sheet.freeze_panes(1, 0)
            sheet.set_default_row(15)
            for at, column in enumerate(table.columns):
                sheet.write_string(0, at, str(column), looks["head"])
                _column(sheet, at, table[column], looks["money"] if is_money(table, column) else None, looks["day"])
            sheet.autofit()
        if facts:
            sheet = book.add_worksheet("about")
            for row, (key, value) in enumerate(facts.items()):
                sheet.write_string(row, 0, str(key), looks["head"])
                sheet.write_string(row, 1, value if isinstance(value, str) else json.dumps(value, ensure_ascii=False))


def _column(sheet: Any, at: int, values: "pd.Series[Any]", money: Any, day: Any) -> None:
    known = values.notna().to_numpy()
    if values.dtype.kind == "M":
        for row in known.nonzero()[0].tolist():
            sheet.write_datetime(row + 1, at, values.iloc[row].to_pydatetime(), day)
        return
    cells = values.astype(object).tolist()
    for row in known.nonzero()[0].tolist():
        cell = cells[row]
        if isinstance(cell, bool):
            sheet.write_boolean(row + 1, at, cell)
        elif isinstance(cell, str) and len(cell) > LONGEST_CELL:
            raise DataError(
                f"Row {row + 1:,}, column `{values.name}` holds {len(cell):,} characters, and a cell of a sheet holds "
                f"{LONGEST_CELL:,}. Write csv, parquet or json."
            )
        elif isinstance(cell, str | dt.date) or abs(float(cell)) == float("inf"):
            sheet.write_string(row + 1, at, str(cell))
        else:
            sheet.write_number(row + 1, at, float(cell), money)

"""Write tables as a workbook: a sheet for each, data never a formula, dates as dates, and the facts
on a separate sheet.
"""

import datetime as dt
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from fairladder.columns import CARRIED, is_money, is_share, meant
from fairladder.errors import DataError
from fairladder.scratch import a_scratch_folder

#: Maximum number of rows of a sheet, including its header.
MOST_ROWS = 1_048_576
#: Maximum length of text in a cell.
LONGEST_CELL = 32_767
#: With more cells a workbook is written row by row, which saves memory and takes more time.
MOST_CELLS_HELD = 2_000_000
_ROWS_AT_ONCE, _WIDEST = 2_000, 60


@dataclass(frozen=True)
class SheetLook:
    """The look of a workbook's cells: money's ``decimals`` and ``currency``, and the date
    format.
    """

    decimals: int
    currency: str = ""
    days: str = "yyyy-mm-dd"

    @property
    def money(self) -> str:
        """The number format of money."""
        number = f"#,##0.{'0' * self.decimals}" if self.decimals else "#,##0"
        return f'{number} "{self.currency}"' if self.currency else number


def write_workbook(
    tables: Mapping[str, pd.DataFrame], path: Path, look: SheetLook, facts: Mapping[str, Any] | None
) -> None:
    """Write every table to a sheet of its name.

    Raises DataError if a table has more rows than a sheet can contain.
    """
    import xlsxwriter

    for name, table in tables.items():
        if len(table) >= MOST_ROWS:
            raise DataError(
                f"{name} has {len(table):,} rows, but a sheet has at most {MOST_ROWS - 1:,}. "
                "Write csv or parquet."
            )
    plain = {"strings_to_formulas": False, "strings_to_urls": False, "strings_to_numbers": False}
    large = sum(table.size for table in tables.values()) > MOST_CELLS_HELD
    plain["constant_memory"] = large  # rows go to the file as they are written
    with (
        a_scratch_folder() as scraps,
        xlsxwriter.Workbook(str(path), {**plain, "tmpdir": str(scraps)}) as book,
    ):
        book.set_properties(
            {"created": dt.datetime(2000, 1, 1, tzinfo=dt.UTC)}
        )  # the same tables, the same bytes
        looks = {
            "head": book.add_format({"bold": True, "bottom": 1}),
            "day": book.add_format({"num_format": look.days}),
            "share": book.add_format({"num_format": "0.0%"}),
            "money": book.add_format({"num_format": look.money}),
        }  # fmt: skip
        for name, table in tables.items():
            sheet = book.add_worksheet(name[:31])
            sheet.freeze_panes(1, 0)
            sheet.set_default_row(15)
            shown = [_look(looks, table, column) for column in table.columns]
            if large:
                _row_by_row(sheet, table, shown, looks)
                continue
            for at, column in enumerate(table.columns):
                sheet.write_string(0, at, str(column), looks["head"])
                _column(sheet, at, table[column], shown[at], looks["day"])
            sheet.autofit()
        _definitions(book, tables, looks["head"])
        if facts:
            sheet = book.add_worksheet("about")
            for row, (key, value) in enumerate(facts.items()):
                sheet.write_string(row, 0, str(key), looks["head"])
                sheet.write_string(
                    row,
                    1,
                    value if isinstance(value, str) else json.dumps(value, ensure_ascii=False),
                )


def _row_by_row(
    sheet: Any, table: pd.DataFrame, shown: Sequence[Any], looks: Mapping[str, Any]
) -> None:
    """Write the header and the rows of a large table; column widths fit the first rows."""
    for at, column in enumerate(table.columns):
        texts = [str(column), *map(str, table[column].head(_ROWS_AT_ONCE).dropna())]
        sheet.set_column(at, at, min(max(map(len, texts)), _WIDEST) + 1)
    for at, column in enumerate(table.columns):
        sheet.write_string(0, at, str(column), looks["head"])
    for begin in range(0, len(table), _ROWS_AT_ONCE):
        piece = table.iloc[begin : begin + _ROWS_AT_ONCE]
        known = [piece[column].notna().tolist() for column in piece]
        cells = [
            piece[column].dt.to_pydatetime().tolist()
            if piece[column].dtype.kind == "M"
            else piece[column].astype(object).tolist()
            for column in piece
        ]
        for row in range(len(piece)):
            for at, column in enumerate(table.columns):
                if known[at][row]:
                    write_cell(
                        sheet, begin + row, at, column, cells[at][row], shown[at], looks["day"]
                    )


def _look(looks: Mapping[str, Any], table: pd.DataFrame, column: object) -> Any:
    return (
        looks["money"]
        if is_money(table, column)
        else looks["share"]
        if is_share(table, column)
        else None
    )


def _definitions(book: Any, tables: Mapping[str, pd.DataFrame], head: Any) -> None:
    """Add a sheet with the meaning, unit and nulls of each of our columns."""
    rows = [
        (name, str(column), found.sentence, found.unit, found.nulls)
        for name, table in tables.items()
        for column in table.columns
        if column not in table.attrs.get(CARRIED, ())
        and (found := meant(name, str(column))) is not None
    ]
    if not rows:
        return
    sheet = book.add_worksheet("definitions")
    sheet.freeze_panes(1, 0)
    for at, width in enumerate((14, 24, 90, 20, 40)):
        sheet.set_column(at, at, width)
    for at, row in enumerate([("sheet", "column", "meaning", "unit", "empty"), *rows]):
        for place, text in enumerate(row):
            sheet.write_string(at, place, text, None if at else head)


def _column(sheet: Any, at: int, values: "pd.Series[Any]", look: Any, day: Any) -> None:
    known = values.notna().to_numpy()
    cells = (
        values.dt.to_pydatetime().tolist()
        if values.dtype.kind == "M"
        else values.astype(object).tolist()
    )
    for row in known.nonzero()[0].tolist():
        write_cell(sheet, row, at, values.name, cells[row], look, day)


def write_cell(
    sheet: Any, row: int, at: int, column: object, cell: Any, look: Any, day: Any
) -> None:
    """Write a non-null cell below the header: data is never a formula. ``row`` counts from 0, below
    the header.
    """
    if isinstance(cell, bool):
        sheet.write_boolean(row + 1, at, cell)
    elif isinstance(cell, dt.datetime):
        sheet.write_datetime(row + 1, at, cell, day)
    elif isinstance(cell, str) and len(cell) > LONGEST_CELL:
        raise DataError(
            f"Row {row + 1:,}, column `{column}` has {len(cell):,} characters, but a cell of "
            f"a sheet has at most {LONGEST_CELL:,}. Write csv, parquet or json."
        )
    elif isinstance(cell, str | dt.date) or abs(float(cell)) == float("inf"):
        sheet.write_string(row + 1, at, str(cell), look)
    else:
        sheet.write_number(row + 1, at, float(cell), look)

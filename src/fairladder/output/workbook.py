"""Write tables as a workbook: a sheet for each, data never a formula, dates as dates, and the facts
on a separate sheet.
"""

import datetime as dt
import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from fairladder.columns import CARRIED, is_money, is_share, meant
from fairladder.errors import DataError
from fairladder.output.large_sheets import (
    LargeSheet,
    fill_sheets,
    is_large,
    leave_rows,
    objects,
    stored,
)
from fairladder.scratch import a_scratch_folder

#: Maximum number of rows of a sheet, including its header.
MOST_ROWS = 1_048_576
_WIDEST, _LOOKED_AT = 60, 500


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
    large: list[LargeSheet] = []
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
            for at, column in enumerate(table.columns):
                sheet.write_string(0, at, str(column), looks["head"])
            if is_large(table):
                large.append(leave_rows(book, sheet, table, shown, looks["day"]))
                _fit_columns(sheet, table)
                continue
            for at, column in enumerate(table.columns):
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
    fill_sheets(path, large)


def _fit_columns(sheet: Any, table: pd.DataFrame) -> None:
    """Make the columns as wide as their first cells need."""
    for at, column in enumerate(table.columns):
        texts = [str(column), *map(str, table[column].head(_LOOKED_AT).dropna())]
        sheet.set_column(at, at, min(max(map(len, texts)), _WIDEST) + 1)


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
    cells = objects(values)
    for row in known.nonzero()[0].tolist():
        write_cell(sheet, row, at, values.name, cells[row], look, day)


def write_cell(
    sheet: Any, row: int, at: int, column: object, cell: Any, look: Any, day: Any
) -> None:
    """Write a non-null cell below the header: data is never a formula. ``row`` counts from 0, below
    the header.
    """
    cell = stored(cell, row + 1, column)
    if isinstance(cell, bool):
        sheet.write_boolean(row + 1, at, cell)
    elif isinstance(cell, dt.datetime):
        sheet.write_datetime(row + 1, at, cell, day)
    elif isinstance(cell, str):
        sheet.write_string(row + 1, at, cell, look)
    else:
        sheet.write_number(row + 1, at, cell, look)

"""Fill the large sheets of a workbook: rows as text, put into the file that xlsxwriter has made.

xlsxwriter needs about 15 µs per cell, which is two minutes for 200,000 customers; text needs about
three. It still makes everything else: formats, headers, comments, formulas and charts. The format is
ECMA-376, part 1, section 18.3 (worksheets).
"""

import datetime as dt
import numbers
import re
import zipfile
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

import pandas as pd
from xlsxwriter.utility import xl_col_to_name

from fairladder.errors import DataError

#: Tables with more cells are written as text.
MOST_CELLS_HELD = 200_000
#: Maximum length of text in a cell.
LONGEST_CELL = 32_767
_ROWS_AT_ONCE = 5_000
#: Compression level: at 6, the usual one, files are a tenth smaller and take twice as long.
_LEVEL = 3
_SAMPLE_ROWS = re.compile(r'(<row r="2".*?</row>)?<row r="3".*?</row>', re.DOTALL)
_STYLE = re.compile(r'<c r="([A-Z]+)([23])" s="(\d+)"')
_EXTENT = re.compile(r'<dimension ref="[^"]*"/>')
_CODE = re.compile(r"_x[0-9a-fA-F]{4}_")
_CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\ufffe\uffff]")
_FIRST_DAY = dt.datetime(1899, 12, 31)


@dataclass(frozen=True)
class LargeSheet:
    """A sheet whose rows below the header are still to be written: its position in the workbook,
    from 0, and the rows.
    """

    position: int
    table: pd.DataFrame


def is_large(table: pd.DataFrame) -> bool:
    """Return True if the table is to be written as text."""
    return table.size > MOST_CELLS_HELD and len(table) > 1


def leave_rows(
    book: Any, sheet: Any, table: pd.DataFrame, looks: Sequence[Any], day: Any
) -> LargeSheet:
    """Write two sample rows that carry the formats of each column and of dates. ``fill_sheets``
    replaces them when the workbook is closed.
    """
    for at, look in enumerate(looks):
        sheet.write_blank(1, at, None, look)
    sheet.write_blank(2, 0, None, day)
    return LargeSheet(book.worksheets().index(sheet), table)


def fill_sheets(path: Path, sheets: Sequence[LargeSheet]) -> None:
    """Write the rows of the sheets into the closed workbook.

    Raises DataError if a text is too long for a cell; the workbook is then unfinished.
    """
    if not sheets:
        return
    tables = {f"xl/worksheets/sheet{s.position + 1}.xml": s.table for s in sheets}
    bare = path.with_name(f"{path.name}.bare")
    path.replace(bare)
    try:
        with (
            zipfile.ZipFile(bare) as source,
            zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=_LEVEL) as filled,
        ):
            for entry in source.infolist():
                text = source.read(entry)
                made = zipfile.ZipInfo(entry.filename, entry.date_time)
                made.compress_type = zipfile.ZIP_DEFLATED
                if entry.filename not in tables:
                    filled.writestr(made, text)
                    continue
                with filled.open(made, "w", force_zip64=True) as sheet:
                    for piece in _ahead(_filled(text.decode(), tables[entry.filename])):
                        sheet.write(piece)
    finally:
        bare.unlink()


def _ahead(pieces: Iterator[str]) -> Iterator[bytes]:
    """Return the pieces; the next is made in a thread while the caller compresses one."""

    def following() -> bytes | None:
        piece = next(pieces, None)
        return None if piece is None else piece.encode()

    with ThreadPoolExecutor(1) as worker:
        coming = worker.submit(following)
        while (piece := coming.result()) is not None:
            coming = worker.submit(following)
            yield piece


def _filled(text: str, table: pd.DataFrame) -> Iterator[str]:
    """Return the sheet's text with the rows of the table in place of the sample rows."""
    sample = _SAMPLE_ROWS.search(text)
    assert sample is not None  # written by `leave_rows`
    styles = {(column, row): style for column, row, style in _STYLE.findall(sample.group())}
    last = f"{xl_col_to_name(table.shape[1] - 1)}{len(table) + 1}"
    head = text[: sample.start()]
    if f'<row r="{len(table) + 2}"' not in text:  # nothing below: the extent ends with the rows
        head = _EXTENT.sub(f'<dimension ref="A1:{last}"/>', head)
    yield head
    day = f' s="{styles["A", "3"]}"'
    letters = [xl_col_to_name(at) for at in range(table.shape[1])]
    looks = [f' s="{styles[c, "2"]}"' if (c, "2") in styles else "" for c in letters]
    for begin in range(0, len(table), _ROWS_AT_ONCE):
        some = table.iloc[begin : begin + _ROWS_AT_ONCE]
        places = range(begin + 2, begin + 2 + len(some))
        columns = [
            _cells(some.iloc[:, at], letter, places, look, day)
            for at, (letter, look) in enumerate(zip(letters, looks, strict=True))
        ]
        rows = zip(places, zip(*columns, strict=True), strict=True)
        yield "".join(f'<row r="{number}">{"".join(cells)}</row>' for number, cells in rows)
    yield text[sample.end() :]


def _cells(column: "pd.Series[Any]", letter: str, rows: range, look: str, day: str) -> list[str]:
    """Return the column's cells as text, empty for nulls."""
    known = column.notna().tolist()
    if column.dtype.kind in "iuf" and not column.abs().eq(float("inf")).any():
        return [
            f'<c r="{letter}{row}"{look}><v>{cell:.16G}</v></c>' if there else ""
            for row, cell, there in zip(rows, column.tolist(), known, strict=True)
        ]
    bodies: dict[object, str] = {}  # most texts and dates are there many times
    cells = []
    for row, cell, there in zip(rows, objects(column), known, strict=True):
        if not there:
            cells.append("")
            continue
        body = bodies.get(cell) if isinstance(cell, str | dt.datetime) else None
        if body is None:
            body = _body(stored(cell, row - 1, column.name), look, day)
            if isinstance(cell, str | dt.datetime):
                bodies[cell] = body
        cells.append(f'<c r="{letter}{row}"{body}</c>')
    return cells


def objects(column: "pd.Series[Any]") -> list[Any]:
    """Return the column's cells as Python objects."""
    if column.dtype.kind == "M":
        return list(column.dt.to_pydatetime().tolist())
    return list(column.astype(object).tolist())


def stored(cell: Any, row: int, column: object) -> bool | dt.datetime | str | float:
    """Return a non-null cell as a sheet stores it. Dates without time, times with a zone and
    infinite numbers are texts. ``row`` counts from 1, below the header.

    Raises DataError if a text is too long.
    """
    if isinstance(cell, bool) or (isinstance(cell, dt.datetime) and cell.tzinfo is None):
        return cell
    if isinstance(cell, str):
        if len(cell) > LONGEST_CELL:
            raise DataError(
                f"Row {row:,}, column `{column}` has {len(cell):,} characters, but a cell of "
                f"a sheet has at most {LONGEST_CELL:,}. Write csv, parquet or json."
            )
        return cell
    if not isinstance(cell, numbers.Real | Decimal):
        return str(cell)
    number = float(cell)
    return str(cell) if abs(number) == float("inf") else number


def _body(cell: bool | dt.datetime | str | float, look: str, day: str) -> str:
    """Return a cell's text after its place."""
    if isinstance(cell, bool):
        return f' t="b"><v>{int(cell)}</v>'
    if isinstance(cell, dt.datetime):
        return f"{day}><v>{_serial(cell):.16G}</v>"
    if isinstance(cell, str):
        text = escape(_CONTROL.sub(_coded, _CODE.sub(r"_x005F\g<0>", cell)))
        spaces = ' xml:space="preserve"' if cell != cell.strip() else ""
        return f'{look} t="inlineStr"><is><t{spaces}>{text}</t></is>'
    return f"{look}><v>{cell:.16G}</v>"


def _coded(sign: "re.Match[str]") -> str:
    return f"_x{ord(sign.group()):04X}_"


def _serial(moment: dt.datetime) -> float:
    """Return the days since 31 December 1899; spreadsheets count 29 February 1900, which was not."""
    days = (moment - _FIRST_DAY) / dt.timedelta(days=1)
    return days + 1 if days > 59 else days

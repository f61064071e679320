"""Read from a workbook's XML what its reader does not provide: the extent of a sheet, and error
cells.
"""

import re
import zipfile
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree

#: Length of a chunk of the sheet's text, and the overlap for a cell that continues in the next
#: chunk.
_BLOCK, _OVERLAP = 1 << 22, 1 << 17
_CELL = re.compile(rb'<c\b[^>]*?\br="([A-Z]{1,3})(\d{1,7})"')
_ERROR = re.compile(
    rb'<c\b(?=[^>]*\bt="e")[^>]*?\br="([A-Z]{1,3})(\d{1,7})"[^>]*>(?:(?!</c>).)*?<v>([^<]*)</v>',
    re.DOTALL,
)
_RELATION = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"


def reach(path: Path, sheet: str) -> tuple[int, int]:
    """Return the last row and column with a cell in an .xlsx sheet, from 1; 0 for other files."""
    rows = columns = 0
    for block in _blocks(path, sheet):
        for letters, number in _CELL.findall(block):
            rows, columns = max(rows, int(number)), max(columns, column_number(letters.decode()))
    return rows, columns


def error_cells(path: Path, sheet: str) -> dict[tuple[int, int], str]:
    """Return (row, column), from 1, → error such as ``#N/A`` for the error cells of an .xlsx
    sheet.
    """
    return {
        (int(number), column_number(letters.decode())): value.decode("utf-8", "replace")
        for block in _blocks(path, sheet)
        for letters, number, value in _ERROR.findall(block)
    }


def column_number(letters: str) -> int:
    """Convert ``A`` to 1, ``AA`` to 27."""
    number = 0
    for letter in letters:
        number = number * 26 + ord(letter) - 64
    return number


def _blocks(path: Path, sheet: str) -> Iterator[bytes]:
    if not zipfile.is_zipfile(path):
        return
    with zipfile.ZipFile(path) as packed:
        name = _member(packed, sheet)
        if name is None:
            return
        with packed.open(name) as file:
            kept = b""
            while block := file.read(_BLOCK):
                yield kept + block
                kept = (kept + block)[-_OVERLAP:]


def _member(packed: zipfile.ZipFile, sheet: str) -> str | None:
    """Return the name of a sheet's XML inside the archive."""
    names = set(packed.namelist())
    if not {"xl/workbook.xml", "xl/_rels/workbook.xml.rels"} <= names:
        return None
    book = ElementTree.fromstring(packed.read("xl/workbook.xml"))
    key = next(
        (
            s.get(_RELATION)
            for s in book.iter()
            if s.tag.endswith("}sheet") and s.get("name") == sheet
        ),
        None,
    )
    relations = ElementTree.fromstring(packed.read("xl/_rels/workbook.xml.rels"))
    target = next((r.get("Target", "") for r in relations if r.get("Id") == key), "")
    name = target.lstrip("/") if target.startswith("/") else f"xl/{target}"
    return name if name in names else None

"""Read spreadsheets: a sheet's cells as text, with the header detected or given."""

import datetime as dt
import re
import zipfile
from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from fairladder.errors import DataError, UsageError, nearest
from fairladder.orders.calendars import is_month, plain
from fairladder.orders.headers import require_names, two_rows
from fairladder.orders.numbers_in_text import surely_decimal
from fairladder.orders.sheet_xml import error_cells, reach
from fairladder.orders.words import names_role, words_of
from fairladder.wording import counted

#: A workbook that unpacks to more than this, or to 400 times its size, was not made by a person.
MOST_UNPACKED = 4 << 30
#: Maximum number of cells; a sheet with one cell at its far end has 17 billion.
MOST_CELLS = 200_000_000
#: The sheet name that means all sheets with the same columns.
EVERY = "*"
#: The longest text that spreadsheet programs keep in a cell.
LONGEST_CELL = 32_767


def sheets_to_read(
    path: Path, label: str, *, sheet: str | None, header_row: int | None
) -> tuple[list[str], list[str]]:
    """Return the sheets with orders, and notes on the choice.

    A sheet by its name, or ``*`` for all with the columns of the most likely one. Without a name:
    the most likely sheet, with those that have the same columns and continue its name (``Jan``,
    ``Feb``; ``Week 1``, ``Week 2``), unless one of them has the rows of all others, which is then
    read alone.

    Raises DataError if the workbook cannot be read, or if sheets have the same columns but
    unrelated names; UsageError for a sheet that does not exist.
    """
    book = _book(path, label)
    names = book.sheet_names
    if sheet not in (None, EVERY) and sheet not in names:
        raise UsageError(f"{label!r} has no sheet {sheet!r}. {nearest(str(sheet), names)}")
    if (sheet is not None and sheet != EVERY) or len(names) == 1:
        return [names[0] if sheet in (None, EVERY) else str(sheet)], []
    wanted = _fullest(book, names)
    own = _header_of(book, wanted, header_row)
    same_columns = [
        n
        for n in names
        if n == wanted or (own and _header_of(book, n, header_row) == own and _filled(book, n) > 1)
    ]
    if len(same_columns) == 1:
        which = "The first sheet" if wanted == names[0] else "The fullest sheet"
        return same_columns, [
            f"{which}, `{wanted}`, is read; there are {len(names)}. Set `sheet` for another."
        ]
    shown = ", ".join(f"`{name}`" for name in same_columns)
    if sheet != EVERY:
        if whole := _holds_all(book, same_columns):
            return [whole], [
                f"The sheets {shown} have the same columns, and `{whole}` contains the rows "
                "of the others: it is read alone."
            ]
        if len({_stem(name) for name in same_columns}) > 1:
            raise DataError(
                f"The sheets {shown} of {label!r} have the same columns, and their names do "
                f'not show whether they belong together. Set `sheet = "{wanted}"` for one '
                f'of them, or `sheet = "{EVERY}"` for all.'
            )
    return same_columns, [
        f"{len(same_columns)} sheets with the same columns are read together: {shown}. Set `sheet` "
        "for one of them."
    ]


def _book(path: Path, label: str) -> Any:
    import python_calamine as calamine

    _small_enough(path, label)
    try:
        return calamine.CalamineWorkbook.from_path(str(path))
    except calamine.PasswordError:
        raise DataError(f"{label!r} is protected by a password. Save it without one.") from None
    except (calamine.CalamineError, OSError) as error:
        raise DataError(
            f"{label!r} cannot be read as a spreadsheet: {error}. Save it again, or export it as "
            "CSV."
        ) from None


def _header_of(book: Any, name: str, header_row: int | None) -> frozenset[str]:
    """Return a sheet's column names; empty for a sheet that cannot be read."""
    try:
        rows = book.get_sheet_by_name(name).to_python(skip_empty_area=False, nrows=200)
    except Exception:  # a chart, or another sheet without cells
        return frozenset()
    at = header_row or _header_row(rows)  # without names any row serves to compare sheets
    return (
        frozenset(text for cell in rows[at - 1] if (text := _text(cell)))
        if at <= len(rows)
        else frozenset()
    )


def _holds_all(book: Any, names: list[str]) -> str | None:
    """Return the sheet whose rows are those of all others together, if there is one."""
    rows = {name: _rows_of(book, name) for name in names}
    most = max(names, key=lambda name: rows[name].total())
    others: Counter[tuple[str | None, ...]] = Counter()
    for name in names:
        if name != most:
            others += rows[name]
    return most if rows[most] == others else None


def _rows_of(book: Any, name: str) -> "Counter[tuple[str | None, ...]]":
    """Return the rows below the header with their counts."""
    rows = book.get_sheet_by_name(name).to_python(skip_empty_area=False)
    below = (tuple(_text(cell) for cell in row) for row in rows[_header_row(rows) :])
    return Counter(row for row in below if any(row))


def _stem(name: str) -> str:
    """Return a sheet's name without numbers and months."""
    return " ".join(plain(word) for word in re.findall(r"[^\W\d_]+", name) if not is_month(word))


def read_sheet(
    path: Path, label: str, *, sheet: str, header_row: int | None
) -> tuple[pa.Table, int, list[str]]:
    """Return a sheet as a table of text columns, the number of its header row, and notes for the
    user.

    Numbers become their shortest text, whole ones without ``.0``; dates and times ISO text. Without
    ``header_row`` the header is the first row with a name in every column that is used below it.

    Raises DataError if the file cannot be read or has no header.
    """
    import python_calamine as calamine

    book, lines = _book(path, label), []
    last_row, last_column = reach(path, sheet)
    if last_row * last_column > MOST_CELLS:
        raise DataError(
            f"{label!r}: the sheet extends to row {last_row:,} and column {last_column:,}, "
            "far more than orders fill. Delete stray cells far to the right or far below, "
            "or export the table as CSV."
        )
    try:
        rows = book.get_sheet_by_name(sheet).to_python(skip_empty_area=False)
    except calamine.CalamineError as error:
        raise DataError(f"{label!r}: the sheet cannot be read: {error}.") from None
    lines += _with_errors(rows, error_cells(path, sheet), label)
    at = _header_row(rows) if header_row is None else header_row
    if at == 0:
        width = max((len(row) for row in rows), default=0)
        rows, at, unnamed = [[f"column {i}" for i in range(1, width + 1)], *rows], 1, True
    else:
        unnamed = False
    if at > len(rows) or not any(_text(cell) for cell in rows[at - 1]):
        raise DataError(f"Row {at} of {label!r} is blank. It should contain the column names.")
    merged = _merged(book.get_sheet_by_name(sheet))
    header = [(i, _text(cell)) for i, cell in enumerate(rows[at - 1]) if _text(cell)]
    spans = [
        (left, right) for (top, left), (bottom, right) in merged if top == bottom and right > left
    ]
    if header_row is None and (
        both := two_rows(
            [[_text(c) for c in row] for row in rows[: at + 30]], at - 1, spans or None
        )
    ):
        at, header = both[0] + 1, [(i, name) for i, name in enumerate(both[1]) if name]
        lines.append(
            f"The header has two rows, {at - 1} and {at}: `{header[0][1]}` for instance "
            "combines both."
        )
    elif header_row is None:
        texts = [[_text(cell) for cell in row] for row in rows[: at + 2]]
        require_names([name for _, name in header], texts[at - 1 :], texts[: at - 1], label, at)
        if at > 1:
            lines.append(f"The header is taken from row {at}.")
    lines += _filled_down(rows, at, dict(header), merged)
    columns = {name or "": [_text(row[i]) for row in rows[at:]] for i, name in header}
    if len(columns) < len(header):
        twice = next(name for _, name in header if [n for _, n in header].count(name) > 1)
        raise DataError(
            f"{label}: the column name `{twice}` occurs twice in the header. Rename one of them."
        )
    return (
        pa.table({name: pa.array(cells, pa.string()) for name, cells in columns.items()}),
        0 if unnamed else at,
        lines,
    )


#: The first and the last cell of a block of merged cells, as row and column from 0.
_Block = tuple[tuple[int, int], tuple[int, int]]


def _merged(sheet: Any) -> list[_Block]:
    return list(sheet.merged_cell_ranges or ())


def _filled_down(
    rows: list[list[Any]], header: int, names: Mapping[int, str | None], merged: Sequence[_Block]
) -> list[str]:
    """Copy the value of merged cells below the header into each of their rows, and return notes.

    An amount would then count in each row, so columns of amounts keep their blank cells.
    """
    filled, left = Counter[str](), Counter[str]()
    for (top, first), (bottom, last) in merged:
        name = names.get(first)
        if top < header or top == bottom or first != last or name is None:
            continue
        if _adds_up(name, [row[first] for row in rows[header:] if first < len(row)]):
            left[name] += 1
            continue
        for row in rows[top + 1 : bottom + 1]:
            row[first] = rows[top][first]
        filled[name] += bottom - top
    shown = ", ".join(f"`{name}`" for name in filled)
    lines = (
        [f"Merged cells are filled down, in {counted(filled.total(), 'cells')} of {shown}."]
        if filled
        else []
    )
    kept = ", ".join(f"`{name}`" for name in left)
    return [*lines, *([f"Merged cells of {kept} count once, in their first row."] if left else [])]


def _adds_up(name: str, cells: Sequence[Any]) -> bool:
    """Return True if a column contains amounts or quantities, by its name or by fractions in it."""
    words = words_of(name)
    if any(names_role(role, words) for role in ("customer", "order", "name", "placed")):
        return False
    named = any(
        names_role(role, words) for role in ("amount", "unit_price", "quantity", "discount", "cost")
    )
    return named or any(
        isinstance(cell, float) and cell != int(cell) for cell in cells if cell == cell
    )


def _fullest(book: Any, names: list[str]) -> str:
    """Return the sheet most likely to have orders: the first one that is not a cover, else the one
    with most cells.

    A cover has less than a tenth of the rows of the fullest sheet.
    """
    if len(names) == 1:
        return names[0]
    sizes = {name: _filled(book, name) for name in names}
    return next(name for name in names if sizes[name] * 10 >= max(sizes.values()))


def _filled(book: Any, name: str) -> int:
    """Return the number of rows with several cells; 0 for a sheet that cannot be read."""
    try:
        sheet = book.get_sheet_by_name(name)
        if sheet.height * sheet.width > MOST_CELLS:
            return 0
        return sum(sum(cell not in ("", None) for cell in row) > 1 for row in sheet.to_python())
    except Exception:  # a chart, or another sheet without cells
        return 0


def _with_errors(
    rows: list[list[Any]], errors: dict[tuple[int, int], str], label: str
) -> list[str]:
    """Put formula errors, which are read as empty, into their cells, and return notes on unusual
    cells.
    """
    for (row, column), error in errors.items():
        if row <= len(rows) and column <= len(rows[row - 1]):
            rows[row - 1][column - 1] = error
    lines = []
    if errors:
        (row, column), error = min(errors.items())
        lines.append(
            f"Formulas gave errors in {counted(len(errors), 'cells')} of {Path(label).name}, "
            f"`{error}` in row {row}, column {column} "
            "for instance. They are read as that text."
        )
    if any(isinstance(cell, str) and len(cell) == LONGEST_CELL for row in rows for cell in row):
        lines.append(
            f"Cells of {Path(label).name} have {LONGEST_CELL:,} characters, the maximum that "
            "a spreadsheet keeps: they were cut off."
        )
    return lines


def _small_enough(path: Path, label: str) -> None:
    if not zipfile.is_zipfile(path):
        return
    with zipfile.ZipFile(path) as packed:
        unpacked = sum(item.file_size for item in packed.infolist())
    if unpacked > MOST_UNPACKED or unpacked > 400 * max(path.stat().st_size, 1 << 16):
        raise DataError(
            f"{label!r} would unpack to {unpacked:,} bytes, far more than any workbook "
            "needs. It is not read."
        )


def _header_row(rows: list[list[Any]]) -> int:
    width = max((len([c for c in row if _text(c)]) for row in rows[:200]), default=0)
    for number, row in enumerate(rows[:30], start=1):
        filled = [c for c in row if _text(c)]
        if len(filled) == width or (
            len(filled) * 10 >= width * 8
            and all(isinstance(c, str) for c in filled)
            and len(filled) > 1
        ):
            return number
    return 1


def _text(cell: Any) -> str | None:
    if cell is None or cell == "":
        return None
    if isinstance(cell, bool):
        return "true" if cell else "false"
    if isinstance(cell, float):
        return (
            str(int(cell)) if cell == int(cell) and abs(cell) < 1e15 else surely_decimal(repr(cell))
        )
    if isinstance(cell, dt.datetime):
        return (
            cell.date().isoformat()
            if cell.time() == dt.time()
            else cell.isoformat(timespec="seconds")
        )
    if isinstance(cell, dt.date | dt.time):
        return cell.isoformat()
    return str(cell).strip() or None

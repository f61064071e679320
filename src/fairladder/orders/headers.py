"""Detect header rows: tell data from names, and combine names in two rows with group headings
above.
"""

import re
from collections.abc import Sequence

from fairladder.errors import DataError, Question, shortened
from fairladder.orders.numbers_in_text import NUMBER

#: A cell that begins with a digit, or is a number: not a column name.
_DATA = re.compile(r"^[\s(+-]*[\d]")
#: In this many rows below a header, at least two columns contain numbers or dates.
_LOOKED_AT = 20

Cells = Sequence[str | None]
#: A full date, an amount with decimals, an e-mail address: never a column name.
_DAY = re.compile(
    r"^\d{4}[-./]\d{1,2}[-./]\d{1,2}([ T].*)?$|^\d{1,2}[-./]\d{1,2}[-./]\d{2,4}([ T].*)?$"
)
_AMOUNT = re.compile(r"[.,]\d{1,2}\D{0,4}$")
_MAIL = re.compile(r"^\S+@\S+\.\S+$")
#: This many columns with dates as names are amounts by day, side by side.
_DAYS_SIDE_BY_SIDE = 3


def require_names(
    names: Cells, rows: Sequence[Cells], above: Sequence[Cells], label: str, line: int
) -> None:
    """Raise DataError, with a question, if the detected header looks like a data row.

    ``rows`` are the first rows from the header on, ``above`` those before it, ``line`` is the
    header's line number.
    """
    cells = [(name or "").strip() for name in names]
    for quoted in [[c for c in row if c] for row in (*above, names)]:
        if (
            len(quoted) == 1
            and quoted[0]
            and max(quoted[0].count(sign) for sign in ",;\t|") > max(1, len(cells) - 2)
        ):
            raise DataError(
                f"{label!r} has the line `{shortened(quoted[0], 60)}` as one quoted cell. "
                "Remove the quotes around that line if its cells are the column names, or "
                "delete it if it is a title."
            )
    days = sum(bool(_DAY.match(cell)) for cell in cells)
    amounts = sum(NUMBER.search(cell) is not None and bool(_AMOUNT.search(cell)) for cell in cells)
    if not (amounts or any(map(_MAIL.match, cells)) or 0 < days < _DAYS_SIDE_BY_SIDE):
        return
    first = [" | ".join(shortened(cell or "", 20) for cell in row[:8]) for row in rows[:3]]
    error = DataError(
        f"Line {line} of {label!r} looks like data, not like column names: `{first[0]}`. If the "
        "file has no names, "
        f"{'delete the lines above and ' if line > 1 else ''}pass --header-row 0; its columns are "
        "then `column 1`, `column 2` and so on. "
        f"If these are the names, pass --header-row {line}."
    )
    raise error.asking(
        Question(
            "Which line contains the column names?",
            "header_row",
            {"0": ("none", *first), str(line): (first[0],)},
        )
    )


def two_rows(
    rows: Sequence[Cells], at: int, spans: Sequence[tuple[int, int]] | None = None
) -> tuple[int, list[str]] | None:
    """Return the lower row and the combined names if the header in row ``at`` (from 0) has two
    rows; None otherwise.

    ``spans`` are the first and last columns of merged headings, if known; otherwise a heading
    applies up to the next one. A row is part of a header only if it contains no numbers, and the
    rows below do.
    """
    for upper in (at - 1, at):
        if upper < 0 or upper + 1 >= len(rows):
            continue
        above, below = _as_wide(rows[upper], rows[upper + 1])
        if _are_headings(above, below) and _holds_data(
            rows[upper + 2 : upper + 2 + _LOOKED_AT], below
        ):
            return upper + 1, [
                _both(a, b) for a, b in zip(_spread(above, spans), below, strict=True)
            ]
    return None


def _as_wide(above: Cells, below: Cells) -> tuple[list[str], list[str]]:
    width = max(len(above), len(below))
    first, second = (
        [(cell or "").strip() for cell in row] + [""] * (width - len(row)) for row in (above, below)
    )
    return first, second


def _are_headings(above: list[str], below: list[str]) -> bool:
    groups = [i for i, cell in enumerate(above) if cell]
    open_ones = [i for i, cell in enumerate(above) if not cell and below[i]]
    names = sum(map(bool, below))
    no_data = not any(_is_data(cell) for cell in (*above, *below))
    # A title is alone in its row. If every column has names in both rows, the second is data or
    # units.
    all_named = all(a or b for a, b in zip(above, below, strict=True))
    return len(groups) > 1 and bool(open_ones) and names > len(groups) and no_data and all_named


def _holds_data(rows: Sequence[Cells], below: list[str]) -> bool:
    filled = [
        [cell for row in rows if i < len(row) and (cell := row[i])] for i in range(len(below))
    ]
    return (
        sum(bool(cells) and sum(map(_is_data, cells)) * 10 >= 8 * len(cells) for cells in filled)
        > 1
    )


def _is_data(cell: str) -> bool:
    return bool(_DATA.match(cell)) or NUMBER.search(cell) is not None


def _spread(above: list[str], spans: Sequence[tuple[int, int]] | None) -> list[str]:
    """Return the heading over each column."""
    spread: list[str] = []
    for i, cell in enumerate(above):
        over = (first for first, last in spans or () if first <= i <= last)
        spread.append(
            cell or (above[next(over, i)] if spans is not None else spread[-1] if spread else "")
        )
    return spread


def _both(heading: str, name: str) -> str:
    return (
        heading
        if not name or heading.casefold() == name.casefold()
        else f"{heading} {name}".strip()
    )

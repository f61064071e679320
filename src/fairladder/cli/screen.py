"""How results look on a terminal: tables under a title that says the finding, notes on standard error."""

import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from fairladder import palette, wording
from fairladder.cli.options import Request
from fairladder.columns import of_customers

if TYPE_CHECKING:
    import pandas as pd

    from fairladder.api import Orders


def for_people(request: Request) -> bool:
    """Whether standard output takes tables for people: a terminal, and not asked for CSV."""
    return request.out != "-" and sys.stdout.isatty()


@contextmanager
def busy(request: Request, what: str) -> Iterator[None]:
    """A moving sign on the terminal while ``what`` takes its time."""
    console = Console(stderr=True)
    if request.quiet or not console.is_terminal:
        yield
        return
    with console.status(what):
        yield


def note(request: Request, text: str) -> None:
    """One line on standard error, unless asked to be quiet."""
    if not request.quiet:
        print(wording.plain(text), file=sys.stderr)


def show(*view: RenderableType) -> None:
    """Print for people, each piece set off by a blank line."""
    console = Console(highlight=False, markup=False, emoji=False, width=None if sys.stdout.isatty() else 110)
    for piece in view:
        console.print(piece)
        console.print()


def footer(orders: "Orders", facts: Mapping[str, Any]) -> Text:
    """The day of reckoning, the rows read, and what else has to be said."""
    lines = [
        f"{wording.reckoning(orders.as_of, orders.as_of_from)}. {wording.rows_read(facts['balance'])}. Source: {facts['source']}."
    ]
    return Text(wording.plain("\n".join([*lines, *facts["notes"]])), style="dim")


def table(title: str, columns: Sequence[str], rows: Sequence[Sequence[str | Text]], left: int = 1) -> Group:
    """A plain table under a title that says the finding; the first ``left`` columns are text, the rest numbers."""
    made = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    for i, name in enumerate(columns):
        made.add_column(wording.plain(name), justify="left" if i < left else "right", no_wrap=i == 0, overflow="fold")
    for row in rows:
        made.add_row(*(wording.plain(cell) if isinstance(cell, str) else cell for cell in row))
    return Group(Text(wording.plain(title), style="bold"), made)


def cells_of(frame: "pd.DataFrame", names: Sequence[str]) -> list[list[str]]:
    """Cells of customers as people read them, each by what its column is; columns of somebody's own by what they look like."""
    kinds = [of_customers(name) for name in names]
    return [
        [wording.cell(value, known.kind if known else None) for known, value in zip(kinds, row, strict=True)]
        for row in frame[list(names)].to_numpy(dtype=object)
    ]


def stance_text(stance: str, *words: tuple[str, str]) -> Text:
    """A dot in the stance's colour, then the stance's name or other words with their styles."""
    colours = palette.STANCE_NAMES if Console().color_system == "standard" else palette.STANCE_COLOURS
    return Text.assemble(
        ("● ", colours.get(stance, "")),
        *((wording.plain(word), style) for word, style in words or [(stance, "")]),
    )

"""Print results on a terminal: tables under a title with the finding, notes on standard error."""

import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from shutil import get_terminal_size
from textwrap import fill
from threading import Event, Thread
from time import monotonic
from typing import TYPE_CHECKING, Any

from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, Group, RenderableType
from rich.progress_bar import ProgressBar
from rich.table import Table
from rich.text import Text

from fairladder import palette, wording
from fairladder.cli.journal import say
from fairladder.cli.options import Request
from fairladder.columns import kind_in, of_customers
from fairladder.steps import PATIENCE

if TYPE_CHECKING:
    import pandas as pd

    from fairladder.api import Orders
    from fairladder.engine.protocol import Engine
    from fairladder.steps import Progress


def for_people(request: Request) -> bool:
    """Return True if standard output should show tables for people: a terminal, and CSV not
    requested.
    """
    return request.out != "-" and sys.stdout.isatty()


@contextmanager
def busy(
    request: Request, what: str, engine: "Engine", rows: int | None = None
) -> "Iterator[Progress]":
    """Show a spinner on the terminal while ``what`` takes its time, later with progress out of
    ``rows``.

    The work reports progress by calling the function that this returns; until it does, the engine's
    progress is shown.
    """
    console, last_shown = Console(stderr=True), [0.0]

    def report_progress(share: float) -> None:
        last_shown[0] = share

    if request.quiet or not console.is_terminal:
        yield report_progress
        return
    over, begun = Event(), monotonic()
    with console.status(what) as status:

        def follow() -> None:
            while not over.wait(0.2):
                done = last_shown[0] or engine.progress()
                if monotonic() - begun > PATIENCE and done is not None:
                    status.update(_how_far(what, done, monotonic() - begun, rows))

        watching = Thread(target=follow, daemon=True)
        watching.start()
        try:
            yield report_progress
        finally:
            over.set()
            watching.join()


def _how_far(what: str, done: float, seconds: float, rows: int | None) -> RenderableType:
    """Show ``what``, a bar, the percentage, the number of rows, and the time left."""
    left = f"about {seconds * (1 - done) / done:,.0f} s left" if 0.02 < done < 1 else ""
    row = Table.grid(padding=(0, 1))
    of = f" of {wording.counted(rows, 'rows')}" if rows is not None else ""
    row.add_row(what, ProgressBar(1.0, done, width=30), f"{100 * done:.0f} %{of}", left)
    return row


def note(request: Request, text: str) -> None:
    """Write one line to standard error, unless --quiet is set, and to the log if there is one."""
    say(text)
    if not request.quiet:
        print(wording.plain(text), file=sys.stderr)


def finding(request: Request, text: str) -> None:
    """Write a finding to standard error and to the log; errors even with --quiet. On a terminal
    lines break between words.
    """
    say(text)
    if request.quiet and not text.startswith("Error:"):
        return
    shown = wording.plain(text)
    print(
        fill(shown, get_terminal_size().columns) if sys.stderr.isatty() else shown, file=sys.stderr
    )


def show(*view: RenderableType) -> None:
    """Print pieces for people, separated by blank lines."""
    console = Console(
        highlight=False, markup=False, emoji=False, width=None if sys.stdout.isatty() else 110
    )
    for piece in view:
        console.print(piece)
        console.print()


def footer(orders: "Orders", facts: Mapping[str, Any]) -> Text:
    """Show the as-of date, the rows read, the source and the currency in one line."""
    currency = orders.scheme.money.currency
    line = (
        f"{wording.as_of_line(orders.as_of, orders.as_of_from)}. "
        f"{wording.rows_read(facts['balance'])}. Source: {facts['source']}."
        + (f" Amounts are in {currency}." if currency else "")
    )
    return Text(wording.plain(line), style="dim")


def table(
    title: str,
    columns: Sequence[str],
    rows: Sequence[Sequence[str | Text]],
    left: int = 1,
    shares: Sequence[float] = (),
) -> Group:
    """Return a plain table under a title with the finding; the first ``left`` columns are text, the
    rest numbers. ``shares`` (0..1) of the first rows are drawn as bars if the terminal is wide
    enough.
    """
    cells = [[Text(wording.plain(c)) if isinstance(c, str) else c for c in row] for row in rows]
    return Group(
        Text(wording.plain(title), style="bold"),
        _Sheet([wording.plain(c) for c in columns], cells, left, shares),
    )


#: Width of a full bar, and its last character by eighths.
_BAR, _EIGHTHS = 12, " ▏▎▍▌▋▊▉"


def bar(share: float, largest: float) -> str:
    """Return a bar whose length is a share relative to the largest one."""
    eighths = round(8 * _BAR * max(share, 0) / largest) if largest > 0 else 0
    return ("█" * (eighths // 8) + _EIGHTHS[eighths % 8]).rstrip()


def shaded(text: str, share: float) -> Text:
    """Return a cell on a background that is darker for a larger share (0..1)."""
    level = min(int(share * len(palette.SHADES)), len(palette.SHADES) - 1)
    ink = palette.PAPER if level > 2 else palette.INK
    return Text(text, style=f"{ink} on {palette.SHADES[level]}")


@dataclass(frozen=True)
class _Sheet:
    """A table that never cuts a number or a word: headings wrap first, then texts; columns that
    still do not fit continue below, with the first column repeated.
    """

    columns: Sequence[str]
    rows: Sequence[Sequence[Text]]
    left: int
    shares: Sequence[float] = ()

    def __rich_console__(
        self, console: Console, options: ConsoleOptions
    ) -> Iterator[RenderableType]:
        least, most = zip(*map(self._widths, range(len(self.columns))), strict=True)
        if len(self.shares) and sum(least) + _GAP * len(least) + _BAR <= options.max_width:
            yield self._with_bars()
            return
        for n, block in enumerate(_blocks(least, options.max_width)):
            if n:
                yield Text()
            yield self._block(
                block, _shared([(least[i], most[i]) for i in block], options.max_width)
            )

    def _with_bars(self) -> "_Sheet":
        largest = max(self.shares)
        bars = [Text(bar(share, largest), style=palette.SHADES[3]) for share in self.shares]
        bars += [Text("")] * (len(self.rows) - len(bars))
        rows = [[*row, cell] for row, cell in zip(self.rows, bars, strict=True)]
        return _Sheet([*self.columns, ""], rows, self.left)

    def _widths(self, i: int) -> tuple[int, int]:
        """Return the minimum width of a column, and the width at which nothing in it wraps."""
        name, cells = self.columns[i], [row[i] for row in self.rows]
        whole = max((cell.cell_len for cell in cells), default=0)
        word = max((cell_len(w) for w in name.split()), default=0)
        if 0 < i < self.left:
            words = max((cell_len(w) for cell in cells for w in cell.plain.split()), default=0)
            return max(word, min(whole, max(words, _TEXT))), max(whole, cell_len(name))
        return max(word, whole), max(whole, cell_len(name))

    def _block(self, block: Sequence[int], widths: Sequence[int]) -> Table:
        made = Table(box=None, pad_edge=False, padding=(0, _GAP, 0, 0), header_style="dim")
        for i, width in zip(block, widths, strict=True):
            made.add_column(
                self.columns[i],
                justify="left" if i < self.left or not self.columns[i] else "right",
                width=width,
                overflow="fold",
            )
        for row in self.rows:
            made.add_row(*(row[i] for i in block))
        return made


#: Spaces between columns, and the minimum width of text columns with longer texts.
_GAP, _TEXT = 2, 16


def _blocks(least: Sequence[int], room: int) -> list[list[int]]:
    """Split columns into blocks that fit side by side, with the first column in each."""
    blocks = [[0]]
    for i in range(1, len(least)):
        if sum(least[k] + _GAP for k in (*blocks[-1], i)) - _GAP > room and len(blocks[-1]) > 1:
            blocks.append([0])
        blocks[-1].append(i)
    return blocks


def _shared(ranges: Sequence[tuple[int, int]], room: int) -> list[int]:
    """Return widths between minimum and maximum; spare space goes first to the columns that need
    least.
    """
    widths = [least for least, _ in ranges]
    spare = room - sum(width + _GAP for width in widths) + _GAP
    for i in sorted(range(len(ranges)), key=lambda i: ranges[i][1] - ranges[i][0]):
        more = min(max(spare, 0), ranges[i][1] - widths[i])
        widths[i], spare = widths[i] + more, spare - more
    return widths


def cells_of(frame: "pd.DataFrame", names: Sequence[str]) -> list[list[str]]:
    """Format cells of customers by the kind of their column; a user's columns by their values."""
    kinds = [of_customers(name) for name in names]
    return [
        [
            wording.cell(value, known.kind if known else None)
            for known, value in zip(kinds, row, strict=True)
        ]
        for row in frame[list(names)].to_numpy(dtype=object)
    ]


#: Number of rows of a part shown on a terminal.
ROWS_SHOWN = 40


def part_view(name: str, frame: "pd.DataFrame", count: int) -> RenderableType:
    """Show a table of a result as in a file: its columns in order, and the first of ``count``
    rows.
    """
    names = [str(column) for column in frame.columns]
    kinds = [kind_in(frame, column) for column in frame.columns]
    rows = [
        [wording.cell(value, kind) for kind, value in zip(kinds, row, strict=True)]
        for row in frame.head(ROWS_SHOWN).to_numpy(dtype=object)
    ]
    texts = [frame.iloc[:, i].dtype.kind not in "iuf" for i in range(len(names))]
    left = next((i for i, text in enumerate(texts) if not text), len(names))
    more = f"; the first {ROWS_SHOWN} are shown" if count > ROWS_SHOWN else ""
    title = f"{name.replace('_', ' ').replace('-', ' ').capitalize()}: {wording.counted(count, 'rows')}{more}"
    return table(title, [column.replace("_", " ") for column in names], rows, left=max(left, 1))


def stance_text(stance: str, *words: tuple[str, str]) -> Text:
    """Return a dot in the stance's colour, then the stance's name or other styled words."""
    colours = (
        palette.STANCE_NAMES if Console().color_system == "standard" else palette.STANCE_COLOURS
    )
    return Text.assemble(
        ("● ", colours.get(stance, "")),
        *((wording.plain(word), style) for word, style in words or [(stance, "")]),
    )

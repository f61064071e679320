"""What a command shows: tables for people on a screen, plain CSV into a pipe, notes on standard error."""

import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import typer
from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from fairladder import looks
from fairladder.cli.options import Request, until_the_end
from fairladder.errors import UsageError

if TYPE_CHECKING:
    from pathlib import Path

    import pandas as pd

    from fairladder.order_book import Orders


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
        print(looks.plain(text), file=sys.stderr)


def opened(
    request: Request, parts: tuple[str, ...], figures: bool = False, *, outputs: "Mapping[str, Path | None] | None" = None,
    inputs: "Sequence[str | Path | None]" = (),
) -> "Orders":  # fmt: skip
    """The orders, once it is sure that the outputs asked for can be; with ``--show-sql`` their SQL, and that is all.

    ``outputs`` (option → path) and ``inputs`` are those that only this command has.
    """
    _check_targets(request, parts, figures)
    orders = request.open()
    until_the_end(orders.engine.moment())  # so that all figures of a command are of one
    _check_apart(request, orders, outputs or {}, inputs)
    if request.show_sql:
        print(orders.sql())
        raise typer.Exit(0)
    return orders


def _check_apart(
    request: Request, orders: "Orders", outputs: "Mapping[str, Path | None]", inputs: "Sequence[str | Path | None]"
) -> None:
    """Raise UsageError where a file would be written that is read, or two into one."""
    from fairladder.targets import require_apart, require_place, settings_path

    out = request.out if request.out not in (None, "-") else None
    beside = settings_path(out) if out and out.lower().endswith(".csv") else None
    asked = {"--out": out, "the settings beside --out": beside, "--figure": request.figure, **outputs}
    written = {name: path for name, path in asked.items() if path is not None}
    for path in written.values():
        require_place(path)
    campaigns = orders.scheme.campaigns
    listed = [f for c in campaigns for f in (*c.exclude, *c.contacted)]
    require_apart(written, [f for f in (*orders.input_files, request.scheme, *listed, *inputs) if f is not None])


def _check_targets(request: Request, parts: tuple[str, ...], figures: bool) -> None:
    """Raise UsageError for outputs that cannot be, before any work is done."""
    from fairladder.cli.options import known_part
    from fairladder.targets import format_of, require_place

    known_part(request.part, parts)
    if request.out not in (None, "-"):
        format_of(str(request.out))
        require_place(str(request.out))
    if request.figure is None:
        return
    if not figures:
        raise UsageError("This command draws no figure; `fairladder score` does.")
    if request.figure.suffix.lower() not in (".png", ".svg", ".pdf"):
        raise UsageError(f"--figure {request.figure}: figures are drawn as .png, .svg or .pdf.")
    require_place(request.figure)


def give(
    request: Request,
    orders: "Orders",
    parts: "Mapping[str, pd.DataFrame]",
    view: Sequence[RenderableType],
    whole: Mapping[str, Any] | None = None,
    notes: Sequence[str] = (),
    told: Mapping[str, Any] | None = None,
    safe: bool = False,
    seen: Sequence[str] = (),
) -> None:
    """Hand over a result: to the file asked for, as CSV into a pipe, or as ``view`` on the screen.

    ``whole`` is what a JSON file holds, where that is more than the facts and all parts; ``notes`` is what this result
    has to say beside the notes of the orders (of which ``view`` shows those in ``seen`` itself), ``told`` more facts; ``safe``
    says whether CSV is made safe for spreadsheets unless the person decides.
    """
    from fairladder.files import as_json, csv_text, made_safe, write
    from fairladder.orders.signs import sentences
    from fairladder.targets import format_of, replacing

    decimals = orders.scheme.money.decimals
    facts = orders.facts()
    facts = {**facts, "notes": [*facts["notes"], *notes], **(told or {})}
    safe = safe if request.spreadsheet_safe is None else request.spreadsheet_safe
    chosen = request.part or next(iter(parts))
    errors = sentences([f for f in orders.findings if f.level == "error"])
    for text in errors:
        print(looks.plain(text), file=sys.stderr)
    if request.out not in (None, "-"):
        out = str(request.out)
        if whole is not None and request.part is None and format_of(out) == "json":
            with replacing(out) as beside:
                beside.write_text(as_json(whole), "utf-8")
        else:
            write(parts, out, part=request.part, decimals=decimals, facts=facts, spreadsheet_safe=safe)
        note(request, f"Wrote {out}: {len(parts[chosen]):,} rows ({chosen.replace('_', ' ')}).")
    elif not for_people(request):
        sys.stdout.write(csv_text(made_safe(parts[chosen]) if safe else parts[chosen], decimals))
        sys.stdout.flush()
    shown = {*errors, *(seen if for_people(request) else ())}
    below = {**facts, "notes": [n for n in facts["notes"] if n not in shown]}
    if for_people(request):
        show(*view, footer(orders, below))
    else:
        for line in footer(orders, below).plain.splitlines():
            note(request, line)
    if errors:
        raise typer.Exit(1)


def show(*view: RenderableType) -> None:
    """Print for people, each piece set off by a blank line."""
    console = Console(highlight=False, markup=False, emoji=False, width=None if sys.stdout.isatty() else 110)
    for piece in view:
        console.print(piece)
        console.print()


def footer(orders: "Orders", facts: Mapping[str, Any]) -> Text:
    """The day of reckoning, the rows read, and what else has to be said."""
    lines = [
        f"{looks.reckoning(orders.as_of, orders.as_of_from)}. {looks.rows_read(facts['balance'])}. Source: {facts['source']}."
    ]
    return Text(looks.plain("\n".join([*lines, *facts["notes"]])), style="dim")


def table(title: str, columns: Sequence[str], rows: Sequence[Sequence[str | Text]], left: int = 1) -> Group:
    """A plain table under a title that says the finding; the first ``left`` columns are text, the rest numbers."""
    made = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim")
    for i, name in enumerate(columns):
        made.add_column(looks.plain(name), justify="left" if i < left else "right", no_wrap=i == 0, overflow="fold")
    for row in rows:
        made.add_row(*(looks.plain(cell) if isinstance(cell, str) else cell for cell in row))
    return Group(Text(looks.plain(title), style="bold"), made)


def stance_text(stance: str, *words: tuple[str, str]) -> Text:
    """A dot in the stance's colour, then the stance's name or other words with their styles."""
    return Text.assemble(
        ("● ", looks.STANCE_COLOURS.get(stance, "")),
        *((looks.plain(word), style) for word, style in words or [(stance, "")]),
    )

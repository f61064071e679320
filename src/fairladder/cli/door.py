"""Open the orders and write the results of every command; outputs are checked before any work is
done.
"""

import datetime as dt
import json
import sys
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from importlib import import_module
from threading import Thread
from typing import TYPE_CHECKING, Any, Literal

import typer
from rich.console import RenderableType

from fairladder import wording
from fairladder.cli import screen
from fairladder.cli.options import Request, leave_early, until_the_end
from fairladder.errors import UsageError
from fairladder.output.listing import Listing

if TYPE_CHECKING:
    from pathlib import Path

    import pandas as pd
    from matplotlib.figure import Figure

    from fairladder.api import Orders
    from fairladder.book.opened import Opened
    from fairladder.book.read import Keep
    from fairladder.findings import Finding
    from fairladder.output.result import Result
    from fairladder.output.tables import TableAddress

    Part = pd.DataFrame | Listing


#: ``--fail-on`` → levels of findings that make a command exit with 1.
FAIL_ON = {"error": {"error"}, "warning": {"error", "warning"}, "never": set[str]()}


def opened(
    request: Request, parts: tuple[str, ...], figures: bool = False, *,
    outputs: "Mapping[str, Path | None] | None" = None,
    inputs: "Sequence[str | Path | None]" = (), keep: "Keep" = None, ahead: Sequence[str] = (),
    frames: bool = True,
    spread: bool = False,
    shows: "Literal['window', 'periods', 'both']" = "window",
) -> "Orders":  # fmt: skip
    """Read the orders after checking that the requested outputs are possible; with ``--show-sql``
    print their SQL and exit.

    ``outputs`` (option → path) and ``inputs`` are those of this command only; ``keep`` is what
    reading keeps for it, ``ahead`` the modules that it will need. Without ``frames`` it needs
    pandas neither for CSV nor for Parquet. ``spread`` means that an engine that writes parts writes
    ``--out``; ``shows`` says which orders the command's figures cover.
    """
    from fairladder.cli.asking import with_answers

    written = str(request.out or "-").lower().endswith(("-", ".csv", ".parquet"))
    if frames or screen.for_people(request) or not written:
        ahead = ("pandas", *ahead)
    spread = spread and request.on_cluster
    _check_targets(request, parts, figures, spread)
    return with_answers(
        lambda answers: _opened(
            request.answered(answers), outputs or {}, inputs, keep, ahead, spread, shows
        )
    )


def _opened(
    request: Request, outputs: "Mapping[str, Path | None]", inputs: "Sequence[str | Path | None]",
    keep: "Keep",
    ahead: Sequence[str], spread: bool, shows: "Literal['window', 'periods', 'both']",
) -> "Orders":  # fmt: skip
    from fairladder.api import Orders
    from fairladder.book.read import read

    importing_ahead(*ahead)
    orders = replace(request.opened(), shows=shows)
    until_the_end(orders.engine.moment())  # so that all figures of a command are consistent
    _check_distinct(request, orders, outputs, inputs, spread)
    if request.show_sql:
        from fairladder.book.shown_sql import reduction_sql

        print(reduction_sql(orders) + ";")
        raise typer.Exit(0)
    if spread:
        _require_parts(request, orders)
    with screen.busy(request, "Reading the orders", orders.engine, orders.source.row_count):
        done = read(orders, keep, kind=Orders)
    if done.kept_note:
        screen.note(request, done.kept_note)
    if done.engine is done.engine.reader and keep != "rows":
        looking_ahead(done)
    return done


def _require_parts(request: Request, orders: "Opened") -> None:
    """Raise UsageError, before anything is read, if ``--out`` is not a folder of parts that the
    engine can write.
    """
    from fairladder.engine.addresses import local_path
    from fairladder.output.listing import kind_of_parts

    writer = orders.engine.customer_engine.parts_writer
    if writer is None:
        return
    if request.out not in (None, "-"):
        kind_of_parts(str(request.out))
        writer.require_own(str(request.out))
        folder = local_path(str(request.out))
        if folder is not None and any(
            folder.resolve() in (file.resolve(), *file.resolve().parents)
            for file in orders.input_files
        ):
            raise UsageError(
                f"--out {request.out} contains files that are read. Inputs are never "
                "changed; name another folder."
            )
    elif not screen.for_people(request):
        raise UsageError(
            "Customers stay on the cluster, so they are not printed. Pass --out "
            "NAME.parquet or NAME.csv, a folder of parts that the executors write."
        )


def looking_ahead(orders: "Orders") -> None:
    """Look for findings while the command works on its result, since the engine releases Python's
    lock most of the time.
    """

    def look() -> None:
        with suppress(Exception):  # errors are raised where the findings are shown
            orders.findings  # noqa: B018

    # not a daemon: the engine must not be cut off when the command ends
    Thread(target=look).start()


def importing_ahead(*modules: str) -> None:
    """Import slow modules while the engine works; that saves a third of a small command's time."""
    Thread(target=lambda: list(map(import_module, modules)), daemon=True).start()


def _check_distinct(
    request: Request,
    orders: "Opened",
    outputs: "Mapping[str, Path | None]",
    inputs: "Sequence[str | Path | None]",
    spread: bool,
) -> None:
    """Raise UsageError if an output would overwrite an input, or two outputs are one file."""
    from fairladder.output.tables import require_table, table_address
    from fairladder.output.targets import require_distinct_files, require_place, settings_path

    if (table := table_address(request.out)) is not None:
        _require_other_table(table, request, orders)
        require_table(table, request.mode)
    # A folder of parts on the cluster is checked by the cluster.
    out = request.out if request.out not in (None, "-") and table is None and not spread else None
    settings_file = settings_path(out) if out and out.lower().endswith(".csv") else None
    outputs_by_option = {
        "--out": out,
        "the settings next to --out": settings_file,
        "--figure": request.figure,
        "--facts": request.facts,
        "--log": request.log,
        **outputs,
    }
    written = {name: path for name, path in outputs_by_option.items() if path is not None}
    for path in written.values():
        require_place(path)
    campaigns = orders.scheme.campaigns
    listed = [f for c in campaigns for f in (*c.exclude, *c.contacted)]
    require_distinct_files(
        written,
        [f for f in (*orders.input_files, request.scheme, *listed, *inputs) if f is not None],
    )


def _require_other_table(table: "TableAddress", request: Request, orders: "Opened") -> None:
    """Raise UsageError if the output table is the one that is read."""
    from fairladder.engine.addresses import checked_url

    read = orders.scheme.orders.table
    if (
        read is None
        or "://" not in request.orders
        or checked_url(table.url, new_file=True) != checked_url(request.orders)
    ):
        return
    if table.table == read.rpartition(".")[2] and (table.schema or "") == read.rpartition(".")[0]:
        raise UsageError(
            f"--out names the table `{read}`, which is read. Inputs are never changed; name "
            "another table."
        )


def _check_targets(request: Request, parts: tuple[str, ...], figures: bool, spread: bool) -> None:
    """Raise UsageError for impossible outputs, before any work is done."""
    from fairladder.cli.options import known_part
    from fairladder.output.tables import table_address
    from fairladder.output.targets import format_of, require_place

    known_part(request.part, parts)
    mode, table = request.mode, table_address(request.out)
    if mode is not None and table is None:
        raise UsageError(
            "--replace and --append need a table of a database: --out "
            "'postgresql://host/shop#scores'."
        )
    if request.out not in (None, "-") and table is None and not spread:
        format_of(str(request.out))
        require_place(str(request.out))
    if request.figure is None:
        return
    if not figures:
        raise UsageError("This command draws no figure; `fairladder score` does.")
    if request.figure.suffix.lower() not in (".png", ".svg", ".pdf"):
        raise UsageError(f"--figure {request.figure}: figures are written as .png, .svg or .pdf.")
    require_place(request.figure)


def give(
    request: Request,
    orders: "Orders | None",
    parts: "Mapping[str, Part]",
    view: Sequence[RenderableType],
    *,
    whole: Mapping[str, Any] | None = None,
    notes: Sequence[str] = (),
    more_facts: Mapping[str, Any] | None = None,
    safe: bool = False,
    seen: Sequence[str] = (),
    figure: "Callable[[], Figure] | None" = None,
    drew: str = "",
    write: "Callable[[], None] | None" = None,
    findings: "Sequence[Finding] | None" = None,
    show_findings: bool = True,
    as_table: bool = False,
) -> None:
    """Output a result: to the requested file, as CSV into a pipe, or as ``view`` on the terminal;
    and its figure.

    ``whole`` is the content of a JSON file, if it is more than the facts and all parts; ``notes``
    are those of this result besides the orders' notes (``view`` shows those in ``seen`` itself),
    ``more_facts`` are added; ``safe`` says whether CSV is made safe for spreadsheets by default;
    ``drew`` follows the figure's name in the message; ``write`` writes a result that is more than
    tables. Without ``orders`` there are no facts. The findings of the orders, or ``findings``, are
    printed below, on standard error, unless the view shows them itself. With ``--part`` or
    ``as_table`` a terminal shows the table that a file would contain instead of the view.

    Exits with code 1 if a finding has a level that ``--fail-on`` names.
    """
    from fairladder.output.files import style_of
    from fairladder.output.result import Result
    from fairladder.output.sheet import CsvStyle
    from fairladder.output.targets import replacing

    findings = () if orders is None else orders.findings if findings is None else findings
    if screen.for_people(request) and parts and (request.part is not None or as_table):
        part = request.part or next(
            iter(parts)
        )  # on a terminal, requested parts are shown as in a file
        view, show_findings = (
            [screen.part_view(part, _shown_part(parts[part]), len(parts[part]))],
            True,
        )
    facts = _facts(orders, notes, more_facts)
    decimals = 2 if orders is None else orders.scheme.money.decimals
    csv = CsvStyle() if orders is None else style_of(orders.scheme)
    if request.fail_on not in FAIL_ON:
        raise UsageError(f"--fail-on {request.fail_on}: there are {', '.join(FAIL_ON)}.")
    if request.facts is not None and facts is not None:
        with replacing(request.facts) as temporary:
            temporary.write_text(json.dumps(facts, ensure_ascii=False) + "\n", "utf-8")
    if write is not None:
        write()
    else:
        guarded = safe if request.spreadsheet_safe is None else request.spreadsheet_safe
        _write(request, Result(parts, facts, decimals, csv, whole), guarded)
    foot = [] if facts is None or orders is None else [screen.footer(orders, facts)]
    if screen.for_people(request):
        screen.show(*view, *foot)
    else:
        for piece in foot:
            screen.note(request, piece.plain)
    for text in _below(request, orders, notes, seen, findings if show_findings else None):
        screen.finding(request, text)
    if request.figure is not None and figure is not None:
        draw(request.figure, figure())
        screen.note(request, f"Drew {request.figure}{drew}.")
    levels = {f.level for f in findings}
    if levels & FAIL_ON[request.fail_on]:
        raise typer.Exit(1)


#: Number of findings and of notes shown unless all are requested.
MOST_NOTES = 3


def _below(
    request: Request,
    orders: "Orders | None",
    notes: Sequence[str],
    seen: Collection[str],
    findings: "Sequence[Finding] | None",
) -> list[str]:
    """Return the sentences below a result: errors, guessed columns, the warnings with most money
    and how the file was read; then ``notes``, which are about the result itself, warnings first.

    All errors and guessed columns are shown, and a few of the others unless all are requested.

    ``findings`` is None if the view shows errors and warnings itself, as it does ``seen``.
    """
    from fairladder.findings import sentences

    serious = sorted(findings or (), key=lambda f: -float(f.money or 0))
    found, first = sentences(serious), sum(f.level == "error" for f in serious)
    limit = None if request.all_notes else MOST_NOTES
    most = limit and max(limit, first)
    if orders is not None:
        guessed = [f.sentence for f in orders.reading_findings if f.code == "guessed-columns"]
        found[first:first], most = guessed, most and most + len(guessed)
        others = [f for f in orders.findings if f.level == "note"]
        reading = orders.reading_findings
        found += [orders.not_looked_for] if orders.not_looked_for else []
        found += [f.sentence for f in sorted(reading, key=lambda f: f.code == "reading")]
        found += [f.sentence for f in others if request.all_notes and f not in reading]
    skipped = set(seen) if screen.for_people(request) else set()
    found, own = (
        [text for text in dict.fromkeys(texts) if text not in skipped]
        for texts in (found, sorted(notes, key=lambda n: not n.startswith("Warning:")))
    )
    shown = [*found[:most], *own[:limit]]
    more = len(found) + len(own) - len(shown)
    return [*shown, *([f"{more} more: show them with --all-notes."] if more else [])]


def draw(path: "Path", figure: "Figure") -> None:
    """Write a figure to a file. If that fails, no file is left or changed."""
    from fairladder.output.targets import replacing

    with replacing(path) as temporary:
        figure.savefig(temporary)


def _facts(
    orders: "Orders | None", notes: Sequence[str], more_facts: Mapping[str, Any] | None
) -> dict[str, Any] | None:
    if orders is None:
        return None
    facts = orders.facts()
    return {**facts, "notes": [*facts["notes"], *notes], **(more_facts or {})}


def _shown_part(part: "Part") -> "pd.DataFrame":
    """Return the first rows of a part."""
    return part.frame(screen.ROWS_SHOWN) if isinstance(part, Listing) else part


def _write(request: Request, result: "Result", safe: bool) -> None:
    from fairladder.output.files import as_json, frame_of
    from fairladder.output.tables import table_address, write_table

    table, out, parts = table_address(request.out), request.out, result.parts
    if table is None and out is None and screen.for_people(request):
        return
    chosen = result.chosen(request.part) if parts else ""
    listed = parts[chosen] if isinstance(parts.get(chosen), Listing) else None
    if (
        isinstance(listed, Listing)
        and listed.engine.parts_writer is not None
        and table is None
        and out not in (None, "-")
    ):
        with screen.busy(request, "Writing", listed.engine):
            listed.write_parts(str(out), result.decimals, as_json(dict(result.facts or {})))
        screen.note(request, f"Wrote the parts of {out}.")
    elif table is not None:
        as_of = dt.date.fromisoformat(text) if (text := (result.facts or {}).get("as_of")) else None
        leave_early()  # a reader of a SQLite file would notice the change
        rows = write_table(
            frame_of(parts[chosen]), table, as_of, mode=request.mode, decimals=result.decimals
        )
        screen.note(
            request,
            f"Wrote {wording.counted(rows, 'rows')} ({chosen.replace('_', ' ')}) to the "
            f"{table.label}.",
        )
    elif out not in (None, "-"):
        result.to_file(str(out), part=request.part, spreadsheet_safe=safe)
        counted = wording.counted(len(parts[chosen]), "rows")
        screen.note(request, f"Wrote {out}: {counted} ({chosen.replace('_', ' ')}).")
    else:
        sys.stdout.write(result.as_csv(request.part, spreadsheet_safe=safe))
        sys.stdout.flush()

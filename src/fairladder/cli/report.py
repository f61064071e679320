"""``fairladder report``: the page and the workbook that an analyst hands on."""

import re
import shlex
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from fairladder import wording
from fairladder.cli.options import PseudonymKey, Request, option, secret_key, without_password
from fairladder.errors import UsageError

if TYPE_CHECKING:
    from rich.console import RenderableType

    from fairladder.report.contents import Contents

_OWN = "The report"
Then = Annotated[
    str | None,
    option(
        "--then",
        help=(
            "The day to compare with. Default: a year or a quarter earlier, if the orders reach "
            "back."
        ),
        metavar="DAY",
        panel=_OWN,
    ),
]
By = Annotated[
    str | None,
    option(
        "--by",
        help="The column by which to follow new customers. Default: the channel.",
        metavar="COLUMN",
        panel=_OWN,
    ),
]
Pseudonyms = Annotated[
    bool,
    option(
        "--pseudonyms",
        help=("Write pseudonyms instead of ids; omit names and columns of the customers file."),
        panel=_OWN,
    ),
]
Title = Annotated[
    str | None,
    option("--title", help="The title of the page and the workbook.", metavar="TEXT", panel=_OWN),
]


def report(
    request: Request,
    then: Then = None,
    by: By = None,
    pseudonyms: Pseudonyms = False,
    pseudonym_key: PseudonymKey = None,
    title: Title = None,
) -> None:
    """Write one page and one workbook that a manager can read unprepared (--out names one of
    them).
    """
    from fairladder.cli import door, screen

    secret = secret_key(pseudonym_key)
    files = _files(request)
    if request.part is not None:
        raise UsageError(
            "A report has no --part: the page and the workbook contain everything. Use "
            "`fairladder score --part` for one table."
        )
    orders = door.opened(
        request, (), outputs={} if request.out else {f"the {ending[1:]} file": file for ending,
        file in files.items()}, inputs=[pseudonym_key],
        keep="rows", ahead=("fairladder.report.contents", "fairladder.report.page"), shows="both",
    )  # fmt: skip
    with screen.busy(request, "Computing the report", orders.engine) as progress:
        from fairladder.report import write
        from fairladder.report.page import Made, page_of

        about = write.prepared(
            orders, then=then, by=by, pseudonyms=pseudonyms, pseudonym_key=secret, progress=progress
        )
        made = Made(
            shlex.join(["fairladder", *map(without_password, sys.argv[1:])]),
            write.digests_of(orders),
        )
    notes = []
    if pseudonyms and secret is None:
        notes.append(
            "The key of the pseudonyms was not kept, so they cannot be linked to ids, and "
            "the next report will have others. Use --pseudonym-key FILE to keep them the same."
        )
    if transfer := orders.customer_engine.transfer_note(
        orders.groups.customers, "to make the report"
    ):
        notes.append(transfer)

    def written() -> None:
        for ending, file in files.items():
            if request.out == "-":
                sys.stdout.write(page_of(about, made, title or about.title))
                continue
            write.save(about, file, made, title)
            kind = "the page" if ending == ".html" else "the workbook"
            screen.note(
                request,
                f"Wrote {file}: {kind} of {wording.counted(len(about.customers), 'customers')}.",
            )

    door.give(request, orders, {}, _view(about), notes=notes, write=written)


def _files(request: Request) -> dict[str, Path]:
    """Return suffix → file: the one that --out names, or both, named after the orders."""
    if request.out == "-":
        return {".html": Path("-")}
    if request.out is not None:
        path = Path(request.out)
        if path.suffix.lower() not in (".html", ".xlsx"):
            raise UsageError(
                f"--out {request.out}: a report is a page (.html) or a workbook (.xlsx); without "
                "--out it is both."
            )
        return {path.suffix.lower(): path}
    name = (
        re.sub(r"[^\w.-]+", "-", Path(request.orders).stem).strip("-.")
        if "://" not in request.orders
        else ""
    )
    stem = f"{name}-report" if name else "report"
    return {ending: Path(f"{stem}{ending}") for ending in (".html", ".xlsx")}


def _view(about: "Contents") -> "list[RenderableType]":
    """Show the answer at the top of the page."""
    from rich.text import Text

    from fairladder.cli.screen import stance_text, table
    from fairladder.report.answer import answer_of, key_figure_words

    key = about.key_figures
    compared = f", compared with {key.compared}" if key.compared else ""
    figures = [[f.name, key_figure_words(about, f), f.change_in_words] for f in key.figures]
    lines = []
    for line in answer_of(about):
        words = [(f"{line.heading} ", "bold"), (line.text, "")]
        lines.append(
            stance_text(line.stance, *words) if line.stance else Text.assemble("  ", *words)
        )
    return [
        table(f"Key figures, {key.period}{compared}", ["figure", "value", "change"], figures),
        Text("\n").join(lines),
    ]

"""``fairladder start``: a first scheme for these orders."""

import sys
from pathlib import Path
from typing import Annotated

import typer

from fairladder.cli.options import with_errors_told
from fairladder.errors import DataError, UsageError

Orders = Annotated[
    str, typer.Argument(help="The orders, as for the other commands.", metavar="[ORDERS]", show_default=False)
]
Out = Annotated[Path, typer.Option("--out", help="The scheme to write; never over another file.", metavar="FILE")]
Column = Annotated[
    list[str] | None,
    typer.Option(
        "--column",
        help="A role that you know, as ROLE=NAME; may be given again.",
        metavar="ROLE=NAME",
        show_default=False,
    ),
]
Table = Annotated[
    str | None,
    typer.Option(
        "--table", help="Table of the database that ORDERS is the address of.", metavar="NAME", show_default=False
    ),
]
Query = Annotated[
    str | None,
    typer.Option("--query", help="SELECT that gives the rows, in place of a table.", metavar="SQL", show_default=False),
]
Schema = Annotated[bool, typer.Option("--json-schema", help="Print the JSON Schema of schemes, for editors, and stop.")]


def start(
    orders: Orders = "",
    out: Out = Path("scheme.toml"),
    column: Column = None,
    table: Table = None,
    query: Query = None,
    json_schema: Schema = False,
) -> None:
    """Guess which column plays which role, say why, and write a commented scheme that works at once."""
    rows = {name: value for name, value in (("table", table), ("query", query)) if value}
    with_errors_told(lambda: _print_schema() if json_schema else _start(orders, out, column or [], rows))


def _print_schema() -> None:
    from fairladder.files import as_json
    from fairladder.scheme import Scheme

    sys.stdout.write(as_json(Scheme.model_json_schema()))


def _start(orders: str, out: Path, columns: list[str], rows_of: dict[str, str]) -> None:
    from rich.text import Text

    from fairladder import looks
    from fairladder.beginning import begin
    from fairladder.cli import screen
    from fairladder.targets import replacing

    if not orders:
        raise UsageError("Name the orders: fairladder start ORDERS.")
    if out.exists():
        raise UsageError(f"{str(out)!r} is there already and is not overwritten. Name another with --out.")
    given = dict(part.partition("=")[::2] for part in columns)
    begun = begin(orders, {**given, **rows_of})
    with replacing(out) as beside:
        beside.write_text(begun.toml, "utf-8")
    rows: list[list[str | Text]] = [[role, name, Text(why, style="dim")] for role, name, why in begun.roles]
    title = f"Which column is what? {len(rows)} roles, now in {out}"
    screen.show(screen.table(title, ["role", "column", "why"], rows, left=3))
    ready = f" The condition stands ready in {out}, behind a `#`." if "# where" in begun.toml else ""
    for told in begun.findings:
        screen.show(Text(looks.plain(told) + ready))
    if begun.trouble:
        raise DataError(f"The scheme is written, but something is to settle first. {begun.trouble}")
    balance = begun.balance
    again = "URL" if "://" in orders else orders  # an address may hold a password
    used = looks.percent(balance["used"] / balance["rows_read"]) if balance["rows_read"] else "none"
    screen.show(
        Text(
            f"Tried on the orders: {looks.rows_read(balance)} ({used} used). Next: fairladder check {again} --scheme {out}"
        )
    )

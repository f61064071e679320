"""``fairladder start``: write a first scheme for these orders."""

import os
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from fairladder.cli.options import (
    as_options,
    hidden_setting,
    parameter,
    report_errors,
    settings_given,
)
from fairladder.errors import DataError, UsageError
from fairladder.settings import with_option

Orders = Annotated[
    str,
    typer.Argument(
        help="The orders, as for the other commands.", metavar="[ORDERS]", show_default=False
    ),
]
Out = Annotated[
    Path,
    typer.Option(
        "--out",
        help=(
            "The scheme file to write; existing files are never overwritten; - is standard output."
        ),
        metavar="FILE",
    ),
]
Customers = Annotated[
    Path | None,
    typer.Option(
        "--customers",
        help="A file with one row per customer, for the scheme's [customers].",
        metavar="FILE",
    ),
]
AllowSetAside = Annotated[
    bool,
    typer.Option(
        "--allow-set-aside", help="Continue even if over 20 % of the rows cannot be used."
    ),
]
Schema = Annotated[
    bool,
    typer.Option("--json-schema", help="Print the JSON Schema of schemes, for editors, and stop."),
]


def start(**given: Any) -> None:
    """Guess the columns' roles, with reasons, and write a commented scheme that works
    immediately.
    """

    def run_start() -> None:
        settings = settings_given(_SETTINGS, given)
        if given["json_schema"]:
            _print_schema()
        else:
            known = settings.get("orders", {})
            if given["allow_set_aside"]:
                known["allow"] = [*known.get("allow", []), "set-aside"]
            _start(given["orders"], given["out"], known, given["customers"])

    report_errors(run_start)


_SETTINGS = with_option("orders")
as_options(
    start,
    [
        parameter("orders", "", Orders), parameter("out", Path("scheme.toml"), Out),
        parameter("customers", None, Customers),
        *map(hidden_setting, _SETTINGS),
        parameter("allow_set_aside", False, AllowSetAside), parameter("json_schema", False, Schema),
    ],
)  # fmt: skip


def _print_schema() -> None:
    from fairladder.output.files import as_json
    from fairladder.scheme import Scheme

    sys.stdout.write(as_json(Scheme.model_json_schema()))


def _start(orders: str, out: Path, given: dict[str, Any], customers: Path | None) -> None:
    from rich.text import Text

    from fairladder import wording
    from fairladder.cli import screen
    from fairladder.cli.asking import ask, is_interactive
    from fairladder.output.targets import replacing
    from fairladder.start.trial import try_first_scheme

    if not orders:
        raise UsageError("Name the orders: fairladder start ORDERS.")
    if str(out) != "-" and out.exists():
        raise UsageError(
            f"{str(out)!r} exists already and is not overwritten. Name another file with --out."
        )
    name = "" if customers is None else os.path.relpath(customers, out.parent)
    begun = try_first_scheme(orders, given, customers, name)
    while (
        (question := begun.question) is not None and question.key not in given and is_interactive()
    ):
        answer = ask(question)
        if answer is None:
            break
        given = {**given, **question.settings(answer)}
        begun = try_first_scheme(orders, given, customers, name)
    if str(out) == "-":
        sys.stdout.write(begun.toml)
        if begun.trouble:
            raise DataError(
                "The scheme is written, but one thing must be completed before it can be "
                f"used. {begun.trouble}"
            )
        return
    with replacing(out) as temporary:
        temporary.write_text(begun.toml, "utf-8")
    rows: list[list[str | Text]] = [
        [role, name, Text(why, style="dim")] for role, name, why in begun.roles
    ]
    title = f"Which column is what? {len(rows)} roles, now in {out}"
    screen.show(screen.table(title, ["role", "column", "why"], rows, left=3))
    ready = (
        f". The condition is in {out}, too, commented out." if "\n# where = " in begun.toml else ""
    )
    for sentence in begun.findings:
        screen.show(Text(wording.plain(sentence) + (ready if "--where" in sentence else "")))
    if begun.trouble:
        raise DataError(
            "The scheme is written, but one thing must be completed before it can be used. "
            f"{begun.trouble}"
        )
    balance = begun.balance
    again = "URL" if "://" in orders else orders  # an address may contain a password
    used = (
        wording.percent(balance["used"] / balance["rows_read"]) if balance["rows_read"] else "none"
    )
    screen.show(
        Text(
            f"Tried on the orders: {wording.rows_read(balance)} ({used} used). Next: fairladder "
            f"check {again} --scheme {out}"
        )
    )

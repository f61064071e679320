"""The list of commands. Heavy imports happen only in the command that needs them."""

import errno
import gc
import io
import os
import signal
import sys
from dataclasses import dataclass
from importlib import import_module
from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from fairladder import __version__
from fairladder.cli.helping import epilog, show_help
from fairladder.cli.options import command
from fairladder.errors import nearest
from fairladder.scratch import sweep_temporary


@dataclass(frozen=True)
class _Command:
    """A command: its sentence in the list, and how to build it from the function in the module of
    its name.
    """

    summary: str
    plain: bool = False
    """True if it has none of the shared options."""
    needs_orders: bool = True
    part: str = ""
    """The part of the scheme whose options belong to this command."""


#: In the order of the help. A command's module is imported when the command runs.
COMMANDS = {
    "demo": _Command("Try the whole workflow on a sample shop.", plain=True),
    "start": _Command(
        "Write a first scheme for your orders, with the reason for each guess.", plain=True
    ),
    "check": _Command("Are these orders fit for use?"),
    "customers": _Command("One row per customer: recency, frequency, spend and shares."),
    "top": _Command("The best or worst customers by any measure."),
    "score": _Command("Scores, segments, and which customers to keep, win back or leave alone."),
    "orders": _Command("One row per order: first or repeat, gap, share."),
    "growth": _Command("New customers, first and repeat revenue, flat spells."),
    "retention": _Command("Do customers come back? Cohorts, rates, and number of orders."),
    "breakdown": _Command("Cross-tabulate orders by any two columns or bands."),
    "value": _Command(
        "What is a customer worth, to date and in the future?", needs_orders=False, part="value"
    ),
    "campaign": _Command(
        "Which customers to contact, which to hold out, and did it work?", part="campaigns"
    ),
    "compare": _Command(
        "Who changed segment between two days, and why did spend change?", needs_orders=False
    ),
    "explain": _Command("Why is this customer in that segment?"),
    "report": _Command("A page and a workbook to hand on."),
    "help": _Command(
        "Shared options, all keys of a scheme, and answers to common questions.", plain=True
    ),
}


class _Commands(TyperGroup):
    """Commands that are built on demand, and their list as plain text, so that help appears
    quickly.
    """

    def list_commands(self, ctx: Any) -> list[str]:  # noqa: ARG002  # as Typer calls it
        """Return all names, in the order of the work."""
        return list(COMMANDS)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:  # noqa: ARG002
        """Return the command of a name, or None."""
        if cmd_name in COMMANDS and cmd_name not in self.commands:
            self.commands[cmd_name] = _made(cmd_name)
        return self.commands.get(cmd_name)

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Return the command that the first word names; suggest the most similar one if it does not
        exist.
        """
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            ctx.fail(f"No such command {args[0]!r}. {nearest(args[0], COMMANDS)}")
        return super().resolve_command(ctx, args)

    def format_help(self, ctx: Any, formatter: Any) -> None:
        """Write the help of the whole program."""
        self.rich_markup_mode = None
        super().format_help(ctx, formatter)

    def format_commands(self, ctx: Any, formatter: Any) -> None:  # noqa: ARG002
        """Write the commands with their sentences."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, one.summary) for name, one in COMMANDS.items()])


def _made(name: str) -> Any:
    """Build the command of this name as a Typer application of its own."""
    one = COMMANDS[name]
    work = show_help if name == "help" else getattr(import_module(f"fairladder.cli.{name}"), name)
    alone = typer.Typer(add_completion=False, context_settings=_SETTINGS)
    function = work if one.plain else command(work, needs_orders=one.needs_orders, part=one.part)
    alone.command(
        name, short_help=one.summary, epilog=epilog(name, shares=name not in ("demo", "help"))
    )(function)
    return typer.main.get_command(alone)


_SETTINGS = {"help_option_names": ["-h", "--help"]}
app = typer.Typer(
    cls=_Commands,
    epilog="Exit codes: 0 done; 1 the data does not allow it, or a finding is an error; 2 wrong usage; 130 stopped.",
    no_args_is_help=True,
    add_completion=True,
    pretty_exceptions_enable=False,
    context_settings=_SETTINGS,
)


def _print_version(requested: bool) -> None:
    if requested:
        print(f"fairladder {__version__}")
        raise typer.Exit(0)


@app.callback()
def _program(
    version: Annotated[
        bool,
        typer.Option(
            "--version", help="Print the version and stop.", callback=_print_version, is_eager=True
        ),
    ] = False,  # its callback does it
) -> None:
    """From a table of orders to scored, segmented customers: totals that add up, equal
    customers treated equally.
    """


def main() -> None:
    """Run the command line. A stop signal ends it like an error, so that no file is half
    written.
    """
    # Our matrices are tiny, and threads would compete for them; this must be set before NumPy is
    # imported.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    # A command creates many small objects that live to its end: collecting garbage every 700 costs
    # a tenth of its time.
    gc.set_threshold(100_000)
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    sys.stdout, sys.stderr = sys.stdout or _Closed(), sys.stderr or open(os.devnull, "w")  # noqa: SIM115
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace" if stream is sys.stderr else "replace")
    sweep_temporary()
    app()


class _Closed(io.TextIOBase):
    """Stands in for standard output that was closed before the program began: writing to it is an
    error.
    """

    def write(self, _text: str) -> int:
        """Raise an error as for a broken pipe."""
        raise OSError(errno.EBADF, "standard output is closed; open it, or name a file with --out")

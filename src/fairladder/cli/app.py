"""The commands, gathered. Heavy imports happen in the command that needs them."""

import errno
import io
import os
import signal
import sys
from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from fairladder import __version__
from fairladder.cli import (
    breakdown,
    campaign,
    check,
    compare,
    customers,
    demo,
    explain,
    growth,
    orders,
    retention,
    score,
    start,
    top,
    value,
)
from fairladder.cli.helping import epilog, show_help
from fairladder.cli.options import command
from fairladder.scratch import sweep_temporary


class _QuickHelp(TyperGroup):
    """The list of commands as plain text: drawing it with Rich would double the time to the answer."""

    def format_help(self, ctx: Any, formatter: Any) -> None:
        """Write the help of the whole program."""
        self.rich_markup_mode = None
        super().format_help(ctx, formatter)


app = typer.Typer(
    cls=_QuickHelp,
    no_args_is_help=True,
    add_completion=True,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)
app.command("demo", short_help="The sample shop, and the whole example on it.")(demo.demo)
app.command("start", short_help="A first scheme for your orders, each guess explained.")(start.start)
app.command("check", short_help="Are these orders fit to use?", epilog=epilog("check"))(command(check.check))
app.command("customers", short_help="One row per customer.", epilog=epilog("customers"))(command(customers.customers))
app.command("top", short_help="The best or worst by any measure.", epilog=epilog("top"))(command(top.top))
app.command("score", short_help="Scores, segments, and what to do about whom.", epilog=epilog("score"))(
    command(score.score)
)
app.command("orders", short_help="One row per order: first or repeat, gap, share.", epilog=epilog("orders"))(
    command(orders.orders)
)
app.command("growth", short_help="New customers, first and repeat revenue, flat spells.", epilog=epilog("growth"))(
    command(growth.growth)
)
app.command(
    "retention",
    short_help="Who comes back: cohorts, rates, and how many orders customers reach.",
    epilog=epilog("retention"),
)(command(retention.retention))
app.command("breakdown", short_help="Any two columns or bands against each other.", epilog=epilog("breakdown"))(
    command(breakdown.breakdown)
)
app.command("value", short_help="What is a customer worth, so far and from here on?", epilog=epilog("value"))(
    command(value.value, needs_orders=False, part="value")
)
app.command(
    "campaign", short_help="Who gets the campaign, who is held out, and did it work?", epilog=epilog("campaign")
)(command(campaign.campaign, part="campaigns"))
app.command("compare", short_help="Who moved between two days, and why spend changed.", epilog=epilog("compare"))(
    command(compare.compare, needs_orders=False)
)
app.command("explain", short_help="Why is this customer in that segment?", epilog=epilog("explain"))(
    command(explain.explain)
)

app.command("help", short_help="What all commands share, and every key of a scheme.")(show_help)


def _print_version(asked: bool) -> None:
    if asked:
        print(f"fairladder {__version__}")
        raise typer.Exit(0)


@app.callback()
def _program(
    version: Annotated[
        bool, typer.Option("--version", help="Print the version and stop.", callback=_print_version, is_eager=True)
    ] = False,  # its callback does it
) -> None:
    """From a table of orders to scored, segmented customers: totals that add up, equal customers treated equally."""


def main() -> None:
    """Run the command line; a signal to stop ends it as an error does, so that nothing half done is left."""
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    sys.stdout, sys.stderr = sys.stdout or _Closed(), sys.stderr or open(os.devnull, "w")  # noqa: SIM115
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace" if stream is sys.stderr else "replace")
    sweep_temporary()
    app()


class _Closed(io.TextIOBase):
    """Standard output that was closed before we began: there is an error only where something has to be written to it."""

    def write(self, _text: str) -> int:
        """Refuse."""
        raise OSError(errno.EBADF, "standard output is closed; open it, or name a file with --out")

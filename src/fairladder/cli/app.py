"""The commands, gathered. Heavy imports happen in the command that needs them."""

import typer

from fairladder.cli import check, customers, demo, score
from fairladder.cli.options import command

app = typer.Typer(
    help="From a table of orders to scored, segmented customers: totals that add up, equal customers treated equally.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)
app.command("demo")(demo.demo)
app.command("check")(command(check.check))
app.command("customers")(command(customers.customers))
app.command("score")(command(score.score))


@app.callback()
def _fairladder() -> None:
    """From a table of orders to scored, segmented customers: totals that add up, equal customers treated equally."""


def main() -> None:
    """Run the command line."""
    app()

"""Help beyond a command's own options: what all commands share, every key of a scheme, and examples that run."""

import sys
from typing import Annotated

import typer

from fairladder.settings import COLUMNS, OUTPUT, SETTINGS, WINDOW, WRITING

#: Group of shared options → its heading, and the most wanted of them.
GROUPS = {
    "rows": (WINDOW, "--scheme --customers --as-of --from --through --where"),
    "output": (OUTPUT, "--out --part --figure --quiet --show-sql"),
    "columns": (COLUMNS, "--customer-column --placed-column --amount-column"),
    "writing": (WRITING, "--date-format --decimal-mark --sheet --table"),
}
#: Two examples of each command, which run in the folder that ``fairladder demo`` lays out.
EXAMPLES = {
    "check": (
        "check orders.csv --scheme scheme.toml",
        "check orders.csv --scheme scheme.toml --part set_aside --out aside.csv",
    ),
    "customers": (
        "customers orders.csv --scheme scheme.toml --out customers.csv",
        'customers orders.csv --scheme scheme.toml --when "orders = 1" --sort spend --columns customer,spend',
    ),
    "top": (
        "top orders.csv --scheme scheme.toml --by orders --count 10",
        "top orders.csv --scheme scheme.toml --percent 5 --within district",
    ),
    "score": (
        "score orders.csv --scheme scheme.toml --out scored.xlsx",
        "score orders.csv --scheme scheme.toml --figure segments.png",
    ),
    "orders": (
        "orders orders.csv --scheme scheme.toml --out ledger.csv",
        "orders orders.csv --scheme scheme.toml --from 2026-01-01",
    ),
    "growth": (
        "growth orders.csv --scheme scheme.toml --by district",
        "growth orders.csv --scheme scheme.toml --period quarter --figure growth.png",
    ),
    "retention": (
        "retention orders.csv --scheme scheme.toml",
        "retention orders.csv --scheme scheme.toml --part one-before --out list.csv",
    ),
    "breakdown": (
        "breakdown orders.csv --scheme scheme.toml --rows channel --columns category",
        'breakdown orders.csv --scheme scheme.toml --rows "weekday(placed)" --columns channel --measure orders --shares row',
    ),
    "value": (
        "value orders.csv --scheme scheme.toml --part factors",
        "value --revenue 12000 --orders 300 --customers 100 --retention 60%",
    ),
    "campaign": (
        "campaign orders.csv --scheme scheme.toml --when \"stance = 'win-back'\" --limit 50 --holdout 20 --out list.csv",
        "campaign orders.csv --scheme scheme.toml --results orders.csv --measure-from 2026-06-01 --list list.csv",
    ),
    "compare": (
        "compare orders.csv --scheme scheme.toml --then 2025-12-31",
        "compare orders.csv --scheme scheme.toml --then 2025-12-31 --every quarter",
    ),
    "explain": (
        "explain orders.csv 09302 --scheme scheme.toml",
        "explain orders.csv --scheme scheme.toml --segment mainstay --count 3",
    ),
}


def epilog(command: str) -> str:
    """What stands below a command's own options: one line for each group of shared ones, and examples."""
    groups = [f"{name}: {some} …" for name, (_, some) in GROUPS.items()]
    shared = ["Shared by all commands; `fairladder help GROUP` shows them all:", *groups]
    examples = [
        "Examples, in the folder that `fairladder demo` lays out:",
        *(f"fairladder {line}" for line in EXAMPLES.get(command, ())),
    ]
    return "\n\n".join([*shared, *(examples if command in EXAMPLES else [])])


Topic = Annotated[
    str,
    typer.Argument(
        help="rows, output, columns, writing, or scheme for every key of one.", metavar="[GROUP]", show_default=False
    ),
]


def show_help(ctx: typer.Context, group: Topic = "") -> None:
    """The options that all commands share, or every key of a scheme."""
    from fairladder.cli import screen
    from fairladder.errors import nearest

    if group == "scheme":
        for part in dict.fromkeys(s.part for s in SETTINGS):
            rows = [[s.key, s.option, s.sentence] for s in SETTINGS if s.part == part]
            screen.show(screen.table(f"[{part}]", ["key", "option", "what it means"], rows, left=3))
        return
    if not group:
        rows = [*([f"fairladder help {name}", about] for name, (about, _) in GROUPS.items())]
        rows.append(["fairladder help scheme", "Every key of a scheme"])
        screen.show(
            screen.table("What all commands share, and where it stands", ["ask", "what it is about"], rows, left=2)
        )
        return
    if group not in GROUPS:
        print(f"Error: There is no group {group!r}. {nearest(group, (*GROUPS, 'scheme'))}", file=sys.stderr)
        raise typer.Exit(2)
    heading, _ = GROUPS[group]
    commands = ctx.parent.command.commands if ctx.parent else {}  # type: ignore[attr-defined]
    options = [p for p in commands["customers"].params if getattr(p, "rich_help_panel", "") == heading]
    rows = [
        ["/".join([*p.opts, *(o for o in p.secondary_opts if o.strip())]), p.metavar or "", p.help or ""]
        for p in options
    ]
    screen.show(screen.table(heading, ["option", "", "what it means"], rows, left=3))

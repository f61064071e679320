"""Help beyond a command's own options: what all commands share, every key of a scheme, and
examples that run.
"""

import sys
from typing import Annotated

import typer

from fairladder.settings import CARRIED, COLUMNS, OUTPUT, SETTINGS, WINDOW, WRITING

#: Group of shared options → its heading, and the most wanted of them.
GROUPS = {
    "rows": (WINDOW, "--scheme --customers --as-of --from --through --where"),
    "output": (OUTPUT, "--out --part --figure --quiet --show-sql"),
    "columns": (COLUMNS, "--customer-column --placed-column --amount-column"),
    "carried": (CARRIED, "--at-first --at-latest"),
    "writing": (WRITING, "--date-format --decimal-mark --sheet --table"),
}
#: Examples of each command, which run one after the other in the folder that ``fairladder demo``
#: lays out.
EXAMPLES = {
    "start": (
        "start orders.csv --out -",
        "start orders.csv --customer-column member_no --out first.toml",
    ),
    "check": (
        "check orders.csv --scheme scheme.toml",
        "check orders.csv --scheme scheme.toml --part set-aside --out aside.csv",
        "check orders.csv --scheme scheme.toml --quiet --facts facts.json --log nightly.log",
    ),
    "customers": (
        'customers orders.csv --scheme scheme.toml --out-separator ";" --out-decimal-mark , '
        "--out-days day-first --out customers.csv",
        'customers orders.csv --scheme scheme.toml --when "orders = 1" --sort spend --columns '
        "customer,spend",
    ),
    "top": (
        "top orders.csv --scheme scheme.toml --by orders --count 10",
        "top orders.csv --scheme scheme.toml --percent 5 --within district",
        "top orders.csv --scheme scheme.toml --by first_order --percent 10 --ties exclude "
        "--at-first channel --within first_channel",
    ),
    "score": (
        "score orders.csv --scheme scheme.toml --out scored.xlsx",
        "score orders.csv --scheme scheme.toml --figure segments.png",
    ),
    "orders": (
        "orders orders.csv --scheme scheme.toml --out ledger.csv",
        "orders orders.csv --scheme scheme.toml --lines --from 2026-01-01",
    ),
    "growth": (
        "growth orders.csv --scheme scheme.toml --by district",
        "growth orders.csv --scheme scheme.toml --period year --year-starts 04",
        "growth orders.csv --scheme scheme.toml --period quarter --figure growth.png",
    ),
    "retention": (
        "retention orders.csv --scheme scheme.toml",
        "retention orders.csv --scheme scheme.toml --part one-before --out list.csv",
    ),
    "breakdown": (
        "breakdown orders.csv --scheme scheme.toml --rows channel --columns category",
        'breakdown orders.csv --scheme scheme.toml --rows "quarter(placed)" --columns channel '
        '--measure "sum(quantity)" --layout crosstab',
        'breakdown orders.csv --scheme scheme.toml --rows "weekday(placed)" --columns channel '
        "--measure orders --shares row",
    ),
    "value": (
        "value orders.csv --scheme scheme.toml --part factors",
        "value --revenue 12000 --orders 300 --customers 100 --retention 60%",
    ),
    "campaign": (
        "campaign orders.csv --scheme scheme.toml --when \"stance = 'win-back'\" --limit 50 "
        "--holdout 20 --out list.csv",
        "campaign orders.csv --scheme scheme.toml --results orders.csv --measure-from 2026-06-01 "
        "--list list.csv",
        "campaign orders.csv --scheme scheme.toml --plan-effect 0.03 --base-rate 0.1",
    ),
    "compare": (
        "compare orders.csv --scheme scheme.toml --then 2025-12-31",
        "compare orders.csv --scheme scheme.toml --then 2025-12-31 --every quarter",
    ),
    "report": ("report orders.csv --scheme scheme.toml --by district",),
    "explain": (
        "explain orders.csv 09302 --scheme scheme.toml",
        "explain orders.csv --scheme scheme.toml --segment mainstay --count 3",
    ),
}


#: What each table of a command says (``--part``), the first being the one that is written if
#: nothing is said.
PARTS = {
    "check": {
        "findings": "what would make the numbers wrong, and what to do",
        "balance": "what became of every row, with its money",
        "set-aside": "the rows that cannot be used, with reasons and original cells",
    },
    "score": {
        "customers": "one row per customer with scores, tiers, segment and stance",
        "segments": "one row per segment",
        "tiers": "one row per tier",
        "rules": "whom each rule placed, and whom an earlier rule took",
        "drift": "how far customers moved on saved ladders",
        "stability": "how many other choices would place elsewhere",
        "unsettled": "customers within a hair of a cut",
    },
    "growth": {
        "growth": "one row per period and group",
        "flat-spells": "periods in a row without a new customer",
    },
    "retention": {
        "cohorts": "who of each first period comes back, and when",
        "rates": "the two retention rates",
        "order-counts": "how many customers reach how many orders",
        "one-before": "customers one order short of a goal",
        "channels": "customers who use one channel only",
        "flow": "the channel of the first order against that of the second",
    },
    "value": {
        "customers": "what each is worth so far, and is expected to bring",
        "answers": "the three answers with their money",
        "factors": "the formula, factor by factor",
        "groups": "the formula for each group",
        "models": "the methods with their parameters",
        "top-shares": "how much of what is expected the best customers bring",
        "backtest": "how each method did on days that it had not seen",
        "calibration": "forecast against what came, by how many orders a customer had",
        "tracking": "forecast against what came, week by week",
        "what-if": "with --if-retention and the like: what a change is worth",
        "win-back": "with --if-response: what a contact may cost, by segment",
    },
    "campaign": {
        "list": "everybody listed, contacts and holdout",
        "contacts": "those to write to",
        "holdout": "those held out",
        "funnel": "how many each condition left over",
        "lift": "with --results: contacts against holdout",
    },
    "compare": {
        "segments": "from which segment to which",
        "rungs": "from which rung to which",
        "movers": "customers whose segment changed",
        "spend-change": "what the change of spend is made of",
        "drift": "how far the ladders fit both days",
        "sizes": "with --every: segments at the end of each period",
        "paths": "with --every: each customer's segments",
    },
    "explain": {
        "changes": "the least changes that would move the customer",
        "standings": "value, cuts and rung on each ladder",
        "rules": "which rules hold, and why the others do not",
        "orders": "the customer's orders",
    },
}
#: What each figure shows (``--figure-of``).
FIGURES = {
    "score": {
        "segments": "customers and spend by segment",
        "grid": "customers by recency and frequency score",
        "ladders": "the three ladders with their cuts",
        "concentration": "how much of spend the best customers hold",
        "stability": "with --stability: how many other choices would move",
    },
    "growth": {"revenue": "first and repeat revenue", "running": "customers so far"},
    "retention": {
        "cohorts": "cohorts as a heat map",
        "order-counts": "how many go on to the next order",
        "gaps": "days between orders",
    },
    "breakdown": {
        "stacked": "bars of 100 %, one for each row",
        "heat": "cells shaded by the measure",
    },
    "value": {
        "tracking": "forecast against what came, week by week",
        "calibration": "forecast against what came, by how many orders a customer had",
        "expected": "what customers are expected to bring, the most valuable first",
        "active": "who is probably still a customer",
    },
    "campaign": {
        "funnel": "how many each condition left over",
        "lift": "with --results: contacts against holdout",
    },
    "compare": {
        "flows": "who moved from where to where",
        "sizes": "with --every: segments over time",
    },
}


def _said(kind: str, of: dict[str, str]) -> str:
    return f"{kind}: {'; '.join(f'{name} ({text})' for name, text in of.items())}."


def epilog(command: str, *, shares: bool = True) -> str:
    """What stands below a command's own options: its tables and figures, the groups of options
    that it ``shares``, and examples.
    """
    groups = [f"{name}: {some} …" for name, (_, some) in GROUPS.items()]
    shared = ["Shared by all commands; `fairladder help GROUP` shows them all:", *groups]
    examples = [
        "Examples, in the folder that `fairladder demo` lays out:",
        *(f"fairladder {line}" for line in EXAMPLES.get(command, ())),
    ]
    said = [_said("Tables, by --part", PARTS[command])] if command in PARTS else []
    said += [_said("Figures, by --figure-of", FIGURES[command])] if command in FIGURES else []
    return "\n\n".join(
        [*said, *(shared if shares else []), *(examples if command in EXAMPLES else [])]
    )


Topic = Annotated[
    str,
    typer.Argument(
        help="rows, output, columns, carried, writing, or scheme for every key of one.",
        metavar="[GROUP]",
        show_default=False,
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
            screen.table(
                "What all commands share, and where it stands",
                ["ask", "what it is about"],
                rows,
                left=2,
            )
        )
        return
    if group not in GROUPS:
        print(
            f"Error: There is no group {group!r}. {nearest(group, (*GROUPS, 'scheme'))}",
            file=sys.stderr,
        )
        raise typer.Exit(2)
    heading, _ = GROUPS[group]
    shared = ctx.parent.command.get_command(ctx, "customers").params if ctx.parent else []  # type: ignore[attr-defined]
    options = [p for p in shared if getattr(p, "rich_help_panel", "") == heading]
    rows = [
        [
            "/".join([*p.opts, *(o for o in p.secondary_opts if o.strip())]),
            p.metavar or "",
            p.help or "",
        ]
        for p in options
    ]
    screen.show(screen.table(heading, ["option", "", "what it means"], rows, left=3))

"""Help beyond a command's own options: shared options, keys of a scheme, and examples that run."""

import sys
from collections.abc import Collection
from typing import Annotated

import typer

from fairladder.settings import CARRIED, COLUMNS, OUTPUT, SETTINGS, WINDOW, WRITING

#: Group of shared options → its heading, and its most used options.
GROUPS = {
    "rows": WINDOW,
    "output": OUTPUT,
    "columns": COLUMNS,
    "first-latest": CARRIED,
    "writing": WRITING,
}
#: Common questions → the words after ``fairladder`` that answer them, followed by the sample shop's
#: scheme.
QUESTIONS = {
    "How do I leave out cancelled orders?": "check orders.csv --where \"state <> 'cancelled'\"",
    "Which rows could not be used, and why?": "check orders.csv --part set-aside",
    "Who are the top 5 % by orders?": "top orders.csv --by orders --percent 5 --ties exclude",
    "What did one customer order?": "orders orders.csv --when \"customer = '09302'\"",
    "Which customers are in a segment?": "score orders.csv --when \"segment = 'mainstay'\"",
    "Why is a customer in that segment?": "explain orders.csv 09302",
    "Who needs one more order?": "retention orders.csv --part one-order-short --goal 2",
    "What does each channel sell by quarter?": (
        'breakdown orders.csv --rows "quarter(placed)" --columns channel'
    ),
    "What are my customers worth?": "value orders.csv",
    "Which customers should I contact?": "campaign orders.csv --when \"stance = 'win-back'\" --holdout 20",
    "What changed since last year?": "compare orders.csv --then 2025-06-30",
    "What can I hand on to a manager?": "report orders.csv",
}
#: Settings that users look for, with the place where they are set.
WHERE_TO_SET = {
    "Discounts in percent or money": "discount_as under [orders], or --discount-as",
    "One column of amounts per channel": "channel_amounts under [orders]",
    "The measure of percentile and percent_rank": "percentile_of under [scores]",
    "Ties at the end of a list": "--ties include or exclude, for top and campaign",
    "One table of a result, on screen or in a file": "--part NAME; each command's help lists its tables",
}
#: Examples of each command, which run one after the other in the folder that ``fairladder demo``
#: creates.
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
        "orders orders.csv --scheme scheme.toml --customer 09302 --lines",
        "orders orders.csv --scheme scheme.toml --when \"segment = 'cooling'\"",
    ),
    "growth": (
        "growth orders.csv --scheme scheme.toml --by district",
        "growth orders.csv --scheme scheme.toml --period year --year-starts 04",
        "growth orders.csv --scheme scheme.toml --period quarter --figure growth.png",
    ),
    "retention": (
        "retention orders.csv --scheme scheme.toml",
        "retention orders.csv --scheme scheme.toml --part one-order-short --out list.csv",
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


#: The meaning of each table of a command (``--part``); the first is the default.
PARTS = {
    "check": {
        "findings": "problems that would make the numbers wrong, with advice",
        "balance": "the state of every row, with its money",
        "set-aside": "the rows that cannot be used, with reasons and original cells",
    },
    "score": {
        "customers": "one row per customer with scores, tiers, segment and stance",
        "segments": "one row per segment",
        "tiers": "one row per tier",
        "rules": "customers placed by each rule, and by an earlier rule",
        "drift": "drift of customers on saved ladders",
        "stability": "customers who would change segment under other settings",
        "near-cut": "customers near a cut",
    },
    "growth": {
        "growth": "one row per period and group",
        "flat-spells": "consecutive periods without a new customer",
    },
    "retention": {
        "cohorts": "customers of each first period who come back, and when",
        "rates": "the two retention rates",
        "order-counts": "how many customers reach each number of orders",
        "one-order-short": "customers one order short of a goal",
        "channels": "customers who use one channel only",
        "flow": "the channel of the first order and those of later ones",
    },
    "value": {
        "customers": "value of each customer to date, and forecast",
        "answers": "value to date, by formula and forecast",
        "factors": "the formula, factor by factor",
        "groups": "the formula for each group",
        "models": "the methods with their parameters",
        "top-shares": "share of the expected value from the best customers",
        "backtest": "error of each method on days not used for training",
        "calibration": "forecast and actual orders, by past orders",
        "tracking": "forecast and actual orders, by week",
        "what-if": "with --if-retention and the like: worth of a change",
        "win-back": "with --if-response: highest cost of a contact, by segment",
    },
    "campaign": {
        "list": "all listed customers, contacts and holdout",
        "contacts": "customers to contact",
        "holdout": "customers held out",
        "funnel": "customers left after each condition",
        "lift": "with --results: contacts compared with the holdout",
    },
    "compare": {
        "segments": "moves between segments",
        "rungs": "moves between rungs",
        "movers": "customers whose segment changed",
        "spend-change": "components of the change of spend",
        "drift": "how well the ladders fit both days",
        "sizes": "with --every: segments at the end of each period",
        "paths": "with --every: each customer's segments",
    },
    "explain": {
        "changes": "smallest changes that would affect the customer",
        "standings": "value, cuts and rung on each ladder",
        "rules": "which rules match, and why the others do not",
        "orders": "the customer's orders",
    },
}
#: The content of each figure (``--figure-of``).
FIGURES = {
    "score": {
        "segments": "customers and spend by segment",
        "grid": "customers by recency and frequency score",
        "ladders": "the three ladders with their cuts",
        "concentration": "share of spend from the best customers",
        "stability": "with --stability: customers who would change segment",
    },
    "growth": {"revenue": "first and repeat revenue", "running": "customers to date"},
    "retention": {
        "cohorts": "cohorts as a heat map",
        "order-counts": "how many customers go on to the next order",
        "gaps": "days between orders",
    },
    "breakdown": {"stacked": "bars of 100 %, one per row", "heat": "cells shaded by the measure"},
    "value": {
        "tracking": "forecast and actual orders, by week",
        "calibration": "forecast and actual orders, by past orders",
        "expected": "expected value of customers, the most valuable first",
        "active": "probability that customers are active",
    },
    "campaign": {
        "funnel": "customers left after each condition",
        "lift": "with --results: contacts compared with the holdout",
    },
    "compare": {"flows": "moves between segments", "sizes": "with --every: segments over time"},
}


def _listed_parts(kind: str, of: dict[str, str], explained: Collection[str] = ()) -> str:
    names = (name if name in explained else f"{name} ({text})" for name, text in of.items())
    return f"{kind}: {'; '.join(names)}."


def epilog(command: str, *, shares: bool = True) -> str:
    """Return the text below a command's own options: its tables and figures, the groups of shared
    options in ``shares``, and examples.
    """
    contents = [
        *([_listed_parts("Tables, by --part", PARTS[command])] if command in PARTS else []),
        *(
            [_listed_parts("Figures, by --figure-of", FIGURES[command], PARTS.get(command, ()))]
            if command in FIGURES
            else []
        ),
    ]
    shared = (
        f"Shared by all commands (--scheme, --out …): `fairladder help {'|'.join(GROUPS)}`."
        if shares
        else ""
    )
    examples = [f"fairladder {line}" for line in EXAMPLES.get(command, ())]
    if examples:
        examples = ["Examples, in the folder that `fairladder demo` creates:", *examples]
    return "\n\n".join(filter(None, ["\n".join(contents), shared, "\n".join(examples)]))


Topic = Annotated[
    str,
    typer.Argument(
        help="rows, output, columns, first-latest or writing for a group of options; scheme for all of its keys.",
        metavar="[GROUP]",
        show_default=False,
    ),
]


def show_help(ctx: typer.Context, group: Topic = "") -> None:
    """List the options that all commands share, or every key of a scheme."""
    from rich.text import Text

    from fairladder.cli import screen
    from fairladder.errors import nearest

    if group == "scheme":
        for part in dict.fromkeys(s.part for s in SETTINGS):
            rows = [[s.key, s.option, s.sentence] for s in SETTINGS if s.part == part]
            screen.show(screen.table(f"[{part}]", ["key", "option", "meaning"], rows, left=3))
        return
    if not group:
        screen.show(
            Text("Common questions, in the folder that `fairladder demo` creates", style="bold"),
            Text("\n").join(
                Text.assemble(question, "\n", (f"  fairladder {line} --scheme scheme.toml", "dim"))
                for question, line in QUESTIONS.items()
            ),
            screen.table(
                "Where to set it", ["what", "where"], list(map(list, WHERE_TO_SET.items())), left=2
            ),
            screen.table(
                "Options shared by all commands",
                ["command", "contents"],
                [
                    *([f"fairladder help {name}", about] for name, about in GROUPS.items()),
                    ["fairladder help scheme", "All keys of a scheme"],
                ],
                left=2,
            ),
        )
        return
    if group not in GROUPS:
        print(
            f"Error: There is no group {group!r}. {nearest(group, (*GROUPS, 'scheme'))}",
            file=sys.stderr,
        )
        raise typer.Exit(2)
    heading = GROUPS[group]
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
    screen.show(screen.table(heading, ["option", "", "meaning"], rows, left=3))

"""``fairladder score``: customers with scores, segment and stance."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from fairladder import looks
from fairladder.cli.options import Request

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType
    from rich.text import Text

    from fairladder.order_book import Orders

PARTS = ("customers", "segments", "rules")
FIGURES = ("segments", "grid")


FigureOf = Annotated[
    str,
    typer.Option(
        "--figure-of", help="What --figure draws: segments or grid.", metavar="NAME", rich_help_panel="Output"
    ),
]


def score(request: Request, figure_of: FigureOf = "segments") -> None:
    """Score every customer and place them in segments: who to keep, who to win back, who to leave alone?"""
    from fairladder.cli import screen
    from fairladder.errors import DataError, UsageError, nearest

    if figure_of not in FIGURES:
        raise UsageError(f"--figure-of {figure_of}: there is no such figure. {nearest(figure_of, FIGURES)}")
    orders = screen.opened(request, PARTS, figures=True)
    with screen.busy(request, "Scoring the customers"):
        from fairladder import scoring

        customers = orders.customers()
        if not (customers["orders"] > 0).any():
            raise DataError(
                "No customer has a purchase, so there is nobody to score. `fairladder check` says what became of the rows."
            )
        scored = scoring.score(customers, orders.scheme)
        parts = {"customers": scored}
        if request.part or screen.for_people(request) or str(request.out).endswith(".json"):
            parts["segments"] = scoring.segment_summary(scored, orders.scheme)
            parts["rules"] = scoring.rule_coverage(scored, orders.scheme)
    pieces = views(orders, parts) if "segments" in parts else []
    screen.give(request, orders, parts, pieces)
    if request.figure is not None:
        draw(request.figure, figure_of, scored, orders)
        screen.note(request, f"Drew {request.figure}.")


def draw(path: Path, name: str, scored: "pd.DataFrame", orders: "Orders") -> None:
    """Draw one of the figures to a file, as a whole or not at all."""
    from fairladder import figures
    from fairladder.files import replacing

    make = figures.segments if name == "segments" else figures.grid
    figure = make(scored, facts=orders.facts())
    with replacing(path) as beside:
        figure.savefig(beside)


def views(orders: "Orders", parts: "dict[str, pd.DataFrame]") -> "list[RenderableType]":
    """The segment table, the three answers, and rules that place nobody."""
    summary, rules = parts["segments"], parts["rules"]
    return [_segments(orders, summary), _answers(summary), *_idle_rules(rules)]


def _segments(orders: "Orders", summary: "pd.DataFrame") -> "RenderableType":
    from rich.text import Text

    from fairladder.cli.screen import stance_text, table

    columns = ["segment", "stance", "customers", "of all", "spend", "of all spend", "median days since", "per order"]
    rows: list[list[str | Text]] = [
        [
            s.segment, stance_text(s.stance), looks.count(s.customers), looks.percent(s.customer_share), looks.money(s.spend),
            looks.percent(s.spend_share), looks.days(s.median_recency_days), looks.money(s.average_order_value, 2),
        ]
        for s in summary.itertuples(index=False)
    ]  # fmt: skip
    n, total = int(summary["customers"].sum()), looks.money(summary["spend"].sum())
    bold = [
        "all", "", looks.count(n), "", total, "", "", looks.money(_per_order(summary), 2),
    ]  # fmt: skip
    rows.append([Text(cell, style="bold") for cell in bold])
    unit = f" {orders.scheme.money.currency}" if orders.scheme.money.currency else ""
    title = f"Who are the customers, and what to do about them? {looks.count(n)} customers, {total}{unit} spent"
    return table(title, columns, rows, left=2)


def _per_order(summary: "pd.DataFrame") -> float:
    orders = int(summary["orders"].sum())
    return float(summary["spend"].sum()) / orders if orders else float("nan")


_ANSWERS = (("keep", "The best"), ("win-back", "Need a retention campaign"), ("leave", "Safe to leave alone"))


def _answers(summary: "pd.DataFrame") -> "Text":
    from rich.text import Text

    from fairladder.cli.screen import stance_text

    lines = []
    for stance, words in _ANSWERS:
        these = summary[(summary["stance"] == stance) & (summary["customers"] > 0)]
        if these.empty:
            told = "nobody."
        else:
            n, share, spend = these["customers"].sum(), these["customer_share"].sum(), these["spend_share"].sum()
            told = f"{looks.count(n)} customers ({looks.percent(share)}) with {looks.percent(spend)} of spend: "
            told += ", ".join(these["segment"]) + "."
        lines.append(stance_text(stance, (f"{words}: ", "bold"), (told, "")))
    return Text("\n").join(lines)


def _idle_rules(rules: "pd.DataFrame") -> "list[Text]":
    from rich.text import Text

    idle = rules[rules["placed"] == 0]
    told = [
        f"Segment {r.segment} holds nobody: " + ("no customer came down to its rule." if not r.reached else
        f"its {r.shadowed:,} were placed by earlier rules." if r.shadowed else "its condition holds for nobody.")
        for r in idle.itertuples(index=False)
    ]  # fmt: skip
    return [Text("\n".join(told))] if told else []

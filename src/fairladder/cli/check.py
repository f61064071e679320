"""``fairladder check``: are these orders fit to use?"""

from typing import TYPE_CHECKING

import typer

from fairladder import looks
from fairladder.cli.options import Request

if TYPE_CHECKING:
    from rich.console import RenderableType

    from fairladder.order_book import Check, Orders

PARTS = ("findings", "balance", "set_aside")
_LEVEL_STYLE = {"error": "bold #c4512d", "warning": "#a86f00", "note": "dim"}
_ROWS_SHOWN = 6


def check(request: Request) -> None:
    """Are these orders fit to use? Balance, findings and rows set aside; exit 1 where an error stands."""
    from fairladder.cli import screen

    orders = screen.opened(request, PARTS)
    with screen.busy(request, "Checking the orders"):
        found = orders.check()
    parts = {"findings": found.frame, "balance": found.balance_frame, "set_aside": found.set_aside}
    screen.give(request, orders, parts, views(orders, found), whole=found.as_json())
    if found.errors:
        raise typer.Exit(1)


def views(orders: "Orders", found: "Check") -> "list[RenderableType]":
    """Settings, balance, some rows set aside, and the findings (advice on notes is left to files)."""
    made = [_settings(orders), _balance(found)]
    if len(found.set_aside):
        made.append(_set_aside(orders, found))
    if found.findings:
        made.append(_findings(found))  # last, where the eye is when the command ends
    return made


def _settings(orders: "Orders") -> "RenderableType":
    """The columns and the settings in force that are not the usual ones."""
    from rich.text import Text

    chosen = orders.scheme.settings()
    parts = {role: f"{role} = {name}" for role, name in orders.roles.items()}
    for part, keys in chosen.items():
        if isinstance(keys, dict):
            parts |= {
                f"{part}.{k}": f"{k} = {v}" for k, v in keys.items() if k not in orders.roles and part != "customers"
            }
    segments = f"{len(chosen['segments'])} rules for segments" if "segments" in chosen else "the usual segments"
    told = Text("; ".join([*parts.values(), segments]) + ".")
    return Text.assemble(("How are the rows read?\n", "bold"), told)


def _balance(found: "Check") -> "RenderableType":
    from fairladder.cli.screen import table
    from fairladder.orders.balance import major

    decimals = found.balance.decimals
    rows = []
    for label, count, minor in found.balance.lines():
        rows.append([label, looks.count(count), f"{float(major(minor, decimals)):,.{decimals}f}"])
        if label == "set aside":
            rows += [[f"  {reason}", looks.count(n), ""] for reason, n in found.balance.reasons.items()]
    used = looks.percent(found.balance.used / found.balance.rows_read) if found.balance.rows_read else "none"
    return table(
        f"Does every row count? {used} of the rows are used, and all are accounted for", ["", "rows", "amount"], rows
    )


def _findings(found: "Check") -> "RenderableType":
    from rich.text import Text

    from fairladder.cli.screen import table

    rows: list[list[str | Text]] = []
    for f in sorted(found.findings, key=lambda f: list(_LEVEL_STYLE).index(f.level)):
        told = f"{f.effect[0].upper()}{f.effect[1:]}{'' if f.effect.endswith('.') else '.'}"
        examples = f" For example {', '.join(f.examples[:2])}." if f.examples else ""
        advice = Text(f" {f.advice}" if f.advice and f.level != "note" else "", style="dim")
        style = _LEVEL_STYLE[f.level]
        rows.append([Text(f.level, style=style), f.code, Text(told + examples).append(advice), looks.count(f.count)])
    errors = len(found.errors)
    title = (
        f"What must be settled first? {errors} error{'s' if errors != 1 else ''}"
        if errors
        else "What to know first? No errors"
    )
    return table(
        f"{title}, {len(found.findings) - errors} warnings and notes",
        ["level", "finding", "what it means", "count"],
        rows,
        left=3,
    )


def _set_aside(orders: "Orders", found: "Check") -> "RenderableType":
    from fairladder.cli.screen import table

    names = ["row", "reason", *(c for c in dict.fromkeys(orders.roles.values()) if c in found.set_aside)][:8]
    rarest = found.set_aside.groupby("reason").cumcount().sort_values(kind="stable").index[:_ROWS_SHOWN]
    shown = found.set_aside.loc[sorted(rarest), names]
    rows = [[looks.NOTHING if looks.missing(v) else str(v) for v in row] for row in shown.to_numpy()]
    title = f"Which rows are set aside? {len(found.set_aside):,}, some of each kind here, all with --part set_aside"
    return table(title, names, rows, left=len(names))

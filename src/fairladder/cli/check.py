"""``fairladder check``: are these orders fit for use?"""

from typing import TYPE_CHECKING

import typer

from fairladder import wording
from fairladder.cli.options import Request

if TYPE_CHECKING:
    from rich.console import RenderableType

    from fairladder.api import Orders
    from fairladder.review.check import Check

PARTS = ("findings", "balance", "set-aside")
_LEVEL_STYLE = {"error": "bold #c4512d", "warning": "#a86f00", "note": "dim"}
_ROWS_SHOWN = 6


def check(request: Request) -> None:
    """Are these orders fit for use? Print balance, findings and rows set aside; exit 1 if there is
    an error.
    """
    from fairladder.cli import door, screen

    orders = door.opened(request, PARTS, keep="rows")
    with screen.busy(request, "Checking the orders", orders.engine):
        checked = orders.check()
    door.give(
        request, orders, checked.tables(), views(orders, checked), whole=checked.as_json(),
        seen=orders.notes,
        findings=checked.findings, show_findings=not screen.for_people(request),
    )  # fmt: skip
    if checked.errors:
        raise typer.Exit(1)


def views(orders: "Orders", checked: "Check") -> "list[RenderableType]":
    """Return settings, balance, some rows set aside, and the findings (without advice on notes)."""
    made = [_settings(orders), _balance(checked)]
    if len(checked.set_aside):
        made.append(_set_aside(orders, checked))
    if checked.findings:
        made.append(_findings(checked))  # last, where users look when the command ends
    return made


def _settings(orders: "Orders") -> "RenderableType":
    """Return the columns and the settings that differ from the defaults."""
    from rich.text import Text

    chosen = orders.scheme.settings()
    parts = {role: f"{role} = {name}" for role, name in orders.roles.items()}
    for part, keys in chosen.items():
        if isinstance(keys, dict):
            parts |= {
                f"{part}.{k}": f"{k} = {v}"
                for k, v in keys.items()
                if k not in orders.roles and part != "customers"
            }
    segments = (
        f"{len(chosen['segments'])} rules for segments"
        if "segments" in chosen
        else "the built-in segments"
    )
    text = Text("; ".join([*parts.values(), segments]) + ".")
    return Text.assemble(("How are the rows read?\n", "bold"), text)


def _balance(checked: "Check") -> "RenderableType":
    from fairladder.book.balance import major
    from fairladder.cli.screen import table

    decimals = checked.balance.decimals
    rows = []
    for label, count, minor in checked.balance.lines():
        rows.append([label, wording.count(count), f"{float(major(minor, decimals)):,.{decimals}f}"])
        if label == "set aside":
            unread = next(
                (
                    f"largest: {', '.join(f.examples[:2])}"
                    for f in checked.findings
                    if f.code == "unread-amounts"
                ),
                "",
            )
            reasons = checked.balance.reasons.items()
            rows += [
                [f"  {reason}", wording.count(n), unread if reason == "bad-amount" else ""]
                for reason, n in reasons
            ]
    used = (
        wording.percent(checked.balance.used / checked.balance.rows_read)
        if checked.balance.rows_read
        else "none"
    )
    return table(
        f"Does every row count? {used} of the rows are used, and all are accounted for",
        ["", "rows", "amount"],
        rows,
    )


def _findings(checked: "Check") -> "RenderableType":
    from rich.text import Text

    from fairladder.cli.screen import table
    from fairladder.findings import LEVELS

    rows: list[list[str | Text]] = []
    for f in sorted(checked.findings, key=lambda f: list(_LEVEL_STYLE).index(f.level)):
        text = f"{f.effect[0].upper()}{f.effect[1:]}{'' if f.effect.endswith('.') else '.'}"
        examples = f" For example {', '.join(f.examples[:2])}." if f.examples else ""
        advice = Text(f" {f.advice}" if f.advice and f.level != "note" else "", style="dim")
        style = _LEVEL_STYLE[f.level]
        rows.append(
            [
                Text(f.level, style=style),
                f.code,
                Text(text + examples).append(advice),
                wording.count(f.count),
            ]
        )
    errors, warnings, notes = (sum(f.level == level for f in checked.findings) for level in LEVELS)
    title = (
        f"What must be resolved first? {wording.counted(errors, 'errors')}"
        if errors
        else "What to know first? No errors"
    )
    others = [
        wording.counted(n, things) for n, things in ((warnings, "warnings"), (notes, "notes")) if n
    ]
    return table(
        wording.listed([title, *others]) if others else title,
        ["level", "finding", "meaning", "count"],
        rows,
        left=3,
    )


def _set_aside(orders: "Orders", checked: "Check") -> "RenderableType":
    from fairladder.cli.screen import table

    names = [
        "row",
        "reason",
        *(c for c in dict.fromkeys(orders.roles.values()) if c in checked.set_aside),
    ][:8]
    rarest = (
        checked.set_aside.groupby("reason")
        .cumcount()
        .sort_values(kind="stable")
        .index[:_ROWS_SHOWN]
    )
    shown = checked.set_aside.loc[sorted(rarest), names]
    rows = [
        [wording.NOTHING if wording.missing(v) else str(v) for v in row] for row in shown.to_numpy()
    ]
    title = (
        f"Which rows are set aside? {len(checked.set_aside):,} rows; some of each kind below, "
        "all with --part set-aside"
    )
    return table(title, names, rows, left=len(names))

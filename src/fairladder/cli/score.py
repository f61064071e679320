"""``fairladder score``: customers with scores, segment and stance."""

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from fairladder import wording
from fairladder.cli import as_sql
from fairladder.cli.options import (
    FIGURE_OF,
    Columns,
    Request,
    Sort,
    When,
    known_figure,
    names_in,
    option,
)
from fairladder.frames import row_of_largest, rows_of

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure
    from rich.console import RenderableType
    from rich.text import Text

    from fairladder.api import Orders
    from fairladder.conditions import Kind
    from fairladder.scheme import Tier
    from fairladder.scores.fitting import AnyLadder

PARTS = ("customers", "segments", "tiers", "rules")
FIGURES = ("segments", "grid", "ladders", "concentration", "stability")


FigureOf = Annotated[str, FIGURE_OF]


SaveLadders = Annotated[
    Path | None,
    option(
        "--save-ladders",
        help="Save the ladders to this file, as JSON.",
        metavar="FILE",
        panel="Ladders",
    ),
]
WithLadders = Annotated[
    Path | None,
    option(
        "--with-ladders",
        help="Score with saved ladders, and report how far customers drifted.",
        metavar="FILE",
        panel="Ladders",
    ),
]
AsSql = Annotated[
    str | None,
    option(
        "--as-sql",
        help=f"Print the scheme as SQL: {as_sql.KNOWN}.",
        metavar="DIALECT",
        panel="Output",
    ),
]


Stability = Annotated[
    bool,
    typer.Option(
        "--stability",
        help=(
            "Report how many customers would change segment under other settings, and who is "
            "near a cut."
        ),
        rich_help_panel="Ladders",
    ),
]


def score(
    request: Request,
    save_ladders: SaveLadders = None,
    with_ladders: WithLadders = None,
    dialect: AsSql = None,
    as_view: as_sql.AsView = None,
    stability: Stability = False,
    figure_of: FigureOf = "segments",
    when: When = None,
    sort: Sort = None,
    columns: Columns = None,
) -> None:
    """Score every customer and assign segments: which customers to keep, to win back or to leave
    alone?
    """
    from fairladder.cli import door, screen
    from fairladder.errors import UsageError

    known_figure(figure_of, FIGURES)
    if request.figure is not None and figure_of == "stability" and not stability:
        raise UsageError("--figure-of stability needs --stability.")
    as_sql.require(request, dialect, as_view)
    if save_ladders is not None:
        from fairladder.output.targets import require_place

        require_place(save_ladders)
    orders = door.opened(
        request,
        (
            *PARTS,
            *(["drift"] if with_ladders else []),
            *(["stability", "near-cut"] if stability else []),
        ),
        figures=True,
        frames=stability or with_ladders is not None or request.part not in (None, "customers"),
        outputs={"--save-ladders": save_ladders},
        inputs=[with_ladders],
        spread=dialect is None and request.part in (None, "customers"),
    )
    with screen.busy(request, "Scoring the customers", orders.customer_engine) as progress:
        from fairladder.scores import fairness
        from fairladder.scores import saved as saved_ladders
        from fairladder.scores.selection import chosen
        from fairladder.value.to_score import forecast_notes, scored

        saved = saved_ladders.load_ladders(with_ladders) if with_ladders else None
        people = scored(orders, ladders=saved.for_scheme(orders.scheme) if saved else None)
        if dialect is not None:
            _print_sql(dialect, as_view, orders, people.ladders, people.kinds)
            return
        few = fairness.too_few_to_advise(people)
        notes = [*few, *fairness.ladder_notes(people), fairness.split_note(orders)]
        parts: dict[str, Any] = {
            "customers": chosen(orders, people, when=when, sort=sort, columns=names_in(columns))
        }
        if (
            request.part
            or screen.for_people(request)
            or str(request.out).lower().endswith((".json", ".xlsx"))
        ):
            from fairladder.scores import summary

            parts["segments"] = summary.segment_summary(people)
            parts["tiers"] = summary.tier_summary(people)
            parts["rules"] = summary.rule_coverage(people)
            notes = [*fairness.segment_notes(parts["segments"]), *notes]
        if stability:
            from fairladder.review.stability import stability as stability_of

            parts |= stability_of(orders, progress=progress).tables()
        if saved is not None:
            parts["drift"] = saved_ladders.drift_of_scored(people.ladders, people)
    pieces = views(orders, parts, few) if screen.for_people(request) and "segments" in parts else []
    transfer = orders.customer_engine.transfer_note
    if request.figure is not None:
        notes.append(transfer(orders.groups.customers, "to draw the figure"))
    elif stability:
        notes.append(transfer(orders.groups.customers, "to compute the stability"))
    notes = [n for n in [*notes, *forecast_notes(orders)] if n]

    def drawn() -> "Figure":
        listing = chosen(orders, people).frame()
        return figure(figure_of, listing, orders, parts.get("stability"))

    door.give(
        request,
        orders,
        parts,
        pieces,
        notes=notes,
        seen=few if pieces else [],
        as_table=bool(columns),
        figure=drawn,
    )
    if save_ladders is not None:
        bought = people.bought
        saved_ladders.SavedLadders.of(people.ladders, orders.scheme, bought, orders.as_of).save(
            save_ladders
        )
        screen.note(request, f"Saved {len(people.ladders)} ladders in {save_ladders}.")


def _print_sql(
    dialect: str,
    view: str | None,
    orders: "Orders",
    ladders: "Mapping[str, AnyLadder]",
    kinds: "Mapping[str, Kind]",
) -> None:
    from fairladder.scores.as_sql import scheme_text

    text = scheme_text(orders.scheme, ladders, kinds, dialect, view)
    read = (
        "-- Reads the table `customers`, as `fairladder customers` writes it. Ladders as of "
        f"{orders.as_of}."
    )
    as_sql.print_statement(f"{read}\n{text}", dialect)


def figure(
    name: str, scored: "pd.DataFrame", orders: "Orders", stability: "pd.DataFrame | None" = None
) -> "Figure":
    """Draw one of the figures of scored customers."""
    from fairladder import figures

    facts = orders.facts()
    if stability is not None and name == "stability":
        return figures.stability(stability, facts=facts)
    if name in ("ladders", "concentration"):
        drawn: Figure = getattr(figures, name)(scored, orders.scheme, facts=facts)
    else:
        drawn = getattr(figures, name)(scored, facts=facts)
    return drawn


def views(
    orders: "Orders", parts: "dict[str, pd.DataFrame]", few: list[str]
) -> "list[RenderableType]":
    """Return the segment table, the three answers or the ``few`` reasons why there are none, and
    rules without customers.
    """
    summary, rules = parts["segments"], parts["rules"]
    tiers = [_tier(name, tier, parts["tiers"]) for name, tier in orders.scheme.tiers.items()]
    drifted = [drift_view(parts["drift"])] if "drift" in parts else []
    steady = [_stability(parts["stability"], parts["near-cut"])] if "stability" in parts else []
    answers = _no_answers(few) if few else _answers(summary)
    return [_segments(orders, summary), answers, *_idle_rules(rules), *tiers, *drifted, *steady]


def _stability(stability: "pd.DataFrame", near_cut: "pd.DataFrame") -> "RenderableType":
    from fairladder.cli.screen import table

    rows = [
        [s.change, wording.count(s.customers), wording.percent(s.share)] for s in rows_of(stability)
    ]
    title = (
        "Would other settings change segments? "
        f"{wording.counted(len(near_cut), 'customers', 'are')} near a cut"
    )
    return table(title, ["change", "customers", "share"], rows)


def _tier(name: str, tier: "Tier", summary: "pd.DataFrame") -> "RenderableType":
    from fairladder.cli.screen import table

    own = summary[summary["tier"] == name]
    rows = [
        [r.label, wording.count(r.customers), wording.percent(r.customer_share),
        wording.money(r.spend), wording.percent(r.spend_share)]
        for r in rows_of(own)
    ]  # fmt: skip
    way = f" within each {tier.within}" if tier.within else ""
    best, n = own.iloc[0], int(own["customers"].sum())
    share = wording.percent(best["spend_share"])
    these = f"{wording.count(best['customers'])} of {wording.counted(n, 'customers')}, with {share} of spend"
    title = f"Tier {name} by {tier.of}{way}: {best['label']} are {these}"
    columns = ["tier", "customers", "customer share", "spend", "spend share"]
    return table(title, columns, rows, shares=own["spend_share"].fillna(0).tolist())


def drift_view(drift: "pd.DataFrame", whose: str = "saved") -> "RenderableType":
    """Show how far customers have moved on ladders fitted earlier."""
    from fairladder.cli.screen import table
    from fairladder.ladder.drift import MOVED, STEADY, UNCERTAIN

    rows = []
    for (name, group), rungs in drift.groupby(["ladder", "group"], sort=False, dropna=False):
        first = rungs.iloc[0]
        moved = row_of_largest(rungs, (rungs["share_now"] - rungs["share_then"]).abs().fillna(0))
        text = f"rung {moved['rung']}: {wording.percent(moved['share_then'])} → {wording.percent(moved['share_now'])}"
        grouped = drift.loc[drift["ladder"] == name, "group"].notna().any()
        of = (
            f"{name}, {'(none)' if group is None or group != group else group}" if grouped else name
        )
        beyond = f"{wording.count(first['below'])} below, {wording.count(first['above'])} above"
        rows.append([of, f"{first['drift_index']:.3f}", first["verdict"], text, beyond])
    verdicts = [row[2] for row in rows]
    drift_text = (
        f"{verdicts.count(STEADY)} of {len(verdicts)} are steady, {verdicts.count(MOVED)} should "
        "be fitted again"
    )
    if few := verdicts.count(UNCERTAIN):
        drift_text += f", {few} {'has' if few == 1 else 'have'} too few customers to tell"
    columns = ["ladder", "drift index", "verdict", "largest change", "outside the old range"]
    return table(f"Do the {whose} ladders still fit? {drift_text}", columns, rows, left=1)


def _segments(orders: "Orders", summary: "pd.DataFrame") -> "RenderableType":
    from rich.text import Text

    from fairladder.cli.screen import stance_text, table
    from fairladder.columns import SEGMENTS

    columns = [c.title for c in SEGMENTS if c.name != "orders"]
    rows: list[list[str | Text]] = [
        [
            s.segment, stance_text(s.stance), wording.count(s.customers),
            wording.percent(s.customer_share), wording.money(s.spend),
            wording.percent(s.spend_share), wording.days(s.median_recency_days),
            wording.money(s.average_order_value, 2),
        ]
        for s in rows_of(summary)
    ]  # fmt: skip
    n, total = int(summary["customers"].sum()), wording.money(summary["spend"].sum())
    bold = [
        "all", "", wording.count(n), "", total, "", "", wording.money(_per_order(summary), 2),
    ]  # fmt: skip
    rows.append([Text(cell, style="bold") for cell in bold])
    unit = f" {orders.scheme.money.currency}" if orders.scheme.money.currency else ""
    title = (
        f"Who are the customers, and what to do about them? {wording.counted(n, 'customers')}, "
        f"{total}{unit} spent"
    )
    shares = summary["spend_share"].fillna(0).tolist()
    return table(title, columns, rows, left=2, shares=shares)


def _per_order(summary: "pd.DataFrame") -> float:
    orders = int(summary["orders"].sum())
    return float(summary["spend"].sum()) / orders if orders else float("nan")


def _no_answers(reasons: "list[str]") -> "Text":
    from rich.text import Text

    return Text("\n").join(Text(reason, style="bold") for reason in reasons)


_ANSWERS = (
    ("keep", "The best"),
    ("win-back", "Need a retention campaign"),
    ("leave", "Safe to leave alone"),
)


def _answers(summary: "pd.DataFrame") -> "Text":
    from rich.text import Text

    from fairladder.cli.screen import stance_text

    lines = []
    for stance, words in _ANSWERS:
        these = summary[(summary["stance"] == stance) & (summary["customers"] > 0)]
        if these.empty:
            text = "nobody."
        else:
            n, share, spend = (
                these["customers"].sum(),
                these["customer_share"].sum(),
                these["spend_share"].sum(),
            )
            text = f"{wording.counted(n, 'customers')} ({wording.percent(share)}) with {wording.percent(spend)} of spend: "
            text += ", ".join(these["segment"]) + "."
        lines.append(stance_text(stance, (f"{words}: ", "bold"), (text, "")))
    return Text("\n").join(lines)


def _idle_rules(rules: "pd.DataFrame") -> "list[Text]":
    from rich.text import Text

    idle = rules[rules["placed"] == 0]
    lines = [
        f"Segment {r.segment} is empty: " + ("no customer was left for its rule." if not r.reached else
        f"its {r.shadowed:,} were placed by earlier rules." if r.shadowed else "no customer matches its condition.")
        for r in rows_of(idle)
    ]  # fmt: skip
    return [Text("\n".join(lines))] if lines else []

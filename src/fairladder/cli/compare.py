"""``fairladder compare``: two days, or more, on one yardstick: who moved, and what the change of spend is made of."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from fairladder import looks
from fairladder.cli.options import Request, figure_option, known_period, option
from fairladder.errors import UsageError, nearest

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

    from fairladder.comparison import Comparison, Paths

PARTS = ("segments", "rungs", "movers", "spend_change", "drift")
PATH_PARTS = ("sizes", "paths")
FIGURES = ("flows", "sizes")


Then = Annotated[str | None, option("--then", help="The earlier day.", metavar="DAY", panel="The days")]
Now = Annotated[
    str | None,
    option("--now", help="The later day; the day of reckoning if nothing is said.", metavar="DAY", panel="The days"),
]
Every = Annotated[
    str | None,
    option("--every", help="Days in between, too: month, quarter or year.", metavar="PERIOD", panel="The days"),
]
Ladders = Annotated[
    str,
    option("--ladders", help="then (the earlier day's for both) or each (its own).", metavar="WHOSE", panel="The days"),
]
ScoredThen = Annotated[
    Path | None,
    option("--scored-then", help="A scoring kept from then, in place of ORDERS …", metavar="FILE", panel="The days"),
]
ScoredNow = Annotated[Path | None, option("--scored-now", help="… and one of now.", metavar="FILE", panel="The days")]
FigureOf = Annotated[str | None, figure_option(FIGURES)]


def compare(
    request: Request, then: Then = None, now: Now = None, every: Every = None, ladders: Ladders = "then",
    scored_then: ScoredThen = None, scored_now: ScoredNow = None, figure_of: FigureOf = None,
) -> None:  # fmt: skip
    """Who moved since then, who came and returned, and what is the change of spend made of?"""
    from fairladder.cli import screen

    if not request.orders:
        _of_files(request, scored_then, scored_now)
        return
    if then is None or scored_then or scored_now:
        raise UsageError(
            "Say which days: --then DAY and --now DAY; two kept scorings go without ORDERS, as --scored-then and --scored-now."
        )
    figure_of = figure_of or ("sizes" if every else "flows")
    if figure_of not in FIGURES or (figure_of == "sizes") != bool(every):
        hint = nearest(figure_of, FIGURES) if figure_of not in FIGURES else "sizes goes with --every, flows without."
        raise UsageError(f"--figure-of {figure_of}: {hint}")
    known_period(every)
    orders = screen.opened(request, PATH_PARTS if every else PARTS, figures=True)
    with screen.busy(request, "Scoring both days"):
        from fairladder import comparison

        if every:
            walked = comparison.paths(orders, then, now, every=every)
            parts, view, notes = {"sizes": walked.frame, "paths": walked.paths}, path_views(walked), []
        else:
            if ladders not in ("then", "each"):
                raise UsageError(f"--ladders {ladders}: there are then and each.")
            found = comparison.compare(orders, then, now, yardstick="then" if ladders == "then" else "each")
            parts, view, notes = _tables(found), views(found), list(found.findings)
    shown = orders.on(walked.days[-1] if every else found.now or then)  # the later day, and the rows used by then
    screen.give(request, shown, parts, view, notes=notes)
    if request.figure is not None:
        from fairladder import figures
        from fairladder.targets import replacing

        facts = shown.facts()
        figure = (
            figures.segment_sizes(walked, facts=facts)
            if every
            else figures.segment_flows(found, orders.scheme, facts=facts)
        )
        with replacing(request.figure) as beside:
            figure.savefig(beside)
        screen.note(request, f"Drew {request.figure}.")


def _of_files(request: Request, then: Path | None, now: Path | None) -> None:
    import sys

    from fairladder.cli import screen
    from fairladder.comparison import compare_scored
    from fairladder.files import csv_text, made_safe, write
    from fairladder.targets import require_apart

    if then is None or now is None:
        raise UsageError("Give ORDERS and --then DAY, or two kept scorings: --scored-then FILE and --scored-now FILE.")
    if request.out not in (None, "-"):
        require_apart({"--out": str(request.out)}, [then, now, *([request.scheme] if request.scheme else [])])
    found = compare_scored(_read(then), _read(now), request.scheme_or_default())
    parts = {n: t for n, t in _tables(found).items() if len(t.columns)}
    if request.part is not None and request.part not in parts:
        raise UsageError(f"--part {request.part}: this result has no such part. There are: {', '.join(parts)}.")
    safe = bool(request.spreadsheet_safe)
    if request.out not in (None, "-"):
        write(parts, str(request.out), part=request.part, spreadsheet_safe=safe)
    elif screen.for_people(request):
        screen.show(*views(found))
    else:
        chosen = parts[request.part or "segments"]
        sys.stdout.write(csv_text(made_safe(chosen) if safe else chosen, 2))


def _read(file: Path) -> "pd.DataFrame":
    """A scoring as ``fairladder score`` writes it, ids as text."""
    import pandas as pd

    if not file.is_file():
        raise UsageError(f"There is no file {str(file)!r}.")
    if file.suffix == ".parquet":
        return pd.read_parquet(file)
    if file.suffix == ".csv":
        return pd.read_csv(file, dtype={"customer": str, "name": str}, keep_default_na=False, na_values=[""])
    raise UsageError(f"{str(file)!r}: kept scorings are read as .csv or .parquet.")


def _tables(found: "Comparison") -> "dict[str, pd.DataFrame]":
    return {
        "segments": found.frame,
        "rungs": found.rungs,
        "movers": found.movers,
        "spend_change": found.parts,
        "drift": found.drift,
    }


_MOVES, _MOVERS = 8, 4


def views(found: "Comparison") -> "list[RenderableType]":
    """From–to of segments, who rose and fell the most, what the change of spend is made of, and whether the ladders still fit."""
    from fairladder.cli.score import drift_view
    from fairladder.cli.screen import table

    moved = found.frame[found.frame["from_segment"] != found.frame["to_segment"]].sort_values(
        "customers", ascending=False
    )
    stayed = int(found.frame.loc[found.frame["from_segment"] == found.frame["to_segment"], "customers"].sum())
    rows = [
        [
            m.from_segment,
            f"→ {m.to_segment}",
            looks.count(m.customers),
            looks.money(m.spend_before),
            looks.money(m.spend_after),
        ]
        for m in moved.head(_MOVES).itertuples(index=False)
    ]
    when = f" between {looks.day(found.then)} and {looks.day(found.now)}" if found.then else ""
    more = f"; the largest {_MOVES} of {len(moved)} moves" if len(moved) > _MOVES else ""
    title = (
        f"Who moved{when}? {looks.count(found.moved)} of {looks.count(found.moved + stayed)} customers, "
        f"{looks.count(found.new)} are new, {looks.count(found.returned)} returned{more}"
    )
    pieces = [table(title, ["from", "to", "customers", "spend then", "spend now"], rows, left=2)]
    known = found.movers.dropna(subset="change")
    known = known[known["from_segment"] != "(new)"]
    rose, fell = known[known["change"] > 0], known[known["change"] < 0]
    fell = fell.sort_values(["change", "spend_after", "customer"], ascending=[True, False, True])
    ends = [(told, part) for told, part in (("rose", rose), ("fell", fell)) if len(part)]
    for told, part in ends:
        names = ["name"] if "name" in part else []
        lines = [
            [str(m.customer), *("" if looks.missing(m.name) else str(m.name) for _ in names), m.from_segment, f"→ {m.to_segment}",
             f"{m.score_before:g} → {m.score_after:g}", looks.money(m.spend_before), looks.money(m.spend_after)]
            for m in part.head(_MOVERS).itertuples(index=False)
        ]  # fmt: skip
        columns = ["customer", *names, "from", "to", "total score", "spend then", "spend now"]
        pieces.append(
            table(
                f"Who {told} the most? {looks.count(len(part))} of those who moved {told}",
                columns,
                lines,
                left=3 + len(names),
            )
        )
    return [
        *pieces,
        *([_change(found)] if len(found.parts) else []),
        *([drift_view(found.drift, "earlier")] if len(found.drift) else []),
    ]


def _change(found: "Comparison") -> "RenderableType":
    from fairladder.cli.screen import table

    parts = found.parts
    before, after = float(parts["spend"].iloc[0]), float(parts["spend"].iloc[-1])
    inner = parts.iloc[1:-1]
    largest = inner.loc[(inner["spend"] * (1 if after >= before else -1)).idxmax(), "part"]
    rows = [
        [p.part, looks.count(p.customers), looks.money(p.spend, 2) if i in (0, len(parts) - 1) else f"{p.spend:+,.2f}"]
        for i, p in enumerate(parts.itertuples(index=False))
        if p.customers or i in (0, len(parts) - 1)
    ]
    title = f"What is the change of spend made of? {after - before:+,.0f}, above all from {largest}"
    return table(title, ["part", "customers", "spend"], rows)


def path_views(walked: "Paths") -> "list[RenderableType]":
    """Segment sizes day by day, and the commonest paths."""
    from fairladder.cli.screen import table

    wide = walked.frame.pivot(index="segment", columns="day", values="customers")
    days = list(wide.columns)[-8:]
    order = walked.frame.drop_duplicates("segment")["segment"]
    rows = [[s, *(looks.count(wide.loc[s, d]) for d in days)] for s in order]
    sizes = table(
        f"How large are the segments? On the ladders of {looks.day(walked.days[0])}",
        ["segment", *(f"{d:%Y-%m-%d}" for d in days)],
        rows,
    )
    paths = [
        [p.path, looks.count(p.customers), looks.money(p.spend)] for p in walked.paths.head(10).itertuples(index=False)
    ]
    title = (
        f"Which way do they go? The commonest of {looks.count(len(walked.paths))} paths over {len(walked.days)} days"
    )
    return [sizes, table(title, ["path", "customers", "spend now"], paths)]

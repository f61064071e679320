"""``fairladder compare``: two or more days on the same ladders: who moved, and what the change of
spend consists of.
"""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from fairladder import wording
from fairladder.cli.options import FIGURE_OF, Request, option
from fairladder.days import checked_period
from fairladder.errors import UsageError, nearest
from fairladder.frames import rows_of

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure
    from rich.console import RenderableType

    from fairladder.review.comparison import Comparison, Paths

PARTS = ("segments", "rungs", "movers", "spend-change", "drift")
PATH_PARTS = ("sizes", "paths")
FIGURES = ("flows", "sizes")


Then = Annotated[
    str | None, option("--then", help="The earlier day.", metavar="DAY", panel="The days")
]
Now = Annotated[
    str | None,
    option(
        "--now", help="The later day. Default: the as-of date.", metavar="DAY", panel="The days"
    ),
]
Every = Annotated[
    str | None,
    option(
        "--every",
        help="Include days in between: month, quarter or year.",
        metavar="PERIOD",
        panel="The days",
    ),
]
Ladders = Annotated[
    str,
    option(
        "--ladders",
        help="Ladders: then (the earlier day's for both) or each (each day its own).",
        metavar="WHOSE",
        panel="The days",
    ),
]
ScoredThen = Annotated[
    Path | None,
    option(
        "--scored-then",
        help="A saved scoring of the earlier day, instead of ORDERS …",
        metavar="FILE",
        panel="The days",
    ),
]
ScoredNow = Annotated[
    Path | None,
    option(
        "--scored-now",
        help="… and a saved scoring of the later day.",
        metavar="FILE",
        panel="The days",
    ),
]
FigureOf = Annotated[str | None, FIGURE_OF]


def compare(
    request: Request, then: Then = None, now: Now = None, every: Every = None,
    ladders: Ladders = "then",
    scored_then: ScoredThen = None, scored_now: ScoredNow = None, figure_of: FigureOf = None,
) -> None:  # fmt: skip
    """Who changed segment, who is new or returned, and what does the change of spend consist of?"""
    from fairladder.cli import door, screen

    if not request.orders:
        _of_files(request, scored_then, scored_now)
        return
    if then is None or scored_then or scored_now:
        raise UsageError(
            "Give the days: --then DAY and --now DAY; or two saved scorings without ORDERS, "
            "as --scored-then and --scored-now."
        )
    figure_of = figure_of or ("sizes" if every else "flows")
    if figure_of not in FIGURES or (figure_of == "sizes") != bool(every):
        hint = (
            nearest(figure_of, FIGURES)
            if figure_of not in FIGURES
            else "sizes needs --every; flows cannot be combined with it."
        )
        raise UsageError(f"--figure-of {figure_of}: {hint}")
    if every is not None:
        checked_period(every)
    orders = door.opened(request, PATH_PARTS if every else PARTS, figures=True)
    with screen.busy(request, "Scoring both days", orders.engine):
        from fairladder.review import comparison
        from fairladder.value.to_score import forecast_notes

        if every:
            walked = comparison.paths(orders, then, now, every=every)
            parts, view, notes = walked.tables(), path_views(walked), forecast_notes(orders)
        else:
            if ladders not in ("then", "each"):
                raise UsageError(f"--ladders {ladders}: choose then or each.")
            compared = comparison.compare(
                orders, then, now, yardstick="then" if ladders == "then" else "each"
            )
            parts, view, notes = compared.tables(), views(compared), list(compared.notes)
    shown = orders.on(
        walked.days[-1] if every else compared.now or then
    )  # the later day, and the rows used by the earlier one

    def figure() -> "Figure":
        from fairladder import figures

        facts = shown.facts()
        return (
            figures.segment_sizes(walked, facts=facts)
            if every
            else figures.segment_flows(compared, orders.scheme, facts=facts)
        )

    door.give(request, shown, parts, view, notes=notes, figure=figure)


def _of_files(request: Request, then: Path | None, now: Path | None) -> None:

    from fairladder.cli import door
    from fairladder.output.targets import require_distinct_files
    from fairladder.review.comparison import compare_scored

    if then is None or now is None:
        raise UsageError(
            "Give ORDERS and --then DAY, or two saved scorings: --scored-then FILE and "
            "--scored-now FILE."
        )
    if request.out not in (None, "-"):
        require_distinct_files(
            {"--out": str(request.out)}, [then, now, *([request.scheme] if request.scheme else [])]
        )
    compared = compare_scored(_read(then), _read(now), request.scheme_or_default())
    parts = {n: t for n, t in compared.tables().items() if len(t.columns)}
    if request.part is not None and request.part not in parts:
        raise UsageError(
            f"--part {request.part}: this result has no such part. Choose from: {', '.join(parts)}."
        )
    door.give(request, None, parts, views(compared))


def _read(file: Path) -> "pd.DataFrame":
    """Read a scoring written by ``fairladder score``, with ids as text."""
    import pandas as pd

    if not file.is_file():
        raise UsageError(f"There is no file {str(file)!r}.")
    if file.suffix == ".parquet":
        return pd.read_parquet(file)
    if file.suffix == ".csv":
        return pd.read_csv(
            file, dtype={"customer": str, "name": str}, keep_default_na=False, na_values=[""]
        )
    raise UsageError(f"{str(file)!r}: saved scorings are read as .csv or .parquet.")


_MOVES, _MOVERS = 8, 4


def views(compared: "Comparison") -> "list[RenderableType]":
    """Return moves between segments, largest rises and falls, the components of the change of
    spend, and drift.
    """
    from fairladder.cli.score import drift_view
    from fairladder.cli.screen import table

    moved = compared.frame[
        compared.frame["from_segment"] != compared.frame["to_segment"]
    ].sort_values("customers", ascending=False)
    stayed = int(
        compared.frame.loc[
            compared.frame["from_segment"] == compared.frame["to_segment"], "customers"
        ].sum()
    )
    rows = [
        [
            m.from_segment,
            f"→ {m.to_segment}",
            wording.count(m.customers),
            wording.money(m.spend_before),
            wording.money(m.spend_after),
        ]
        for m in rows_of(moved.head(_MOVES))
    ]
    when = (
        f" between {wording.day(compared.then)} and {wording.day(compared.now)}"
        if compared.then
        else ""
    )
    more = f"; the largest {_MOVES} of {len(moved)} moves" if len(moved) > _MOVES else ""
    title = (
        f"Who moved{when}? {wording.count(compared.moved)} of "
        f"{wording.counted(compared.moved + stayed, 'customers')}, "
        f"{wording.count(compared.new)} are new, {wording.count(compared.returned)} returned{more}"
    )
    pieces = [
        table(
            title,
            ["from segment", "to segment", "customers", "spend before", "spend after"],
            rows,
            left=2,
        )
    ]
    known = compared.movers.dropna(subset="change")
    known = known[known["from_segment"] != "(new)"]
    rose, fell = known[known["change"] > 0], known[known["change"] < 0]
    fell = fell.sort_values(["change", "spend_after", "customer"], ascending=[True, False, True])
    ends = [
        (end, n, part)
        for end, n, part in (("rose", compared.rose, rose), ("fell", compared.fell, fell))
        if n
    ]
    for end, n, part in ends:
        names = ["name"] if "name" in part else []
        lines = [
            [str(m.customer), *("" if wording.missing(m.name) else str(m.name) for _ in names),
            m.from_segment, f"→ {m.to_segment}",
             f"{m.score_before:g} → {m.score_after:g}", wording.money(m.spend_before),
             wording.money(m.spend_after)]
            for m in rows_of(part.head(_MOVERS))
        ]  # fmt: skip
        columns = [
            "customer",
            *names,
            "from segment",
            "to segment",
            "score before → after",
            "spend before",
            "spend after",
        ]
        pieces.append(
            table(
                f"Who {end} most? {wording.count(n)} of those who moved {end}",
                columns,
                lines,
                left=3 + len(names),
            )
        )
    return [
        *pieces,
        *([_change(compared)] if len(compared.parts) else []),
        *([drift_view(compared.drift, "earlier")] if len(compared.drift) else []),
    ]


def _change(compared: "Comparison") -> "RenderableType":
    from fairladder.cli.screen import table

    parts = compared.parts
    rows = [
        [
            p.part,
            wording.count(p.customers),
            wording.money(p.spend, 2) if i in (0, len(parts) - 1) else wording.signed(p.spend, 2),
        ]
        for i, p in enumerate(rows_of(parts))
        if p.customers or i in (0, len(parts) - 1)
    ]
    title = f"Why did spend change? {compared.spend_in_words}"
    return table(title, ["part", "customers", "spend"], rows)


def path_views(walked: "Paths") -> "list[RenderableType]":
    """Return segment sizes day by day, and the most frequent paths."""
    from fairladder.cli.screen import table

    wide = walked.frame.pivot(index="segment", columns="day", values="customers")
    days = list(wide.columns)[-8:]
    order = walked.frame.drop_duplicates("segment")["segment"]
    rows = [[s, *(wording.count(wide.loc[s, d]) for d in days)] for s in order]
    sizes = table(
        f"How large are the segments? On the ladders of {wording.day(walked.days[0])}",
        ["segment", *(f"{d:%Y-%m-%d}" for d in days)],
        rows,
    )
    paths = [
        [p.path, wording.count(p.customers), wording.money(p.spend)]
        for p in rows_of(walked.paths.head(10))
    ]
    title = (
        f"How do customers move? The most frequent of {wording.count(len(walked.paths))} paths "
        f"over {len(walked.days)} days"
    )
    return [sizes, table(title, ["path", "customers", "spend now"], paths)]

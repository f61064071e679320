"""Commands whose customers stay on a Spark cluster: small tables are shown here, customers are written there as parts."""

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from fairladder.cli.options import Request
from fairladder.errors import UsageError
from fairladder.wording import counted

if TYPE_CHECKING:
    from pathlib import Path

    import pandas as pd
    from matplotlib.figure import Figure
    from rich.console import RenderableType
    from sqlglot import exp

    from fairladder.api import Orders
    from fairladder.book.opened import Opened
    from fairladder.cluster.scoring import Scored
    from fairladder.conditions import Kind
    from fairladder.scores.fitting import AnyLadder

#: So many customers of a list are shown.
SHOWN = 12


def require_parts(request: Request, orders: "Opened") -> None:
    """Raise UsageError, before anything is read, where ``--out`` names no folder that executors could write, or none is named."""
    from fairladder.cli import screen
    from fairladder.cluster.parts import require_target
    from fairladder.engine.cluster import local_path

    if request.out not in (None, "-"):
        require_target(orders.engine, str(request.out))
        folder = local_path(str(request.out))
        if folder is not None and any(
            folder.resolve() in (file.resolve(), *file.resolve().parents) for file in orders.input_files
        ):
            raise UsageError(
                f"--out {request.out} holds files that are read. Inputs are never changed; name another folder."
            )
    elif not screen.for_people(request):
        raise UsageError(
            "Customers stay on the cluster, so they are not printed. Say --out NAME.parquet or NAME.csv, a folder of parts that the "
            "executors write."
        )


def came_here(orders: "Orders", why: str) -> str:
    """What has to be said of an answer for which the customers came here."""
    return f"{counted(len(orders.groups), 'customers', 'were')} brought here from the cluster, one row each, {why}."


def customers(
    request: Request, orders: "Orders", when: str | None, sort: str | None, columns: "Sequence[str] | None"
) -> None:
    """``fairladder customers``."""
    from sqlglot import exp

    from fairladder.cli import screen
    from fairladder.cli.customers import view
    from fairladder.cluster.frames import brought
    from fairladder.cluster.scoring import kinds_of
    from fairladder.cluster.selection import selected
    from fairladder.sqltree import column, named, select, sql
    from fairladder.value.to_score import forecast_notes, people_to_score

    engine, measures = orders.engine, (when or "", sort or "")
    with screen.busy(request, "Reducing the orders to customers", engine):
        everybody = engine.keep(people_to_score(orders, *measures))
        chosen = selected(everybody, kinds_of(engine, everybody), when=when, sort=sort, columns=columns)
        people = everybody if when is None else engine.keep(chosen.rows)
    notes = forecast_notes(orders, *measures)
    _write(request, orders, people, chosen.order, notes, chosen.columns)
    shown = []
    if screen.for_people(request):
        falling = exp.Ordered(this=column("spend"), desc=True)
        best = select(["*"], people).order_by(falling, column("customer"), copy=False).limit(SHOWN, copy=False)
        counts = engine.table(select([named(sql("COUNT(CASE WHEN orders > 0 THEN 1 END)"), "bought")], people))
        shown = [view(brought(orders, best), int(counts["bought"][0].as_py()))]
    _show(request, orders, shown, notes)


def orders(request: Request, opened: "Orders") -> None:
    """``fairladder orders``: written, or the latest looked at."""
    from fairladder.cli.orders import view
    from fairladder.history.ledger_on_cluster import ledger_keys, ledger_query

    def look(ledger: "exp.Expr", latest: "pd.DataFrame") -> "RenderableType":
        counts = opened.engine.table(_counted(ledger)).to_pylist()[0]
        return view(latest, counts["bought"], counts["again"], counts["back"])

    query = ledger_query(opened)
    _listed(request, opened, "Listing the orders", query, ledger_keys(opened, query), look)


def lines(request: Request, opened: "Orders") -> None:
    """``fairladder orders --lines``: written, or the latest looked at."""
    from fairladder.cli.orders import lines_view
    from fairladder.history.ledger_on_cluster import line_keys, lines_query
    from fairladder.sqltree import named, select, sql

    scale = 10**opened.scheme.money.decimals

    def look(table: "exp.Expr", latest: "pd.DataFrame") -> "RenderableType":
        minor = sql("SUM(CAST(ROUND(line_amount * :u) AS BIGINT))", u=scale)
        sums = opened.engine.table(select([named(sql("COUNT(*)"), "n"), named(minor, "minor")], table)).to_pylist()[0]
        return lines_view(latest, sums["n"], (sums["minor"] or 0) / scale)

    query = lines_query(opened)
    _listed(request, opened, "Listing the lines", query, line_keys(opened, query), look)


def _listed(
    request: Request,
    opened: "Orders",
    what: str,
    query: "exp.Select",
    keys: Sequence[str],
    look: "Callable[[exp.Expr, pd.DataFrame], RenderableType]",
) -> None:
    """Rows in the order of ``keys``, nulls last: written, or the latest looked at."""
    from sqlglot import exp

    from fairladder.cli import screen
    from fairladder.cli.orders import SHOWN as LATEST
    from fairladder.cluster.frames import brought
    from fairladder.sqltree import column, select

    with screen.busy(request, what, opened.engine):
        table = opened.engine.keep(query)
    _write(request, opened, table, [exp.Ordered(this=column(key), nulls_first=False) for key in keys])
    shown = []
    if screen.for_people(request):
        falling = [exp.Ordered(this=column(key), desc=True, nulls_first=True) for key in keys]
        latest = select(["*"], table).order_by(*falling, copy=False).limit(LATEST, copy=False)
        shown = [look(table, brought(opened, latest).iloc[::-1])]
    _show(request, opened, shown)


def _counted(ledger: "exp.Expr") -> "exp.Select":
    """How many purchases, of them repeat ones, and how many refunds."""
    from fairladder.sqltree import named, select, sql

    trees = {
        "bought": sql("COUNT(nth)"),
        "again": sql("COUNT(CASE WHEN nth > 1 THEN 1 END)"),
        "back": sql("COUNT(CASE WHEN amount < 0 THEN 1 END)"),
    }
    return select([named(tree, name) for name, tree in trees.items()], ledger)


def top(
    request: Request,
    orders: "Orders",
    by: str,
    when: str | None,
    columns: "Sequence[str] | None",
    view: "Callable[[pd.DataFrame], RenderableType]",
    **asked: Any,
) -> None:
    """``fairladder top``; ``view`` shows the list."""
    from fairladder.cli import door, screen
    from fairladder.cluster.frames import brought
    from fairladder.cluster.scoring import kinds_of
    from fairladder.cluster.selection import selected
    from fairladder.cluster.tops import list_order, top_query
    from fairladder.scores.selection import select as some_of
    from fairladder.sqltree import select
    from fairladder.value.to_score import forecast_notes, people_to_score

    engine, measures = orders.engine, (by, when or "")
    with screen.busy(request, "Ranking the customers", engine):
        people = engine.keep(people_to_score(orders, *measures))
        if when is not None:
            chosen = selected(people, kinds_of(engine, people), when=when, sort=None, columns=None)
            people = engine.keep(chosen.rows)
        listed = engine.keep(top_query(engine, people, by, **asked))
    order, notes = list_order(asked["within"]), forecast_notes(orders, *measures)
    columns = selected(listed, kinds_of(engine, listed), when=None, sort=None, columns=columns).columns
    if request.out not in (None, "-"):
        _write(request, orders, listed, order, notes, columns)
        return _show(request, orders, [], notes)
    frame = brought(orders, select(["*"], listed).order_by(*order, copy=False).limit(_MOST_LISTED + 1, copy=False))
    if len(frame) > _MOST_LISTED:
        raise UsageError(
            f"More than {_MOST_LISTED:,} customers are in this list. Write it with --out NAME.parquet or NAME.csv."
        )
    return door.give(request, orders, {"customers": some_of(frame, columns=columns)}, [view(frame)], notes=notes)


#: Longer lists are written by the executors.
_MOST_LISTED = 10_000


def score(
    request: Request,
    orders: "Orders",
    save_ladders: "Path | None",
    with_ladders: "Path | None",
    *,
    when: str | None,
    sort: str | None,
    columns: "Sequence[str] | None",
    stability: bool,
    figure: "Callable[[pd.DataFrame, pd.DataFrame | None], Figure]",
) -> None:
    """``fairladder score``; ``figure`` draws scored customers, and stability where that was asked for."""
    from fairladder.cli import door, screen
    from fairladder.cli.score import views
    from fairladder.cluster import summary
    from fairladder.cluster.selection import selected
    from fairladder.cluster.yardsticks import drift_there, ladder_notes_there, too_few_there
    from fairladder.scores.fairness import segment_notes
    from fairladder.scores.saved import SavedLadders
    from fairladder.value.to_score import forecast_notes

    with screen.busy(request, "Scoring the customers", orders.engine) as progress:
        people = _scored(orders, with_ladders)
        chosen = selected(people.relation, people.kinds, when=when, sort=sort, columns=columns)
        parts = {
            "segments": summary.segment_summary(people),
            "tiers": summary.tier_summary(people),
            "rules": summary.rule_coverage(people),
        }
        if stability:
            from fairladder.review.stability import stability as stability_of

            parts |= stability_of(orders, progress=progress).tables()
        if with_ladders is not None:
            parts["drift"] = drift_there(people.ladders, people)
        few = too_few_there(people)
        notes = [*segment_notes(parts["segments"]), *few, *ladder_notes_there(people), *forecast_notes(orders)]
    if stability or request.figure is not None:
        notes.append(came_here(orders, "to work out the stability" if request.figure is None else "to draw the figure"))

    def drawn() -> "Figure":
        from fairladder.scores.scoring import score as score_here
        from fairladder.value.to_score import customers_to_score

        return figure(
            score_here(customers_to_score(orders), orders.scheme, ladders=people.ladders), parts.get("stability")
        )

    views_ = views(orders, parts, few)
    if request.part in (None, "customers"):
        _write(request, orders, chosen.rows, chosen.order, notes, chosen.columns)
        _show(request, orders, views_ if screen.for_people(request) else [], notes, drawn, seen=few)
    else:
        door.give(request, orders, parts, views_, notes=notes, seen=few, figure=drawn)
    if save_ladders is not None:
        bought = int(parts["segments"]["customers"].sum())
        SavedLadders.of(people.ladders, orders.scheme, bought, orders.as_of).save(save_ladders)
        screen.note(request, f"Saved {len(people.ladders)} ladders in {save_ladders}.")


def ladders_and_kinds(
    request: Request, orders: "Orders", with_ladders: "Path | None"
) -> "tuple[Mapping[str, AnyLadder], Mapping[str, Kind]]":
    """What ``fairladder score --as-sql`` writes down: the ladders, and the kind of each column."""
    from fairladder.cli import screen

    with screen.busy(request, "Scoring the customers", orders.engine):
        people = _scored(orders, with_ladders)
    return people.ladders, people.kinds


def _scored(orders: "Orders", with_ladders: "Path | None") -> "Scored":
    from fairladder.scores.saved import load_ladders
    from fairladder.value.to_score import scored_there

    ladders = load_ladders(with_ladders).for_scheme(orders.scheme) if with_ladders else None
    return scored_there(orders, ladders=ladders)


def _write(
    request: Request,
    orders: "Orders",
    rows: "exp.Expr",
    by: "Sequence[exp.Expr]",
    notes: Sequence[str] = (),
    columns: Sequence[str] | None = None,
) -> None:
    """Write the rows as parts where ``--out`` names them; without it they are only looked at."""
    from fairladder.cli import screen
    from fairladder.cluster.parts import write_parts

    if request.out in (None, "-"):
        return
    facts = orders.facts()
    facts["notes"] = [*facts["notes"], *notes]
    with screen.busy(request, "Writing", orders.engine):
        decimals = orders.scheme.money.decimals
        write_parts(orders.engine, rows, str(request.out), by=by, columns=columns, decimals=decimals, facts=facts)
    screen.note(request, f"Wrote the parts of {request.out}.")


def _show(
    request: Request,
    orders: "Orders",
    shown: "Sequence[RenderableType]",
    notes: Sequence[str] = (),
    figure: "Callable[[], Figure] | None" = None,
    seen: Sequence[str] = (),
) -> None:
    """Views, notes, the figure and the exit code, of a result that has been written already."""
    from fairladder.cli import door

    door.give(
        request, orders, _NOTHING, shown, notes=notes, seen=seen if shown else (), write=lambda: None, figure=figure
    )


_NOTHING: "dict[str, pd.DataFrame]" = {}

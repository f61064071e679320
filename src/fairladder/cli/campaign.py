"""``fairladder campaign``: which customers to contact or hold out, and why; and, with ``--results``, the
measured effect.
"""

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Annotated, Any

from fairladder import wording
from fairladder.cli.options import FIGURE_OF, PseudonymKey, Request, as_fraction, option, secret_key
from fairladder.errors import UsageError, nearest
from fairladder.frames import rows_of
from fairladder.settings import WHO, of_part

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure
    from rich.console import RenderableType

    from fairladder.api import Orders
    from fairladder.campaigns.lift import Lift
    from fairladder.campaigns.listing import CampaignList

PARTS = ("list", "contacts", "holdout", "funnel")
RESULT_PARTS = ("lift", *PARTS)
LISTED_PARTS = ("lift", "list", "contacts", "holdout")
FIGURES = ("funnel", "lift")
_AFTER = "Measuring the effect"


Name = Annotated[
    str | None,
    option("--name", help=of_part("campaigns")["name"].sentence, metavar="NAME", panel=WHO),
]
Results = Annotated[
    str | None,
    option(
        "--results",
        help="Orders placed after the list was made: measure the campaign with them.",
        metavar="ORDERS",
        panel=_AFTER,
    ),
]
ListFile = Annotated[
    str | None,
    option(
        "--list",
        help="The list that was used. By default it is made again.",
        metavar="FILE",
        panel=_AFTER,
    ),
]
MeasureFrom = Annotated[
    str | None,
    option(
        "--measure-from",
        help="First day that counts. Default: the day after the list.",
        metavar="DAY",
        panel=_AFTER,
    ),
]
MeasureThrough = Annotated[
    str | None,
    option(
        "--measure-through",
        help="Last day that counts. Default: the last day of the results.",
        metavar="DAY",
        panel=_AFTER,
    ),
]
Effect = Annotated[
    str | None,
    option(
        "--plan-effect",
        help="Print how large a holdout detects this rise: 0.02 or 2%.",
        metavar="FRACTION",
        panel=_AFTER,
    ),
]
Base = Annotated[
    str | None,
    option(
        "--base-rate",
        help="Response without the campaign, for --plan-effect: 0.05 or 5%.",
        metavar="FRACTION",
        panel=_AFTER,
    ),
]
FigureOf = Annotated[str | None, FIGURE_OF]


def campaign(
    request: Request, options: Mapping[str, Any], name: Name = None, pseudonym_key: PseudonymKey = None,
    results: Results = None,
    list_: ListFile = None, measure_from: MeasureFrom = None,
    measure_through: MeasureThrough = None,
    plan_effect: Effect = None, base_rate: Base = None,
    figure_of: FigureOf = None,
) -> None:  # fmt: skip
    """Which customers to contact, why, and which to hold out? With --results: did it work?"""
    from fairladder.cli import door, screen

    figure_of = figure_of or ("lift" if results else "funnel")
    if figure_of not in FIGURES or (figure_of == "lift" and not results):
        raise UsageError(
            f"--figure-of {figure_of}: "
            f"{'it needs --results' if figure_of in FIGURES else nearest(figure_of, FIGURES)}."
        )
    if (plan_effect is None) != (base_rate is None):
        raise UsageError(
            "--plan-effect and --base-rate go together: the rise to detect, and the "
            "response without the campaign."
        )
    rise, base = as_fraction("--plan-effect", plan_effect), as_fraction("--base-rate", base_rate)
    if list_ and not results:
        raise UsageError("--list needs --results, the orders by which it is measured.")
    read = [
        *options.get("exclude", ()),
        *options.get("contacted", ()),
        pseudonym_key,
        list_,
        results if results and "://" not in results else None,
    ]
    parts_there = LISTED_PARTS if list_ else RESULT_PARTS if results else PARTS
    orders = door.opened(request, parts_there, figures=True, inputs=read)
    if results and list_:
        notes = (
            [f"The list is read from {list_}; the conditions given have no effect."]
            if options
            else []
        )
        listed = _Listed.from_file(list_, name or "the campaign", orders)
        _measure(
            request, orders, listed, results, (measure_from, measure_through), figure_of, notes
        )
        return
    plans_only = results is None and name is None and not options and not orders.scheme.campaigns
    if rise is not None and base is not None and plans_only:
        _plan(request, orders, base, rise)
        return
    with screen.busy(request, "Making the list", orders.engine):
        lists = _lists(orders, name, options, secret_key(pseudonym_key))
    if results:
        _measure(
            request,
            orders,
            _Listed.made_now(lists),
            results,
            (measure_from, measure_through),
            figure_of,
            [],
        )
        return
    parts = _parts(lists)
    notes = [
        f"{n}: {sentence}" if len(lists) > 1 else sentence
        for n, made in lists.items()
        for sentence in made.notes
    ]
    if rise is not None and base is not None:
        from fairladder.campaigns.lift import plan_holdout

        notes += [
            f"{n}: {plan_holdout(len(made.frame), base, rise).in_words()}"
            for n, made in lists.items()
        ]
    receipts = [dict(made.receipt) for made in lists.values()]
    view = [piece for made in lists.values() for piece in views(made)]
    door.give(
        request,
        orders,
        parts,
        view,
        notes=notes,
        more_facts={"receipt": receipts},
        safe=True,
        figure=lambda: _figure("funnel", orders, next(iter(lists.values()))),
    )


def _lists(
    orders: "Orders", name: str | None, options: Mapping[str, Any], secret: bytes | None
) -> "dict[str, CampaignList]":
    from fairladder.campaigns import listing

    if name is None and not options:
        return listing.campaign_lists(orders, pseudonym_key=secret)
    if name is not None and not options and name in {c.name for c in orders.scheme.campaigns}:
        # Earlier campaigns come first, so that no customer is on two lists.
        return {name: listing.campaign_lists(orders, pseudonym_key=secret)[name]}
    made = listing.campaign(orders, name, pseudonym_key=secret, **options)
    return {made.campaign.name: made}


def _parts(lists: "dict[str, CampaignList]") -> "dict[str, pd.DataFrame]":
    """Return the lists as one table, with the campaign's name if there are several."""
    import pandas as pd

    if len(lists) == 1:
        made = next(iter(lists.values()))
        return {
            "list": made.frame,
            "contacts": made.contacts,
            "holdout": made.holdout,
            "funnel": made.funnel,
        }
    several = {n: made.frame.assign(campaign=n) for n, made in lists.items()}
    whole = pd.concat(several.values(), ignore_index=True)
    whole = whole[
        ["campaign", *(c for c in whole.columns if c not in ("campaign", "listed_on")), "listed_on"]
    ]
    whole["group"] = whole["group"].astype(str)
    funnel = pd.concat(
        [made.funnel.assign(campaign=n) for n, made in lists.items()], ignore_index=True
    )
    return {
        "list": whole, "contacts": whole[whole["group"] == "contact"],
        "holdout": whole[whole["group"] == "holdout"],
        "funnel": funnel[["campaign", "step", "customers", "removed"]],
    }  # fmt: skip


@dataclass(frozen=True)
class _Listed:
    """The list that results are measured by: made again with the same settings, or read from a
    file.
    """

    name: str
    frame: "pd.DataFrame"
    parts: "dict[str, pd.DataFrame]"
    made: "CampaignList | None" = None
    trouble: str = ""

    @classmethod
    def made_now(cls, lists: "dict[str, CampaignList]") -> "_Listed":
        if len(lists) > 1:
            raise UsageError(
                f"--results measures one campaign; choose it with --name: {', '.join(lists)}."
            )
        made = next(iter(lists.values()))
        return cls(made.campaign.name, made.frame, _parts(lists), made)

    @classmethod
    def from_file(cls, file: str, name: str, orders: "Orders") -> "_Listed":
        from fairladder.campaigns.people import read_list
        from fairladder.output.files import receipt_trouble

        frame = read_list(file, orders.rows.source.engine)
        groups = {
            part: frame[frame["group"] == group]
            for part, group in (("contacts", "contact"), ("holdout", "holdout"))
        }
        return cls(name, frame, {"list": frame, **groups}, None, receipt_trouble(file) or "")


def _measure(
    request: Request, orders: "Orders", listed: _Listed, results: str,
    window: tuple[str | None, str | None], figure_of: str,
    notes: list[str],
) -> None:  # fmt: skip
    from fairladder.api import Orders
    from fairladder.book.kept_orders import OrderTable
    from fairladder.book.read import read
    from fairladder.campaigns.lift import lift
    from fairladder.cli import door, screen

    own = request.scheme_or_default()  # its days are those of the list, not of the results
    theirs = own.model_copy(
        update={"time": own.time.model_copy(update={"as_of": None, "from_": None, "through": None})}
    )
    opened = replace(request, orders=results, settings={**request.settings, "time": {}}).opened(
        theirs
    )
    later = read(opened, OrderTable((), mixed=False, sequence=False), kind=Orders)
    until, why = _until(window[1], orders, listed, later)
    measured = lift(listed.frame, later, since=window[0], through=until)
    door.give(
        request,
        later,
        {"lift": measured.frame, **listed.parts},
        lift_view(measured, listed.name),
        notes=[
            *([f"Warning: {listed.trouble}"] if listed.trouble else []),
            *notes,
            *why,
            *measured.notes,
            *([] if screen.for_people(request) else [measured.in_words()]),
        ],
        safe=True,
        figure=lambda: _figure(figure_of, later, listed.made, measured),
    )


def _until(
    through: str | None, orders: "Orders", listed: _Listed, later: "Orders"
) -> tuple[str | None, list[str]]:
    """Return the last day that is measured: the requested as-of date, if it is after the list's and
    within the results.
    """
    requested_day = orders.scheme.time.as_of
    if through or requested_day is None or later.as_of is None or listed.frame.empty:
        return through, []
    import pandas as pd

    if not pd.Timestamp(listed.frame["listed_on"].max()).date() < requested_day <= later.as_of:
        return None, []
    return str(requested_day), [
        f"Measured up to the as-of date, {wording.day(requested_day)}; use --measure-through for "
        "another day."
    ]


def _plan(request: Request, orders: "Orders", base: float, rise: float) -> None:
    """Print how large a holdout among all buyers must be, if no list is requested."""
    import pandas as pd
    from rich.text import Text

    from fairladder.campaigns.lift import plan_holdout
    from fairladder.cli import door, screen

    if request.figure is not None:
        raise UsageError(
            "There is no list yet, so there is no funnel to draw. Give conditions, or omit "
            "--figure."
        )
    customers = orders.customers_here()
    plan = plan_holdout(int((customers["orders"] > 0).sum()), base, rise)
    plan_text = (
        f"{plan.in_words()} This is for all customers with a purchase; give conditions to plan "
        "for those on the list."
    )
    frame = pd.DataFrame(
        [
            {
                "customers": plan.customers,
                "base_rate": base,
                "rise": rise,
                "held_out": plan.held_out,
                "smallest_rise": plan.smallest,
            }
        ]
    )
    door.give(
        request,
        orders,
        {"plan": frame},
        [Text(plan_text)],
        notes=[] if screen.for_people(request) else [plan_text],
    )


def _figure(
    name: str, orders: "Orders", made: "CampaignList | None", measured: "Lift | None" = None
) -> "Figure":
    from fairladder import figures

    facts = orders.facts()
    if name == "lift" and measured is not None:
        return figures.campaign_lift(measured, facts=facts)
    if made is None:
        raise UsageError(
            f"--figure-of {name}: a list that is read from a file has no funnel. Draw the lift."
        )
    return figures.campaign_funnel(made, facts=facts)


_SHOWN = 12


def views(made: "CampaignList") -> "list[RenderableType]":
    """Return the funnel and the head of the list."""
    from fairladder.cli.screen import table

    contacts, frame, by = made.contacts, made.frame, made.campaign.by
    steps = [
        [s.step, wording.count(s.customers), f"− {wording.count(s.removed)}" if s.removed else ""]
        for s in rows_of(made.funnel)
    ]
    held = len(frame) - len(contacts)
    text = f"{wording.counted(len(contacts), 'customers')}" + (
        f", and {wording.count(held)} held out for comparison" if held else ""
    )
    funnel = table(
        f"Who is on the {_list_of(made.campaign.name)}? {text}",
        ["step", "customers", "removed"],
        steps,
    )
    texts = ["customer", *(["name"] if "name" in frame else []), "group", "segment", "reason"]
    rows = [
        [*("" if wording.missing(r[n]) else str(r[n]) for n in texts), wording.count(r["rank"]),
        _shown(r[by])]
        for _, r in frame.head(_SHOWN).iterrows()
    ]  # fmt: skip
    columns = [*texts, "rank", by]
    more = f"; the first {_SHOWN} of {wording.count(len(frame))}" if len(frame) > _SHOWN else ""
    return [
        funnel,
        *([table(f"Ranked by {by}{more}", columns, rows, left=len(texts))] if rows else []),
    ]


def _list_of(name: str) -> str:
    """Return how a title names the list of a campaign, which may have no name of its own."""
    return "list" if name == "campaign" else f"list {name}"


def _shown(cell: Any) -> str:
    if wording.missing(cell):
        return wording.NOTHING
    return cell.date().isoformat() if isinstance(cell, dt.datetime) else wording.value(cell)


def lift_view(measured: "Lift", name: str) -> "list[RenderableType]":
    """Return the comparison overall and by segment, and the conclusion."""
    from rich.text import Text

    from fairladder.cli.screen import table

    rows = [
        [r["segment"], *_sizes(r), *_response(r), *_spend(r)] for _, r in measured.frame.iterrows()
    ]
    columns = [
        "segment",
        "contacted",
        "held out",
        "response contacted",
        "response held out",
        "lift",
        "95 %",
        "p",
    ]
    columns += ["spend contacted", "spend held out", "spend lift", "95 %", "p"]
    first = measured.frame.iloc[0]
    spent = wording.money(first["spend_lift"], 2)
    title = f"Did {name} work? " + (
        "There is no comparison" if wording.missing(first["response_lift"])
        else f"{_points(first['response_lift'])} points of response, {spent} of spend per customer"
    )  # fmt: skip
    several = (
        " Segments are tested one by one: of twenty, one would look significant by chance alone."
        if len(rows) > 2
        else ""
    )
    return [table(title, columns, rows), Text(measured.in_words() + several)]


def _sizes(r: "pd.Series[Any]") -> list[str]:
    return [wording.count(r["contacted"]), wording.count(r["held_out"])]


def _response(r: "pd.Series[Any]") -> list[str]:
    rates = [wording.percent(r["response_contacted"]), wording.percent(r["response_held_out"])]
    low, high = _points(r["response_low"]), _points(r["response_high"])
    return [*rates, _points(r["response_lift"]), _span(low, high), _p(r["response_p"])]


def _spend(r: "pd.Series[Any]") -> list[str]:
    each, held, more, low, high = (
        wording.money(r[f"spend_{n}"], 2) for n in ("contacted", "held_out", "lift", "low", "high")
    )
    return [each, held, more, _span(low, high), _p(r["spend_p"])]


def _span(low: str, high: str) -> str:
    return wording.NOTHING if low == high == wording.NOTHING else f"{low} to {high}"


def _points(share: float) -> str:
    return wording.NOTHING if wording.missing(share) else wording.signed(100 * share, 1)


def _p(value: float) -> str:
    return (
        wording.NOTHING
        if wording.missing(value)
        else "under 0.001"
        if value < 0.001
        else f"{value:.3f}"
    )

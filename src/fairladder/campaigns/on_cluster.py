"""Who is listed, of customers that stay on a cluster: each step is asked there, and what comes here is the list."""

import datetime as dt
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import replace

import numpy as np
import pandas as pd
import pyarrow as pa
from sqlglot import exp

from fairladder.book.read import Read
from fairladder.campaigns.listing import (
    RETURN,
    Chosen,
    asked_of,
    bought_as_asked,
    largest_bought,
    limit_step,
    places_and_ties,
)
from fairladder.campaigns.people import contacted_since, ids_in
from fairladder.cluster.frames import brought
from fairladder.cluster.passing import owned, passing
from fairladder.cluster.scoring import Scored
from fairladder.cluster.tops import top_query
from fairladder.conditions import Condition, to_engine
from fairladder.errors import UsageError, nearest
from fairladder.orders.words import YES_WORDS, said
from fairladder.scheme import Campaign
from fairladder.scores.scoring import by_own_names
from fairladder.sqltree import column, named, select, sql
from fairladder.value.to_score import beside

#: Longer lists do not come here.
MOST_LISTED = 1_000_000
#: A column of more answers than this is none of consent.
_MOST_ANSWERS = 10_000


def chosen_there(orders: Read, settings: Campaign, scored: Scored, taken: Collection[str]) -> Chosen:
    """Who is listed, as ``listing`` finds them among customers that are here.

    Raises UsageError as that does, and for a list of more than ``MOST_LISTED``.
    """
    with passing(orders.engine):
        return _chosen(orders, settings, scored, taken)


def with_worth(orders: Read, scored: Scored, worth_of: Callable[[Read, Iterable[str]], "pd.Series[float]"]) -> Scored:
    """Scored customers with what their return would be worth (``RETURN``), 0 where nothing is forecast; worked out here, sent back.

    Raises UsageError where there are too many customers for that, and as ``worth_of`` does.
    """
    orders.require_few_there()
    worth = worth_of(orders, scored.kinds).rename(RETURN).rename_axis("customer").reset_index()
    with passing(orders.engine) as last:
        sent = beside(orders, scored.relation, worth)
        filled = named(sql("COALESCE(:w, 0.0e0)", w=column(RETURN)), RETURN)
        relation = last(orders.engine.keep(select([*map(column, scored.columns), filled], sent, "sent")))
    made = replace(scored, relation=relation, kinds={**scored.kinds, RETURN: "number"})
    owned(orders.engine, made, relation)
    return made


def _with_response(scored: Scored, response: float | None) -> Scored:
    """Scored customers with what such a response would bring, or without it where a campaign has none."""
    if RETURN not in scored.kinds:
        return scored
    kinds = {n: k for n, k in scored.kinds.items() if n != RETURN}
    query = select([column(n) for n in kinds], scored.relation)
    if response is not None:
        kinds[RETURN] = "number"
        query = query.select(named(sql(":w * :r", w=column(RETURN), r=response), RETURN), copy=False)
    return replace(scored, relation=scored.engine.keep(query), kinds=kinds)


def _chosen(orders: Read, settings: Campaign, scored: Scored, taken: Collection[str]) -> Chosen:
    engine, scored = orders.engine, _with_response(scored, settings.response)
    own = {n: ours for n, ours in scored.scheme.own_names().items() if n not in scored.kinds and ours in scored.kinds}
    people: exp.Expr = scored.relation
    condition = asked_of(settings, {**scored.kinds, **{n: scored.kinds[ours] for n, ours in own.items()}})
    answers = _answers(scored, settings) if settings.consent else None
    steps = [("customers", _count(orders, people))]
    for step, test in _wanted(
        orders, settings, condition, answers, taken, {n: column(own.get(n, n)) for n in (*scored.kinds, *own)}
    ):
        people = engine.keep(select(["*"], exp.alias_(people, "people", table=True)).where(test, copy=False))
        steps.append((step, _count(orders, people)))
    places, ties = places_and_ties(settings)
    listed, rank = _ranked(orders, settings.by, people, places, ties, steps[-1][1])
    if places is not None:
        steps.append((limit_step(places), len(listed)))
    listed = by_own_names(listed, scored.scheme)
    bought = _bought_by(orders, settings, listed["customer"]) if settings.asks_for_purchase else None
    told = None if answers is None else answers.groupby("said")["n"].sum()
    return Chosen(tuple(steps), listed, rank, condition, bought, told)


def _wanted(
    orders: Read, settings: Campaign, condition: Condition | None, answers: pd.DataFrame | None, taken: Collection[str],
    cells: Mapping[str, exp.Expr],
) -> Iterator[tuple[str, exp.Expr]]:  # fmt: skip
    """Each thing that is asked of a customer, in the order of the funnel, as a test there."""
    engine = orders.engine

    def among(ids: Collection[str]) -> exp.Expr:
        offered = engine.offer(pa.table({"id": pa.array(sorted(ids), pa.string())}))
        return exp.Exists(
            this=select(["1"], exp.alias_(offered, "some", table=True)).where("some.id = people.customer")
        )

    if condition is not None:
        yield "condition holds", to_engine(condition, cells)
    if settings.asks_for_purchase:
        bought = select(["1"], bought_as_asked(orders, settings), "bought").where("bought.customer = people.customer")
        yield "bought as asked", exp.Exists(this=bought)
    if settings.exclude:
        yield "not excluded", exp.Not(this=among(ids_in(settings.exclude, orders.roles["customer"], engine)))
    if answers is not None:
        yes = answers[answers["said"].isin(YES_WORDS)]["cell"]
        offered = engine.offer(pa.table({"cell": pa.Array.from_pandas(yes)})) if len(yes) else None
        same = exp.EQ(this=sql("some.cell"), expression=exp.column(str(settings.consent), "people", quoted=True))
        some = None if offered is None else select(["1"], exp.alias_(offered, "some", table=True)).where(same)
        yield "gave consent", exp.false() if some is None else exp.Exists(this=some)
    if settings.contacted and orders.as_of is not None:
        since = orders.as_of - dt.timedelta(days=settings.contacted_days or 0)
        yield "not contacted lately", exp.Not(this=among(contacted_since(settings.contacted, since, engine)))
    if taken:
        yield "not in an earlier campaign", exp.Not(this=among(taken))


def _answers(scored: Scored, settings: Campaign) -> pd.DataFrame:
    """What the column of consent holds: ``cell``, ``said`` and how often (``n``)."""
    name = str(settings.consent)
    if name not in scored.kinds:
        raise UsageError(
            f"Campaign `{settings.name}`: there is no consent column `{name}` among the customers. {nearest(name, scored.kinds)}"
        )
    counted = select([named(column(name), "cell"), named(sql("COUNT(*)"), "n")], scored.relation)
    counted = counted.group_by(column(name), copy=False).limit(_MOST_ANSWERS + 1, copy=False)
    frame: pd.DataFrame = scored.engine.table(counted).to_pandas(date_as_object=False)
    if len(frame) > _MOST_ANSWERS:
        raise UsageError(
            f"Campaign `{settings.name}`: `{name}` holds more than {_MOST_ANSWERS:,} different cells, so it is no consent. Name "
            "another column."
        )
    cells = frame["cell"]
    return frame.assign(said=cells.astype(object).where(cells.notna(), "").astype(str).map(said))


def _count(orders: Read, people: exp.Expr) -> int:
    return int(orders.engine.table(select([named(sql("COUNT(*)"), "n")], people))["n"][0].as_py())


def _ranked(
    orders: Read, by: str, people: exp.Expr, places: int | None, ties: str, eligible: int
) -> "tuple[pd.DataFrame, np.ndarray[tuple[int], np.dtype[np.int64]]]":
    """The people within the limit, by rank and then by id, and their ranks."""
    if not eligible or places == 0:
        nobody = select(["*"], people).where(exp.false(), copy=False)
        return brought(orders, nobody), np.zeros(0, dtype=np.int64)
    query = top_query(
        orders.engine, people, by, count=eligible if places is None else places, percent=None, worst=False, within=None,
        everybody=True, ties=ties,
    )  # fmt: skip
    listed = brought(orders, query.limit(MOST_LISTED + 1, copy=False))
    if len(listed) > MOST_LISTED:
        raise UsageError(
            f"More than {MOST_LISTED:,} customers would be on this list, which is made here. Give it a limit or a budget, or select "
            "from the parts that `fairladder score` writes."
        )
    rank = listed.pop("rank").to_numpy(dtype=np.int64)
    return listed.rename(columns={"rank (cell)": "rank"}), rank


def _bought_by(orders: Read, settings: Campaign, ids: "pd.Series[str]") -> pd.DataFrame:
    """The purchases that were asked for, of those who are listed."""
    offered = orders.engine.offer(pa.table({"id": pa.array(ids, pa.string())}))
    bought = select(["bought.*"], bought_as_asked(orders, settings), "bought")
    bought = bought.join(exp.alias_(offered, "some", table=True), on="some.id = bought.customer", copy=False)
    return largest_bought(orders.frame(bought))

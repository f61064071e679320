"""Build the list of a campaign: eligibility, exclusions, limit, holdout, and a reason for each
customer.
"""

import datetime as dt
import hashlib
import json
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
from numpy.typing import NDArray
from sqlglot import exp

from fairladder import wording
from fairladder.book.read import Read
from fairladder.campaigns.holdout import held_out, pseudonyms
from fairladder.campaigns.limit import paid_in_words, pays_down_to, places_of
from fairladder.campaigns.people import contacted_since, ids_in
from fairladder.conditions import Condition, Kind, parse_condition, to_engine
from fairladder.engine.protocol import CustomerEngine
from fairladder.errors import UsageError, nearest
from fairladder.frames import categorical
from fairladder.numbers import half_away, ratio
from fairladder.orders.source import short_names
from fairladder.orders.words import NO_WORDS, YES_WORDS, said
from fairladder.output.files import digest_of, receipt_trouble
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer
from fairladder.scheme import Campaign, scheme_from
from fairladder.scores.scored import Scored
from fairladder.scores.top import top_list
from fairladder.sqltree import column, day_literal, named, select, sql
from fairladder.value.to_score import forecast_notes, scored, with_computed_columns

#: The column with the expected return of a contact.
RETURN = "expected_return"


@dataclass(frozen=True)
class CampaignList(Answer):
    """A list, sorted by rank, then id.

    ``frame``: ``customer``, ``name`` (if known), ``group`` (``contact`` or ``holdout``), ``rank``
    (by the campaign's measure among all eligible customers), ``segment``, ``reason``, the measure
    and the columns that the condition uses, ``listed_on`` (the as-of date). ``funnel``: ``step``,
    ``customers`` left after it, ``removed`` by it. ``receipt``: all of it as plain values with
    settings and digests, which prove that the same inputs give the same list.
    """

    campaign: Campaign
    frame: pd.DataFrame
    funnel: pd.DataFrame
    receipt: Mapping[str, Any] = field(repr=False)
    notes: tuple[str, ...]

    @property
    def contacts(self) -> pd.DataFrame:
        """The customers to contact."""
        return self.frame[(self.frame["group"] == "contact").to_numpy()].reset_index(drop=True)

    @property
    def holdout(self) -> pd.DataFrame:
        """The customers held out for comparison."""
        return self.frame[(self.frame["group"] == "holdout").to_numpy()].reset_index(drop=True)

    def finding(self) -> str:
        """Return how many customers are to be contacted and held out."""
        held = len(self.frame) - len(self.contacts)
        share = f" ({100 * held / len(self.frame):.1f} %)" if len(self.frame) else ""
        return f"Campaign {self.campaign.name}: {len(self.contacts):,} to contact, {held:,} held out{share}"

    def __repr__(self) -> str:
        return f"{self.finding()}\n{self.funnel.to_string(index=False)}"

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``list``, ``contacts``, ``holdout`` and ``funnel``."""
        return {
            "list": self.frame,
            "contacts": self.contacts,
            "holdout": self.holdout,
            "funnel": self.funnel,
        }

    def facts(self) -> dict[str, Any]:
        """Return the receipt, with which the list can be made again and compared."""
        return {"receipt": dict(self.receipt), "notes": list(self.notes)}

    def pieces(self) -> list[Piece]:
        """Return the funnel and the head of the list."""
        return [Piece("funnel", self.funnel), Piece("list", self.frame)]


@dataclass(frozen=True)
class Chosen:
    """The customers on the list and the steps that led to them, before the holdout is drawn."""

    steps: tuple[tuple[str, int], ...]
    """Each step of the funnel with the number of customers left."""
    people: pd.DataFrame
    """The scored columns of the customers, sorted by rank, then id."""
    rank: NDArray[np.int64]
    condition: Condition | None
    bought: pd.DataFrame | None
    """If a purchase is required: ``amount`` (minor units) and ``placed_on`` of that purchase, by
    customer.
    """
    answers: "pd.Series[int] | None"
    """Value of the consent column (normalised by ``orders.words.said``) → frequency among all
    customers.
    """


def campaign(
    orders: Read,
    name: str | None = None,
    *,
    when: str | None = None,
    bought_from: dt.date | None = None,
    bought_through: dt.date | None = None,
    at_least: float | None = None,
    exclude: Sequence[str] | None = None,
    consent: str | None = None,
    contacted: Sequence[str] | None = None,
    contacted_days: int | None = None,
    limit: int | None = None,
    budget: float | None = None,
    cost: float | None = None,
    by: str | None = None,
    response: float | str | None = None,
    ties: str | None = None,
    holdout: float | str | None = None,
    pseudonym_key: bytes | None = None,
) -> CampaignList:
    """Return the list of one campaign.

    ``name`` is the name of one of the scheme's ``[[campaigns]]``, whose keys the other arguments
    override, or a new name. The arguments have the same meaning as in the scheme. Earlier campaigns
    of the scheme do not exclude anyone; ``campaign_lists`` makes all of them together. With
    ``pseudonym_key`` ids become keyed hashes and names are omitted. With ``response`` (the share of
    inactive customers that a contact brings back) customers have an ``expected_return``, by which
    they can be ranked: the expected return of a contact over the scheme's horizon (see
    ``worth_of_return``), 0 without a forecast.

    Raises UsageError for a wrong name, option, column or file; ConditionError for a wrong
    condition; DataError if no customer has a purchase.

    >>> import fairladder as fl
    >>> made = fl.campaign(fl.sample_orders(), when="stance = 'win-back'", limit=50, holdout=20)
    >>> (len(made.contacts), len(made.holdout))
    (42, 8)
    """
    known = {c.name: c for c in orders.scheme.campaigns}
    options: dict[str, Any] = {
        "when": when, "bought_from": bought_from, "bought_through": bought_through,
        "at_least": at_least, "exclude": exclude,
        "consent": consent, "contacted": contacted, "contacted_days": contacted_days,
        "limit": limit, "budget": budget, "cost": cost,
        "by": by, "response": response, "ties": ties, "holdout": holdout,
    }  # fmt: skip
    given = {
        k: list(v) if k in ("exclude", "contacted") else v
        for k, v in options.items()
        if v is not None
    }
    if name is not None and name not in known and not given:
        hint = nearest(name, known) if known else "The scheme has no [[campaigns]]."
        raise UsageError(f"There is no campaign `{name}` in the scheme. {hint}")
    base = (
        known[name].model_dump(exclude_defaults=True)
        if name in known
        else {"name": name or "campaign"}
    )
    settings = scheme_from({"campaigns": [{**base, **given}]}, "the campaign").campaigns[0]
    people = _scored(orders, [settings])
    return _listed(orders, settings, people, set(), pseudonym_key)


def campaign_lists(orders: Read, *, pseudonym_key: bytes | None = None) -> dict[str, CampaignList]:
    """Return the lists of all campaigns of the scheme. A customer on one list, held out or not, is
    on no later list.

    Raises as ``campaign`` does, and UsageError if the scheme has no campaigns.
    """
    campaigns = orders.scheme.campaigns
    if not campaigns:
        raise UsageError(
            "The scheme has no [[campaigns]]. Write one, or select customers with --when or "
            "--bought-from."
        )
    people = _scored(orders, campaigns)
    taken: set[str] = set()
    lists = {}
    for one in campaigns:
        made = _listed(orders, one, people, taken, None)
        taken |= set(made.frame["customer"])
        lists[one.name] = (
            made
            if pseudonym_key is None
            else _listed(orders, one, people, taken - set(made.frame["customer"]), pseudonym_key)
        )
    return lists


def _scored(orders: Read, campaigns: Sequence[Campaign]) -> Scored:
    """Return the scored customers, with the worth of their return if a campaign has a response."""
    people = scored(orders, *(c.when or "" for c in campaigns), *(c.by for c in campaigns))
    return people if all(c.response is None for c in campaigns) else _with_worth(orders, people)


def _worth(orders: Read, columns: Iterable[object]) -> "pd.Series[float]":
    """Return the worth of each customer's return, by id. Raises UsageError if the customers already
    have such a column.
    """
    if RETURN in set(columns):
        raise UsageError(
            f"The customers already have a column `{RETURN}`, the name of the expected "
            "return of a contact; rename it."
        )
    from fairladder.value.forecast import value_forecast  # importing SciPy takes a second
    from fairladder.value.what_if import worth_of_return

    return worth_of_return(value_forecast(orders, earlier=False), 1.0)


def _listed(
    orders: Read,
    settings: Campaign,
    people: Scored,
    taken: Collection[str],
    pseudonym_key: bytes | None,
) -> CampaignList:
    assert orders.as_of is not None
    with orders.customer_engine.passing():
        chosen = _chosen(orders, settings, people, taken)
    out = held_out(settings.name, chosen.people["customer"], settings.holdout)
    steps = list(chosen.steps)
    if settings.holdout:
        steps.append(("to contact", int((~out).sum())))
    frame = _frame(orders, settings, chosen, out)
    if pseudonym_key is not None:
        frame["customer"] = pseudonyms(frame["customer"], pseudonym_key)
        frame = frame.drop(columns="name", errors="ignore")
    funnel = pd.DataFrame(steps, columns=["step", "customers"])
    funnel["removed"] = -funnel["customers"].diff().fillna(0).astype(np.int64)
    notes = _notes(settings, frame, orders, chosen)
    return CampaignList(
        settings, frame, funnel, _receipt(orders, settings, frame, funnel), tuple(notes)
    )


def _with_worth(orders: Read, people: Scored) -> Scored:
    """Add the worth of their return (``RETURN``) to scored customers, 0 without a forecast.

    Computed on this machine. Raises UsageError if there are too many customers for that, and as
    ``_worth`` does.
    """
    orders.groups.require_few()
    engine = orders.customer_engine
    worth = _worth(orders, people.kinds).rename(RETURN).rename_axis("customer").reset_index()
    with engine.passing() as last:
        sent = with_computed_columns(orders, people.relation, worth)
        filled = named(sql("COALESCE(:w, 0.0e0)", w=column(RETURN)), RETURN)
        relation = last(engine.keep(select([*map(column, people.kinds), filled], sent, "sent")))
    made = replace(people, relation=relation, kinds={**people.kinds, RETURN: "number"})
    engine.own(made, relation)
    return made


def _with_response(people: Scored, response: float | None) -> Scored:
    """Return scored customers with the expected return at this response; without it if there is
    none.
    """
    if RETURN not in people.kinds:
        return people
    kinds = {n: k for n, k in people.kinds.items() if n != RETURN}
    query = select([column(n) for n in kinds], people.relation)
    if response is not None:
        kinds[RETURN] = "number"
        query = query.select(
            named(sql(":w * :r", w=column(RETURN), r=response), RETURN), copy=False
        )
    return replace(people, relation=people.engine.keep(query), kinds=kinds)


def _chosen(orders: Read, settings: Campaign, people: Scored, taken: Collection[str]) -> Chosen:
    """Return the customers on the list."""
    engine, people = orders.customer_engine, _with_response(people, settings.response)
    own = people.own_names
    condition = condition_of(
        settings, {**people.kinds, **{n: people.kinds[ours] for n, ours in own.items()}}
    )
    answers = _answers(people, settings) if settings.consent else None
    still: exp.Expr = people.relation
    steps = [("customers", _count(engine, still))]
    cells = {n: column(own.get(n, n)) for n in (*people.kinds, *own)}
    for step, test in _wanted(orders, settings, condition, answers, taken, cells):
        still = engine.keep(
            select(["*"], exp.alias_(still, "people", table=True)).where(test, copy=False)
        )
        steps.append((step, _count(engine, still)))
    places, ties = places_and_ties(settings)
    listed, rank = _ranked(orders, settings.by, still, places, ties, steps[-1][1])
    if places is not None:
        steps.append((limit_step(places), len(listed)))
    listed = listed.assign(**{n: listed[ours] for n, ours in own.items()})
    bought = (
        _bought_by(orders, settings, listed["customer"]) if settings.asks_for_purchase else None
    )
    answer_counts = None if answers is None else answers.groupby("said")["n"].sum()
    return Chosen(tuple(steps), listed, rank, condition, bought, answer_counts)


def _wanted(
    orders: Read, settings: Campaign, condition: Condition | None, answers: pd.DataFrame | None,
    taken: Collection[str],
    cells: Mapping[str, exp.Expr],
) -> Iterator[tuple[str, exp.Expr]]:  # fmt: skip
    """Yield each requirement on a customer, in the order of the funnel, with its SQL condition."""
    engine = orders.customer_engine

    def among(ids: Collection[str]) -> exp.Expr:
        offered = engine.offer(pa.table({"id": pa.array(sorted(ids), pa.string())}))
        return exp.Exists(
            this=select(["1"], exp.alias_(offered, "some", table=True)).where(
                "some.id = people.customer"
            )
        )

    if condition is not None:
        yield "condition holds", to_engine(condition, cells)
    if settings.asks_for_purchase:
        there = orders.engine.hand_over(matching_purchases(orders, settings), keep=False)
        bought = select(["1"], select(["*"], there), "bought").where(
            "bought.customer = people.customer"
        )
        yield "made the purchase", exp.Exists(this=bought)
    if settings.exclude:
        yield (
            "not excluded",
            exp.Not(this=among(ids_in(settings.exclude, orders.roles["customer"], engine))),
        )
    if answers is not None:
        yes = answers[answers["said"].isin(YES_WORDS)]["cell"]
        offered = engine.offer(pa.table({"cell": pa.Array.from_pandas(yes)})) if len(yes) else None
        same = exp.EQ(
            this=sql("some.cell"),
            expression=exp.column(str(settings.consent), "people", quoted=True),
        )
        some = (
            None
            if offered is None
            else select(["1"], exp.alias_(offered, "some", table=True)).where(same)
        )
        yield "gave consent", exp.false() if some is None else exp.Exists(this=some)
    if settings.contacted and orders.as_of is not None:
        since = orders.as_of - dt.timedelta(days=settings.contacted_days or 0)
        yield (
            "not contacted recently",
            exp.Not(this=among(contacted_since(settings.contacted, since, engine))),
        )
    if taken:
        yield "not in an earlier campaign", exp.Not(this=among(taken))


def _answers(people: Scored, settings: Campaign) -> pd.DataFrame:
    """Return the values in the consent column: ``cell``, ``said`` and how often (``n``)."""
    name = str(settings.consent)
    if name not in people.kinds:
        raise UsageError(
            f"Campaign `{settings.name}`: there is no consent column `{name}` among the "
            f"customers. {nearest(name, people.kinds)}"
        )
    counted = select([named(column(name), "cell"), named(sql("COUNT(*)"), "n")], people.relation)
    counted = counted.group_by(column(name), copy=False).limit(_MOST_ANSWERS + 1, copy=False)
    frame: pd.DataFrame = people.engine.table(counted).to_pandas(date_as_object=False)
    if len(frame) > _MOST_ANSWERS:
        raise UsageError(
            f"Campaign `{settings.name}`: `{name}` contains more than {_MOST_ANSWERS:,} "
            "different cells, so it is not a consent column. Name another one."
        )
    cells = frame["cell"]
    return frame.assign(said=cells.astype(object).where(cells.notna(), "").astype(str).map(said))


def _count(engine: CustomerEngine, people: exp.Expr) -> int:
    return int(engine.table(select([named(sql("COUNT(*)"), "n")], people))["n"][0].as_py())


def _ranked(
    orders: Read, by: str, people: exp.Expr, places: int | None, ties: str, eligible: int
) -> "tuple[pd.DataFrame, np.ndarray[tuple[int], np.dtype[np.int64]]]":
    """Return the people within the limit, sorted by rank and then by id, and their ranks."""
    if not eligible or places == 0:
        no_rows = select(["*"], people).where(exp.false(), copy=False)
        return orders.frame_of(orders.customer_engine.table(no_rows)), np.zeros(0, dtype=np.int64)
    count = eligible if places is None else places
    listed = top_list(orders, people, by, count=count, all_customers=True, ties=ties).frame()
    rank = listed.pop("rank").to_numpy(dtype=np.int64)
    return listed.rename(columns={"rank (cell)": "rank"}), rank


def _bought_by(orders: Read, settings: Campaign, ids: "pd.Series[str]") -> pd.DataFrame:
    """Return the requested purchases of the customers listed."""
    engine = orders.customer_engine
    offered = engine.offer(pa.table({"id": pa.array(ids, pa.string())}))
    there = orders.engine.hand_over(matching_purchases(orders, settings), keep=False)
    bought = select(["bought.*"], select(["*"], there), "bought")
    bought = bought.join(
        exp.alias_(offered, "some", table=True), on="some.id = bought.customer", copy=False
    )
    return largest_bought(engine.table(bought).to_pandas(date_as_object=False))


#: A column with more different answers is not a consent column.
_MOST_ANSWERS = 10_000


def condition_of(settings: Campaign, kinds: Mapping[str, Kind]) -> Condition | None:
    """Return the campaign's condition over columns of these kinds, or None.

    Raises UsageError if it ranks by a column that is not a number or date, ConditionError for a
    wrong condition.
    """
    if settings.by not in kinds or kinds[settings.by] not in ("number", "day"):
        hint = nearest(settings.by, [n for n, k in kinds.items() if k in ("number", "day")])
        raise UsageError(
            f"Campaign `{settings.name}`: there is no column of numbers or dates "
            f"`{settings.by}` to rank by. {hint}"
        )
    return (
        parse_condition(settings.when, kinds, f"campaign `{settings.name}`")
        if settings.when
        else None
    )


def limit_step(places: int) -> str:
    """Return the name of the limit's step in the funnel."""
    return f"within the limit of {places:,}"


def places_and_ties(settings: Campaign) -> "tuple[int | None, Any]":
    """Return the number of places, and how ties at the last place are treated."""
    if settings.budget is not None and settings.cost is not None:
        return places_of(settings.budget, settings.cost), settings.ties or "exclude"
    return settings.limit, settings.ties or "include"


def _consent_note(answers: "pd.Series[int]", settings: Campaign) -> str:
    """Return a note on the values of the consent column, since consent must not be guessed
    silently.
    """
    words = answers.index
    yes, blank = int(answers[words.isin(YES_WORDS)].sum()), int(answers[words == ""].sum())
    no = int(answers[words.isin(NO_WORDS - {""})].sum())
    other = answers[~words.isin(YES_WORDS | NO_WORDS | {""})]
    text = f"Consent by `{settings.consent}`: {wording.count(yes)} yes, {wording.count(no)} no, {wording.count(blank)} blank."
    if other.empty:
        return text
    seen = other.sort_index().sort_values(ascending=False, kind="stable").index
    shown = ", ".join(f"`{wording.plain(word)}`" for word in seen[:3]) + (
        " and others" if len(seen) > 3 else ""
    )
    return (
        f"Warning: {text[:-1]}, and {wording.count(int(other.sum()))} neither ({shown}), "
        "which counts as no. Change these cells to yes or no if that is wrong."
    )


def matching_purchases(orders: Read, settings: Campaign) -> exp.Select:
    """Return the requested purchases: ``customer``, ``placed_on``, ``amount`` (minor units)."""
    scale = 10**orders.scheme.money.decimals
    wanted = [sql("amount > 0")]
    if settings.at_least is not None:
        wanted.append(sql("amount >= :n", n=_minor(settings.at_least, scale)))
    for day, test in (
        (settings.bought_from, "placed_on >= :d"),
        (settings.bought_through, "placed_on <= :d"),
    ):
        if day is not None:
            wanted.append(sql(test, d=day_literal(day)))
    placed = select(
        [column("customer"), column("placed_on"), column("amount")],
        orders.order_table([], sequence=False, history=False),
        "orders",
    )
    return placed.where(*wanted, copy=False)


def largest_bought(bought: pd.DataFrame) -> pd.DataFrame:
    """Return each customer's largest requested purchase, the latest of equals: ``placed_on`` and
    ``amount``, by customer.
    """
    bought = bought.astype({"placed_on": "datetime64[s]"}).sort_values(
        ["customer", "amount", "placed_on"], ascending=[True, False, False]
    )
    return bought.drop_duplicates("customer").set_index("customer")


def _minor(amount: int | float, scale: int) -> int:
    """Return the smallest whole minor units that are at least the amount."""
    return -int(-Fraction(str(amount)) * scale // 1)


def _frame(
    orders: Read, settings: Campaign, chosen: Chosen, out: NDArray[np.bool_]
) -> pd.DataFrame:  # fmt: skip
    listed, rank, bought = chosen.people, chosen.rank, chosen.bought
    names = sorted(chosen.condition.names) if chosen.condition else []
    reasons = [settings.when] if settings.when else []
    reason: Any = "; ".join(reasons)
    if bought is not None:
        orders_of = bought.loc[listed["customer"]]
        amounts = ratio(
            orders_of["amount"].to_numpy(dtype=np.int64), 10**orders.scheme.money.decimals
        )
        days = orders_of["placed_on"].dt.strftime("%Y-%m-%d")
        decimals = orders.scheme.money.decimals
        reason = [
            "; ".join([*reasons, f"bought {a:.{decimals}f} on {d}"])
            for a, d in zip(amounts, days, strict=True)
        ]
    elif not reasons:
        reason = "all customers"
    first: dict[str, Any] = {"customer": listed["customer"].to_numpy()}
    if "name" in listed:
        first["name"] = listed["name"].to_numpy()
    first |= {
        "group": categorical(out.astype(np.int8), ["contact", "holdout"]), "rank": rank,
        "segment": listed["segment"].to_numpy(), "reason": reason,
    }  # fmt: skip
    shown = [
        n
        for n in dict.fromkeys([settings.by, *names, *([RETURN] if RETURN in listed else [])])
        if n not in first
    ]
    frame = pd.DataFrame(first, index=range(len(listed))).join(listed[shown].reset_index(drop=True))
    return frame.assign(
        listed_on=pd.Series(
            pd.Timestamp(str(orders.as_of)), index=frame.index, dtype="datetime64[s]"
        )
    )


def _receipt(
    orders: Read, settings: Campaign, frame: pd.DataFrame, funnel: pd.DataFrame
) -> dict[str, Any]:
    """Return counts, settings and digests as plain values."""
    files = [
        f
        for f in (*orders.input_files, *map(Path, (*settings.exclude, *settings.contacted)))
        if f.is_file()
    ]
    ids = "\n".join(
        f"{g} {c}" for g, c in zip(frame["group"].astype(str), frame["customer"], strict=True)
    )
    plain = settings.model_dump(mode="json")
    settings_json = json.dumps(
        {"campaign": plain, "scheme": orders.scheme.as_json()}, sort_keys=True
    )
    return {
        "campaign": plain, "as_of": str(orders.as_of), "funnel": funnel.to_dict("records"),
        "groups": {g: int(n) for g, n in frame["group"].value_counts(sort=False).items()},
        "digests": {
            "list": _digest(ids.encode()), "settings": _digest(settings_json.encode()),
            "files": dict(zip(short_names(files), map(digest_of, files), strict=True)),
        },
    }  # fmt: skip


def _digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _notes(settings: Campaign, frame: pd.DataFrame, orders: Read, chosen: Chosen) -> list[str]:
    notes = [
        f"Warning: {sentence}" for sentence in map(receipt_trouble, settings.contacted) if sentence
    ]
    notes += forecast_notes(
        orders, settings.when or "", settings.by, needed=settings.response is not None
    )
    if chosen.answers is not None:
        notes.append(_consent_note(chosen.answers, settings))
    if settings.holdout and len(frame):
        held = int((frame["group"] == "holdout").sum())
        notes.append(
            f"{wording.count(held)} of {wording.count(len(frame))} customers are held out "
            f"({wording.percent(held / len(frame))}); you asked for {settings.holdout:g} %."
        )
    places, ties = places_and_ties(settings)
    if places is not None and len(frame) != places:
        why = (
            "all customers tied with the last one are included"
            if len(frame) > places
            else "customers tied at the limit are excluded"
            if ties == "exclude"
            else ""
        )
        if len(frame) < places and (ties == "include" or not why):
            why = "no other customers are eligible"
        notes.append(
            f"The limit is {wording.count(places)}, and {wording.count(len(frame))} are listed: "
            f"{why}."
        )
    if settings.cost is not None:
        paid = half_away(
            int((frame["group"] == "contact").sum()) * Fraction(str(settings.cost)) * 100
        )
        notes.append(
            f"Contacting them costs {wording.money(paid / 100, 2)} of "
            f"{wording.money(settings.budget, 2)}."
        )
    if settings.response is not None and settings.cost is not None:
        contacts = frame[(frame["group"] == "contact").to_numpy()][RETURN].to_numpy(np.float64)
        notes.append(
            paid_in_words(*pays_down_to(contacts, settings.cost), len(contacts), settings.cost)
        )
    if settings.bought_through and orders.as_of and settings.bought_through > orders.as_of:
        notes.append(
            f"The window for purchases ends on {settings.bought_through}, after the as-of "
            f"date {orders.as_of}."
        )
    return notes

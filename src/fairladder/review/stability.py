"""Measure how much a scoring depends on arbitrary choices: the day, the number of rungs, the
method, the sample.
"""

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from fairladder.book.read import Read
from fairladder.book.spend import bought as bought_of
from fairladder.errors import DataError
from fairladder.frames import rows_of
from fairladder.ladder import GroupedLadder, Ladder
from fairladder.output.result import Answer
from fairladder.scheme import Scheme
from fairladder.scores.fitting import SCORES, AnyLadder
from fairladder.scores.on_frames import fit_ladders, score
from fairladder.scores.rescoring import rescoring_of
from fairladder.scores.scored import Scored, fit_all, kinds_of, scored_of
from fairladder.steps import Progress, Steps, seen_by
from fairladder.value.to_score import customers_to_score, people_to_score, scored

#: A customer who keeps the segment in fewer resamples is near a cut.
CONVERGED = 0.9
_MOST_RESAMPLES, _FEWEST_RESAMPLES, _CUSTOMERS_IN_ALL = 200, 20, 2_000_000


@dataclass(frozen=True)
class Stability(Answer):
    """How many customers would be in another segment after each change (``frame``), and which are
    near a cut (``customers``).

    ``frame``: ``change``, ``customers`` (in another segment), ``share`` (of all, 0..1).
    ``customers``, least stable first: ``customer``, ``segment``, ``keeps_segment`` (share of
    resamples, 0..1), ``other_segment`` (the most frequent other one, null if there is none),
    ``a_day_matters`` (a day earlier or later changes the segment).
    """

    frame: pd.DataFrame
    customers: pd.DataFrame
    resamples: int

    @property
    def near_cut(self) -> pd.DataFrame:
        """Customers near a cut: they keep their segment in under 90 % of resamples, or a day
        changes it.
        """
        hair = (self.customers["keeps_segment"] < CONVERGED) | self.customers["a_day_matters"]
        return self.customers[hair]

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return ``stability`` and ``near-cut``."""
        return {"stability": self.frame, "near-cut": self.near_cut}

    def __repr__(self) -> str:
        lines = "".join(
            f"\n  {r.change}: {r.customers:,} ({100 * r.share:.1f} %)" for r in rows_of(self.frame)
        )
        return f"Customers in another segment after:{lines}\n{len(self.near_cut):,} are near a cut"


def stability(
    orders: Read, *, resamples: int | None = None, seed: int = 0, progress: Progress | None = None
) -> Stability:
    """Score again with one choice changed at a time, and count the customers whose segment changes.

    The changes: a day earlier and later, quartiles instead of the scheme's rungs (stretched over
    them, so that the rules still use the same numbers), each other method, and ladders fitted to
    ``resamples`` bootstrap samples of the customers (drawn with replacement from ``seed``; by
    default 200, fewer from 10,000 customers on). ``progress`` is called with the share of the
    resamples that is done, 0..1. Raises DataError if no customer has a purchase.
    """
    people, scheme, day = scored(orders), orders.scheme, orders.as_of
    assert day is not None
    engine, customers = people.engine, customers_to_score(orders)
    segment = _segments(people)
    moved: dict[str, NDArray[np.bool_]] = {}
    for name, other in (
        ("a day earlier", day - dt.timedelta(days=1)),
        ("a day later", day + dt.timedelta(days=1)),
    ):
        moved[name] = _moved(segment, _segments_on(orders.on(other)))
    with engine.passing():
        base = engine.keep(people_to_score(orders))
        kinds = kinds_of(engine, base)

        def tried(
            other: Scheme, ladders: Mapping[str, AnyLadder] | None = None
        ) -> NDArray[np.bool_]:
            return _moved(segment, _segments(scored_of(engine, other, base, kinds, ladders)))

        four = fit_all(engine, base, kinds, _in_quartiles(scheme))
        stretched = {name: _stretched(four[name], scheme.scores.rungs) for name in SCORES}
        moved["quartiles instead of the rungs"] = tried(scheme, {**people.ladders, **stretched})
        for method in ("even", "inclusive", "exclusive", "inverse"):
            if method != scheme.scores.method:
                moved[f"method {method}"] = tried(_with_method(scheme, method))
    times = resamples or max(
        _FEWEST_RESAMPLES, min(_MOST_RESAMPLES, _CUSTOMERS_IN_ALL // len(customers))
    )
    steps = Steps(seen_by(progress, "Trying other samples"), times)
    keeps, others, per_resample = _bootstrapped(customers, people, segment, times, seed, steps)
    lines = [(name, int(m.sum()), float(m.mean())) for name, m in moved.items()]
    typical = int(np.median(per_resample))
    lines.append(
        (f"another sample of customers (median of {times})", typical, typical / len(customers))
    )
    table = pd.DataFrame({
        "customer": customers["customer"].to_numpy(), "segment": segment.to_numpy(),
        "keeps_segment": keeps,
        "other_segment": others, "a_day_matters": moved["a day earlier"] | moved["a day later"],
    })  # fmt: skip
    table = table.sort_values(["keeps_segment", "customer"], kind="stable").reset_index(drop=True)
    return Stability(pd.DataFrame(lines, columns=["change", "customers", "share"]), table, times)


def _segments(people: Scored) -> "pd.Series[str]":
    return pd.Series(people.segments())


def _segments_on(orders: Read) -> "pd.Series[str]":
    """Return the segments as of another day; empty on a day before all purchases."""
    try:
        return _segments(scored(orders))
    except DataError:
        return pd.Series(dtype=object)


def _moved(before: "pd.Series[str]", after: "pd.Series[str]") -> NDArray[np.bool_]:
    """Return a mask of customers in another segment, or missing, after the change."""
    return np.asarray(after.reindex(before.index).fillna("").to_numpy() != before.to_numpy())


def _with_method(scheme: Scheme, method: str) -> Scheme:
    return scheme.model_copy(
        update={"scores": scheme.scores.model_copy(update={"method": method, "shares": None})}
    )


def _in_quartiles(scheme: Scheme) -> Scheme:
    scores = scheme.scores.model_copy(update={"rungs": 4, "method": "even", "shares": None})
    return scheme.model_copy(update={"scores": scores, "tiers": {}})


def _stretched(ladder: AnyLadder, rungs: int) -> AnyLadder:
    """Spread a ladder over ``rungs`` rungs: rung 1 stays 1, the highest becomes the highest, the
    others are in between.
    """
    if isinstance(ladder, GroupedLadder):
        each = {group: _stretched(one, rungs) for group, one in ladder.ladders.items()}
        return GroupedLadder(
            ladder.within, {g: one for g, one in each.items() if isinstance(one, Ladder)}
        )
    steps = ladder.rungs - 1
    place = [1 + (2 * i * (rungs - 1) + steps) // (2 * steps) for i in range(ladder.rungs)]
    reached = [sum(p <= j for p in place) for j in range(1, rungs)]
    return Ladder(
        tuple(ladder.cuts[min(n, steps) - 1] if n else -np.inf for n in reached),
        ladder.better,
        ladder.method,
    )


def _bootstrapped(
    customers: pd.DataFrame,
    people: Scored,
    segment: "pd.Series[str]",
    times: int,
    seed: int,
    steps: Steps,
) -> tuple[NDArray[np.float64], list[str | None], NDArray[np.int64]]:
    """Return per customer the share of resamples that keep the segment and the most frequent other
    one; per resample the number of changes.
    """
    scheme = people.scheme
    names = [s.name for s in scheme.segments]
    code = {name: i for i, name in enumerate(names)}
    home = segment.map(code).to_numpy()
    counts = np.zeros((len(customers), len(names)), dtype=np.int32)
    generator, all_rows = np.random.default_rng(seed), np.arange(len(customers))
    samples = (np.sort(generator.choice(all_rows, len(all_rows))) for _ in steps.over(range(times)))
    bought = bought_of(customers)
    samples = (rows if bought[rows].any() else all_rows for rows in samples)
    quick = rescoring_of(customers, people)
    if quick is not None:
        placed = quick.segments([quick.ladders(rows) for rows in samples])
    else:
        each = (
            score(customers, scheme, ladders=fit_ladders(customers.iloc[rows], scheme))
            for rows in samples
        )
        placed = np.array([there["segment"].astype(str).map(code).to_numpy() for there in each])
    for there in placed:
        counts[all_rows, there] += 1
    moved = (placed != home).sum(axis=1)
    keeps = counts[all_rows, home] / times
    counts[all_rows, home] = 0
    commonest, most = counts.argmax(axis=1), counts.max(axis=1)
    return keeps, [names[c] if m else None for c, m in zip(commonest, most, strict=True)], moved

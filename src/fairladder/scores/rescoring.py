"""Score the same customers on many sets of ladders: fit ladders to samples, and assign segments for
all sets together.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd
import pyarrow as pa
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.book.spend import bought as bought_of
from fairladder.conditions import parse_condition
from fairladder.engine.arrays import as_array
from fairladder.scores.as_sql import rules_of, totals
from fairladder.scores.fitting import SCORES, AnyLadder, Fitting, fitting_of_score
from fairladder.scores.scored import SCORE_KINDS, Scored
from fairladder.sqltree import case, column, named, select, sql

#: Rows processed per batch.
_ROWS = 2_000_000
_OWN = (*SCORES, "score_total", "score_code")


@dataclass(frozen=True)
class Rescoring:
    """Customers prepared for repeated scoring, equal to ``score``, in which only ladders change."""

    people: Scored
    ids: NDArray[np.object_]
    """The ids of the customers in order, shape (n,)."""
    place: NDArray[np.int64]
    """Each customer's position among those with a purchase, −1 without one."""
    fittings: Mapping[str, Fitting]

    def ladders(self, rows: NDArray[np.int64]) -> dict[str, AnyLadder]:
        """Fit the ladders of the scores to these customers (row positions, repeated if drawn
        again), some of them with a purchase.
        """
        buyers = self.place[rows]
        return {name: fitting.on(buyers[buyers >= 0]) for name, fitting in self.fittings.items()}

    def segments(self, sets: Sequence[Mapping[str, AnyLadder]]) -> NDArray[np.int64]:
        """Return the index of the rule that places each customer on each set of ladders: shape
        (sets, customers).
        """
        n = len(self.place)
        each = max(_ROWS // max(n, 1), 1)
        with self.people.engine.passing():
            theirs = self._theirs()
            parts = [self._segments(sets[i : i + each], theirs) for i in range(0, len(sets), each)]
        return np.concatenate(parts) if parts else np.zeros((0, n), dtype=np.int64)

    def _theirs(self) -> exp.Expr:
        """Return the customers' columns that rules use, other than scores, with their row
        positions.
        """
        engine = self.people.engine
        places = engine.offer(
            pa.table({"whose": pa.array(self.ids, pa.string()), "place": np.arange(len(self.ids))})
        )
        kept = [column(name) for name in self.people.kinds if name not in _OWN]
        joined = select(
            [*kept, column("place")], exp.alias_(self.people.relation, "people", table=True)
        )
        return engine.keep(
            joined.join(
                exp.alias_(places, "places", table=True), on=sql("customer = whose"), copy=False
            )
        )

    def _segments(
        self, sets: Sequence[Mapping[str, AnyLadder]], theirs: exp.Expr
    ) -> NDArray[np.int64]:
        n, bought, engine = len(self.place), self.place >= 0, self.people.engine
        rungs = np.zeros((3, len(sets), n), dtype=np.int64)
        for row, (name, fitting) in zip(rungs, self.fittings.items(), strict=True):
            for there, ladders in zip(row, sets, strict=True):
                there[bought] = fitting.placed(ladders[name])
        columns = {
            name: pa.array(row.reshape(-1), mask=row.reshape(-1) == 0)
            for name, row in zip(SCORES, rungs, strict=True)
        }
        numbers = np.arange(rungs[0].size)
        offered = engine.offer(pa.table({**columns, "number": numbers, "of": numbers % n}))
        scored = select(
            ["theirs.*", *map(column, SCORES), column("number")],
            exp.alias_(theirs, "theirs", table=True),
        )
        scored = scored.join(
            exp.alias_(offered, "sets", table=True), on=sql('place = "of"'), copy=False
        )
        totalled = select(["*", *totals(self.people.scheme)], scored, "scored")
        rules = rules_of(self.people.scheme, {**self.people.kinds, **SCORE_KINDS})
        numbered = [(test, exp.convert(i)) for i, (test, _) in enumerate(rules)]
        placed = case(numbered, exp.convert(len(self.people.scheme.segments) - 1))
        query = select(
            [named(exp.cast(placed, "BIGINT"), "rule"), column("number")], totalled, "totalled"
        )
        table = engine.table(
            select([column("rule")], query, "placed").order_by("number", copy=False)
        )
        return np.asarray(as_array(table["rule"])).reshape(len(sets), n)


def rescoring_of(customers: pd.DataFrame, people: Scored) -> Rescoring | None:
    """Prepare scored customers, also given as the DataFrame ``customers``, for repeated scoring.

    Returns None if a rule uses a tier, whose ladder depends on the others.
    """
    scheme = people.scheme
    kinds = {**people.kinds, **{n: people.kinds[ours] for n, ours in people.own_names.items()}}
    used = set().union(
        *(parse_condition(s.when, kinds).names for s in scheme.segments if s.when is not None)
    )
    if used & scheme.tiers.keys():
        return None
    bought = bought_of(customers)
    buyers = customers[bought]
    fittings = {
        name: fitting_of_score(buyers, measure, better, scheme)
        for name, (measure, better) in SCORES.items()
    }
    place = np.where(bought, np.cumsum(bought) - 1, -1)
    return Rescoring(people, customers["customer"].to_numpy(dtype=object), place, fittings)

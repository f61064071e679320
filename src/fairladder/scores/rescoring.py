"""The same customers on many sets of ladders: fitted to samples of them, and placed in segments for all sets at once."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from fairladder.book.spend import bought as bought_of
from fairladder.conditions import frame_kinds, parse_condition
from fairladder.scheme import Scheme
from fairladder.scores.fitting import SCORES, AnyLadder, Fitting, fitting_of_score
from fairladder.scores.scoring import by_own_names, first_rules, score_columns, with_percentiles

#: So many rows are looked at together.
_ROWS = 200_000


@dataclass(frozen=True)
class Rescoring:
    """Customers prepared for scoring again and again, as ``score`` would: only ladders change."""

    scheme: Scheme
    place: NDArray[np.int64]
    """Each customer's place among those with a purchase, −1 without one."""
    fittings: Mapping[str, Fitting]
    named: pd.DataFrame
    """The columns that rules name, apart from those that ladders compute."""

    def ladders(self, rows: NDArray[np.int64]) -> dict[str, AnyLadder]:
        """The ladders of the scores, fitted to these customers (places, repeated where drawn again), some with a purchase."""
        buyers = self.place[rows]
        return {name: fitting.on(buyers[buyers >= 0]) for name, fitting in self.fittings.items()}

    def segments(self, sets: Sequence[Mapping[str, AnyLadder]]) -> NDArray[np.int64]:
        """The rule that places each customer on each set of ladders, by its number: shape (sets, customers)."""
        n = len(self.place)
        each = max(_ROWS // max(n, 1), 1)
        parts = [self._segments(sets[i : i + each]) for i in range(0, len(sets), each)]
        return np.concatenate(parts) if parts else np.zeros((0, n), dtype=np.int64)

    def _segments(self, sets: Sequence[Mapping[str, AnyLadder]]) -> NDArray[np.int64]:
        n, bought = len(self.place), self.place >= 0
        rungs = np.zeros((3, len(sets), n), dtype=np.int64)
        for row, (name, fitting) in zip(rungs, self.fittings.items(), strict=True):
            for place, ladders in zip(row, sets, strict=True):
                place[bought] = fitting.placed(ladders[name])
        flat = rungs.reshape(3, -1)
        most = max((ladders[name].rungs for ladders in sets for name in SCORES), default=0)
        repeated = self.named.iloc[np.tile(np.arange(n), len(sets))].reset_index(drop=True)
        scored = repeated.assign(**score_columns(flat, self.scheme, most))
        return first_rules(scored, self.scheme).astype(np.int64).reshape(len(sets), n)


def rescoring_of(customers: pd.DataFrame, scheme: Scheme) -> Rescoring | None:
    """Customers prepared to be scored many times; None where a rule names a tier, whose ladder depends on the others."""
    everything = by_own_names(with_percentiles(customers, scheme), scheme)
    nobody = np.zeros((3, len(customers)), dtype=np.int64)
    of_ladders = score_columns(nobody, scheme, 1)
    kinds = frame_kinds(everything.assign(**of_ladders)) | dict.fromkeys(scheme.tiers, "text")
    used = set().union(*(parse_condition(s.when, kinds).names for s in scheme.segments if s.when is not None))
    if used & scheme.tiers.keys():
        return None
    bought = bought_of(customers)
    buyers = customers[bought]
    fittings = {name: fitting_of_score(buyers, measure, better, scheme) for name, (measure, better) in SCORES.items()}
    place = np.where(bought, np.cumsum(bought) - 1, -1)
    named = everything[[c for c in everything if c in used and c not in of_ladders] or ["customer"]]
    return Rescoring(scheme, place, fittings, named)

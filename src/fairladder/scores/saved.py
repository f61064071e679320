"""Save ladders to a file, to score another month with the same cuts, and measure how far customers
have drifted.
"""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from fairladder.book.spend import bought, buyers
from fairladder.errors import DataError, UsageError
from fairladder.ladder import GroupedLadder, Ladder
from fairladder.ladder.drift import drift_index, verdict
from fairladder.ladder.grouped import members
from fairladder.output.files import as_json
from fairladder.output.targets import replacing
from fairladder.scheme import Scheme
from fairladder.scores.fitting import SCORES, AnyLadder, group_labels, measure_values
from fairladder.scores.scored import Scored, valued

if TYPE_CHECKING:
    import pandas as pd


_KIND = "fairladder ladders"


@dataclass(frozen=True)
class SavedLadders:
    """Ladders by name of their score or tier, with their origin."""

    ladders: Mapping[str, AnyLadder]
    measures: Mapping[str, str]
    """Name → the ladder's column."""
    as_of: dt.date | None
    customers: int
    """Number of customers with a purchase when the ladders were fitted."""
    settings: Mapping[str, Any] = field(repr=False)

    @classmethod
    def of(
        cls,
        ladders: Mapping[str, AnyLadder],
        scheme: Scheme,
        customers: pd.DataFrame | int,
        as_of: dt.date | None,
    ) -> SavedLadders:
        """Wrap ladders that were just fitted to ``customers`` (a frame, or the number of customers
        with a purchase).
        """
        measures = {n: m for n, (m, _) in SCORES.items()} | {
            n: t.of for n, t in scheme.tiers.items()
        }
        paying = customers if isinstance(customers, int) else int(bought(customers).sum())
        return cls(
            dict(ladders), {n: measures[n] for n in ladders}, as_of, paying, scheme.as_json()
        )

    def save(self, path: str | Path) -> None:
        """Write the ladders as JSON, all or nothing."""
        plain = {
            "kind": _KIND, "as_of": self.as_of.isoformat() if self.as_of else None,
            "customers": self.customers,
            "ladders": {n: {"of": self.measures[n], **ladder.to_dict()} for n,
            ladder in self.ladders.items()},
            "settings": self.settings,
        }  # fmt: skip
        with replacing(path) as temporary:
            temporary.write_text(as_json(plain), "utf-8")

    def for_scheme(self, scheme: Scheme) -> Mapping[str, AnyLadder]:
        """Return the ladders after checking that they match the scheme.

        Raises UsageError with the ladder that is missing, is of another column, or has another
        number of rungs.
        """
        wanted = {n: (m, scheme.scores.rungs) for n, (m, _) in SCORES.items()}
        wanted |= {n: (t.of, t.size) for n, t in scheme.tiers.items()}
        for name, (measure, rungs) in wanted.items():
            if name not in self.ladders:
                raise UsageError(
                    f"The saved ladders have none for `{name}`. Save them again with this scheme."
                )
            if self.measures[name] != measure or self.ladders[name].rungs != rungs:
                raise UsageError(
                    f"The saved ladder `{name}` has {self.ladders[name].rungs} rungs of "
                    f"`{self.measures[name]}`, but the scheme needs {rungs} of `{measure}`. "
                    "Save it again with this scheme."
                )
        return self.ladders


def load_ladders(path: str | Path) -> SavedLadders:
    """Load ladders that ``SavedLadders.save`` wrote. Raises UsageError if the file does not exist,
    DataError if it is of another kind.
    """
    try:
        plain = json.loads(Path(path).read_text("utf-8"))
    except FileNotFoundError:
        raise UsageError(
            f"There is no file {str(path)!r}. Write one with `fairladder score … "
            "--save-ladders FILE`."
        ) from None
    except ValueError:
        plain = None
    if not isinstance(plain, dict) or plain.get("kind") != _KIND:
        raise DataError(
            f"{str(path)!r} contains no saved ladders. Write them with `fairladder score … "
            "--save-ladders FILE`."
        )
    kinds = {
        n: GroupedLadder if "groups" in ladder else Ladder for n, ladder in plain["ladders"].items()
    }
    ladders = {n: kinds[n].from_dict(ladder) for n, ladder in plain["ladders"].items()}
    day = dt.date.fromisoformat(plain["as_of"]) if plain["as_of"] else None
    return SavedLadders(
        ladders,
        {n: lad["of"] for n, lad in plain["ladders"].items()},
        day,
        plain["customers"],
        plain["settings"],
    )


def drift(saved: SavedLadders, customers: pd.DataFrame) -> pd.DataFrame:
    """Return how today's customers with a purchase are distributed over saved ladders: one row per
    ladder, group and rung.

    Columns: ``ladder``, ``group`` (null without groups), ``rung``, ``customers_then``,
    ``share_then``, ``customers_now``, ``share_now`` (0..1), ``drift_index`` (of the whole ladder),
    ``verdict`` (steady under 0.1, moved from 0.25 on, unless chance explains it), ``below`` and ``above`` (customers with
    values outside the range at the time of fitting). ``customers`` needs the ladders' columns.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> customers = orders.customers()
    >>> saved = fl.SavedLadders.of(fl.fit_ladders(customers), orders.scheme, customers, orders.as_of)
    >>> fl.drift(saved, orders.score())["verdict"].unique().tolist()
    ['steady']
    """
    bought = buyers(customers)
    return drift_of(
        (name, group, one, measure_values(bought, saved.measures[name])[here], None)
        for name, ladder in saved.ladders.items()
        for group, one, here in _single(ladder, bought)
    )


def drift_of(standing: Iterable[tuple[str, str | None, Ladder, Any, Any]]) -> pd.DataFrame:
    """Return the table of ``drift`` from ladders, their groups, and today's values, optionally with
    frequencies.
    """
    lines = [
        line
        for name, group, one, values, counts in standing
        for line in _lines(name, group, one, values, counts)
    ]
    columns = [
        "ladder", "group", "rung", "customers_then", "share_then", "customers_now", "share_now",
        "drift_index", "verdict",
        "below", "above",
    ]  # fmt: skip
    import pandas as pd

    return pd.DataFrame(lines, columns=columns)


def _single(ladder: AnyLadder, bought: pd.DataFrame) -> Iterator[tuple[str | None, Ladder, Any]]:
    if isinstance(ladder, Ladder):
        yield None, ladder, slice(None)
        return
    groups = group_labels(bought, ladder.within)
    for group, one in ladder.ladders.items():
        yield group, one, members(groups, group)


_NO_VALUES = (np.zeros(0), np.zeros(0, dtype=np.int64))


def drift_of_scored(ladders: Mapping[str, AnyLadder], now: Scored) -> pd.DataFrame:
    """Return the table of ``drift`` for today's customers."""
    return drift_of(_values_now(ladders, now))


def _values_now(
    ladders: Mapping[str, AnyLadder], now: Scored
) -> Iterator[tuple[str, str | None, Any, Any, Any]]:
    """Yield each ladder and group with today's values and their frequencies."""
    measures = {n: m for n, (m, _) in SCORES.items()} | {
        n: t.of for n, t in now.scheme.tiers.items()
    }
    for name, ladder in ladders.items():
        grouped = isinstance(ladder, GroupedLadder)
        within = ladder.within if isinstance(ladder, GroupedLadder) else None
        found = {
            g: (v, c)
            for g, v, c in valued(now.engine, now.relation, now.kinds, measures[name], within)
        }
        for group, one in (
            ladder.ladders.items() if isinstance(ladder, GroupedLadder) else [(None, ladder)]
        ):
            values, counts = found.get(group, _NO_VALUES)
            yield name, group if grouped else None, one, values, counts


def _lines(
    name: str, group: str | None, ladder: Ladder, values: Any, counts: Any
) -> Iterator[tuple[Any, ...]]:
    rungs = ladder.place(values)
    each = np.ones(len(rungs), dtype=np.int64) if counts is None else counts
    now = [int(each[rungs == rung].sum()) for rung in range(1, ladder.rungs + 1)]
    then, index = list(ladder.sizes), drift_index(ladder.sizes, now)
    judged = verdict(ladder.sizes, now)
    numbers = values.astype(np.int64) if ladder.days else np.asarray(values, dtype=np.float64)
    low, high = ladder.ends or (-np.inf, np.inf)
    below, above = int(each[numbers < low].sum()), int(each[numbers > high].sum())
    for rung in range(ladder.rungs, 0, -1):
        t, n = then[rung - 1], now[rung - 1]
        share_then, share_now = (
            t / sum(then) if sum(then) else np.nan,
            n / sum(now) if sum(now) else np.nan,
        )
        yield name, group, rung, t, share_then, n, share_now, index, judged, below, above

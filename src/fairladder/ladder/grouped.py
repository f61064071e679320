"""Fit one ladder for each value of a column; null is a group of its own."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fairladder.errors import UsageError
from fairladder.ladder.ladder import Ladder


@dataclass(frozen=True)
class GroupedLadder:
    """Ladders by group (text, or None for null) of the column ``within``."""

    within: str
    ladders: Mapping[str | None, Ladder]

    @classmethod
    def fit(
        cls, within: str, values: Any, groups: NDArray[Any], fit: Callable[[Any], Ladder]
    ) -> "GroupedLadder":
        """Fit one ladder per group with ``fit``. ``values`` and ``groups`` have shape (n,)."""
        return cls(within, {g: fit(values[members(groups, g)]) for g in known_groups(groups)})

    def place(self, values: Any, groups: NDArray[Any]) -> NDArray[np.int64]:
        """Return the rung of each value on its group's ladder, shape (n,); 0 if the value is null
        or the group has no ladder.
        """
        rung = np.zeros(len(groups), dtype=np.int64)
        for group, ladder in self.ladders.items():
            here = members(groups, group)
            rung[here] = ladder.place(values[here])
        return rung

    @property
    def rungs(self) -> int:
        """K, the same in every group."""
        return max((ladder.rungs for ladder in self.ladders.values()), default=0)

    @property
    def small(self) -> tuple[str | None, ...]:
        """Groups with fewer than 2·K members when the ladders were fitted, too few for K meaningful
        rungs.
        """
        return tuple(
            g for g, ladder in self.ladders.items() if sum(ladder.sizes) < 2 * ladder.rungs
        )

    def unseen(self, groups: NDArray[Any]) -> tuple[str | None, ...]:
        """Return the groups that have no ladder."""
        return tuple(g for g in known_groups(groups) if g not in self.ladders)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values for JSON."""
        return {
            "within": self.within,
            "groups": [{"group": g, **lad.to_dict()} for g, lad in self.ladders.items()],
        }

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> "GroupedLadder":
        """Load ladders that ``to_dict`` saved. Raises UsageError for any other dictionary."""
        try:
            return cls(
                str(plain["within"]), {g["group"]: Ladder.from_dict(g) for g in plain["groups"]}
            )
        except (KeyError, TypeError) as error:
            raise UsageError(f"These are not saved ladders: {error!r} is missing.") from error


def members(groups: NDArray[Any], group: str | None) -> NDArray[np.bool_]:
    """Return a mask of the rows that belong to a group."""
    return np.array([g is None for g in groups], dtype=bool) if group is None else groups == group


def known_groups(groups: NDArray[Any]) -> list[str | None]:
    """Return all groups sorted by name, null last."""
    names = set(groups.tolist())
    return [*sorted(g for g in names if g is not None), *([None] if None in names else [])]

"""Input of the ordering models: repeat purchases, the time of the last one, and the length of
observation.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fairladder.errors import UsageError
from fairladder.value.likelihood import Array


@dataclass(frozen=True)
class Buying:
    """Rows of ``x`` repeat purchases, ``t_x`` days from the first to the last, and ``T`` days from
    the first to the end.

    ``weight`` is the number of customers with that row; ``row_of`` the row of each customer. All
    are float64 arrays, (rows,), except ``row_of`` (customers,).
    """

    x: Array
    t_x: Array
    T: Array
    weight: Array
    row_of: NDArray[np.int64]

    @classmethod
    def of(cls, x: ArrayLike, t_x: ArrayLike, T: ArrayLike) -> "Buying":
        """Group identical rows. Raises UsageError unless 0 ≤ t_x ≤ T, and x = 0 exactly where t_x =
        0.
        """
        columns = [np.asarray(c, dtype=np.float64) for c in (x, t_x, T)]
        if len({c.shape for c in columns}) != 1 or columns[0].ndim != 1:
            raise UsageError("x, t_x and T must be one-dimensional and of one length.")
        purchases, last, end = columns
        for name, bad in {
            "not a finite number": ~np.isfinite(columns).all(axis=0),
            "x below 0 or not whole": (purchases < 0) | (purchases != np.floor(purchases)),
            "t_x below 0 or after T": (last < 0) | (last > end),
            "t_x above 0 without a repeat purchase": (purchases == 0) & (last > 0),
        }.items():
            if bad.any():
                raise UsageError(f"Row {int(np.argmax(bad)) + 1}: {name}.")
        places = [np.unique(c, return_inverse=True) for c in columns]
        key = places[0][1].astype(np.int64)
        for seen, place in (places[2], places[1]):
            key = key * len(seen) + place
        _, first, row_of, counts = np.unique(
            key, return_index=True, return_inverse=True, return_counts=True
        )
        return cls(
            purchases[first],
            last[first],
            end[first],
            counts.astype(np.float64),
            row_of.astype(np.int64),
        )

    @property
    def customers(self) -> int:
        """The number of customers."""
        return len(self.row_of)

    @property
    def unit(self) -> float:
        """The average observation in days, the unit of fits; 1 if no customer was observed for a
        day.
        """
        total = float(self.weight @ self.T)
        return total / self.customers if total > 0 else 1.0

    def scaled(self, unit: float) -> "Buying":
        """Convert to another unit of time."""
        return Buying(self.x, self.t_x / unit, self.T / unit, self.weight, self.row_of)

    def sample(self, rows: int) -> "Buying":
        """Return rows spread evenly over all, with weights that add up to as many customers."""
        if len(self.x) <= rows:
            return self
        at = np.unique(np.linspace(0, len(self.x) - 1, rows).round().astype(np.int64))
        weight = np.add.reduceat(self.weight, at)
        return Buying(self.x[at], self.t_x[at], self.T[at], weight, self.row_of[:0])

"""What of a table of customers is shown: whom a condition picks, in which order, with which columns. Nobody's figures change."""

from collections.abc import Iterable, Sequence

import numpy as np
import pandas as pd

from fairladder.columns import better
from fairladder.conditions import frame_kinds, parse_condition, to_mask
from fairladder.errors import UsageError, nearest
from fairladder.scores.top import goodness


def select(
    customers: pd.DataFrame,
    *,
    when: str | None = None,
    sort: str | None = None,
    columns: Sequence[str] | None = None,
) -> pd.DataFrame:
    """The customers for whom ``when`` holds, by ``sort`` (best first, then by id; text by code point), with ``columns`` only.

    ``when`` is a SQL condition on columns of the table; where it is unknown, because of a null, it does not hold. Nulls come last.
    Raises ConditionError for a wrong condition, UsageError for an unknown column.

    >>> import fairladder as fl
    >>> scored = fl.sample_orders().score()
    >>> fl.select(scored, when="segment = 'mainstay' AND orders > 60", sort="spend", columns=["customer", "orders"]).values.tolist()
    [['09302', 68], ['09755', 77]]
    """
    chosen = customers
    if when is not None:
        holds, null = to_mask(parse_condition(when, frame_kinds(customers), "--when"), customers)
        chosen = chosen[holds & ~null]
    if sort is not None:
        require_known(sort, customers)
        order = np.lexsort((chosen["customer"].to_numpy(dtype=object), -_standing(chosen[sort], sort)))
        chosen = chosen.iloc[order]
    if columns is not None:
        for name in columns:
            require_known(name, customers)
        chosen = chosen[list(columns)]
    return chosen.reset_index(drop=True)


def _standing(values: "pd.Series[float]", name: str) -> np.ndarray[tuple[int], np.dtype[np.float64]]:
    if values.dtype.kind in "iufMb":
        numbers = values.astype(float) if values.dtype.kind == "b" else values
        return np.asarray(goodness(numbers, low=better(name) == "low"))
    places = pd.Categorical(values.astype(str), categories=sorted(values.dropna().astype(str).unique())).codes.astype(
        float
    )
    return np.where(values.isna().to_numpy(), -np.inf, -places)


def require_known(name: str, columns: Iterable[object]) -> None:
    """Raise UsageError where the customers have no column of that name."""
    if name not in (there := list(map(str, columns))):
        raise UsageError(f"The customers have no column `{name}`. {nearest(name, there)}")

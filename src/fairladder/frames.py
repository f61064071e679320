"""Ways into a DataFrame whose cells the type checker cannot know: every row and every cell is said to be anything."""

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd


def rows_of(frame: "pd.DataFrame") -> Iterator[Any]:
    """The rows as named tuples."""
    return iter(frame.itertuples(index=False))


def row_of_largest(frame: "pd.DataFrame", by: "pd.Series[Any]") -> Any:
    """The row at which ``by``, of the same index, is largest; the first of several."""
    return frame.iloc[int(by.to_numpy(dtype="float64", na_value=float("-inf")).argmax())]


def categorical(codes: Any, names: Sequence[str]) -> "pd.Categorical[Any]":
    """Names by their place among ``names``, null for −1."""
    import pandas as pd

    made: Any = pd.Categorical
    values: pd.Categorical[Any] = made.from_codes(codes, categories=list(names))
    return values

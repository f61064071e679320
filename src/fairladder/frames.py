"""Ways into a DataFrame whose cells the type checker cannot know: every row and every cell is said to be anything."""

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import numpy as np
    import pandas as pd
    from numpy.typing import NDArray


def rows_of(frame: "pd.DataFrame") -> Iterator[Any]:
    """The rows as named tuples."""
    return iter(frame.itertuples(index=False))


def row_of_largest(frame: "pd.DataFrame", by: "pd.Series[Any]") -> Any:
    """The row at which ``by``, of the same index, is largest; the first of several."""
    return frame.iloc[int(by.to_numpy(dtype="float64", na_value=float("-inf")).argmax())]


def as_numbers(values: "pd.Series[Any]") -> "NDArray[np.float64]":
    """Numbers, or days since 1970, NaN where there is none; shape (n,)."""
    import numpy as np

    if values.dtype.kind == "M":
        days = values.to_numpy().astype("datetime64[D]")
        return np.where(np.isnat(days), np.nan, days.astype(np.int64).astype(np.float64))
    return np.asarray(values.to_numpy(dtype=np.float64, na_value=np.nan))


def categorical(codes: Any, names: Sequence[str]) -> "pd.Categorical[Any]":
    """Names by their place among ``names``, null for −1."""
    import pandas as pd

    made: Any = pd.Categorical
    values: pd.Categorical[Any] = made.from_codes(codes, categories=list(names))
    return values

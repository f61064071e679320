"""Convert between tables of customers and the pandas DataFrames of the public interface."""

from collections.abc import Collection, Iterator, Sequence
from typing import TYPE_CHECKING, Any

from fairladder.columns import CARRIED, SCHEME
from fairladder.conditions import Kind
from fairladder.scheme import STANCES, Scheme

if TYPE_CHECKING:
    import pandas as pd
    import pyarrow as pa

#: Whole-number columns that are null for some customers. They get a nullable type even when no
#: value is null.
_WITH_NULLS = frozenset(
    {
        "recency_days",
        "tenure_days",
        "recency_score",
        "frequency_score",
        "monetary_score",
        "score_total",
    }
)


def customers_frame(table: "pa.Table", scheme: Scheme, carried: Collection[str]) -> "pd.DataFrame":
    """Return a table of customers as the public DataFrame. Its attributes hold the scheme and the
    names of columns copied from the user's file.
    """
    frame = typed_frame(table, scheme)
    frame.attrs[CARRIED] = [name for name in frame if name in carried]
    frame.attrs[SCHEME] = scheme.model_dump_json(by_alias=True, exclude_defaults=True)
    return frame


def typed_frame(table: "pa.Table", scheme: Scheme) -> "pd.DataFrame":
    """Return a table as a DataFrame: timestamps in seconds, nullable integers, and categories for
    names.
    """
    import pandas as pd
    import pyarrow as pa

    whole = dict.fromkeys((pa.int8(), pa.int16(), pa.int32(), pa.int64()), pd.Int64Dtype())
    frame: pd.DataFrame = table.to_pandas(date_as_object=False, types_mapper=whole.get)
    types: dict[Any, Any] = {
        n: "int64"
        for n in frame
        if frame[n].dtype == "Int64" and n not in _WITH_NULLS and not frame[n].isna().any()
    }
    types |= dict.fromkeys(frame.select_dtypes("datetime"), "datetime64[s]")
    types |= {n: "str" for n in ("customer", "name", "only_channel") if n in frame}
    fixed: dict[str, list[str]] = {
        "segment": [s.name for s in scheme.segments],
        "stance": list(STANCES),
    }
    fixed |= {name: list(tier.names()) for name, tier in scheme.tiers.items()}
    if "score_code" in frame:
        fixed["score_code"] = sorted(frame["score_code"].dropna().unique())
    types |= {
        n: pd.CategoricalDtype(values)
        for n, values in fixed.items()
        if n in frame and "segment" in frame
    }
    return frame.astype(types)


def plain_table(frame: "pd.DataFrame") -> "pa.Table":
    """Return a DataFrame as a table that an engine can read: categories as text, dates as dates,
    NaN as null.
    """
    import pyarrow as pa

    table = pa.Table.from_pandas(frame, preserve_index=False)
    for place, field in enumerate(table.schema):
        if pa.types.is_dictionary(field.type):
            table = table.set_column(place, field.name, table[place].cast(pa.string()))
        elif pa.types.is_timestamp(field.type):
            table = table.set_column(place, field.name, table[place].cast(pa.date32(), safe=False))
    return table.replace_schema_metadata(None)


def frame_kinds(frame: "pd.DataFrame") -> dict[str, Kind]:
    """Return the kind of every column of a frame, by which conditions are checked."""
    return {
        str(name): _KINDS.get(getattr(dtype, "kind", "O"), "text")
        for name, dtype in frame.dtypes.items()
    }


_KINDS: dict[str, Kind] = {"i": "number", "u": "number", "f": "number", "b": "truth", "M": "day"}


def rows_of(frame: "pd.DataFrame") -> Iterator[Any]:
    """Iterate over the rows as named tuples."""
    return iter(frame.itertuples(index=False))


def row_of_largest(frame: "pd.DataFrame", by: "pd.Series[Any]") -> Any:
    """Return the first row at which ``by``, a series with the same index, is largest."""
    return frame.iloc[int(by.to_numpy(dtype="float64", na_value=float("-inf")).argmax())]


def categorical(codes: Any, names: Sequence[str]) -> "pd.Categorical[Any]":
    """Return a categorical from indices into ``names``; -1 is null."""
    import pandas as pd

    made: Any = pd.Categorical
    values: pd.Categorical[Any] = made.from_codes(codes, categories=list(names))
    return values

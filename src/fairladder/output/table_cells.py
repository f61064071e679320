"""Column types and cell values of a result that is written to a database."""

import datetime as dt
from collections.abc import Iterator
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np

from fairladder.columns import decimals_of
from fairladder.engine.addresses import sqlalchemy_module
from fairladder.errors import DataError, UsageError
from fairladder.numbers import to_minor

if TYPE_CHECKING:
    import pandas as pd

#: Digits of an amount, and bits of a whole number, in the table.
_DIGITS, _BITS = 18, 63
_PLAIN = (str, bool, int, float, Decimal, dt.date, np.number, np.bool_)


def require_table_of_cells(frame: Any, decimals: int) -> None:
    """Raise UsageError unless this is a DataFrame with different column names, none of them
    ``as_of``; DataError for a cell that no column of a table can hold.
    """
    import pandas as pd

    if not isinstance(frame, pd.DataFrame):
        raise UsageError(
            f"A table is written from a pandas DataFrame, and this is a {type(frame).__name__}. "
            "Convert it to one first."
        )
    names = [str(name) for name in frame]
    if again := next((n for n in names if n == "as_of" or names.count(n) > 1), None):
        why = "is added by this function" if again == "as_of" else "is there twice"
        raise UsageError(f"The column {again!r} {why}: rename it in the DataFrame.")
    for name in frame:
        _require_cells(frame, name, decimals)


def _require_cells(frame: "pd.DataFrame", name: object, decimals: int) -> None:
    values = frame[name]
    known = values[values.notna()]
    kind = "O" if getattr(values.dtype, "tz", None) is not None else values.dtype.kind
    if (places := decimals_of(frame, name, decimals)) is not None:
        bad, why = ~(known.abs() < 10.0 ** (_DIGITS - places)), "is too large for an amount"
    elif kind in "iu":
        bad, why = known > 2**_BITS - 1, f"has more than {_BITS} bits"
    elif kind in "bfM":
        return
    else:
        bad = ~known.map(lambda v: isinstance(v, _PLAIN) and getattr(v, "tzinfo", None) is None)
        why = "is no text, number, date or local time"
    if bad.any():
        at = int(np.flatnonzero(values.notna())[bad.to_numpy().argmax()])
        raise DataError(f"Row {at + 1}, column {str(name)!r}: {values.iloc[at]} {why}.")


def columns_of(frame: "pd.DataFrame", decimals: int, daily: bool) -> list[Any]:
    """Return the table's columns, ``as_of`` first, with suitable types and the primary key if there
    can be one.
    """
    sqlalchemy = sqlalchemy_module()
    one_each = (
        "customer" in frame and frame["customer"].notna().all() and frame["customer"].is_unique
    )
    columns = [
        sqlalchemy.Column(
            "as_of", sqlalchemy.Date, primary_key=bool(one_each and daily), autoincrement=False
        )
    ]
    for name in frame:
        key = bool(one_each and name == "customer")
        columns.append(sqlalchemy.Column(str(name), _type(frame, name, decimals), primary_key=key))
    return columns


def _type(frame: "pd.DataFrame", name: object, decimals: int) -> Any:
    sqlalchemy = sqlalchemy_module()
    values = frame[name]
    if (places := decimals_of(frame, name, decimals)) is not None:
        return sqlalchemy.Numeric(18, places)
    if values.dtype.kind == "M" and _has_times(values):
        exact = sqlalchemy.dialects.mysql.DATETIME(fsp=6)  # by default it has whole seconds
        return sqlalchemy.DateTime().with_variant(exact, "mysql", "mariadb")
    kinds = {"M": sqlalchemy.Date, "b": sqlalchemy.Boolean, "f": sqlalchemy.Double}
    kinds |= dict.fromkeys("iu", sqlalchemy.BigInteger)
    return kinds.get(getattr(values.dtype, "kind", "O"), sqlalchemy.Text)()


def rows_of(
    frame: "pd.DataFrame", as_of: dt.date | None, decimals: int
) -> Iterator[tuple[Any, ...]]:
    """Return the rows as Python objects, ``as_of`` first."""
    columns = [_plain(frame, name, decimals) for name in frame]
    for cells in zip(*columns, strict=True):
        yield (as_of, *cells)


def _plain(frame: "pd.DataFrame", name: object, decimals: int) -> list[Any]:
    """Return a column's values as Python objects; money as exact decimals, dates as dates."""
    values = frame[name]
    known = values.notna()
    if (places := decimals_of(frame, name, decimals)) is not None:
        units = iter(to_minor(values[known].to_numpy(dtype=float), places).tolist())
        return [Decimal(next(units)).scaleb(-places) if there else None for there in known]
    if values.dtype.kind == "M":
        times = _has_times(values)
        return [
            (v.to_pydatetime() if times else v.date()) if there else None
            for v, there in zip(values, known, strict=True)
        ]
    objects = values.astype(object).tolist()
    return [
        (v.item() if isinstance(v, np.generic) else v) if there else None
        for v, there in zip(objects, known, strict=True)
    ]


def _has_times(values: "pd.Series[pd.Timestamp]") -> bool:
    """Return True if some values have a time of day, which a date would lose."""
    return bool((values.dropna() != values.dropna().dt.normalize()).any())

"""Write Arrow tables as CSV and Parquet without pandas."""

from __future__ import annotations

import codecs
import json
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from fairladder.columns import ALSO_MONEY, CARRIED, decimals_in, is_own_money
from fairladder.engine.arrays import as_array, known
from fairladder.engine.embedded import Embedded
from fairladder.numbers import to_minor

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class CsvStyle:
    """The format of files; the first three fields apply to CSV only.

    By default commas, a decimal point, no byte order mark, ISO dates, and amounts without a
    currency.
    """

    separator: str = ","
    decimal_mark: str = "."
    byte_order_mark: bool = False
    days: str = "iso"
    """A key of ``DAYS``."""
    currency: str = ""
    """The text after amounts: a currency code or sign."""


#: Date formats → for ``strftime``, and for spreadsheets.
DAYS = {
    "iso": ("%Y-%m-%d", "yyyy-mm-dd"),
    "day-first": ("%d.%m.%Y", "dd.mm.yyyy"),
    "month-first": ("%m/%d/%Y", "mm/dd/yyyy"),
}


@dataclass(frozen=True)
class Sheet:
    """A table that is ready to be written."""

    table: pa.Table
    carried: Collection[str] = ()
    """Columns of a user's file, whatever their names."""
    money: Collection[str] = ()
    """Columns that are money in this table only."""
    engine: Embedded | None = None
    """An existing engine, to write CSV with."""

    @classmethod
    def of(cls, frame: pd.DataFrame) -> Sheet:
        """Make a sheet from a DataFrame, including which of its columns are money or carried."""
        columns = {
            str(name): pa.array(_of_one_type(values), from_pandas=True)
            for name, values in frame.items()
        }
        table = pa.table(columns)
        for place, field in enumerate(table.schema):
            if pa.types.is_timestamp(field.type):
                table = table.set_column(place, field.name, table[place].cast(pa.date32()))
        return cls(table, frame.attrs.get(CARRIED, ()), frame.attrs.get(ALSO_MONEY, ()))

    def is_money(self, name: str) -> bool:
        """Return True for a column of numbers that is our money column and not a user's column with
        the same name.
        """
        kind = self.table.schema.field(name).type
        numeric = pa.types.is_integer(kind) or pa.types.is_floating(kind)
        return numeric and name not in self.carried and (name in self.money or is_own_money(name))

    def decimals_of(self, name: str, decimals: int) -> int | None:
        """Return the number of a column's decimals in text; None to write numbers unrounded."""
        if self.is_money(name):
            return decimals
        floats = pa.types.is_floating(self.table.schema.field(name).type)
        return decimals_in(name, decimals) if floats and name not in self.carried else None

    def write_csv(self, path: Path, decimals: int, style: CsvStyle) -> None:
        """Write CSV: UTF-8, LF, nulls empty, money with ``decimals`` decimals."""
        table = self._as_text(decimals)
        if style.days != "iso":
            import pyarrow.compute as pc

            written = DAYS[style.days][0]
            table = _each(
                table, lambda _, v: pc.strftime(v, written) if pa.types.is_date(v.type) else v
            )
        if style.currency:
            table = _each(
                table, lambda n, v: _with_unit(v, style.currency) if self.is_money(n) else v
            )
        if style.decimal_mark == ",":
            table = _each(table, lambda n, v: _with_comma(v, self.is_money(n)))
        (self.engine or Embedded()).write_csv(table, str(path), style.separator)
        if style.byte_order_mark:
            path.write_bytes(codecs.BOM_UTF8 + path.read_bytes())

    def _as_text(self, decimals: int) -> pa.Table:
        """Return the table for a text format: money as exact decimals, the rest unchanged."""

        def cell(name: str, values: pa.ChunkedArray) -> pa.ChunkedArray:
            if (places := self.decimals_of(name, decimals)) is not None:
                return _decimals(values, places)
            # A decimal without digits before its point would be written without the leading zero.
            return (
                values.cast(pa.decimal128(38, values.type.scale))
                if pa.types.is_decimal(values.type)
                else values
            )

        return _each(self.table, cell)

    def write_parquet(self, path: Path, facts: Mapping[str, Any] | None) -> None:
        """Write Parquet with the unrounded values, and the facts as metadata."""
        import pyarrow.parquet as pq

        table = _each(self.table, _large)
        metadata = {b"fairladder": json.dumps(facts, ensure_ascii=False).encode()} if facts else {}
        # Measures hardly repeat, so a dictionary would cost time and save nothing.
        repeating = [
            f.name
            for f in table.schema
            if pa.types.is_dictionary(f.type) or pa.types.is_integer(f.type)
        ]
        pq.write_table(table.replace_schema_metadata(metadata), path, use_dictionary=repeating)


def _each(table: pa.Table, made: Callable[[str, pa.ChunkedArray], pa.ChunkedArray]) -> pa.Table:
    columns = [
        made(name, values) for name, values in zip(table.column_names, table.columns, strict=True)
    ]
    return pa.Table.from_arrays(columns, names=table.column_names)


def _large(_: str, values: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return texts and categories as one chunk in the types that pandas writes."""
    values = values.combine_chunks() if values.num_chunks != 1 else values.chunk(0)
    if pa.types.is_string(values.type):
        return values.cast(pa.large_string())
    if pa.types.is_dictionary(values.type):
        names = values.dictionary.cast(pa.large_string())
        index = pa.int8() if len(names) <= _MOST_IN_A_BYTE else pa.int16()
        return pa.DictionaryArray.from_arrays(values.indices.cast(index), names)
    return values


#: Larger sets of names need two bytes per index.
_MOST_IN_A_BYTE = 127


def _with_unit(values: pa.ChunkedArray, unit: str) -> pa.ChunkedArray:
    import pyarrow.compute as pc

    return pc.binary_join_element_wise(pc.cast(values, pa.string()), unit, " ")


def _with_comma(values: pa.ChunkedArray, money: bool) -> pa.ChunkedArray:
    if money and pa.types.is_string(values.type):
        import pyarrow.compute as pc

        return pc.replace_substring(values, ".", ",", max_replacements=1)
    if not (pa.types.is_decimal(values.type) or pa.types.is_floating(values.type)):
        return values
    texts = [
        None if v is None else repr(v) if isinstance(v, float) else str(v)
        for v in values.to_pylist()
    ]
    return pa.chunked_array(
        [pa.array([None if t is None else t.replace(".", ",") for t in texts], pa.string())]
    )


def _of_one_type(values: pd.Series[Any]) -> pd.Series[Any]:
    """Return the column as text if it contains both text and numbers, such as rungs and labels of
    tiers.
    """
    if values.dtype != object or len({isinstance(v, str) for v in values[values.notna()]}) < 2:
        return values
    return values.map(str, na_action="ignore")


def _decimals(values: pa.ChunkedArray, decimals: int) -> pa.Array:
    """Return numbers as exact decimals, rounding halves of the shortest decimal text away from
    zero; NaN is null.
    """
    there = known(values)
    floats = np.where(there, as_array(values).astype(np.float64), 0.0)
    there &= ~np.isnan(floats)
    minor = to_minor(np.where(there, floats, 0.0), decimals)
    both = np.empty((len(minor), 2), dtype="<i8")  # the low and the high half of a 128-bit integer
    both[:, 0], both[:, 1] = minor, minor >> 63
    valid = np.packbits(there, bitorder="little")
    buffers = [pa.py_buffer(valid.tobytes()), pa.py_buffer(both.tobytes())]
    return pa.Array.from_buffers(pa.decimal128(18, decimals), len(minor), buffers)

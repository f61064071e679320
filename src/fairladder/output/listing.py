"""A selection of customers or orders that is still in its engine: rows, sort order and columns."""

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import pyarrow as pa
from sqlglot import exp

from fairladder.columns import decimals_in
from fairladder.engine.protocol import CustomerEngine
from fairladder.errors import UsageError
from fairladder.output.sheet import Sheet
from fairladder.output.targets import format_of
from fairladder.sqltree import column, named, select, sql

if TYPE_CHECKING:
    import pandas as pd

#: Formats of parts.
KINDS = ("parquet", "csv")


@dataclass(frozen=True)
class Listing:
    """A table that has not left its engine yet."""

    engine: CustomerEngine
    rows: exp.Select
    order: tuple[exp.Expr, ...]
    columns: tuple[str, ...]
    to_frame: "Callable[[pa.Table], pd.DataFrame]"
    """Converts some of the rows to the public DataFrame."""
    carried: Collection[str] = ()
    """Columns of a user's file, whatever their names."""
    fixed: Callable[[], Mapping[str, Sequence[str]]] = dict
    """Returns the columns with a fixed set of names, and the set."""

    def __len__(self) -> int:
        return self._count

    @cached_property
    def _count(self) -> int:
        return int(
            self.engine.table(select([named(sql("COUNT(*)"), "n")], self.rows, "rows"))["n"][
                0
            ].as_py()
        )

    def among(self, customers: exp.Select) -> "Listing":
        """Return the rows of some customers, which a query in the same engine selects."""
        ids = select([column("customer")], customers, "chosen")
        there = exp.In(this=column("customer"), query=exp.Subquery(this=ids))
        return replace(self, rows=select(["*"], self.rows, "listed").where(there, copy=False))

    def query(self) -> exp.Select:
        """Return the sorted rows with their columns."""
        ordered = select(["*"], self.rows, "rows").order_by(*self.order, copy=False)
        return select(list(map(column, self.columns)), ordered, "ordered")

    def frame(self, most: int | None = None) -> "pd.DataFrame":
        """Return the rows, or the first of them, as a pandas DataFrame.

        Raises UsageError if there are more than may be brought to this machine.
        """
        query = self.query()
        return self.to_frame(self._here(query if most is None else query.limit(most, copy=False)))

    def _here(self, query: exp.Select) -> pa.Table:
        most = self.engine.limits.rows_here
        if most is not None and query.args.get("limit") is None:
            query = query.limit(most + 1, copy=False)
        table = self.engine.table(query)
        if most is not None and len(table) > most:
            raise UsageError(
                f"More than {most:,} rows are in this list. Write it with --out NAME.parquet or "
                "NAME.csv."
            )
        return table

    def last(self, most: int) -> "pd.DataFrame":
        """Return the last rows, in order."""
        back = [
            exp.Ordered(this=o.this, desc=not o.args.get("desc"), nulls_first=True)
            for o in self.order
        ]
        rows: exp.Select = (
            select(["*"], self.rows, "rows").order_by(*back, copy=False).limit(most, copy=False)
        )
        return replace(self, rows=rows).frame()

    def sheet(self) -> Sheet:
        """Return the rows as a sheet for CSV and Parquet."""
        types = {name: exp.DataType(this=exp.DataType.Type.ENUM,
        expressions=list(map(exp.Literal.string, values)))
                 for name, values in self.fixed().items() if name in self.columns}  # fmt: skip
        query = self.query()
        query.set(
            "expressions",
            [
                named(exp.cast(column(n), types[n]), n) if n in types else column(n)
                for n in self.columns
            ],
        )
        table = self._here(query)
        for place, field in enumerate(table.schema):
            if pa.types.is_integer(field.type):
                table = table.set_column(place, field.name, table[place].cast(pa.int64()))
        return Sheet(table, self.carried, engine=self.engine.reader)

    def write_parts(self, path: str, decimals: int, receipt: str) -> None:
        """Have the engine write the sorted rows as a folder of parts, with the receipt next to
        them.

        In CSV money has exactly ``decimals`` decimals and ratios are their shortest text, as in
        files written on this machine.
        """
        writer = self.engine.parts_writer
        assert writer is not None
        kind, types = kind_of_parts(path), self.engine.columns(self.rows)
        cells = {
            n: _csv_cell(n, types[n], decimals) if kind == "csv" else column(n)
            for n in self.columns
        }
        ordered = select(["*"], self.rows, "rows").order_by(*self.order, copy=False)
        query = select([named(tree, name) for name, tree in cells.items()], ordered, "ordered")
        writer.write(query, path, kind, receipt)


def kind_of_parts(path: str) -> str:
    """Return ``parquet`` or ``csv``, from the suffix of the folder's name. Raises UsageError for
    any other.
    """
    kind = format_of(path.rstrip("/"))
    if kind not in KINDS:
        raise UsageError(
            f"{path!r}: on a cluster results are folders of parts, NAME.parquet or NAME.csv."
        )
    return kind


def _csv_cell(name: str, type_: str, decimals: int) -> exp.Expr:
    if type_ not in ("DOUBLE", "FLOAT"):
        return column(name)
    places = decimals_in(name, decimals)
    if places is None:
        return exp.Anonymous(this="FLOAT_TEXT", expressions=[column(name)])
    return sql(f"CAST(ROUND(:c, :p) AS DECIMAL(38, {places}))", c=column(name), p=places)


def rising(keys: Sequence[str]) -> tuple[exp.Expr, ...]:
    """Return the sort order by ``keys``, nulls last."""
    return tuple(exp.Ordered(this=column(key), nulls_first=False) for key in keys)

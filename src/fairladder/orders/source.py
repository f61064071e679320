"""Where the order rows come from: a CSV, TSV or Parquet file, or a DataFrame."""

import csv
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import pyarrow as pa
from sqlglot import exp

from fairladder.engine.embedded import Embedded
from fairladder.errors import DataError, UsageError

CellKind = Literal["text", "whole", "decimal", "float", "single", "date", "timestamp", "instant", "truth"]

#: Separator by file ending.
SEPARATORS = {".csv": ",", ".tsv": "\t", ".tab": "\t"}


@dataclass(frozen=True)
class Source:
    """Rows to read: ``relation`` for a FROM clause, the columns with their kinds, and how to name it to people."""

    label: str
    relation: exp.Expr
    columns: dict[str, CellKind]
    engine: Embedded
    text: bool
    """Cells are text as typed, their kinds are ours to settle."""

    @property
    def first_row(self) -> int:
        """Number of the first data row, as a person sees it."""
        return 2 if self.text else 1


def open_source(orders: Any, engine: Embedded) -> Source:
    """A path to a CSV, TSV or Parquet file, or a pandas DataFrame, as a Source.

    Raises UsageError where there is no such file or its kind is not known, DataError where it holds nothing readable.
    """
    if isinstance(orders, str | Path):
        return _open_path(Path(orders), engine)
    if hasattr(orders, "columns") and hasattr(orders, "iloc"):
        return _open_frame(orders, engine)
    raise UsageError(f"Orders must be a path or a pandas DataFrame, not {type(orders).__name__}.")


def _open_path(path: Path, engine: Embedded) -> Source:
    if not path.exists():
        near = sorted(p.name for p in path.parent.glob(f"*{path.suffix}"))[:3] if path.parent.is_dir() else []
        hint = f" In that folder there are: {', '.join(near)}." if near else " Check the path."
        raise UsageError(f"There is no file {str(path)!r}.{hint}")
    if path.is_dir():
        raise UsageError(f"{str(path)!r} is a folder; name a file in it.")
    if path.stat().st_size == 0:
        raise DataError(f"The file {str(path)!r} is empty. Export the orders again, with a header line.")
    ending = path.suffix.lower()
    if ending in SEPARATORS:
        return _open_text(path, SEPARATORS[ending], engine)
    if ending in {".parquet", ".pq"}:
        relation = exp.Table(this=exp.Anonymous(this="read_parquet", expressions=[exp.Literal.string(str(path))]))
        return Source(str(path), relation, _kinds(relation, engine, str(path)), engine, text=False)
    raise UsageError(f"{str(path)!r}: files ending in {ending or 'nothing'} are not read; use .csv, .tsv or .parquet.")


def _open_text(path: Path, separator: str, engine: Embedded) -> Source:
    header = _header(path, separator)
    options: dict[str, exp.Expr] = {
        "header": exp.true(),
        "delim": exp.Literal.string(separator),
        "quote": exp.Literal.string('"'),
        "escape": exp.Literal.string('"'),
        "auto_detect": exp.false(),
        "columns": exp.Struct(expressions=[_entry(name, exp.Literal.string("VARCHAR")) for name in header]),
    }
    arguments = [exp.Literal.string(str(path)), *(exp.EQ(this=exp.column(k), expression=v) for k, v in options.items())]
    relation = exp.Table(this=exp.Anonymous(this="read_csv", expressions=arguments))
    return Source(str(path), relation, dict.fromkeys(header, "text"), engine, text=True)


def _entry(name: str, value: exp.Expr) -> exp.PropertyEQ:
    return exp.PropertyEQ(this=exp.Literal.string(name), expression=value)


def _header(path: Path, separator: str) -> list[str]:
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            names = next(csv.reader(file, delimiter=separator), [])
    except UnicodeDecodeError as error:
        raise DataError(f"{str(path)!r} is not UTF-8 text ({error.reason}). Save it as CSV in UTF-8.") from None
    except csv.Error as error:
        raise DataError(f"The header of {str(path)!r} cannot be read: {error}.") from None
    names = [name.strip() for name in names]
    if not any(names):
        raise DataError(f"The first line of {str(path)!r} is blank. It should hold the column names.")
    return _checked_names(names, str(path))


def _checked_names(names: list[str], label: str) -> list[str]:
    seen: set[str] = set()
    for position, name in enumerate(names, start=1):
        if not name:
            raise DataError(f"{label}: column {position} has no name. Give every column a name in the header.")
        if name.casefold() in seen:
            raise DataError(f"{label}: the column name `{name}` stands twice in the header. Rename one of them.")
        seen.add(name.casefold())
    return names


def _open_frame(frame: Any, engine: Embedded) -> Source:
    label = "the DataFrame"
    try:
        table = pa.Table.from_pandas(frame, preserve_index=False)
    except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
        raise DataError(f"A column of {label} mixes kinds of values: {'; '.join(map(str, error.args))}.") from error
    table = table.rename_columns(_checked_names([str(name) for name in table.column_names], label))
    relation = engine.offer(table)
    return Source(label, relation, _kinds(relation, engine, label), engine, text=False)


def _kinds(relation: exp.Expr, engine: Embedded, label: str) -> dict[str, CellKind]:
    types = engine.columns(relation)
    _checked_names(list(types), label)
    return {name: _kind_of(type_) for name, type_ in types.items()}


def _kind_of(type_: str) -> CellKind:
    if re.fullmatch(r"U?(TINY|SMALL|BIG|HUGE)?INT(EGER)?", type_):
        return "whole"
    if width := re.match(r"DECIMAL\((\d+)", type_):
        return "decimal" if int(width[1]) <= 15 else "float"  # wider ones go the careful way, over their text
    if type_.startswith("TIMESTAMP"):
        return "instant" if type_.endswith("TIME ZONE") else "timestamp"
    return {"DOUBLE": "float", "FLOAT": "single", "DATE": "date", "BOOLEAN": "truth"}.get(type_, "text")  # type: ignore[return-value]

"""Open order rows from text files, Parquet, JSON, spreadsheets, standard input and frames."""

import datetime as dt
import glob
import os
import re
import shutil
import sys
import zipfile
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import cached_property
from pathlib import Path
from typing import Any, Literal

import pyarrow as pa
from sqlglot import exp

from fairladder.engine.embedded import Embedded
from fairladder.engine.protocol import Engine
from fairladder.errors import DataError, UsageError, shortened
from fairladder.orders.json_files import read_json
from fairladder.orders.spreadsheets import MOST_UNPACKED, read_sheet, sheets_to_read
from fairladder.orders.text_files import COMPRESSED, LONGEST_LINE, SAMPLE_BYTES, as_utf8, writing_of
from fairladder.scheme import OrdersPart
from fairladder.sqltree import cell_column, cell_name, column, named, select, sql

CellKind = Literal[
    "text", "whole", "decimal", "float", "single", "date", "timestamp", "instant", "truth"
]

#: Suffixes of Parquet files.
PARQUET = (".parquet", ".pq")
#: Up to this total size of its files a source is small.
SMALL_BYTES = 8 << 20
#: No export of orders has more columns; if it does, the file is probably something else.
MOST_COLUMNS = 10_000


@dataclass(frozen=True)
class Source:
    """Rows to read: ``relation`` for a FROM clause, the columns with their kinds, and a label for
    people.
    """

    label: str
    relation: exp.Expr
    columns: dict[str, CellKind]
    engine: Engine
    text: bool
    """True if cells are untyped text, whose kinds we detect."""
    first_row: int = 1
    """Number of the first data row in the file, from 1."""
    notes: tuple[str, ...] = ()
    """Notes for the user from opening the source."""
    has_several_files: bool = False
    """True if ``numbered`` adds ``#file`` because rows are numbered within files of different
    kinds.
    """
    path: Path | None = None
    """The file, if the source is a single file."""
    parts: tuple["Source", ...] = field(default=(), repr=False)
    """The files of a combined source; rows are numbered in each."""
    files_there: tuple[Path, ...] = field(default=(), repr=False)
    """The files that a cluster reads, as far as they are on this machine."""

    @property
    def name(self) -> str:
        """The source in a few words: a file's name without its folders."""
        return self.label if " in " in self.label else Path(self.label).name

    @property
    def is_single(self) -> bool:
        """True for one file or frame in the embedded engine, not several combined."""
        return isinstance(self.relation, exp.Table) and self.engine is self.engine.reader

    @property
    def part_names(self) -> list[str]:
        """The names of the files of this source, in order, as in the column `file`."""
        return short_names([Path(part.label) for part in self.parts])

    @cached_property
    def is_small(self) -> bool:
        """Return True if reading the source twice costs less than sampling it first."""
        files = [part.path for part in (self.parts or (self,))]
        return all(
            f is not None
            and f.suffix not in COMPRESSED
            and f.exists()
            and f.stat().st_size < SMALL_BYTES
            for f in files
        )

    @cached_property
    def row_count(self) -> int | None:
        """Return the number of rows if the file stores it; None if it is unknown before reading."""
        files = [part.path for part in (self.parts or (self,))]
        if any(f is None or f.suffix.lower() not in PARQUET for f in files):
            return None
        from pyarrow.parquet import read_metadata

        return sum(int(read_metadata(f).num_rows) for f in files)

    def numbered(self) -> exp.Expr:
        """Return the relation with ``#row``, each row's number as in the file."""
        if self.parts:
            return _union([part.numbered() for part in self.parts], self.part_names)
        count = sql("ROW_NUMBER() OVER () + :n", n=self.first_row - 1)
        return select(["*", named(count, "#row")], self.relation).subquery("numbered", copy=False)


#: The column that names a row's file, if there are several.
FILE = "file"


def open_source(orders: Any, engine: Embedded, settings: OrdersPart | None = None) -> Source:
    """Open a path, a glob of paths, ``-`` for standard input, or a frame (pandas, Polars, Arrow,
    DuckDB relation) as a Source.

    Raises UsageError if the file does not exist or is of an unknown kind, DataError if it has
    nothing readable.
    """
    settings = settings or OrdersPart()
    if isinstance(orders, str | Path):
        if str(orders).startswith("~") and not os.path.lexists(orders):
            orders = os.path.expanduser(orders)  # a path in quotes that the shell did not expand
        if str(orders) == "-":
            return _open_stdin(engine, settings)
        # An existing file with this name wins; otherwise it is a pattern.
        if glob.has_magic(str(orders)) and not os.path.lexists(orders):
            return _open_several(_matching(str(orders)), engine, settings, str(orders))
        return _open_path(Path(orders), engine, settings)
    if (
        isinstance(orders, list | tuple)
        and orders
        and all(isinstance(path, str | Path) for path in orders)
    ):
        return _open_several(
            [Path(path) for path in orders], engine, settings, f"{len(orders)} files"
        )
    return _open_frame(orders, engine)


def _open_path(
    path: Path, engine: Embedded, settings: OrdersPart, label: str | None = None
) -> Source:
    if not path.exists():
        near = (
            sorted(p.name for p in path.parent.glob(f"*{path.suffix}"))[:3]
            if path.parent.is_dir()
            else []
        )
        hint = f" The folder contains: {', '.join(near)}." if near else " Check the path."
        raise UsageError(f"There is no file {str(path)!r}.{hint}")
    if path.is_dir():
        raise UsageError(f"{str(path)!r} is a folder; name a file in it.")
    if not path.is_file():
        raise UsageError(
            f"{str(path)!r} is not a file. Save the orders as one, or give `-` and pipe them in."
        )
    label = label or str(path)
    if path.stat().st_size == 0:
        raise DataError(
            f"The file {label!r} is empty. Export the orders again, with a header line."
        )
    ending = (
        path.with_suffix("").suffix.lower()
        if path.suffix.lower() in COMPRESSED
        else path.suffix.lower()
    )
    if ending not in _OPENERS:
        raise UsageError(
            f"{label!r}: files ending in {ending or 'nothing'} are not read; use .csv, .tsv, "
            ".txt, .parquet, .json, .jsonl, "
            ".xlsx, .xls or .ods, text and JSON also with .gz or .zst, any of them alone in a .zip."
        )
    opened = replace(_OPENERS[ending](path, engine, settings, label), path=path)
    return opened if opened.parts else _with_partitions(opened, path)  # sheets have it already


def _with_partitions(source: Source, path: Path) -> Source:
    """Add a column for each folder named ``key=value``.

    Raises DataError if the file has such a column with another value.
    """
    folders = [part.split("=", 1) for part in path.parts[:-1] if "=" in part.strip("=")]
    for name, value in folders:
        if not name:
            continue
        if name not in source.columns:
            cell = named(exp.Literal.string(value), cell_name(name))
            relation = select(["*", cell], source.relation).subquery("partition", copy=False)
            source = replace(source, relation=relation, columns={**source.columns, name: "text"})
            continue
        own = sql("CAST(:c AS VARCHAR)", c=cell_column(name))
        differs = select([named(own, "other")], source.relation).where(
            sql(":o IS DISTINCT FROM :v", o=own, v=value), copy=False
        )
        if rows_there := source.engine.table(differs.limit(1, copy=False))["other"].to_pylist():
            raise DataError(
                f"{source.label} is in a folder `{name}={value}`, but its own column "
                f"`{name}` contains `{rows_there[0]}`. Rename the folder, or remove the "
                "column from the file."
            )
    return source


def _open_text(path: Path, engine: Embedded, settings: OrdersPart, label: str) -> Source:
    separator = settings.separator
    writing = writing_of(
        path, encoding=settings.encoding, separator=separator, header_row=settings.header_row
    )
    names = _checked_names(list(writing.names), label)
    if len(names) == 1 and re.search(r"\S {2,}\S", names[0]):
        raise DataError(
            f"{label!r} has columns of fixed width, separated by spaces "
            f"(`{shortened(names[0], 60)}`). Export it with a separator, or import it into a "
            "spreadsheet with fixed widths and save it as CSV."
        )
    lines = []
    source = path
    if not writing.is_plain_utf8:
        source = engine.scratch("orders.csv")
        as_utf8(path, writing, source)
    if not writing.encoding.startswith("utf-8"):
        shown = f" ({writing.evidence})" if writing.evidence else ""
        lines.append(
            f"{Path(label).name} is read as {writing.encoding}{shown}; set `encoding` under "
            "[orders] if letters look wrong."
        )
    if writing.separator not in (",", "\t"):
        lines.append(f"The separator of {Path(label).name} is `{writing.separator}`.")
    if writing.two_rows:
        lines.append(
            f"The header of {Path(label).name} has two rows: `{names[0]}` for instance "
            "combines both."
        )
    elif not writing.header_row:
        lines.append(
            f"{Path(label).name} has no header, so its columns are `{names[0]}` to `{names[-1]}`."
        )
    elif writing.header_row > 1:
        lines.append(f"The header of {Path(label).name} is taken from line {writing.header_row}.")
    options: dict[str, exp.Expr] = {
        "header": exp.true() if writing.header_row else exp.false(),
        "delim": exp.Literal.string(writing.separator),
        "quote": exp.Literal.string(writing.quote),
        "escape": exp.Literal.string(writing.quote),
        "auto_detect": exp.false(),
        "hive_partitioning": exp.false(),
        "columns": exp.Struct(
            expressions=[_entry(cell_name(name), exp.Literal.string("VARCHAR")) for name in names]
        ),
    }
    if writing.last_line > LONGEST_LINE:
        raise DataError(
            f"The last line of {label!r} has {writing.last_line:,} bytes. Look for a quote that "
            "is not closed before it."
        )
    if writing.last_line > SAMPLE_BYTES:
        options["max_line_size"] = exp.convert(2 * LONGEST_LINE)
    if source == path and path.suffix.lower() in COMPRESSED:
        options["compression"] = exp.Literal.string(COMPRESSED[path.suffix.lower()])
    relation = _table_function("read_csv", source, options)
    return Source(
        label,
        relation,
        dict.fromkeys(names, "text"),
        engine,
        True,
        writing.header_row + 1,
        tuple(lines),
    )


def _open_parquet(path: Path, engine: Embedded, settings: OrdersPart, label: str) -> Source:  # noqa: ARG001  # same call for all
    relation = _table_function("read_parquet", path, {"hive_partitioning": exp.false()})
    kinds = _kinds(relation, engine, label)
    return Source(label, own_names(relation, kinds), kinds, engine, text=False)


def _open_json(path: Path, engine: Embedded, settings: OrdersPart, label: str) -> Source:  # noqa: ARG001
    table, notes = read_json(path, label)
    names = _checked_names(table.column_names, label)
    return Source(
        label,
        _offered(table, engine),
        dict.fromkeys(names, "text"),
        engine,
        True,
        notes=tuple(notes),
    )


def _open_spreadsheet(path: Path, engine: Embedded, settings: OrdersPart, label: str) -> Source:
    names, notes = sheets_to_read(path, label, sheet=settings.sheet, header_row=settings.header_row)
    if len(names) == 1:
        only = _open_sheet(path, engine, settings, label, names[0])
        return replace(only, notes=(*notes, *only.notes))
    parts = [
        _with_partitions(_open_sheet(path, engine, settings, f"{label}: {name}", name), path)
        for name in names
    ]
    return _together(parts, engine, label, notes)


def _open_sheet(
    path: Path, engine: Embedded, settings: OrdersPart, label: str, sheet: str
) -> Source:
    table, header_row, notes = read_sheet(path, label, sheet=sheet, header_row=settings.header_row)
    names = _checked_names(table.column_names, label)
    relation = _offered(table, engine)
    return Source(
        label,
        relation,
        dict.fromkeys(names, "text"),
        engine,
        True,
        header_row + 1,
        tuple(notes),
        path=path,
    )


def _open_zip(path: Path, engine: Embedded, settings: OrdersPart, label: str) -> Source:
    """Open the only file in a ZIP archive."""
    try:
        with zipfile.ZipFile(path) as packed:
            inside = [
                i
                for i in packed.infolist()
                if not i.is_dir() and not i.filename.startswith(("__MACOSX/", "."))
            ]
            if len(inside) != 1:
                names = ", ".join(f"`{i.filename}`" for i in inside[:5]) or "nothing"
                raise DataError(
                    f"{label!r} contains {len(inside):,} files ({names}). Unpack it, and "
                    "name the files with orders."
                )
            if inside[0].file_size > max(MOST_UNPACKED, 400 * path.stat().st_size):
                raise DataError(
                    f"{label!r} would unpack to {inside[0].file_size:,} bytes, far more than "
                    "any orders need. It is not read."
                )
            target = engine.scratch(Path(inside[0].filename).name)
            with packed.open(inside[0]) as source, target.open("wb") as out:
                shutil.copyfileobj(source, out)
    except (zipfile.BadZipFile, RuntimeError, NotImplementedError) as error:
        raise DataError(
            f"{label!r} cannot be unpacked: {error}. Unpack it, and name the file in it."
        ) from None
    opened = _open_path(target, engine, settings, label)
    return replace(
        opened,
        notes=(
            f"{Path(label).name} contains `{inside[0].filename}`, which is read.",
            *opened.notes,
        ),
    )


_OPENERS: dict[str, Callable[[Path, Embedded, OrdersPart, str], Source]] = {
    **dict.fromkeys((".csv", ".tsv", ".tab", ".txt"), _open_text),
    **dict.fromkeys(PARQUET, _open_parquet),
    **dict.fromkeys((".json", ".jsonl", ".ndjson"), _open_json),
    **dict.fromkeys((".xlsx", ".xlsm", ".xls", ".ods"), _open_spreadsheet),
    ".zip": _open_zip,
}


def _matching(pattern: str) -> list[Path]:
    """Return the files that match a pattern; existing folder names are taken literally."""
    there, *rest_of = Path(pattern).parts
    folder = Path(there) if Path(there).exists() else Path()
    rest_of = rest_of if Path(there).exists() else [there, *rest_of]
    while (folder / rest_of[0]).exists():
        folder, rest_of = folder / rest_of[0], rest_of[1:]
    rest = os.path.join("", *rest_of)
    paths = sorted(glob.glob(rest, root_dir=folder, recursive=True))
    if not paths:
        raise UsageError(
            f"No file matches {pattern!r}. Check the pattern, and quote it so that the shell "
            "does not expand it."
        )
    return [folder / name for name in paths]


def _open_several(
    paths: Sequence[Path], engine: Embedded, settings: OrdersPart, label: str
) -> Source:
    if len(set(paths)) < len(paths):
        twice = next(path for i, path in enumerate(paths) if path in paths[:i])
        raise UsageError(
            f"{str(twice)!r} is named twice, and its rows would count twice. Name each file once."
        )
    opened = [_open_path(path, engine, settings) for path in paths]
    parts = tuple(
        part for one in opened for part in (one.parts or (one,))
    )  # a workbook's sheets are parts themselves
    first = parts[0]
    parts = (first, *(_named_like(first, part) for part in parts[1:]))
    for part in parts[1:]:
        if set(part.columns) != set(first.columns):
            missing = sorted(set(first.columns) ^ set(part.columns))
            raise DataError(
                f"{first.label!r} and {part.label!r} do not have the same columns; only one of "
                "them has "
                f"{_listed(missing)}. Name files of one kind, or rename the columns."
            )
        if part.text != first.text:
            raise DataError(
                f"{first.label!r} and {part.label!r} are files of different kinds. Name files of "
                "one kind."
            )
    if len(parts) == 1:
        return first
    notes_found = [
        f"{len(paths)} files are read together; the column `{FILE}` names each row's file."
    ]
    return _together(
        parts,
        engine,
        label,
        [*notes_found, *(note for one in opened if one.parts for note in one.notes)],
    )


def _together(
    parts: Sequence[Source], engine: Embedded, label: str, notes: Sequence[str]
) -> Source:
    """Combine files, or sheets, with the same columns into one source with a column for the
    file.
    """
    first = parts[0]
    if FILE in first.columns:
        raise DataError(
            f"{first.label!r} has a column `{FILE}`, the name that several files or sheets "
            "need for their own names. Rename it."
        )
    relation = _union([part.relation for part in parts], _labels(parts))
    columns: dict[str, CellKind] = dict(first.columns)
    if not first.text:
        types = engine.columns(relation)
        columns = {name: _kind_of(types[cell_name(name)]) for name in first.columns}
    notes_found = tuple(dict.fromkeys((*notes, *(note for part in parts for note in part.notes))))
    return Source(
        label,
        relation,
        {**columns, FILE: "text"},
        engine,
        first.text,
        first.first_row,
        notes_found,
        parts=tuple(parts),
    )


def _listed(names: Sequence[str]) -> str:
    """Return names in backquotes, at most five."""
    more = f" and {len(names) - 5:,} more" if len(names) > 5 else ""
    return ", ".join(f"`{name}`" for name in names[:5]) + more


def _named_like(first: Source, part: Source) -> Source:
    """Rename a file's columns to the first file's if they differ only in case, spaces and symbols,
    and add a note.
    """
    theirs, ours = (
        _by_letters(set(part.columns) - set(first.columns)),
        _by_letters(set(first.columns) - set(part.columns)),
    )
    renamed_columns = {
        theirs[key][0]: ours[key][0]
        for key in theirs
        if len(theirs[key]) == 1 == len(ours.get(key, ()))
    }
    if not renamed_columns:
        return part
    new = {name: renamed_columns.get(name, name) for name in part.columns}
    cells = [named(column(cell_name(old)), cell_name(name)) for old, name in new.items()]
    renamed = "; ".join(f"`{old}` as `{name}`" for old, name in renamed_columns.items())
    return replace(
        part, relation=select(cells, part.relation).subquery("renamed", copy=False),
        columns={new[name]: kind for name, kind in part.columns.items()},
        notes=(*part.notes,
        f"In {Path(part.label).name} columns are read under the first file's names: {renamed}."),
    )  # fmt: skip


def _by_letters(names: Iterable[str]) -> dict[str, list[str]]:
    """Return names by their lowercase letters and digits."""
    found: dict[str, list[str]] = {}
    for name in sorted(names):
        found.setdefault("".join(c for c in name.casefold() if c.isalnum()), []).append(name)
    return found


def _labels(parts: Sequence[Source]) -> list[str]:
    return short_names([Path(part.label) for part in parts])


def short_names(paths: Sequence[Path]) -> list[str]:
    """Return the files' names with as many folders as needed to make them unique."""
    for depth in range(1, max((len(path.parts) for path in paths), default=0) + 1):
        names = [str(Path(*path.parts[-depth:])) for path in paths]
        if len(set(names)) == len(names):
            return names
    return [str(path) for path in paths]


def _union(relations: Sequence[exp.Expr], names: Sequence[str]) -> exp.Expr:
    """Return all rows of the relations, matching columns by name, with the file's name in a
    column.
    """
    first, *others = (
        select(["*", named(exp.Literal.string(name), FILE)], relation)
        for relation, name in zip(relations, names, strict=True)
    )
    together: exp.Expr = first
    for one in others:
        together = exp.Union(this=together, expression=one, distinct=False, by_name=True)
    return exp.Subquery(this=together, alias=exp.TableAlias(this=exp.to_identifier("files")))


def _open_stdin(engine: Embedded, settings: OrdersPart) -> Source:
    path = engine.scratch("stdin")
    with path.open("wb") as file:
        shutil.copyfileobj(sys.stdin.buffer, file)
    with path.open("rb") as file:
        head = file.read(1 << 12)
    ending = ".csv"
    for magic, kind in (
        (b"PAR1", ".parquet"),
        (b"PK", ".xlsx"),
        (b"{", ".jsonl"),
        (b"[", ".json"),
        (b"\x1f\x8b", ".csv.gz"),
    ):
        if head.lstrip().startswith(magic):
            ending = kind
    renamed = path.with_name(path.name + ending)
    path.rename(renamed)
    return _open_path(renamed, engine, settings, "standard input")


def _table_function(name: str, path: Path, options: dict[str, exp.Expr]) -> exp.Table:
    # An absolute path with pattern characters escaped: the engine would expand them, and `~` too.
    plain = "".join(f"[{c}]" if c in "[*?" else c for c in str(path.absolute()))
    arguments = [
        exp.Literal.string(plain),
        *(exp.EQ(this=exp.column(k), expression=v) for k, v in options.items()),
    ]
    return exp.Table(this=exp.Anonymous(this=name, expressions=arguments))


def _entry(name: str, value: exp.Expr) -> exp.PropertyEQ:
    return exp.PropertyEQ(this=exp.Literal.string(name), expression=value)


def _checked_names(names: list[str], label: str) -> list[str]:
    if len(names) > MOST_COLUMNS:
        raise DataError(
            f"{label} has {len(names):,} columns; orders have a few dozen. Is it the right file, "
            "cut at the right separator?"
        )
    seen: set[str] = set()
    for position, name in enumerate(names, start=1):
        if not name:
            raise DataError(
                f"{label}: column {position} has no name. Give every column a name in the header."
            )
        if name.casefold() in seen:
            raise DataError(
                f"{label}: the column name `{name}` occurs twice in the header. Rename one of them."
            )
        seen.add(name.casefold())
    return names


def _open_frame(frame: Any, engine: Embedded) -> Source:
    label = "the DataFrame"
    if isinstance(frame, pa.Table):
        table, label = frame, "the Arrow table"
    elif hasattr(frame, "to_arrow_table"):
        table, label = frame.to_arrow_table(), "the relation"
    elif hasattr(frame, "to_arrow"):
        table = frame.to_arrow()
    elif hasattr(frame, "columns") and hasattr(frame, "iloc"):
        # Later changes by the caller have no effect: pandas copies before it writes while this
        # frame exists.
        frame = frame.copy(deep=False)
        table = _arrow_of(frame, label)
    else:
        raise UsageError(
            "Orders must be a path, a frame of pandas, Polars or Arrow, or a DuckDB relation, "
            f"not {type(frame).__name__}."
        )
    names = _checked_names([str(name) for name in table.column_names], label)
    relation = _offered(table.rename_columns(names), engine, frame)
    types = engine.columns(relation)
    kinds = {name: _kind_of(types[cell_name(name)]) for name in names}
    return Source(label, relation, kinds, engine, text=False)


def _arrow_of(frame: Any, label: str) -> pa.Table:
    """Convert a pandas frame to Arrow; objects of mixed types become their text, whole numbers
    without ``.0``.
    """
    columns = {}
    for place, name in enumerate(frame.columns):
        values = frame.iloc[:, place]
        try:
            if isinstance(values.dtype.kind, str) and values.dtype.kind == "c":
                raise pa.ArrowInvalid("complex numbers")
            dense = values.sparse.to_dense() if hasattr(values, "sparse") else values
            dense = dense.dt.to_timestamp() if str(dense.dtype).startswith("period[") else dense
            columns[place] = pa.array(dense, from_pandas=True)
        except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError) as error:
            columns[place] = _mixed(values, name, label, error)
    return pa.Table.from_arrays(list(columns.values()), names=[str(name) for name in frame.columns])


def _mixed(values: Any, name: Any, label: str, error: Exception) -> pa.Array:
    plain = [v if isinstance(v, str) or not hasattr(v, "item") else v.item() for v in values]
    if all(
        v is None or v != v or isinstance(v, str | int | float | Decimal | dt.date) for v in plain
    ):
        return pa.array([None if v is None or v != v else _as_text(v) for v in plain], pa.string())
    raise DataError(
        f"The column `{name}` of {label} contains values that are neither text nor numbers "
        f"nor dates: {'; '.join(map(str, error.args))}. Turn them into text."
    ) from error


def _as_text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float | Decimal) and abs(float(value)) < 1e15 and int(value) == value:
        return str(int(value))
    return value.isoformat(" ") if isinstance(value, dt.datetime) else str(value)


def _offered(table: pa.Table, engine: Embedded, owner: Any = None) -> exp.Table:
    """Return the table in the engine, with its columns renamed so that they cannot clash with
    ours.
    """
    return engine.offer(
        table.rename_columns([cell_name(name) for name in table.column_names]), owner
    )


def own_names(relation: exp.Expr, names: Iterable[str]) -> exp.Expr:
    """Return a relation with columns renamed so that they cannot clash with ours; unchanged if none
    does.
    """
    names = list(names)
    if all(cell_name(name) == name for name in names):
        return relation
    return select([named(column(name), cell_name(name)) for name in names], relation).subquery(
        "own", copy=False
    )


def _kinds(relation: exp.Expr, engine: Embedded, label: str) -> dict[str, CellKind]:
    return kinds_of(engine.columns(relation), label)


def kinds_of(types: dict[str, str], label: str) -> dict[str, CellKind]:
    """Return column name → kind, from the engine's types. Raises DataError for names that cannot be
    distinguished.
    """
    _checked_names(list(types), label)
    return {name: _kind_of(type_) for name, type_ in types.items()}


def _kind_of(type_: str) -> CellKind:
    if re.fullmatch(r"U?(TINY|SMALL|BIG|HUGE)?INT(EGER)?", type_):
        return "whole"
    if width := re.match(r"DECIMAL\((\d+)", type_):
        return (
            "decimal" if int(width[1]) <= 15 else "float"
        )  # wider types are converted with care, through their text
    if type_.startswith("TIMESTAMP"):
        return "instant" if "TIME ZONE" in type_ or "TZ" in type_ else "timestamp"
    kinds: dict[str, CellKind] = {
        "DOUBLE": "float",
        "FLOAT": "single",
        "DATE": "date",
        "BOOLEAN": "truth",
    }
    return kinds.get(type_, "text")

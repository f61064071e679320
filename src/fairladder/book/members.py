"""Read the customers file: one row per customer, joined many-to-one so that rows never multiply."""

from collections import Counter
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
from sqlglot import exp

from fairladder.book.set_aside import shown_name
from fairladder.conditions import Kind
from fairladder.engine.embedded import Embedded
from fairladder.engine.protocol import Engine
from fairladder.errors import DataError, SchemeError, nearest
from fairladder.orders import cells
from fairladder.orders.source import CellKind, Source, open_source
from fairladder.orders.writing import DateStyle, day_in_style, detect_date_format, detect_kinds
from fairladder.scheme import CustomersPart, OrdersPart
from fairladder.sqltree import any_of, cell_column, cell_name, column, named, select, sql
from fairladder.wording import percent


@dataclass(frozen=True)
class Members:
    """The customers file: one row per id (``table``, with ``customer`` as first column), and its
    rows without an id.
    """

    table: pa.Table
    set_aside: pa.Table | None
    """``row``, ``reason`` and the cells; None if every row has an id."""
    label: str
    id_column: str
    """The file's column of ids."""
    key_note: str = ""
    """How the id column was detected; empty if it was given."""


def open_members(
    file: Any, settings: CustomersPart, customer_column: str, computed: Collection[str],
    engine: Engine,
    dates: Callable[[], DateStyle | None] = lambda: None, order_ids: Callable[[], set[str]] = set,
) -> Members:  # fmt: skip
    """Read a customers file. Rows with a blank id are set aside as ``no-customer``.

    Text columns in which every cell is a number or a date are converted. If dates can be read day
    first or month first, ``dates`` returns the format of the orders' dates. ``order_ids`` returns
    ids of the orders, used to find the id column if its name differs.

    Raises SchemeError if the id column is not found, DataError if an id is on two rows or a column
    has the name of a ``computed`` one.
    """
    source = open_source(file, engine.reader, OrdersPart(encoding=settings.encoding))
    id_column, key_note = _id_column(settings, source, customer_column, order_ids)
    name = settings.name or ("name" if "name" in source.columns else None)
    if name is not None and name not in source.columns:
        raise SchemeError(
            f"{source.label} has no column `{name}`, which [customers] name requires. "
            f"{nearest(name, source.columns)}"
        )
    for other in source.columns:
        if other in computed and other not in (id_column, name):
            raise DataError(
                f"{source.label} has a column `{other}`, which is the name of a computed "
                "column. Rename it in the file."
            )
    rows = _read(source, id_column, name, dates)
    shown = {cell_name(name): name for name in source.columns}
    cells_there = [n for n in rows.column_names if n not in (_ROW, "customer")]
    set_aside: pa.Table | None = None
    if rows["customer"].null_count:
        set_aside, rows = _without_id(engine.reader, rows, cells_there, shown)
    _no_repeats(rows, source)
    table = rows.select(["customer", *cells_there]).rename_columns(
        ["customer", *(shown.get(n, n) for n in cells_there)]
    )
    return Members(table, set_aside, source.label, id_column, key_note)


def _without_id(
    engine: Embedded, rows: pa.Table, cells_there: Sequence[str], shown: Mapping[str, str]
) -> tuple[pa.Table | None, pa.Table]:
    """Return the non-blank rows without an id, or None, and the other rows."""
    aside: dict[str, exp.Expr] = {"row": column(_ROW), "reason": exp.Literal.string("no-customer")}
    aside |= {shown_name(f"of {shown.get(n, n)}"): column(n) for n in cells_there}
    without_id, anything = (
        sql("customer IS NULL"),
        [sql(":c IS NOT NULL", c=column(n)) for n in cells_there],
    )
    offered = engine.offer(rows)
    query = select([named(tree, n) for n, tree in aside.items()], offered)
    query = query.where(without_id, any_of(anything) if anything else exp.false(), copy=False)
    found = engine.table(query.order_by("row", copy=False))
    known = engine.table(
        select(["*"], offered)
        .where(exp.Not(this=without_id), copy=False)
        .order_by(column(_ROW), copy=False)
    )
    return found if len(found) else None, known


#: The row number in the file, next to columns of any name.
_ROW = "#row"


def _id_column(
    settings: CustomersPart, source: Source, customer_column: str, order_ids: Callable[[], set[str]]
) -> tuple[str, str]:
    """Return the id column, and a note if it was found by its values or spelling rather than by its
    exact name.

    Raises SchemeError if no column has the name, and none contains at least half of the ids.
    """
    if settings.customer is not None and settings.customer not in source.columns:
        raise SchemeError(
            f"{source.label} has no column `{settings.customer}`, which [customers] customer "
            f"requires. {nearest(settings.customer, source.columns)}"
        )
    for name in (settings.customer, customer_column, "customer"):
        if name is not None and name in source.columns:
            return name, ""
    ids = order_ids()
    shares = {name: _share_known(source, name, ids) for name in source.columns}
    similar = [name for name in source.columns if _letters(name) == _letters(customer_column)]
    best = max(shares, key=lambda name: (shares[name], name in similar), default=None)
    if best is not None and 2 * shares[best] >= 1:
        tied = [name for name in shares if shares[name] == shares[best]]
        chosen = next((name for name in tied if name in similar), best)
        return (
            chosen,
            f"{source.label} is matched by its column `{chosen}`: {percent(shares[chosen])} "
            "of the tested ids are in both files",
        )
    if len(similar) == 1:
        return similar[
            0
        ], f"{source.label} is matched by its column `{similar[0]}`, as its name suggests"
    raise SchemeError(
        f"{source.label}: no column contains the ids of the orders' `{customer_column}`. "
        "Name it with `customer` under [customers] (--customers-id). The columns are: "
        f"{', '.join(f'`{name}`' for name in list(source.columns)[:12])}."
    )


def _letters(name: str) -> str:
    return "".join(c for c in name.casefold() if c.isalnum())


def _share_known(source: Source, name: str, ids: set[str]) -> float:
    """Return the share of the ids, or of the column's values if these are fewer, that are in
    both.
    """
    if source.columns[name] in ("date", "timestamp", "instant", "truth"):
        return 0.0
    cell = sql("CAST(:c AS VARCHAR)", c=cells.text(cell_column(name), source.columns[name]))
    table = source.engine.table(
        select([named(cell, "value")], source.relation).distinct(copy=False)
    )
    values = {value for value in table["value"].to_pylist() if value is not None}
    fewer = min(len(ids), len(values))
    return len(ids & values) / fewer if fewer > 1 else 0.0


def _read(
    source: Source, id_column: str, name: str | None, dates: Callable[[], DateStyle | None]
) -> pa.Table:
    """Return the rows with their numbers. NaN becomes null, and timestamps become dates."""
    engine, others = (
        source.engine.customer_engine,
        [c for c in source.columns if c not in (id_column, name)],
    )
    with engine.passing():
        # Trimmed once, since trimming takes most of the statement's time.
        trimmed = {_ROW: sql("ROW_NUMBER() OVER () + :n", n=source.first_row - 1)}
        trimmed |= {cell_name(n): _trimmed(n, kind) for n, kind in source.columns.items()}
        rows = engine.keep(select([named(tree, n) for n, tree in trimmed.items()], source.relation))
        found_kinds = detect_kinds(source, others, rows) if source.text else {}
        cells_of = {
            other: _cell(other, source.columns[other], found_kinds.get(other)) for other in others
        }
        if source.text:
            for other in _day_like(engine, rows, [n for n in others if n not in found_kinds]):
                if (style := _style(engine, rows, other, dates)) is not None:
                    cells_of[other] = _day(other, style)
        ours = {
            _ROW: column(_ROW),
            "customer": sql("CAST(:c AS VARCHAR)", c=_as_id(id_column, source.columns[id_column])),
        }
        if name is not None:
            ours["name"] = _as_id(name, source.columns[name])
        columns = [
            *(named(t, n) for n, t in ours.items()),
            *(named(t, cell_name(n)) for n, t in cells_of.items()),
        ]
        return engine.table(select(columns, rows).order_by(column(_ROW), copy=False))


def _as_id(name: str, kind: CellKind) -> exp.Expr:
    """Convert an id that is not text in the same way as the orders' ids."""
    return cell_column(name) if kind == "text" else cells.text(cell_column(name), kind)


def _trimmed(name: str, kind: CellKind) -> exp.Expr:
    return cells.text(cell_column(name), kind) if kind == "text" else cell_column(name)


#: A date that is not ISO: two numbers, or a number and a month's name, and a four-digit year.
_DAY_LIKE = r"(\d{1,2}[./ -]+(\d{1,2}|[A-Za-z]{3,9}\.?)[., /-]+\d{4}|\d{4}[./]\d{1,2}[./]\d{1,2}|[A-Za-z]{3,9}\.? \d{1,2},? \d{4})([ T].*)?"


_ISO_LIKE = r"\d{4}-\d\d-\d\d([ T].*)?"


def _day_like(engine: Engine, rows: exp.Expr, names: list[str]) -> list[str]:
    """Return the text columns in which every non-blank cell, and at least one, looks like a
    date.
    """
    tests = []
    for name in names:
        cell = cell_column(name)
        fits = sql(
            "REGEXP_FULL_MATCH(:c, :p) OR REGEXP_FULL_MATCH(:c, :iso)",
            c=cell,
            p=_DAY_LIKE,
            iso=_ISO_LIKE,
        )
        tests.append(
            named(
                sql("BOOL_AND(:fits) FILTER (WHERE :c IS NOT NULL)", fits=fits, c=cell),
                f"like {name}",
            )
        )
    counts = engine.table(select(tests, rows)).to_pylist()[0] if tests else {}
    return [name for name in names if counts[f"like {name}"]]


def _style(
    engine: Engine, rows: exp.Expr, name: str, dates: Callable[[], DateStyle | None]
) -> DateStyle | None:
    """Return the date format of a text column in which every non-blank cell is a date; None for
    other columns.
    """
    try:
        style = detect_date_format(rows, name, engine, column_label=name)
    except DataError:
        style = dates() or DateStyle("iso")
    read = sql(
        "BOOL_AND(:d IS NOT NULL) FILTER (WHERE :c IS NOT NULL)",
        d=_day(name, style),
        c=cell_column(name),
    )
    every = engine.table(select([named(read, "read")], rows))["read"].to_pylist()[0]
    return style if every else None


def _day(name: str, style: DateStyle) -> exp.Expr:
    iso = cells.day(cell_column(name), "text", None)
    if style.name == "iso":
        return iso
    return sql("COALESCE(:iso, :styled)", iso=iso, styled=day_in_style(cell_column(name), style))


def _cell(name: str, kind: CellKind, kind_found: Kind | None) -> exp.Expr:
    cell = cell_column(name)
    if kind_found == "number":
        return cells.number_of_text(cell)
    if kind_found == "day":
        return cells.day(cell, "text", None)
    if kind in ("timestamp", "instant"):
        return sql("CAST(:c AS DATE)", c=cell)
    if kind in ("float", "single"):
        return sql("CASE WHEN NOT ISNAN(CAST(:c AS DOUBLE)) THEN :c END", c=cell)
    return cell


def _no_repeats(rows: pa.Table, source: Source) -> None:
    ids = rows["customer"].to_pylist()
    counts = Counter(ids)
    if len(counts) == len(ids):
        return
    first = next(text for text in ids if counts[text] > 1)
    numbers = [
        number for number, text in zip(rows[_ROW].to_pylist(), ids, strict=True) if text == first
    ]
    row_list, several = ", ".join(map(str, numbers[:5])), sum(n > 1 for n in counts.values())
    raise DataError(
        f"repeated-customers: {source.label} has {several} ids on more than one row, the "
        f"first `{first}` (rows {row_list}). Joining them would count orders twice; keep "
        "one row for each customer."
    )

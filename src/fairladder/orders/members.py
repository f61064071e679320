"""The customers file: one row per customer, joined many-to-one and never multiplied."""

from collections.abc import Collection
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from sqlglot import exp

from fairladder.conditions import Kind
from fairladder.engine.protocol import Engine
from fairladder.errors import DataError, SchemeError, nearest
from fairladder.orders import cells
from fairladder.orders.rows import settle_kinds
from fairladder.orders.source import Source, open_source
from fairladder.scheme import CustomersPart
from fairladder.sqltree import column, named, select, sql

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class Members:
    """The customers file's rows by id (``frame``, column ``customer`` first) and its rows without an id."""

    frame: "pd.DataFrame"
    set_aside: "pd.DataFrame"
    label: str


def open_members(
    file: Any, settings: CustomersPart, customer_column: str, computed: Collection[str], engine: Engine
) -> Members:
    """Read a customers file. Rows with a blank id are set aside as ``no-customer``.

    Raises SchemeError where its id column is not found, DataError where an id stands on two rows or a column is named
    like a ``computed`` one.
    """
    import pandas as pd

    source = open_source(file, engine.reader)
    id_column = _id_column(settings, source, customer_column)
    name = settings.name or ("name" if "name" in source.columns else None)
    if name is not None and name not in source.columns:
        raise SchemeError(
            f"{source.label} has no column `{name}`, which [customers] name asks for. {nearest(name, source.columns)}"
        )
    for other in source.columns:
        if other in computed and other not in (id_column, name):
            raise DataError(
                f"{source.label} has a column `{other}`, and that is the name of a computed one. Rename it in the file."
            )
    rows = _read(source, id_column, name)
    blank = rows["customer"].isna()
    everything_blank = rows.drop(columns="#row").isna().all(axis=1)
    aside = rows[blank & ~everything_blank]
    frame = rows[~blank].reset_index(drop=True)
    _no_repeats(frame, source)
    aside = pd.DataFrame({"row": aside["#row"], "reason": "no-customer"}).join(aside.drop(columns=["#row", "customer"]))
    return Members(frame.drop(columns="#row"), aside, source.label)


def _id_column(settings: CustomersPart, source: Source, customer_column: str) -> str:
    if settings.customer is not None and settings.customer not in source.columns:
        raise SchemeError(
            f"{source.label} has no column `{settings.customer}`, which [customers] customer asks for. "
            f"{nearest(settings.customer, source.columns)}"
        )
    for name in (settings.customer, customer_column, "customer"):
        if name is not None and name in source.columns:
            return name
    raise SchemeError(
        f"{source.label}: no column is known for the customer's id. Name it under [customers] customer. "
        f"{nearest(customer_column, source.columns)}"
    )


def _read(source: Source, id_column: str, name: str | None) -> "pd.DataFrame":
    others = [c for c in source.columns if c not in (id_column, name)]
    settled = settle_kinds(source, others) if source.text else {}
    trees = {"#row": sql("ROW_NUMBER() OVER () + :n", n=source.first_row - 1)}
    trees["customer"] = cells.text(column(id_column), source.columns[id_column])
    if name is not None:
        trees["name"] = cells.text(column(name), source.columns[name])
    for other in others:
        trees[other] = _cell(other, source, settled.get(other))
    query = select([named(tree, key) for key, tree in trees.items()], source.relation)
    frame: pd.DataFrame = source.engine.table(query).to_pandas(date_as_object=False)
    days = frame.select_dtypes(include=["datetime"]).columns
    return frame.astype({**dict.fromkeys(days, "datetime64[s]"), "customer": "str"})


def _cell(name: str, source: Source, settled: Kind | None) -> exp.Expr:
    kind = source.columns[name]
    if settled == "number":
        return cells.number(column(name), kind)
    if settled == "day":
        return cells.day(cells.text(column(name), kind), "text", None)
    return cells.text(column(name), kind) if kind == "text" else column(name)


def _no_repeats(frame: "pd.DataFrame", source: Source) -> None:
    twice = frame[frame["customer"].duplicated(keep=False)]
    if twice.empty:
        return
    first = twice["customer"].iloc[0]
    rows = ", ".join(str(r) for r in twice.loc[twice["customer"] == first, "#row"].head(5))
    raise DataError(
        f"repeated-customers: {source.label} holds {twice['customer'].nunique()} ids on more than one row, the first "
        f"`{first}` (rows {rows}). Joining them would count orders twice; keep one row for each customer."
    )

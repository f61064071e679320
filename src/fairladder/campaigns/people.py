"""Read files of people: ids to exclude, and earlier lists with their dates."""

import datetime as dt
import warnings
from collections.abc import Sequence

import pandas as pd

from fairladder.engine.protocol import Engine
from fairladder.errors import DataError, FairLadderWarning, UsageError
from fairladder.orders import cells
from fairladder.orders.source import Source, open_source
from fairladder.output.files import receipt_trouble
from fairladder.sqltree import cell_column, named, select


def ids_in(files: Sequence[str], customer_column: str, engine: Engine) -> set[str]:
    """Return the ids in files of any supported kind, from a column with the orders' name of the id,
    ``customer``, or the only one.

    A spreadsheet's leading apostrophe is removed. Raises UsageError if a file is missing, DataError
    if it has no such column.
    """
    ids: set[str] = set()
    for file in files:
        frame = _texts(open_source(file, engine.reader), (customer_column, "customer"), ())
        ids |= set(frame["customer"].dropna())
    return ids


def contacted_since(files: Sequence[str], since: dt.date, engine: Engine) -> set[str]:
    """Return the ids of contacts in earlier lists from ``since`` or later.

    Raises DataError if a file has no ``customer`` and ``listed_on``, or a date in it cannot be
    read.
    """
    ids: set[str] = set()
    for file in files:
        source = open_source(file, engine.reader)
        if "listed_on" not in source.columns:
            raise DataError(
                f"{source.label} has no column `listed_on`, so it is not a list made by "
                "`fairladder campaign`. Use `exclude` for ids alone."
            )
        frame = _texts(
            source, ("customer",), ("listed_on", *(["group"] if "group" in source.columns else []))
        )
        days = pd.to_datetime(frame["listed_on"], format="ISO8601", errors="coerce")
        if days.isna().any():
            raise DataError(
                f"{source.label}: `listed_on` contains "
                f"{frame['listed_on'][days.isna()].iloc[0]!r}, which is not a date."
            )
        recent = days >= pd.Timestamp(since)
        if "group" in frame:
            recent &= frame["group"] != "holdout"
        ids |= set(frame.loc[recent, "customer"].dropna())
    return ids


def _texts(source: Source, ids: Sequence[str], others: Sequence[str]) -> pd.DataFrame:
    known = [name for name in ids if name in source.columns] or (
        list(source.columns) if len(source.columns) == 1 else []
    )
    if not known:
        raise DataError(
            f"{source.label} has no column `{ids[0]}` of ids; give the column that name, or "
            "keep only one column."
        )
    trees = {"customer": cells.text(cell_column(known[0]), source.columns[known[0]])}
    trees |= {name: cells.text(cell_column(name), source.columns[name]) for name in others}
    frame: pd.DataFrame = source.engine.table(
        select([named(t, n) for n, t in trees.items()], source.relation)
    ).to_pandas()
    frame["customer"] = frame["customer"].astype("str")
    return frame


def read_list(file: str, engine: Engine) -> pd.DataFrame:
    """Read a list that ``fairladder campaign`` wrote: ``customer``, ``group``, ``segment``,
    ``listed_on``.

    Raises UsageError if it is missing, DataError if it is another kind of file.
    """
    if trouble := receipt_trouble(file):
        warnings.warn(trouble, FairLadderWarning, stacklevel=2)
    source = open_source(file, engine.reader)
    missing = [n for n in ("customer", "group", "listed_on") if n not in source.columns]
    if missing:
        raise DataError(
            f"{source.label} has no column `{missing[0]}`, so it is not a list made by "
            "`fairladder campaign`."
        )
    others = [n for n in ("group", "listed_on", "segment", "campaign") if n in source.columns]
    frame = _texts(source, ("customer",), others)
    wrong = set(frame["group"]) - {"contact", "holdout"}
    if wrong:
        raise DataError(
            f"{source.label}: `group` contains {sorted(map(str, wrong))[0]!r}; a list has "
            "contact and holdout."
        )
    if frame["customer"].duplicated().any():
        twice = frame["customer"][frame["customer"].duplicated()].iloc[0]
        raise UsageError(
            f"{source.label} lists `{twice}` twice. Are two lists in one file? Measure each "
            "campaign separately."
        )
    return frame

"""Files of people: ids to leave out, and earlier lists with the day they were made."""

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
    """The ids in files of any kind that orders are read from, in a column named like the orders',
    ``customer``, or the only one.

    An apostrophe before what a spreadsheet would take for a formula is taken off. Raises
    UsageError where a file is missing, DataError where no column is known for the id.
    """
    ids: set[str] = set()
    for file in files:
        frame = _texts(open_source(file, engine.reader), (customer_column, "customer"), ())
        ids |= set(frame["customer"].dropna())
    return ids


def contacted_since(files: Sequence[str], since: dt.date, engine: Engine) -> set[str]:
    """The ids that earlier lists have as contacts, listed on ``since`` or later.

    Raises DataError where a file has no ``customer`` and ``listed_on``, or a day in it cannot be
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
                f"{source.label}: `listed_on` holds {frame['listed_on'][days.isna()].iloc[0]!r}, "
                "which is not a day."
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
            f"{source.label} has no column `{ids[0]}` to read ids from; name its column so, or "
            "leave only that one."
        )
    trees = {"customer": cells.text(cell_column(known[0]), source.columns[known[0]])}
    trees |= {name: cells.text(cell_column(name), source.columns[name]) for name in others}
    frame: pd.DataFrame = source.engine.table(
        select([named(t, n) for n, t in trees.items()], source.relation)
    ).to_pandas()
    frame["customer"] = frame["customer"].astype("str")
    return frame


def read_list(file: str, engine: Engine) -> pd.DataFrame:
    """A list that ``fairladder campaign`` wrote: ``customer``, ``group``, ``segment``,
    ``listed_on``; several campaigns' apart.

    Raises UsageError where it is missing, DataError where it is another file.
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
            f"{source.label}: `group` holds {sorted(map(str, wrong))[0]!r}; a list has contact "
            "and holdout there."
        )
    if frame["customer"].duplicated().any():
        twice = frame["customer"][frame["customer"].duplicated()].iloc[0]
        raise UsageError(
            f"{source.label} lists `{twice}` twice. Is it two lists in one file? Measure each "
            "campaign by itself."
        )
    return frame

"""What columns of the orders say at a customer's first and latest purchase, carried to the customers."""

from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING

import pyarrow as pa
from sqlglot import exp

from fairladder.engine.protocol import Engine
from fairladder.errors import SchemeError, nearest
from fairladder.sqltree import column, named, select, sql

if TYPE_CHECKING:
    import pandas as pd

#: How the columns of each setting begin on the customers' table.
FIRST, LATEST = "first_", "latest_"


def check_carried(names: Sequence[str], there: Collection[str]) -> None:
    """Raise SchemeError for a column that the orders do not have."""
    for name in names:
        if name not in there:
            raise SchemeError(f"The orders have no column `{name}` to carry to the customers. {nearest(name, there)}")


def carried(orders: exp.Select, engine: Engine, first: Sequence[str], latest: Sequence[str]) -> "pd.DataFrame":
    """``customer``, ``first_NAME`` and ``latest_NAME`` as text, a row for each customer with a purchase.

    ``orders`` are numbered orders with the columns as groups (``of NAME``); ``mixed`` where an order's rows disagree.
    """
    last = exp.Window(this=sql("MAX(nth)"), partition_by=[column("customer")])
    there = select(
        ["customer", "nth", *map(column, _groups([*first, *latest])), named(last, "last_nth")], orders, "orders"
    )
    ends = select(["*"], there.where(sql("nth IS NOT NULL"), copy=False), "numbered")
    table = engine.table(ends.where(sql("nth = 1 OR nth = last_nth"), copy=False))
    frame: pd.DataFrame = table.to_pandas(types_mapper={pa.string(): None}.get)
    made = frame[frame["nth"] == 1][["customer"]]
    for names, prefix, at in ((first, FIRST, frame["nth"] == 1), (latest, LATEST, frame["nth"] == frame["last_nth"])):
        cells = frame.loc[at, ["customer", *_groups(names)]]
        made = made.merge(cells.rename(columns={f"of {n}": f"{prefix}{n}" for n in names}), on="customer")
    return made.astype(dict.fromkeys(made, "str"))


def _groups(names: Sequence[str]) -> list[str]:
    return [f"of {name}" for name in dict.fromkeys(names)]

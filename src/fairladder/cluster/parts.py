"""Customers written by the executors, as folders of parts."""

from collections.abc import Mapping, Sequence
from typing import Any

from sqlglot import exp

from fairladder.columns import decimals_of
from fairladder.engine.cluster import Cluster
from fairladder.engine.protocol import Engine
from fairladder.errors import UsageError
from fairladder.output.files import as_json
from fairladder.output.targets import format_of
from fairladder.sqltree import column, named, select, sql

#: What parts are written as.
KINDS = ("parquet", "csv")


def kind_of_parts(path: str) -> str:
    """``parquet`` or ``csv``, by the ending of the folder's name. Raises UsageError for any other."""
    kind = format_of(path.rstrip("/"))
    if kind not in KINDS:
        raise UsageError(f"{path!r}: on a cluster results are folders of parts, NAME.parquet or NAME.csv.")
    return kind


def require_target(engine: Engine, path: str) -> None:
    """Raise UsageError where no parts can be written to ``path``: by its name, or since something else stands there."""
    assert isinstance(engine, Cluster)
    kind_of_parts(path)
    engine.require_own(path)


def write_parts(
    engine: Engine,
    rows: exp.Expr,
    path: str,
    *,
    by: Sequence[exp.Expr],
    columns: Sequence[str] | None = None,
    decimals: int,
    facts: Mapping[str, Any],
) -> None:
    """Write the rows, or some of their columns, in the order of ``by``, which holds over the parts in the order of their names.

    The facts stand beside them.

    In CSV money has exactly ``decimals`` decimals and ratios are their shortest text, as in files written here. Raises as
    ``Cluster.write`` does.
    """
    assert isinstance(engine, Cluster)
    kind, types = kind_of_parts(path), engine.columns(rows)
    cells = {n: _csv_cell(n, types[n], decimals) if kind == "csv" else column(n) for n in columns or types}
    ordered = select(["*"], rows).order_by(*by, copy=False)
    query = select([named(tree, name) for name, tree in cells.items()], ordered, "ordered")
    engine.write(query, path, kind, as_json(dict(facts)))


def _csv_cell(name: str, type_: str, decimals: int) -> exp.Expr:
    import pandas as pd

    if type_ not in ("DOUBLE", "FLOAT"):
        return column(name)
    places = decimals_of(pd.DataFrame({name: [0.0]}), name, decimals)
    if places is None:
        return exp.Anonymous(this="FLOAT_TEXT", expressions=[column(name)])
    return sql(f"CAST(ROUND(:c, :p) AS DECIMAL(38, {places}))", c=column(name), p=places)

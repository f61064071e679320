"""What of customers on a cluster is written: whom a condition picks, in which order, with which columns."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlglot import exp

from fairladder.columns import better
from fairladder.conditions import Kind, parse_condition, to_engine
from fairladder.scores.selection import require_known
from fairladder.sqltree import column, select


@dataclass(frozen=True)
class Selected:
    """Rows, the order in which they are written, and the columns that are."""

    rows: exp.Select
    order: tuple[exp.Expr, ...]
    columns: tuple[str, ...]


def selected(
    people: exp.Expr, kinds: Mapping[str, Kind], *, when: str | None, sort: str | None, columns: Sequence[str] | None
) -> Selected:
    """What ``scores.select`` chooses. Raises as that does."""
    rows = select(["*"], people)
    if when is not None:
        condition = parse_condition(when, kinds, "--when")
        rows = rows.where(to_engine(condition, {name: column(name) for name in kinds}), copy=False)
    for name in (*([] if sort is None else [sort]), *(columns or ())):
        require_known(name, kinds)
    order: list[exp.Expr] = [column("customer")]
    if sort is not None:
        falling = kinds[sort] != "text" and better(sort) != "low"
        order.insert(0, exp.Ordered(this=column(sort), desc=falling, nulls_first=False))
    return Selected(rows, tuple(order), tuple(columns or kinds))

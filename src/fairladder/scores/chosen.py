"""What of the customers is shown: whom a condition picks, in which order, with which columns. Nobody's figures change."""

from collections.abc import Mapping, Sequence

from sqlglot import exp

from fairladder.book.read import Read
from fairladder.columns import better
from fairladder.conditions import Kind, parse_condition, to_engine
from fairladder.frames import customers_frame
from fairladder.output.listing import Listing
from fairladder.scores.scored import kinds_of
from fairladder.scores.selection import require_known
from fairladder.sqltree import column, select


def chosen(
    orders: Read,
    people: exp.Expr,
    *,
    when: str | None = None,
    sort: str | None = None,
    columns: Sequence[str] | None = None,
    kinds: Mapping[str, Kind] | None = None,
) -> Listing:
    """Of customers in ``people`` those for whom ``when`` holds, best first by ``sort`` and then by id, with ``columns`` only.

    ``kinds`` are the columns' kinds, where they are known. Raises ConditionError for a wrong condition, UsageError for an unknown
    column.
    """
    engine = orders.customer_engine
    kinds = kinds_of(engine, people) if kinds is None else kinds
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
    return Listing(
        engine, rows, tuple(order), tuple(columns or kinds), lambda table: customers_frame(table, orders.scheme)
    )

"""Select the customers to show: a condition, a sort order and columns. Figures do not change."""

from collections.abc import Iterable, Mapping, Sequence

import pyarrow as pa
from sqlglot import exp

from fairladder.book.read import Read
from fairladder.columns import better
from fairladder.conditions import Kind, parse_condition, to_engine
from fairladder.errors import UsageError, nearest
from fairladder.output.listing import Listing
from fairladder.scores.scored import Scored, kinds_of
from fairladder.sqltree import column, select


def chosen(
    orders: Read,
    people: exp.Expr | Scored,
    *,
    when: str | None = None,
    sort: str | None = None,
    columns: Sequence[str] | None = None,
) -> Listing:
    """Return the customers who match ``when``, sorted by ``sort`` (best first) and then by id, with
    only ``columns``.

    Raises ConditionError for a wrong condition, UsageError for an unknown column.
    """
    engine, scored = orders.customer_engine, people if isinstance(people, Scored) else None
    relation = people.relation if isinstance(people, Scored) else people
    kinds = scored.kinds if scored is not None else kinds_of(engine, relation)
    rows, order = chosen_rows(relation, kinds, when, sort, columns or ())
    fixed = scored.fixed_names if scored is not None else dict
    shown = tuple(columns or kinds)
    return Listing(engine, rows, order, shown, orders.frame_of, orders.carried_names, fixed)


def chosen_rows(
    people: exp.Expr,
    kinds: Mapping[str, Kind],
    when: str | None,
    sort: str | None,
    columns: Sequence[str],
    last: str = "customer",
) -> tuple[exp.Select, tuple[exp.Expr, ...]]:
    """Return the rows of ``chosen`` and their sort order, which ends with the column ``last``."""
    rows = select(["*"], people)
    if when is not None:
        condition = parse_condition(when, kinds, "--when")
        rows = rows.where(to_engine(condition, {name: column(name) for name in kinds}), copy=False)
    for name in (*([] if sort is None else [sort]), *columns):
        require_known(name, kinds)
    order: list[exp.Expr] = [column(last)]
    if sort is not None:
        falling = kinds[sort] != "text" and better(sort) != "low"
        order.insert(0, exp.Ordered(this=column(sort), desc=falling, nulls_first=False))
    return rows, tuple(order)


def require_customers(people: Scored, ids: Sequence[str]) -> None:
    """Raise UsageError if a customer does not exist, with a suggestion."""
    engine = people.engine
    wanted = engine.offer(pa.table({"id": pa.array(ids, pa.string())}))
    rows = select([column("id")], exp.alias_(wanted, "wanted", table=True))
    rows = rows.join(
        exp.alias_(people.relation, "people", table=True),
        on="wanted.id = people.customer",
        join_type="anti",
        copy=False,
    )
    missing = set(engine.table(rows)["id"].to_pylist())
    for one in ids:
        if one in missing:
            raise UsageError(f"There is no customer `{one}`. {_suggestion(people, one)}")


def _suggestion(people: Scored, one: str) -> str:
    if people.engine.limits.rows_here is not None:
        return "Write ids as in the orders, including leading zeros."
    query = select([column("customer")], people.relation).order_by("customer", copy=False)
    known = people.engine.table(query)["customer"].to_pylist()
    similar = [k for k in known if k.lstrip("0").casefold() == one.strip().lstrip("0").casefold()]
    return f"Did you mean `{similar[0]}`?" if similar else nearest(one, known)


def require_known(name: str, columns: Iterable[object]) -> None:
    """Raise UsageError if the customers have no column with that name."""
    if name not in (there := list(map(str, columns))):
        raise UsageError(f"The customers have no column `{name}`. {nearest(name, there)}")

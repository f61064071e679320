"""The groups of a pass where customers stay in the engine: where they are, and what must be known of them all."""

from collections.abc import Sequence
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp

from fairladder.book.matching import unmatched_of
from fairladder.engine.protocol import Engine
from fairladder.errors import DataError
from fairladder.findings import Finding
from fairladder.numbers import EXACT
from fairladder.orders.states import RowState
from fairladder.sqltree import column, named, select, sql


@dataclass(frozen=True)
class KeptGroups:
    """The groups of the reduction in the engine, one row per customer and state, amounts in minor units."""

    relation: exp.Expr
    columns: tuple[str, ...]
    customers: int
    """Customers with rows that count."""
    largest: int
    """The largest of their whole numbers, whatever its sign."""
    positive: int
    """All positive spend."""

    def used(self) -> exp.Select:
        """The groups of rows that count."""
        return select(["*"], self.relation).where(sql("state = :u", u=RowState.USED), copy=False)

    def unmatched(self, engine: Engine, members: Sequence[str], label: str) -> Finding | None:
        """``signs.unmatched`` of the customers there and the ids of the customers file."""
        offered = exp.alias_(engine.offer(pa.table({"member": pa.array(members, pa.string())})), "members", table=True)
        on = sql("customer = member")
        both = select([named(sql("COUNT(*)"), "n")], self.used(), "used").join(offered, on=on, copy=False)
        same = int(engine.table(both)["n"][0].as_py())
        alone = []
        for side, name, missing in (("left", "customer", "member"), ("right", "member", "customer")):
            joined = select([column(name)], self.used(), "used").join(offered, on=on, join_type=side, copy=False)
            some = joined.where(sql(f"{missing} IS NULL"), copy=False).order_by(name, copy=False).limit(3, copy=False)
            alone.append(engine.table(some)[name].to_pylist())
        return unmatched_of(self.customers, len(members), same, alone, label)

    def require_exact(self, decimals: int) -> None:
        """Raise DataError where amounts are too large for a quotient of floats to be rounded once."""
        if max(self.largest, self.positive) > EXACT:
            raise DataError(
                f"Amounts come to more than {EXACT // 10**decimals:,}: too large to stay exact on a cluster. Give the amounts "
                "in a larger unit, or fewer decimals under [money]."
            )


def kept_groups(relation: exp.Expr, columns: tuple[str, ...], told: pa.Table) -> KeptGroups:
    """The groups kept in ``relation``, of which ``told`` is what ``reduction.by_state`` gives."""
    used = told.filter(pc.equal(told["state"], int(RowState.USED)))

    def most(name: str, total: bool) -> int:
        return int((pc.sum if total else pc.max)(used[name]).as_py() or 0)

    return KeptGroups(relation, columns, most("customers", True), most("largest", False), most("positive", True))

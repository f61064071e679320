"""The groups of a pass, kept by the engine of customers, and what must be known of them all."""

from dataclasses import dataclass

import pyarrow as pa
from sqlglot import exp

from fairladder.book.matching import unmatched_of
from fairladder.engine.protocol import CustomerEngine
from fairladder.errors import DataError, UsageError
from fairladder.findings import Finding
from fairladder.numbers import EXACT
from fairladder.orders.states import RowState
from fairladder.sqltree import column, named, select, sql


@dataclass(frozen=True, eq=False)
class KeptGroups:
    """The groups of the reduction, one row per customer and state, amounts in minor units;
    kept as long as this is.
    """

    engine: CustomerEngine
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

    def unmatched(self, members: pa.Table, label: str) -> Finding | None:
        """The finding that most ids of the orders and of the customers file differ; None if
        enough match.
        """
        engine, member = self.engine, column("member")
        ids = select(
            [named(column("customer"), "member")], engine.offer(members), "members"
        ).subquery("members")
        on = sql("customer = :m", m=member)
        both = select([named(sql("COUNT(*)"), "n")], self.used(), "used").join(
            ids, on=on, copy=False
        )
        same = int(engine.table(both)["n"][0].as_py())
        smaller = min(self.customers, len(members))
        if not smaller or 2 * same >= smaller:
            return None
        alone = []
        for side, name, missing in (
            ("left", "customer", "member"),
            ("right", "member", "customer"),
        ):
            joined = select([column(name)], self.used(), "used").join(
                ids, on=on, join_type=side, copy=False
            )
            some = joined.where(sql(f"{missing} IS NULL"), copy=False).order_by(name, copy=False)
            alone.append(engine.table(some.limit(_MOST_ALONE, copy=False))[name].to_pylist())
        return unmatched_of(self.customers, len(members), same, alone, label)

    def require_exact(self, decimals: int) -> None:
        """Raise DataError where amounts are too large for a quotient of floats to be rounded
        once.
        """
        if max(self.largest, self.positive) > EXACT:
            raise DataError(
                f"Amounts come to more than {EXACT // 10**decimals:,}: too large to stay exact. "
                "Give the amounts in a larger "
                "unit, or fewer decimals under [money]."
            )

    @property
    def few(self) -> bool:
        """True if all customers may come to this machine."""
        most = self.engine.limits.rows_here
        return most is None or self.customers <= most

    def require_few(self) -> None:
        """Raise UsageError where the customers are more than may come to this machine."""
        most = self.engine.limits.rows_here
        if most is not None and not self.few:
            raise UsageError(
                f"This needs all customers on this machine. At most {most:,} are brought here "
                "from a Spark cluster, and there "
                f"are {self.customers:,}. Read a part of the orders with --where; the guide on "
                "clusters says what is "
                "worked out there for everybody."
            )


#: So many ids of each side are compared to find out why they differ.
_MOST_ALONE = 20_000


def kept_groups(
    engine: CustomerEngine, relation: exp.Expr, columns: tuple[str, ...], summed: pa.Table
) -> KeptGroups:
    """The groups kept in ``relation``, of which ``summed`` is what ``reduction.by_state`` gives."""
    used = [row for row in summed.to_pylist() if row["state"] == RowState.USED]
    customers, positive = (
        sum(int(row[name] or 0) for row in used) for name in ("customers", "positive")
    )
    largest = max((int(row["largest"] or 0) for row in used), default=0)
    return KeptGroups(engine, relation, columns, customers, largest, positive)

"""The groups of a pass, kept in the customers' engine, with totals over all groups."""

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
    """The groups of the reduction, one row per customer and state, amounts in minor units. They are
    dropped with this object.
    """

    engine: CustomerEngine
    relation: exp.Expr
    columns: tuple[str, ...]
    customers: int
    """Number of customers with rows that count."""
    largest: int
    """The largest absolute value of their whole numbers."""
    positive: int
    """Total positive spend."""

    def used(self) -> exp.Select:
        """Return the groups of rows that count."""
        return select(["*"], self.relation).where(sql("state = :u", u=RowState.USED), copy=False)

    def unmatched(self, members: pa.Table, label: str) -> Finding | None:
        """Return the finding that most ids of the orders and of the customers file differ; None if
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
        """Raise DataError if amounts are too large for exact division with floats."""
        if max(self.largest, self.positive) > EXACT:
            raise DataError(
                f"The sum of all amounts exceeds {EXACT // 10**decimals:,}, too large to "
                "stay exact. Give the amounts in a larger unit, or fewer decimals under "
                "[money]."
            )

    @property
    def few(self) -> bool:
        """True if all customers may be brought to this machine."""
        most = self.engine.limits.rows_here
        return most is None or self.customers <= most

    def require_few(self) -> None:
        """Raise UsageError if there are more customers than may be brought to this machine."""
        most = self.engine.limits.rows_here
        if most is not None and not self.few:
            raise UsageError(
                f"This needs all customers on this machine. At most {most:,} can be "
                f"transferred from a Spark cluster, and there are {self.customers:,}. Read a part "
                "of the orders with --where; the guide on clusters lists what is computed "
                "there for all customers."
            )


#: Number of ids of each side that are compared to find out why they differ.
_MOST_ALONE = 20_000


def kept_groups(
    engine: CustomerEngine, relation: exp.Expr, columns: tuple[str, ...], summed: pa.Table
) -> KeptGroups:
    """Return the groups kept in ``relation``; ``summed`` is the result of
    ``reduction.by_state``.
    """
    used = [row for row in summed.to_pylist() if row["state"] == RowState.USED]
    customers, positive = (
        sum(int(row[name] or 0) for row in used) for name in ("customers", "positive")
    )
    largest = max((int(row["largest"] or 0) for row in used), default=0)
    return KeptGroups(engine, relation, columns, customers, largest, positive)

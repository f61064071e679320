"""Add columns of the orders at a customer's first and latest purchase to the customers."""

from collections.abc import Collection, Sequence

from sqlglot import exp

from fairladder.errors import SchemeError, nearest
from fairladder.sqltree import column, named, select, sql

#: Setting → prefix of its columns in the customers table.
FIRST, LATEST = "first_", "latest_"


def check_carried(names: Sequence[str], there: Collection[str]) -> None:
    """Raise SchemeError for a column that the orders do not have."""
    for name in names:
        if name not in there:
            raise SchemeError(
                f"The orders have no column `{name}` to add to the customers. "
                f"{nearest(name, there)}"
            )


def carried(orders: exp.Select, first: Sequence[str], latest: Sequence[str]) -> exp.Select:
    """Return ``customer``, ``first_NAME`` and ``latest_NAME`` as text, one row per customer with a
    purchase.

    ``orders`` are numbered orders with the columns as groups (``of NAME``); the value is ``mixed``
    if an order's rows disagree.
    """
    groups = {name: column(f"of {name}") for name in dict.fromkeys([*first, *latest])}
    last = exp.Window(this=sql("MAX(nth)"), partition_by=[column("customer")])
    numbered = select(
        ["customer", "nth", *groups.values(), named(last, "last_nth")], orders, "orders"
    )
    numbered = numbered.where(sql("nth IS NOT NULL"), copy=False)
    cells = [
        named(
            sql(
                f"MAX(CASE WHEN nth = {place} THEN REPLACE(CAST(:c AS VARCHAR), CHR(30), '') END)",
                c=groups[name],
            ),
            f"{prefix}{name}",
        )
        for names, prefix, place in ((first, FIRST, "1"), (latest, LATEST, "last_nth"))
        for name in dict.fromkeys(names)
    ]
    return select(["customer", *cells], numbered, "numbered").group_by("customer", copy=False)

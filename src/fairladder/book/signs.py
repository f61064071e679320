"""Signs that the numbers are wrong, counted in the pass that every command makes."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from typing import Any

from fairladder.book.balance import MOST_SET_ASIDE_PERCENT, Balance, major_read
from fairladder.conditions.written import none_of, where_option
from fairladder.findings import Finding, Level, finding

#: If a smaller percentage of orders has several rows, equal ones may be rows sent twice instead of
#: joined totals.
LEAST_PERCENT = 10
#: From this many orders with several rows, and this percentage of them, on it is no coincidence
#: that all rows repeat one amount.
SURE_ORDERS, SURE_PERCENT = 5, 80


@dataclass(frozen=True)
class Signs:
    """Counts that can be signs of a wrong export, over the used rows and orders (for discounts over
    all rows). Money in minor units.
    """

    all_orders: int = 0
    several_rows: int = 0
    """Number of orders, of those with several rows, and of those that repeat one amount on each
    row, with the spend that this adds.
    """
    repeated_orders: int = 0
    repeated_money: int = 0
    void_rows: int = 0
    """Rows whose status means a void order, and their money."""
    void_money: int = 0
    over_one: int = 0
    """Rows whose discount is over 1, between 0 and 1, and exactly 1, as long as its unit is not
    given.
    """
    below_one: int = 0
    at_one: int = 0

    @property
    def few(self) -> bool:
        """True if so few orders have several rows that equal ones may be rows sent twice, which
        ``check`` examines further.
        """
        return self.several_rows * 100 < LEAST_PERCENT * self.all_orders


def signs_of(sums: Sequence[Mapping[str, Any]], used: Sequence[Mapping[str, Any]]) -> Signs:
    """Add up the signs of a wrong export, from sums by state and from the used groups."""
    findings = {
        f.name: _total(sums if f.name.endswith("_one") else used, f.name) for f in fields(Signs)
    }
    return Signs(**findings)


def _total(sums: Sequence[Mapping[str, Any]], name: str) -> int:
    return sum(int(row.get(name) or 0) for row in sums)


def repeated_level(signs: Signs) -> Level | None:
    """Return the level of the finding that orders repeat one amount; None if most do not."""
    if signs.repeated_orders * 2 <= signs.several_rows or not signs.repeated_orders:
        return None
    many = signs.several_rows >= SURE_ORDERS and not signs.few
    return (
        "error"
        if many and signs.repeated_orders * 100 >= SURE_PERCENT * signs.several_rows
        else "warning"
    )


def repeated_total(signs: Signs, decimals: int, examples: tuple[str, ...] = ()) -> Finding | None:
    """Return the finding ``repeated-total``: the total of an order was probably joined onto every
    line of it.
    """
    level = repeated_level(signs)
    if level is None:
        return None
    return finding(
        "repeated-total", signs.repeated_orders, level=level, examples=examples,
        orders=f"{signs.several_rows:,}",
        **of_money(signs.repeated_money, decimals),
    )  # fmt: skip


def of_money(minor: Any, decimals: int) -> dict[str, Any]:
    """Return the ``money`` of a finding, formatted for its sentence and as the money at stake."""
    return {"money": major_read(int(minor or 0), decimals)}


def balance_findings(
    balance: Balance, currencies: Sequence[str], instead: str = ""
) -> list[Finding]:
    """Return the findings of the balance alone; ``currencies`` are those of usable rows,
    ``instead`` is advice for several currencies.
    """
    found = []
    if balance.used == 0:
        found.append(finding("no-usable-row", balance.rows_read))
    if balance.mostly_unusable:
        found.append(finding("mostly-set-aside", balance.set_aside, percent=MOST_SET_ASIDE_PERCENT))
    if balance.unknown:
        found.append(finding("unknown-condition", balance.unknown))
    if len(currencies) > 1:
        found.append(
            finding(
                "mixed-currencies",
                len(currencies),
                currencies=", ".join(currencies[:8]),
                instead=instead,
            )
        )
    return found


def pass_findings(
    signs: Signs, decimals: int, roles: Mapping[str, str], void: Sequence[str]
) -> list[Finding]:
    """Return the findings of the pass itself; ``void`` are statuses of used rows that mean a void
    order.
    """
    found = [f for f in [None if signs.few else repeated_total(signs, decimals)] if f is not None]
    if signs.void_rows:
        found.append(
            finding("cancelled-orders", signs.void_rows, column=roles["status"], examples=void,
                    condition=where_option(none_of(roles["status"], void)),
                    **of_money(signs.void_money, decimals))
        )  # fmt: skip
    if signs.over_one:
        level: Level = "error" if signs.over_one > signs.below_one else "warning"
        found.append(
            finding("discount-unit", signs.over_one, level=level, column=roles["discount"])
        )
    elif signs.at_one and not signs.below_one:
        found.append(finding("full-discounts", signs.at_one, column=roles["discount"]))
    return found

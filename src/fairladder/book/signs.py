"""Signs that the numbers are wrong, counted in the pass that every command makes, so that none is given without a word."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass, fields, replace

import pyarrow as pa
import pyarrow.compute as pc

from fairladder.book.balance import major_read
from fairladder.book.findings import Finding, Level

#: Errors that somebody who looked at them can allow by name.
ALLOWED = ("repeated-total", "discount-unit", "unmatched-customers", "set-aside")
#: Where fewer of a hundred orders have several rows, equal ones can be rows sent twice and no totals joined on.
LEAST_PERCENT = 10
#: So many orders with several rows, and so many in a hundred of them, are no chance when all rows repeat one amount.
SURE_ORDERS, SURE_PERCENT = 5, 80


@dataclass(frozen=True)
class Signs:
    """Counts over the used rows and orders; of discounts over all rows. Money in minor units."""

    all_orders: int = 0
    several_rows: int = 0
    """Orders, those with several rows, and those of them that repeat one amount on each row, with what this adds to spend."""
    repeated_orders: int = 0
    repeated_money: int = 0
    void_rows: int = 0
    """Rows whose state says that the order does not stand, and their money."""
    void_money: int = 0
    over_one: int = 0
    """Rows whose discount is over 1 while nobody said that it is in percent, and rows whose discount is a fraction."""
    below_one: int = 0

    @property
    def few(self) -> bool:
        """Whether so few orders have several rows that equal ones may be rows sent twice, of which ``check`` knows more."""
        return self.several_rows * 100 < LEAST_PERCENT * self.all_orders


def signs_of(groups: pa.Table, used: pa.Table) -> Signs:
    """The signs in the reduction's groups, one row for each customer and state, and in those of them that count."""
    findings = {f.name: _total(groups if f.name.endswith("_one") else used, f.name) for f in fields(Signs)}
    return Signs(**findings)


def _total(groups: pa.Table, name: str) -> int:
    return int(pc.sum(groups[name]).as_py() or 0) if name in groups.column_names else 0


def repeated_level(signs: Signs) -> Level | None:
    """How much it weighs that orders repeat one amount: None where most do not."""
    if signs.repeated_orders * 2 <= signs.several_rows or not signs.repeated_orders:
        return None
    many = signs.several_rows >= SURE_ORDERS and not signs.few
    return "error" if many and signs.repeated_orders * 100 >= SURE_PERCENT * signs.several_rows else "warning"


def repeated_total(signs: Signs, decimals: int, examples: tuple[str, ...] = ()) -> Finding | None:
    """``repeated-total``: the total of an order was probably joined onto every line of it."""
    level = repeated_level(signs)
    if level is None:
        return None
    return Finding(
        "repeated-total", level, signs.repeated_orders,
        f"of {signs.several_rows:,} orders with several rows repeat one amount on each: the total was probably joined onto every "
        f"line, and spend is {major_read(signs.repeated_money, decimals)} too high",
        examples,
        'If so, say `amount_is = "order"` under [orders] (--amount-is order); it is then taken once. If each row is right, '
        "say so with --allow repeated-total.",
    )  # fmt: skip


def pass_findings(signs: Signs, decimals: int, status: str | None, discount: str | None) -> list[Finding]:
    """What the pass itself tells; ``status`` and ``discount`` are the columns of those roles."""
    findings = [f for f in [None if signs.few else repeated_total(signs, decimals)] if f is not None]
    if signs.void_rows:
        findings.append(
            Finding("cancelled-orders", "warning", signs.void_rows,
                    f"rows count although `{status}` says cancelled, returned, unpaid or the like; they bring "
                    f"{major_read(signs.void_money, decimals)} of spend", (),
                    f'If they should not count, leave them out: --where "{status} NOT IN (…)", with states that `check` lists.')
        )  # fmt: skip
    if signs.over_one:
        findings.append(
            Finding("discount-unit", "error" if signs.over_one > signs.below_one else "warning", signs.over_one,
                    f"rows have a discount over 1 in `{discount}` and are set aside: discounts seem to be in percent or money off, and a 1 "
                    "among them would be taken as everything off", (),
                    'Say `discount_as = "percent"` under [orders] (--discount-as percent), "amount" for money off, or '
                    '"fraction" if those rows are wrong.')
        )  # fmt: skip
    return findings


def unmatched(ids: set[str], members: set[str], label: str) -> Finding | None:
    """``unmatched-customers``: under half of the smaller side's ids are on the other, so that the two write ids differently."""
    alone = [sorted(side)[:3] for side in (ids - members, members - ids)]
    return unmatched_of(len(ids), len(members), len(ids & members), alone, label)


def unmatched_of(ids: int, members: int, same: int, alone: Sequence[Sequence[str]], label: str) -> Finding | None:
    """The same from how many there are on each side and on both, and some that are on one side ``alone``."""
    smaller = min(ids, members)
    if not smaller or same * 2 >= smaller:
        return None
    ours, theirs = (", ".join(f"`{i}`" for i in side) for side in alone)
    return Finding(
        "unmatched-customers", "error", smaller - same,
        f"of {smaller:,} ids are not on both sides: the orders write {ours}, and {label} writes {theirs}", (),
        "Name the right columns with `customer` under [orders] and [customers], or write ids alike in both files. If they are "
        "right, say so with --allow unmatched-customers.",
    )  # fmt: skip


def sentences(findings: Sequence[Finding]) -> list[str]:
    """Findings as notes beside a result: errors and warnings in a sentence each."""
    return [f"{f.level.capitalize()}: {f.count:,} {f.effect}. {f.advice}" for f in findings if f.level != "note"]


def allowed(findings: Sequence[Finding], codes: Collection[str]) -> list[Finding]:
    """The findings with errors that are allowed by name as warnings."""
    return [replace(f, level="warning") if f.level == "error" and f.code in codes else f for f in findings]

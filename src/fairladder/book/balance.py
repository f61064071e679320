"""The balance: rows read = used + set aside + filtered out + outside the date range; the same holds
for amounts.
"""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from fairladder.orders.states import SET_ASIDE, RowState

#: Distinguishes rows without a currency from rows in a currency.
BLANK = "(blank)"
#: If a larger percentage of rows is set aside, the mapping is wrong rather than the data.
MOST_SET_ASIDE_PERCENT = 20


@dataclass(frozen=True)
class Balance:
    """Counts of rows and sums of readable amounts (minor units), by the rows' state."""

    rows: Mapping[int, int]
    amounts: Mapping[int, int]
    decimals: int
    converted: bool = False
    """True if other currencies are converted, so that rows in them are set aside for lack of a
    rate; otherwise because one currency was chosen.
    """
    by_currency: Mapping[str, Mapping[int, int]] = field(default_factory=dict)
    """Currency → state → sum, if the orders have a currency column."""

    @property
    def rows_read(self) -> int:
        """All rows except blank ones."""
        return sum(self.rows.values())

    @property
    def used(self) -> int:
        """Rows that count."""
        return self.rows.get(RowState.USED, 0)

    @property
    def set_aside(self) -> int:
        """Rows that could not be used."""
        return sum(self.reasons.values())

    @property
    def filtered_out(self) -> int:
        """Rows that do not match ``where``."""
        return self.rows.get(RowState.FILTERED_OUT, 0) + self.unknown

    @property
    def unknown(self) -> int:
        """Filtered-out rows for which the condition is unknown because of a blank cell."""
        return self.rows.get(RowState.UNKNOWN, 0)

    @property
    def outside_range(self) -> int:
        """Rows after ``as_of`` or outside ``from`` and ``through``."""
        return self.rows.get(RowState.OUTSIDE, 0)

    @property
    def repeats(self) -> int:
        """Rows dropped because they repeat another row."""
        return self.rows.get(RowState.REPEAT, 0)

    @property
    def older(self) -> int:
        """Rows dropped because they belong to older versions of their orders."""
        return self.rows.get(RowState.OLDER, 0)

    @property
    def reasons(self) -> dict[str, int]:
        """Rows set aside by reason, in the order in which reasons are checked."""
        return {s.reason: self.rows[s] for s in SET_ASIDE if self.rows.get(s)}

    @property
    def mostly_unusable(self) -> bool:
        """True if more rows are set aside than bad data explains, not counting total rows and rows
        in a currency that was not chosen.
        """
        meant = [RowState.TOTAL_ROW, *([] if self.converted else [RowState.OTHER_CURRENCY])]
        bad = self.set_aside - sum(self.rows.get(state, 0) for state in meant)
        return bad * 100 > MOST_SET_ASIDE_PERCENT * self.rows_read

    def amount(self, *states: int) -> int:
        """Return the sum of the readable amounts of rows in the given states, in minor units."""
        return sum(self.amounts.get(s, 0) for s in states)

    def lines(self) -> list[tuple[str, int, int]]:
        """Return the balance as a table of state, rows and minor units, with the total first."""
        dropped = (
            ("repeats dropped", self.repeats, RowState.REPEAT),
            ("older versions dropped", self.older, RowState.OLDER),
        )
        repeats = [(label, n, self.amount(state)) for label, n, state in dropped if n]
        return [
            ("rows read", self.rows_read, sum(self.amounts.values())),
            ("used", self.used, self.amount(RowState.USED)),
            ("set aside", self.set_aside, self.amount(*SET_ASIDE)),
            (
                "filtered out",
                self.filtered_out,
                self.amount(RowState.FILTERED_OUT, RowState.UNKNOWN),
            ),
            ("outside the date range", self.outside_range, self.amount(RowState.OUTSIDE)),
            *repeats,
        ]

    def as_json(self) -> dict[str, Any]:
        """Return rows and amounts (major units, as exact decimal text) under the names in the
        definitions.
        """
        names = {
            label: label.replace(" the date ", " ").replace(" ", "_")
            for label, _, _ in self.lines()
        }
        counts = {names[label]: rows for label, rows, _ in self.lines()}
        amounts = {names[label]: major(minor, self.decimals) for label, _, minor in self.lines()}
        by_currency = {
            currency: {
                "used": major(sums.get(RowState.USED, 0), self.decimals),
                "set_aside": major(sum(sums.get(s, 0) for s in SET_ASIDE), self.decimals),
                "filtered_out": major(
                    sums.get(RowState.FILTERED_OUT, 0) + sums.get(RowState.UNKNOWN, 0),
                    self.decimals,
                ),
                "outside_range": major(sums.get(RowState.OUTSIDE, 0), self.decimals),
            }
            for currency, sums in self.by_currency.items()
        }
        extra = {"by_currency": by_currency} if by_currency else {}
        return {**counts, "reasons": self.reasons, "amounts": amounts, **extra}


def balance_of(
    groups: Sequence[Mapping[str, Any]], decimals: int, converted: bool = False
) -> Balance:
    """Build the balance from the reduction's groups: mappings with state, rows_read, rows_amount
    and optionally currency.
    """
    rows: Counter[int] = Counter()
    amounts: Counter[int] = Counter()
    by_currency: dict[str, Counter[int]] = {}
    for group in groups:
        state, amount = int(group["state"]), int(group["rows_amount"] or 0)
        rows[state] += int(group["rows_read"])
        amounts[state] += amount
        if "currency" in group:
            by_currency.setdefault(group["currency"] or BLANK, Counter())[state] += amount
    return Balance(
        rows, amounts, decimals, converted, {k: by_currency[k] for k in sorted(by_currency)}
    )


def major_read(minor: int, decimals: int) -> str:
    """Format minor units for people, with thousands separators: 123456 → ``1,234.56``."""
    return f"{Decimal(major(minor, decimals)):,}"


def major(minor: int, decimals: int) -> str:
    """Format minor units as exact text in major units: 123456 → ``1234.56``."""
    sign, digits = "-" if minor < 0 else "", str(abs(minor)).rjust(decimals + 1, "0")
    return sign + (f"{digits[:-decimals]}.{digits[-decimals:]}" if decimals else digits)

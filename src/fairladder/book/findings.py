"""Findings: what an analyst should know before trusting the numbers. Reported; nothing is removed for them."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any, Literal

from fairladder.book.balance import MOST_SET_ASIDE_PERCENT, Balance

Level = Literal["error", "warning", "note"]


@dataclass(frozen=True)
class Finding:
    """One finding: how often, what it does to the totals, up to five examples, and what to do."""

    code: str
    level: Level
    count: int
    effect: str
    examples: tuple[str, ...]
    advice: str

    def as_json(self) -> dict[str, Any]:
        """Plain JSON values under the field names."""
        return {**asdict(self), "examples": list(self.examples)}


def row_findings(balance: Balance, notes: Sequence[str]) -> list[Finding]:
    """Findings that the balance alone tells."""
    findings = []
    if balance.used == 0:
        findings.append(
            Finding("no-usable-row", "error", balance.rows_read, "no row can be used, so every table is empty", (),
                    "Look at the reasons in the balance: the columns, the window or `where` do not fit the file.")
        )  # fmt: skip
    if balance.mostly_unusable:
        findings.append(
            Finding("mostly-set-aside", "error", balance.set_aside, f"more than {MOST_SET_ASIDE_PERCENT} % of the rows are not used", (),
                    "The columns are probably mapped wrongly; correct [orders] in the scheme, or pass --allow-set-aside.")
        )  # fmt: skip
    if balance.unknown:
        findings.append(
            Finding("unknown-condition", "warning", balance.unknown, "rows are left out because a cell that `where` needs is blank", (),
                    "If they should count, write the condition so that blanks pass, e.g. `state IS NULL OR state <> 'x'`.")
        )  # fmt: skip
    usable = {c: s for c, s in balance.by_currency.items() if any(state not in _ASIDE for state in s)}
    if len(usable) > 1:
        findings.append(
            Finding("mixed-currencies", "error", len(usable), "amounts in different currencies would be added up", tuple(usable)[:5],
                    "Choose one with `currency` under [money]; the others are then set aside. Or convert them: `rates` under [money] "
                    "names a file of currency, day and rate.")
        )  # fmt: skip
    findings += [Finding("reading", "note", 1, note, (), "") for note in notes]
    return findings


_ASIDE = frozenset(range(1, 11))


def tie_finding(parted: int, effect: str) -> Finding | None:
    """``ties-at-cuts`` of the customers whom a split by row order into equal counts would part from their equals."""
    advice = "Ladders keep equals together, so rungs are not all of one size."
    return Finding("ties-at-cuts", "note", parted, effect, (), advice) if parted else None

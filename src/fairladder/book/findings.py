"""Findings: what an analyst should know before trusting the numbers. Reported; nothing is removed for them."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, Literal

import pyarrow as pa
import pyarrow.compute as pc

from fairladder.book.accounts import odd_accounts
from fairladder.book.balance import MOST_SET_ASIDE_PERCENT, Balance, major_read
from fairladder.book.spend import buyers as buyers_of
from fairladder.frames import row_of_largest
from fairladder.numbers import to_minor
from fairladder.orders.cells import SPACE
from fairladder.wording import counted

if TYPE_CHECKING:
    import pandas as pd

Level = Literal["error", "warning", "note"]
#: Fewer days than this from first to last order are no history to speak of.
SHORT_HISTORY_DAYS = 180
#: One customer above this share of spend moves every average.
DOMINANT_SHARE = 0.2


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


def customer_findings(customers: "pd.DataFrame", members: "pd.DataFrame | None", decimals: int) -> list[Finding]:
    """Findings that the customers table tells; ``members`` is the customers file, where there is one."""
    findings = []
    buyers = buyers_of(customers)
    if n := int(customers["refunds"].sum()):
        who = customers[customers["refunds"] > 0]
        findings.append(
            Finding("refunds", "note", n, f"orders below zero, of {counted(len(who), 'customers')}, lower the spend", _ids(who),
                    'Set `refunds = "ignore"` under [money] if spend should count purchases only.')
        )  # fmt: skip
    if n := int(customers["zero_orders"].sum()):
        who = customers[customers["zero_orders"] > 0]
        findings.append(Finding("zero-orders", "note", n, "orders of 0 do not count as purchases", _ids(who), ""))
    findings += _twins(customers, decimals)
    odd = odd_accounts(customers)
    if len(odd):
        effect = f"customers by whose ids or names they are accounts for tests, staff or strangers; they hold {_held(odd, decimals)}"
        advice = "Look at them. What is no customer's can be left out with `where`, such as customer <> '0'."
        findings.append(Finding("odd-accounts", "warning", len(odd), effect, _ids(odd), advice))
    if members is not None:
        without = customers[customers["orders"] + customers["refunds"] + customers["zero_orders"] == 0]
        if len(without):
            findings.append(
                Finding("no-orders", "note", len(without), "customers of the customers file without any order", _ids(without),
                        "They stay in every table, without scores.")
            )  # fmt: skip
        strangers = customers[~customers["customer"].isin(members["customer"])]
        if len(strangers):
            spend = _spend(strangers, decimals)
            findings.append(
                Finding("unknown-customers", "warning", len(strangers), f"have orders (spend {spend}) but no row in the customers file",
                        _ids(strangers), "Ask for a newer customers file, or check that both files write ids alike.")
            )  # fmt: skip
    if len(buyers):
        days = (buyers["last_order"].max() - buyers["first_order"].min()).days
        if days < SHORT_HISTORY_DAYS:
            findings.append(
                Finding("short-history", "warning", days, f"days of history; under {SHORT_HISTORY_DAYS} say little of a lifetime", (),
                        "Export a longer period before judging who has left.")
            )  # fmt: skip
        top = row_of_largest(buyers, buyers["spend_share"])
        if top["spend_share"] > DOMINANT_SHARE:
            findings.append(
                Finding("one-customer-dominates", "warning", 1, f"{100 * top['spend_share']:.0f} % of all spend is one customer's",
                        (str(top["customer"]),), "Look whether this is a reseller or a collective id, and read averages with care.")
            )  # fmt: skip
    return findings


def _twins(customers: "pd.DataFrame", decimals: int) -> list[Finding]:
    """One name with several ids, and ids alike but for case and spaces."""
    findings = []
    if "name" in customers:
        named = customers[customers["name"].notna()]
        twins = named[named["name"].duplicated(keep=False)]
        if len(twins):
            some = tuple(f"{name}: {', '.join(ids)}" for name, ids in _first_groups(twins, "name"))
            effect = f"names belong to several ids: {counted(len(twins), 'customers')} with {_held(twins, decimals)}"
            advice = "Customers are told apart by id. If two are one person, join them in the export."
            findings.append(Finding("name-twins", "note", twins["name"].nunique(), effect, some, advice))
    folded = pc.replace_substring_regex(pc.utf8_lower(pa.array(customers["customer"])), f"{SPACE}+", "")
    if len(pc.unique(folded)) < len(folded):
        folded = folded.to_pandas()
        alike = customers.assign(folded=folded)[folded.duplicated(keep=False).to_numpy()]
        some = tuple(" and ".join(f"`{c}`" for c in ids) for _, ids in _first_groups(alike, "folded"))
        rarer = alike[alike["orders"] < alike.groupby("folded")["orders"].transform("max")]
        effect = f"ids are alike but for case or spaces; the rarer ones hold {_held(rarer, decimals)}"
        advice = "If they are one customer, write the id in one way in the export."
        findings.append(Finding("id-near-twins", "warning", alike["folded"].nunique(), effect, some, advice))
    return findings


def _first_groups(customers: "pd.DataFrame", by: str) -> list[tuple[str, list[str]]]:
    """The first five values of a column and up to three ids of each; other groups are not even made."""
    first = sorted(customers[by].unique())[:5]
    return [(name, sorted(customers.loc[customers[by] == name, "customer"].head(3))) for name in first]


def _held(customers: "pd.DataFrame", decimals: int) -> str:
    return f"{counted(int(customers['orders'].sum()), 'orders')} and {_spend(customers, decimals)} of spend"


def tie_finding(parted: int, effect: str) -> Finding | None:
    """``ties-at-cuts`` of the customers whom a split by row order into equal counts would part from their equals."""
    advice = "Ladders keep equals together, so rungs are not all of one size."
    return Finding("ties-at-cuts", "note", parted, effect, (), advice) if parted else None


def _spend(customers: "pd.DataFrame", decimals: int) -> str:
    return major_read(int(to_minor(customers["spend"], decimals).sum()), decimals)


def _ids(customers: "pd.DataFrame") -> tuple[str, ...]:
    return tuple(customers["customer"].head(5).astype(str))

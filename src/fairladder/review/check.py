"""Are these orders fit to use? The balance, the findings of rows and of customers, and the rows set aside."""

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import pyarrow.compute as pc

from fairladder.book.balance import BLANK, Balance, major
from fairladder.book.customer_findings import customer_findings
from fairladder.book.findings import Finding, row_findings, tie_finding
from fairladder.book.inspection import Inspected, row_inspection
from fairladder.book.measures import customers_frame, with_measures
from fairladder.book.passes import keep_rows
from fairladder.book.people import people_here
from fairladder.book.read import MOST_SET_ASIDE, Read, discounts_ignored, read
from fairladder.book.signs import allowed
from fairladder.days import today
from fairladder.orders.states import RowState
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class Check(Answer):
    """Whether the orders are fit to use: the balance, what was found, and the rows set aside."""

    balance: Balance
    findings: tuple[Finding, ...]
    set_aside: "pd.DataFrame"
    as_of: dt.date | None
    as_of_from: str
    settings: Mapping[str, Any]

    @property
    def frame(self) -> "pd.DataFrame":
        """The findings, one row each."""
        import pandas as pd

        rows = [{**f.as_json(), "examples": "; ".join(f.examples)} for f in self.findings]
        return pd.DataFrame(rows, columns=list(Finding.__dataclass_fields__))

    @property
    def balance_frame(self) -> "pd.DataFrame":
        """The balance: ``what`` became of the rows, ``rows``, ``amount`` (major units, exact decimals)."""
        import pandas as pd

        lines = [
            (label, rows, Decimal(major(minor, self.balance.decimals))) for label, rows, minor in self.balance.lines()
        ]
        return pd.DataFrame(lines, columns=["what", "rows", "amount"])

    @property
    def errors(self) -> tuple[Finding, ...]:
        """Findings that make the numbers wrong until they are settled."""
        return tuple(f for f in self.findings if f.level == "error")

    def as_json(self) -> dict[str, Any]:
        """All of it as plain JSON values."""
        rows = self.set_aside.astype(object).where(self.set_aside.notna(), None)
        return {
            "as_of": self.as_of.isoformat() if self.as_of else None,
            "as_of_from": self.as_of_from,
            "settings": dict(self.settings),
            "balance": self.balance.as_json(),
            "findings": [f.as_json() for f in self.findings],
            "set_aside": rows.to_dict("records"),
        }

    def tables(self) -> "dict[str, pd.DataFrame]":
        """``findings``, ``balance`` and ``set_aside``."""
        return {"findings": self.frame, "balance": self.balance_frame, "set-aside": self.set_aside}

    def facts(self) -> dict[str, Any]:
        """Day of reckoning, settings and balance as plain values."""
        return {k: v for k, v in self.as_json().items() if k not in ("findings", "set_aside")}

    def finding(self) -> str:
        """What became of the rows."""
        balance = "; ".join(f"{label} {rows:,}" for label, rows, _ in self.balance.lines())
        return f"Check as of {self.as_of} ({self.as_of_from}): {balance}"

    def pieces(self) -> list[Piece]:
        """The balance and the findings."""
        return [Piece("balance", self.balance_frame), Piece("findings", self.frame)]

    def __repr__(self) -> str:
        findings = "".join(f"\n  {f.level}: {f.code} ({f.count:,}): {f.effect}" for f in self.findings)
        return f"{self.finding()}{findings}"


def check(orders: Read) -> Check:
    """Balance, findings and set-aside rows; also where the orders are not fit to use.

    Orders read with ``keep="rows"`` are not read again. Those of a database that others may have changed meanwhile are, so that
    all that is said is of one moment.

    >>> import fairladder as fl
    >>> fl.check(fl.sample_orders()).balance.used
    17023
    """
    steady = orders.engine.steady
    with orders.engine.moment():
        return _checked(orders if steady else read(orders.opened, kind=type(orders)))


def _checked(orders: Read) -> Check:
    kept = orders.kept_rows or keep_rows(orders.rows, as_written=False)
    by_id = {RowState.TOTAL_ROW, RowState.NO_CUSTOMER, RowState.NO_ORDER}
    inspected = Inspected(kept, not by_id.isdisjoint(orders.balance.rows), today(orders.scheme.time.time_zone))
    try:
        notes = row_inspection(inspected)
        set_aside = orders.set_aside_of(kept.as_rows)
    finally:
        if kept is not orders.kept_rows:
            kept.forget()
    there = {f.code for f in notes}
    findings = [
        *row_findings(orders.balance, list(dict.fromkeys([*orders.notes, *discounts_ignored(orders.opened)]))),
        *notes,
        *(f for f in orders.findings if f.code not in there | {"repeated-total"}),
        *(_on_cluster(orders) if orders.engine.keeps_customers else _here(orders)),
    ]
    findings = allowed(findings, orders.scheme.orders.allow)
    return Check(orders.balance, tuple(findings), set_aside, orders.as_of, orders.as_of_from, orders.scheme.as_json())


def _on_cluster(orders: Read) -> list[Finding]:
    from fairladder.cluster.passing import passing
    from fairladder.cluster.people import people_there, ties_there

    effect = f"rows have no numbers on a cluster, so examples give none; of those set aside at most {MOST_SET_ASIDE:,} are shown"
    note = Finding("reading", "note", 1, effect, (), "")
    with passing(orders.engine):
        currencies = orders.account.currencies
        if len(currencies) > 1:
            return [f for c in currencies for f in _in_currency(customer_findings(people_there(orders, c)), c)] + [note]
        ties = ties_there(orders)
        tied = None if ties is None else _tied(ties)
        return [*customer_findings(people_there(orders)), *([tied] if tied is not None else []), note]


def _here(orders: Read) -> list[Finding]:
    if len(orders.account.currencies) > 1:
        return _by_currency(orders)
    from fairladder.scores.fairness import fairness_of  # needs pandas, loaded while the engine works

    frame, members = orders.measured, orders.members.frame if orders.members else None
    tied = _tied(fairness_of(frame, orders.scheme))
    people = people_here(frame, members, orders.scheme.money.decimals, orders.engine.reader)
    return [*customer_findings(people), *([tied] if tied is not None else [])]


def _tied(ties: "pd.DataFrame") -> Finding | None:
    from fairladder.scores.fairness import in_words

    return tie_finding(int(ties["parted"].sum()), in_words(ties))


def _by_currency(orders: Read) -> list[Finding]:
    """What can be said of customers before one currency is chosen: each by itself, since sums of several mean nothing."""
    groups, decimals, findings = orders.groups, orders.scheme.money.decimals, []
    for currency in orders.account.currencies:
        wanted = None if currency == BLANK else currency
        codes = groups["currency"]
        own = pc.is_null(codes) if wanted is None else pc.fill_null(pc.equal(codes, wanted), False)
        table = groups.filter(own)
        names = [c for c in ("name",) if c in table.column_names]
        frame = with_measures(customers_frame(table, decimals, names), orders.as_of, decimals)
        people = people_here(frame, None, decimals, orders.engine.reader)
        findings += _in_currency(customer_findings(people), currency)
    return findings


def _in_currency(findings: list[Finding], currency: str) -> list[Finding]:
    return [replace(f, effect=f"{f.effect} (in {currency})") for f in findings]

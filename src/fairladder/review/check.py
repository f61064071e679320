"""Check whether orders are fit for use: the balance, the findings, and the rows set aside."""

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from fairladder.book.balance import Balance, major
from fairladder.book.look import look_closely
from fairladder.book.passes import keep_rows
from fairladder.book.read import Read, discounts_ignored, read
from fairladder.findings import LEVELS, Finding, allowed, finding
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class Check(Answer):
    """The balance, the findings and the rows set aside, which show whether the orders are fit for
    use.
    """

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
        """Return the balance: ``what`` (the rows' state), ``rows``, ``amount`` (major units, exact
        decimals).
        """
        import pandas as pd

        lines = [
            (label, rows, Decimal(major(minor, self.balance.decimals)))
            for label, rows, minor in self.balance.lines()
        ]
        return pd.DataFrame(lines, columns=["what", "rows", "amount"])

    @property
    def errors(self) -> tuple[Finding, ...]:
        """Findings that make the numbers wrong until they are resolved."""
        return tuple(f for f in self.findings if f.level == "error")

    def as_json(self) -> dict[str, Any]:
        """Return everything as plain JSON values."""
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
        """Return ``findings``, ``balance`` and ``set_aside``."""
        return {"findings": self.frame, "balance": self.balance_frame, "set-aside": self.set_aside}

    def facts(self) -> dict[str, Any]:
        """Return as-of date, settings and balance as plain values."""
        return {k: v for k, v in self.as_json().items() if k not in ("findings", "set_aside")}

    def finding(self) -> str:
        """Return the row counts by state, in words."""
        balance = "; ".join(f"{label} {rows:,}" for label, rows, _ in self.balance.lines())
        return f"Check as of {self.as_of} ({self.as_of_from}): {balance}"

    def pieces(self) -> list[Piece]:
        """Return the balance and the findings."""
        return [Piece("balance", self.balance_frame), Piece("findings", self.frame)]

    def __repr__(self) -> str:
        findings = "".join(
            f"\n  {f.level}: {f.code} ({f.count:,}): {f.effect}" for f in self.findings
        )
        return f"{self.finding()}{findings}"


def check(orders: Read) -> Check:
    """Return the balance, the findings and the rows set aside, even if the orders are not fit for
    use.

    Orders read with ``keep="rows"`` are not read again. Those of a database that others may have
    changed are, so that all figures are of one moment.

    >>> import fairladder as fl
    >>> fl.check(fl.sample_orders()).balance.used
    17023
    """
    steady = orders.engine.steady
    with orders.engine.moment():
        return _checked(orders if steady else read(orders.opened, kind=type(orders)))


def _checked(orders: Read) -> Check:
    kept = orders.kept_rows or keep_rows(orders.rows, as_written=False)
    try:
        found = list(look_closely(orders, kept).found)
        set_aside = orders.set_aside_of(kept.as_rows)
    finally:
        if kept is not orders.kept_rows:
            kept.forget()
    found += _ties(orders)
    if note := orders.customer_engine.limits.note:
        found.append(finding("reading", 1, text=note))
    ignored = discounts_ignored(orders.opened)
    reading = [*orders.reading_findings, *(f for f in ignored if f not in orders.reading_findings)]
    findings = sorted(
        [*allowed(found, orders.allowed_codes), *reading], key=lambda f: LEVELS.index(f.level)
    )
    return Check(
        orders.balance,
        tuple(findings),
        set_aside,
        orders.as_of,
        orders.as_of_from,
        orders.scheme.as_json(),
    )


def _ties(orders: Read) -> list[Finding]:
    if len(orders.account.currencies) > 1:
        return []
    from fairladder.scores.fairness import in_words, ties_of

    with orders.customer_engine.passing():
        ties = ties_of(orders)
    split, text = sum(ties.values()), in_words(ties, orders.scheme.scores.rungs)
    return [finding("ties-at-cuts", split, text=text)] if split else []

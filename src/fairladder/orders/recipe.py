"""Everything needed to read the rows of a source: roles, settings, the condition, and formats of
dates and numbers.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from decimal import Decimal

from sqlglot import exp

from fairladder.conditions import ROLE, Condition, Kind
from fairladder.numbers import DiscountUnit
from fairladder.orders import cells
from fairladder.orders.roles import Roles
from fairladder.orders.source import CellKind, Source
from fairladder.orders.status_words import says_void
from fairladder.orders.writing import Writing
from fairladder.scheme import Scheme
from fairladder.sqltree import cell_column, column, sql


@dataclass(frozen=True)
class Recipe:
    """The settings for reading a source's rows, and the values of their cells."""

    source: Source
    roles: Roles
    scheme: Scheme
    condition: Condition | None
    kinds: Mapping[str, Kind]
    """Detected kinds of the text columns that the condition names."""
    writing: Writing
    """The formats of dates and numbers in text."""
    rates: exp.Expr | None = None
    """The exchange rates into the chosen currency, or None."""
    channels: tuple[str, ...] | None = None
    """All channels, if they are known and few: each then has a bit, which makes grouping faster."""
    plainly: bool = False
    """True if a query is meant for readers: without shortcuts and without columns that only
    findings need.
    """

    @property
    def has_orders(self) -> bool:
        """True if rows have an order id; otherwise each row is one order."""
        return self.roles.get("order") is not None

    def kind(self, role: str) -> CellKind | None:
        """Return the kind of a role's column, None if the role is not given."""
        name = self.roles.get(role)
        return self.source.columns[name] if name else None

    def text_of(self, role: str) -> exp.Expr | None:
        """Return the role's cell as trimmed text, or None if the role is not given."""
        name = self.roles.get(role)
        return self.trimmed(name) if name else None

    @property
    def by_currency(self) -> bool:
        """True if amounts are in the currencies that the rows name."""
        return self.has_currencies and self.rates is None

    @property
    def has_currencies(self) -> bool:
        """True if rows name their currency, in a column or next to the digits of their amounts."""
        return self.roles.get("currency") is not None or bool(self.writing.currencies)

    @property
    def embedded(self) -> bool:
        """True if the embedded engine reads the rows: most text cells are then read by shortcuts,
        the rest with care.
        """
        return self.source.engine is self.source.engine.reader and not self.plainly

    @property
    def elsewhere(self) -> bool:
        """True if another engine reads the rows, which would trim a cell again wherever it is
        used.
        """
        return self.source.engine is not self.source.engine.reader

    @property
    def text_roles(self) -> list[str]:
        """Return the text columns that have a role."""
        return [
            name
            for name in dict.fromkeys(self.roles.columns.values())
            if self.source.columns[name] == "text"
        ]

    def trimmed(self, name: str) -> exp.Expr:
        """Return a column's cell as trimmed text; for a number in text, in plain notation."""
        if self.writing.mark is not None and name in self.text_numbers:
            return column(f"#plain {name}")
        return self.trimmed_as_written(name)

    def trimmed_as_written(self, name: str) -> exp.Expr:
        """Return a column's cell as trimmed text, otherwise unchanged."""
        trimmed_once = self.elsewhere and name in self.text_roles
        return (
            column(f"#text {name}")
            if trimmed_once
            else cells.text(cell_column(name), self.source.columns[name])
        )

    def trim_text(self, cell: exp.Expr) -> exp.Expr:
        """Trim a text cell for another engine, or in a short form for readers."""
        return cells.trimmed_with_care(cell) if self.plainly else _text(cell)

    def number_of(self, name: str) -> exp.Expr:
        """Return a column's cell as a float."""
        kind = self.source.columns[name]
        return (
            cells.number_of_text(self.trimmed(name))
            if kind == "text"
            else cells.number(cell_column(name), kind)
        )

    @property
    def text_numbers(self) -> list[str]:
        """Return the text columns that are numbers by their role."""
        roles = ("amount", "unit_price", "quantity", "discount", "cost")
        columns = list(
            dict.fromkeys(
                [*(n for r in roles if (n := self.roles.get(r))), *self.scheme.money.columns]
            )
        )
        return [n for n in columns if self.source.columns[n] == "text"]

    def cell(self, name: str) -> exp.Expr:
        """Return the text from which a number column's value is read."""
        return (
            column(f"#plain {name}")
            if self.writing.mark is not None and name in self.text_numbers
            else cell_column(name)
        )

    @property
    def in_minor_units(self) -> bool:
        """True if amounts are in cents or the like: from the scheme, otherwise from the column's
        name.
        """
        given_unit = self.scheme.orders.amount_unit
        return given_unit == "minor" if given_unit else self.roles.minor_units

    @property
    def rated(self) -> bool:
        """True if money is multiplied by ``#rate``: an exchange rate, the value of a minor unit, or
        both.
        """
        return self.rates is not None or self.in_minor_units

    @property
    def part(self) -> Decimal:
        """The value of one unit of the amounts in major units: 1, or a hundredth if they are in
        cents.
        """
        return Decimal(1).scaleb(-self.scheme.money.decimals) if self.in_minor_units else Decimal(1)

    @property
    def money_columns(self) -> list[str]:
        """Columns besides the amount that contain money, in the currency and unit of their row."""
        roles = ["unit_price", "cost", *(["discount"] if self.discount_unit == "amount" else [])]
        return [
            *(name for role in roles if (name := self.roles.get(role))),
            *self.scheme.money.columns,
        ]

    def minor_of(self, name: str, decimals: int | None = None) -> exp.Expr:
        """Return a money column's cell in minor units of ``decimals``, exact and rounded once, over
        the rows' tree; NULL if it is not a number.
        """
        text = self.trimmed(name) if name in self.text_numbers else self.trimmed_as_written(name)
        places = self.scheme.money.decimals if decimals is None else decimals
        rate = column("#rate") if self.rated and name in self.money_columns else None
        return cells.minor([self.number_of(name)], None, [text], places, "fraction", rate)

    @property
    def exact(self) -> bool:
        """True if the amount is one column of exact numbers, converted to minor units in one
        step.
        """
        factors = self.roles.factors
        alone = not self.rated and len(factors) == 1 and not self.roles.get("discount")
        return alone and self.source.columns[factors[0]] in ("whole", "decimal")

    @property
    def customer_in_conditions(self) -> str:
        """The name of the customer's id in conditions: the role, or ``role.customer`` if another
        column has that name.
        """
        return role_key("customer", self.source, self.roles)

    @property
    def discount_by_name(self) -> bool:
        """True if discounts are read as percentages because of the name and cells."""
        return self.discount_unit == "percent" and self.scheme.orders.discount_as is None

    @property
    def discount_unit(self) -> DiscountUnit:
        """The unit of discounts: from the scheme, otherwise as detected, otherwise a fraction."""
        return self.scheme.orders.discount_as or self.writing.discounts or "fraction"

    def condition_cells(self) -> dict[str, exp.Expr]:
        """Return name → value of every column that a condition on rows can use, by source name and
        by role name.

        A role whose name is another column's is ``role.NAME``.
        """
        text = self.trim_text if self.elsewhere else _text
        values = {
            n: _typed(n, kind, self.kinds.get(n), text) for n, kind in self.source.columns.items()
        }
        scale = 10**self.scheme.money.decimals
        by_role: Mapping[str, exp.Expr | None] = {
            "customer": sql("CAST(:c AS VARCHAR)", c=column("#customer")),
            "order": sql("CAST(:c AS VARCHAR)", c=column("#order")) if self.has_orders else None,
            "placed": column("#day"),
            "amount": sql("(CAST(:m AS DOUBLE) / :scale)", m=column("#minor"), scale=scale),
            **{
                r: self._condition_number(r, scale)
                for r in ("unit_price", "quantity", "discount", "cost")
            },
            "status": self.text_of("status"),
            **{r: column(f"#{r}") for r in ("name", "channel", "currency")},
        }
        for role, tree in by_role.items():
            name = self.roles.get(role)
            if tree is None or (
                name is None
                and role != "amount"
                and not (role == "currency" and self.writing.currencies)
            ):
                continue
            values[role_key(role, self.source, self.roles)] = tree
            if name is not None:
                values[name] = tree
        if self.rated:
            values |= {
                name: sql("(CAST(:m AS DOUBLE) / :scale)", m=self.minor_of(name), scale=scale)
                for name in self.scheme.money.columns
            }
        return values

    def _condition_number(self, role: str, scale: int) -> exp.Expr | None:
        """Return the role's cell as conditions see it: money in major units of the chosen
        currency.
        """
        name = self.roles.get(role)
        if name is None or not self.rated or name not in self.money_columns:
            return self.number_cell(role)
        return sql("(CAST(:m AS DOUBLE) / :scale)", m=self.minor_of(name), scale=scale)

    def number_cell(self, role: str) -> exp.Expr | None:
        """Return the role's cell as a float, or None if the role is not given."""
        name = self.roles.get(role)
        return self.number_of(name) if name else None

    def void(self) -> exp.Expr | None:
        """Return a condition, over the rows' tree, for statuses of void orders; None without that
        role.
        """
        status = self.text_of("status")
        return says_void(status) if status is not None else None

    def placed_text(self) -> exp.Expr:
        """Return the trimmed cell of a text ``placed``."""
        return self.trimmed(self.roles.get("placed") or "")


def _text(cell: exp.Expr) -> exp.Expr:
    return cells.text(cell, "text")


def _typed(
    name: str, kind: CellKind, kind_found: Kind | None, text: Callable[[exp.Expr], exp.Expr]
) -> exp.Expr:
    if kind_found == "number":
        return cells.number(cell_column(name), kind)
    if kind_found == "day":
        return cells.day(cells.text(cell_column(name), kind), "text", None)
    if kind == "text":
        return text(cell_column(name))
    if kind in ("float", "single", "decimal"):
        return cells.number(cell_column(name), kind)
    return (
        sql("CAST(:c AS DATE)", c=cell_column(name))
        if kind in ("timestamp", "instant")
        else cell_column(name)
    )


def condition_kinds(
    source: Source, roles: Roles, found_kinds: Mapping[str, Kind]
) -> dict[str, Kind]:
    """Return name → kind of every column that a condition on rows can use; ``found_kinds`` overrides
    plain text columns.
    """
    kinds: dict[str, Kind] = {
        name: found_kinds.get(name, _KINDS[kind]) for name, kind in source.columns.items()
    }
    for role, name in [*roles.columns.items(), ("amount", "amount")]:
        kind = _ROLE_KINDS.get(role, "text")
        kinds[role_key(role, source, roles)] = kind
        if name in source.columns and name == roles.get(role):
            kinds[name] = kind
    return kinds


def role_key(role: str, source: Source, roles: Roles) -> str:
    """Return the name of a role among the columns: its name, or ``role.NAME`` if another column has
    that name.
    """
    other = any(name.casefold() == role and name != roles.get(role) for name in source.columns)
    return f"{ROLE}.{role}" if other else role


def twofold_roles(source: Source, roles: Roles) -> list[str]:
    """Return the names of roles that are also other columns' names."""
    return [role for role in {*roles.columns, "amount"} if role_key(role, source, roles) != role]


_KINDS: dict[CellKind, Kind] = {
    "text": "text", "whole": "number", "decimal": "number", "float": "number", "single": "number",
    "date": "day", "timestamp": "day",
    "instant": "day", "truth": "truth",
}  # fmt: skip
_ROLE_KINDS: dict[str, Kind] = {
    "placed": "day", "amount": "number", "unit_price": "number", "quantity": "number",
    "discount": "number",
    "cost": "number",
}  # fmt: skip

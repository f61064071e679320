"""The cells of order lines as trees over the rows. All queries on rows are built from them."""

import re
from dataclasses import dataclass

from sqlglot import exp

from fairladder.numbers import EXACT_DECIMALS
from fairladder.orders import cells
from fairladder.orders.rows import Rows
from fairladder.orders.source import FILE
from fairladder.sqltree import column, sql

#: Used in place of a column: the hour of the order, from its earliest row.
HOUR = "hour(placed)"


#: Roles whose cells are numbers in any notation.
NUMBER_ROLES = ("unit_price", "quantity", "discount", "cost")
#: Sums of columns are exact to this fraction of one.
PARTS_OF_ONE = 10**EXACT_DECIMALS


def summed(name: str) -> str | None:
    """Return the column that ``sum(COLUMN)`` sums over an order's rows; None for other names."""
    found = re.fullmatch(r"sum\(\s*(.+?)\s*\)", name)
    return found[1] if found else None


@dataclass(frozen=True)
class LineCells:
    """Trees over ``Rows.tree``, or over ``Rows.tree_as_written``, where ids are as written and do
    not affect states.
    """

    rows: Rows
    as_written: bool = False

    @property
    def state(self) -> exp.Expr:
        """Return the row's state, a ``RowState``."""
        return column("#cell_state" if self.as_written else "#state")

    @property
    def minor(self) -> exp.Expr:
        """Return the amount in minor units."""
        return column("#minor")

    @property
    def day(self) -> exp.Expr:
        """Return the calendar day."""
        return column("#day")

    @property
    def moment(self) -> exp.Expr:
        """Return a value that sorts like date and time."""
        kind, zone = self.rows.kind("placed") or "text", self.rows.scheme.time.time_zone
        placed = self.rows.placed_text() if kind == "text" else column("#placed")
        return cells.moment(placed, self.day, kind, zone)

    @property
    def hour(self) -> exp.Expr:
        """Return the hour of the order's time as text; NULL if it has none."""
        kind, zone = self.rows.kind("placed") or "text", self.rows.scheme.time.time_zone
        placed = self.rows.placed_text() if kind == "text" else column("#placed")
        return cells.hour(placed, self.day, kind, zone)

    @property
    def home(self) -> exp.Expr:
        """Return the file of the row, if there are several."""
        return column(FILE)

    def of_role(self, role: str) -> exp.Expr:
        """Return the cell of an id, a name, a channel or a currency, as the rows' tree has it."""
        return column(f"#{role}")

    def id(self, role: str) -> exp.Expr:
        """Return the id of a customer or an order as text; as written if the rows are."""
        return self.of_role(role) if self.as_written else as_text(self.of_role(role))

    def own(self, names: list[str], prefix: str, text: bool = False) -> dict[str, exp.Expr]:
        """Return the orders' own columns as conditions use them, named ``PREFIX NAME``; as ``text``
        if they are to be groups.
        """
        sums = {name: self.number(of) for name in names if (of := summed(name)) is not None}
        there = self.rows.condition_cells() | ({HOUR: self.hour} if HOUR in names else {})
        return {f"{prefix} {name}": sums[name] for name in names if name in sums} | {
            f"{prefix} {name}": as_text(there[name]) if text else there[name]
            for name in names
            if name not in sums
        }

    def number(self, name: str) -> exp.Expr:
        """Return a column or role as whole ten-thousandths, whose sums are exact; NULL if blank.

        Money is in major units, converted like the amount. Quantities of rows with a negative
        amount are negative.
        """
        rows = self.rows
        if is_amount(rows, name):
            return sql(
                "CAST(:m * :s AS BIGINT)",
                m=self.minor,
                s=PARTS_OF_ONE // 10**rows.scheme.money.decimals,
            )
        own = column_of(rows, name)
        number = rows.minor_of(own, EXACT_DECIMALS)
        if own == rows.roles.get("quantity"):
            return sql("CASE WHEN :m < 0 THEN -ABS(:n) ELSE :n END", m=self.minor, n=number)
        return number

    def ids(self) -> dict[str, exp.Expr]:
        """Return ``customer`` and, if orders have ids, ``order``, as text or as written."""
        trees = {"customer": self.id("customer")}
        return trees | ({"order": self.id("order")} if self.rows.has_orders else {})

    @property
    def cost(self) -> exp.Expr | None:
        """Return the row's cost in minor units, rounded once; None without the role."""
        name = self.rows.roles.get("cost")
        return None if name is None else self.rows.minor_of(name)


def column_of(rows: Rows, name: str) -> str:
    """Return the column with this name, or the column of the role with this name."""
    return name if name in rows.source.columns else rows.roles.get(name) or name


def is_amount(rows: Rows, name: str) -> bool:
    """Return True if a name means the amount, by its role or by its column."""
    return column_of(rows, name) == rows.roles.get("amount") or (
        name == "amount" and name not in rows.source.columns
    )


def as_text(tree: exp.Expr) -> exp.Expr:
    """Cast the tree to text."""
    return sql("CAST(:c AS VARCHAR)", c=tree)

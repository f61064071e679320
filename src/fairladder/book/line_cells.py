"""What is read of a row, whatever is asked: the one builder of the cells of order lines, over
the rows' tree.
"""

import re
from dataclasses import dataclass

from sqlglot import exp

from fairladder.numbers import EXACT_DECIMALS
from fairladder.orders import cells
from fairladder.orders.rows import Rows
from fairladder.orders.source import FILE
from fairladder.sqltree import column, sql

#: In place of a column: the hour of the order. Of an order's rows the earliest counts.
HOUR = "hour(placed)"


#: Roles whose cells are numbers, however they are written.
NUMBER_ROLES = ("unit_price", "quantity", "discount", "cost")
#: Sums of columns are exact to this part of one.
PARTS_OF_ONE = 10**EXACT_DECIMALS


def summed(name: str) -> str | None:
    """The column that ``sum(COLUMN)`` sums over an order's rows; None of other names."""
    found = re.fullmatch(r"sum\(\s*(.+?)\s*\)", name)
    return found[1] if found else None


@dataclass(frozen=True)
class LineCells:
    """Trees over ``Rows.tree``, or over ``Rows.tree_as_written``, whose ids are as written and
    whose states leave them aside.
    """

    rows: Rows
    as_written: bool = False

    @property
    def state(self) -> exp.Expr:
        """What became of the row, a ``RowState``."""
        return column("#cell_state" if self.as_written else "#state")

    @property
    def minor(self) -> exp.Expr:
        """The amount in minor units."""
        return column("#minor")

    @property
    def day(self) -> exp.Expr:
        """The calendar day."""
        return column("#day")

    @property
    def moment(self) -> exp.Expr:
        """Something that sorts like day and time."""
        kind, zone = self.rows.kind("placed") or "text", self.rows.scheme.time.time_zone
        placed = self.rows.placed_text() if kind == "text" else column("#placed")
        return cells.moment(placed, self.day, kind, zone)

    @property
    def hour(self) -> exp.Expr:
        """The hour of the order's time, as text; NULL where it has none."""
        kind, zone = self.rows.kind("placed") or "text", self.rows.scheme.time.time_zone
        placed = self.rows.placed_text() if kind == "text" else column("#placed")
        return cells.hour(placed, self.day, kind, zone)

    @property
    def home(self) -> exp.Expr:
        """The file that the row is in, where there are several."""
        return column(FILE)

    def of_role(self, role: str) -> exp.Expr:
        """The cell of an id, a name, a channel or a currency, as the rows' tree has it."""
        return column(f"#{role}")

    def id(self, role: str) -> exp.Expr:
        """The id of a customer or an order as text; as written where the rows are."""
        return self.of_role(role) if self.as_written else as_text(self.of_role(role))

    def own(self, names: list[str], prefix: str, text: bool = False) -> dict[str, exp.Expr]:
        """Columns of the orders' own as conditions see them, under ``PREFIX NAME``; as
        ``text`` where they are to be groups.
        """
        sums = {name: self.number(of) for name in names if (of := summed(name)) is not None}
        there = self.rows.condition_cells() | ({HOUR: self.hour} if HOUR in names else {})
        return {f"{prefix} {name}": sums[name] for name in names if name in sums} | {
            f"{prefix} {name}": as_text(there[name]) if text else there[name]
            for name in names
            if name not in sums
        }

    def number(self, name: str) -> exp.Expr:
        """A column of the orders, or a role, as whole ten-thousandths, whose sums are exact; NULL
        where it is blank.

        Money is in major units, converted as the amount is. Quantities of rows with a negative
        amount are below zero.
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
        """``customer`` and, where orders have ids, ``order``, as text or as written."""
        trees = {"customer": self.id("customer")}
        return trees | ({"order": self.id("order")} if self.rows.has_orders else {})

    @property
    def cost(self) -> exp.Expr | None:
        """What the row cost the shop in minor units, rounded once; None without the role."""
        name = self.rows.roles.get("cost")
        return None if name is None else self.rows.minor_of(name)


def column_of(rows: Rows, name: str) -> str:
    """The column that a name means: one of the orders, or that of the role of that name."""
    return name if name in rows.source.columns else rows.roles.get(name) or name


def is_amount(rows: Rows, name: str) -> bool:
    """Whether a name means the amount, by its role or by its column."""
    return column_of(rows, name) == rows.roles.get("amount") or (
        name == "amount" and name not in rows.source.columns
    )


def as_text(tree: exp.Expr) -> exp.Expr:
    """The tree as text."""
    return sql("CAST(:c AS VARCHAR)", c=tree)

"""Opened orders that have not been read yet: their source, their columns' roles, and the
settings.
"""

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal

from fairladder.engine.protocol import Engine
from fairladder.errors import UsageError, nearest
from fairladder.findings import ALLOWED
from fairladder.orders.anywhere import open_anything
from fairladder.orders.roles import Roles, resolve_roles
from fairladder.orders.rows import Rows, open_rows
from fairladder.orders.shapes import rows_of_columns, with_credits, with_lines
from fairladder.orders.source import Source, open_source
from fairladder.scheme import Scheme


@dataclass(frozen=True)
class Opened:
    """The input of ``read``: the recipe for the rows, and the customers file. Questions are
    answered by the result of ``read``.
    """

    rows: Rows
    customers_file: Any
    allow_set_aside: bool = False
    shows: Literal["window", "periods", "both"] = "window"
    """The orders that the caller's figures cover: the date range, the periods of a whole history,
    or both.
    """
    file_cache: dict[str, Any] = field(default_factory=dict, repr=False, compare=False)
    """Results of reading other files, which do not depend on the as-of date."""

    @property
    def scheme(self) -> Scheme:
        """All settings."""
        return self.rows.scheme

    @property
    def source(self) -> Source:
        """The source of the rows."""
        return self.rows.source

    @property
    def engine(self) -> Engine:
        """The engine that runs queries on the rows."""
        return self.rows.source.engine

    @property
    def roles(self) -> Roles:
        """The roles of the columns."""
        return self.rows.roles

    @property
    def columns(self) -> list[str]:
        """Names of all columns that conditions on rows and groups can use."""
        return list(self.rows.condition_cells())

    @property
    def input_files(self) -> list[Path]:
        """Return the files from which orders and related tables are read; no output may replace
        them.
        """
        files = dict.fromkeys(
            part.path for part in (self.source.parts or (self.source,)) if part.path is not None
        )
        others = [self.customers_file, self.scheme.lines.file, self.scheme.money.rates]
        return [
            *files,
            *self.source.files_there,
            *(Path(f) for f in others if isinstance(f, str | Path) and str(f) != "-"),
        ]

    def with_rows(self, rows: Rows) -> "Opened":
        """Return a copy with other rows: under another scheme, or with formats that have been
        determined.
        """
        return replace(self, rows=rows)


def open_unread(
    orders: Any, customers: Any, scheme: Scheme, *, allow_set_aside: bool = False
) -> Opened:
    """Find the orders, their columns and their roles; ``read`` does the rest.

    Raises UsageError, SchemeError, ConditionError and DataError like ``fairladder.open_orders``.
    """
    for code in scheme.orders.allow:
        if code not in ALLOWED:
            raise UsageError(
                f"`{code}` is not a finding that can be allowed. {nearest(code, ALLOWED)}"
            )
    source = _shaped(open_anything(orders, scheme.orders), scheme)
    roles = resolve_roles(scheme.order_columns(), source)
    file = customers if customers is not None else scheme.customers.file
    return Opened(
        open_rows(source, roles, scheme),
        file,
        allow_set_aside or "set-aside" in scheme.orders.allow,
    )


def _shaped(source: Source, scheme: Scheme) -> Source:
    """Return the source with lines joined, and with rows made from columns, as the scheme says."""
    if scheme.lines.file is not None:
        order = scheme.order_columns().order or ""
        if source.engine is not source.engine.reader:
            raise UsageError("[lines] joins files. In a database, join the two in --query.")
        lines = open_source(scheme.lines.file, source.engine.reader)
        source = with_lines(source, lines, order, scheme.lines.order or order)
    part = scheme.orders
    if part.channel_customers:
        source = rows_of_columns(
            source, "channel", "customer", part.channel_customers, "channel_customers"
        )
    if part.channel_amounts:
        source = rows_of_columns(
            source, "channel", "amount", part.channel_amounts, "channel_amounts"
        )
    if part.day_amounts:
        days = {day.isoformat(): name for day, name in part.day_amounts.items()}
        source = rows_of_columns(source, "placed", "amount", days, "day_amounts")
    if part.credit:
        source = with_credits(source, part.amount or "", part.credit)
    return source

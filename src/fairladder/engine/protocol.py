"""What every engine can do, wherever the rows are."""

from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Protocol

import pyarrow as pa
from sqlglot import exp

if TYPE_CHECKING:
    from fairladder.engine.embedded import Embedded

#: The signs of currency there are in Unicode, for engines whose patterns have no name for them.
CURRENCY_SIGNS = "$¢-¥֏؋߾߿৲৳৻૱௹฿៛₠-⃀꠸﷼﹩＄￠￡￥￦"


class Engine(Protocol):
    """Runs trees written in the embedded engine's words; one that speaks another dialect turns them into its own."""

    dialect: str

    @property
    def reader(self) -> "Embedded":
        """The embedded engine that reads files beside the orders; itself where it is that."""
        ...

    @property
    def steady(self) -> bool:
        """Whether every query sees the same state of the data: nobody else can change it, or a ``moment`` holds it."""
        ...

    @property
    def keeps_customers(self) -> bool:
        """Whether customers stay where they are, since there may be too many to bring here."""
        ...

    def moment(self) -> AbstractContextManager[None]:
        """While it lasts, all queries see the data as they stand at its first."""
        ...

    def columns(self, relation: exp.Expr) -> dict[str, str]:
        """Column name → the engine's type name, for a table, file or sub-query."""
        ...

    def table(self, query: exp.Expr) -> pa.Table:
        """Run a query and bring back its rows."""
        ...

    def progress(self) -> float | None:
        """The share (0..1) of what runs now that is done; None where it cannot be told."""
        ...

    def sql(self, query: exp.Expr) -> str:
        """The query as indented text in the engine's dialect."""
        ...

    def offer(self, table: pa.Table) -> exp.Expr:
        """A relation with the rows of a small table."""
        ...

    def keep(self, query: exp.Expr) -> exp.Expr:
        """A relation with the query's rows, worked out once where the engine may store them."""
        ...

    def forget(self, relation: exp.Expr) -> None:
        """Drop what ``keep`` kept."""
        ...

"""What every engine can do, wherever the rows are."""

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, Protocol

import pyarrow as pa
from sqlglot import exp

from fairladder.engine.limits import Limits

if TYPE_CHECKING:
    from fairladder.engine.embedded import Embedded

#: The signs of currency there are in Unicode, for engines whose patterns have no name for them.
CURRENCY_SIGNS = "$¢-¥֏؋߾߿৲৳৻૱௹฿៛₠-⃀꠸﷼﹩＄￠￡￥￦"


class Engine(Protocol):
    """Runs trees written in the embedded engine's words; one that speaks another dialect turns
    them into its own.
    """

    dialect: str

    @property
    def reader(self) -> "Embedded":
        """The embedded engine that reads files beside the orders; itself where it is that."""
        ...

    @property
    def steady(self) -> bool:
        """Whether every query sees the same state of the data: nobody else can change it, or a
        ``moment`` holds it.
        """
        ...

    @property
    def limits(self) -> Limits:
        """What the engine allows or prefers."""
        ...

    @property
    def customer_engine(self) -> "CustomerEngine":
        """The engine that holds the customers of orders that are read here."""
        ...

    def hand_over(self, query: exp.Select, *, keep: bool = True) -> exp.Expr:
        """The rows of a query as a relation of ``customer_engine``, which keeps them; without
        ``keep`` only if it must.
        """
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


class CustomerEngine(Engine, Protocol):
    """An engine that holds customers: tables last until their owner goes, and results leave it
    here.
    """

    def passing(self) -> AbstractContextManager[Callable[[exp.Expr], exp.Expr]]:
        """Drop at the end what this thread kept inside, except what has an owner or is passed
        to the function given.
        """
        ...

    def own(self, owner: object, relation: exp.Expr) -> None:
        """Drop what ``keep`` kept once ``owner`` is gone."""
        ...

    def frame(
        self, query: exp.Select, order: Sequence[exp.Expr], to_pandas: Callable[[pa.Table], Any]
    ) -> Any:
        """The rows of a query as the public DataFrame: of pandas by ``to_pandas``, in
        ``order``; or the engine's own, unordered.
        """
        ...

    def came_here(self, count: int, why: str) -> str:
        """A sentence that says that so many customers came to this machine; empty where they
        always are here.
        """
        ...

    @property
    def parts_writer(self) -> "PartsWriter | None":
        """What writes results as folders of parts; None where results are written as files on
        this machine.
        """
        ...


class PartsWriter(Protocol):
    """Writes results where the engine is, in as many parts as it has workers."""

    def require_own(self, path: str) -> Any:
        """Raise UsageError where something else stands at ``path``."""
        ...

    def write(self, query: exp.Expr, path: str, kind: str, receipt: str) -> None:
        """Write the rows of a query as a folder of parts with ``receipt`` beside them, whole
        or not at all.
        """
        ...

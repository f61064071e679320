"""The interface of engines."""

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, Protocol

import pyarrow as pa
from sqlglot import exp

from fairladder.engine.limits import Limits

if TYPE_CHECKING:
    from fairladder.engine.embedded import Embedded

#: Unicode's currency symbols, for engines whose regular expressions lack the class.
CURRENCY_SIGNS = "$¢-¥֏؋߾߿৲৳৻૱௹฿៛₠-⃀꠸﷼﹩＄￠￡￥￦"


class Engine(Protocol):
    """Runs trees in the embedded engine's SQL; engines with another dialect translate them."""

    dialect: str

    @property
    def reader(self) -> "Embedded":
        """The embedded engine that reads local files used with the orders; possibly the engine
        itself.
        """
        ...

    @property
    def steady(self) -> bool:
        """True if every query sees the same data: nothing else can change it, or a ``moment`` is
        active.
        """
        ...

    @property
    def limits(self) -> Limits:
        """The engine's limits and preferences."""
        ...

    @property
    def customer_engine(self) -> "CustomerEngine":
        """The engine that holds the customers of orders that are read here."""
        ...

    def hand_over(self, query: exp.Select, *, keep: bool = True) -> exp.Expr:
        """Return the rows of a query as a relation of ``customer_engine``, which stores them;
        without ``keep`` only if it must.
        """
        ...

    def moment(self) -> AbstractContextManager[None]:
        """Start a snapshot: until the end of the block all queries see the same data."""
        ...

    def columns(self, relation: exp.Expr) -> dict[str, str]:
        """Return column name → the engine's type name, for a table, file or sub-query."""
        ...

    def table(self, query: exp.Expr) -> pa.Table:
        """Run a query and return its rows."""
        ...

    def progress(self) -> float | None:
        """Return the share (0..1) of the running work that is done; None if unknown."""
        ...

    def sql(self, query: exp.Expr) -> str:
        """Return the query as indented text in the engine's dialect."""
        ...

    def offer(self, table: pa.Table) -> exp.Expr:
        """Return a relation with the rows of a small table."""
        ...

    def keep(self, query: exp.Expr) -> exp.Expr:
        """Return a relation with the query's rows, computed once if the engine may store them."""
        ...

    def forget(self, relation: exp.Expr) -> None:
        """Drop what ``keep`` stored."""
        ...


class CustomerEngine(Engine, Protocol):
    """An engine that holds customers: tables live as long as their owner, and results are written
    from it.
    """

    def passing(self) -> AbstractContextManager[Callable[[exp.Expr], exp.Expr]]:
        """At the end of the block, drop what this thread kept in it, except what has an owner or is
        passed to the function that the block receives.
        """
        ...

    def own(self, owner: object, relation: exp.Expr) -> None:
        """Drop a kept relation once ``owner`` is gone."""
        ...

    def frame(
        self, query: exp.Select, order: Sequence[exp.Expr], to_pandas: Callable[[pa.Table], Any]
    ) -> Any:
        """Return the rows of a query as the public DataFrame: a pandas one made by ``to_pandas``,
        in ``order``, or the engine's own, unordered.
        """
        ...

    def transfer_note(self, count: int, why: str) -> str:
        """Return a sentence about the number of customers brought to this machine; empty if they
        are always here.
        """
        ...

    @property
    def parts_writer(self) -> "PartsWriter | None":
        """The writer of results as folders of parts; None if results are written as files on this
        machine.
        """
        ...


class PartsWriter(Protocol):
    """Writes results on the engine's machines, in as many parts as it has workers."""

    def require_own(self, path: str) -> Any:
        """Raise UsageError if something else exists at ``path``."""
        ...

    def write(self, query: exp.Expr, path: str, kind: str, receipt: str) -> None:
        """Write the rows of a query as a folder of parts with ``receipt`` next to them, all or
        nothing.
        """
        ...

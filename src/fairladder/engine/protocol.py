"""What every engine can do, wherever the rows are."""

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Protocol

import pyarrow as pa
from sqlglot import exp

from fairladder.numbers import exact_minor

if TYPE_CHECKING:
    from fairladder.engine.embedded import Embedded

#: Name under which the exact arithmetic of ``numbers.exact_minor`` can be called in SQL; see ``exact_minor_name``.
EXACT_MINOR = "exact_minor"

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
        """Whether all that is read now is of one moment, because nobody else can change it or a ``moment`` lasts."""
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


def exact_minor_name(decimals: int, percent: bool, product: bool, rated: bool) -> str:
    """Name of the function of amount texts that gives exact minor units."""
    of_hundred = "_percent" if percent and product else ""
    return f"{EXACT_MINOR}_{decimals}{of_hundred}{'_product' if product else ''}{'_rated' if rated else ''}"


def exact_minor_functions() -> Iterator[tuple[str, Callable[..., int | None], int]]:
    """Name, Python function and number of arguments (all text), for engines that can call Python.

    Arguments are the amount, or price, quantity and discount (null for none), and then the rate where there is one.
    """
    for decimals in range(5):
        yield from _without_discount(decimals)
        for percent in (False, True):
            yield from _with_discount(decimals, percent)


def _without_discount(decimals: int) -> Iterator[tuple[str, Callable[..., int | None], int]]:
    def one(amount: str) -> int | None:
        return exact_minor(decimals, False, (amount,), None)

    def rated(amount: str, rate: str) -> int | None:
        return exact_minor(decimals, False, (amount, rate), None)

    yield exact_minor_name(decimals, False, False, False), one, 1
    yield exact_minor_name(decimals, False, False, True), rated, 2


def _with_discount(decimals: int, percent: bool) -> Iterator[tuple[str, Callable[..., int | None], int]]:
    def product(price: str, quantity: str, discount: str | None) -> int | None:
        return exact_minor(decimals, percent, (price, quantity), discount)

    def rated(price: str, quantity: str, discount: str | None, rate: str) -> int | None:
        return exact_minor(decimals, percent, (price, quantity, rate), discount)

    yield exact_minor_name(decimals, percent, True, False), product, 3
    yield exact_minor_name(decimals, percent, True, True), rated, 4

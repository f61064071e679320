"""Exact minor units as functions that engines can call: their names in SQL, and what they do."""

from collections.abc import Callable, Iterator

from fairladder.numbers import exact_minor

#: Name under which the exact arithmetic of ``numbers.exact_minor`` can be called in SQL; see ``exact_minor_name``.
EXACT_MINOR = "exact_minor"


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

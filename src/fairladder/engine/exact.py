"""Exact minor units as functions that engines can call: their names in SQL, and what they do."""

from collections.abc import Callable, Iterator
from typing import get_args

from fairladder.numbers import DiscountUnit, exact_minor

#: Name under which the exact arithmetic of ``numbers.exact_minor`` can be called in SQL; see ``exact_minor_name``.
EXACT_MINOR = "exact_minor"


def exact_minor_name(decimals: int, unit: DiscountUnit, product: bool, rated: bool) -> str:
    """Name of the function of amount texts that gives exact minor units."""
    of_unit = f"_{unit}" if unit != "fraction" and product else ""
    return f"{EXACT_MINOR}_{decimals}{of_unit}{'_product' if product else ''}{'_rated' if rated else ''}"


def exact_minor_functions() -> Iterator[tuple[str, Callable[..., int | None], int]]:
    """Name, Python function and number of arguments (all text), for engines that can call Python.

    Arguments are the amount, or price, quantity and discount (null for none), and then the rate where there is one.
    """
    for decimals in range(5):
        yield from _without_discount(decimals)
        for unit in get_args(DiscountUnit):
            yield from _with_discount(decimals, unit)


def _without_discount(decimals: int) -> Iterator[tuple[str, Callable[..., int | None], int]]:
    def one(amount: str) -> int | None:
        return exact_minor(decimals, "fraction", (amount,), None)

    def rated(amount: str, rate: str) -> int | None:
        return exact_minor(decimals, "fraction", (amount, rate), None)

    yield exact_minor_name(decimals, "fraction", False, False), one, 1
    yield exact_minor_name(decimals, "fraction", False, True), rated, 2


def _with_discount(decimals: int, unit: DiscountUnit) -> Iterator[tuple[str, Callable[..., int | None], int]]:
    def product(price: str, quantity: str, discount: str | None) -> int | None:
        return exact_minor(decimals, unit, (price, quantity), discount)

    def rated(price: str, quantity: str, discount: str | None, rate: str) -> int | None:
        return exact_minor(decimals, unit, (price, quantity, rate), discount)

    yield exact_minor_name(decimals, unit, True, False), product, 3
    yield exact_minor_name(decimals, unit, True, True), rated, 4

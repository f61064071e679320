"""Exact minor units as SQL functions: their names and implementations."""

from collections.abc import Callable, Iterator, Sequence
from typing import get_args

from sqlglot import exp

from fairladder.numbers import MOST_MINOR_UNITS, DiscountUnit, exact_minor
from fairladder.sqltree import sql

#: Name of ``numbers.exact_minor`` in SQL; see ``exact_minor_name``.
EXACT_MINOR = "exact_minor"


def exact_minor_name(decimals: int, unit: DiscountUnit, product: bool, rated: bool) -> str:
    """Return the name of the SQL function that converts amount texts to exact minor units."""
    of_unit = f"_{unit}" if unit != "fraction" and product else ""
    return f"{EXACT_MINOR}_{decimals}{of_unit}{'_product' if product else ''}{'_rated' if rated else ''}"


def exact_minor_functions() -> Iterator[tuple[str, Callable[..., int | None], int]]:
    """Yield the name, Python function and number of arguments (all text), for engines that can call
    Python.

    Arguments are the amount, or price, quantity and discount (null for none), then the exchange
    rate if there is one.
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


def _with_discount(
    decimals: int, unit: DiscountUnit
) -> Iterator[tuple[str, Callable[..., int | None], int]]:
    def product(price: str, quantity: str, discount: str | None) -> int | None:
        return exact_minor(decimals, unit, (price, quantity), discount)

    def rated(price: str, quantity: str, discount: str | None, rate: str) -> int | None:
        return exact_minor(decimals, unit, (price, quantity, rate), discount)

    yield exact_minor_name(decimals, unit, True, False), product, 3
    yield exact_minor_name(decimals, unit, True, True), rated, 4


def exact_minor_tree(
    name: str, texts: Sequence[exp.Expr], numeric: Callable[[exp.Expr], exp.Expr]
) -> exp.Expr:
    """Return ``numbers.exact_minor`` as SQL for databases with exact decimals (made by ``numeric``)
    that round halves away from zero.
    """
    decimals, product = int(name.split("_")[2]), "_product" in name
    factors = [t for i, t in enumerate(texts) if not (product and i == 2)]
    value: exp.Expr = exp.convert(10**decimals)
    for text in factors:
        value = sql(":v * :t", v=value, t=numeric(text))
    if "_amount" in name and not isinstance(texts[2], exp.Null):
        off = sql("COALESCE(:d, 0) * :s", d=numeric(texts[2]), s=10**decimals)
        for rate in texts[3:]:
            off = sql(":o * :r", o=off, r=numeric(rate))
        value = sql(":v - :o", v=value, o=exp.paren(off))
    elif product and not isinstance(texts[2], exp.Null):
        value = sql(
            ":v * (1 - COALESCE(CASE WHEN RIGHT(:d, 1) = '%' THEN :bare * 0.01 ELSE :plain * "
            ":unit END, 0))",
            v=value, d=texts[2], bare=numeric(sql("RTRIM(:d, '%')", d=texts[2])),
            plain=numeric(texts[2]),
            unit=0.01 if "_percent" in name else 1,
        )  # fmt: skip
    return sql(
        "CASE WHEN ABS(:v) <= :most THEN CAST(ROUND(:v) AS BIGINT) END",
        v=exp.paren(value),
        most=MOST_MINOR_UNITS,
    )

"""Exchange rates: a table of currency, optional day and rate; the latest rate on or before a row's
day applies.
"""

import datetime as dt
from decimal import Decimal
from typing import Any

import pyarrow as pa
from sqlglot import exp

from fairladder.engine.protocol import Engine
from fairladder.errors import DataError
from fairladder.orders import cells
from fairladder.orders.source import open_source
from fairladder.sqltree import cell_column, named, select


def open_rates(file: Any, engine: Engine, part: Decimal = Decimal(1)) -> exp.Expr:
    """Return a relation of ``currency``, ``since`` (inclusive), ``until`` (exclusive) and ``rate``
    (exact decimal text).

    The file has columns ``currency``, ``rate`` (the price of one unit in the chosen currency) and
    optionally ``day``; a rate without a day always applies. Each rate is multiplied by ``part``,
    the value of one unit of the amounts in major units. Raises DataError if a column is missing, a
    rate is not a positive number, or two apply at once.
    """
    source = open_source(file, engine.reader)
    missing = [name for name in ("currency", "rate") if name not in source.columns]
    if missing:
        raise DataError(
            f"{source.label}: rates need the columns `currency` and `rate` (and optionally "
            f"`day`); `{missing[0]}` is missing."
        )
    names = [name for name in ("currency", "rate", "day") if name in source.columns]
    trees = [named(cells.text(cell_column(name), source.columns[name]), name) for name in names]
    rows = source.engine.table(select(trees, source.relation)).to_pylist()
    by_currency: dict[str, dict[dt.date, str]] = {}
    for number, row in enumerate(rows, start=source.first_row):
        day, rate = _read(row, f"{source.label}, row {number}")
        held = by_currency.setdefault(row["currency"], {})
        if day in held:
            raise DataError(
                f"{source.label}, row {number}: `{row['currency']}` already has a rate for "
                f"{row.get('day') or 'all days'}. Keep one."
            )
        held[day] = rate if part == 1 else f"{Decimal(rate) * part:f}"
    spans = [
        {"currency": currency, "since": since, "until": until, "rate": held[since]}
        for currency, held in by_currency.items()
        for since, until in zip(sorted(held), [*sorted(held)[1:], dt.date.max], strict=True)
    ]
    schema = pa.schema(
        [
            ("currency", pa.string()),
            ("since", pa.date32()),
            ("until", pa.date32()),
            ("rate", pa.string()),
        ]
    )
    return engine.offer(pa.Table.from_pylist(spans, schema=schema))


def _read(row: dict[str, str | None], where: str) -> tuple[dt.date, str]:
    try:
        day = dt.date.fromisoformat((row.get("day") or "")[:10]) if row.get("day") else dt.date.min
        if Decimal(row["rate"] or "") > 0 and row["currency"]:
            return day, str(row["rate"])
    except (ValueError, ArithmeticError):
        pass
    raise DataError(
        f"{where}: a rate needs a currency, a positive number with a decimal point, and a "
        "day as 2026-06-30 or none."
    )

"""Determine the formats of dates and numbers from what most cells show, and return new rows that
use them.
"""

from dataclasses import replace

from sqlglot import exp

from fairladder.errors import SchemeError
from fairladder.orders import cells
from fairladder.orders.rows import Rows
from fairladder.orders.words import says_percent
from fairladder.orders.writing import (
    DateStyle,
    detect_currencies,
    detect_date_format,
    detect_decimal_mark,
    detect_discount_unit,
    detect_zero_digit,
    proves_point,
)
from fairladder.sqltree import cell_column, named, select, sql

#: Rows of a text file that are searched for its channels.
FIRST_ROWS = 100_000
#: Channels with their own bit, in addition to the one for a blank cell.
MOST_CHANNELS = 60


def with_detected_formats(rows: Rows, unread: int, foreign: exp.Expr | None = None) -> Rows:
    """Return the rows with the formats of text dates and numbers that most cells show.

    ``unread`` is the largest of ``Rows.unread``; a table ``foreign`` with all unread dates in
    ``written`` saves searching for them. Raises DataError if two formats fit equally well.
    """
    placed, engine = rows.roles.get("placed") or "", rows.source.engine
    dates, mark, proof = rows.writing.dates, rows.writing.mark, list(rows.writing.evidence)
    if unread and dates is None and rows.source.columns[placed] == "text":
        relation, name = (rows.source.relation, placed) if foreign is None else (foreign, "written")
        dates = detect_date_format(relation, name, engine, column_label=placed)
        if dates.evidence:
            proof.append(f"Dates in `{placed}` are read {dates.name}: {dates.evidence}.")
    zero = rows.writing.zero
    if unread > 1 and mark is None:
        zero = detect_zero_digit(rows.source.relation, rows.text_numbers, engine)
        mark, shown = detect_decimal_mark(rows.source.relation, rows.text_numbers, engine, zero)
        if shown:
            proof.append(f"Numbers: {shown}.")
        rows = with_currencies(rows)
    if dates is not None and dates.name == "iso":
        dates = rows.writing.dates  # all cells have the expected format
    return replace(
        rows,
        writing=replace(
            rows.writing, dates=dates, mark=mark, zero=zero, evidence=tuple(proof), detected=True
        ),
    )


def with_currencies(rows: Rows) -> Rows:
    """Return the rows with the currencies written next to their amounts, if there are several and
    no column names them.
    """
    amount = rows.roles.factors[0]
    if rows.has_currencies or rows.roles.one_currency or rows.source.columns[amount] != "text":
        return rows
    found = detect_currencies(rows.source.relation, amount, rows.source.engine)
    return replace(rows, writing=replace(rows.writing, currencies=found)) if found else rows


def with_known_formats(rows: Rows) -> Rows:
    """Return the rows with formats that the pass itself cannot show: the unit of discounts, and
    currencies in cells whose decimal mark is given.

    Raises DataError if discounts can be fractions or percentages, SchemeError if rates are given
    and rows name no currency.
    """
    name, source = rows.roles.get("discount"), rows.source
    if (
        name is not None
        and rows.scheme.orders.discount_as is None
        and rows.writing.discounts is None
        and says_percent(name)
    ):
        unit = detect_discount_unit(source.relation, name, source.columns[name], source.engine)
        rows = replace(rows, writing=replace(rows.writing, discounts=unit))
    if rows.writing.mark is not None or rows.rates is not None:
        rows = with_currencies(rows)
    if rows.rates is not None and not rows.has_currencies:
        raise SchemeError(
            "[money] rates needs the rows' currency: name its column under [orders] currency."
        )
    return rows


def written_dates(rows: Rows) -> DateStyle | None:
    """Return the format of the orders' dates, from the scheme or from their cells, whatever has
    been read so far.
    """
    placed = rows.roles.get("placed") or ""
    if (
        rows.scheme.orders.date_format
        or rows.roles.date_format
        or rows.source.columns[placed] != "text"
    ):
        return rows.writing.dates
    return detect_date_format(rows.source.relation, placed, rows.source.engine, column_label=placed)


def with_sampled_formats(rows: Rows) -> Rows:
    """Return the rows with other formats if most of the first rows show them, so that nothing is
    read twice.
    """
    source, unread = rows.source, rows.unread
    if unread is None or source.engine is not source.engine.reader or source.is_small:
        return rows
    first = replace(
        source,
        relation=select(["*"], source.relation)
        .limit(FIRST_ROWS // 100, copy=False)
        .subquery("first", copy=False),
    )
    flags = select(
        [named(unread, "unread")], replace(rows, source=first).tree_as_written(), "first_rows"
    )
    counts = source.engine.table(
        select([sql("unread"), sql("COUNT(*) AS n")], flags, "told").group_by("unread", copy=False)
    )
    by_kind = dict(zip(counts["unread"].to_pylist(), counts["n"].to_pylist(), strict=True))
    if sum(by_kind.values()) > 2 * by_kind.get(0, 0):
        return with_detected_formats(rows, max(by_kind))
    proven = rows.writing.mark is None and proves_point(
        first.relation, rows.text_numbers, source.engine
    )
    return replace(rows, writing=replace(rows.writing, point_proven=True)) if proven else rows


def few_channels(rows: Rows) -> tuple[str, ...] | None:
    """Return the channels if they are few: of all rows in columnar files, otherwise of the first
    rows.
    """
    source, name = rows.source, rows.roles.get("channel")
    if name is None or not source.engine.limits.channel_bits or source.is_small:
        # bits are a shortcut for many rows: a cluster sorts groups that contain texts
        return None
    relation = source.relation
    if source.text:
        relation = (
            select([cell_column(name)], relation)
            .limit(FIRST_ROWS, copy=False)
            .subquery("first", copy=False)
        )
    written = cells.text(cell_column(name), source.columns[name])
    query = select([named(written, "channel")], relation).distinct(copy=False)
    channels = [c for c in source.engine.table(query)["channel"].to_pylist() if c is not None]
    return tuple(sorted(channels)) if len(channels) <= MOST_CHANNELS else None

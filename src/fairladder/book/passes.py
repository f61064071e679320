"""Make the pass over the rows: determine formats, and group by ids as written if that gives the
same result.
"""

from dataclasses import dataclass, replace

import pyarrow as pa
from sqlglot import exp

from fairladder.book.kept_groups import KeptGroups, kept_groups
from fairladder.book.lines import KeptLines, keep_lines, other_channel
from fairladder.book.reduction import by_state, orders_of, reduction
from fairladder.orders.formats import (
    few_channels,
    with_detected_formats,
    with_known_formats,
    with_sampled_formats,
)
from fairladder.orders.rows import Rows


@dataclass(frozen=True)
class Pass:
    """The reduction's groups, the rows with their final formats, and the kept rows."""

    table: pa.Table
    """The groups summed by state and currency."""
    rows: Rows
    kept: KeptLines | None
    groups: KeptGroups


def read_through(rows: Rows, keep: bool) -> Pass:
    """Reduce the rows; with ``keep`` they are first read into the engine and reduced from there.

    Surprises after the first rows (a new channel, other formats of dates or numbers) are found from
    the groups, and the rows are read again. Raises DataError if two formats fit equally well.
    """
    first = with_sampled_formats(with_known_formats(rows))
    passed = _grouped(replace(first, channels=few_channels(first)), keep)
    if _has_other_channels(passed):
        passed = _again(passed, replace(passed.rows, channels=None))
    unread = largest_unread(passed.table)
    if unread:
        kept = passed.kept if passed.kept is not None and passed.kept.as_written else None
        better = with_detected_formats(
            passed.rows, unread, kept.unread_dates() if kept is not None else None
        )
        same = replace(better.writing, detected=False) == passed.rows.writing
        passed = replace(passed, rows=better) if same else _again(passed, better)
    return passed


def largest_unread(table: pa.Table) -> int:
    """Return the largest ``Rows.unread`` among the groups."""
    return (
        max((int(n or 0) for n in table["unread"].to_pylist()), default=0)
        if "unread" in table.column_names
        else 0
    )


def keep_rows(rows: Rows, as_written: bool) -> KeptLines:
    """Keep the rows and, if they have ids, their orders in the engine."""
    lines = keep_lines(rows, as_written)
    return (
        replace(lines, orders=rows.source.engine.keep(orders_of(rows, as_written, lines)))
        if rows.has_orders
        else lines
    )


def _again(passed: Pass, rows: Rows) -> Pass:
    _forget(passed)
    return _grouped(rows, keep=passed.kept is not None)


def _forget(passed: Pass) -> None:
    """Drop what the engine keeps of a pass that is repeated."""
    if passed.kept is not None:
        passed.kept.forget()
    passed.rows.source.engine.customer_engine.forget(passed.groups.relation)


def _grouped(rows: Rows, keep: bool) -> Pass:
    """Return the groups, using ids as written if that gives the same result."""
    if rows.reads_as_written and rows.source.engine.limits.ids_as_written:
        passed = _reduced(rows, keep, as_written=True)
        if "untrimmed" not in passed.table.column_names or not _any(passed.table["untrimmed"]):
            return passed
        _forget(passed)
    return _reduced(rows, keep, as_written=False)


def _reduced(rows: Rows, keep: bool, as_written: bool) -> Pass:
    kept = keep_rows(rows, as_written) if keep else None
    orders = None if kept is None else kept.orders or orders_of(rows, as_written, kept)
    return pass_of(rows, reduction(rows, as_written, orders), kept)


def pass_of(rows: Rows, query: exp.Select, kept: KeptLines | None = None) -> Pass:
    """Return the pass with the groups of ``query``, which are kept in the customers' engine."""
    engine, keeper = rows.source.engine, rows.source.engine.customer_engine
    query.set("order", None)  # a file is sorted when it is written
    relation = engine.hand_over(query)
    summed = keeper.table(by_state(query, relation))
    groups = kept_groups(keeper, relation, tuple(c.alias for c in query.selects), summed)
    keeper.own(groups, relation)
    return Pass(summed, rows, kept, groups)


def _has_other_channels(passed: Pass) -> bool:
    """Return True if there are channels that the first rows do not have."""
    if passed.rows.channels is None:
        return False
    other = other_channel(passed.rows.channels)
    return any((bits or 0) & other for bits in passed.table["channel_bits"].to_pylist())


def _any(values: pa.ChunkedArray) -> bool:
    return any(values.to_pylist())

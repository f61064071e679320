"""The pass over the rows: how they are written is settled, ids are grouped as they stand where that will do."""

from dataclasses import dataclass, replace

import pyarrow as pa
import pyarrow.compute as pc

from fairladder.book.kept_groups import KeptGroups, kept_groups
from fairladder.book.lines import KeptLines, keep_lines, other_channel
from fairladder.book.reduction import by_state, orders_of, reduction
from fairladder.orders.rows import Rows
from fairladder.orders.settling import few_channels, settled, settled_at_first, settled_before


@dataclass(frozen=True)
class Pass:
    """The reduction's groups, the rows as they were read for them, and where these were kept."""

    table: pa.Table
    rows: Rows
    kept: KeptLines | None
    groups: KeptGroups | None = None
    """The groups in the engine, if customers stay there; ``table`` then sums them up by state."""


def read_through(rows: Rows, keep: bool) -> Pass:
    """Reduce the rows; with ``keep`` they are read into the engine first and reduced from there.

    What the first rows do not show (a new channel, dates or numbers written otherwise) is found from the groups, and the rows
    are then read again. Raises DataError where two ways of reading are equally good.
    """
    first = settled_at_first(settled_before(rows))
    passed = _grouped(replace(first, channels=few_channels(first)), keep)
    if _has_other_channels(passed):
        passed = _again(passed, replace(passed.rows, channels=None))
    unread = largest_unread(passed.table)
    if unread:
        kept = passed.kept if passed.kept is not None and passed.kept.as_written else None
        better = settled(passed.rows, unread, kept.unread_dates() if kept is not None else None)
        same = replace(better.writing, settled=False) == passed.rows.writing
        passed = replace(passed, rows=better) if same else _again(passed, better)
    return passed


def largest_unread(table: pa.Table) -> int:
    """The largest of ``Rows.unread`` among the groups."""
    return int(pc.max(table["unread"]).as_py() or 0) if "unread" in table.column_names else 0


def keep_rows(rows: Rows, as_written: bool) -> KeptLines:
    """The rows and, where they have ids, their orders, kept in the engine."""
    lines = keep_lines(rows, as_written)
    return (
        replace(lines, orders=rows.source.engine.keep(orders_of(rows, as_written, lines))) if rows.has_orders else lines
    )


def _again(passed: Pass, rows: Rows) -> Pass:
    _forget(passed)
    return _grouped(rows, keep=passed.kept is not None)


def _forget(passed: Pass) -> None:
    """Let the engine drop what it keeps of a pass that is made again."""
    if passed.kept is not None:
        passed.kept.forget()
    if passed.groups is not None:
        passed.rows.source.engine.forget(passed.groups.relation)


def _grouped(rows: Rows, keep: bool) -> Pass:
    """The groups, with ids grouped as written where that gives the same."""
    if rows.reads_as_written and not rows.source.engine.keeps_customers:
        passed = _reduced(rows, keep, as_written=True)
        if "untrimmed" not in passed.table.column_names or not _any(passed.table["untrimmed"]):
            return passed
        _forget(passed)
    return _reduced(rows, keep, as_written=False)


def _reduced(rows: Rows, keep: bool, as_written: bool) -> Pass:
    kept = keep_rows(rows, as_written) if keep else None
    orders = None if kept is None else kept.orders or orders_of(rows, as_written, kept)
    engine, query = rows.source.engine, reduction(rows, as_written, orders)
    if not engine.keeps_customers:
        return Pass(engine.table(query), rows, kept)
    query.set("order", None)  # the order of customers is that of a file, and costs as much as all the rest
    groups = engine.keep(query)
    told = engine.table(by_state(query, groups))
    there = kept_groups(groups, tuple(c.alias for c in query.selects), told)
    from fairladder.engine.cluster import Cluster

    assert isinstance(engine, Cluster)
    engine.own(there, groups)
    return Pass(told, rows, kept, there)


def _has_other_channels(passed: Pass) -> bool:
    """Whether channels turned up that the first rows do not have."""
    if passed.rows.channels is None:
        return False
    bits = passed.table["channel_bits"].cast(pa.int64())
    return _any(pc.not_equal(pc.bit_wise_and(bits, other_channel(passed.rows.channels)), 0))


def _any(values: pa.ChunkedArray) -> bool:
    return bool(pc.any(values.cast(pa.bool_())).as_py())

"""Exports of other shapes as one table of rows: lines beside their orders, a column of customers for each channel."""

from collections.abc import Mapping
from dataclasses import dataclass

from sqlglot import exp

from fairladder.errors import DataError, SchemeError, nearest
from fairladder.orders import cells
from fairladder.orders.source import FILE, CellKind, Source
from fairladder.sqltree import all_of, cell_column, cell_name, named, select, sql


@dataclass(frozen=True)
class _Joined(Source):
    """Orders and lines joined many-to-one, kept so that the join can be made again with rows numbered."""

    orders: Source | None = None
    lines: Source | None = None
    keys: tuple[str, str] = ("", "")

    def numbered(self) -> exp.Expr:
        """Rows numbered in the file that they are from: lines in theirs, orders without lines in theirs."""
        assert self.orders is not None
        assert self.lines is not None
        return _join(self.orders, self.lines, self.keys, self.orders.numbered(), self.lines.numbered(), numbered=True)


def with_lines(orders: Source, lines: Source, order_key: str, line_key: str) -> Source:
    """Each line with its order's columns. Lines without an order and orders without lines stay, with blank cells.

    Raises SchemeError where a key column is missing, DataError where an order id stands on two rows of the orders (their
    lines would be counted twice) or both files have a column of one name.
    """
    for source, key in ((orders, order_key), (lines, line_key)):
        if key not in source.columns:
            raise SchemeError(
                f"{source.label} has no column `{key}`, by which orders and lines are joined. {nearest(key, source.columns)}"
            )
    both = sorted((set(orders.columns) & set(lines.columns)) - {order_key})
    if both or (line_key != order_key and order_key in lines.columns):
        name = both[0] if both else order_key
        raise DataError(f"{orders.label} and {lines.label} both have a column `{name}`. Rename it in one of them.")
    _once_each(orders, order_key)
    unmatched = _unmatched(orders, lines, order_key, line_key)
    notes = (*orders.notes, *lines.notes, f"{lines.label} is joined to {orders.label} by the order: {unmatched}.")
    columns = {**orders.columns, **{n: k for n, k in lines.columns.items() if n != line_key}}
    keys = (order_key, line_key)
    relation = _join(orders, lines, keys, orders.relation, lines.relation, numbered=False)
    text = orders.text and lines.text
    return _Joined(
        lines.label, relation, columns, orders.engine, text, 1, notes, files_apart=True, path=orders.path, orders=orders, lines=lines,
        keys=keys
    )  # fmt: skip


def _key(source: Source, name: str, table: str) -> exp.Expr:
    cell = _of(table, name)
    return sql("CAST(:c AS VARCHAR)", c=cells.text(cell, source.columns[name]))


def _join(
    orders: Source, lines: Source, keys: tuple[str, str], left: exp.Expr, right: exp.Expr, numbered: bool
) -> exp.Subquery:
    order_key, line_key = keys
    cells_of = [
        named(
            sql("COALESCE(:a, :b)", a=_key(orders, order_key, "o"), b=_key(lines, line_key, "l")), cell_name(order_key)
        ),
        *(_of("o", name) for name in orders.columns if name != order_key),
        *(_of("l", name) for name in lines.columns if name != line_key),
    ]
    if numbered:
        cells_of.append(named(sql("COALESCE(:l, :o)", l=_inner("l", "#row"), o=_inner("o", "#row")), "#row"))
        home = sql(
            "CASE WHEN :r IS NULL THEN :o ELSE :l END",
            r=_inner("l", "#row"),
            o=exp.Literal.string(orders.label),
            l=exp.Literal.string(lines.label),
        )
        cells_of.append(named(home, f"#{FILE}"))
    query = select(cells_of, _aliased(left, "o"))
    on = sql(":a = :b", a=_key(orders, order_key, "o"), b=_key(lines, line_key, "l"))
    return query.join(_aliased(right, "l"), on=on, join_type="full", copy=False).subquery("joined", copy=False)


def _of(table: str, name: str) -> exp.Column:
    """A column of one of the files."""
    return _inner(table, cell_name(name))


def _inner(table: str, name: str) -> exp.Column:
    return exp.Column(this=exp.to_identifier(name, quoted=True), table=exp.to_identifier(table))


def _aliased(relation: exp.Expr, alias: str) -> exp.Expr:
    return select(["*"], relation).subquery(alias, copy=False)


def _once_each(orders: Source, key: str) -> None:
    keys = select([named(_key(orders, key, "o"), "k")], _aliased(orders.relation, "o"))
    twice = (
        select([sql("k"), sql("COUNT(*) AS n")], keys, "keys")
        .where(sql("k IS NOT NULL"), copy=False)
        .group_by("k", copy=False)
        .having(sql("COUNT(*) > 1"), copy=False)
    )
    repeats = orders.engine.table(select([sql("COUNT(*) AS n"), sql("MIN(k) AS k")], twice, "twice")).to_pylist()[0]
    if repeats["n"]:
        raise DataError(
            f"repeated-orders: {orders.label} holds {repeats['n']:,} order ids on more than one row, `{repeats['k']}` for instance. Their "
            "lines would count twice; keep one row for each order, or read the file as lines."
        )


def _unmatched(orders: Source, lines: Source, order_key: str, line_key: str) -> str:
    """How many rows of either side find none on the other, in words."""
    joined = select(
        [named(_key(orders, order_key, "o"), "a"), named(_key(lines, line_key, "l"), "b")],
        _aliased(orders.relation, "o"),
    )
    on = sql(":a = :b", a=_key(orders, order_key, "o"), b=_key(lines, line_key, "l"))
    joined = joined.join(_aliased(lines.relation, "l"), on=on, join_type="full", copy=False)
    counts = [sql("COUNT(CASE WHEN a IS NULL THEN 1 END) AS l"), sql("COUNT(CASE WHEN b IS NULL THEN 1 END) AS o")]
    totals = orders.engine.table(select(counts, joined, "joined")).to_pylist()[0]
    if not totals["l"] and not totals["o"]:
        return "every row finds its other side"
    return f"{totals['l']:,} lines without an order and {totals['o']:,} orders without a line are set aside"


def one_row_per_channel(source: Source, columns: Mapping[str, str]) -> Source:
    """Rows with a column of customer ids for each channel → a row for each id, with ``customer`` and ``channel``.

    ``columns`` is channel → column. A row without any id stays one row without a customer. Raises SchemeError where a
    column is missing, DataError where the source has a ``customer`` or ``channel`` already.
    """
    for channel, name in columns.items():
        if name not in source.columns:
            raise SchemeError(
                f"{source.label} has no column `{name}`, which channel_customers names for `{channel}`. {nearest(name, source.columns)}"
            )
    for name in ("customer", "channel"):
        if name in source.columns:
            raise DataError(
                f"{source.label} has a column `{name}`, which channel_customers makes. Rename it in the file."
            )
    text = f"Rows with an id in several of {', '.join(f'`{c}`' for c in columns.values())} count once for each."
    relation = _per_channel(source, columns, source.relation)
    turned: dict[str, CellKind] = {**source.columns, "customer": "text", "channel": "text"}
    return _PerChannel(
        source.label, relation, turned, source.engine, source.text, source.first_row, (*source.notes, text), source.files_apart,
        source.path, source.parts, whole=source, by_channel=tuple(columns.items()),
    )  # fmt: skip


@dataclass(frozen=True)
class _PerChannel(Source):
    whole: Source | None = None
    by_channel: tuple[tuple[str, str], ...] = ()

    def numbered(self) -> exp.Expr:
        """Rows with the number of the row that they come from."""
        assert self.whole is not None
        return _per_channel(self.whole, dict(self.by_channel), self.whole.numbered())


def _per_channel(source: Source, columns: Mapping[str, str], relation: exp.Expr) -> exp.Subquery:
    ids = {
        channel: sql("CAST(:t AS VARCHAR)", t=cells.text(cell_column(name), source.columns[name]))
        for channel, name in columns.items()
    }
    nobody = all_of([sql(":t IS NULL", t=tree) for tree in ids.values()])
    none = select(
        ["*", named(sql("CAST(NULL AS VARCHAR)"), "customer"), named(sql("CAST(NULL AS VARCHAR)"), "channel")], relation
    )
    together: exp.Expr = none.where(nobody, copy=False)
    for channel, tree in ids.items():
        one = select(["*", named(tree, "customer"), named(exp.Literal.string(channel), "channel")], relation).where(
            sql(":t IS NOT NULL", t=tree), copy=False
        )
        together = exp.Union(this=together, expression=one, distinct=False)
    return exp.Subquery(this=together, alias=exp.TableAlias(this=exp.to_identifier("by_channel")))

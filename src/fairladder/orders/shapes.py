"""Convert other shapes of exports to one table of rows: lines next to their orders, one column per
channel or day.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from sqlglot import exp

from fairladder.errors import DataError, SchemeError, nearest
from fairladder.orders import cells
from fairladder.orders.numbers_in_text import DIGITS
from fairladder.orders.source import FILE, CellKind, Source
from fairladder.scheme import less_credit
from fairladder.sqltree import all_of, case, cell_column, cell_name, named, select, sql
from fairladder.wording import counted


@dataclass(frozen=True)
class _Joined(Source):
    """Orders and lines joined many-to-one, stored so that the join can be repeated with row
    numbers.
    """

    orders: Source | None = None
    lines: Source | None = None
    keys: tuple[str, str] = ("", "")

    def numbered(self) -> exp.Expr:
        """Return rows with their number in their own file: for lines in theirs, for orders without
        lines in theirs.
        """
        assert self.orders is not None
        assert self.lines is not None
        return _join(
            self.orders,
            self.lines,
            self.keys,
            self.orders.numbered(),
            self.lines.numbered(),
            numbered=True,
        )


def with_lines(orders: Source, lines: Source, order_key: str, line_key: str) -> Source:
    """Return each line with its order's columns. Lines without an order and orders without lines
    stay, with blank cells.

    Raises SchemeError if a key column is missing, DataError if an order id is on two rows of the
    orders (their lines would be counted twice) or both files have a column of the same name.
    """
    for source, key in ((orders, order_key), (lines, line_key)):
        if key not in source.columns:
            raise SchemeError(
                f"{source.label} has no column `{key}`, on which orders and lines are "
                f"joined. {nearest(key, source.columns)}"
            )
    both = sorted((set(orders.columns) & set(lines.columns)) - {order_key})
    if both or (line_key != order_key and order_key in lines.columns):
        name = both[0] if both else order_key
        raise DataError(
            f"{orders.label} and {lines.label} both have a column `{name}`. Rename it in one of "
            "them."
        )
    _once_each(orders, order_key)
    unmatched = _unmatched(orders, lines, order_key, line_key)
    notes = (
        *orders.notes,
        *lines.notes,
        f"{lines.label} is joined to {orders.label} by the order id: {unmatched}.",
    )
    columns = {**orders.columns, **{n: k for n, k in lines.columns.items() if n != line_key}}
    keys = (order_key, line_key)
    relation = _join(orders, lines, keys, orders.relation, lines.relation, numbered=False)
    text = orders.text and lines.text
    return _Joined(
        lines.label, relation, columns, orders.engine, text, 1, notes, has_several_files=True,
        path=orders.path, orders=orders, lines=lines,
        keys=keys
    )  # fmt: skip


def _key(source: Source, name: str, table: str) -> exp.Expr:
    cell = _of(table, name)
    return sql("CAST(:c AS VARCHAR)", c=cells.text(cell, source.columns[name]))


def _join(
    orders: Source,
    lines: Source,
    keys: tuple[str, str],
    left: exp.Expr,
    right: exp.Expr,
    numbered: bool,
) -> exp.Subquery:
    order_key, line_key = keys
    cells_of = [
        named(
            sql("COALESCE(:a, :b)", a=_key(orders, order_key, "o"), b=_key(lines, line_key, "l")),
            cell_name(order_key),
        ),
        *(_of("o", name) for name in orders.columns if name != order_key),
        *(_of("l", name) for name in lines.columns if name != line_key),
    ]
    if numbered:
        cells_of.append(
            named(sql("COALESCE(:l, :o)", l=_inner("l", "#row"), o=_inner("o", "#row")), "#row")
        )
        home = sql(
            "CASE WHEN :r IS NULL THEN :o ELSE :l END",
            r=_inner("l", "#row"),
            o=exp.Literal.string(orders.label),
            l=exp.Literal.string(lines.label),
        )
        cells_of.append(named(home, f"#{FILE}"))
    query = select(cells_of, _aliased(left, "o"))
    on = sql(":a = :b", a=_key(orders, order_key, "o"), b=_key(lines, line_key, "l"))
    return query.join(_aliased(right, "l"), on=on, join_type="full", copy=False).subquery(
        "joined", copy=False
    )


def _of(table: str, name: str) -> exp.Column:
    """Return a column of one of the files."""
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
    repeats = orders.engine.table(
        select([sql("COUNT(*) AS n"), sql("MIN(k) AS k")], twice, "twice")
    ).to_pylist()[0]
    if repeats["n"]:
        raise DataError(
            f"repeated-orders: {orders.label} has {repeats['n']:,} order ids on more than "
            f"one row, such as `{repeats['k']}`. Their lines would count twice; keep one row "
            "for each order, or read the file as lines."
        )


def _unmatched(orders: Source, lines: Source, order_key: str, line_key: str) -> str:
    """Report how many rows of either side have no match on the other."""
    joined = select(
        [named(_key(orders, order_key, "o"), "a"), named(_key(lines, line_key, "l"), "b")],
        _aliased(orders.relation, "o"),
    )
    on = sql(":a = :b", a=_key(orders, order_key, "o"), b=_key(lines, line_key, "l"))
    joined = joined.join(_aliased(lines.relation, "l"), on=on, join_type="full", copy=False)
    counts = [
        sql("COUNT(CASE WHEN a IS NULL THEN 1 END) AS l"),
        sql("COUNT(CASE WHEN b IS NULL THEN 1 END) AS o"),
    ]
    totals = orders.engine.table(select(counts, joined, "joined")).to_pylist()[0]
    if not totals["l"] and not totals["o"]:
        return "every row has a match"
    return f"{counted(totals['l'], 'lines')} without an order and {counted(totals['o'], 'orders')} without a line are set aside"


@dataclass(frozen=True)
class _Turned(Source):
    """Rows made from columns of other rows, stored so that they can be made again with row
    numbers.
    """

    whole: Source | None = None
    turn: Callable[[exp.Expr], exp.Subquery] | None = None

    def numbered(self) -> exp.Expr:
        """Return rows with the number of the row that they come from."""
        assert self.whole is not None
        assert self.turn is not None
        return self.turn(self.whole.numbered())


def _turned(
    source: Source, made: Sequence[str], turn: Callable[[exp.Expr], exp.Subquery], note: str
) -> Source:
    columns: dict[str, CellKind] = {**source.columns, **dict.fromkeys(made, "text")}
    notes = (*source.notes, note) if note else source.notes
    return _Turned(
        source.label, turn(source.relation), columns, source.engine, source.text, source.first_row,
        notes, source.has_several_files,
        source.path, source.parts, whole=source, turn=turn,
    )  # fmt: skip


def rows_of_columns(
    source: Source, key: str, value: str, labels: Mapping[str, str], setting: str
) -> Source:
    """Return one row for each filled cell of several columns: ids or amounts per channel, or
    amounts per day.

    ``labels`` is key → column, ``setting`` the scheme's key. A row without any filled cell stays
    one row with blank key and value. Raises SchemeError if a column is missing, DataError if the
    source already has a column with the name in ``value`` or ``key``.
    """
    for label, name in labels.items():
        if name not in source.columns:
            raise SchemeError(
                f"{source.label} has no column `{name}`, which {setting} names for `{label}`. "
                f"{nearest(name, source.columns)}"
            )
    for name in (value, key):
        if name in source.columns:
            raise DataError(
                f"{source.label} already has a column `{name}`, which {setting} creates. "
                "Rename it in the file."
            )
    shown = ", ".join(f"`{c}`" for c in labels.values())
    what = "an id" if value == "customer" else "an amount"
    note = f"Rows with {what} in several of {shown} count once for each."

    def turn(relation: exp.Expr) -> exp.Subquery:
        return _per_column(source, key, value, labels, relation)

    return _turned(source, (value, key), turn, note)


def _per_column(
    source: Source, key: str, value: str, labels: Mapping[str, str], relation: exp.Expr
) -> exp.Subquery:
    texts = {label: _text(source, name) for label, name in labels.items()}
    empty = all_of([sql(":t IS NULL", t=tree) for tree in texts.values()])
    blank = [named(sql("CAST(NULL AS VARCHAR)"), made) for made in (value, key)]
    together: exp.Expr = select(["*", *blank], relation).where(empty, copy=False)
    for label, tree in texts.items():
        one = select(["*", named(tree, value), named(exp.Literal.string(label), key)], relation)
        filled = one.where(sql(":t IS NOT NULL", t=tree), copy=False)
        together = exp.Union(this=together, expression=filled, distinct=False)
    return exp.Subquery(this=together, alias=exp.TableAlias(this=exp.to_identifier("by_column")))


def _text(source: Source, name: str) -> exp.Expr:
    return sql("CAST(:t AS VARCHAR)", t=cells.text(cell_column(name), source.columns[name]))


def with_credits(source: Source, amount: str, credit: str) -> Source:
    """Merge a column of purchases and a column of credits into one, with credits negative.

    Blank cells and 0 are ignored. If a row has both, the new cell is not a number, so that the row
    is set aside with a reason. Raises SchemeError if a column is missing, DataError if the new name
    exists already.
    """
    made = less_credit(amount, credit)
    for name in (amount, credit):
        if name not in source.columns:
            raise SchemeError(
                f"{source.label} has no column `{name}`, which [orders] requires. "
                f"{nearest(name, source.columns)}"
            )
    if made in source.columns:
        raise DataError(
            f"{source.label} already has a column `{made}`, which [orders] credit creates. "
            "Rename it in the file."
        )
    bought, returned = _text(source, amount), _text(source, credit)
    nothing = f"REGEXP_FULL_MATCH(:t, '[^1-9A-Za-z{DIGITS}]*')"  # only signs and zeros
    both = sql(":d || ' and ' || :c", d=bought, c=returned)
    negative = (
        "STARTS_WITH(:c, '-') OR STARTS_WITH(:c, '−') OR STARTS_WITH(:c, '(') OR ENDS_WITH(:c, '-')"
    )
    plus = "WHEN STARTS_WITH(:c, '+') THEN '-' || SUBSTRING(:c, 2)"
    back = sql(f"CASE WHEN {negative} THEN :c {plus} ELSE '-' || :c END", c=returned)
    tree = case(
        [(sql(f":c IS NULL OR {nothing}", c=returned, t=returned), bought),
         (sql(f":d IS NULL OR {nothing}", d=bought, t=bought), back)],
        both,
    )  # fmt: skip

    def turn(relation: exp.Expr) -> exp.Subquery:
        return select(["*", named(tree, made)], relation).subquery("both_sides", copy=False)

    return _turned(source, (made,), turn, "")

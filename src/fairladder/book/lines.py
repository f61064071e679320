"""The table of order lines that queries use: computed on the fly, or kept in the engine so that
rows are read once.
"""

from collections.abc import Mapping
from dataclasses import dataclass

from sqlglot import exp

from fairladder.book.line_cells import LineCells
from fairladder.engine.protocol import Engine
from fairladder.orders import cells
from fairladder.orders.rows import Rows
from fairladder.orders.source import FILE
from fairladder.orders.states import SET_ASIDE, RowState, whole_state
from fairladder.sqltree import any_of, case, cell_column, cell_name, column, named, select, sql


def lines(rows: Rows, as_written: bool) -> exp.Select:
    """Return ``state``, ``customer``, ``minor`` and ``day`` of each row, and those of these columns
    that exist: ``order_id``, ``currency``, ``name``, ``channel`` or its bit ``channel_bits``,
    ``offset`` (1 if a text timestamp has one), ``unread``.

    With ``as_written`` ids are untrimmed and do not affect the state.
    """
    tree = rows.tree_as_written() if as_written else rows.tree()
    return select(
        [named(t, name) for name, t in _columns(rows, as_written).items()], tree, "order_rows"
    )


def _columns(rows: Rows, as_written: bool) -> dict[str, exp.Expr]:
    line = LineCells(rows, as_written)
    trees: dict[str, exp.Expr] = {"state": line.state, "customer": line.of_role("customer")}
    if rows.has_orders:
        trees["order_id"] = line.of_role("order")
        if rows.source.parts:
            trees["home"] = line.home
    if rows.by_currency:
        trees["currency"] = line.of_role("currency")
    trees |= {"minor": line.minor, "day": line.day}
    if rows.roles.get("name"):
        trees["name"] = line.of_role("name")
    if rows.channels is not None:
        trees["channel_bits"] = _channel_bit(rows, rows.channels)
    elif rows.roles.get("channel"):
        trees["channel"] = line.of_role("channel")
    if reads_offsets(rows):
        trees["offset"] = offset_flag()
    if (unread := rows.unread) is not None:
        trees["unread"] = unread
    return trees | line_signs(rows)


#: How the signs of rows are aggregated per order and per customer.
SIGNS = ("void_rows", "void_money", "over_one", "below_one", "at_one")


def line_signs(rows: Rows) -> dict[str, exp.Expr]:
    """Return the signs of wrong numbers in each row (``SIGNS``) as trees; signs that these rows
    cannot have are omitted.
    """
    trees: dict[str, exp.Expr] = {}
    if rows.plainly:
        return trees
    if (void := rows.void()) is not None:
        trees["void_rows"] = sql("CASE WHEN :v THEN 1 ELSE 0 END", v=void)
        trees["void_money"] = sql("CASE WHEN :v THEN :m END", v=void, m=column("#minor"))
    return trees | rows.discount_signs()


def reads_offsets(rows: Rows) -> bool:
    """Return True if text timestamps with an offset could be read as the day that is written."""
    return rows.kind("placed") == "text" and rows.scheme.time.time_zone is None


def offset_flag() -> exp.Expr:
    """Return 1 for rows whose timestamp is text that ends in an offset from UTC, 0 for others."""
    return sql("CASE WHEN :o THEN 1 ELSE 0 END", o=cells.offset(column("#placed")))


def _channel_bit(rows: Rows, channels: tuple[str, ...]) -> exp.Expr:
    """Return a bit for each channel, the lowest one for none, and one for unknown channels. OR over
    rows shows whether all are equal, and which it is.

    Cells are compared as written first, which is cheaper than trimming each. Cells that match no
    channel are trimmed and compared again.
    """
    raw = sql("CAST(:c AS VARCHAR)", c=cell_column(rows.roles.get("channel") or ""))
    bits = [(exp.Literal.string(t), exp.convert(2 ** (i + 1))) for i, t in enumerate(channels)]
    cell = rows.text_of("channel")  # not the column `#channel`, which would be trimmed in every row
    trimmed = [(sql(":c IS NULL", c=cell), exp.convert(1))]
    trimmed += [(sql(":c = :t", c=cell, t=text), bit) for text, bit in bits]
    careful = case(trimmed, exp.convert(other_channel(channels)))
    width = "SMALLINT" if len(channels) < 14 else "BIGINT"
    return sql(
        f"CAST(:bit AS {width})",
        bit=case([(sql(":c = :t", c=raw, t=text), bit) for text, bit in bits], careful),
    )


def other_channel(channels: tuple[str, ...]) -> int:
    """Return the bit of channels that are not in the list."""
    return int(2 ** (len(channels) + 1))


@dataclass(frozen=True)
class KeptLines:
    """Rows read once and kept in the engine for the findings; ``forget`` drops them.

    Besides the columns of ``lines``: ``twin``, equal for rows of an order (or of all, without order
    ids) with equal cells; ``off``, the minor units that rounding added to an amount with too many
    decimals; ``written``, the date cell if it cannot be read; ``cells``, all cells of rows in text
    files that could be set aside; ``file``, if there are several; and ``row``.
    """

    rows: Rows
    as_written: bool
    table: exp.Expr
    in_order: bool
    """True if the rows are in the order of their source, so that their position is their number."""
    orders: exp.Expr | None = None
    """A kept table of their orders (``customers.orders_of``), if they have ids."""

    @property
    def engine(self) -> Engine:
        """The engine that keeps the rows."""
        return self.rows.source.engine

    @property
    def marked(self) -> bool:
        """True if the orders have ``marks``, which not every database can compute."""
        return self.engine is self.engine.reader

    def tree(self, ids_put_aside: bool) -> exp.Expr:
        """Return the rows with their row numbers and states. ``ids_put_aside`` is True if a row's
        id can set it aside; states then depend on the ids as they are written.
        """
        # Rows kept in order are in the order in which they were read.
        row = sql("rowid + :n", n=self.rows.source.first_row) if self.in_order else column("row")
        state: exp.Expr = column("state")
        if self.as_written and ids_put_aside:
            state = whole_state_of(self.rows, "order_id")
        others = [
            column(n)
            for n in _kept_columns(self.rows, self.as_written, self.in_order)
            if n not in ("state", "row")
        ]
        return select([named(state, "state"), named(row, "row"), *others], self.table).subquery(
            "kept", copy=False
        )

    def as_rows(self) -> exp.Select:
        """Return the numbered rows with the columns of ``Rows.tree``. Source columns are only
        filled for rows that could be set aside.
        """
        if not self.rows.source.text:  # reading typed columns again costs little
            return self.rows.tree(numbered=True)
        trees: dict[str, exp.Expr] = {
            "#state": column("state"),
            "#row": column("row"),
            "#minor": column("minor"),
        }
        for place, name in enumerate(self.rows.source.columns, start=1):
            trees[cell_name(name)] = exp.Anonymous(
                this="LIST_EXTRACT", expressions=[column("cells"), exp.convert(place)]
            )
        if self.rows.source.has_several_files:
            trees[f"#{FILE}"] = column(FILE)
        return select(
            [named(tree, name) for name, tree in trees.items()], self.tree(ids_put_aside=True)
        )

    def unread_dates(self) -> exp.Expr:
        """Return all unreadable text dates in ``written``; only for rows as written."""
        return (
            select([column("written")], self.table)
            .where(sql("written IS NOT NULL"), copy=False)
            .subquery("unread", copy=False)
        )

    def orders_tree(self, ids_put_aside: bool) -> exp.Expr | None:
        """Return the orders with their states. If a row's id can set it aside, the state is
        determined again from the ids.
        """
        if self.orders is None or not (self.as_written and ids_put_aside):
            return self.orders
        state = named(whole_state_of(self.rows, "order_id"), "state")
        return select([state, sql("* EXCLUDE (state)")], self.orders).subquery("stated", copy=False)

    def forget(self) -> None:
        """Drop the rows and their orders from the engine."""
        for table in (self.table, self.orders):
            if table is not None:
                self.engine.forget(table)


def keep_lines(rows: Rows, as_written: bool) -> KeptLines:
    """Read all rows and keep what the findings need of each."""
    source, engine = rows.source, rows.source.engine
    # Finding out whether rows stay in order means planning the statement, which takes longer than
    # numbering a few rows.
    for in_order in (True, False) if source.is_single and not source.is_small else (False,):
        tree = rows.tree_as_written(not in_order) if as_written else rows.tree(not in_order)
        columns = [named(t, name) for name, t in _kept_columns(rows, as_written, in_order).items()]
        query = select(columns, tree, "order_rows")
        if not in_order or engine.reader.keeps_order(query):
            break
    return KeptLines(rows, as_written, engine.keep(query), in_order)


def _kept_columns(rows: Rows, as_written: bool, in_order: bool) -> dict[str, exp.Expr]:
    trees = _columns(rows, as_written)
    bad_date = sql(":s = :b", s=trees["state"], b=RowState.BAD_DATE)
    distinguishing = (
        {rows.roles.get("customer"), rows.roles.get("order")}
        if as_written and rows.has_orders
        else set()
    )
    if rows.source.parts:
        distinguishing = distinguishing | {FILE}  # the same row in two files is the same row
    others = [cell_column(name) for name in rows.source.columns if name not in distinguishing]
    trees["twin"] = exp.Anonymous(this="HASH", expressions=others)
    trees["off"] = sql(
        "CASE WHEN ABS(:exact - :m) > 1e-6 THEN :m - :exact END",
        exact=rows.unrounded(),
        m=trees["minor"],
    )
    trees["written"] = sql(
        "CASE WHEN :bad THEN CAST(:p AS VARCHAR) END", bad=bad_date, p=column("#placed")
    )
    if rows.source.text:
        cells_read = exp.Array(expressions=[cell_column(name) for name in rows.source.columns])
        aside = _could_be_set_aside(rows, trees["state"], as_written)
        trees["cells"] = sql("CASE WHEN :aside THEN :cells END", aside=aside, cells=cells_read)
    if (status := rows.text_of("status")) is not None:
        trees["status"] = status
    if not in_order:
        trees["row"] = column("#row")
    if rows.source.has_several_files or rows.source.parts:
        trees[FILE] = column(f"#{FILE}" if rows.source.has_several_files else FILE)
    return trees


def _could_be_set_aside(rows: Rows, state: exp.Expr, as_written: bool) -> exp.Expr:
    """Return a condition for rows that could be set aside; ids as written are only tested as far as
    that is cheap.
    """
    # Not a list of codes: the engine would join with a long list, and rows would lose their order.
    codes = sql(
        ":s BETWEEN :first AND :last",
        s=state,
        first=min(*SET_ASIDE, RowState.UNDECIDED),
        last=max(*SET_ASIDE, RowState.UNDECIDED),
    )
    if not as_written:
        return codes
    ids = {
        role: cell_column(name) for role in ("customer", "order") if (name := rows.roles.get(role))
    }
    return any_of([codes, _ids_could_put_aside(rows, ids)])


def _ids_could_put_aside(rows: Rows, ids: Mapping[str, exp.Expr]) -> exp.Expr:
    """Return a condition for ids as written that could be blank or a total's label; it is true of
    some others as well.
    """
    tests = [sql(":c IS NULL", c=cell) for cell in ids.values()]
    # Whitespace in any alphabet sorts outside the visible ASCII characters; a formula may be empty.
    tests += [
        sql(":c < '!' OR :c >= CHR(127) OR STARTS_WITH(:c, '=')", c=cell)
        for role, cell in ids.items()
        if rows.kind(role) == "text"
    ]
    if rows.kind("customer") == "text":  # labels of totals do not end in a digit
        tests.append(sql("ARRAY_EXTRACT(:c, -1) NOT BETWEEN '0' AND '9'", c=ids["customer"]))
    return any_of(tests)


def trimmed_ids(rows: Rows, order: str) -> dict[str, exp.Expr]:
    """Return the trimmed ids of a table of rows or orders as written; ``order`` names its column of
    order ids.
    """
    return {
        r: cells.text(c, "text") if rows.kind(r) == "text" else c
        for r, c in _ids(rows, order).items()
    }


def _ids(rows: Rows, order: str) -> dict[str, exp.Expr]:
    trees: dict[str, exp.Expr] = {"customer": column("customer")}
    return trees | ({"order": column(order)} if rows.has_orders else {})


def whole_state_of(rows: Rows, order: str) -> exp.Expr:
    """Return the final state of rows or orders as written: their own, unless their ids set them
    aside.
    """
    ids = trimmed_ids(rows, order)
    no_order = sql(":o IS NULL", o=ids["order"]) if rows.has_orders else None
    dateless = sql("state = :d", d=RowState.NO_DATE)
    whole = whole_state(rows, ids["customer"], no_order, dateless, column("state"))
    # Ids that clearly set nothing aside skip the exact test, which would cost more than everything
    # else.
    return sql(
        "CASE WHEN :looks THEN :whole ELSE state END",
        looks=_ids_could_put_aside(rows, _ids(rows, order)),
        whole=whole,
    )

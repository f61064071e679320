"""Cross-tabulate orders by one or two columns or bands, with totals computed from rows rather than
from cells.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Literal, get_args

import numpy as np
import pandas as pd
from sqlglot import exp

from fairladder.book.line_cells import NUMBER_ROLES, PARTS_OF_ONE, column_of, is_amount, summed
from fairladder.book.read import Read
from fairladder.book.spend import counted, ignores_refunds
from fairladder.errors import DataError, UsageError, nearest
from fairladder.history.axes import Axis, in_natural_order, parsed_axis
from fairladder.history.purchases import (
    MIXED,
    REST,
    TOTAL,
    Purchases,
    all_unknown,
    group_name,
    purchase_rows,
    purchases,
)
from fairladder.numbers import ratio
from fairladder.orders.writing import detect_kinds
from fairladder.output.notebook import Piece
from fairladder.output.result import Answer
from fairladder.sqltree import case, column, day_literal, named, select, sql

Measure = Literal["orders", "customers", "spend", "average_order_value", "lines", "lines_per_order"]
MEASURES: tuple[Measure, ...] = get_args(Measure)
#: Averages: numerator and denominator. They have no shares, since an average of a part is not a
#: part of the average.
AVERAGES: dict[str, tuple[str, str]] = {
    "average_order_value": ("spend", "orders"),
    "lines_per_order": ("lines", "orders"),
}
Shares = Literal["row", "column", "total"]
SHARES: tuple[Shares, ...] = get_args(Shares)
#: An axis with more names shows the largest ones and combines the rest.
MOST_NAMES = 20


@dataclass(frozen=True)
class Breakdown(Answer):
    """``frame``: one row per cell with ``row``, ``column``, ``is_total``, all measures and
    ``share``; totals are rows named ``total``.

    A value of the orders with one of our names (``total``, ``the rest``, ``mixed``, ``unknown``) is
    in double quotes.

    Totals are computed from the rows, so customers in several cells count once and averages cover
    all orders. ``notes`` explain how to read the table.
    """

    frame: pd.DataFrame
    rows: Axis
    columns: Axis | None
    measure: Measure | str
    shares: Shares | None
    notes: tuple[str, ...]

    @property
    def said(self) -> str:
        """Return the measure in words."""
        column = summed(self.measure)
        return f"sum of {column}" if column else self.measure.replace("_", " ")

    def wide(self, values: str | None = None) -> pd.DataFrame:
        """Return rows by columns, in natural order, of the measure, or of the shares if they were
        requested.
        """
        chosen = values or ("share" if self.shares else self.measure)
        table = self.frame.pivot(index="row", columns="column", values=chosen)
        table = table.reindex(
            index=list(dict.fromkeys(self.frame["row"])),
            columns=list(dict.fromkeys(self.frame["column"])),
        )
        return table.rename_axis(
            index=self.rows.title, columns=self.columns.title if self.columns else None
        )

    def tables(self) -> dict[str, pd.DataFrame]:
        """Return all tables by name, the main one first."""
        return {self.measure: self.frame}

    def __repr__(self) -> str:
        return str(self.wide().to_string()) + "".join(f"\n{note}" for note in self.notes)

    def pieces(self) -> list[Piece]:
        """Return the table with a column for each group."""
        return [Piece("breakdown", self.wide().reset_index())]


def breakdown(
    orders: Read,
    rows: str,
    columns: str | None = None,
    *,
    measure: str = "spend",
    shares: str | None = None,
    most: int = MOST_NAMES,
) -> Breakdown:
    """Cross-tabulate the orders in the date range by one or two columns of the orders or the
    customers, or by parts of the order's date.

    ``rows`` and ``columns`` are a column, a column with edges of bands (``line_total:20,50``;
    left-closed), the age at the order (``age(birth_date):30,40,50``), or a part of its date:
    ``year(placed)``, ``quarter(placed)``, ``month(placed)``, ``week(placed)``,
    ``calendar-month(placed)`` (January to December), ``weekday(placed)`` or ``hour(placed)``.
    ``measure`` is ``orders`` (purchases), ``customers`` (with a purchase), ``spend``,
    ``average_order_value``, ``lines`` (rows of purchases), ``lines_per_order``, or ``sum(COLUMN)``
    of a column of numbers over the rows of purchases, such as ``sum(quantity)``, each number to
    four decimals. ``shares`` are of ``row``, ``column`` or ``total``; those of customers are
    shares of the distinct customers, and averages have none. An axis with more than ``most`` names
    shows the largest and combines the rest, unless its names have an order. For a column that
    differs within orders, spend and lines count by row, and an order or customer counts once in
    each cell with one of its rows.

    Raises UsageError for an unknown column, measure or share, or if such a column meets totals
    repeated on each row; DataError if no order counts.

    >>> import fairladder as fl
    >>> found = fl.breakdown(fl.sample_orders(), "channel", measure="orders")
    >>> found.frame[["row", "orders"]].values.tolist()
    [['post', 691], ['stall', 2355], ['web', 4189], ['total', 7235]]
    """
    total = summed(measure)
    if total is None and measure not in MEASURES:
        raise UsageError(f"There is no measure {measure!r}. {nearest(measure, MEASURES)}")
    if shares is not None and shares not in SHARES:
        raise UsageError(f"Shares are of {', '.join(SHARES)}, not of {shares!r}.")
    if shares and measure in AVERAGES:
        raise UsageError(
            "Averages have no shares: an average of a part is no part of the average. Take spend "
            "or orders."
        )
    starts = orders.scheme.time.year_starts or 1
    _require_times(orders, (rows, columns))
    axes = [
        replace(parsed_axis(text), year_starts=starts)
        for text in (rows, columns)
        if text is not None
    ]
    if total is not None:
        _require_numbers(orders, total)
    sums = [measure] if total is not None else []
    found, by_row = _relation(
        orders, list(dict.fromkeys([*(name for a in axes for name in a.columns), *sums]))
    )
    try:
        counted = _Counted(found, axes, orders, by_row, sums)
        long = counted.long_axes(measure, most)
        frames, bands = counted.frames(long), [counted.named(i) for i in range(len(axes))]
    finally:
        found.close()
    if not frames[-1]["orders"].sum():
        raise DataError(
            "No order counts, so there is nothing to break down. Run `fairladder check` to see why."
        )
    frame = _table(frames, bands, orders.scheme.money.decimals, sums)
    if shares:
        frame["share"] = _shares(frame, measure, shares)
    notes = [f"`{axes[i].title}` has {n:,} names; the {len(kept)} largest by {measure} are shown, the others are the rest."
             for i, (n, kept) in long.items()]  # fmt: skip
    for axis, bands_of in zip(axes, ("row", "column"), strict=False):
        names = set(frame[bands_of]) - {TOTAL}
        notes += [text for text in [all_unknown(axis.title, names)] if text]
        if axis.part == "hour" and names == {"00"}:
            notes.append(
                "Warning: every order is at 00 hours. The times were probably lost in the export."
            )
    if by_row:
        notes.append(
            "A column differs within orders: spend and lines are by row; an order counts once in "
            "each cell where it has a row."
        )
    notes += _of_sum(orders, total) if total is not None else []
    if measure == "customers":
        notes.append("Customers in several cells count once in totals, so cells need not add up.")
    return Breakdown(frame, axes[0], axes[1] if columns else None, measure, shares, tuple(notes))


def is_net(orders: Read, measure: str) -> bool:
    """Return True if a sum subtracts returns: for quantities, if refunds lower the spend."""
    name = summed(measure)
    return (
        name is not None
        and column_of(orders.rows, name) == orders.rows.roles.get("quantity")
        and not ignores_refunds(orders.scheme)
    )


def _of_sum(orders: Read, name: str) -> list[str]:
    """Return notes on what a sum of a column covers, and in which unit."""
    rows = orders.rows
    own = column_of(rows, name)
    if is_net(orders, f"sum({name})"):
        notes = [
            f"`{name}` is net: units of rows with a negative amount are subtracted, as refunds "
            "lower the spend."
        ]
    else:
        notes = [f"`{name}` is summed over purchases; refunds are not subtracted."]
    known = is_amount(rows, name) or own in rows.money_columns or own == rows.roles.get("quantity")
    if rows.rates is not None and not known:
        notes.insert(
            0,
            f"Warning: `{name}` is summed as it is written, whatever the row's currency. If it is "
            "money, name it in `columns` "
            "under [money].",
        )
    return notes


def _require_times(orders: Read, texts: Sequence[str | None]) -> None:
    if orders.rows.kind("placed") == "date" and any(
        text and parsed_axis(text).part == "hour" for text in texts
    ):
        placed = orders.roles["placed"]
        raise UsageError(
            f"`{placed}` contains dates without times, so there are no hours. Try weekday(placed)."
        )


def _require_numbers(orders: Read, name: str) -> None:
    """Raise UsageError for a column that cannot be summed."""
    rows = orders.rows
    own = {rows.roles.get(role) for role in NUMBER_ROLES} | set(rows.scheme.money.columns)
    if name not in orders.columns:
        raise UsageError(
            f"There is no column `{name}` among the orders to sum. {nearest(name, orders.columns)}"
        )
    if is_amount(rows, name):
        if orders.scheme.orders.amount_is == "order":
            raise UsageError(
                f"Each row repeats its order's total in `{name}`, so its cells do not add up. "
                "Take the measure spend."
            )
        return
    name = column_of(rows, name)
    kind = rows.source.columns.get(name)
    if name in own or kind in ("whole", "decimal", "float", "single"):
        return
    if kind != "text" or detect_kinds(rows.source, [name]).get(name) != "number":
        raise UsageError(
            f"`{name}` contains cells that are not plain numbers, so it cannot be summed. "
            "Remove units and symbols."
        )


def _relation(orders: Read, names: list[str]) -> tuple[Purchases, bool]:
    """Return orders with the axes' cells; rows instead of orders if a column differs within
    orders.
    """
    bought = purchases(orders, names, sequence=False, keep=True)
    of_orders = [n for n in names if n in orders.rows.condition_cells()]
    if not of_orders or not orders.rows.has_orders:
        return bought, False
    counted = [
        sql("COUNT(CASE WHEN :c = :m THEN 1 END)", c=column(group_name(n)), m=MIXED)
        for n in of_orders
    ]
    # Not under the columns' own names, which may clash with ours.
    tests = [named(tree, f"mixed {i}") for i, tree in enumerate(counted)]
    counts = bought.engine.table(select(tests, bought.relation)).to_pylist()[0]
    differing = [n for n, count in zip(of_orders, counts.values(), strict=True) if count]
    if not differing:
        return bought, False
    bought.close()
    if orders.scheme.orders.amount_is == "order":
        raise UsageError(
            f'`{differing[0]}` differs within orders, and with `amount_is = "order"` an order\'s '
            "total belongs to no row of it. "
            "Break down by a column of the whole order."
        )
    return purchase_rows(orders, names), True


@dataclass
class _Counted:
    """Counts cells, totals of each axis, and the overall total, each from the rows."""

    found: Purchases
    axes: Sequence[Axis]
    orders: Read
    by_row: bool
    sums: Sequence[str] = ()
    """Measures that are sums of a column."""
    made: dict[tuple[int, ...], pd.DataFrame] = field(default_factory=dict)
    """Tables computed so far, by their axes followed by those with shortened lists of names (as
    negative numbers less one).
    """

    def named(self, i: int) -> list[str]:
        """Return the names of an axis' bands."""
        return self.axes[i].named(self._whole(i))

    def _whole(self, i: int) -> bool:
        """Return True if a banded column contains only whole numbers."""
        axis = self.axes[i]
        if not axis.edges or axis.age:
            return True
        number = sql("TRY_CAST(:c AS DOUBLE)", c=column(group_name(axis.column)))
        odd = named(sql("MAX(CASE WHEN :n <> ROUND(:n) THEN 1 ELSE 0 END)", n=number), "odd")
        counts = self.found.engine.table(select([odd], self.found.relation)).to_pylist()[0]
        return not counts["odd"] and all(e.denominator == 1 for e in axis.edges)

    def long_axes(self, measure: str, most: int) -> dict[int, tuple[int, list[str]]]:
        """Return for each axis with more than ``most`` names their number and the largest of
        them.
        """
        long = {}
        for i, axis in enumerate(self.axes):
            if not axis.ordered:
                totals = self._frame([i], {})
                if len(totals) > most:
                    above, below = AVERAGES.get(measure, (measure, None))
                    worth = totals[above] / totals[below].clip(lower=1) if below else totals[above]
                    best = totals.assign(worth=worth).sort_values(
                        ["worth", f"axis{i}"], ascending=[False, True]
                    )
                    long[i] = (len(totals), best[f"axis{i}"].astype(str).head(most - 1).tolist())
        return long

    def frames(self, long: dict[int, tuple[int, list[str]]]) -> list[pd.DataFrame]:
        """Return cells, row totals, column totals and the overall total; without columns only the
        first and the last.
        """
        sets = [[0, 1], [0], [1], []] if len(self.axes) > 1 else [[0], []]
        return [self._frame(axis_set, long) for axis_set in sets]

    def _frame(self, axis_set: list[int], long: dict[int, tuple[int, list[str]]]) -> pd.DataFrame:
        wanted_axes = (*axis_set, *(-1 - i for i in long if i in axis_set))
        if wanted_axes not in self.made:
            self.made[wanted_axes] = self._counted(axis_set, long)
        return self.made[wanted_axes]

    def _counted(self, axis_set: list[int], long: dict[int, tuple[int, list[str]]]) -> pd.DataFrame:
        whole = "whole" if self.by_row else "amount"
        one_each = f"COUNT(DISTINCT CASE WHEN {whole} > 0 THEN order_key END)"
        measures = {
            "orders": one_each if self.by_row else "COUNT(CASE WHEN amount > 0 THEN 1 END)",
            "customers": f"COUNT(DISTINCT CASE WHEN {whole} > 0 THEN customer END)",
            "spend": f"COALESCE(SUM({counted(self.orders.scheme, whole)}), 0)",
            "lines": f"COALESCE(SUM(CASE WHEN {whole} > 0 THEN lines END), 0)",
        }
        trees = {n: sql(m) for n, m in measures.items()}
        for name in self.sums:
            which = "<> 0" if is_net(self.orders, name) else "> 0"
            trees[name] = sql(
                f"CAST(COALESCE(SUM(CASE WHEN {whole} {which} THEN :c END), 0) AS BIGINT)",
                c=column(group_name(name)),
            )
        cells = [
            named(column(group_name(self.axes[i].column)), f"in {self.axes[i].column}")
            for i in axis_set
            if self.axes[i].columns
        ]
        base = select(["*", *{c.alias: c for c in cells}.values()], self.found.relation)
        since = self.orders.scheme.time.from_
        if since is not None:
            base = base.where(sql("placed_on >= :d", d=day_literal(since)), copy=False)
        keys = [named(self._key(i, long), f"axis{i}") for i in axis_set]
        query = select([*keys, *(named(tree, n) for n, tree in trees.items())], base, "orders")
        if keys:
            query = query.group_by(*(sql(str(k + 1)) for k in range(len(keys))), copy=False)
        return self.found.frame(query)

    def _key(self, i: int, long: dict[int, tuple[int, list[str]]]) -> exp.Expr:
        tree = self.axes[i].tree(self._whole(i))
        if i not in long:
            return tree
        kept = exp.In(this=tree, expressions=[exp.Literal.string(n) for n in long[i][1]])
        return case([(kept, tree)], exp.Literal.string(REST))


def _table(
    frames: Sequence[pd.DataFrame], bands: Sequence[list[str]], decimals: int, sums: Sequence[str]
) -> pd.DataFrame:
    """Return all cells and totals in long form, in natural order."""
    two = len(bands) > 1
    numbers, pieces = ["orders", "customers", "spend", "lines", *sums], []
    for frame, held in zip(frames, ([0, 1], [0], [1], []) if two else ([0], []), strict=True):
        texts = [
            frame[f"axis{i}"].astype(str) if i in held else pd.Series(TOTAL, index=frame.index)
            for i in (0, 1)
        ]
        pieces.append(
            frame[numbers].fillna(0).astype(np.int64).assign(row=texts[0], column=texts[1])
        )
    table = pd.concat(pieces, ignore_index=True)
    names = {}
    for axis, of in (("row", bands[0]), ("column", bands[1] if two else [])):
        seen = [n for n in dict.fromkeys(table[axis]) if n not in (TOTAL, REST)]
        rest = [REST] if (table[axis] == REST).any() else []
        names[axis] = [*in_natural_order(seen, of), *rest, TOTAL]
    grid = pd.MultiIndex.from_product(list(names.values()), names=list(names))
    whole = table.set_index(["row", "column"]).reindex(grid).reset_index()
    whole[numbers] = whole[numbers].fillna(0).astype(np.int64)
    whole["average_order_value"] = ratio(
        whole["spend"].to_numpy(), whole["orders"].to_numpy() * 10**decimals
    )
    whole["lines_per_order"] = ratio(whole["lines"].to_numpy(), whole["orders"].to_numpy())
    whole["spend"] = ratio(whole["spend"].to_numpy(), 10**decimals)
    whole["is_total"] = (whole["row"] == TOTAL) | ((whole["column"] == TOTAL) if two else False)
    for name in sums:
        exact = ratio(whole[name].to_numpy(), PARTS_OF_ONE)
        whole[name] = exact.astype(np.int64) if (exact == np.floor(exact)).all() else exact
    return whole[["row", "column", "is_total", *MEASURES, *sums]]


def _shares(
    frame: pd.DataFrame, measure: Measure | str, shares: Shares | str
) -> "pd.Series[float]":
    """Return each cell divided by the total of its row, its column or the table."""
    keyed = frame.set_index(["row", "column"])[measure]
    base = {
        "row": [(r, TOTAL) for r in frame["row"]], "column": [(TOTAL, c) for c in frame["column"]],
        "total": [(TOTAL, TOTAL)] * len(frame),
    }[shares]  # fmt: skip
    below = keyed.loc[base].to_numpy(dtype=np.float64)
    return pd.Series(
        np.where(
            below != 0,
            frame[measure].to_numpy(dtype=np.float64) / np.where(below == 0, 1, below),
            np.nan,
        )
    )

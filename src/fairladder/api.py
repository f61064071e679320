"""The public door: orders are opened and read, and each question about them is a method of
what comes of it.
"""

import datetime as dt
import warnings
import weakref
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from sqlglot import exp

from fairladder.book.kept_orders import OrderTable
from fairladder.book.opened import open_unread
from fairladder.book.read import Keep, Read, read
from fairladder.demo import sample_shop
from fairladder.errors import FairLadderWarning
from fairladder.findings import sentences
from fairladder.scheme import Scheme, load_scheme, scheme_from
from fairladder.sqltree import column, select

if TYPE_CHECKING:
    import pandas as pd

    from fairladder.history.breakdown import Breakdown
    from fairladder.history.cohorts import Cohorts
    from fairladder.review.check import Check
    from fairladder.review.comparison import Comparison, Yardstick
    from fairladder.review.explanation import Explanation
    from fairladder.review.stability import Stability
    from fairladder.steps import Progress
    from fairladder.value.backtest import Backtest
    from fairladder.value.forecast import Forecast
    from fairladder.value.formula import FormulaValue


class Orders(Read):
    """Orders that have been read, with a method for each question; made by ``open_orders`` and
    never changed.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> orders.balance.rows_read, orders.as_of.isoformat()
    (17756, '2026-06-30')
    """

    def customers(self, as_of: str | dt.date | None = None) -> "pd.DataFrame":
        """One row per customer, sorted by id: the table of section 2 of the definitions.

        Days are ``datetime64[s]``, counts whole numbers, amounts floats in major units; recency
        and tenure are null without a purchase. Customers of the customers file without orders are
        in it, with its other columns. ``as_of`` (a day or its ISO text) overrides the scheme's;
        rows after it are outside the window.

        On a Spark cluster customers stay there: this, ``score`` and ``top`` then give a DataFrame
        of Spark with the same columns and values, in no order but that of ``top``.

        Raises DataError where too many rows are set aside, currencies mix, or an id repeats in the
        customers file.
        """
        read_for = self if as_of is None else self.on(as_of)
        read_for._warn_of_findings()
        read_for.require_fit()
        return read_for._frame(select(["*"], read_for.customers_there), column("customer"))

    def _frame(self, query: exp.Select, *order: exp.Expr) -> "pd.DataFrame":
        """The rows of a query as the DataFrame that the engine of customers gives."""
        frame: pd.DataFrame = self.customer_engine.frame(query, order, self.frame_of)
        return frame

    def check(self) -> "Check":
        """Balance, findings and set-aside rows; also where the orders are not fit to use.

        >>> import fairladder as fl
        >>> fl.sample_orders().check().errors
        ()
        """
        from fairladder.review.check import check

        return check(self)

    def score(self) -> "pd.DataFrame":
        """The customers with scores, tiers, segment and stance, by the scheme of these orders; see
        ``fairladder.score``.

        Columns of the forecast are there where the scheme's rules speak of them. Raises as
        ``customers`` and ``score`` do.
        """
        self._warn_of_findings()
        from fairladder.value.to_score import scored

        people = scored(self)
        frame = self._frame(select(["*"], people.relation), column("customer"))
        weakref.finalize(
            frame, _nothing, people
        )  # what is kept lasts as long as a DataFrame that reads it
        return frame

    def segment_summary(self) -> "pd.DataFrame":
        """A row per segment of the scored customers; see ``fairladder.segment_summary``."""
        self._warn_of_findings()
        from fairladder.scores.summary import segment_summary
        from fairladder.value.to_score import scored

        return segment_summary(scored(self))

    def top(
        self,
        by: str = "spend",
        *,
        count: int | None = None,
        percent: float | None = None,
        worst: bool = False,
        within: str | None = None,
        everybody: bool = False,
        ties: str = "include",
    ) -> "pd.DataFrame":
        """The best or worst customers by any measure, everyone tied with the last of them
        included; see ``fairladder.top``.

        >>> import fairladder as fl
        >>> orders = fl.sample_orders()
        >>> orders.top("orders", count=3)[["rank", "orders"]].values.tolist()
        [[1, 77], [2, 68], [3, 60]]
        """
        self._warn_of_findings()
        from fairladder.scores.top import top_list
        from fairladder.value.to_score import people_to_score

        people = self.customer_engine.keep(people_to_score(self, by))
        listed = top_list(
            self,
            people,
            by,
            count=count,
            percent=percent,
            worst=worst,
            within=within,
            everybody=everybody,
            ties=ties,
        )
        return self._frame(listed.query())

    def growth(self, *, period: str = "month", by: str | None = None) -> "pd.DataFrame":
        """A row per period: orders, customers, first and repeat revenue; see
        ``fairladder.growth``.
        """
        self._warn_of_findings()
        from fairladder.history.growth import growth

        return growth(self, period=period, by=by)

    def cohorts(self, *, period: str = "month", by: str | None = None) -> "Cohorts":
        """How customers of each first period come back; see ``fairladder.cohorts``."""
        self._warn_of_findings()
        from fairladder.history.cohorts import cohorts

        return cohorts(self, period=period, by=by)

    def order_counts(self) -> "pd.DataFrame":
        """How many customers reach how many orders; see ``fairladder.order_counts``."""
        self._warn_of_findings()
        from fairladder.history.counts import order_counts

        return order_counts(self)

    def order_ledger(self, *, customers: Collection[str] | None = None) -> "pd.DataFrame":
        """One row per order; see ``fairladder.order_ledger``."""
        from fairladder.history.ledger import order_ledger

        return order_ledger(self, customers=customers)

    def order_lines(self) -> "pd.DataFrame":
        """One row per row of an order, with shares; see ``fairladder.order_lines``."""
        from fairladder.history.ledger import order_lines

        return order_lines(self)

    def breakdown(
        self,
        rows: str,
        columns: str | None = None,
        *,
        measure: str = "spend",
        shares: str | None = None,
        most: int = 20,
    ) -> "Breakdown":
        """Two columns or bands against each other; see ``fairladder.breakdown``."""
        self._warn_of_findings()
        from fairladder.history.breakdown import breakdown

        return breakdown(self, rows, columns, measure=measure, shares=shares, most=most)

    def value_formula(
        self,
        *,
        period: str = "month",
        by: str | None = None,
        margin: float | None = None,
        retention: float | None = None,
    ) -> "FormulaValue":
        """Lifetime value by the formula; see ``fairladder.value_formula``."""
        self._warn_of_findings()
        from fairladder.value.formula import value_formula

        return value_formula(self, period=period, by=by, margin=margin, retention=retention)

    def value_forecast(
        self,
        *,
        horizon: int | None = None,
        margin: float | None = None,
        discount_rate: float | None = None,
        method: str | None = None,
        split: str | dt.date | None = None,
        progress: "Progress | None" = None,
    ) -> "Forecast":
        """What customers are expected to bring; see ``fairladder.value_forecast``."""
        self._warn_of_findings()
        from fairladder.value.forecast import value_forecast

        return value_forecast(
            self,
            horizon=horizon,
            margin=margin,
            discount_rate=discount_rate,
            method=method,
            split=split,
            progress=progress,
        )

    def backtest(self, split: str | dt.date | None = None) -> "Backtest":
        """How forecasts made earlier would have done; see ``fairladder.backtest``."""
        from fairladder.value.backtest import backtest

        return backtest(self, split)

    def compare(
        self,
        then: str | dt.date,
        now: str | dt.date | None = None,
        *,
        yardstick: "Yardstick" = "then",
    ) -> "Comparison":
        """Who moved between two days; see ``fairladder.compare``."""
        self._warn_of_findings()
        from fairladder.review.comparison import compare

        return compare(self, then, now, yardstick=yardstick)

    def explain(self, ids: Sequence[str]) -> "list[Explanation]":
        """Why these customers are in their segments; see ``fairladder.explain``."""
        from fairladder.review.explanation import explain

        return explain(self, ids)

    def stability(self) -> "Stability":
        """How many customers other choices would place in another segment; see
        ``fairladder.stability``.
        """
        from fairladder.review.stability import stability

        return stability(self)

    def _warn_of_findings(self) -> None:
        """Give each error and warning among the findings as a Python warning, for the caller
        of the method that was called.
        """
        for sentence in (
            sentences(self.findings)
            if not self.balance.mostly_unusable or self.opened.allow_set_aside
            else ()
        ):
            warnings.warn(sentence, FairLadderWarning, stacklevel=3)

    def sql(self) -> str:
        """The SQL of the reduction, ready to run in the engine that runs it."""
        from fairladder.book.shown_sql import reduction_sql

        return reduction_sql(self.opened)


def _nothing(_: object) -> None:
    """Nothing; called when a DataFrame is gone, so that until then its customers are not."""


def sample_orders() -> Orders:
    """The orders of the sample shop, an invented yarn studio, with its scheme and its customers:
    something to try things on.

    >>> import fairladder as fl
    >>> fl.sample_orders().as_of.isoformat()
    '2026-06-30'
    """
    return open_orders(sample_shop("orders.csv"), scheme=sample_shop("scheme.toml"))


def open_orders(
    orders: object,
    *,
    customers: object = None,
    scheme: str | Path | Scheme | Mapping[str, Any] | None = None,
    allow_set_aside: bool = False,
    allow: Sequence[str] = (),
    keep: Literal["rows", "orders"] | Sequence[str] | None = None,
) -> Orders:
    """Open a table of orders and read it, once.

    Parameters
    ----------
    orders
        A path, a pattern of paths, a list of paths, the URL of a database, or a frame of pandas,
        Polars, Arrow, DuckDB; a row per order line or per order.
    customers
        Path or DataFrame with one row per customer, joined by id; wins over the scheme's
        ``[customers] file``.
    scheme
        Path of a TOML file, a ``Scheme``, or nested settings as in the file. Without one, columns
        named like their roles are taken and all defaults hold.
    allow_set_aside
        Go on although more than 20 % of the rows cannot be used; ``set-aside`` among ``allow`` is
        the same.
    allow
        Codes of findings that are errors (``repeated-total``, ``discount-unit``,
        ``unmatched-customers``) and right in this file.
    keep
        What is kept in the engine beside the customers, so that large files need not be read again
        for it: ``rows`` for ``check``; ``orders`` for growth, cohorts and the like, or the names
        of columns that these shall be grouped by. Answers do not depend on it.

    Raises
    ------
    UsageError, SchemeError, ConditionError
        A path, key, column or condition is wrong.
    DataError
        The file holds nothing readable, or its dates or numbers can be read in two ways.

    >>> import fairladder as fl
    >>> orders = fl.open_orders(fl.sample_shop("orders.csv"), scheme=fl.sample_shop("scheme.toml"))
    >>> len(orders.customers())
    1199
    """
    if scheme is None:
        settled = Scheme()
    elif isinstance(scheme, Scheme):
        settled = scheme
    elif isinstance(scheme, Mapping):
        settled = scheme_from(scheme, "the scheme")
    else:
        settled = load_scheme(scheme)
    if allow:
        settled = settled.with_options(orders={"allow": [*settled.orders.allow, *allow]})
    return read(
        open_unread(orders, customers, settled, allow_set_aside=allow_set_aside),
        _kept(keep),
        kind=Orders,
    )


def _kept(keep: Literal["rows", "orders"] | Sequence[str] | None) -> Keep:
    if keep is None or keep == "rows":
        return None if keep is None else "rows"
    return OrderTable() if keep == "orders" else OrderTable(tuple(keep))

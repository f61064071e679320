"""The public interface: open orders, then call a method of ``Orders`` for each question."""

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

    from fairladder.campaigns.listing import CampaignList
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
    """Orders that have been read, with one method per question. Create them with ``open_orders``;
    they never change.

    >>> import fairladder as fl
    >>> orders = fl.sample_orders()
    >>> orders.balance.rows_read, orders.as_of.isoformat()
    (17756, '2026-06-30')
    """

    def customers(self, as_of: str | dt.date | None = None) -> "pd.DataFrame":
        """Return one row per customer, sorted by id: the table in section 2 of the definitions.

        Days are ``datetime64[s]``, counts whole numbers and amounts floats in major units. Recency
        and tenure are null for customers without a purchase. Customers in the customers file who
        have no orders are included, and so are that file's other columns. ``as_of`` (a date or its
        ISO text) overrides the scheme's; later rows are outside the date range.

        On a Spark cluster customers stay on the cluster: this method, ``score`` and ``top`` return
        a Spark DataFrame with the same columns and values. Only ``top`` sorts its rows there.

        Raises DataError if too many rows are set aside, currencies are mixed, or an id repeats in
        the customers file.
        """
        read_for = self if as_of is None else self.on(as_of)
        read_for._warn_of_findings()
        read_for.require_fit()
        return read_for._frame(select(["*"], read_for.customers_there), column("customer"))

    def _frame(self, query: exp.Select, *order: exp.Expr) -> "pd.DataFrame":
        """Return the rows of a query as the DataFrame type of the customers' engine."""
        frame: pd.DataFrame = self.customer_engine.frame(query, order, self.frame_of)
        return frame

    def check(self) -> "Check":
        """Return the balance of rows, the findings and the rows set aside, even if the orders are
        not fit for use.

        >>> import fairladder as fl
        >>> fl.sample_orders().check().errors
        ()
        """
        from fairladder.review.check import check

        return check(self)

    def score(self) -> "pd.DataFrame":
        """Return the customers with scores, tiers, segment and stance, following the scheme of
        these orders; see ``fairladder.score``.

        Forecast columns are included if the scheme's rules use them. Raises as ``customers`` and
        ``score`` do.
        """
        self._warn_of_findings()
        from fairladder.value.to_score import scored

        people = scored(self)
        frame = self._frame(select(["*"], people.relation), column("customer"))
        weakref.finalize(
            frame, _nothing, people
        )  # keep the customers until every DataFrame that reads them is gone
        return frame

    def segment_summary(self) -> "pd.DataFrame":
        """Return one row per segment of the scored customers; see
        ``fairladder.segment_summary``.
        """
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
        all_customers: bool = False,
        ties: str = "include",
    ) -> "pd.DataFrame":
        """Return the best or worst customers by any measure, including all who tie with the last
        one; see ``fairladder.top``.

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
            all_customers=all_customers,
            ties=ties,
        )
        return self._frame(listed.query())

    def growth(self, *, period: str = "month", by: str | None = None) -> "pd.DataFrame":
        """Return one row per period with orders, customers, first and repeat revenue; see
        ``fairladder.growth``.
        """
        self._warn_of_findings()
        from fairladder.history.growth import growth

        return growth(self, period=period, by=by)

    def cohorts(self, *, period: str = "month", by: str | None = None) -> "Cohorts":
        """Return how many customers of each starting period come back; see
        ``fairladder.cohorts``.
        """
        self._warn_of_findings()
        from fairladder.history.cohorts import cohorts

        return cohorts(self, period=period, by=by)

    def order_counts(self) -> "pd.DataFrame":
        """Return how many customers reach each number of orders; see
        ``fairladder.order_counts``.
        """
        self._warn_of_findings()
        from fairladder.history.counts import order_counts

        return order_counts(self)

    def order_ledger(self, *, customers: Collection[str] | None = None) -> "pd.DataFrame":
        """Return one row per order; see ``fairladder.order_ledger``."""
        from fairladder.history.ledger import order_ledger

        return order_ledger(self, customers=customers)

    def order_lines(self) -> "pd.DataFrame":
        """Return one row per order line, with shares; see ``fairladder.order_lines``."""
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
        """Cross-tabulate two columns or bands; see ``fairladder.breakdown``."""
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
        """Return lifetime value by the formula; see ``fairladder.value_formula``."""
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
        """Forecast the value of each customer; see ``fairladder.value_forecast``."""
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
        """Test the forecast on the shop's own past; see ``fairladder.backtest``."""
        from fairladder.value.backtest import backtest

        return backtest(self, split)

    def compare(
        self,
        then: str | dt.date,
        now: str | dt.date | None = None,
        *,
        yardstick: "Yardstick" = "then",
    ) -> "Comparison":
        """Return who moved between two days; see ``fairladder.compare``."""
        self._warn_of_findings()
        from fairladder.review.comparison import compare

        return compare(self, then, now, yardstick=yardstick)

    def explain(self, ids: Sequence[str]) -> "list[Explanation]":
        """Return why these customers are in their segments; see ``fairladder.explain``."""
        from fairladder.review.explanation import explain

        return explain(self, ids)

    def campaign(self, name: str | None = None, **settings: Any) -> "CampaignList":
        """Return the list of one campaign; see ``fairladder.campaign`` for the settings.

        >>> import fairladder as fl
        >>> made = fl.sample_orders().campaign(when="stance = 'win-back'", limit=50, holdout=20)
        >>> (len(made.contacts), len(made.holdout))
        (42, 8)
        """
        self._warn_of_findings()
        from fairladder.campaigns.listing import campaign

        return campaign(self, name, **settings)

    def report(self, path: str | Path, **options: Any) -> None:
        """Write the report as a page (``.html``) or a workbook (``.xlsx``), by the path's suffix;
        see ``fairladder.report.write_html`` for the options.
        """
        from fairladder.report.write import write_html, write_workbook

        write = write_workbook if Path(path).suffix.lower() == ".xlsx" else write_html
        write(self, path, **options)

    def stability(self) -> "Stability":
        """Return how many customers would change segment under other reasonable settings; see
        ``fairladder.stability``.
        """
        from fairladder.review.stability import stability

        return stability(self)

    def __dir__(self) -> list[str]:
        """Return the questions, so that tab completion in a notebook shows them and not the
        internals.
        """
        return sorted({*_FACTS, *(n for n in vars(Orders) if not n.startswith("_"))})

    def _warn_of_findings(self) -> None:
        """Issue each error and warning among the findings as a Python warning at the caller's
        line.
        """
        for sentence in (
            sentences(self.findings)
            if not self.balance.mostly_unusable or self.opened.allow_set_aside
            else ()
        ):
            warnings.warn(sentence, FairLadderWarning, stacklevel=3)

    def sql(self) -> str:
        """Return the SQL of the reduction, ready to run in the engine that runs it."""
        from fairladder.book.shown_sql import reduction_sql

        return reduction_sql(self.opened)


#: Attributes of orders, besides the questions, that users need.
_FACTS = ("as_of", "balance", "facts", "findings", "notes", "scheme", "set_aside", "states")


def _nothing(_: object) -> None:
    """Do nothing. Registered as a finalizer so that a DataFrame keeps its customers alive."""


def sample_orders() -> Orders:
    """Return the orders of the sample shop, an invented yarn studio, with its scheme and customers
    file.

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
        Polars, Arrow or DuckDB; one row per order line or per order.
    customers
        Path or DataFrame with one row per customer, joined by id; overrides the scheme's
        ``[customers] file``.
    scheme
        Path of a TOML file, a ``Scheme``, or nested settings as in the file. Without one, columns
        named like their roles are used, with default settings.
    allow_set_aside
        Continue even if more than 20 % of the rows cannot be used; the same as ``set-aside`` in
        ``allow``.
    allow
        Codes of errors (``repeated-total``, ``discount-unit``, ``unmatched-customers``) that are
        correct in this file.
    keep
        Data to keep in the engine for later questions, so that large files are not read again:
        ``rows`` for ``check``; ``orders`` for growth, cohorts and the like, or the names of
        columns by which these will be grouped. Answers do not depend on it.

    Raises
    ------
    UsageError, SchemeError, ConditionError
        A path, key, column or condition is wrong.
    DataError
        The file has nothing readable, or its dates or numbers can be read in two ways.

    >>> import fairladder as fl
    >>> orders = fl.open_orders(fl.sample_shop("orders.csv"), scheme=fl.sample_shop("scheme.toml"))
    >>> len(orders.customers())
    1199
    """
    if scheme is None:
        chosen_scheme = Scheme()
    elif isinstance(scheme, Scheme):
        chosen_scheme = scheme
    elif isinstance(scheme, Mapping):
        chosen_scheme = scheme_from(scheme, "the scheme")
    else:
        chosen_scheme = load_scheme(scheme)
    if allow:
        chosen_scheme = chosen_scheme.with_options(
            orders={"allow": [*chosen_scheme.orders.allow, *allow]}
        )
    return read(
        open_unread(orders, customers, chosen_scheme, allow_set_aside=allow_set_aside),
        _kept(keep),
        kind=Orders,
    )


def _kept(keep: Literal["rows", "orders"] | Sequence[str] | None) -> Keep:
    if keep is None or keep == "rows":
        return None if keep is None else "rows"
    return OrderTable() if keep == "orders" else OrderTable(tuple(keep))

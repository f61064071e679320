"""Read opened orders. The result never changes, and all questions are answered from it."""

import datetime as dt
import re
import shlex
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Self, TypeVar

import pyarrow as pa
from sqlglot import exp

from fairladder.book.account import Account, account_of
from fairladder.book.balance import MOST_SET_ASIDE_PERCENT, Balance, major
from fairladder.book.carried import FIRST, LATEST, carried, check_carried
from fairladder.book.customers import customers_query, whole_numbers
from fairladder.book.kept_files import KeptPass, read_kept
from fairladder.book.kept_groups import KeptGroups
from fairladder.book.kept_orders import KeptOrders, OrderTable, can_keep, keep_orders
from fairladder.book.lines import KeptLines
from fairladder.book.look import MOST_STATUSES, Looked, look, of_pass
from fairladder.book.measures import NAMES
from fairladder.book.members import Members, open_members
from fairladder.book.opened import Opened
from fairladder.book.order_rows import order_rows
from fairladder.book.order_states import states_of
from fairladder.book.passes import read_through
from fairladder.book.set_aside import set_aside_rows, shown_name
from fairladder.columns import CARRIED, SCORES, names
from fairladder.days import as_day, today
from fairladder.engine.protocol import CustomerEngine, Engine
from fairladder.errors import DataError, SchemeError
from fairladder.findings import LEVELS, Finding, allowed, finding, sentences
from fairladder.frames import customers_frame
from fairladder.orders import cells
from fairladder.orders.formats import written_dates
from fairladder.orders.rows import Rows
from fairladder.scheme import Scheme
from fairladder.sqltree import cell_column, column, named, select, sql

if TYPE_CHECKING:
    import pandas as pd

#: Most frequent reason for set-aside rows → advice.
_WHAT_HELPS = {
    "no-customer": "Name the column of customer ids with --customer-column. ",
    "no-order": "Name the column of order ids with --order-column. ",
    "no-date": "Name the column of dates with --placed-column. ",
    "bad-date": "Set the date format with --date-format, or name another column with --placed-column. ",
    "no-amount": "Name the column of amounts with --amount-column. ",
    "bad-amount": "Set the decimal mark with --decimal-mark, or name another column with --amount-column. ",
    "other-currency": "Choose the currency with `currency` under [money]. ",
}
#: Number of other as-of dates whose results are cached.
MOST_DAYS_KEPT = 4
#: Number of order ids that are compared with the columns of a customers file to find its id column.
MOST_IDS = 20_000
#: What reading keeps in the engine besides the customers: every row (for ``check``), or every order
#: (for questions about orders).
Keep = Literal["rows"] | OrderTable | None


@dataclass(frozen=True)
class Read:
    """Orders that have been read in one pass. The data is never changed, and neither is this
    object.
    """

    opened: Opened
    """The input of ``read``, with the final formats of its rows."""
    account: Account
    """The balance of all rows, and other results of the pass."""
    kept_groups: KeptGroups | None = field(repr=False)
    """The groups of the reduction, if the pass computed them."""
    kept_rows: KeptLines | None = field(default=None, repr=False)
    kept_orders: KeptOrders | None = field(default=None, repr=False)
    kept_note: str = field(default="", repr=False)
    """A note on which files were read and which were kept, if a folder keeps them."""
    _days: "dict[dt.date, Self]" = field(default_factory=dict, repr=False, compare=False)
    """A cache of orders as of other days, used by ``on``; it does not affect answers."""

    def __repr__(self) -> str:
        roles = ", ".join(f"{r}={c!r}" for r, c in self.opened.roles.columns.items())
        return f"{type(self).__name__}({self.opened.source.label!r}, {roles})"

    @property
    def scheme(self) -> Scheme:
        """All settings."""
        return self.opened.scheme

    @property
    def rows(self) -> Rows:
        """The rows as trees, from which queries are built."""
        return self.opened.rows

    @property
    def engine(self) -> Engine:
        """The engine that runs queries on the rows."""
        return self.opened.engine

    @property
    def customer_engine(self) -> CustomerEngine:
        """The engine that holds the customers."""
        return self.opened.engine.customer_engine

    @property
    def roles(self) -> dict[str, str]:
        """Role → column of the orders."""
        return dict(self.opened.roles.columns)

    @property
    def columns(self) -> list[str]:
        """Names of all columns that conditions on rows and groups can use."""
        return self.opened.columns

    @property
    def input_files(self) -> list[Path]:
        """Return the files from which orders and related tables are read; no output may replace
        them.
        """
        return self.opened.input_files

    @property
    def balance(self) -> Balance:
        """The counts of rows by state."""
        return self.account.balance

    @cached_property
    def as_of(self) -> dt.date | None:
        """The as-of date; None if no row is used and no date is set.

        Raises DataError if the date would be the orders' latest and that is in the future.
        """
        time, now = self.scheme.time, today(self.scheme.time.time_zone)
        day = time.as_of or time.through or self.account.latest
        if time.as_of is None and day is not None and day > now:
            if 500 < day.year - now.year < 560:
                raise DataError(
                    f"The {self.as_of_from} is {day}: years seem to be in the Buddhist "
                    "calendar, 543 ahead. Export the dates in years of the common era "
                    f"({day.year - 543} for {day.year})."
                )
            raise DataError(
                f"The {self.as_of_from} is {day}, which is after today ({now}). Set the "
                "as-of date with --as-of or `as_of` under [time]; later rows then do not "
                "count."
            )
        return day

    @property
    def as_of_from(self) -> str:
        """The source of the as-of date, in words."""
        time = self.scheme.time
        return (
            "set by as_of"
            if time.as_of
            else "end of the date range"
            if time.through
            else "latest day in the orders"
        )

    @cached_property
    def members(self) -> Members | None:
        """The customers file, or None."""
        if self.opened.customers_file is None:
            return None
        file_cache = self.opened.file_cache
        if "members" not in file_cache:
            file_cache["members"] = open_members(
                self.opened.customers_file,
                self.scheme.customers,
                self.opened.roles.columns["customer"],
                {*NAMES, *names(SCORES)},
                self.engine,
                lambda: written_dates(self.rows),
                self._some_ids,
            )
        members: Members = file_cache["members"]
        return members

    def _some_ids(self) -> set[str]:
        """Return customer ids of the orders as they are read, at most ``MOST_IDS``."""
        name = self.opened.roles.columns["customer"]
        cell = sql(
            "CAST(:c AS VARCHAR)", c=cells.text(cell_column(name), self.opened.source.columns[name])
        )
        ids = (
            select([named(cell, "id")], self.opened.source.relation)
            .distinct(copy=False)
            .limit(MOST_IDS, copy=False)
        )
        return {text for text in self.run(ids)["id"].to_pylist() if text is not None}

    @cached_property
    def reading_findings(self) -> tuple[Finding, ...]:
        """Notes on how the rows were read: first what changes the figures, then the file's
        format.
        """
        opened, time = self.opened, self.scheme.time
        found: list[Finding] = []
        if opened.roles.guessed:
            text = ", ".join(
                f"{role} `{opened.roles.columns[role]}`" for role in opened.roles.guessed
            )
            found.append(finding("guessed-columns", len(opened.roles.guessed), list=text))
        if self.scheme.orders.amount is None:  # a user who named the amount has chosen
            found += discounts_ignored(opened)
        if self.rows.discount_by_name:
            found.append(finding("discount-in-percent", 1, column=opened.roles.columns["discount"]))
        if self.rows.in_minor_units and self.scheme.orders.amount_unit is None:
            name = opened.roles.columns.get("amount") or opened.roles.columns["unit_price"]
            found.append(finding("amounts-in-cents", 1, column=name))
        if back := opened.roles.given_back:
            amount = opened.roles.columns["amount"]
            found.append(
                finding("money-given-back", 1, column=back, amount=amount, option=shlex.quote(back))
            )
        if self.members is not None and self.members.key_note:
            found.append(finding("customers-key", 1, text=self.members.key_note))
        if not self.rows.has_orders:
            found.append(finding("no-order-ids", 1))
        if self.account.offsets:
            found.append(finding("days-as-written", 1))
        if self.rows.kind("placed") == "instant" and time.time_zone is None:
            found.append(finding("days-in-utc", 1))
        if time.from_ is not None and opened.shows != "window":
            found.append(finding("shown-periods", 1, first=time.from_))
        since = time.from_ if opened.shows != "periods" else None
        if since is not None or self.balance.filtered_out:
            which = f"from {since} on" if since is not None else "that match `where`"
            found.append(finding("chosen-rows", 1, which=which))
        found += [
            finding("reading", 1, text=text.rstrip("."))
            for text in (*opened.source.notes, *self.rows.writing.evidence)
        ]
        return tuple(found)

    @property
    def notes(self) -> list[str]:
        """The notes of ``reading_findings`` as sentences."""
        return list(dict.fromkeys(f.sentence for f in self.reading_findings))

    @cached_property
    def looked(self) -> Looked:
        """The findings on possibly wrong numbers that every command shows, and the codes that were
        not looked for.
        """
        return look(self)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """All findings, errors first, with allowed errors as warnings and notes on how the rows
        were read last.
        """
        found = allowed(self.looked.found, self.allowed_codes)
        return tuple(sorted([*found, *self.reading_findings], key=lambda f: LEVELS.index(f.level)))

    @property
    def allowed_codes(self) -> list[str]:
        """Codes of errors that the scheme or the caller allows."""
        return [
            *self.scheme.orders.allow,
            *(["mostly-set-aside"] if self.opened.allow_set_aside else []),
        ]

    @property
    def not_looked_for(self) -> str:
        """A sentence on findings that only `check` looks for in this source; empty if all were
        looked for.
        """
        left = self.looked.left_to_check
        return (
            f"Not looked for, since it takes another pass: {', '.join(left)}. Run "
            "`fairladder check` for these."
            if left
            else ""
        )

    def facts(self) -> dict[str, Any]:
        """Return the facts printed with every result: as-of date and its source, orders, settings,
        balance, notes.
        """
        return {
            "as_of": self.as_of.isoformat() if self.as_of else None,
            "as_of_from": self.as_of_from,
            "source": self.opened.source.name,
            "settings": self.scheme.as_json(),
            "balance": self.balance.as_json(),
            "findings": [f.as_json() for f in self.findings],
            "not_looked_for": list(self.looked.left_to_check),
            "notes": [*sentences(self.findings), *self.notes, *filter(None, [self.not_looked_for])],
        }

    def require_fit(self) -> None:
        """Raise DataError if so many rows are set aside that the mapping must be wrong, or if
        currencies are mixed.
        """
        balance = self.balance
        if balance.mostly_unusable and not self.opened.allow_set_aside:
            reasons = ", ".join(f"{n:,} {reason}" for reason, n in balance.reasons.items())
            percent = (
                ' Or discounts are in percent, or money off: say `discount_as = "percent"` or '
                '`"amount"` under [orders].'
                if self.account.signs.over_one
                else ""
            )
            most = max(balance.reasons, key=lambda reason: balance.reasons[reason], default="")
            raise DataError(
                f"{balance.set_aside:,} of {balance.rows_read:,} rows are set aside "
                f"({reasons}): more than {MOST_SET_ASIDE_PERCENT} %, so the columns are "
                f"probably mapped wrongly. {_WHAT_HELPS.get(most, '')}`fairladder check` "
                "shows the rows; to continue anyway, pass --allow-set-aside." + percent
            )
        if len(currencies := self.account.currencies) > 1:
            advice = next(f.advice for f in of_pass(self) if f.code == "mixed-currencies")
            raise DataError(
                f"The orders are in several currencies ({', '.join(currencies)}), which must not "
                f"be added up. {advice}"
            )

    def customers_here(self) -> "pd.DataFrame":
        """Return the customers table as a pandas DataFrame sorted by id, for computations on this
        machine.

        Raises DataError if the orders are not fit for use, UsageError if there are too many
        customers to bring here.
        """
        self.require_fit()
        self.groups.require_few()
        table = self.customer_engine.table(
            select(["*"], self.customers_there).order_by("customer", copy=False)
        )
        return self.frame_of(table)

    def frame_of(self, table: pa.Table) -> "pd.DataFrame":
        """Return a table of customers as the public DataFrame."""
        return customers_frame(table, self.scheme, self.carried_names)

    @cached_property
    def carried_names(self) -> frozenset[str]:
        """Names of customer columns that come from a user's file."""
        part = self.scheme.customers
        of_orders = [
            *(f"{FIRST}{n}" for n in part.at_first),
            *(f"{LATEST}{n}" for n in part.at_latest),
        ]
        return frozenset(
            [*(self.members.table.column_names if self.members else ()), *of_orders]
        ) - set(NAMES)

    def spent(self) -> "pd.DataFrame":
        """Return ``customer``, ``spend`` (major units), ``first_order`` and ``last_order`` of all
        customers, sorted by id.

        Raises DataError if the orders are not fit for use.
        """
        self.require_fit()
        names = ["customer", "spend", "first_order", "last_order"]
        query = select(list(map(column, names)), self.customers_there).order_by(
            "customer", copy=False
        )
        return self.frame_of(self.customer_engine.table(query))

    def on(self, as_of: str | dt.date) -> Self:
        """Re-read the orders with a different as-of date."""
        day, days = as_day(as_of), self._days
        if day in days:
            return days[day]
        scheme = self.scheme.with_options(time={"as_of": day})
        opened = self.opened.with_rows(replace(self.rows, scheme=scheme))
        if day == (self.scheme.time.as_of or self.account.latest):
            other = replace(self, opened=opened, _days={})  # the same rows count
        else:
            other = read(opened, kind=type(self))
        while len(days) >= MOST_DAYS_KEPT:
            days.pop(next(iter(days)), None)
        days[day] = other
        return other

    def with_history(self) -> Self:
        """Return the orders including those before the date range, for questions about whole
        histories.
        """
        return self if self.scheme.time.from_ is None else read(self._whole, kind=type(self))

    @property
    def history(self) -> Rows:
        """The rows including those before the date range."""
        return self._whole.rows

    @property
    def _whole(self) -> Opened:
        if self.scheme.time.from_ is None:
            return self.opened
        time = self.scheme.time.model_copy(update={"from_": None, "as_of": self.as_of})
        return self.opened.with_rows(
            replace(self.rows, scheme=self.scheme.model_copy(update={"time": time}))
        )

    def run(self, query: exp.Expr) -> pa.Table:
        """Run a query built from ``rows`` in the rows' engine."""
        return self.engine.table(query)

    def frame(self, query: exp.Expr) -> "pd.DataFrame":
        """Return the rows of such a query as a DataFrame, dates as ``datetime64``."""
        frame: pd.DataFrame = self.run(query).to_pandas(date_as_object=False)
        return frame

    def order_table(
        self,
        columns: Sequence[str] | None = None,
        *,
        mixed: bool = False,
        sequence: bool = True,
        history: bool = True,
    ) -> exp.Select:
        """Return the used orders with the columns of ``order_rows``, for any number of queries;
        kept ones if possible.

        With ``history``, orders before the date range are included.
        """
        wanted = OrderTable(None if columns is None else tuple(columns), mixed, sequence)
        if self.kept_orders is not None and self.keeps(wanted):
            return self.kept_orders.query(wanted)
        return order_rows(
            self.history if history else self.rows,
            columns=wanted.columns,
            mixed=mixed,
            sequence=sequence,
        )

    def keeps(self, wanted: OrderTable) -> bool:
        """Return True if these orders are kept in the engine, so that queries on them are cheap."""
        return self.kept_orders is not None and self.kept_orders.table.serves(wanted)

    def states(self) -> list[tuple[str | None, int, Decimal, bool]]:
        """Return the statuses of used orders, most frequent first: status, rows, money, and whether
        it means a void order.

        Empty without a ``status`` role, or if the column has too many values to be a status.
        """
        query = states_of(self.rows)
        if query is None:
            return []
        there = self.run(query.limit(MOST_STATUSES + 1, copy=False)).to_pylist()
        scale = self.scheme.money.decimals
        lines = [
            (r["status"], int(r["n"]), Decimal(major(int(r["money"] or 0), scale)), bool(r["void"]))
            for r in there
        ]
        return lines if len(lines) <= MOST_STATUSES else []

    @cached_property
    def groups(self) -> KeptGroups:
        """Return the groups of the reduction; read again if the pass was for orders."""
        return self.kept_groups or read_through(self.rows, keep=False).groups

    @cached_property
    def base(self) -> exp.Expr:
        """Return one row per customer with whole numbers and dates, from the orders and the
        customers file. It is dropped with the groups.
        """
        members = self.members.table if self.members is not None else None
        relation = self.customer_engine.keep(whole_numbers(self.groups, members))
        self.customer_engine.own(self.groups, relation)
        return relation

    @cached_property
    def customers_there(self) -> exp.Expr:
        """Return the customers table in the customers' engine, unordered. It is dropped with the
        groups.

        Works even if the orders are not fit for use. Raises DataError if amounts are too large to
        stay exact.
        """
        with self.customer_engine.passing():
            relation = self.customer_engine.keep(customers_query(self))
            self.customer_engine.own(self.groups, relation)
        return relation

    def carried(self, there: Collection[str]) -> exp.Select | None:
        """Return ``carried.carried`` for the scheme's columns; None if it has none. ``there`` are
        the existing customer columns.

        Raises SchemeError for a column that the orders do not have, or a name that exists already.
        """
        first, latest = self.scheme.customers.at_first, self.scheme.customers.at_latest
        if not first and not latest:
            return None
        carried_columns = tuple(dict.fromkeys([*first, *latest]))
        check_carried(carried_columns, self.opened.columns)
        query = carried(self.order_table(carried_columns, mixed=True, history=False), first, latest)
        for name in query.named_selects[1:]:
            if name in there or name in {*NAMES, *names(SCORES)}:
                raise SchemeError(
                    f"The customers already have a column `{name}`, so "
                    f"`{name.split('_', 1)[1]}` cannot be added under that name."
                )
        return query

    @cached_property
    def set_aside(self) -> "pd.DataFrame":
        """Return every row set aside: ``row`` (numbered from 1 as in a spreadsheet), ``reason``,
        and the original cells as text.

        On a cluster only some rows are returned, without numbers.
        """
        return self.set_aside_of(lambda: self.rows.tree(numbered=True))

    def set_aside_of(self, tree: Callable[[], exp.Select]) -> "pd.DataFrame":
        """Return ``set_aside`` from a tree whose rows have numbers."""
        import pandas as pd

        parts: list[pd.DataFrame] = []
        if self.balance.set_aside:
            query = set_aside_rows(
                self.rows, tree(), list(self.account.totals), self.account.readable
            )
            if (most := self.engine.customer_engine.limits.set_aside) is not None:
                query = query.limit(most, copy=False)
            parts.append(self.run(query).to_pandas().rename(columns=shown_name))
        if self.members is not None and self.members.set_aside is not None:
            theirs = self.members.set_aside.to_pandas(date_as_object=False)
            parts.append(theirs.assign(file=self.members.label))
        file_column = ["file"] if self.opened.source.has_several_files else []
        if not parts:
            found = pd.DataFrame(
                columns=["row", "reason", *file_column, *self.opened.source.columns]
            )
        else:
            found = pd.concat(parts, ignore_index=True) if len(parts) > 1 else parts[0]
        found.attrs[CARRIED] = [name for name in found if name not in ("row", "reason")]
        return found


R = TypeVar("R", bound="Read")


def read(opened: Opened, keep: Keep = None, *, kind: type[R]) -> R:
    """Read the rows once: determine formats, take the balance, and reduce to customers or orders.

    ``keep`` selects what is kept in the engine for later questions; other data is read again when
    needed. Raises DataError if two formats of cells fit equally well.
    """
    with opened.engine.moment():
        rows = opened.rows
        if isinstance(keep, OrderTable) and opened.scheme.time.from_ is None:
            wanted = replace(
                keep, columns=None if keep.columns is None else _there(keep.columns, opened)
            )
            if can_keep(rows, wanted):
                rows, kept, states = keep_orders(rows, wanted)
                if kept is not None:
                    return kind(
                        opened.with_rows(rows), account_of(rows, states), None, kept_orders=kept
                    )
        folder, note = opened.scheme.orders.kept_in, ""
        if folder is not None and keep is None:
            found = read_kept(rows, Path(folder))
            if isinstance(found, KeptPass):
                passed = found.passed
                account = account_of(
                    passed.rows, passed.table, found if found.undecided is not None else None
                )
                return kind(
                    opened.with_rows(passed.rows), account, passed.groups, kept_note=found.note
                )
            note = found
        passed = read_through(rows, keep == "rows" and rows.embedded)
        account = account_of(passed.rows, passed.table, passed.kept)
        return kind(
            opened.with_rows(passed.rows), account, passed.groups, passed.kept, kept_note=note
        )


def _there(columns: Sequence[str], opened: Opened) -> tuple[str, ...]:
    """Return the columns that the orders have; those of the customers file are added later."""
    own = set(opened.columns)
    return tuple(name for name in columns if name in own)


def discounts_ignored(opened: Opened) -> list[Finding]:
    """Return a note for each unused column that looks like a discount."""
    if opened.roles.get("discount"):
        return []
    names = [
        n
        for n in opened.source.columns
        if _DISCOUNT.search(n) and n not in opened.roles.columns.values()
    ]
    return [finding("unused-discount", 1, column=name) for name in names]


_DISCOUNT = re.compile(
    "discount|rabat|remise|descuento|sconto|desconto|korting|nachlass|indirim", re.IGNORECASE
)

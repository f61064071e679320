"""Reading, the one step between opened orders and answers: what comes of it is never changed,
and is what questions are asked of.
"""

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
from fairladder.orders.rows import Rows
from fairladder.orders.settling import written_dates
from fairladder.scheme import Scheme
from fairladder.sqltree import cell_column, column, named, select, sql

if TYPE_CHECKING:
    import pandas as pd

#: Reason of most rows set aside → what would read them.
_WHAT_HELPS = {
    "no-customer": "Name the column of customer ids with --customer-column. ",
    "no-order": "Name the column of order ids with --order-column. ",
    "no-date": "Name the column of days with --placed-column. ",
    "bad-date": "Say how the dates are written with --date-format, or name another column with --placed-column. ",
    "no-amount": "Name the column of amounts with --amount-column. ",
    "bad-amount": "Say which the decimal mark is with --decimal-mark, or name another column with --amount-column. ",
    "other-currency": "Choose the currency with `currency` under [money]. ",
}
#: So many other days of reckoning are kept with what was read for them.
MOST_DAYS_KEPT = 4
#: As many ids of the orders are compared with the columns of a customers file whose id column is
#: not named alike.
MOST_IDS = 20_000
#: What the reading keeps in the engine beside the customers: every row (for ``check``), or every
#: order (for what is asked of orders).
Keep = Literal["rows"] | OrderTable | None


@dataclass(frozen=True)
class Read:
    """Orders that have been read, once and in one pass. The data is never changed, and neither
    is this.
    """

    opened: Opened
    """The same before reading, its rows as they turned out to be written."""
    account: Account
    """The balance of all rows, and what else the pass told."""
    kept_groups: KeptGroups | None = field(repr=False)
    """The groups of the reduction, if the pass made them."""
    kept_rows: KeptLines | None = field(default=None, repr=False)
    kept_orders: KeptOrders | None = field(default=None, repr=False)
    kept_note: str = field(default="", repr=False)
    """Which files were read and which were as they are kept, where a folder keeps them."""
    _days: "dict[dt.date, Self]" = field(default_factory=dict, repr=False, compare=False)
    """Orders as of other days that ``on`` has read already; answers do not depend on what is
    kept here.
    """

    def __repr__(self) -> str:
        roles = ", ".join(f"{r}={c!r}" for r, c in self.opened.roles.columns.items())
        return f"{type(self).__name__}({self.opened.source.label!r}, {roles})"

    # ------------------------------------------------------------------------------------------- wh

    @property
    def scheme(self) -> Scheme:
        """All settings."""
        return self.opened.scheme

    @property
    def rows(self) -> Rows:
        """The rows as trees to build queries from."""
        return self.opened.rows

    @property
    def engine(self) -> Engine:
        """What runs queries where the rows are."""
        return self.opened.engine

    @property
    def customer_engine(self) -> CustomerEngine:
        """What holds the customers."""
        return self.opened.engine.customer_engine

    @property
    def roles(self) -> dict[str, str]:
        """Role → column of the orders."""
        return dict(self.opened.roles.columns)

    @property
    def columns(self) -> list[str]:
        """Names of all columns that conditions on rows and groups can name."""
        return self.opened.columns

    @property
    def input_files(self) -> list[Path]:
        """The files that the orders and what goes with them are read from, which no output may
        replace.
        """
        return self.opened.input_files

    @property
    def balance(self) -> Balance:
        """What became of the rows read."""
        return self.account.balance

    @cached_property
    def as_of(self) -> dt.date | None:
        """The day of reckoning; None where no row is used and no day is set.

        Raises DataError where the day would be the orders' latest and that is still to come.
        """
        time, now = self.scheme.time, today(self.scheme.time.time_zone)
        day = time.as_of or time.through or self.account.latest
        if time.as_of is None and day is not None and day > now:
            if 500 < day.year - now.year < 560:
                raise DataError(
                    f"The {self.as_of_from} is {day}: years seem to be counted from the Buddha, "
                    "543 before ours. Export the dates in "
                    f"years of the common era ({day.year - 543} for {day.year})."
                )
            raise DataError(
                f"The {self.as_of_from} is {day}, and that is after today ({now}). Say which day "
                "to reckon from "
                "with --as-of or `as_of` under [time]; rows after it are left outside the window."
            )
        return day

    @property
    def as_of_from(self) -> str:
        """Where the day of reckoning comes from, in words."""
        time = self.scheme.time
        return (
            "day asked for"
            if time.as_of
            else "end of the window"
            if time.through
            else "latest day among the orders"
        )

    @cached_property
    def members(self) -> Members | None:
        """The customers file, where there is one."""
        if self.opened.customers_file is None:
            return None
        beside = self.opened.beside
        if "members" not in beside:
            beside["members"] = open_members(
                self.opened.customers_file,
                self.scheme.customers,
                self.opened.roles.columns["customer"],
                {*NAMES, *names(SCORES)},
                self.engine,
                lambda: written_dates(self.rows),
                self._some_ids,
            )
        members: Members = beside["members"]
        return members

    def _some_ids(self) -> set[str]:
        """Customer ids of the orders, at most ``MOST_IDS``, as they are read."""
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
        """How the rows were read, as notes: what changes the figures first, then how the file
        is written.
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
        if since is not None or self.balance.left_out:
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
        """What every command shows of numbers that could be wrong, and what it did not look for."""
        return look(self)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """All findings, errors first: an error that is allowed by name is a warning, and how
        the rows were read comes last.
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
        """A sentence about findings that only `check` looks for here; empty where all were
        looked for.
        """
        left = self.looked.left_to_check
        return (
            f"Not looked for here, since it takes another pass: {', '.join(left)}. `fairladder "
            "check` does."
            if left
            else ""
        )

    def facts(self) -> dict[str, Any]:
        """What stands beside every result: day of reckoning and its origin, source, settings,
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
        """Raise DataError where so much is set aside that the mapping must be wrong, or
        currencies mix.
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
                f"{balance.set_aside:,} of {balance.rows_read:,} rows are set aside ({reasons}): "
                "more than "
                f"{MOST_SET_ASIDE_PERCENT} %, so the columns are probably mapped wrongly. "
                f"{_WHAT_HELPS.get(most, '')}"
                "`fairladder check` shows the rows; to go on all the same, pass --allow-set-aside."
                + percent
            )
        if len(currencies := self.account.currencies) > 1:
            advice = next(f.advice for f in of_pass(self) if f.code == "mixed-currencies")
            raise DataError(
                f"The orders are in several currencies ({', '.join(currencies)}), which must not "
                f"be added up. {advice}"
            )

    # ----------------------------------------------------------------------------------------------

    def customers_here(self) -> "pd.DataFrame":
        """The customers table as pandas has it, for what is worked out on this machine; sorted by
        id.

        Raises DataError where the orders are not fit to use, UsageError where the customers are
        too many to come here.
        """
        self.require_fit()
        self.groups.require_few()
        table = self.customer_engine.table(
            select(["*"], self.customers_there).order_by("customer", copy=False)
        )
        return self.frame_of(table)

    def frame_of(self, table: pa.Table) -> "pd.DataFrame":
        """A table of customers as the public DataFrame."""
        return customers_frame(table, self.scheme, self.carried_names)

    @cached_property
    def carried_names(self) -> frozenset[str]:
        """Columns of the customers that are carried along from somebody's file."""
        asked = self.scheme.customers
        of_orders = [
            *(f"{FIRST}{n}" for n in asked.at_first),
            *(f"{LATEST}{n}" for n in asked.at_latest),
        ]
        return frozenset(
            [*(self.members.table.column_names if self.members else ()), *of_orders]
        ) - set(NAMES)

    def spent(self) -> "pd.DataFrame":
        """``customer``, ``spend`` (major units), ``first_order`` and ``last_order`` of everybody,
        sorted by id.

        Raises DataError where the orders are not fit to use.
        """
        self.require_fit()
        names = ["customer", "spend", "first_order", "last_order"]
        query = select(list(map(column, names)), self.customers_there).order_by(
            "customer", copy=False
        )
        return self.frame_of(self.customer_engine.table(query))

    def on(self, as_of: str | dt.date) -> Self:
        """The same orders with another day of reckoning, read for it."""
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
        """The same orders with everything before the window's first day, for what is asked of
        whole histories.
        """
        return self if self.scheme.time.from_ is None else read(self._whole, kind=type(self))

    @property
    def history(self) -> Rows:
        """The rows with those before the window's first day."""
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
        """Run a query built from ``rows`` where the rows are."""
        return self.engine.table(query)

    def frame(self, query: exp.Expr) -> "pd.DataFrame":
        """The rows of such a query, days as ``datetime64``."""
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
        """The used orders as ``order_rows`` has them, for any number of queries: those that are
        kept, or to be read by them.

        With ``history`` a window's first day does not shorten histories.
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
        """Whether these orders are kept in the engine, so that to ask for them is cheap."""
        return self.kept_orders is not None and self.kept_orders.table.serves(wanted)

    def states(self) -> list[tuple[str | None, int, Decimal, bool]]:
        """The states of the orders that count, the commonest first: state, rows, money, and
        whether it says that they do not stand.

        Empty without a ``status`` role, and where there are so many that they are none.
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
        """The groups of the reduction; read anew where the pass was for orders."""
        return self.kept_groups or read_through(self.rows, keep=False).groups

    @cached_property
    def base(self) -> exp.Expr:
        """One row per customer with whole numbers and days, of the orders and the customers
        file; kept as long as the groups.
        """
        members = self.members.table if self.members is not None else None
        relation = self.customer_engine.keep(whole_numbers(self.groups, members))
        self.customer_engine.own(self.groups, relation)
        return relation

    @cached_property
    def customers_there(self) -> exp.Expr:
        """The customers table in the engine of customers, in no order; kept as long as the groups.

        It is made whether or not the orders are fit to use. Raises DataError where amounts are too
        large to stay exact.
        """
        with self.customer_engine.passing():
            relation = self.customer_engine.keep(customers_query(self))
            self.customer_engine.own(self.groups, relation)
        return relation

    def carried(self, there: Collection[str]) -> exp.Select | None:
        """``carried.carried`` as the scheme asks for it, beside customers who have the columns
        ``there``; None where it does not.

        Raises SchemeError for a column that the orders do not have, or one that would stand there
        twice.
        """
        first, latest = self.scheme.customers.at_first, self.scheme.customers.at_latest
        if not first and not latest:
            return None
        asked = tuple(dict.fromkeys([*first, *latest]))
        check_carried(asked, self.opened.columns)
        query = carried(self.order_table(asked, mixed=True, history=False), first, latest)
        for name in query.named_selects[1:]:
            if name in there or name in {*NAMES, *names(SCORES)}:
                raise SchemeError(
                    f"The customers have a column `{name}` already, so `{name.split('_', 1)[1]}` "
                    "cannot be carried to it."
                )
        return query

    @cached_property
    def set_aside(self) -> "pd.DataFrame":
        """Every row set aside: ``row`` (as a person sees it), ``reason``, and the original cells
        as text.

        Of a cluster some of them only, without numbers, which rows do not have there.
        """
        return self.set_aside_of(lambda: self.rows.tree(numbered=True))

    def set_aside_of(self, tree: Callable[[], exp.Select]) -> "pd.DataFrame":
        """What ``set_aside`` gives, from a tree whose rows carry their numbers."""
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
        apart = ["file"] if self.opened.source.files_apart else []
        if not parts:
            found = pd.DataFrame(columns=["row", "reason", *apart, *self.opened.source.columns])
        else:
            found = pd.concat(parts, ignore_index=True) if len(parts) > 1 else parts[0]
        found.attrs[CARRIED] = [name for name in found if name not in ("row", "reason")]
        return found


R = TypeVar("R", bound="Read")


def read(opened: Opened, keep: Keep = None, *, kind: type[R]) -> R:
    """Read the rows once: how they are written is settled, their balance taken, and customers or
    orders made of them.

    ``keep`` says what is kept in the engine for later questions; what cannot be kept is read again
    when it is asked for. Raises DataError where two ways of reading the cells are equally good.
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
    """The columns that the orders have; those of the customers file come later."""
    own = set(opened.columns)
    return tuple(name for name in columns if name in own)


def discounts_ignored(opened: Opened) -> list[Finding]:
    """A note for each column that looks like a discount and is not used."""
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

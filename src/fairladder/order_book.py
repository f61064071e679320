"""The order book: opened orders, from which the balance, the customers and everything else are asked."""

import datetime as dt
import re
import warnings
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from decimal import Decimal
from functools import cached_property
from importlib import import_module
from pathlib import Path
from threading import RLock
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp

from fairladder.columns import CARRIED, SCHEME
from fairladder.customers import (
    COLUMNS,
    customers_frame,
    kept_orders,
    kept_states,
    order_rows,
    order_rows_of,
    reduction,
    with_measures,
)
from fairladder.days import as_day
from fairladder.engine.protocol import Engine
from fairladder.errors import DataError, FairLadderWarning, UsageError, nearest
from fairladder.orders.balance import MOST_SET_ASIDE_PERCENT, Balance, balance_of, major
from fairladder.orders.findings import Finding, customer_findings, row_findings, tie_finding
from fairladder.orders.inspection import Looked, row_inspection
from fairladder.orders.lines import KeptLines
from fairladder.orders.members import Members, open_members
from fairladder.orders.opening import open_anything
from fairladder.orders.roles import Roles, settle_roles
from fairladder.orders.rows import (
    BLANK_ROW,
    CODES,
    REASONS,
    UNDECIDED,
    USED,
    Rows,
    few_channels,
    open_rows,
    settled,
    settled_at_first,
    written_dates,
)
from fairladder.orders.set_aside import orders_total, set_aside_rows, shown_name, undecided_groups
from fairladder.orders.shapes import one_row_per_channel, with_lines
from fairladder.orders.signs import ALLOWED, Signs, allowed, pass_findings, sentences, signs_of, unmatched
from fairladder.orders.source import Source, open_source
from fairladder.orders.states_there import states_of
from fairladder.reading import keep_rows, largest_unread, read_through
from fairladder.scheme import Scheme, load_scheme, scheme_from

if TYPE_CHECKING:
    import pandas as pd

#: So many other days of reckoning are kept with what was read for them.
MOST_DAYS_KEPT = 4
#: A column of more states than this is none of states.
MOST_STATES = 40
#: Columns that scoring adds; a customers file may not use their names.
SCORE_COLUMNS = (
    "recency_score", "frequency_score", "monetary_score", "score_total", "score_code", "percentile", "percent_rank",
    "segment", "stance",
)  # fmt: skip


@dataclass(frozen=True)
class Check:
    """Whether the orders are fit to use: the balance, what was found, and the rows set aside."""

    balance: Balance
    findings: tuple[Finding, ...]
    set_aside: "pd.DataFrame"
    as_of: dt.date | None
    as_of_from: str
    settings: Mapping[str, Any]

    @property
    def frame(self) -> "pd.DataFrame":
        """The findings, one row each."""
        import pandas as pd

        rows = [{**f.as_json(), "examples": "; ".join(f.examples)} for f in self.findings]
        return pd.DataFrame(rows, columns=list(Finding.__dataclass_fields__))

    @property
    def balance_frame(self) -> "pd.DataFrame":
        """The balance: ``what`` became of the rows, ``rows``, ``amount`` (major units, exact decimals)."""
        import pandas as pd

        lines = [
            (label, rows, Decimal(major(minor, self.balance.decimals))) for label, rows, minor in self.balance.lines()
        ]
        return pd.DataFrame(lines, columns=["what", "rows", "amount"])

    @property
    def errors(self) -> tuple[Finding, ...]:
        """Findings that make the numbers wrong until they are settled."""
        return tuple(f for f in self.findings if f.level == "error")

    def as_json(self) -> dict[str, Any]:
        """All of it as plain JSON values."""
        rows = self.set_aside.astype(object).where(self.set_aside.notna(), None)
        return {
            "as_of": self.as_of.isoformat() if self.as_of else None,
            "as_of_from": self.as_of_from,
            "settings": dict(self.settings),
            "balance": self.balance.as_json(),
            "findings": [f.as_json() for f in self.findings],
            "set_aside": rows.to_dict("records"),
        }

    def __repr__(self) -> str:
        balance = "; ".join(f"{label} {rows:,}" for label, rows, _ in self.balance.lines())
        found = "".join(f"\n  {f.level}: {f.code} ({f.count:,}): {f.effect}" for f in self.findings)
        return f"Check as of {self.as_of} ({self.as_of_from}): {balance}{found}"

    def _repr_html_(self) -> str:
        import pandas as pd

        lines = pd.DataFrame(self.balance.lines(), columns=["", "rows", "amount"]).set_index("")
        lines["amount"] = [major(m, self.balance.decimals) for m in lines["amount"]]
        return str(lines.to_html()) + str(self.frame.to_html(index=False))


@dataclass(frozen=True)
class _Reduced:
    table: pa.Table | None
    """The used groups of the reduction; None where only orders were asked for."""
    balance: Balance
    totals: list[int]
    latest: dt.date | None
    offsets: bool
    signs: Signs


class Orders:
    """Opened orders. Nothing is read until something is asked; the rows are then read once, in one pass.

    Made by ``open_orders``. The data is never changed.
    """

    def __init__(self, orders: Any, customers: Any, scheme: Scheme, *, allow_set_aside: bool = False) -> None:
        self.scheme = scheme
        self.allow_set_aside = allow_set_aside
        self._source = _shaped(open_anything(orders, scheme.orders), scheme)
        self._engine = self._source.engine
        self._roles: Roles = settle_roles(scheme.order_columns(), self._source)
        self._rows = open_rows(self._source, self._roles, scheme)
        self._customers_file = customers if customers is not None else scheme.customers.file
        self._kept: dict[Any, tuple[exp.Expr, bool, Rows]] = {}
        self._by_day: dict[dt.date, Orders] = {}
        self._lock = RLock()

    def __repr__(self) -> str:
        return f"Orders({self._source.label!r}, {', '.join(f'{r}={c!r}' for r, c in self._roles.columns.items())})"

    # ------------------------------------------------------------------------------------------------ questions

    def check(self) -> Check:
        """Balance, findings and set-aside rows; also where the orders are not fit to use."""
        with self._lock, self._engine.moment():
            return self._checked()

    def _checked(self) -> Check:
        looked = self._look()
        try:
            found = row_inspection(looked)
            self.__dict__["set_aside"] = self._rows_aside(looked.kept.as_rows)
        finally:
            looked.kept.forget()
        there = {f.code for f in found}
        findings = [
            *row_findings(
                self.balance, list(dict.fromkeys([*self.notes, *_discounts_ignored(self._roles, self._source)]))
            ),
            *found,
            *(f for f in self.findings if f.code not in there | {"repeated-total"}),
            *(self._findings_by_currency() if len(self._currencies) > 1 else self._findings_of_customers()),
        ]
        findings = allowed(findings, self.scheme.orders.allow)
        return Check(self.balance, tuple(findings), self.set_aside, self.as_of, self.as_of_from, self.scheme.as_json())

    def _findings_of_customers(self) -> list[Finding]:
        frame, members = self._measured, self.members.frame if self.members else None
        findings = customer_findings(frame, members, self.scheme.money.decimals)
        from fairladder.fairness import fairness_of, in_words  # needs pandas, which is loaded while the engine works

        ties = fairness_of(frame, self.scheme)
        tied = tie_finding(int(ties["parted"].sum()), in_words(ties))
        return [*findings, *([tied] if tied is not None else [])]

    def _findings_by_currency(self) -> list[Finding]:
        """What can be said of customers before one currency is chosen: each by itself, since sums of several mean nothing."""
        groups, decimals = self._settle().table, self.scheme.money.decimals
        if groups is None:
            return []
        found = []
        for currency in self._currencies:
            wanted = None if currency == "(blank)" else currency
            codes = groups["currency"]
            own = pc.is_null(codes) if wanted is None else pc.fill_null(pc.equal(codes, wanted), False)
            table = groups.filter(own)
            names = [c for c in ("name",) if c in table.column_names]
            frame = with_measures(customers_frame(table, decimals, names), self.as_of, decimals)
            found += [
                replace(f, effect=f"{f.effect} (in {currency})") for f in customer_findings(frame, None, decimals)
            ]
        return found

    def customers(self, as_of: str | dt.date | None = None) -> "pd.DataFrame":
        """One row per customer, sorted by id: the table of section 2 of the definitions.

        Days are ``datetime64[s]``, counts whole numbers, amounts floats in major units; recency and tenure are null
        without a purchase. Customers of the customers file without orders are in it, with its other columns.
        ``as_of`` (a day or its ISO text) overrides the scheme's; rows after it are outside the window.

        Raises DataError where too many rows are set aside, currencies mix, or an id repeats in the customers file.
        """
        if as_of is not None:
            return self.on(as_of).customers()
        with self._lock:  # worked out by one thread, for all
            self.require_fit()
            measured = self._measured
        for finding in self.findings:
            if finding.level == "error":
                warnings.warn("".join(sentences([finding])), FairLadderWarning, stacklevel=2)
        return measured.copy(deep=False)  # pandas copies what is written to

    def score(self) -> "pd.DataFrame":
        """The customers with scores, tiers, segment and stance, by the scheme of these orders; see ``fairladder.score``.

        Columns of the forecast are there where the scheme's rules speak of them. Raises as ``customers`` and ``score`` do.
        """
        customers = import_module("fairladder.value.columns").customers_to_score(self)  # later rooms, asked when wanted
        scored: pd.DataFrame = import_module("fairladder.scoring").score(customers, self.scheme)
        return scored

    def on(self, as_of: str | dt.date) -> "Orders":
        """The same orders with another day of reckoning."""
        day = as_day(as_of)
        if day in self._by_day:
            return self._by_day[day]
        other = Orders.__new__(Orders)
        other.__dict__.update({k: v for k, v in self.__dict__.items() if k in _OPENED})
        other.scheme, other._kept, other._by_day = self.scheme.with_options(time={"as_of": day}), {}, {}
        other._rows = replace(self._rows, scheme=other.scheme)
        while len(self._by_day) >= MOST_DAYS_KEPT:
            self._by_day.pop(next(iter(self._by_day)))
        self._by_day[day] = other
        return other

    def with_history(self) -> "Orders":
        """The same orders with everything before the window's first day, for what is asked of whole histories."""
        if self.scheme.time.from_ is None:
            return self
        other = Orders.__new__(Orders)
        other.__dict__.update({k: v for k, v in self.__dict__.items() if k in _OPENED})
        time = self.scheme.time.model_copy(update={"from_": None, "as_of": self.as_of})
        other.scheme, other._kept, other._by_day = self.scheme.model_copy(update={"time": time}), {}, {}
        other._rows = replace(self._rows, scheme=other.scheme)
        return other

    @property
    def rows(self) -> Rows:
        """The rows as trees to build queries from, once it is settled how their dates and numbers are written."""
        self._settle()
        return self._rows

    @property
    def input_files(self) -> list[Path]:
        """The files that the orders and what goes with them are read from, which no output may replace."""
        source = [part.path for part in (self._source.parts or (self._source,)) if part.path is not None]
        others = [self._customers_file, self.scheme.lines.file, self.scheme.money.rates]
        return [*source, *(Path(f) for f in others if isinstance(f, str | Path) and str(f) != "-")]

    @property
    def columns(self) -> list[str]:
        """Names of all columns that conditions on rows and groups can name."""
        return list(self._rows.condition_cells())

    @property
    def engine(self) -> Engine:
        """What runs queries where the rows are."""
        return self._engine

    def run(self, query: exp.Expr) -> pa.Table:
        """Run a query built from ``rows`` where the rows are."""
        return self._engine.table(query)

    def facts(self) -> dict[str, Any]:
        """What stands beside every result: day of reckoning and its origin, source, settings, balance, notes."""
        return {
            "as_of": self.as_of.isoformat() if self.as_of else None,
            "as_of_from": self.as_of_from,
            "source": self._source.name,
            "settings": self.scheme.as_json(),
            "balance": self.balance.as_json(),
            "notes": [*sentences(self.findings), *self.notes],
        }

    def sql(self) -> str:
        """The SQL of the reduction, ready to run in the engine that runs it."""
        rows = replace(self._rows, channels=few_channels(self._rows))
        return self._engine.sql(reduction(rows, rows.reads_as_written))

    def require_fit(self) -> None:
        """Raise DataError where so much is set aside that the mapping must be wrong, or currencies mix."""
        balance = self.balance
        if balance.mostly_unusable and not self.allow_set_aside:
            reasons = ", ".join(f"{n:,} {reason}" for reason, n in balance.reasons.items())
            percent = (
                ' Or discounts are in percent: say `discount_as = "percent"` under [orders].'
                if self._reduced.signs.over_one
                else ""
            )
            raise DataError(
                f"{balance.set_aside:,} of {balance.rows_read:,} rows are set aside ({reasons}): more than "
                f"{MOST_SET_ASIDE_PERCENT} %, so the columns are probably mapped wrongly. Look at `fairladder check`, "
                "correct [orders] in the scheme, or pass --allow-set-aside." + percent
            )
        if len(currencies := self._currencies) > 1:
            raise DataError(
                f"The orders are in several currencies ({', '.join(currencies)}), which must not be added up. Choose "
                "one with `currency` under [money]; the others are then set aside. Or convert them: `rates` under [money] names "
                "a file of currency, day and rate."
            )

    # ------------------------------------------------------------------------------------------------- results

    @property
    def balance(self) -> Balance:
        """What became of the rows read."""
        return self._reduced.balance

    @cached_property
    def as_of(self) -> dt.date | None:
        """The day of reckoning; None where no row is used and no day is set.

        Raises DataError where the day would be the orders' latest and that is still to come.
        """
        time = self.scheme.time
        day = time.as_of or time.through or self._reduced.latest
        if time.as_of is None and day is not None and day > self._today:
            raise DataError(
                f"The {self.as_of_from} is {day}, and that is after today ({self._today}). Say which day to reckon from "
                "with --as-of or `as_of` under [time]; rows after it are left outside the window."
            )
        return day

    @property
    def roles(self) -> dict[str, str]:
        """Role → column of the orders."""
        return dict(self._roles.columns)

    @property
    def as_of_from(self) -> str:
        """Where the day of reckoning comes from, in words."""
        time = self.scheme.time
        return "day asked for" if time.as_of else "end of the window" if time.through else "latest day among the orders"

    @property
    def notes(self) -> list[str]:
        """What every output has to say beside its figures."""
        read_so = self._reduced.offsets  # reading comes first: it settles how dates and numbers are written
        notes = [*self._source.told, *self._rows.evidence]
        if self.scheme.orders.amount is None:  # who named the amount has chosen; `check` says it all the same
            notes += _discounts_ignored(self._roles, self._source)
        if self._roles.guessed:
            told = ", ".join(f"{role} `{self._roles.columns[role]}`" for role in self._roles.guessed)
            notes.insert(0, f"Columns are guessed: {told}. `fairladder start` writes them down with the reasons.")
        time = self.scheme.time
        if not self._rows.has_orders:
            notes.append("No order column is known, so every row counts as one order.")
        if read_so:
            notes.append("Some timestamps carry an offset; their day is taken as written. Set `time_zone` to convert.")
        if self._rows.kind("placed") == "instant" and time.time_zone is None:
            notes.append("Order times are instants; their day is taken in UTC. Set `time_zone` to convert.")
        if time.from_ is not None or self.balance.left_out:
            why = f"from {time.from_} on" if time.from_ is not None else "that match `where`"
            notes.append(f"`orders`, `first_order` and segments speak of the rows {why} only.")
        return notes

    def states(self) -> list[tuple[str | None, int, Decimal, bool]]:
        """The states of the orders that count, the commonest first: state, rows, money, and whether it says that they do not stand.

        Empty without a ``status`` role, and where there are so many that they are none.
        """
        query = states_of(self.rows)
        if query is None:
            return []
        found = self._engine.table(query.limit(MOST_STATES + 1, copy=False)).to_pylist()
        scale = self.scheme.money.decimals
        told = [(r["status"], int(r["n"]), Decimal(major(int(r["money"] or 0), scale)), bool(r["void"])) for r in found]
        return told if len(told) <= MOST_STATES else []

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What every command has to say of numbers that are probably wrong; errors that are allowed by name are warnings."""
        role = self._roles.columns.get
        found = pass_findings(self._reduced.signs, self.scheme.money.decimals, role("status"), role("discount"))
        found += self._members_found
        return tuple(allowed(found, self.scheme.orders.allow))

    @property
    def _members_found(self) -> list[Finding]:
        table = self._reduced.table
        if table is None or self.members is None:
            return []
        found = unmatched(set(table["customer"].to_pylist()), set(self.members.frame["customer"]), self.members.label)
        return [found] if found is not None else []

    @cached_property
    def members(self) -> Members | None:
        """The customers file, where there is one."""
        if self._customers_file is None:
            return None
        taken = {*COLUMNS, *SCORE_COLUMNS}
        id_column = self._roles.columns["customer"]
        return open_members(
            self._customers_file,
            self.scheme.customers,
            id_column,
            taken,
            self._engine,
            lambda: written_dates(self._rows),
        )

    @cached_property
    def set_aside(self) -> "pd.DataFrame":
        """Every row set aside: ``row`` (as a person sees it), ``reason``, and the original cells as text."""
        return self._rows_aside(lambda: self._rows.tree(numbered=True))

    def _rows_aside(self, tree: Callable[[], exp.Select]) -> "pd.DataFrame":
        import pandas as pd

        parts = []
        if self.balance.set_aside:
            readable = sum(self.balance.amounts.values())
            query = set_aside_rows(self._rows, tree(), self._reduced.totals, readable)
            frame = self._engine.table(query).to_pandas()
            parts.append(frame.rename(columns=shown_name))
        if self.members is not None and len(self.members.set_aside):
            parts.append(self.members.set_aside.assign(file=self.members.label))
        if not parts:
            apart = ["file"] if self._source.files_apart else []
            return pd.DataFrame(columns=["row", "reason", *apart, *self._source.columns])
        return pd.concat(parts, ignore_index=True) if len(parts) > 1 else parts[0]

    # ------------------------------------------------------------------------------------------------ the pass

    @property
    def _today(self) -> dt.date:
        zone = self.scheme.time.time_zone
        return dt.datetime.now(ZoneInfo(zone) if zone else dt.UTC).date()

    def _settle(self) -> _Reduced:
        """Read the rows, where nothing has been asked yet: how they are written is known only then."""
        return self._reduced

    @cached_property
    def _reduced(self) -> _Reduced:
        return self._read(keep=False)[0]

    def _read(self, keep: bool) -> tuple[_Reduced, KeptLines | None]:
        with ThreadPoolExecutor(1) as aside, self._engine.moment():
            aside.submit(import_module, "pandas")  # the engine works without Python's lock, so this costs nothing
            found = read_through(self._rows, keep)
            self._rows = found.rows
            return self._accounted(found.table, True, found.kept), found.kept

    def _look(self) -> Looked:
        """The rows, kept for the findings; where nothing has been read before, the customers come from them, too."""
        kept = None
        if "_reduced" not in self.__dict__ and self._engine is self._engine.reader:
            self.__dict__["_reduced"], kept = self._read(keep=True)
        by_id = {CODES["total-row"], CODES["no-customer"], CODES["no-order"]}
        ids_put_aside = not by_id.isdisjoint(self.balance.rows)
        return Looked(kept or keep_rows(self._rows, as_written=False), ids_put_aside, self._today)

    def _accounted(self, table: pa.Table, whole: bool, kept: KeptLines | None = None) -> _Reduced:
        """The balance of groups by state, and with ``whole`` the used ones among them; ``kept`` saves reading some again."""
        names = ["state", "rows_read", "rows_amount"] + (["currency"] if "currency" in table.column_names else [])
        groups = _summed(table.select(names))
        used = table.filter(pc.equal(table["state"], USED))
        groups, totals = self._decide(groups, balance_of(groups, self.scheme.money.decimals), kept)
        latest = pc.max(used["latest_row"]).as_py() if "latest_row" in used.column_names else None
        offsets = "offsets" in used.column_names and bool(pc.max(used["offsets"]).as_py())
        balance = balance_of(groups, self.scheme.money.decimals)
        return _Reduced(used if whole else None, balance, totals, latest, offsets, signs_of(table))

    def order_table(
        self, columns: Sequence[str] | None = None, *, mixed: bool = False, sequence: bool = True, history: bool = True
    ) -> exp.Select:
        """The used orders as ``order_rows`` has them, for any number of queries, read in the pass that gives the balance.

        Where nothing has been asked before and ids as written will do, the orders are kept in the engine; otherwise they are
        read when the query runs. With ``history`` a window's first day does not shorten histories.
        """
        with self._lock:
            return self._order_table(columns, mixed, sequence, history)

    def _order_table(self, columns: Sequence[str] | None, mixed: bool, sequence: bool, history: bool) -> exp.Select:
        whole = self.with_history() if history else self
        asked = (None if columns is None else tuple(columns), mixed, sequence)
        if whole is self and "_reduced" not in self.__dict__ and self._can_keep_orders(columns):
            self._keep_orders(*asked)
        if whole is self and self.keeps_orders(columns, mixed=mixed, sequence=sequence):
            kept, bare, rows = self._kept[asked]
            return order_rows_of(rows, kept, columns, sequence, bare)
        return order_rows(whole.rows, columns=columns, mixed=mixed, sequence=sequence)

    def keeps_orders(self, columns: Sequence[str] | None = None, *, mixed: bool = False, sequence: bool = True) -> bool:
        """Whether these orders are kept in the engine, so that to ask for them again is cheap."""
        asked = (None if columns is None else tuple(columns), mixed, sequence)
        return asked in self._kept and self._kept[asked][2] == replace(self._rows, channels=None)

    def _can_keep_orders(self, columns: Sequence[str] | None) -> bool:
        """Whether one grouping of rows with ids as written can give both the balance and the orders."""
        rows = self._rows
        ids = {"customer", "order", rows.roles.get("customer"), rows.roles.get("order")}
        return (
            rows.reads_as_written
            and rows.has_orders
            and ids.isdisjoint(columns or ())
            and self._engine is self._engine.reader
        )

    def _keep_orders(self, columns: tuple[str, ...] | None, mixed: bool, sequence: bool) -> None:
        """Keep the orders and take the balance from them, unless ids need trimming or text is written otherwise."""
        with ThreadPoolExecutor(1) as aside:
            aside.submit(import_module, "pandas")
            rows = self._rows = settled_at_first(self._rows)
            kept = self._engine.keep(kept_orders(rows, columns, mixed, sequence))
        states = self._engine.table(kept_states(rows, kept))
        seen = set(states["state"].to_pylist())
        if unread := largest_unread(states):
            self._rows = settled(rows, unread)
        if replace(self._rows, written_so=rows.written_so) != rows or pc.any(states["untrimmed"]).as_py():
            self._engine.forget(kept)
            return
        by_id = {CODES["total-row"], CODES["no-customer"], CODES["no-order"], UNDECIDED}
        self._kept[columns, mixed, sequence] = (kept, not seen & by_id, self._rows)
        self.__dict__["_reduced"] = self._accounted(states, whole=False)

    def _decide(
        self, groups: list[dict[str, Any]], balance: Balance, lines: KeptLines | None
    ) -> tuple[list[dict[str, Any]], list[int]]:
        """Settle rows that lack customer, order and date, now that the sums are known."""
        if not balance.rows.get(UNDECIDED):
            return groups, []
        usable = balance.amount(*(s for s in balance.rows if s not in REASONS and s != UNDECIDED))
        totals = [usable]
        if self.scheme.orders.amount_is == "order" and self._rows.has_orders:
            totals += [t for t in self._engine.table(orders_total(self._rows))["total"].to_pylist() if t is not None]
        readable = sum(balance.amounts.values())
        tree = self._rows.tree() if lines is None else lines.as_rows()
        settled = self._engine.table(undecided_groups(self._rows, tree, [int(t) for t in totals], readable)).to_pylist()
        kept = [g for g in groups if g["state"] != UNDECIDED]
        extra = [g for g in settled if g["state"] != BLANK_ROW]
        return kept + extra, [int(t) for t in totals]

    @cached_property
    def _currencies(self) -> list[str]:
        """Currencies among usable rows, where the orders carry a currency column."""
        return [
            currency
            for currency, sums in self.balance.by_currency.items()
            if any(state not in REASONS for state in sums)
        ]

    @cached_property
    def _measured(self) -> "pd.DataFrame":
        table = self._reduced.table
        if table is None:  # only the orders have been read so far
            del self.__dict__["_reduced"]
            reduced = self._settle()
            table = reduced.table
        if table is None:
            raise DataError("The orders could not be reduced to customers. Open them again.")
        extra = [c for c in ("name", "only_channel") if c in table.column_names]
        frame = customers_frame(table, self.scheme.money.decimals, extra)
        if self.members is not None:
            frame = _joined(frame, self.members.frame)
        measured = with_measures(frame, self.as_of, self.scheme.money.decimals)
        measured.attrs[CARRIED] = [name for name in measured if name not in COLUMNS]
        measured.attrs[SCHEME] = self.scheme.model_dump_json(by_alias=True, exclude_defaults=True)
        return measured


def _shaped(source: Source, scheme: Scheme) -> Source:
    """The source with lines joined on and a row per channel, where the scheme says so."""
    if scheme.lines.file is not None:
        order = scheme.order_columns().order or ""
        if source.engine is not source.engine.reader:
            raise UsageError("[lines] joins files. In a database, join the two in --query.")
        lines = open_source(scheme.lines.file, source.engine.reader)
        source = with_lines(source, lines, order, scheme.lines.order or order)
    if scheme.orders.channel_customers:
        source = one_row_per_channel(source, scheme.orders.channel_customers)
    return source


_OPENED = ("_lock", "scheme", "allow_set_aside", "_engine", "_source", "_roles", "_rows", "_customers_file")


def _discounts_ignored(roles: Roles, source: Source) -> list[str]:
    """A word for each column whose name says discount and that is not used."""
    if roles.get("discount"):
        return []
    return [
        f"`{name}` looks like a discount and is not used: amounts are taken as they stand. If they are before it, give "
        "--unit-price-column, --quantity-column and --discount-column in place of an amount."
        for name in source.columns if _DISCOUNT.search(name) and name not in roles.columns.values()
    ]  # fmt: skip


_DISCOUNT = re.compile("discount|rabat|remise|descuento|sconto|desconto|korting|nachlass|indirim", re.IGNORECASE)


def _summed(table: pa.Table) -> list[dict[str, Any]]:
    """Rows and amounts by state and currency."""
    keys = ["state"] + (["currency"] if "currency" in table.column_names else [])
    summed = table.group_by(keys).aggregate([("rows_read", "sum"), ("rows_amount", "sum")])
    return [
        {**{k: g[k] for k in keys}, "rows_read": g["rows_read_sum"], "rows_amount": g["rows_amount_sum"]}
        for g in summed.to_pylist()
    ]


def _joined(frame: "pd.DataFrame", members: "pd.DataFrame") -> "pd.DataFrame":
    """Customers from both sides, one row each; whoever has no orders gets counts of 0 and empty days."""
    names = [c for c in members.columns if c != "customer"]
    given = members.rename(columns={"name": "#name"})
    both = frame.merge(given, on="customer", how="outer", validate="one_to_one", sort=False)
    counts = [c for c in frame.columns if both[c].dtype.kind == "f" and frame[c].dtype.kind == "i"]
    both[counts] = both[counts].fillna(0).astype(np.int64)
    if "name" in names:
        ours = both.pop("#name")
        both["name"] = ours.fillna(both["name"]) if "name" in both else ours
    order = np.argsort(both["customer"].to_numpy(dtype=object), kind="stable")
    return both.iloc[order].reset_index(drop=True)


def open_orders(
    orders: Any,
    *,
    customers: Any = None,
    scheme: str | Path | Scheme | Mapping[str, Any] | None = None,
    allow_set_aside: bool = False,
    allow: Sequence[str] = (),
) -> Orders:
    """Open a table of orders.

    Parameters
    ----------
    orders
        A path, a pattern of paths, a list of paths, the URL of a database, or a frame of pandas, Polars, Arrow, DuckDB; a row
        per order line or per order.
    customers
        Path or DataFrame with one row per customer, joined by id; wins over the scheme's ``[customers] file``.
    scheme
        Path of a TOML file, a ``Scheme``, or nested settings as in the file. Without one, columns named like their
        roles are taken and all defaults hold.
    allow_set_aside
        Go on although more than 20 % of the rows cannot be used; ``set-aside`` among ``allow`` is the same.
    allow
        Codes of findings that are errors (``repeated-total``, ``discount-unit``, ``unmatched-customers``) and right in this file.

    Raises
    ------
    UsageError, SchemeError, ConditionError
        A path, key, column or condition is wrong.
    DataError
        The file holds nothing readable.
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
    for code in settled.orders.allow:
        if code not in ALLOWED:
            raise UsageError(f"`{code}` is no error that can be allowed. {nearest(code, ALLOWED)}")
    return Orders(orders, customers, settled, allow_set_aside=allow_set_aside or "set-aside" in settled.orders.allow)

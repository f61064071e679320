"""Every order row read once, in one pass: its id, day and amount, and what becomes of it (its state)."""

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from sqlglot import exp

from fairladder.conditions import ROLE, Condition, Kind, parse_condition, to_engine
from fairladder.errors import SchemeError
from fairladder.orders import cells
from fairladder.orders.rates import open_rates
from fairladder.orders.roles import Roles
from fairladder.orders.source import FILE, CellKind, Source
from fairladder.orders.states import says_void
from fairladder.orders.written import (
    DateStyle,
    Mark,
    day_at_once,
    day_in_style,
    plain_at_once,
    plain_number,
    settle_dates,
    settle_mark,
    sure_day,
)
from fairladder.scheme import Scheme
from fairladder.sqltree import all_of, any_of, case, cell_column, column, named, select, sql

#: What became of a row. UNDECIDED rows lack customer, order and date: blank, or a total, or ``no-customer``.
USED, TOTAL_ROW, UNDECIDED, CONFLICT, LEFT_OUT, UNKNOWN, REPEAT, OUTSIDE = 0, 1, 2, 10, 20, 21, 22, 30
BLANK_ROW = -1
REASONS: dict[int, str] = {
    TOTAL_ROW: "total-row", 3: "no-customer", 4: "no-order", 5: "no-date", 6: "bad-date", 7: "no-amount",
    8: "bad-amount", 9: "other-currency", CONFLICT: "conflicting-total",
}  # fmt: skip
CODES = {reason: code for code, reason in REASONS.items()}
_TOTAL_WORDS = ("total", "grand total", "subtotal", "sub-total", "sub total")


@dataclass(frozen=True)
class Rows:
    """The rows of a source with what their roles say, as a tree that any number of queries can start from."""

    source: Source
    roles: Roles
    scheme: Scheme
    condition: Condition | None
    settled: Mapping[str, Kind]
    """Kinds of the text columns that the condition names, where their cells settle one."""
    dates: DateStyle | None = None
    """How text dates are written beside ISO, where it was asked for or settled."""
    mark: Mark | None = None
    """The decimal mark of text numbers, where some are not plain."""
    evidence: tuple[str, ...] = ()
    """What settled them, in words."""
    rates: exp.Expr | None = None
    """The rates of exchange into the chosen currency, where there are any."""
    written_so: bool = False
    """Whether it has been settled how dates and numbers are written; cells that are still unread stay so."""
    channels: tuple[str, ...] | None = None
    """All channels there are, where they are known and few: each then has a bit, and orders are told apart faster."""

    @property
    def has_orders(self) -> bool:
        """Whether rows carry an order id; else each row is one order."""
        return self.roles.get("order") is not None

    def kind(self, role: str) -> CellKind | None:
        """Kind of a role's column, None where the role is not given."""
        name = self.roles.get(role)
        return self.source.columns[name] if name else None

    def text_of(self, role: str) -> exp.Expr | None:
        """The role's cell as trimmed text, or None where the role is not given."""
        name = self.roles.get(role)
        return cells.text(cell_column(name), self.source.columns[name]) if name else None

    def tree(self, numbered: bool = False) -> exp.Select:
        """All source columns and, per row, ``#customer``, ``#order``, ``#day``, ``#minor`` and ``#state``.

        Also ``#name``, ``#channel`` and ``#currency`` where those roles are given. ``numbered`` adds ``#row``, the row's
        number as a person sees it.
        """
        relation = self.source.numbered() if numbered else self.source.relation
        conflicts = self.scheme.orders.amount_is == "order" and self.has_orders
        order = sql(":c IS NULL", c=column("#order")) if self.has_orders else None
        no_date = sql(":s = :n", s=column("#cell_state"), n=CODES["no-date"])
        state = self.whole_state(column("#customer"), order, no_date, column("#cell_state"))
        judged = "#first" if conflicts else "#state"
        stated = select(["*", named(state, judged)], self._cells(relation, as_written=False), "cells")
        judged_rows = self._without_conflicts(stated) if conflicts else stated
        return self._without_repeats(judged_rows) if self.scheme.orders.drop else judged_rows

    @property
    def reads_as_written(self) -> bool:
        """Whether ``tree_as_written`` will do: nothing but the grouping needs the ids in their trimmed form."""
        ids = {"customer", "order", self.roles.get("customer"), self.roles.get("order")}
        named_ids = self.condition is not None and not ids.isdisjoint(self.condition.names)
        settings = self.scheme.orders
        return not named_ids and not settings.drop and not (settings.amount_is == "order" and self.has_orders)

    def tree_as_written(self, numbered: bool = False) -> exp.Select:
        """Like ``tree``, with ids as written (text ids untrimmed), and ``#cell_state``, which leaves ids aside.

        Trimming ids row by row costs as much as grouping by them, and exports whose ids need it are rare. So they are
        grouped as written, looked at once per group, and only where one needs trimming read again in full.
        """
        return self._cells(self.source.numbered() if numbered else self.source.relation, as_written=True)

    def whole_state(
        self,
        customer: exp.Expr,
        no_order: exp.Expr | None,
        no_date: exp.Expr,
        cell_state: exp.Expr,
    ) -> exp.Expr:
        """State of a row from its trimmed customer id, whether its order id and date are blank, and ``#cell_state``."""
        nobody = sql(":c IS NULL", c=customer)
        branches = [
            *([(self._says_total(customer), exp.Literal.number(TOTAL_ROW))] if self.kind("customer") == "text" else []),
            (all_of([nobody, no_date, *([no_order] if no_order else [])]), exp.Literal.number(UNDECIDED)),
            (nobody, exp.Literal.number(CODES["no-customer"])),
            *([(no_order, exp.Literal.number(CODES["no-order"]))] if no_order else []),
        ]
        return sql("CAST(:s AS TINYINT)", s=case(branches, cell_state))

    def unrounded(self) -> exp.Expr:
        """The row's amount in minor units as a float, before its one rounding."""
        if self._quick:
            amount: exp.Expr = sql("CAST(:c AS DOUBLE)", c=cell_column(self.roles.factors[0]))
        else:
            amount = column("#factor0")
            for i in range(1, len(self.roles.factors)):
                amount = sql(":a * :b", a=amount, b=column(f"#factor{i}"))
            if self.roles.get("discount"):
                percent = 100 if self.scheme.orders.discount_as == "percent" else 1
                amount = sql(":a * (1 - :d / :p)", a=amount, d=column("#discount"), p=percent)
        if self.rates is not None:
            amount = sql(":a * CAST(:r AS DOUBLE)", a=amount, r=column("#rate"))
        return sql(":a * :scale", a=amount, scale=10**self.scheme.money.decimals)

    # ------------------------------------------------------------------------------------------- one layer each

    def _cells(self, relation: exp.Expr, as_written: bool) -> exp.Select:
        if self.mark is not None:
            plain = [named(self._plain(name), f"#plain {name}") for name in self._text_numbers]
            relation = select(["*", *plain], relation).subquery("written", copy=False)
        if at_once := self._at_once():
            relation = select(["*", *at_once], relation).subquery("at_once", copy=False)
        read = select(["*", *self._read(as_written)], relation)
        dated = select(["*", named(self._day(), "#day")], read, "read")
        if self.rates is not None:
            dated = self._with_rates(dated, self.rates)
        valued = select(["*", named(self._minor(), "#minor")], dated, "dated")
        return select(["*", named(self._cell_state(), "#cell_state")], valued, "valued")

    @property
    def _glances(self) -> bool:
        """Whether the embedded engine reads, where most text cells can be read in one step and the rest with care."""
        return self.source.engine is self.source.engine.reader

    @property
    def _day_at_once(self) -> bool:
        return self._glances and self.kind("placed") == "text"

    def _at_once(self) -> list[exp.Expr]:
        """What days and amounts in their commonest form say; NULL where a closer look is needed."""
        if not self._glances:
            return []
        found = {f"#cast{i}": cells.cast_number(self._cell(f)) for i, f in enumerate(self.roles.factors)
                 if self.source.columns[f] == "text"}  # fmt: skip
        if self._day_at_once:
            style = "iso" if self.dates is None else self.dates.name
            styles = [*([style] if style != "iso" else []), "iso"]
            found["#day at once"] = day_at_once(cell_column(self.roles.get("placed") or ""), styles)
        return [named(tree, name) for name, tree in found.items()]

    def placed_text(self) -> exp.Expr:
        """The cell of a text ``placed``, trimmed."""
        return cells.text(cell_column(self.roles.get("placed") or ""), "text")

    def _read(self, as_written: bool) -> list[exp.Expr]:
        kinds, role = self.source.columns, self.roles.get
        found = {}
        for part in ("customer", "order"):
            if name := role(part):
                plain = as_written and kinds[name] == "text"
                found[f"#{part}"] = cell_column(name) if plain else cells.key(cell_column(name), kinds[name])
        placed = role("placed") or ""
        found["#placed"] = self.placed_text() if kinds[placed] == "text" else cell_column(placed)
        if self._day_at_once:  # trimming costs more than reading the day
            found["#placed"] = case([(sure_day(column("#day at once")), exp.null())], found["#placed"])
        for part in ("name", "channel", "currency"):
            if (text := self.text_of(part)) is not None:
                found[f"#{part}"] = text
        if not self._quick:
            for i, name in enumerate(self.roles.factors):
                number = cells.number(self._cell(name), kinds[name])
                if self._glances and kinds[name] == "text":
                    number = cells.number_of_cast(column(f"#cast{i}"), self._cell(name), number)
                found[f"#factor{i}"] = number
            if name := role("discount"):
                percent = self.scheme.orders.discount_as == "percent"
                found["#discount"] = cells.discount(self._cell(name), kinds[name], percent, cell_column(name))
        return [named(tree, name) for name, tree in found.items()]

    @property
    def unread(self) -> exp.Expr | None:
        """Over the rows' tree: 1 where a date in text could not be read as supposed, 2 where a number, 0 else.

        None where nothing is left to settle.
        """
        if self.written_so:
            return None
        branches = []
        values = {n: column(f"#factor{i}") for i, n in enumerate(self.roles.factors)}
        values |= {n: column("#discount") for n in [self.roles.get("discount")] if n}
        tests = [
            all_of([sql(":v IS NULL", v=values.get(n) or cells.number(cell_column(n), "text")),
                    sql(":c IS NOT NULL", c=cells.text(cell_column(n), "text"))])
            for n in self._text_numbers if self.mark is None
        ]  # fmt: skip
        if tests:
            branches.append((any_of(tests), exp.convert(2)))
        if self.dates is None and self.kind("placed") == "text":
            branches.append(
                (sql(":d IS NULL AND :p IS NOT NULL", d=column("#day"), p=column("#placed")), exp.convert(1))
            )
        return case(branches, exp.convert(0)) if branches else None

    def void(self) -> exp.Expr | None:
        """Over the rows' tree: whether a row's state says that its order does not stand; None without that role."""
        status = self.text_of("status")
        return says_void(status) if status is not None else None

    def over_one(self) -> tuple[exp.Expr, exp.Expr] | None:
        """Over the rows' tree: 1 where a discount is over 1, which a fraction cannot be, and 1 where it is a fraction.

        Cells with a ``%`` are neither. None where the unit is given.
        """
        name = self.roles.get("discount")
        if name is None or self.scheme.orders.discount_as is not None:
            return None
        number: exp.Expr = column("#discount")
        if self.source.columns[name] == "text":
            number = sql("CASE WHEN NOT CONTAINS(:c, '%') THEN :d END", c=cell_column(name), d=number)
        over, part = (
            sql("CASE WHEN :d > 1 THEN 1 ELSE 0 END", d=number),
            "CASE WHEN :d > 0 AND :d < 1 THEN 1 ELSE 0 END",
        )
        return over, sql(part, d=number)

    @property
    def _text_numbers(self) -> list[str]:
        """Text columns that are numbers by their role."""
        columns = [n for r in ("amount", "unit_price", "quantity", "discount", "cost") if (n := self.roles.get(r))]
        return [n for n in columns if self.source.columns[n] == "text"]

    def _plain(self, name: str) -> exp.Expr:
        assert self.mark is not None
        cell = cells.text(cell_column(name), "text")
        if name != self.roles.get("discount"):
            careful = plain_number(cell, self.mark)
            return plain_at_once(cell_column(name), self.mark, careful) if self._glances else careful
        bare = plain_number(sql("RTRIM(RTRIM(:c, '%'))", c=cell), self.mark)
        return sql("CASE WHEN ENDS_WITH(:c, '%') THEN :b || '%' ELSE :b END", c=cell, b=bare)

    def _cell(self, name: str) -> exp.Expr:
        """A number column's cell as its value is read from it."""
        return column(f"#plain {name}") if self.mark is not None and name in self._text_numbers else cell_column(name)

    @property
    def _quick(self) -> bool:
        factors = self.roles.factors
        return self.rates is None and len(factors) == 1 and self.source.columns[factors[0]] in ("whole", "decimal")

    @property
    def by_currency(self) -> bool:
        """Whether amounts are in the currencies that the rows name."""
        return self.roles.get("currency") is not None and self.rates is None

    def _with_rates(self, dated: exp.Select, rates: exp.Expr) -> exp.Select:
        """Add ``#rate``, what one of the row's currency is worth on its day in the chosen one; NULL where unknown."""
        own = exp.Literal.string(self.scheme.money.currency or "")
        rate = sql("CASE WHEN :c = :own THEN '1' ELSE rates.rate END", c=column("#currency"), own=own)
        holds = sql(
            "rates.currency = :c AND :d >= rates.since AND :d < rates.until", c=column("#currency"), d=column("#day")
        )
        everything = exp.Column(this=exp.Star(), table=exp.to_identifier("dated"))
        rated = select([everything, named(rate, "#rate")], dated, "dated")
        return rated.join(exp.alias_(rates, "rates", table=True), on=holds, join_type="left", copy=False)

    def _day(self) -> exp.Expr:
        day = cells.day(column("#placed"), self.kind("placed") or "text", self.scheme.time.time_zone)
        if self.dates is not None and self.dates.name != "iso":
            day = sql("COALESCE(:d, :s)", d=day, s=day_in_style(column("#placed"), self.dates.name))
        day = sql("CASE WHEN :d BETWEEN DATE '0001-01-01' AND DATE '9999-12-31' THEN :d END", d=day)
        once = column("#day at once")
        return case([(sure_day(once), once)], day) if self._day_at_once else day

    def _minor(self) -> exp.Expr:
        kinds, factors, decimals = self.source.columns, self.roles.factors, self.scheme.money.decimals
        if self._quick:
            whole = cells.whole_minor(cell_column(factors[0]), kinds[factors[0]], decimals)
            assert whole is not None
            return whole
        texts = [cells.text(self._cell(f), kinds[f]) for f in factors]
        discount = self.roles.get("discount")
        if len(factors) > 1:
            texts.append(cells.text(self._cell(discount), kinds[discount]) if discount else exp.null())
        return cells.minor(
            [column(f"#factor{i}") for i in range(len(factors))],
            column("#discount") if discount else None,
            texts, decimals, self.scheme.orders.discount_as == "percent",
            column("#rate") if self.rates is not None else None,
        )  # fmt: skip

    def _cell_state(self) -> exp.Expr:
        """The first reason that matches, ids aside; blank cells are looked at only where it matters."""
        code = {reason: exp.Literal.number(number) for reason, number in CODES.items()}
        no_day = sql(":d IS NULL", d=column("#day"))
        kind = self.kind("placed") or "text"
        no_placed = sql("(:p IS NULL)", p=column("#placed")) if kind == "text" else cells.blank(column("#placed"), kind)
        branches = [
            (all_of([no_day, no_placed]), code["no-date"]),
            (no_day, code["bad-date"]),
            (sql(":m IS NULL AND :b", m=column("#minor"), b=self._no_amount()), code["no-amount"]),
            *([] if self.rates is None else self._other_currency(code["other-currency"])),
            (sql(":m IS NULL", m=column("#minor")), code["bad-amount"]),
            *(self._other_currency(code["other-currency"]) if self.rates is None else []),
            *self._left_out(),
            *self._outside(),
        ]
        return sql("CAST(:r AS TINYINT)", r=case(branches, exp.Literal.number(USED)))

    @staticmethod
    def _says_total(customer: exp.Expr) -> exp.Expr:
        words = exp.Tuple(expressions=[exp.Literal.string(w) for w in _TOTAL_WORDS])
        return sql(
            # Only an id that ends like one of the words is worth the regular expressions.
            "CASE WHEN ARRAY_EXTRACT(:c, -1) IN ('l', 'L', ':') THEN LOWER(REGEXP_REPLACE(TRIM(REGEXP_REPLACE(:c, "
            "'\\s*:$', '')), '\\s+', ' ', 'g')) IN :words ELSE FALSE END",
            c=customer, words=words,
        )  # fmt: skip

    def _no_amount(self) -> exp.Expr:
        kinds = self.source.columns
        return any_of(cells.blank(cell_column(f), kinds[f]) for f in self.roles.factors)

    def _other_currency(self, code: exp.Expr) -> list[tuple[exp.Expr, exp.Expr]]:
        wanted = self.scheme.money.currency
        if wanted is None or self.roles.get("currency") is None:
            return []
        if self.rates is not None:
            return [(sql(":r IS NULL", r=column("#rate")), code)]
        return [(sql(":c IS DISTINCT FROM :w", c=column("#currency"), w=exp.Literal.string(wanted)), code)]

    def _left_out(self) -> list[tuple[exp.Expr, exp.Expr]]:
        if self.condition is None:
            return []
        values = self.condition_cells()
        holds = to_engine(self.condition, values)
        unknown = (sql(":h IS NULL", h=holds), exp.Literal.number(UNKNOWN))
        return [unknown, (sql("NOT :h", h=holds), exp.Literal.number(LEFT_OUT))]

    def _outside(self) -> list[tuple[exp.Expr, exp.Expr]]:
        time = self.scheme.time
        ends = [d for d in (time.as_of, time.through) if d is not None]
        beyond = []
        if time.from_ is not None:
            beyond.append(sql(":d < :day", d=column("#day"), day=_date(time.from_)))
        if ends:
            beyond.append(sql(":d > :day", d=column("#day"), day=_date(min(ends))))
        return [(test, exp.Literal.number(OUTSIDE)) for test in beyond]

    def _without_conflicts(self, stated: exp.Select) -> exp.Select:
        """Orders whose repeated totals disagree, among the rows that ``where`` keeps."""
        pair = [column("#customer"), column("#order")]
        disagree = (
            select(pair, stated, "stated")
            .where(sql(":s IN (:used, :out)", s=column("#first"), used=USED, out=OUTSIDE), copy=False)
            .group_by(*pair, copy=False)
            .having(sql("MIN(:m) <> MAX(:m)", m=column("#minor")), copy=False)
        )
        hit = all_of(
            [
                sql(":s IN (:used, :out)", s=column("#first"), used=USED, out=OUTSIDE),
                exp.In(this=exp.Tuple(expressions=pair), query=disagree.subquery(copy=False)),
            ]
        )
        state = case([(hit, exp.Literal.number(CONFLICT))], column("#first"))
        return select(["*", named(state, "#state")], stated, "judged")

    def _without_repeats(self, judged: exp.Select) -> exp.Select:
        """Used rows that repeat another in every cell left out, but the first of them, by file where there are several."""
        several = bool(self.source.parts)
        cells_of = [cell_column(name) for name in self.source.columns if not (several and name == FILE)]
        place = exp.Window(
            this=exp.RowNumber(), partition_by=[column("#state"), *cells_of],
            order=exp.Order(expressions=[exp.Ordered(this=column(FILE))]) if several else None,
        )  # fmt: skip
        placed = select(["*", named(place, "#place")], judged, "placed")
        repeats = sql(
            "CASE WHEN :s = :u AND :p > 1 THEN :r ELSE :s END", s=column("#state"), u=USED, p=column("#place"), r=REPEAT
        )
        inner = ["#state", "#place"]
        everything = exp.Star(**{"except_": [exp.to_identifier(name, quoted=True) for name in inner]})
        return select([everything, named(repeats, "#state")], placed, "counted")

    def condition_cells(self) -> dict[str, exp.Expr]:
        """Name → value of every column that a condition on rows can name, by source name and by role name.

        A role whose name is another column's is ``role.NAME``.
        """
        values = {n: _typed(n, kind, self.settled.get(n)) for n, kind in self.source.columns.items()}
        scale = 10**self.scheme.money.decimals
        by_role: Mapping[str, exp.Expr | None] = {
            "customer": sql("CAST(:c AS VARCHAR)", c=column("#customer")),
            "order": sql("CAST(:c AS VARCHAR)", c=column("#order")) if self.has_orders else None,
            "placed": column("#day"),
            "amount": sql("(CAST(:m AS DOUBLE) / :scale)", m=column("#minor"), scale=scale),
            **{r: self._number_cell(r) for r in ("unit_price", "quantity", "discount", "cost")},
            "status": self.text_of("status"),
            **{r: column(f"#{r}") for r in ("name", "channel", "currency")},
        }
        for role, tree in by_role.items():
            name = self.roles.get(role)
            if tree is None or (name is None and role != "amount"):
                continue
            values[role_key(role, self.source, self.roles)] = tree
            if name is not None:
                values[name] = tree
        return values

    def _number_cell(self, role: str) -> exp.Expr | None:
        name = self.roles.get(role)
        return cells.number(self._cell(name), self.source.columns[name]) if name else None


def _typed(name: str, kind: CellKind, settled: Kind | None) -> exp.Expr:
    if settled == "number":
        return cells.number(cell_column(name), kind)
    if settled == "day":
        return cells.day(cells.text(cell_column(name), kind), "text", None)
    if kind == "text":
        return cells.text(cell_column(name), kind)
    if kind in ("float", "single", "decimal"):
        return cells.number(cell_column(name), kind)
    return sql("CAST(:c AS DATE)", c=cell_column(name)) if kind in ("timestamp", "instant") else cell_column(name)


def _date(value: dt.date) -> exp.Expr:
    return sql("CAST(:d AS DATE)", d=exp.Literal.string(value.isoformat()))


_KINDS: dict[CellKind, Kind] = {
    "text": "text", "whole": "number", "decimal": "number", "float": "number", "single": "number", "date": "day", "timestamp": "day",
    "instant": "day", "truth": "truth",
}  # fmt: skip
_ROLE_KINDS: dict[str, Kind] = {
    "placed": "day", "amount": "number", "unit_price": "number", "quantity": "number", "discount": "number",
    "cost": "number",
}  # fmt: skip


def condition_kinds(source: Source, roles: Roles, settled: Mapping[str, Kind]) -> dict[str, Kind]:
    """Name → kind of every column that a condition on rows can name; ``settled`` overrides plain text columns."""
    kinds: dict[str, Kind] = {name: settled.get(name, _KINDS[kind]) for name, kind in source.columns.items()}
    for role, name in [*roles.columns.items(), ("amount", "amount")]:
        kind = _ROLE_KINDS.get(role, "text")
        kinds[role_key(role, source, roles)] = kind
        if name in source.columns and name == roles.get(role):
            kinds[name] = kind
    return kinds


def role_key(role: str, source: Source, roles: Roles) -> str:
    """What a role is called among the columns: its name, or ``role.NAME`` where that is another column's."""
    other = any(name.casefold() == role and name != roles.get(role) for name in source.columns)
    return f"{ROLE}.{role}" if other else role


def _twofold(source: Source, roles: Roles) -> list[str]:
    """Names of roles that are other columns' names, too."""
    return [role for role in {*roles.columns, "amount"} if role_key(role, source, roles) != role]


def open_rows(source: Source, roles: Roles, scheme: Scheme) -> Rows:
    """The rows with the scheme's ``where`` checked against the columns there are.

    Raises ConditionError where the condition is wrong.
    """
    text, asked = scheme.orders.where, scheme.orders
    if scheme.money.rates and not roles.get("currency"):
        raise SchemeError("[money] rates needs to know the rows' currency: name its column under [orders] currency.")
    known: dict[str, Any] = {
        "rates": open_rates(scheme.money.rates, source.engine) if scheme.money.rates else None,
        "dates": DateStyle(asked.date_format) if asked.date_format else None,
        "mark": asked.decimal_mark,
    }
    if text is None:
        return Rows(source, roles, scheme, None, {}, **known)
    loose = condition_kinds(source, roles, {})
    unsettled = [n for n in source.columns if source.text and n not in roles.columns.values()]
    twofold = _twofold(source, roles)
    names = parse_condition(text, {**loose, **dict.fromkeys(unsettled, "any")}, "where", twofold).names
    settled = settle_kinds(source, [n for n in unsettled if n in names])
    condition = parse_condition(text, condition_kinds(source, roles, settled), "where", twofold)
    return Rows(source, roles, scheme, condition, settled, **known)


def settled(rows: Rows, unread: int, foreign: exp.Expr | None = None) -> Rows:
    """The rows with how their text dates and numbers are written, as most cells show it.

    ``unread`` is the largest of ``Rows.unread``; a table ``foreign`` with all unread dates in ``written`` saves looking for them.
    Raises DataError where two ways are equally good.
    """
    placed, engine = rows.roles.get("placed") or "", rows.source.engine
    dates, mark, proof = rows.dates, rows.mark, list(rows.evidence)
    if unread and dates is None and rows.source.columns[placed] == "text":
        relation, name = (rows.source.relation, placed) if foreign is None else (foreign, "written")
        dates = settle_dates(relation, name, engine, told_as=placed)
        if dates.evidence:
            proof.append(f"Dates in `{placed}` are read {dates.name}: {dates.evidence}.")
    if unread > 1 and mark is None:
        mark, shown = settle_mark(rows.source.relation, rows._text_numbers, engine)
        if shown:
            proof.append(f"Numbers: {shown}.")
    if dates is not None and dates.name == "iso":
        dates = rows.dates  # nothing is written otherwise
    return replace(rows, dates=dates, mark=mark, evidence=tuple(proof), written_so=True)


def written_dates(rows: Rows) -> DateStyle | None:
    """How the orders' dates are written, asked or told by their own cells, whatever has been read so far."""
    placed = rows.roles.get("placed") or ""
    if rows.scheme.orders.date_format or rows.source.columns[placed] != "text":
        return rows.dates
    return settle_dates(rows.source.relation, placed, rows.source.engine, told_as=placed)


def settled_at_first(rows: Rows) -> Rows:
    """The rows settled where most of the first show that dates or numbers are written otherwise, so that none is read twice."""
    source, unread = rows.source, rows.unread
    if unread is None or source.engine is not source.engine.reader:
        return rows
    first = replace(
        source,
        relation=select(["*"], source.relation).limit(FIRST_ROWS // 100, copy=False).subquery("first", copy=False),
    )
    told = select([named(unread, "unread")], replace(rows, source=first).tree_as_written(), "first_rows")
    counts = source.engine.table(
        select([sql("unread"), sql("COUNT(*) AS n")], told, "told").group_by("unread", copy=False)
    )
    by_kind = dict(zip(counts["unread"].to_pylist(), counts["n"].to_pylist(), strict=True))
    return settled(rows, max(by_kind)) if sum(by_kind.values()) > 2 * by_kind.get(0, 0) else rows


def few_channels(rows: Rows) -> tuple[str, ...] | None:
    """The channels, where few: of all rows where columns are stored apart, else of the first, the rest showing later."""
    source, name = rows.source, rows.roles.get("channel")
    if name is None or source.engine is not source.engine.reader:
        return None  # the bits are the embedded engine's way
    relation = source.relation
    if source.text:
        relation = select([cell_column(name)], relation).limit(FIRST_ROWS, copy=False).subquery("first", copy=False)
    written = cells.text(cell_column(name), source.columns[name])
    found = select([named(written, "channel")], relation).distinct(copy=False)
    channels = [c for c in source.engine.table(found)["channel"].to_pylist() if c is not None]
    return tuple(sorted(channels)) if len(channels) <= MOST_CHANNELS else None


#: Rows of a text file that are looked at for its channels.
FIRST_ROWS = 100_000
#: Channels that have a bit of their own beside the one for a blank cell.
MOST_CHANNELS = 60


def settle_kinds(source: Source, names: list[str]) -> dict[str, Kind]:
    """Number or day, for the named text columns in which every cell that is not blank is one."""
    if not names:
        return {}
    tests = []
    for name in names:
        cell = cells.text(cell_column(name), "text")
        tests.append(
            named(sql("BOOL_AND(REGEXP_FULL_MATCH(:c, :plain))", c=cell, plain=_PLAIN_NUMBER), f"number {name}")
        )
        tests.append(
            named(
                sql(
                    "BOOL_AND(TRY_CAST(:c AS DATE) IS NOT NULL AND LENGTH(:c) = 10) FILTER (WHERE :c IS NOT NULL)",
                    c=cell,
                ),
                f"day {name}",
            )
        )
    answer = source.engine.table(select(tests, source.relation)).to_pylist()[0]
    kinds: dict[str, Kind] = {}
    for name in names:
        if answer[f"number {name}"]:
            kinds[name] = "number"
        elif answer[f"day {name}"]:
            kinds[name] = "day"
    return kinds


_PLAIN_NUMBER = exp.Literal.string(r"-?(0|[1-9]\d*)(\.\d+)?")

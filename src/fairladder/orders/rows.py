"""Read every order row once: its id, date, amount and state."""

from dataclasses import dataclass

from sqlglot import exp

from fairladder.conditions import parse_condition
from fairladder.errors import SchemeError, nearest
from fairladder.orders import cells
from fairladder.orders.rates import open_rates
from fairladder.orders.recipe import Recipe, condition_kinds, twofold_roles
from fairladder.orders.roles import Roles
from fairladder.orders.source import Source
from fairladder.orders.states import (
    JUDGED,
    RowState,
    cell_state,
    whole_state,
    without_conflicts,
    without_repeats,
)
from fairladder.orders.writing import (
    DateStyle,
    Writing,
    currency_in_cell,
    day_at_once,
    day_in_style,
    detect_kinds,
    plain_at_once,
    plain_number,
    sure_day,
)
from fairladder.scheme import Scheme
from fairladder.sqltree import all_of, any_of, case, cell_column, column, named, select, sql


@dataclass(frozen=True)
class Rows(Recipe):
    """The rows of a source with their roles' values, as a tree from which queries are built."""

    def tree(self, numbered: bool = False) -> exp.Select:
        """Return all source columns and, per row, ``#customer``, ``#order``, ``#day``, ``#minor``
        and ``#state``.

        Also ``#name``, ``#channel`` and ``#currency`` if those roles are given. ``numbered`` adds
        ``#row``, the row's number in the file.
        """
        relation = self.source.numbered() if numbered else self.source.relation
        conflicts = self.scheme.orders.amount_is == "order" and self.has_orders
        order = sql(":c IS NULL", c=column("#order")) if self.has_orders else None
        no_date = sql(":s = :n", s=column("#cell_state"), n=RowState.NO_DATE)
        state = whole_state(self, column("#customer"), order, no_date, column("#cell_state"))
        drop = self.scheme.orders.drop
        judged = JUDGED if drop else "#state"
        stated = select(
            ["*", named(state, "#first" if conflicts else judged)],
            self._cells(relation, as_written=False),
            "cells",
        )
        judged_rows = without_conflicts(stated, judged) if conflicts else stated
        return without_repeats(self, judged_rows) if drop else judged_rows

    @property
    def reads_as_written(self) -> bool:
        """Return True if rows can be read with ids as written, since only the grouping trims ids."""
        ids = {"customer", "order", self.roles.get("customer"), self.roles.get("order")}
        named_ids = self.condition is not None and not ids.isdisjoint(self.condition.names)
        settings = self.scheme.orders
        return (
            not named_ids
            and not settings.drop
            and not (settings.amount_is == "order" and self.has_orders)
        )

    def tree_as_written(self, numbered: bool = False) -> exp.Select:
        """Return ``tree`` with ids as written (text ids untrimmed), and ``#cell_state``, which does
        not depend on ids.

        Trimming ids row by row costs as much as grouping by them, and few exports need it. So they
        are grouped as written and checked once per group; only if one needs trimming is everything
        read again.
        """
        return self._cells(
            self.source.numbered() if numbered else self.source.relation, as_written=True
        )

    def unrounded(self) -> exp.Expr:
        """Return the row's amount in minor units as a float, before its one rounding."""
        if self.exact:
            amount: exp.Expr = sql("CAST(:c AS DOUBLE)", c=cell_column(self.roles.factors[0]))
        else:
            amount = column("#factor0")
            for i in range(1, len(self.roles.factors)):
                amount = sql(":a * :b", a=amount, b=column(f"#factor{i}"))
            if self.roles.get("discount"):
                percent = 100 if self.discount_unit == "percent" else 1
                less = ":a - :d" if self.discount_unit == "amount" else ":a * (1 - :d / :p)"
                amount = exp.paren(sql(less, a=amount, d=column("#discount"), p=percent))
        if self.rated:
            amount = sql(":a * CAST(:r AS DOUBLE)", a=amount, r=column("#rate"))
        return sql(":a * :scale", a=amount, scale=10**self.scheme.money.decimals)

    def _cells(self, relation: exp.Expr, as_written: bool) -> exp.Select:
        if self.elsewhere and self.text_roles:
            trimmed = [
                named(self.trim_text(cell_column(name)), f"#text {name}")
                for name in self.text_roles
            ]
            relation = select(["*", *trimmed], relation).subquery("trimmed", copy=False)
        if self.writing.mark is not None:
            plain = [named(self._plain(name), f"#plain {name}") for name in self.text_numbers]
            relation = select(["*", *plain], relation).subquery("written", copy=False)
        if at_once := self._at_once():
            relation = select(["*", *at_once], relation).subquery("at_once", copy=False)
        read = select(["*", *self._read(as_written)], relation)
        dated = select(["*", named(self._day(), "#day")], read, "read")
        if self.rates is not None:
            dated = self._with_rates(dated, self.rates)
        elif self.in_minor_units:  # an amount in cents is one at a rate of a hundredth
            part = exp.Literal.string(f"{self.part:f}")
            dated = select(["*", named(part, "#rate")], dated, "dated")
        valued = select(["*", named(self._minor(), "#minor")], dated, "dated")
        return select(["*", named(cell_state(self), "#cell_state")], valued, "valued")

    @property
    def _day_at_once(self) -> bool:
        return self.embedded and self.kind("placed") == "text"

    def _at_once(self) -> list[exp.Expr]:
        """Return dates and amounts in their most common form; NULL if a closer look is needed."""
        if not self.embedded:
            return []
        trees = {f"#cast{i}": cells.cast_number(self.cell(f)) for i,
        f in enumerate(self.roles.factors)
                 if self.source.columns[f] == "text"}  # fmt: skip
        if self._day_at_once:
            style = "iso" if self.writing.dates is None else self.writing.dates.name
            styles = [*([style] if style != "iso" else []), "iso"]
            trees["#day at once"] = day_at_once(cell_column(self.roles.get("placed") or ""), styles)
        return [named(tree, name) for name, tree in trees.items()]

    def _read(self, as_written: bool) -> list[exp.Expr]:
        kinds, role = self.source.columns, self.roles.get
        trees = {}
        for part in ("customer", "order"):
            if name := role(part):
                plain = as_written and kinds[name] == "text"
                trees[f"#{part}"] = (
                    cell_column(name)
                    if plain or kinds[name] == "whole"
                    else self.trimmed_as_written(name)
                )
        placed = role("placed") or ""
        trees["#placed"] = self.placed_text() if kinds[placed] == "text" else cell_column(placed)
        if self._day_at_once:  # trimming costs more than reading the date
            trees["#placed"] = case(
                [(sure_day(column("#day at once")), exp.null())], trees["#placed"]
            )
        for part in ("name", "channel", "currency"):
            if (text := self.text_of(part)) is not None:
                trees[f"#{part}"] = text
        if self.writing.currencies:
            trees["#currency"] = currency_in_cell(
                self.trimmed_as_written(self.roles.factors[0]), self.writing.currencies
            )
        if not self.exact:
            for i, name in enumerate(self.roles.factors):
                number = self.number_of(name)
                if self.embedded and kinds[name] == "text":
                    number = cells.number_of_cast(column(f"#cast{i}"), self.cell(name), number)
                trees[f"#factor{i}"] = number
            if name := role("discount"):
                in_text = kinds[name] == "text"
                clean = self.trimmed(name) if in_text else cell_column(name)
                nothing = (
                    sql("(:t IS NULL)", t=self.trimmed_as_written(name))
                    if in_text
                    else cells.blank(clean, kinds[name])
                )
                trees["#discount"] = cells.discount(clean, kinds[name], self.discount_unit, nothing)
        return [named(tree, name) for name, tree in trees.items()]

    @property
    def unread(self) -> exp.Expr | None:
        """Return 1 if a text date does not have the expected format, 2 if a number does not,
        otherwise 0, over the rows' tree.

        Returns None if all formats are known.
        """
        if self.writing.detected:
            return None
        branches = []
        values = {n: column(f"#factor{i}") for i, n in enumerate(self.roles.factors)}
        values |= {n: column("#discount") for n in [self.roles.get("discount")] if n}
        tests = [
            _unread_number(values.get(n) or self.number_of(n), self.trimmed_as_written(n),
            cell_column(n), self.writing.point_proven)
            for n in self.text_numbers if self.writing.mark is None
        ]  # fmt: skip
        if tests:
            branches.append((any_of(tests), exp.convert(2)))
        if self.writing.dates is None and self.kind("placed") == "text":
            branches.append(
                (
                    sql(":d IS NULL AND :p IS NOT NULL", d=column("#day"), p=column("#placed")),
                    exp.convert(1),
                )
            )
        return case(branches, exp.convert(0)) if branches else None

    def discount_signs(self) -> dict[str, exp.Expr]:
        """Return flags for discounts over 1 (impossible for fractions), between 0 and 1, and
        exactly 1, over the rows' tree.

        Cells with a ``%`` have no flags. Empty if the unit is given or known.
        """
        name = self.roles.get("discount")
        if (
            name is None
            or self.scheme.orders.discount_as is not None
            or self.writing.discounts is not None
        ):
            return {}
        number: exp.Expr = column("#discount")
        if self.source.columns[name] == "text":
            number = sql(
                "CASE WHEN NOT CONTAINS(:c, '%') THEN :d END", c=cell_column(name), d=number
            )
        tests = {"over_one": ":d > 1", "below_one": ":d > 0 AND :d < 1", "at_one": ":d = 1"}
        return {
            sign: sql(f"CASE WHEN {test} THEN 1 ELSE 0 END", d=number)
            for sign, test in tests.items()
        }

    def _plain(self, name: str) -> exp.Expr:
        assert self.writing.mark is not None
        cell = self.trimmed_as_written(name)
        if name != self.roles.get("discount"):
            careful = plain_number(cell, self.writing.mark, self.writing.zero)
            return (
                plain_at_once(cell_column(name), self.writing.mark, careful)
                if self.embedded
                else careful
            )
        off = sql(
            "REGEXP_REPLACE(:c, '^\\((.*)\\)$', '\\1')", c=cell
        )  # a discount in parentheses is not a surcharge
        bare = plain_number(
            sql("RTRIM(RTRIM(:c, '%'))", c=off), self.writing.mark, self.writing.zero
        )
        return sql("CASE WHEN ENDS_WITH(:c, '%') THEN :b || '%' ELSE :b END", c=cell, b=bare)

    def _with_rates(self, dated: exp.Select, rates: exp.Expr) -> exp.Select:
        """Add ``#rate``, the value of the row's currency in the chosen one on its day; NULL if
        unknown.
        """
        own = exp.Literal.string(self.scheme.money.currency or "")
        one = exp.Literal.string(f"{self.part:f}")
        rate = sql(
            "CASE WHEN :c = :own THEN :one ELSE rates.rate END",
            c=column("#currency"),
            own=own,
            one=one,
        )
        holds = sql(
            "rates.currency = :c AND :d >= rates.since AND :d < rates.until",
            c=column("#currency"),
            d=column("#day"),
        )
        everything = exp.Column(this=exp.Star(), table=exp.to_identifier("dated"))
        rated = select([everything, named(rate, "#rate")], dated, "dated")
        return rated.join(
            exp.alias_(rates, "rates", table=True), on=holds, join_type="left", copy=False
        )

    def _day(self) -> exp.Expr:
        day = cells.day(
            column("#placed"), self.kind("placed") or "text", self.scheme.time.time_zone
        )
        if self.writing.dates is not None and self.writing.dates.name != "iso":
            day = sql(
                "COALESCE(:d, :s)",
                d=day,
                s=day_in_style(column("#placed"), self.writing.dates, self.scheme.time.time_zone),
            )
        day = cells.day_there_is(day)
        once = column("#day at once")
        return case([(sure_day(once), once)], day) if self._day_at_once else day

    def _minor(self) -> exp.Expr:
        kinds, factors, decimals = (
            self.source.columns,
            self.roles.factors,
            self.scheme.money.decimals,
        )
        if self.exact:
            whole = cells.whole_minor(cell_column(factors[0]), kinds[factors[0]], decimals)
            assert whole is not None
            return whole
        texts = [self.trimmed(f) for f in factors]
        numbers: list[exp.Expr] = [column(f"#factor{i}") for i in range(len(factors))]
        discount = self.roles.get("discount")
        if discount and len(factors) == 1:  # the amount is a unit price
            texts, numbers = [*texts, exp.Literal.string("1")], [*numbers, sql("CAST(1 AS DOUBLE)")]
        if len(numbers) > 1:
            texts.append(self.trimmed(discount) if discount else exp.null())
        return cells.minor(
            numbers,
            column("#discount") if discount else None,
            texts, decimals, self.discount_unit,
            column("#rate") if self.rated else None,
        )  # fmt: skip


def _unread_number(
    value: exp.Expr, written: exp.Expr, cell: exp.Expr, point_proven: bool
) -> exp.Expr:
    """Return a condition for cells that are not plain numbers, or have a point before the last
    three digits, which may be a thousands separator.
    """
    unread = all_of([sql(":v IS NULL", v=value), sql(":c IS NOT NULL", c=written)])
    if point_proven:
        return unread
    return any_of([unread, sql("COALESCE(SUBSTRING(:c, LENGTH(:c) - 3, 1) = '.', FALSE)", c=cell)])


def open_rows(source: Source, roles: Roles, scheme: Scheme) -> Rows:
    """Return the rows, after checking the scheme's ``where`` against the existing columns.

    Raises ConditionError if the condition is wrong.
    """
    text, part = scheme.orders.where, scheme.orders
    if (
        scheme.money.rates
        and not roles.get("currency")
        and source.columns[roles.factors[0]] != "text"
    ):
        raise SchemeError(
            "[money] rates needs the rows' currency: name its column under [orders] currency."
        )
    written = part.date_format or roles.date_format
    evidence: tuple[str, ...] = ()
    if roles.date_format and not part.date_format:
        evidence = (
            f"The numbers in `{roles.get('placed')}` are probably dates, read as "
            f"{roles.date_format}.",
        )
    style = DateStyle(written, any_years=bool(part.date_format)) if written else None
    writing = Writing(style, part.decimal_mark, evidence)
    plain = Rows(source, roles, scheme, None, {}, writing)
    for name in scheme.money.columns:
        if name not in source.columns:
            raise SchemeError(
                f"{source.label} has no column `{name}`, which [money] columns names. "
                f"{nearest(name, source.columns)}"
            )
    rates = (
        open_rates(scheme.money.rates, source.engine, plain.part) if scheme.money.rates else None
    )
    if text is None:
        return Rows(source, roles, scheme, None, {}, writing, rates)
    loose = condition_kinds(source, roles, {})
    without_role = [n for n in source.columns if source.text and n not in roles.columns.values()]
    twofold = twofold_roles(source, roles)
    names = parse_condition(
        text, {**loose, **dict.fromkeys(without_role, "any")}, "where", twofold
    ).names
    found_kinds = detect_kinds(source, [n for n in without_role if n in names])
    condition = parse_condition(text, condition_kinds(source, roles, found_kinds), "where", twofold)
    return Rows(source, roles, scheme, condition, found_kinds, writing, rates)

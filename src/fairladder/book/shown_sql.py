"""Print the reduction as readable SQL that can be run: each step is named and commented, and
repeated expressions are macros.
"""

from collections.abc import Iterator
from dataclasses import replace

from sqlglot import exp

from fairladder.book.opened import Opened
from fairladder.book.reduction import reduction
from fairladder.engine.exact import EXACT_MINOR
from fairladder.engine.layout import laid_out
from fairladder.orders import cells
from fairladder.orders.formats import with_detected_formats
from fairladder.orders.rows import Rows
from fairladder.orders.states import RowState
from fairladder.sqltree import column, sql

_STATES = ", ".join(
    f"{s.value} {s.name.lower().replace('_', ' ')}" for s in RowState if 0 <= s < RowState.NEITHER
)
#: Step of the reduction → its name for people, and its comment.
_STEPS = {
    "typed": ("typed", "The columns that count, with their types."),
    "trimmed": ("trimmed", "Texts without surrounding whitespace; null if nothing is left."),
    "written": ("as_plain_numbers",
    "Numbers in plain notation, without currency symbols and thousands separators."),
    "read": ("cells_read",
    "The cells' values: ids trimmed and blank ones null, numbers as numbers."),
    "dated": ("with_days", "The calendar day of each row."),
    "valued": ("with_amounts", "The amount of each row in whole minor units, rounded once."),
    "cells": ("with_cell_states",
    "The state of each row, without regard to ids. The first that applies of: " + _STATES + "."),
    "stated": ("with_states", "The same with the ids taken into account."),
    "judged": ("without_conflicts", "Orders whose repeated totals disagree are set aside."),
    "placed": ("copies_counted", "Rows that repeat another in every cell are counted."),
    "order_rows": ("all_rows", "The state of each row, blank ids and total rows included."),
    "order_lines": ("lines", "The columns that orders are made of."),
    "orders": ("order_totals", "Rows to orders. Rows that do not count become one order for each state."),
    "divided": ("purchases_only", "Values that count for purchases only are null in other orders."),
    "customers": ("customer_totals",
    ("Orders to customers: counts, dates and sums in minor units. All other measures follow "
        "from these.")),
}  # fmt: skip


def reduction_sql(opened: Opened) -> str:
    """Return the reduction of these orders as text in the dialect of their engine.

    The executed query takes shortcuts for speed and looks for signs of trouble; this one gives the
    same customers and balance plainly. The formats of dates and numbers are determined first, by
    looking at the cells.
    """
    rows = replace(with_detected_formats(opened.rows, 2), plainly=True)
    query = in_steps(reduction(rows, as_written=False))
    if rows.source.engine is not rows.source.engine.reader:
        return opened.engine.sql(query)
    return with_macros(query, rows)


def in_steps(query: exp.Select) -> exp.Select:
    """Return the query with its sub-queries named one after the other."""
    steps: list[tuple[str, exp.Select]] = []
    last = _unnested(query.copy(), steps)
    for name, step in steps:
        last = last.with_(name, as_=step, copy=False)
    return last


def _unnested(query: exp.Select, steps: list[tuple[str, exp.Select]]) -> exp.Select:
    source = query.args["from_"].this
    if (
        isinstance(source, exp.Subquery)
        and isinstance(source.this, exp.Select)
        and source.alias in _STEPS
    ):
        name, comment = _STEPS[source.alias]
        inner = _unnested(source.this, steps)
        inner.add_comments([f" {comment} "])
        steps.append((name, inner))
        query.args["from_"].set("this", exp.to_table(name))
    for projection in query.selects:  # `"day" AS "day"` is the same as `"day"`
        if (
            isinstance(projection, exp.Alias)
            and isinstance(projection.this, exp.Column)
            and projection.this.name == projection.alias
        ):
            projection.replace(projection.this)
    return query


def with_macros(query: exp.Select, rows: Rows) -> str:
    """Return the text of a query whose common expressions are macros of the embedded engine,
    defined before it.
    """
    wanted: list[exp.Expr] = [query]
    for name, comment, template, body in _macros(rows):
        if sum(_named(tree, name, template) for tree in wanted):  # in all of them, so not `any`
            wanted.append(_macro(name, ["cell"], body, comment))
    exact = {
        f.name.lower()
        for f in query.find_all(exp.Anonymous)
        if f.name.lower().startswith(EXACT_MINOR)
    }
    wanted += [_exact(name, rows) for name in sorted(exact)]
    return ";\n".join(laid_out(tree, "duckdb") for tree in reversed(wanted))


def _macros(rows: Rows) -> Iterator[tuple[str, str, exp.Expr, exp.Expr]]:
    """Yield macros, those that contain others first: name, comment, the expression over ``cell``
    that it replaces, and its body.

    Bodies omit the shortcuts of the expressions, which do not matter to readers.
    """
    cell, zone = column("cell"), rows.scheme.time.time_zone
    day, plain_day = cells.day(cell, "text", zone), cells.day_with_care(cell, zone)
    yield (
        "day_of",
        "The date in a text, null if there is none.",
        cells.day_there_is(day),
        cells.day_there_is(plain_day),
    )
    yield (
        "as_day",
        "The date in a text like 2026-06-30, with or without a time and an offset from UTC.",
        plain_day,
        plain_day,
    )
    offset = cells.offset_with_care(cell)
    yield "has_offset", "True if a time ends in an offset from UTC.", offset, offset
    number = cells.number(cell, "text")
    yield "number_of", "The number in a text, null if there is none.", number, number
    yield (
        "trimmed",
        "A text without surrounding whitespace or a spreadsheet's leading apostrophe, null "
        "if nothing is left.",
        cells.text(cell, "text"),
        cells.trimmed_for_people(cell),
    )


def _macro(name: str, parameters: list[str], body: exp.Expr, comment: str) -> exp.Create:
    function = exp.UserDefinedFunction(
        this=exp.to_table(name),
        expressions=[exp.to_identifier(p) for p in parameters],
        wrapped=True,
    )
    made = exp.Create(
        this=function, kind="MACRO", replace=True, expression=body.copy(),
        properties=exp.Properties(expressions=[exp.TemporaryProperty()]),
    )  # fmt: skip
    made.add_comments([f" {comment} "])
    return made


def _exact(name: str, rows: Rows) -> exp.Create:
    """Return ``exact_minor`` in plain SQL, for amounts that a float may not represent exactly."""
    factors = (
        ["price", "quantity", "discount"]
        if name.split("rated")[0].endswith(("product", "product_"))
        else ["amount"]
    )
    factors += ["rate"] if name.endswith("rated") else []
    product: exp.Expr = exp.convert(10**rows.scheme.money.decimals)
    for factor in factors:
        number = sql("CAST(:f AS DECIMAL(38, 9))", f=column(factor))
        if factor == "discount" and "_amount" in name:
            off = sql("COALESCE(:n, 0) * :s", n=number, s=10**rows.scheme.money.decimals)
            product = exp.paren(sql(":p - :o", p=product, o=exp.paren(off)))
            continue
        if factor == "discount":
            unit = 100 if "percent" in name else 1
            number = sql("(1 - COALESCE(:n, 0) / :u)", n=number, u=unit)
        product = sql(":p * :n", p=product, n=number)
    return _macro(
        name,
        factors,
        sql("CAST(ROUND(:p) AS BIGINT)", p=product),
        "Minor units, for which rounding a float could differ from rounding the decimal.",
    )


def _named(tree: exp.Expr, name: str, template: exp.Expr) -> bool:
    """Replace the template with a call of the macro wherever it occurs in the tree; return True if
    it occurs.
    """
    anywhere = False
    for node in list(tree.walk()):
        bound: list[exp.Expr] = []
        if (
            type(node) is type(template)
            and _matches(template, node, bound)
            and node.parent is not None
        ):
            node.replace(exp.Anonymous(this=name, expressions=[bound[0].copy()]))
            anywhere = True
    return anywhere


def _matches(template: object, node: object, bound: list[exp.Expr]) -> bool:
    if isinstance(template, exp.Column) and template.name == "cell":
        if isinstance(node, exp.Expr):
            bound.append(node)
        return bool(bound) and node == bound[0]
    if isinstance(template, exp.Expr):
        return type(template) is type(node) and all(
            _matches(template.args.get(k), node.args.get(k), bound)
            for k in {*template.args, *node.args}
        )
    if isinstance(template, list):
        return (
            isinstance(node, list)
            and len(template) == len(node)
            and all(_matches(t, n, bound) for t, n in zip(template, node, strict=True))
        )
    return template == node or not (template or node)

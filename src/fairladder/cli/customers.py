"""``fairladder customers``: one row per customer."""

from dataclasses import replace
from typing import TYPE_CHECKING, Annotated

from sqlglot import exp

from fairladder import columns as registry
from fairladder import wording
from fairladder.cli import as_sql
from fairladder.cli.options import Columns, Request, Sort, When, names_in, option
from fairladder.errors import UsageError
from fairladder.sqltree import column, sql

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

    from fairladder.output.listing import Listing

PARTS = ("customers",)
_SHOWN = 12


AsSql = Annotated[
    str | None,
    option(
        "--as-sql",
        help=f"Print the reduction as SQL: {as_sql.KNOWN_WITH_TYPES}.",
        metavar="DIALECT",
        panel="Output",
    ),
]


def customers(
    request: Request,
    when: When = None,
    sort: Sort = None,
    columns: Columns = None,
    dialect: AsSql = None,
    as_view: as_sql.AsView = None,
) -> None:
    """One row per customer: last order, number of orders, spend, average order value, share of the
    total.
    """
    from fairladder.cli import door, screen

    as_sql.require(request, dialect, as_view)
    if dialect is not None and (when or sort or columns):
        raise UsageError(
            "--as-sql prints the whole reduction and cannot be combined with --when, --sort "
            "and --columns."
        )
    orders = door.opened(request, PARTS, frames=False, spread=dialect is None)
    if dialect is not None:
        from fairladder.book.on_paper import customers_sql

        as_sql.print_statement(
            customers_sql(
                orders, dialect, table=orders.scheme.orders.table or "orders", view=as_view
            ),
            dialect,
        )
        return
    engine, measures = orders.customer_engine, (when or "", sort or "")
    with screen.busy(request, "Reducing the orders to customers", engine):
        from fairladder.scores.selection import chosen
        from fairladder.value.to_score import forecast_notes, people_to_score

        people = engine.keep(people_to_score(orders, *measures))
        listing = chosen(orders, people, when=when, sort=sort, columns=names_in(columns))
    if not orders.balance.used:
        screen.note(
            request,
            ("No row can be used, so no customer has orders. Run `fairladder check` to see why."),
        )
    shown = []
    if screen.for_people(request):
        everything = chosen(orders, people, when=when, sort=sort or None)
        order = (
            everything.order
            if sort
            else (exp.Ordered(this=column("spend"), desc=True), column("customer"))
        )
        bought = len(
            replace(everything, rows=everything.rows.copy().where(sql("orders > 0"), copy=False))
        )
        shown = [
            view(
                replace(everything, order=order).frame(_SHOWN),
                bought,
                len(everything),
                _totals(everything),
                when,
                sort,
            )
        ]
    door.give(
        request,
        orders,
        {"customers": listing},
        shown,
        notes=forecast_notes(orders, *measures),
        as_table=bool(columns),
    )


def _totals(customers: "Listing") -> tuple[int, float, float]:
    """Return the orders, spend and share of spend of all these customers."""
    from fairladder.numbers import EXACT_DECIMALS
    from fairladder.sqltree import named, select, sql

    sums = (
        "SUM(orders)",
        f"SUM(CAST(ROUND(spend * {10**EXACT_DECIMALS}) AS BIGINT))",
        "SUM(spend_share)",
    )
    query = select([named(sql(s), f"sum {i}") for i, s in enumerate(sums)], customers.rows, "rows")
    orders, spend, share = customers.engine.table(query).to_pylist()[0].values()
    return int(orders or 0), int(spend or 0) / 10**EXACT_DECIMALS, float(share or 0)


def view(
    most: "pd.DataFrame", bought: int, count: int, totals: tuple[int, float, float],
    when: str | None = None, sort: str | None = None,
) -> "RenderableType":  # fmt: skip
    """Show the first of ``count`` customers, of whom ``bought`` have a purchase: the largest spend
    first, or in the requested order; then the ``totals`` of all: orders, spend, share of spend.
    """
    from fairladder.cli.screen import cells_of, table

    names = [
        "customer",
        *(["name"] if "name" in most else []),
        "orders",
        "last_order",
        "recency_days",
        "spend",
    ]
    names += ["average_order_value", "spend_share", "spend_share_running"]
    held = wording.percent(most["spend_share"].sum())
    title = (
        f"Who spent most? {wording.counted(bought, 'customers')} bought; the first {len(most)} "
        f"account for {held} of all spend"
    )
    if when or sort:
        of_them = "all" if bought == count else "none" if not bought else wording.count(bought)
        title = f"Which customers match? {wording.counted(count, 'customers')}, {of_them} with a purchase"
        title += f", ranked by {sort}" if sort else ""
    orders, spend, share = totals
    last = {
        "customer": "all",
        "orders": wording.count(orders),
        "spend": wording.cell(spend, "money"),
        "average_order_value": wording.cell(spend / orders if orders else None, "money"),
        "spend_share": wording.cell(share, "share"),
    }
    rows = [*cells_of(most, names), [last.get(name, "") for name in names]]
    return table(title, list(map(registry.title, names)), rows, left=names.index("orders"))

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
                replace(everything, order=order).frame(_SHOWN), bought, len(everything), when, sort
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


def view(
    most: "pd.DataFrame", bought: int, count: int, when: str | None = None, sort: str | None = None
) -> "RenderableType":
    """Show the first of ``count`` customers, of whom ``bought`` have a purchase: the largest spend
    first, or in the requested order.
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
    return table(
        title, list(map(registry.title, names)), cells_of(most, names), left=names.index("orders")
    )

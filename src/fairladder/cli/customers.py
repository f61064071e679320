"""``fairladder customers``: one row per customer."""

from typing import TYPE_CHECKING, Annotated

from fairladder import columns as registry
from fairladder import wording
from fairladder.cli import as_sql
from fairladder.cli.options import Columns, Request, Sort, When, names_in, option
from fairladder.errors import UsageError

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

PARTS = ("customers",)
_SHOWN = 12


AsSql = Annotated[
    str | None,
    option(
        "--as-sql", help=f"Print the reduction as SQL: {as_sql.KNOWN_WITH_TYPES}.", metavar="DIALECT", panel="Output"
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
    """One row per customer: when last, how often, how much, per order, what share of the whole?"""
    from fairladder.cli import door, screen

    as_sql.require(request, dialect, as_view)
    if dialect is not None and (when or sort or columns):
        raise UsageError("--as-sql prints the whole reduction; --when, --sort and --columns do not go with it.")
    orders = door.opened(request, PARTS, spread=dialect is None)
    if dialect is not None:
        from fairladder.book.on_paper import customers_sql

        as_sql.print_statement(
            customers_sql(orders, dialect, table=orders.scheme.orders.table or "orders", view=as_view), dialect
        )
        return
    if orders.engine.keeps_customers:
        from fairladder.cli import on_cluster

        on_cluster.customers(request, orders, when, sort, names_in(columns))
        return
    with screen.busy(request, "Reducing the orders to customers", orders.engine):
        from fairladder.book.spend import bought
        from fairladder.scores.selection import select
        from fairladder.value.to_score import customers_to_score

        everybody = customers_to_score(orders, when or "", sort or "")
        frame = select(everybody, when=when, sort=sort, columns=names_in(columns))
    if not orders.balance.used:
        screen.note(request, "No row can be used, so nobody has orders here; `fairladder check` says why.")
    chosen = select(everybody, when=when, sort=sort)
    shown = view(chosen, int(bought(chosen).sum()), when, sort)
    door.give(request, orders, {"customers": frame}, [shown], as_table=bool(columns))


def view(frame: "pd.DataFrame", bought: int, when: str | None = None, sort: str | None = None) -> "RenderableType":
    """Those of ``bought`` customers with a purchase who spent the most, or the first ones in the order asked for."""
    from fairladder.cli.screen import cells_of, table

    if not sort:
        frame = frame.sort_values(["spend", "customer"], ascending=[False, True], kind="stable")
    most = frame.head(_SHOWN)
    names = ["customer", *(["name"] if "name" in frame else []), "orders", "last_order", "recency_days", "spend"]
    names += ["average_order_value", "spend_share", "spend_share_running"]
    held = wording.percent(most["spend_share"].sum())
    title = f"Who spent the most? {wording.counted(bought, 'customers')} bought; the first {len(most)} bring {held} of all spend"
    if when or sort:
        of_them = "all" if bought == len(frame) else "none" if not bought else wording.count(bought)
        title = f"Which customers match? {wording.counted(len(frame), 'customers')}, {of_them} with a purchase"
        title += f", ranked by {sort}" if sort else ""
    return table(title, list(map(registry.title, names)), cells_of(most, names), left=names.index("orders"))

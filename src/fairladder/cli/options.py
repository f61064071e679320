"""Options that every command shares, in one place, and the errors of all commands told in one way."""

import functools
import inspect
import os
import sys
import warnings
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, ExitStack
from contextvars import ContextVar
from dataclasses import MISSING, dataclass, fields
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, get_type_hints

import typer

from fairladder import looks, shares
from fairladder.errors import FairLadderError, FairLadderWarning, UsageError, nearest

if TYPE_CHECKING:
    from fairladder.order_book import Orders
    from fairladder.scheme import Scheme

_WINDOW, _OUTPUT, _COLUMNS = "Rows and days", "Output", "Columns of the orders (where the scheme does not name them)"


_WRITING = "How the file is written (where it does not tell)"
_WRITTEN = (
    "drop",
    "discount_as",
    "table",
    "query",
    "date_format",
    "decimal_mark",
    "separator",
    "encoding",
    "header_row",
    "sheet",
)


def option(*names: str, help: str, panel: str, metavar: str | None = None) -> Any:  # noqa: A002  # Typer's own word
    """An option without a default to show, under a heading of the help."""
    return typer.Option(*names, help=help, rich_help_panel=panel, metavar=metavar, show_default=False)


def as_fraction(option: str, text: str | None) -> float | None:
    """``0.2`` or ``20%`` of an option, or None; UsageError for what is no share."""
    return _share(option, shares.fraction, text)


def as_percent(option: str, text: str | None) -> float | None:
    """``20`` or ``20%`` of an option, or None; UsageError for what is no share."""
    return _share(option, shares.percent, text)


def _share(option: str, read: Callable[[str], Any], text: str | None) -> float | None:
    try:
        return None if text is None else float(read(text))
    except ValueError as error:
        raise UsageError(f"{option} {text}: {error}.") from None


def known_period(period: str | None) -> None:
    """Raise UsageError for a period that there is not, before any work is done."""
    if period is not None:
        from fairladder.days import PERIODS

        if period not in PERIODS:
            raise UsageError(f"There is no period {period!r}. {nearest(period, PERIODS)}")


def _column(role: str, what: str) -> Any:
    return option(f"--{role.replace('_', '-')}-column", help=what, panel=_COLUMNS, metavar="NAME")


def figure_option(figures: tuple[str, ...]) -> Any:
    """``--figure-of``, for commands that draw several figures."""
    return typer.Option(
        "--figure-of",
        help=f"What --figure draws: {', '.join(figures)}.",
        metavar="NAME",
        show_default=False,
        rich_help_panel=_OUTPUT,
    )


def known_figure(name: str, figures: tuple[str, ...]) -> None:
    """Raise UsageError for a figure that the command does not draw."""
    if name not in figures:
        raise UsageError(f"--figure-of {name}: there is no such figure. {nearest(name, figures)}")


@dataclass(frozen=True)
class Request:
    """What the person asked for, as typed; ``open`` makes the orders of it."""

    orders: Annotated[
        str,
        typer.Argument(
            help="Orders: CSV, TSV, Parquet, JSON, a workbook, a glob of them, - for standard input, or a database's URL.",
            metavar="ORDERS",
        ),
    ]
    scheme: Annotated[
        Path | None, option("--scheme", help="The scheme: a TOML file of all settings.", panel=_WINDOW, metavar="FILE")
    ] = None
    customers: Annotated[
        Path | None, option("--customers", help="A file with one row per customer.", panel=_WINDOW, metavar="FILE")
    ] = None
    as_of: Annotated[
        str | None,
        option("--as-of", help="Day of reckoning; rows after it do not count.", panel=_WINDOW, metavar="DAY"),
    ] = None
    from_: Annotated[str | None, option("--from", help="First day of the window.", panel=_WINDOW, metavar="DAY")] = None
    through: Annotated[
        str | None, option("--through", help="Last day of the window, itself included.", panel=_WINDOW, metavar="DAY")
    ] = None
    where: Annotated[
        str | None,
        option("--where", help="SQL condition on rows, added to the scheme's.", panel=_WINDOW, metavar="CONDITION"),
    ] = None
    allow_set_aside: Annotated[
        bool,
        typer.Option(
            "--allow-set-aside", help="Go on though over 20 % of rows cannot be used.", rich_help_panel=_WINDOW
        ),
    ] = False
    allow: Annotated[
        list[str] | None,
        option(
            "--allow",
            help="A finding that is an error, and right in this file: repeated-total, discount-unit, unmatched-customers.",
            panel=_WINDOW,
            metavar="FINDING",
        ),
    ] = None
    drop: Annotated[
        str | None,
        option("--drop", help="repeats: rows that repeat another in every cell.", panel=_WINDOW, metavar="WHAT"),
    ] = None
    out: Annotated[
        str | None,
        option(
            "--out",
            help="Write here: .csv, .parquet, .json or .xlsx; - is standard output.",
            panel=_OUTPUT,
            metavar="FILE",
        ),
    ] = None
    part: Annotated[
        str | None, option("--part", help="Which table, where a result has several.", panel=_OUTPUT, metavar="NAME")
    ] = None
    figure: Annotated[
        Path | None, option("--figure", help="Draw here: .png, .svg or .pdf.", panel=_OUTPUT, metavar="FILE")
    ] = None
    spreadsheet_safe: Annotated[
        bool | None,
        typer.Option(
            "--spreadsheet-safe/--text-as-written",
            help="In CSV, an apostrophe before text that a spreadsheet would run; campaign lists have it.",
            rich_help_panel=_OUTPUT,
            show_default=False,
        ),
    ] = None
    show_sql: Annotated[
        bool,
        typer.Option(
            "--show-sql", help="Print the SQL of the reduction instead of running it.", rich_help_panel=_OUTPUT
        ),
    ] = False
    quiet: Annotated[bool, typer.Option("--quiet", help="No notes on standard error.", rich_help_panel=_OUTPUT)] = False
    customer_column: Annotated[str | None, _column("customer", "The customer's id.")] = None
    order_column: Annotated[str | None, _column("order", "The order's id; without one every row is an order.")] = None
    placed_column: Annotated[str | None, _column("placed", "Day or time of the order.")] = None
    amount_column: Annotated[str | None, _column("amount", "The row's amount.")] = None
    unit_price_column: Annotated[str | None, _column("unit_price", "Price of one, in place of an amount.")] = None
    quantity_column: Annotated[str | None, _column("quantity", "How many, beside a unit price.")] = None
    discount_column: Annotated[str | None, _column("discount", "Fraction off, beside a unit price.")] = None
    name_column: Annotated[str | None, _column("name", "The customer's name.")] = None
    channel_column: Annotated[str | None, _column("channel", "Where the order came from.")] = None
    status_column: Annotated[str | None, _column("status", "State of the order.")] = None
    currency_column: Annotated[str | None, _column("currency", "Currency of the amount.")] = None
    cost_column: Annotated[str | None, _column("cost", "What the row cost the shop.")] = None
    table: Annotated[
        str | None,
        option("--table", help="Table of the database that ORDERS is the address of.", panel=_WRITING, metavar="NAME"),
    ] = None
    query: Annotated[
        str | None,
        option("--query", help="SELECT that gives the rows, in place of a table.", panel=_WRITING, metavar="SQL"),
    ] = None
    date_format: Annotated[
        str | None,
        option("--date-format", help="day-first, month-first, … or %d.%m.%y.", panel=_WRITING, metavar="FORMAT"),
    ] = None
    decimal_mark: Annotated[
        str | None, option("--decimal-mark", help="The decimal mark of numbers.", panel=_WRITING, metavar="MARK")
    ] = None
    separator: Annotated[
        str | None, option("--separator", help="What stands between cells.", panel=_WRITING, metavar="SIGN")
    ] = None
    encoding: Annotated[
        str | None, option("--encoding", help="utf-8, utf-16, cp1252, …", panel=_WRITING, metavar="NAME")
    ] = None
    header_row: Annotated[
        int | None, option("--header-row", help="Row of the column names.", panel=_WRITING, metavar="NUMBER")
    ] = None
    sheet: Annotated[str | None, option("--sheet", help="Sheet of a workbook.", panel=_WRITING, metavar="NAME")] = None
    amount_is: Annotated[
        str | None,
        option("--amount-is", help="line (rows add up) or order (each repeats it).", panel=_COLUMNS, metavar="GRAIN"),
    ] = None

    discount_as: Annotated[
        str | None,
        option("--discount-as", help="fraction (0 to 1) or percent (0 to 100).", panel=_COLUMNS, metavar="UNIT"),
    ] = None

    def scheme_or_default(self) -> "Scheme":
        """The scheme as it stands in its file."""
        from fairladder.scheme import Scheme, load_scheme

        return load_scheme(self.scheme) if self.scheme else Scheme()

    def open(self) -> "Orders":
        """The orders, with the options laid over the scheme."""
        return self.open_with(self.scheme_or_default())

    def open_with(self, scheme: "Scheme") -> "Orders":
        """The orders, with the options laid over this scheme."""
        from fairladder.order_book import open_orders

        roles = {
            f.name.removesuffix("_column"): getattr(self, f.name) for f in fields(self) if f.name.endswith("_column")
        }
        if (self.amount_column and scheme.orders.unit_price) or (self.unit_price_column and scheme.orders.amount):
            raise UsageError("The scheme and the options name two ways to the amount; change [orders] in the scheme.")
        written = {name: getattr(self, name) for name in _WRITTEN}
        given = scheme.orders.where
        where = f"({given}) AND ({self.where})" if given and self.where else self.where
        time = {
            "as_of": day_of("--as-of", self.as_of),
            "from": day_of("--from", self.from_),
            "through": day_of("--through", self.through),
        }
        scheme = scheme.with_options(
            orders={**roles, "amount_is": self.amount_is, "where": where, **written}, time=time
        )
        return open_orders(
            self.orders,
            customers=self.customers,
            scheme=scheme,
            allow_set_aside=self.allow_set_aside,
            allow=self.allow or (),
        )


def day_of(option: str, text: str | None) -> Any:
    """The day that an option names, or None; UsageError for what is no day."""
    import datetime as dt

    try:
        return dt.date.fromisoformat(text) if text else None
    except ValueError:
        raise UsageError(f"{option} {text}: that is not a day; write it as 2026-06-30.") from None


def command(work: Callable[..., None], *, needs_orders: bool = True) -> Callable[..., None]:
    """A function of a ``Request`` and options of its own, as a command with all shared options.

    Without ``needs_orders`` ORDERS may be left out, and ``request.orders`` is then the empty text.

    Errors that are meant for the person go to standard error, without a traceback; the exit code is theirs.
    """
    shared = get_type_hints(Request, include_extras=True)
    own = {n: p for n, p in inspect.signature(work).parameters.items() if n != "request"}
    hints = get_type_hints(work, include_extras=True)

    @functools.wraps(work)
    def run(**given: Any) -> None:
        request = Request(**{name: given.pop(name) for name in shared})
        with_errors_told(lambda: work(request, **given))

    ours = [_parameter(f.name, f.default, shared[f.name]) for f in fields(Request)]
    if not needs_orders:
        ours[0] = ours[0].replace(default="")
    theirs = [p.replace(kind=inspect.Parameter.KEYWORD_ONLY, annotation=hints[n]) for n, p in own.items()]
    run.__signature__ = inspect.Signature([ours[0], *theirs, *ours[1:]])  # type: ignore[attr-defined]
    run.__annotations__ = {p.name: p.annotation for p in [*ours, *theirs]}
    return run


def _parameter(name: str, default: Any, annotation: Any) -> inspect.Parameter:
    given = inspect.Parameter.empty if default is MISSING else default
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=given, annotation=annotation)


#: What lasts as long as the command that runs.
_WHOLE: ContextVar[ExitStack] = ContextVar("_WHOLE")


def until_the_end(context: AbstractContextManager[Any]) -> None:
    """Enter a context that is left when the command ends."""
    _WHOLE.get().enter_context(context)


def with_errors_told(work: Callable[[], None]) -> None:
    """Run; tell errors of ours in one line each and leave with their exit code."""
    warnings.simplefilter("ignore", FairLadderWarning)  # they stand above the result
    try:
        with ExitStack() as whole:
            _WHOLE.set(whole)
            work()
            sys.stdout.flush()
    except FairLadderError as error:
        print(looks.plain(f"Error: {error}"), file=sys.stderr)
        raise typer.Exit(error.exit_code) from error
    except KeyboardInterrupt:
        print("Stopped; nothing was written by halves.", file=sys.stderr)
        raise typer.Exit(130) from None
    except BrokenPipeError:  # whoever read our output has seen enough
        sys.stdout = open(os.devnull, "w")  # noqa: SIM115  # Python writes what is left at its end
        raise typer.Exit(0) from None
    except OSError as error:
        sys.stdout = open(os.devnull, "w")  # noqa: SIM115
        print(f"Error: the output could not be written: {error.strerror or error}.", file=sys.stderr)
        raise typer.Exit(1) from error
    except RecursionError as error:
        print(
            "Error: a scheme or a condition nests too deep to be read. Write `x IN (…)` for long lists, and fewer brackets.",
            file=sys.stderr,
        )
        raise typer.Exit(2) from error


def known_part(part: str | None, parts: Mapping[str, Any] | tuple[str, ...]) -> None:
    """Raise UsageError for a part that the result does not have, before any work is done."""
    if part is not None and part not in parts:
        raise UsageError(f"--part {part}: this result has no such part. There are: {', '.join(parts)}.")

"""Options that every command shares, and the handling of errors."""

import functools
import inspect
import os
import re
import sys
import warnings
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, ExitStack
from contextvars import ContextVar
from copy import copy
from dataclasses import MISSING, dataclass, field, fields, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, get_type_hints

import typer
from typer.models import OptionInfo

from fairladder import shares, wording
from fairladder.cli.journal import kept_in
from fairladder.errors import FairLadderError, FairLadderWarning, UsageError, nearest
from fairladder.settings import WINDOW, Setting, with_option

if TYPE_CHECKING:
    from fairladder.book.opened import Opened
    from fairladder.output.tables import Mode
    from fairladder.scheme import Scheme

_OUTPUT = "Output"


def option(
    *names: str,
    help: str,  # noqa: A002  # Typer's own word
    panel: str,
    metavar: str | None = None,
    default: str = "",
) -> Any:
    """Return an option under a heading of the help, with the default that applies without it."""
    text = rf"{help} \[default: {default}]" if default else help  # as Typer shows its own defaults
    return typer.Option(
        *names, help=text, rich_help_panel=panel, metavar=metavar, show_default=not default
    )


PseudonymKey = Annotated[
    Path | None,
    option(
        "--pseudonym-key",
        help=(
            "A file with a secret key of at least 16 bytes: ids become pseudonyms, equal for equal "
            "keys, and names are omitted."
        ),
        metavar="FILE",
        panel=_OUTPUT,
    ),
]


def secret_key(file: Path | None) -> bytes | None:
    """Return the key in a file, without line ends at its end, or None. Raises UsageError if the
    file cannot be read or the key is too short.
    """
    if file is None:
        return None
    if not file.is_file():
        raise UsageError(
            f"--pseudonym-key {file}: there is no such file. Create one, for example with `openssl "
            f"rand -hex -out {file} 32`."
        )
    try:
        key = file.read_bytes().rstrip(b"\r\n")
    except OSError as error:
        raise UsageError(
            f"--pseudonym-key {file}: the file cannot be read: {error.strerror}."
        ) from error
    if len(key) < 16:
        raise UsageError(
            f"--pseudonym-key {file}: the key has under 16 bytes and could be guessed. Use a "
            "longer one."
        )
    return key


def as_fraction(option: str, text: str | None) -> float | None:
    """Parse ``0.2`` or ``20%`` of an option, or None. Raises UsageError for other values."""
    return _share(option, shares.fraction, text)


def as_percent(option: str, text: str | None) -> float | None:
    """Parse ``20`` or ``20%`` of an option, or None. Raises UsageError for other values."""
    return _share(option, shares.percent, text)


def _share(option: str, read: Callable[[str], Any], text: str | None) -> float | None:
    try:
        return None if text is None else float(read(text))
    except ValueError as error:
        raise UsageError(f"{option} {text}: {error}.") from None


#: The help panel of options that select what is shown.
SHOWN_PANEL = "What to show (does not change any figures)"
When = Annotated[
    str | None,
    option(
        "--when", help=("Only customers who match this SQL condition. Use --where to select the rows that "
            "count."), panel=SHOWN_PANEL,
        metavar="CONDITION",
    ),
]  # fmt: skip
Sort = Annotated[
    str | None,
    option("--sort", help="Sort by this column, best first.", panel=SHOWN_PANEL, metavar="COLUMN"),
]
Columns = Annotated[
    str | None,
    option(
        "--columns",
        help="Show only these columns, separated by commas.",
        panel=SHOWN_PANEL,
        metavar="NAMES",
    ),
]


def names_in(text: str | None) -> list[str] | None:
    """Split an option at its commas, or return None."""
    return None if text is None else [name.strip() for name in text.split(",") if name.strip()]


#: The option ``--figure-of`` of commands that draw several figures.
FIGURE_OF = typer.Option(
    "--figure-of",
    help="The figure that --figure draws; all are listed below.",
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
    """The options as typed; ``open`` opens the orders."""

    orders: Annotated[
        str,
        typer.Argument(
            help="A file (CSV, Parquet, JSON, workbook), a glob, - for standard input, or a database URL.",
            metavar="ORDERS",
        ),
    ]
    scheme: Annotated[
        Path | None,
        option(
            "--scheme",
            help="The scheme: a TOML file with all settings.",
            panel=WINDOW,
            metavar="FILE",
        ),
    ] = None
    customers: Annotated[
        Path | None,
        option(
            "--customers", help="A file with one row per customer.", panel=WINDOW, metavar="FILE"
        ),
    ] = None
    allow_set_aside: Annotated[
        bool,
        typer.Option(
            "--allow-set-aside",
            help="Continue even if over 20 % of the rows cannot be used.",
            rich_help_panel=WINDOW,
        ),
    ] = False
    out: Annotated[
        str | None,
        option(
            "--out",
            help=(
                "Write the result to this file: .csv, .parquet, .json, .xlsx, .md or .html; or "
                "to a table, DATABASE-URL#TABLE; - is standard output."
            ),
            panel=_OUTPUT,
            metavar="FILE",
        ),
    ] = None
    replace_table: Annotated[
        bool,
        typer.Option(
            "--replace", help="Replace the table that --out names.", rich_help_panel=_OUTPUT
        ),
    ] = False
    append: Annotated[
        bool,
        typer.Option(
            "--append",
            help="Add the rows to the table that --out names, under the as-of date.",
            rich_help_panel=_OUTPUT,
        ),
    ] = False
    part: Annotated[
        str | None,
        option(
            "--part",
            help="The table to output if a result has several, listed in the command's help.",
            panel=_OUTPUT,
            metavar="NAME",
        ),
    ] = None
    figure: Annotated[
        Path | None,
        option(
            "--figure",
            help="Draw the figure to this file: .png, .svg or .pdf.",
            panel=_OUTPUT,
            metavar="FILE",
        ),
    ] = None
    spreadsheet_safe: Annotated[
        bool | None,
        typer.Option(
            "--spreadsheet-safe/--text-as-written",
            help=(
                "In CSV, put an apostrophe before text that a spreadsheet would run as a "
                "formula. On by default for campaign lists."
            ),
            rich_help_panel=_OUTPUT,
            show_default=False,
        ),
    ] = None
    show_sql: Annotated[
        bool,
        typer.Option(
            "--show-sql",
            help="Print the SQL of the reduction instead of running it.",
            rich_help_panel=_OUTPUT,
        ),
    ] = False
    facts: Annotated[
        Path | None,
        option(
            "--facts",
            help="Write settings, balance and notes to this file, as JSON on one line.",
            panel=_OUTPUT,
            metavar="FILE",
        ),
    ] = None
    fail_on: Annotated[
        str,
        option(
            "--fail-on",
            help=(
                "Exit with 1 if a finding has this level or a higher one: error, warning or never."
            ),
            panel=_OUTPUT,
            metavar="LEVEL",
        ),
    ] = "error"
    log: Annotated[
        Path | None,
        option(
            "--log",
            help="Append all messages, with times, to this file: for unattended runs.",
            panel=_OUTPUT,
            metavar="FILE",
        ),
    ] = None
    all_notes: Annotated[
        bool,
        typer.Option(
            "--all-notes",
            help="Show every note below the result, not only the most important three.",
            rich_help_panel=_OUTPUT,
        ),
    ] = False
    quiet: Annotated[
        bool, typer.Option("--quiet", help="No notes on standard error.", rich_help_panel=_OUTPUT)
    ] = False
    settings: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    """Settings of the scheme given by options, by part and key."""

    def answered(self, answers: Mapping[str, str]) -> "Request":
        """Return the request with answers given at the terminal."""
        return replace(
            self,
            settings={**self.settings, "orders": {**self.settings.get("orders", {}), **answers}},
        )

    def scheme_or_default(self) -> "Scheme":
        """Return the scheme from its file, or the default one."""
        from fairladder.scheme import Scheme, load_scheme

        return load_scheme(self.scheme) if self.scheme else Scheme()

    @property
    def mode(self) -> "Mode":
        """Return how an existing table is treated. Raises UsageError if the options conflict."""
        if self.replace_table and self.append:
            raise UsageError("Pass either --replace or --append, not both.")
        return "replace" if self.replace_table else "append" if self.append else None

    @property
    def on_cluster(self) -> bool:
        """True if a Spark cluster reads the orders, so that customers stay there."""
        return (
            "spark" in self.settings.get("orders", {})
            or self.scheme_or_default().orders.spark is not None
        )

    def opened(self, scheme: "Scheme | None" = None) -> "Opened":
        """Return the orders before they are read, with the options overriding the scheme."""
        from fairladder.book.opened import open_unread

        scheme = scheme or self.scheme_or_default()
        orders, time = dict(self.settings.get("orders", {})), self.settings.get("time", {})
        if ("amount" in orders and scheme.orders.unit_price) or (
            "unit_price" in orders and scheme.orders.amount
        ):
            raise UsageError(
                "The scheme and the options define the amount in two ways; change [orders] "
                "in the scheme."
            )
        if scheme.orders.where and "where" in orders:
            orders["where"] = f"({scheme.orders.where}) AND ({orders['where']})"
        if "allow" in orders:
            orders["allow"] = [*scheme.orders.allow, *orders["allow"]]
        scheme = scheme.with_options(
            orders=orders,
            time=time,
            customers=self.settings.get("customers", {}),
            output=self.settings.get("output", {}),
        )
        return open_unread(
            self.orders, self.customers, scheme, allow_set_aside=self.allow_set_aside
        )


def read_setting(setting: Setting, given: Any) -> Any:
    """Convert an option to the type in the scheme. Raises UsageError for impossible values."""
    match setting.given:
        case "day":
            return day_of(setting.option, given)
        case "share":
            return as_fraction(setting.option, given)
        case "percent":
            return as_percent(setting.option, given)
        case "texts":
            return given or None
        case "flag":
            return given or None
    return given


_TYPES: Mapping[str, Any] = {
    "flag": bool | None,
    "number": int | None,
    "amount": float | None,
    "texts": list[str] | None,
}


def of_setting(setting: Setting) -> inspect.Parameter:
    """Return the option of a setting, with the setting's sentence as its help."""
    kind = _TYPES.get(setting.given, str | None)
    names = [setting.option] if setting.given != "flag" else [f"{setting.option}/ "]
    made = option(
        *names,
        help=setting.sentence,
        panel=setting.panel,
        metavar=setting.metavar,
        default=setting.default,
    )
    return parameter(f"{setting.part}_{setting.key}", None, Annotated[kind, made])


def settings_given(settings: Sequence[Setting], given: dict[str, Any]) -> dict[str, dict[str, Any]]:
    """Return the settings from options, by part and key, and remove them from ``given``."""
    by_part: dict[str, dict[str, Any]] = {}
    for setting in settings:
        value = read_setting(setting, given.pop(f"{setting.part}_{setting.key}"))
        if value is not None:
            by_part.setdefault(setting.part, {})[setting.key] = value
    return by_part


def day_of(option: str, text: str | None) -> Any:
    """Parse a date option, or return None. Raises UsageError for other text."""
    import datetime as dt

    try:
        return dt.date.fromisoformat(text) if text else None
    except ValueError:
        raise UsageError(f"{option} {text}: that is not a date; write it as 2026-06-30.") from None


def command(
    work: Callable[..., None], *, needs_orders: bool = True, part: str = ""
) -> Callable[..., None]:
    """Turn a function of a ``Request`` and its own options into a command with all shared options.

    Without ``needs_orders`` ORDERS may be omitted, and ``request.orders`` is then empty. With
    ``part`` the options of that part of the scheme belong to the command, which gets them as
    ``options``, by key. Errors for the user go to standard error, without a traceback, and set the
    exit code.
    """
    shared = {
        n: h for n, h in get_type_hints(Request, include_extras=True).items() if n != "settings"
    }
    own = {
        n: p
        for n, p in inspect.signature(work).parameters.items()
        if n not in ("request", "options")
    }
    hints = get_type_hints(work, include_extras=True)
    of_scheme, of_part = with_option("time", "orders", "customers", "output"), with_option(part)

    @functools.wraps(work)
    def run(**given: Any) -> None:
        def run_command() -> None:
            request = Request(
                **{n: given.pop(n) for n in shared}, settings=settings_given(of_scheme, given)
            )
            request = replace(
                request, part=request.part and request.part.replace("_", "-")
            )  # whichever way it is typed
            mine = {"options": settings_given(of_part, given).get(part, {})} if part else {}
            with kept_in(
                request.log, f"fairladder {run.__name__} {without_password(request.orders)}"
            ):
                work(request, **mine, **given)

        report_errors(run_command)

    ours = [
        parameter(f.name, f.default, _hidden(shared[f.name]))
        for f in fields(Request)
        if f.name in shared
    ]
    if not needs_orders:
        ours[0] = ours[0].replace(default="")
    theirs = [of_setting(s) for s in of_part]
    theirs += [
        p.replace(kind=inspect.Parameter.KEYWORD_ONLY, annotation=hints[n]) for n, p in own.items()
    ]
    as_options(run, [ours[0], *theirs, *ours[1:], *(hidden_setting(s) for s in of_scheme)])
    return run


def without_password(orders: str) -> str:
    """Return an address that is safe to print."""
    return re.sub(r"(://[^:/@]*):[^@]*@", r"\1:***@", orders)


def _hidden(annotation: Any) -> Any:
    """Hide an option in a command's own help; ``fairladder help`` lists it."""
    kind, info = annotation.__origin__, copy(annotation.__metadata__[0])
    if isinstance(info, OptionInfo):
        info.hidden = True
    return Annotated[kind, info]


def hidden_setting(setting: Setting) -> inspect.Parameter:
    """Return the option of a setting, hidden in the command's own help."""
    made = of_setting(setting)
    return made.replace(annotation=_hidden(made.annotation))


def as_options(run: Callable[..., None], parameters: list[inspect.Parameter]) -> None:
    """Set a function's signature, from which its options are made."""
    run.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    run.__annotations__ = {p.name: p.annotation for p in parameters}


def parameter(name: str, default: Any, annotation: Any) -> inspect.Parameter:
    """Return a parameter that is an option or an argument."""
    given = inspect.Parameter.empty if default is MISSING else default
    return inspect.Parameter(
        name, inspect.Parameter.KEYWORD_ONLY, default=given, annotation=annotation
    )


#: Contexts that last as long as the running command.
_WHOLE: ContextVar[ExitStack] = ContextVar("_WHOLE")


def until_the_end(context: AbstractContextManager[Any]) -> None:
    """Enter a context that is left when the command ends."""
    _WHOLE.get().enter_context(context)


def leave_early() -> None:
    """Leave these contexts now."""
    _WHOLE.get().pop_all().close()


def report_errors(work: Callable[[], None]) -> None:
    """Run the work; print our errors in one line each and exit with their code."""
    warnings.simplefilter("ignore", FairLadderWarning)  # they are printed below the result
    try:
        with ExitStack() as whole:
            _WHOLE.set(whole)
            work()
            sys.stdout.flush()
    except FairLadderError as error:
        print(wording.plain(f"Error: {error}"), file=sys.stderr)
        raise typer.Exit(error.exit_code) from error
    except KeyboardInterrupt:
        print("Stopped. No file is half written.", file=sys.stderr)
        raise typer.Exit(130) from None
    except BrokenPipeError:  # the reader of our output has closed it
        sys.stdout = open(os.devnull, "w")  # noqa: SIM115  # Python writes what is left at its end
        raise typer.Exit(0) from None
    except OSError as error:
        sys.stdout = open(os.devnull, "w")  # noqa: SIM115
        print(
            f"Error: the output could not be written: {error.strerror or error}.", file=sys.stderr
        )
        raise typer.Exit(1) from error
    except MemoryError as error:
        print(
            "Error: there is too little memory. Give this program more (see `ulimit -v`), read "
            "fewer columns or days, or work where the orders are: in a database or a cluster.",
            file=sys.stderr,
        )
        raise typer.Exit(1) from error
    except RecursionError as error:
        print(
            "Error: a scheme or a condition is nested too deeply. Write `x IN (…)` for long "
            "lists, and fewer brackets.",
            file=sys.stderr,
        )
        raise typer.Exit(2) from error


def known_part(part: str | None, parts: Mapping[str, Any] | tuple[str, ...]) -> None:
    """Raise UsageError for a part that the result does not have, before any work is done."""
    if part is not None and part not in parts:
        raise UsageError(
            f"--part {part}: this result has no such part. Choose from: {', '.join(parts)}."
        )

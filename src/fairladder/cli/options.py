"""Options that every command shares, in one place, and the errors of all commands told in one
way.
"""

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


def option(*names: str, help: str, panel: str, metavar: str | None = None) -> Any:  # noqa: A002  # Typer's own word
    """An option without a default to show, under a heading of the help."""
    return typer.Option(
        *names, help=help, rich_help_panel=panel, metavar=metavar, show_default=False
    )


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


_SHOWN = "What is shown (nobody's figures change by it)"
When = Annotated[
    str | None,
    option(
        "--when", help="Only customers for whom this SQL condition holds; --where picks the rows that count.", panel=_SHOWN,
        metavar="CONDITION",
    ),
]  # fmt: skip
Sort = Annotated[
    str | None,
    option("--sort", help="By this column, the best first.", panel=_SHOWN, metavar="COLUMN"),
]
Columns = Annotated[
    str | None,
    option(
        "--columns",
        help="These only, in this order, with commas between.",
        panel=_SHOWN,
        metavar="NAMES",
    ),
]


def names_in(text: str | None) -> list[str] | None:
    """The names of an option with commas between, or None."""
    return None if text is None else [name.strip() for name in text.split(",") if name.strip()]


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
        Path | None,
        option(
            "--scheme",
            help="The scheme: a TOML file of all settings.",
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
            help="Go on even where over 20 % of the rows cannot be used.",
            rich_help_panel=WINDOW,
        ),
    ] = False
    out: Annotated[
        str | None,
        option(
            "--out",
            help="Write here: .csv, .parquet, .json, .xlsx, .md or .html; a table as DATABASE-URL#TABLE; - is standard output.",
            panel=_OUTPUT,
            metavar="FILE",
        ),
    ] = None
    replace_table: Annotated[
        bool,
        typer.Option(
            "--replace",
            help="Put a new table in the place of the one that --out names.",
            rich_help_panel=_OUTPUT,
        ),
    ] = False
    append: Annotated[
        bool,
        typer.Option(
            "--append",
            help="Add the rows to the table that --out names, under their day.",
            rich_help_panel=_OUTPUT,
        ),
    ] = False
    part: Annotated[
        str | None,
        option(
            "--part",
            help="Which table, where a result has several; a command's own help lists them.",
            panel=_OUTPUT,
            metavar="NAME",
        ),
    ] = None
    figure: Annotated[
        Path | None,
        option("--figure", help="Draw here: .png, .svg or .pdf.", panel=_OUTPUT, metavar="FILE"),
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
            "--show-sql",
            help="Print the SQL of the reduction instead of running it.",
            rich_help_panel=_OUTPUT,
        ),
    ] = False
    facts: Annotated[
        Path | None,
        option(
            "--facts",
            help="Write what stands beside the result here, as JSON on one line.",
            panel=_OUTPUT,
            metavar="FILE",
        ),
    ] = None
    fail_on: Annotated[
        str,
        option(
            "--fail-on",
            help="Exit with 1 where a finding is an error, or a warning: error, warning or never.",
            panel=_OUTPUT,
            metavar="LEVEL",
        ),
    ] = "error"
    log: Annotated[
        Path | None,
        option(
            "--log",
            help="Append what is said, with the time, to this file: for runs that nobody watches.",
            panel=_OUTPUT,
            metavar="FILE",
        ),
    ] = None
    all_notes: Annotated[
        bool,
        typer.Option(
            "--all-notes",
            help="Show every note below the result, not only the three that matter most.",
            rich_help_panel=_OUTPUT,
        ),
    ] = False
    quiet: Annotated[
        bool, typer.Option("--quiet", help="No notes on standard error.", rich_help_panel=_OUTPUT)
    ] = False
    settings: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    """What options say of the scheme, by part and key; only what was given."""

    def answered(self, answers: Mapping[str, str]) -> "Request":
        """The same request, with what was asked at the terminal."""
        return replace(
            self,
            settings={**self.settings, "orders": {**self.settings.get("orders", {}), **answers}},
        )

    def scheme_or_default(self) -> "Scheme":
        """The scheme as it stands in its file."""
        from fairladder.scheme import Scheme, load_scheme

        return load_scheme(self.scheme) if self.scheme else Scheme()

    @property
    def mode(self) -> "Mode":
        """What becomes of a table that is there. Raises UsageError where the options do not go
        together.
        """
        if self.replace_table and self.append:
            raise UsageError("Say either --replace or --append, not both.")
        return "replace" if self.replace_table else "append" if self.append else None

    @property
    def on_cluster(self) -> bool:
        """Whether a Spark cluster reads and reckons, so that customers stay there."""
        return (
            "spark" in self.settings.get("orders", {})
            or self.scheme_or_default().orders.spark is not None
        )

    def opened(self, scheme: "Scheme | None" = None) -> "Opened":
        """The orders before they are read, with the options laid over the scheme, or over this
        one.
        """
        from fairladder.book.opened import open_unread

        scheme = scheme or self.scheme_or_default()
        orders, time = dict(self.settings.get("orders", {})), self.settings.get("time", {})
        if ("amount" in orders and scheme.orders.unit_price) or (
            "unit_price" in orders and scheme.orders.amount
        ):
            raise UsageError(
                "The scheme and the options name two ways to the amount; change [orders] in the "
                "scheme."
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
    """What an option says, as the scheme has it; UsageError for what cannot be meant."""
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
    """The option of a setting, with the setting's own words as its help."""
    kind = _TYPES.get(setting.given, str | None)
    names = [setting.option] if setting.given != "flag" else [f"{setting.option}/ "]
    made = option(*names, help=setting.sentence, panel=setting.panel, metavar=setting.metavar)
    return parameter(f"{setting.part}_{setting.key}", None, Annotated[kind, made])


def settings_given(settings: Sequence[Setting], given: dict[str, Any]) -> dict[str, dict[str, Any]]:
    """What options say, by part and key; their names are taken out of ``given``."""
    by_part: dict[str, dict[str, Any]] = {}
    for setting in settings:
        value = read_setting(setting, given.pop(f"{setting.part}_{setting.key}"))
        if value is not None:
            by_part.setdefault(setting.part, {})[setting.key] = value
    return by_part


def day_of(option: str, text: str | None) -> Any:
    """The day that an option names, or None; UsageError for what is no day."""
    import datetime as dt

    try:
        return dt.date.fromisoformat(text) if text else None
    except ValueError:
        raise UsageError(f"{option} {text}: that is not a day; write it as 2026-06-30.") from None


def command(
    work: Callable[..., None], *, needs_orders: bool = True, part: str = ""
) -> Callable[..., None]:
    """A function of a ``Request`` and options of its own, as a command with all shared options.

    Without ``needs_orders`` ORDERS may be left out, and ``request.orders`` is then the empty text.
    With ``part`` the options of that part of the scheme are the command's own, and it gets what
    they say as ``options``, by key.

    Errors that are meant for the person go to standard error, without a traceback; the exit code
    is theirs.
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
        def asked() -> None:
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

        with_errors_told(asked)

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
    as_options(run, [ours[0], *theirs, *ours[1:], *(_hidden_setting(s) for s in of_scheme)])
    return run


def without_password(orders: str) -> str:
    """An address as it may be told to others."""
    return re.sub(r"(://[^:/@]*):[^@]*@", r"\1:***@", orders)


def _hidden(annotation: Any) -> Any:
    """An option that ``fairladder help`` shows, so that a command's own help shows its own."""
    kind, info = annotation.__origin__, copy(annotation.__metadata__[0])
    if isinstance(info, OptionInfo):
        info.hidden = True
    return Annotated[kind, info]


def _hidden_setting(setting: Setting) -> inspect.Parameter:
    made = of_setting(setting)
    return made.replace(annotation=_hidden(made.annotation))


def as_options(run: Callable[..., None], parameters: list[inspect.Parameter]) -> None:
    """Give a function the signature that its options are made of."""
    run.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    run.__annotations__ = {p.name: p.annotation for p in parameters}


def parameter(name: str, default: Any, annotation: Any) -> inspect.Parameter:
    """A parameter that is an option or an argument."""
    given = inspect.Parameter.empty if default is MISSING else default
    return inspect.Parameter(
        name, inspect.Parameter.KEYWORD_ONLY, default=given, annotation=annotation
    )


#: What lasts as long as the command that runs.
_WHOLE: ContextVar[ExitStack] = ContextVar("_WHOLE")


def until_the_end(context: AbstractContextManager[Any]) -> None:
    """Enter a context that is left when the command ends."""
    _WHOLE.get().enter_context(context)


def leave_early() -> None:
    """Leave these contexts now."""
    _WHOLE.get().pop_all().close()


def with_errors_told(work: Callable[[], None]) -> None:
    """Run; tell errors of ours in one line each and leave with their exit code."""
    warnings.simplefilter("ignore", FairLadderWarning)  # they stand above the result
    try:
        with ExitStack() as whole:
            _WHOLE.set(whole)
            work()
            sys.stdout.flush()
    except FairLadderError as error:
        print(wording.plain(f"Error: {error}"), file=sys.stderr)
        raise typer.Exit(error.exit_code) from error
    except KeyboardInterrupt:
        print("Stopped; nothing was written by halves.", file=sys.stderr)
        raise typer.Exit(130) from None
    except BrokenPipeError:  # whoever read our output has seen enough
        sys.stdout = open(os.devnull, "w")  # noqa: SIM115  # Python writes what is left at its end
        raise typer.Exit(0) from None
    except OSError as error:
        sys.stdout = open(os.devnull, "w")  # noqa: SIM115
        print(
            f"Error: the output could not be written: {error.strerror or error}.", file=sys.stderr
        )
        raise typer.Exit(1) from error
    except RecursionError as error:
        print(
            "Error: a scheme or a condition nests too deep to be read. Write `x IN (…)` for long "
            "lists, and fewer brackets.",
            file=sys.stderr,
        )
        raise typer.Exit(2) from error


def known_part(part: str | None, parts: Mapping[str, Any] | tuple[str, ...]) -> None:
    """Raise UsageError for a part that the result does not have, before any work is done."""
    if part is not None and part not in parts:
        raise UsageError(
            f"--part {part}: this result has no such part. There are: {', '.join(parts)}."
        )

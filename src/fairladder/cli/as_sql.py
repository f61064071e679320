"""``--as-sql``: a statement on standard output in place of a table."""

from typing import Annotated

from fairladder.cli.options import Request, option
from fairladder.errors import UsageError

#: The dialects, for the help, which is shown before anything is imported that knows them; a test
#: holds the two together.
KNOWN = (
    "duckdb, sqlite, postgres, mariadb, spark, snowflake, bigquery, redshift, databricks or trino"
)
#: Those for which the reduction is written.
KNOWN_WITH_TYPES = KNOWN.replace("sqlite, ", "")


AsView = Annotated[
    str | None,
    option(
        "--as-view",
        help="With --as-sql: print the statement that creates a view of this name.",
        metavar="NAME",
        panel="Output",
    ),
]


def require(request: Request, dialect: str | None, view: str | None) -> None:
    """Raise UsageError where what was asked for does not go together, or the dialect is not
    known.
    """
    if dialect is None:
        if view is not None:
            raise UsageError("--as-view goes with --as-sql, which says for which database.")
        return
    from fairladder.engine.dialects import DIALECTS
    from fairladder.errors import nearest

    if dialect not in DIALECTS:
        raise UsageError(
            f"--as-sql {dialect}: SQL is written for {', '.join(DIALECTS)}. "
            f"{nearest(dialect, DIALECTS)}"
        )
    if request.out not in (None, "-") or request.part or request.figure:
        raise UsageError(
            "--as-sql prints one statement; --out, --part and --figure do not go with it. Send it "
            "to a file with `>`."
        )


def print_statement(text: str, dialect: str) -> None:
    """The statement, with a sentence before it on whether our tests run such."""
    from fairladder.engine.dialects import was_run

    print(f"-- {was_run(dialect)}")
    print(text + ";")

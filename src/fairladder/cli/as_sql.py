"""``--as-sql``: print a SQL statement instead of a table."""

from typing import Annotated

from fairladder.cli.options import Request, option
from fairladder.errors import UsageError

#: The dialects for the help, which is printed before their module is imported; a test keeps both
#: lists equal.
KNOWN = (
    "duckdb, sqlite, postgres, mariadb, spark, snowflake, bigquery, redshift, databricks or trino"
)
#: The dialects for which the reduction is written.
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
    """Raise UsageError if the options do not go together, or the dialect is not known."""
    if dialect is None:
        if view is not None:
            raise UsageError("--as-view needs --as-sql, which names the database.")
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
            "--as-sql prints one statement and cannot be combined with --out, --part or "
            "--figure. Redirect it to a file with `>`."
        )


def print_statement(text: str, dialect: str) -> None:
    """Print the statement, preceded by a sentence on whether our tests run such statements."""
    from fairladder.engine.dialects import was_run

    print(f"-- {was_run(dialect)}")
    print(text + ";")

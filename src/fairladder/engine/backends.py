"""Differences between databases: read-only sessions, snapshots, type names and dialects."""

from collections.abc import Collection, Mapping
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlglot import exp
from sqlglot.optimizer.eliminate_subqueries import eliminate_subqueries

from fairladder.engine import mariadb, postgres, sqlite
from fairladder.engine.words import in_words
from fairladder.errors import UsageError
from fairladder.sqltree import column

if TYPE_CHECKING:
    from sqlalchemy import URL, Connection


#: MariaDB sorts by this many bytes of a text. Rows that agree up to there would fall into one
#: group.
_SORTED_BYTES = 4096
#: Longest text, in characters, for which the sort length is raised.
_LONGEST = 65_535


class Backend:
    """A database of an unknown kind: its rows are read and processed elsewhere. Subclasses override
    what they can do.
    """

    #: True if the reduction runs in the database.
    works_itself = False
    #: True if ``keep`` stores queries in the database instead of only naming them.
    stores = False
    #: True if types belong to values, not to columns.
    types_by_value = False
    #: Names of functions, besides those of the SQL library, that a query may call; None to allow
    #: all.
    functions: frozenset[str] | None = None

    def __init__(self, dialect: str) -> None:
        self.dialect = dialect
        self.writer: Any = dialect

    def arguments(self, url: "URL") -> dict[str, Any]:
        """Return the arguments that SQLAlchemy needs besides the address."""
        return {}

    def answering(self, connection: "Connection") -> "Backend":
        """Return the backend for the server that answered, which the address may not identify."""
        return self

    def prepare(self, raw: Any) -> None:
        """Set up a driver's connection before the first query."""

    def opened(self, connection: "Connection") -> "Connection":
        """Return the connection, set to read only."""
        return connection

    def begin(self, connection: "Connection") -> None:
        """Start a snapshot for all following queries."""

    def end(self, connection: "Connection") -> None:
        """End the snapshot."""

    def version(self, connection: "Connection") -> int:
        """Return a number that changes when another connection writes, for databases without
        snapshots; 0 for others.
        """
        return 0

    def types(self, described: list[Any]) -> dict[str, str]:
        """Return column name → type in the embedded engine's names, from a driver's description of
        a result.
        """
        return {d[0]: "VARCHAR" for d in described}

    def may_be_long(self, described: list[Any]) -> list[str]:
        """Return the columns whose texts may be longer than the database's sort length."""
        return []

    def expect(self, connection: "Connection", name: str, longest: int) -> None:
        """Prepare for texts of this length in a column. Raises UsageError if the database cannot
        handle them.
        """

    def cell(self, name: str, kind: str) -> exp.Expr:
        """Return a column as the reduction needs it: text compares by code point, and non-values
        are null.
        """
        return column(name)

    def aliased(self, tree: exp.Expr) -> exp.Expr:
        """Give a database relation an alias that cannot clash with our layers."""
        return tree

    def functions_among(self, connection: "Connection", names: Collection[str]) -> list[str]:
        """Return the names of columns that the database would call as functions."""
        return []

    def note(self, connection: "Connection", table: exp.Expr) -> str | None:
        """Return a warning about a table that is read, or None."""
        return None

    def own(self, query: exp.Expr) -> exp.Expr:
        """Translate a tree to the database's dialect."""
        return query

    def escaped(self, text: str) -> str:
        """Escape a statement for its driver."""
        return text


class _Sqlite(Backend):
    works_itself, stores, types_by_value = True, True, True

    def __init__(self) -> None:
        super().__init__("sqlite")
        self.writer = sqlite.StrictNames

    def arguments(self, url: "URL") -> dict[str, Any]:
        import sqlite3

        path = Path(url.database or "").resolve().as_uri()
        return {
            "creator": lambda: sqlite3.connect(f"{path}?mode=ro", uri=True, check_same_thread=False)
        }

    def prepare(self, raw: Any) -> None:
        sqlite.prepare(raw)

    def version(self, connection: "Connection") -> int:
        return int(connection.exec_driver_sql("PRAGMA data_version").scalar_one())

    def aliased(self, tree: exp.Expr) -> exp.Expr:
        own = {cte.alias for cte in tree.find_all(exp.CTE)}
        for table in tree.find_all(exp.Table):
            if not table.db and table.name not in own and isinstance(table.this, exp.Identifier):
                table.set("db", exp.to_identifier("main"))
        return tree

    def own(self, query: exp.Expr) -> exp.Expr:
        # SQLite limits the nesting of queries, so layers are named one after another.
        return eliminate_subqueries(in_words(query, sqlite.translated))


class _Server(Backend):
    """A database server on a network, with typed columns."""

    _types: Mapping[int, str] = {}

    def arguments(self, url: "URL") -> dict[str, Any]:
        return {"connect_args": {"connect_timeout": 10}}

    def end(self, connection: "Connection") -> None:
        with suppress(Exception):  # a lost connection has already raised an error
            connection.exec_driver_sql("ROLLBACK")

    def types(self, described: list[Any]) -> dict[str, str]:
        return {d[0]: self._types.get(d[1], "VARCHAR") for d in described}

    def escaped(self, text: str) -> str:
        return text.replace("%", "%%")


class _Postgres(_Server):
    works_itself = True
    functions = postgres.FUNCTIONS
    _types: Mapping[int, str] = {
        16: "BOOLEAN", 20: "BIGINT", 21: "SMALLINT", 23: "INTEGER", 700: "FLOAT", 701: "DOUBLE",
        1082: "DATE",
        1114: "TIMESTAMP", 1184: "TIMESTAMP WITH TIME ZONE", 1700: "DECIMAL(15, 4)",
    }  # fmt: skip

    def __init__(self) -> None:
        super().__init__("postgres")

    def opened(self, connection: "Connection") -> "Connection":
        # Each query is its own transaction: an open one would block changes to tables.
        connection = connection.execution_options(isolation_level="AUTOCOMMIT")
        connection.exec_driver_sql("SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY")
        connection.exec_driver_sql("SET TIME ZONE 'UTC'")
        return connection

    def begin(self, connection: "Connection") -> None:
        connection.exec_driver_sql("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")

    def functions_among(self, connection: "Connection", names: Collection[str]) -> list[str]:
        # t.f means f(t) if t has no column f, and a function of a row can change anything
        found = connection.exec_driver_sql(
            "SELECT DISTINCT proname FROM pg_proc JOIN pg_namespace n ON n.oid = pronamespace "
            "WHERE proname = ANY(%s) AND pronargs - pronargdefaults <= 1 AND pronargs > 0 "
            "AND nspname NOT IN ('pg_catalog', 'information_schema') ORDER BY proname",
            (sorted(names),),
        )
        return [row[0] for row in found]

    def cell(self, name: str, kind: str) -> exp.Expr:
        if kind == "VARCHAR":
            return postgres.by_code_point(column(name))
        return postgres.without_nan(column(name)) if kind.startswith("DECIMAL") else column(name)

    def own(self, query: exp.Expr) -> exp.Expr:
        return in_words(query, postgres.translated)


class _MySql(_Server):
    """MySQL, and MariaDB until it is identified or if it is too old to know all alphabets."""

    functions = mariadb.FUNCTIONS

    def __init__(self) -> None:
        super().__init__("mysql")

    def answering(self, connection: "Connection") -> Backend:
        dialect: Any = connection.dialect
        return (
            _MariaDb() if dialect.is_mariadb and dialect.server_version_info >= (10, 10) else self
        )

    def opened(self, connection: "Connection") -> "Connection":
        connection.exec_driver_sql("SET SESSION TRANSACTION READ ONLY")
        return connection


class _MariaDb(_MySql):
    works_itself = True
    #: By the numbers of its protocol.
    _types: Mapping[int, str] = {
        0: "DECIMAL(15, 4)", 1: "SMALLINT", 2: "SMALLINT", 3: "BIGINT", 4: "FLOAT", 5: "DOUBLE",
        7: "TIMESTAMP WITH TIME ZONE",
        8: "BIGINT", 9: "INTEGER", 10: "DATE", 12: "TIMESTAMP", 13: "SMALLINT", 14: "DATE",
        246: "DECIMAL(15, 4)",
    }  # fmt: skip
    #: Nothing that a server or its owner has chosen changes what a query means.
    _session = (
        f"SET NAMES utf8mb4 COLLATE {mariadb.COLLATION}",
        "SET SESSION sql_mode = 'NO_ENGINE_SUBSTITUTION', time_zone = '+00:00', sql_select_limit "
        "= DEFAULT, default_regex_flags = ''",
        f"SET SESSION max_sort_length = {_SORTED_BYTES}, sort_buffer_size = {32 << 20}",
        # Do not merge layers, so that each of their columns is computed once.
        "SET SESSION optimizer_switch = 'derived_merge=off'",
        "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY",
    )

    def opened(self, connection: "Connection") -> "Connection":
        connection = connection.execution_options(isolation_level="AUTOCOMMIT")
        for statement in self._session:
            connection.exec_driver_sql(statement)
        return connection

    def begin(self, connection: "Connection") -> None:
        connection.exec_driver_sql("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")

    def may_be_long(self, described: list[Any]) -> list[str]:
        return [d[0] for d in described if d[1] not in self._types and d[3] > _SORTED_BYTES]

    def expect(self, connection: "Connection", name: str, longest: int) -> None:
        if longest * 4 <= _SORTED_BYTES:
            return
        if longest > _LONGEST:
            raise UsageError(
                f"`{name}` holds texts of up to {longest:,} characters, of which MariaDB would "
                "compare only the beginning. Leave that "
                "column out: give a SELECT of the others with --query."
            )
        connection.exec_driver_sql(
            f"SET SESSION max_sort_length = {longest * 4}, sort_buffer_size = {128 << 20}"
        )

    def cell(self, name: str, kind: str) -> exp.Expr:
        return mariadb.as_text(column(name)) if kind == "VARCHAR" else column(name)

    def note(self, connection: "Connection", table: exp.Expr) -> str | None:
        if not isinstance(table, exp.Table):
            return None
        kept_by = connection.exec_driver_sql(
            "SELECT engine FROM information_schema.tables WHERE table_name = %s AND table_schema "
            "= COALESCE(%s, DATABASE()) "
            "AND engine NOT IN (SELECT engine FROM information_schema.engines WHERE transactions "
            "= 'YES')",
            (table.name, table.db or None),
        ).scalar()
        return kept_by and (
            f"The table {table.name} uses the storage engine {kept_by}, which has no "
            "transactions. If another connection writes while a command runs, its figures "
            "may mix old and new rows."
        )

    def own(self, query: exp.Expr) -> exp.Expr:
        tree = in_words(query, mariadb.translated, keep_layers=False)
        for grouped in tree.find_all(exp.Select):
            if grouped.args.get(
                "group"
            ):  # sort first, since MariaDB's table of groups is slow for many groups
                grouped.set("operation_modifiers", [exp.var("SQL_BIG_RESULT")])
        return tree


def backend_of(url: "URL") -> Backend:
    """Return the backend of the database at an address."""
    name = url.get_backend_name()
    made = {"sqlite": _Sqlite, "postgresql": _Postgres, "mysql": _MySql, "mariadb": _MySql}.get(
        name
    )
    return made() if made else Backend(name)

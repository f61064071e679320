"""Write results to a table of a database in one transaction: replace the table, or append under an
as-of date.

This connection reads only what must be known about the table to write.
"""

import datetime as dt
import hashlib
import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from fairladder.engine.addresses import (
    checked_url,
    converted_errors,
    label_of,
    sqlalchemy_module,
    views_in,
)
from fairladder.errors import DataError, UsageError
from fairladder.output.table_cells import columns_of, require_table_of_cells, rows_of

if TYPE_CHECKING:
    import pandas as pd
    from sqlalchemy import URL, Connection, Table

#: Treatment of an existing table: ``replace`` it, ``append`` a day to it, or (None) raise an error.
Mode = Literal["replace", "append"] | None
_ROWS_AT_A_TIME = 5_000
#: URL schemes of file systems on a cluster, which contain no tables.
_FILE_SYSTEMS = frozenset("abfs abfss dbfs file gs hdfs s3 s3a s3n wasb wasbs".split())
#: Names of MySQL and compatible databases.
_MYSQL = ("mysql", "mariadb")
#: Maximum length of a customer's id as the key of a table in MariaDB.
_LONGEST_KEY = 500
_OID = "CAST(CAST(:table AS regclass) AS oid)"
_TRIGGERS = (
    "information_schema.triggers WHERE event_object_table = :name AND "
    "event_object_schema = COALESCE(:schema, DATABASE())"
)
#: Dialect → what else can belong to a table, and where the database lists it.
_ATTACHED = {
    "postgresql": {
        "policies": f"pg_policy WHERE polrelid = {_OID}",
        "row-level security": f"pg_class WHERE oid = {_OID} AND relrowsecurity",
        "triggers": f"pg_trigger WHERE tgrelid = {_OID} AND NOT tgisinternal",
        "checks": f"pg_constraint WHERE conrelid = {_OID} AND contype = 'c'",
        "views": "pg_depend d JOIN pg_rewrite r ON d.objid = r.oid WHERE d.refobjid = "
        f"{_OID} AND r.ev_class <> d.refobjid",
        "tables that refer to it": f"pg_constraint WHERE confrelid = {_OID}",
        "rights on columns": f"pg_attribute WHERE attrelid = {_OID} AND attacl IS NOT NULL",
        "partitions": f"pg_inherits WHERE inhparent = {_OID}",
        "comments": f"pg_description WHERE objoid = {_OID} AND classoid = CAST('pg_class' AS regclass)",
    },
    "sqlite": {"triggers": "sqlite_master WHERE type = 'trigger' AND tbl_name = :name"},
    "mysql": {"triggers": _TRIGGERS},
    "mariadb": {"triggers": _TRIGGERS},
}
#: Seconds to wait for a lock on the table.
_PATIENCE_SECONDS = 30


@dataclass(frozen=True)
class TableAddress:
    """A table of a database, written ``URL#TABLE`` or ``URL#SCHEMA.TABLE``."""

    url: str
    table: str
    schema: str | None

    @property
    def label(self) -> str:
        """The address without user and password."""
        name = f"{self.schema}.{self.table}" if self.schema else self.table
        return f"table {name} of {label_of(checked_url(self.url, new_file=True))}"


def table_address(out: str | None) -> TableAddress | None:
    """Return the table named by ``--out``, None if it names a file.

    Raises UsageError for the address of a database without a table, or a malformed one.
    """
    found = re.match(r"([A-Za-z][A-Za-z0-9+_.-]*)://", out or "")
    if out is None or found is None or found[1].lower() in _FILE_SYSTEMS:
        return None
    url, _, name = out.partition("#")
    schema, _, table = name.rpartition(".")
    if not table:
        raise UsageError(
            "A database needs the name of the table after a `#`: --out "
            "'postgresql://host/shop#scores'."
        )
    checked_url(url, new_file=True)
    return TableAddress(url, table, schema or None)


def write_table(
    frame: "pd.DataFrame",
    address: str | TableAddress,
    as_of: dt.date | None,
    *,
    mode: Mode = None,
    decimals: int = 2,
) -> int:
    """Write the rows to a table, with ``as_of`` as the first column, in one transaction; return the
    number of rows.

    ``address`` is ``URL#TABLE`` or ``URL#SCHEMA.TABLE``. Dates become dates, moments timestamps,
    ids text, money exact decimals (SQLite has none and stores floating-point numbers). If the table
    has one row for each customer, the primary key is ``customer``, with ``as_of`` if days are
    appended. ``mode`` says how an existing table is treated: ``replace`` puts the new one in its
    place, ``append`` adds the day.

    Raises UsageError if the table exists and ``mode`` is None, the address is wrong, or this is no
    DataFrame; DataError if the day exists already, columns differ, a cell fits into no column, the
    table is locked for long, or the database refuses.

    >>> import fairladder as fl
    >>> import pathlib, tempfile
    >>> orders = fl.sample_orders()
    >>> shop = f"sqlite:///{pathlib.Path(tempfile.mkdtemp()) / 'shop.db'}"
    >>> fl.write_table(orders.score(), f"{shop}#scores", orders.as_of)
    1199
    """
    to = table_address(address) if isinstance(address, str) else address
    if to is None:
        raise UsageError(
            f"{address!r} is not the address of a database. Write it as "
            "postgresql://host/shop#scores."
        )
    require_table_of_cells(frame, decimals)
    with _transaction(to) as connection:
        return _writing(connection, to, mode).write(frame, as_of, decimals)


def require_table(address: TableAddress, mode: Mode) -> None:
    """Raise UsageError or DataError if ``write_table`` could not even begin, before any work is
    done.
    """
    url = checked_url(address.url, new_file=True)
    if url.get_backend_name() == "sqlite" and not Path(url.database or "").exists():
        return
    with _transaction(address, reads=True) as connection:
        _writing(connection, address, mode).require_place()


@contextmanager
def _transaction(address: TableAddress, reads: bool = False) -> "Iterator[Connection]":
    sqlalchemy = sqlalchemy_module()
    url = checked_url(address.url, new_file=True)
    engine = sqlalchemy.create_engine(url, hide_parameters=True, **_arguments(url))
    if url.get_backend_name() == "sqlite" and not reads:
        _with_transactions(engine, sqlalchemy)
    try:
        with converted_errors(url), engine.begin() as connection:
            yield connection
    finally:
        engine.dispose()


def _arguments(url: "URL") -> dict[str, Any]:
    if url.get_backend_name() == "sqlite":
        return {"connect_args": {"timeout": _PATIENCE_SECONDS}}
    if url.get_backend_name() in _MYSQL:
        # Nothing is truncated to fit, and locks are waited for as long as in other databases.
        patience = f"lock_wait_timeout = {_PATIENCE_SECONDS}, innodb_lock_wait_timeout = {_PATIENCE_SECONDS}"
        return {
            "connect_args": {
                "connect_timeout": 10,
                "init_command": f"SET SESSION sql_mode = 'STRICT_ALL_TABLES', {patience}",
            }
        }
    options = f"-c lock_timeout={_PATIENCE_SECONDS}s"
    return (
        {"connect_args": {"connect_timeout": 10, "options": _joined(url, options)}}
        if _is_postgres(url)
        else {}
    )


def _joined(url: "URL", options: str) -> str:
    """Merge our options with those already in the address."""
    given = url.query.get("options", "")
    return f"{given if isinstance(given, str) else ' '.join(given)} {options}".strip()


def _is_postgres(url: "URL") -> bool:
    return url.get_backend_name() == "postgresql"


def _with_transactions(engine: Any, sqlalchemy: Any) -> None:
    """Use SQLite's own transactions, which include table creation; Python's would begin at the
    first row.
    """

    def connect(connection: Any, _: Any) -> None:
        connection.isolation_level = None

    def begin(connection: Any) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE")

    sqlalchemy.event.listen(engine, "connect", connect)
    sqlalchemy.event.listen(engine, "begin", begin)


#: The longest names of tables and columns: database, number, unit.
_LONGEST_NAME = {
    "postgresql": ("PostgreSQL", 63, "bytes"),
    **dict.fromkeys(_MYSQL, ("MariaDB", 64, "letters")),
}


@dataclass(frozen=True)
class _Writing:
    """One transaction."""

    connection: "Connection"
    address: TableAddress
    mode: Mode
    #: True if a table created in a transaction disappears when that fails.
    tables_are_undone: ClassVar[bool] = True

    def write(self, frame: "pd.DataFrame", as_of: dt.date | None, decimals: int) -> int:
        """Write the rows; return their number."""
        there = self.require_place()
        self._require_short(map(str, frame.columns))
        if self.mode == "append" and as_of is None:
            raise DataError("There is no as-of date to append under, since no row is used.")

        def named(name: str) -> "Table":
            return self._table(name, columns_of(frame, decimals, daily=self.mode == "append"))

        table = named(self.address.table)
        if there:
            self._lock()
        if there and self.mode == "append":
            self._require_same(there, [c.name for c in table.columns])
            self._require_new_day(as_of)
            self._insert(table, rows_of(frame, as_of, decimals))
            return len(frame)
        if there and self._agrees(table):
            self.connection.execute(table.delete())
            self._insert(table, rows_of(frame, as_of, decimals))
            return len(frame)
        if there:
            self._require_nothing_attached()
        aside = bool(there) or not self.tables_are_undone
        start = _cut(self.address.table, 40)
        aside_name = f"{start}_new_{dt.datetime.now(dt.UTC):%H%M%S%f}"
        name = aside_name if aside else self.address.table
        table = named(name)
        try:
            table.create(self.connection)
            self._insert(table, rows_of(frame, as_of, decimals))
            if aside:
                self._put_in_place(name, bool(there))
        except BaseException:
            self._undo(name)
            raise
        return len(frame)

    def require_place(self) -> list[str]:
        """Return the columns of the existing table. Raises UsageError if it must not be changed."""
        self._require_short([self.address.table])
        there = self._columns_there()
        if there and self.mode is None:
            raise UsageError(
                f"The {self.address.label} exists already. Pass --replace to replace it, or "
                "--append to add this day."
            )
        if there and self.mode == "append":
            key = self._inspector().get_pk_constraint(
                self.address.table, schema=self.address.schema
            )
            if key["constrained_columns"] and "as_of" not in key["constrained_columns"]:
                raise UsageError(
                    f"The primary key of the {self.address.label} is "
                    f"{', '.join(key['constrained_columns'])} without as_of, so the table can hold "
                    "only one day. Append to a new table."
                )
        return there

    def _require_short(self, names: Iterable[str]) -> None:
        """Raise UsageError for a name that the database would cut or refuse."""
        database, most, unit = _LONGEST_NAME.get(self.connection.dialect.name, ("", 0, ""))
        for name in names if most else ():
            if (size := len(name.encode() if unit == "bytes" else name)) > most:
                raise UsageError(
                    f"The name {name!r} has {size} {unit}, and names in {database} have at most "
                    f"{most}. Choose a shorter one."
                )

    def _inspector(self) -> Any:
        return sqlalchemy_module().inspect(self.connection)

    def _lock(self) -> None:
        """Let no other program write to the table until the transaction ends; in SQLite it has
        locked the whole file. A role that may only insert cannot lock a table: while days are
        appended, only programs that append days as well are kept waiting.
        """
        if self.connection.dialect.name != "postgresql":
            return
        table = self._quoted(self.address.table)
        if self.mode == "append":
            self.connection.exec_driver_sql(
                "SELECT pg_advisory_xact_lock(hashtextextended('fairladder ' || %s::regclass::oid, 0))",
                (_undoubled(table),),
            )
        else:
            self.connection.exec_driver_sql(f"LOCK TABLE {table} IN SHARE ROW EXCLUSIVE MODE")

    def _agrees(self, table: "Table") -> bool:
        """Return True if the existing table has the columns, types and key of this one: it is then
        kept with all its rights, indexes and policies, and only its rows are replaced.
        """
        if self.connection.dialect.name == "postgresql":
            self._require_all_rows()
        found, where = self._inspector(), {"schema": self.address.schema}
        there = {c["name"]: c["type"] for c in found.get_columns(table.name, **where)}
        key = found.get_pk_constraint(table.name, **where)["constrained_columns"]
        kinds = {n: _kind(t, self.connection.dialect) for n, t in there.items()}
        ours = {c.name: _kind(c.type, self.connection.dialect) for c in table.columns}
        return kinds == ours and set(key) == {c.name for c in table.primary_key.columns}

    def _require_all_rows(self) -> None:
        """Raise DataError if a policy hides rows of the table, which could then not be replaced."""
        active = self.connection.exec_driver_sql(
            "SELECT row_security_active(%s)", (_undoubled(self._quoted(self.address.table)),)
        ).scalar()
        if active:
            raise DataError(
                f"Policies of the {self.address.label} hide rows from this role, so it cannot "
                "replace them. Write as the table's owner."
            )

    def _require_nothing_attached(self) -> None:
        """Raise UsageError if something belongs to the table that a new one with other columns
        would lose.
        """
        found, where = self._inspector(), {"schema": self.address.schema}
        name = self.address.table
        attached = {
            "indexes": len(found.get_indexes(name, **where)),
            "foreign keys": len(found.get_foreign_keys(name, **where)),
        }
        given = {
            "name": name,
            "schema": self.address.schema,
            "table": _undoubled(self._quoted(name)),
        }
        for what, condition in _ATTACHED.get(self.connection.dialect.name, {}).items():
            query = sqlalchemy_module().text(f"SELECT COUNT(*) FROM {condition}")
            names = {n: v for n, v in given.items() if f":{n}" in condition}
            attached[what] = int(self.connection.execute(query, names).scalar_one())
        if there := [what for what, n in attached.items() if n]:
            raise UsageError(
                f"The {self.address.label} has other columns than the result, and {' and '.join(there)} "
                "that a new table would lose. Drop the table and create these again, or write to "
                "another table."
            )

    def _quoted(self, name: str) -> str:
        preparer: Any = self.connection.dialect.identifier_preparer
        parts = [p for p in (self.address.schema, name) if p]
        return ".".join(preparer.quote_identifier(p) for p in parts)

    def _columns_there(self) -> list[str]:
        """Return the columns of the existing table; empty if there is no such table."""
        sqlalchemy = sqlalchemy_module()
        inspector = sqlalchemy.inspect(self.connection)
        if self.address.table in views_in(inspector, self.address.schema):
            raise UsageError(f"The {self.address.label} is a view. Name a new table for results.")
        if not inspector.has_table(self.address.table, schema=self.address.schema):
            return []
        return [
            c["name"] for c in inspector.get_columns(self.address.table, schema=self.address.schema)
        ]

    def _table(self, name: str, columns: Sequence[Any]) -> "Table":
        sqlalchemy = sqlalchemy_module()
        made: Table = sqlalchemy.Table(
            name, sqlalchemy.MetaData(), *columns, schema=self.address.schema
        )
        return made

    def _require_same(self, there: list[str], ours: list[str]) -> None:
        if set(there) != set(ours):
            missing, more = (
                ", ".join(sorted(set(a) - set(b))) or "none"
                for a, b in ((ours, there), (there, ours))
            )
            raise DataError(
                f"The {self.address.label} has other columns: {missing} missing, {more} not "
                "in the result. Append to another table, or pass --replace."
            )

    def _require_new_day(self, as_of: dt.date | None) -> None:
        sqlalchemy = sqlalchemy_module()
        table = self._table(self.address.table, [sqlalchemy.Column("as_of", sqlalchemy.Date)])
        day = (
            sqlalchemy.select(sqlalchemy.literal(1))
            .select_from(table)
            .where(table.c.as_of == as_of)
            .limit(1)
        )
        if self.connection.execute(day).first() is not None:
            raise DataError(
                f"The {self.address.label} already contains the day {as_of}. Delete its rows "
                "first to write it again."
            )

    def _insert(self, table: "Table", rows: Iterator[tuple[Any, ...]]) -> None:
        names = [c.name for c in table.columns]
        if self.connection.dialect.driver == "psycopg":
            preparer: Any = self.connection.dialect.identifier_preparer
            quoted = ", ".join(preparer.quote_identifier(n) for n in names)
            raw: Any = self.connection.connection.cursor()
            copied = f"COPY {preparer.format_table(table)} ({quoted}) FROM STDIN"
            with raw.copy(_undoubled(copied)) as copy:
                for row in rows:
                    copy.write_row(row)
            return
        batch: list[dict[str, Any]] = []
        for row in rows:
            batch.append(dict(zip(names, row, strict=True)))
            if len(batch) == _ROWS_AT_A_TIME:
                self.connection.execute(table.insert(), batch)
                batch = []
        if batch:
            self.connection.execute(table.insert(), batch)

    def _undo(self, new: str) -> None:
        """Remove a table that was created; here the end of the transaction does it."""

    def _put_in_place(self, new: str, there: bool) -> None:
        """Rename the new table to the old one's name and give it the old one's grants, and no
        others; readers see the old one until the transaction ends.
        """
        preparer: Any = self.connection.dialect.identifier_preparer
        run, old = self.connection.exec_driver_sql, self._quoted(self.address.table)
        in_postgres = self.connection.dialect.name == "postgresql"
        grants = self._grants(self.address.table) if in_postgres else []
        if there:
            run(f"DROP TABLE {old}")
        renamed = preparer.quote_identifier(self.address.table)
        run(f"ALTER TABLE {self._quoted(new)} RENAME TO {renamed}")
        if not in_postgres:
            return
        key = self._inspector().get_pk_constraint(self.address.table, schema=self.address.schema)
        if key["name"]:
            name = preparer.quote_identifier(f"{_cut(self.address.table, 58)}_pkey")
            run(
                f"ALTER TABLE {old} RENAME CONSTRAINT {preparer.quote_identifier(key['name'])} TO {name}"
            )
        quoted = {
            grantee: "PUBLIC" if grantee == "PUBLIC" else preparer.quote_identifier(grantee)
            for grantee, *_ in [*grants, *self._grants(self.address.table)]
        }
        for whom in quoted.values():  # default privileges may have granted more
            run(f"REVOKE ALL ON {old} FROM {whom}")
        for grantee, right, passed_on in grants:
            more = " WITH GRANT OPTION" if passed_on else ""
            run(f"GRANT {right} ON {old} TO {quoted[grantee]}{more}")

    def _grants(self, table: str) -> list[tuple[str, str, bool]]:
        """Return the grants on a table in PostgreSQL: grantee, right, and whether it may be passed
        on.
        """
        query = sqlalchemy_module().text(
            "SELECT grantee, privilege_type, is_grantable = 'YES' FROM "
            "information_schema.table_privileges WHERE table_name = :t AND "
            "table_schema = COALESCE(:s, CURRENT_SCHEMA()) AND grantee <> CURRENT_USER"
        )
        rows = self.connection.execute(query, {"t": table, "s": self.address.schema})
        return [(str(g), str(p), bool(o)) for g, p, o in rows]


class _MariaDbWriting(_Writing):
    """In MariaDB, creating tables is not transactional, so the new table is created under another
    name and renamed in one step.
    """

    tables_are_undone: ClassVar[bool] = False

    def require_place(self) -> list[str]:
        if not self.connection.dialect.is_mariadb:  # type: ignore[attr-defined]
            raise UsageError(
                "Results are written to MariaDB, PostgreSQL and SQLite. For MySQL, write a CSV "
                "file and load that."
            )
        there = super().require_place()
        if there and self.mode == "append":
            engine = self._options().get("mariadb_engine", "")
            if engine.lower() != "innodb":
                raise UsageError(
                    f"The {self.address.label} uses {engine or 'an engine'} without "
                    "transactions, so a day could be appended partially. Convert it to "
                    "InnoDB first: ALTER TABLE … ENGINE = InnoDB."
                )
        return there

    def _options(self) -> dict[str, str]:
        inspector: Any = sqlalchemy_module().inspect(self.connection)
        found = inspector.get_table_options(self.address.table, schema=self.address.schema)
        return {name.replace("mysql_", "mariadb_"): str(value) for name, value in found.items()}

    def _table(self, name: str, columns: Sequence[Any]) -> "Table":
        from fairladder.engine.mariadb import COLLATION

        options = {"engine": "InnoDB", "charset": "utf8mb4", "collate": COLLATION}
        given = {f"{of}_{option}": value for of in _MYSQL for option, value in options.items()}
        made: Table = sqlalchemy_module().Table(
            name, sqlalchemy_module().MetaData(), *columns, schema=self.address.schema, **given
        )
        for cell in made.columns:
            if cell.primary_key and isinstance(cell.type, sqlalchemy_module().Text):
                cell.type = sqlalchemy_module().String(_LONGEST_KEY)
        return made

    def _lock(self) -> None:
        # only this library's writers respect the lock: LOCK TABLES would end the transaction
        table = f"{self.address.schema or self.connection.engine.url.database}.{self.address.table}"
        name = f"fairladder {hashlib.sha256(table.encode()).hexdigest()[:40]}"  # 64 letters at most
        got = self.connection.exec_driver_sql(
            "SELECT GET_LOCK(%s, %s)", (name, _PATIENCE_SECONDS)
        ).scalar()
        if not got:
            raise DataError(
                f"Another program has been writing to the {self.address.label} for over "
                f"{_PATIENCE_SECONDS} seconds. Try again later."
            )

    def _agrees(self, table: "Table") -> bool:
        is_innodb = self._options().get("mariadb_engine", "").lower() == "innodb"
        return is_innodb and super()._agrees(table)

    def _undo(self, new: str) -> None:
        self.connection.exec_driver_sql("ROLLBACK")
        self.connection.exec_driver_sql(f"DROP TABLE IF EXISTS {self._quoted(new)}")

    def _put_in_place(self, new: str, there: bool) -> None:
        old, old_name = self._quoted(self.address.table), self._quoted(f"{new[:56]}_old")
        both = f"{old} TO {old_name}, " if there else ""
        self.connection.exec_driver_sql("COMMIT")
        self.connection.exec_driver_sql(f"RENAME TABLE {both}{self._quoted(new)} TO {old}")
        if there:
            self.connection.exec_driver_sql(f"DROP TABLE {old_name}")


def _cut(name: str, size: int) -> str:
    """Return the first letters of a name that fit into ``size`` bytes."""
    return name.encode()[:size].decode(errors="ignore")


def _undoubled(quoted: str) -> str:
    """Return a quoted name for use outside statements with parameters, for which SQLAlchemy doubles
    percent signs.
    """
    return quoted.replace("%%", "%")


def _kind(of: Any, dialect: Any) -> str:
    """Return a column's type as text, without character sets and lengths that do not matter."""
    kind = str(of.compile(dialect=dialect)).split(" CHARACTER SET")[0].split(" COLLATE")[0]
    kind = kind.replace("DOUBLE PRECISION(53)", "DOUBLE PRECISION").replace("BOOLEAN", "BOOL")
    kind = kind.replace("NUMERIC", "DECIMAL")
    return {"TINYINT(1)": "BOOL", "BIGINT(20)": "BIGINT"}.get(kind, kind).replace(", ", ",")


def _writing(connection: "Connection", address: TableAddress, mode: Mode) -> _Writing:
    kind = _MariaDbWriting if connection.dialect.name in _MYSQL else _Writing
    return kind(connection, address, mode)

"""A database reached through SQLAlchemy, read only. SQLite, PostgreSQL and MariaDB run the queries
themselves.
"""

import datetime as dt
import weakref
from collections.abc import Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager
from decimal import Decimal
from threading import RLock
from typing import Any

import pyarrow as pa
from sqlglot import exp

from fairladder.engine.addresses import (
    checked_url,
    converted_errors,
    label_of,
    sqlalchemy_module,
    tables_in,
)
from fairladder.engine.backends import backend_of
from fairladder.engine.embedded import Embedded
from fairladder.engine.layout import laid_out
from fairladder.engine.limits import Limits
from fairladder.engine.user_query import attributes, checked_query
from fairladder.errors import DataError, Question, UsageError, nearest, shortened
from fairladder.sqltree import column, named, select, sql

_ROWS_AT_A_TIME = 50_000
#: Number of tables that an error lists.
MOST_TABLES_LISTED = 20
#: Our columns that are dates: SQLite stores them as text. Queries never give these names to a
#: user's column or count.
_DAYS = (
    "day",
    "first_order",
    "last_order",
    "latest_row",
    "placed_on",
    "before",
    "period",
    "cohort",
    "then",
)
#: Text columns of our queries that may be all null.
_TEXTS = frozenset({"customer", "order", "name", "only_channel", "currency"})


class Database:
    """One read-only connection. The whole reduction is one query, so its figures are consistent."""

    def __init__(self, url: str) -> None:
        sqlalchemy = sqlalchemy_module()
        self._url = checked_url(url)
        self._backend = backend_of(self._url)
        self.dialect = self._backend.dialect
        self.label = label_of(self._url)
        prepare = self._backend.prepare
        self._reader: Embedded | None = None
        self._kept: dict[str, exp.Expr] = {}
        self._of_users: dict[str, exp.Expr] = {}
        """Name → text of each user's SELECT."""
        self._names = 0
        self._moments, self._version, self._lock = 0, 0, RLock()
        with self._converted_errors():
            engine = sqlalchemy.create_engine(
                self._url, hide_parameters=True, **self._backend.arguments(self._url)
            )
            weakref.finalize(self, engine.dispose)
            sqlalchemy.event.listen(engine, "connect", lambda raw, _: prepare(raw))
            connection = engine.connect()
            weakref.finalize(self, connection.close)
            self._backend = self._backend.answering(connection)
            connection = self._backend.opened(connection)
        self._connection = connection
        self._inspector = sqlalchemy.inspect(engine)

    @property
    def works_itself(self) -> bool:
        """True if the reduction runs in this database."""
        return self._backend.works_itself

    @property
    def reader(self) -> Embedded:
        """The embedded engine that reads local files used with the orders."""
        if self._reader is None:
            self._reader = Embedded()
        return self._reader

    def relation(self, table: str | None, query: str | None) -> exp.Expr:
        """Return the table or the query to read orders from.

        Raises UsageError unless exactly one is given, or if the table does not exist or the query
        is not a single SELECT.
        """
        if table is None and query is None and len(there := self._names_in(None)) == 1:
            table = there[0]
        if (table is None) == (query is None):
            error = UsageError(
                f"{self.label} is a database: name the rows with --table NAME or --query "
                f"SELECT. {self._tables_there()}"
            )
            tables = dict.fromkeys(self._names_in(None)[:MOST_TABLES_LISTED], ())
            raise (
                error.asking(Question("Which table contains the orders?", "table", tables))
                if tables
                else error
            )
        if query is not None:
            return self._of_user(query)
        assert table is not None
        known = self._names_in(None)
        if table in known:  # a name may contain a point
            schema, name = "", table
        else:
            schema, _, name = (part.strip('"`') for part in table.rpartition("."))
            known = self._names_in(schema) if schema else known
        if name not in known:
            raise UsageError(
                f"{self.label} has no table `{shortened(table, 80)}`. {nearest(name, known) if known else ''}".rstrip()
            )
        parts = {
            "this": exp.to_identifier(name, quoted=True),
            "db": exp.to_identifier(schema, quoted=True) if schema else None,
        }
        return self._backend.aliased(exp.Table(**parts))

    def _of_user(self, query: str) -> exp.Table:
        """Return the rows of a user's SELECT. Its text is put unchanged before each query that uses
        it, or into a temporary view in SQLite, where names in it could otherwise mean our layers.
        """
        known = self._backend.functions is not None or self._backend.works_itself
        dialect = self._backend.dialect if known else None
        text = checked_query(query, dialect, self._backend.functions)
        with self._converted_errors():
            functions = self._backend.functions_among(self._connection, attributes(text, dialect))
        if functions:
            raise UsageError(
                f"The query uses `{functions[0]}` like a column, but it is also a function. Create "
                "a view of the query in the database, and name it with --table."
            )
        self._names += 1
        table = exp.Table(this=exp.to_identifier(f"user query {self._names}", quoted=True))
        self._of_users[table.name] = exp.Var(this=text)
        if self._backend.stores:
            with self._converted_errors():
                self._connection.exec_driver_sql(f"CREATE TEMP VIEW `{table.name}` AS {text}")
        return table

    def _names_in(self, schema: str | None) -> list[str]:
        """Return the tables and views of a schema; by default of the usual one."""
        with self._converted_errors():
            known = self._inspector.get_schema_names() if schema is not None else []
            if schema is not None and schema not in known:
                raise UsageError(
                    f"{self.label} has no schema `{shortened(schema, 80)}`. "
                    f"{nearest(schema, known)}"
                )
            return tables_in(self._inspector, schema)

    def note(self, relation: exp.Expr) -> str | None:
        """Return a warning about a table that is read, or None."""
        with self._converted_errors():
            return self._backend.note(self._connection, relation)

    def progress(self) -> float | None:
        """Return None: databases do not report progress. The embedded engine does for rows read
        from here.
        """
        return None

    @property
    def limits(self) -> Limits:
        """Limits that avoid a second look at many rows, which would keep the database busy."""
        return Limits(looked_at=200_000, channel_bits=False)

    @property
    def customer_engine(self) -> Embedded:
        """The embedded engine, into which customers are brought."""
        return self.reader

    def hand_over(self, query: exp.Select, *, keep: bool = True) -> exp.Expr:  # noqa: ARG002
        """Return the rows of a query, brought into the embedded engine."""
        return self.reader.offer(self.table(query))

    @property
    def steady(self) -> bool:
        """True while a snapshot is active."""
        return bool(self._moments)

    @contextmanager
    def moment(self) -> Iterator[None]:
        """Start a snapshot: until the end of the block all queries see the same data and none can
        change it.

        PostgreSQL and MariaDB use one READ ONLY transaction. For SQLite a change during the block
        is an error, since a lock would block other writers. Raises DataError.
        """
        with self._lock:  # a connection can be used by one thread at a time
            if self._moments:
                yield
                return
            self._moments = 1
            try:
                with self._converted_errors():
                    self._backend.begin(self._connection)
                self._version = self._data_version()
                yield
                self._unchanged()
            finally:
                self._moments = 0
                self._backend.end(self._connection)

    def _data_version(self) -> int:
        with self._converted_errors():
            return self._backend.version(self._connection)

    def _unchanged(self) -> None:
        if self._data_version() != self._version:
            raise DataError(
                f"{self.label} was changed by another program while it was read, so figures "
                "would not agree. Run it again."
            )

    def columns(self, relation: exp.Expr) -> dict[str, str]:
        """Return column name → type in the embedded engine's names."""
        empty = select(["*"], relation).limit(0, copy=False)
        with self.moment(), self._converted_errors():
            cursor = self._connection.exec_driver_sql(self._text(empty)).cursor
            described = [] if cursor is None else list(cursor.description)
        if self._backend.types_by_value:
            return self._types_found(relation, [d[0] for d in described])
        if long := self._backend.may_be_long(described):
            lengths = [
                sql("COALESCE(MAX(LENGTH(:c)), 0)", c=self._backend.cell(name, "VARCHAR"))
                for name in long
            ]
            # Not under the columns' own names, which may clash with ours.
            longest_texts = self.table(
                select([named(tree, f"length {i}") for i, tree in enumerate(lengths)], relation)
            ).to_pylist()[0]
            longest, name = max(zip(longest_texts.values(), long, strict=True))
            self._backend.expect(self._connection, name, longest)
        return self._backend.types(described)

    def _types_found(self, relation: exp.Expr, names: list[str]) -> dict[str, str]:
        """Return the types of columns in SQLite, which stores a type for each value."""
        tests = {
            "t": "MAX(TYPEOF(:c) IN ('text', 'blob'))",
            "f": "MAX(TYPEOF(:c) = 'real')",
            "i": "MAX(TYPEOF(:c) = 'integer')",
        }
        columns = [
            named(sql(test, c=column(n)), f"{kind} {n}")
            for n in names
            for kind, test in tests.items()
        ]
        counts = self.table(select(columns, relation)).to_pylist()[0] if names else {}

        def type_of(name: str) -> str:
            if counts[f"t {name}"] or not (counts[f"f {name}"] or counts[f"i {name}"]):
                return "VARCHAR"
            return "DOUBLE" if counts[f"f {name}"] else "BIGINT"

        return {name: type_of(name) for name in names}

    def by_code_point(self, relation: exp.Expr, types: dict[str, str]) -> exp.Expr:
        """Return the relation with columns as the reduction needs them: text compares by code
        point, and NaN is null.
        """
        cells = {name: self._backend.cell(name, kind) for name, kind in types.items()}
        if all(cell == column(name) for name, cell in cells.items()):
            return relation
        return select([named(tree, n) for n, tree in cells.items()], relation).subquery(
            "typed", copy=False
        )

    def table(self, query: exp.Expr) -> pa.Table:
        """Run a query in the database and return its rows."""
        with self.moment(), self._converted_errors():
            result = self._connection.exec_driver_sql(self._text(query))
            names, rows = list(result.keys()), result.fetchall()
        columns = list(zip(*rows, strict=True)) if rows else [()] * len(names)
        return pa.Table.from_arrays(
            [_arrow(n, c) for n, c in zip(names, columns, strict=True)], names=names
        )

    def fetch_all(self, relation: exp.Expr) -> pa.Table:
        """Return all rows of a relation, to be processed by another engine."""
        parts = []
        with self._converted_errors():
            result = self._connection.exec_driver_sql(self._text(select(["*"], relation)))
            names = list(result.keys())
            for rows in result.partitions(_ROWS_AT_A_TIME):
                columns = [pa.array([_plain(v) for v in c]) for c in zip(*rows, strict=True)]
                parts.append(pa.Table.from_arrays(columns, names=names))
        return (
            pa.concat_tables(parts, promote_options="permissive")
            if parts
            else pa.table({n: pa.array([], pa.string()) for n in names})
        )

    def offer(self, table: pa.Table) -> exp.Expr:
        """Return a small table as a sub-query of literal rows."""
        together: exp.Expr | None = None
        for row in table.to_pylist():
            one = exp.Select().select(*(named(_constant(v), n) for n, v in row.items()), copy=False)
            together = (
                one
                if together is None
                else exp.Union(this=together, expression=one, distinct=False)
            )
        assert together is not None
        return exp.Subquery(this=together, alias=exp.TableAlias(this=exp.to_identifier("offered")))

    def keep(self, query: exp.Expr) -> exp.Expr:
        """Name the query, and put its text before each query that uses it; nothing is stored in the
        database.

        For SQLite rows are stored: its temporary tables are not in the file, which is opened read
        only.
        """
        self._names += 1
        table = exp.to_table(f"kept_{self._names}")
        if self._backend.stores:
            with self._converted_errors():
                self._connection.exec_driver_sql(
                    f"CREATE TEMP TABLE {table.name} AS {self._text(query)}"
                )
            return table
        self._kept[table.name] = self._backend.own(query)
        return table

    def forget(self, relation: exp.Expr) -> None:
        """Drop the query that ``keep`` named."""
        if self._backend.stores:
            self._connection.exec_driver_sql(f"DROP TABLE temp.{relation.name}")
        else:
            self._kept[relation.name] = exp.select("1")

    def sql(self, query: exp.Expr) -> str:
        """Return the query as indented text in the database's dialect."""
        return self._text(query, pretty=True)

    def _text(self, query: exp.Expr, pretty: bool = False) -> str:
        tree = self._backend.own(query)
        named_first: list[exp.Expr] = []
        texts = {} if self._backend.stores and not pretty else self._of_users
        queries = {**self._kept, **texts}
        for table in _needed(tree, queries):
            kept = queries[table].copy()
            kept_with = kept.args.pop("with_", None)
            named_first += kept_with.expressions if kept_with else []
            named_first.append(
                exp.CTE(this=kept, alias=exp.TableAlias(this=exp.to_identifier(table)))
            )
        if named_first:
            before = tree.args.get("with_")
            tree.set(
                "with_",
                exp.With(expressions=[*named_first, *(before.expressions if before else [])]),
            )
        if pretty:
            return laid_out(tree, self._backend.writer, identify=True)
        return self._backend.escaped(tree.sql(self._backend.writer, identify=True))

    def _tables_there(self) -> str:
        names = sorted(self._names_in(None))
        return f"There are: {', '.join(names[:20])}." if names else "It contains no tables."

    def _converted_errors(self) -> AbstractContextManager[None]:
        return converted_errors(self._url)


def _needed(tree: exp.Expr, queries: Mapping[str, exp.Expr]) -> list[str]:
    """Return the names of queries that a tree uses, directly or through others, each after those it
    depends on.
    """
    needed: list[str] = []
    for name in sorted({t.name for t in tree.find_all(exp.Table)} & queries.keys()):
        needed += [n for n in (*_needed(queries[name], queries), name) if n not in needed]
    return needed


def _plain(value: Any) -> Any:
    if isinstance(value, Decimal) and value == value.to_integral_value():
        return int(value)
    return (
        value
        if isinstance(value, bool | int | float | str | Decimal)
        or value is None
        or hasattr(value, "isoformat")
        else str(value)
    )


def _arrow(name: str, values: tuple[Any, ...]) -> pa.Array:
    if name in _DAYS:
        return pa.array([_day(v) for v in values], pa.date32())
    plain = [_plain(v) for v in values]
    if any(isinstance(v, Decimal) for v in plain):
        plain = [None if v is None else float(v) for v in plain]
    array = pa.array(plain)
    if not pa.types.is_null(array.type):
        return array
    return array.cast(pa.string() if name in _TEXTS or name.startswith("of ") else pa.int64())


def _day(value: Any) -> dt.date | None:
    if value is None or isinstance(value, dt.date):
        return value
    if isinstance(value, str):
        return dt.date.fromisoformat(value[:10])
    raise TypeError(f"{value!r} is not a date")  # Arrow would read a number as days since 1970


def _constant(value: Any) -> exp.Expr:
    if hasattr(value, "isoformat"):
        return sql("CAST(:d AS DATE)", d=exp.Literal.string(value.isoformat()))
    return exp.convert(value)

"""A Spark cluster: rows, orders and customers stay on it, and only small results come back. The
only module that uses PySpark.
"""

import logging
import os
import warnings
import weakref
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext, suppress
from functools import partial
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any
from uuid import uuid4

import pyarrow as pa
from sqlglot import exp

from fairladder.engine import spark
from fairladder.engine.addresses import local_path
from fairladder.engine.embedded import Embedded
from fairladder.engine.layout import laid_out
from fairladder.engine.limits import Limits
from fairladder.engine.words import in_words
from fairladder.errors import DataError, UsageError, shortened
from fairladder.scratch import scratch_path
from fairladder.sqltree import select
from fairladder.wording import counted

if TYPE_CHECKING:
    from pyspark.sql import DataFrame, SparkSession

#: Settings that our queries need, on our own session so that other sessions are unaffected.
_SETTINGS = {
    "spark.sql.ansi.enabled": "true",  # overflow raises an error instead of wrapping
    "spark.sql.session.timeZone": "UTC",  # the machines' time zones must not matter
    "spark.sql.caseSensitive": "false",
    "spark.sql.parser.escapedStringLiterals": "false",
    # the folder `id=007` means the text 007
    "spark.sql.sources.partitionColumnTypeInference.enabled": "false",
    # report a row with too few cells whichever columns are read
    "spark.sql.csv.parser.columnPruning.enabled": "false",
    "spark.sql.legacy.timeParserPolicy": "CORRECTED",
    # Spark names a cached table by the start of its plan, after formatting all of it
    "spark.sql.maxPlanStringLength": "2000",
    "spark.sql.debug.maxToStringFields": "3",
    # compile long methods, too, which Java interprets by default
    "spark.sql.codegen.hugeMethodLimit": "8000",
    "spark.sql.decimalOperations.allowPrecisionLoss": "true",
    # compression would take a quarter of the time of scoring, and kept tables are read only a few
    # times
    "spark.sql.inMemoryColumnarStorage.compressed": "false",
    # A first table for a few groups doubles the cost if almost every row is its own group.
    "spark.sql.codegen.aggregate.map.twolevel.enabled": "false",
    # The parser's caches for long statements fill half a gigabyte of the driver in a long session.
    "spark.sql.parser.manageParserCaches": "true",
    "spark.sql.parser.parserDfaCacheFlushRatio": "15",
}
#: Files next to the parts of a result: as-of date, settings and balance. Spark ignores files whose
#: names begin like this.
RECEIPT = "_settings.json"
#: Tells Java to compile methods of any length, which halves the time of reading rows.
_COMPILE_ALL = "-XX:-DontCompileHugeMethods"
#: A session that we start ourselves prints nothing and has no web pages.
_STARTED = {
    "spark.executor.extraJavaOptions": _COMPILE_ALL,
    "spark.ui.enabled": "false",
    "spark.ui.showConsoleProgress": "false",
    # The driver would otherwise remember the plans of a thousand queries for its web pages.
    "spark.sql.ui.retainedExecutions": "10",
    "spark.ui.retainedJobs": "50",
    "spark.ui.retainedStages": "50",
    "spark.ui.retainedTasks": "1000",
    # on one machine only; a cluster's own settings are not changed
    "spark.sql.shuffle.partitions": "16",
}
_LOGGING = Path(__file__).with_name("quiet-log4j2.properties")
_TYPES = {
    "string": "VARCHAR", "bigint": "BIGINT", "int": "INTEGER", "smallint": "SMALLINT",
    "tinyint": "TINYINT", "double": "DOUBLE",
    "float": "FLOAT", "date": "DATE", "timestamp": "TIMESTAMP WITH TIME ZONE",
    "timestamp_ntz": "TIMESTAMP", "boolean": "BOOLEAN",
}  # fmt: skip

#: Number of set-aside rows that are brought to this machine.
SET_ASIDE_SHOWN = 1000
_LIMITS = Limits(
    rows_here=1_000_000,
    set_aside=SET_ASIDE_SHOWN,
    looked_at=0,
    customer_findings=False,
    ids_as_written=False,
    windows=False,
    note=(
        f"Rows on a cluster have no numbers, so examples have none. At most {SET_ASIDE_SHOWN:,} "
        "set-aside rows are shown"
    ),
)


class Cluster:
    """An engine with its own session next to a DataFrame's. Queries are trees, and results are
    small.
    """

    dialect = "spark"

    def __init__(self, frame: "DataFrame") -> None:
        self._session: SparkSession = frame.sparkSession.newSession()
        for name, value in _SETTINGS.items():
            self._session.conf.set(name, value)
        if _compiles_all(frame.sparkSession):
            self._session.conf.set("spark.sql.codegen.hugeMethodLimit", "65535")
        self._names = 0
        self._prefix = f"fairladder_{uuid4().hex}"
        self._reader: Embedded | None = None
        self._kept: dict[str, DataFrame] = {}
        self._owned: set[str] = set()
        self._floats = frozenset(name for name, kind in frame.dtypes if kind in ("float", "double"))
        self._rows = f"{self._prefix}_rows"
        # Only a global view can use a DataFrame of another session.
        frame.createGlobalTempView(self._rows)
        weakref.finalize(self, _forget_all, frame.sparkSession, self._rows, self._kept)

    @property
    def relation(self) -> exp.Table:
        """Return the rows of the DataFrame."""
        return exp.Table(this=exp.to_identifier(self._rows), db=exp.to_identifier("global_temp"))

    @property
    def reader(self) -> Embedded:
        """The embedded engine that reads local files used with the orders."""
        if self._reader is None:
            self._reader = Embedded()
        return self._reader

    @property
    def limits(self) -> Limits:
        """Limits on what comes to this machine; checks that need another pass are left to
        `check`.
        """
        return _LIMITS

    @property
    def customer_engine(self) -> "Cluster":
        """The engine itself, since customers stay on the cluster."""
        return self

    @property
    def parts_writer(self) -> "Cluster":
        """The engine itself, since executors write results."""
        return self

    def hand_over(self, query: exp.Select, *, keep: bool = True) -> exp.Expr:
        """Return the rows of a query as a relation; without ``keep`` they are computed on use."""
        return self.keep(query) if keep else query.subquery("handed_over", copy=False)

    @property
    def steady(self) -> bool:
        """True: what a DataFrame reads is assumed not to change."""
        return True

    def moment(self) -> AbstractContextManager[None]:
        """Do nothing: what a DataFrame reads is assumed not to change."""
        return nullcontext()

    def progress(self) -> float | None:
        """Return None, since progress is not reported."""
        return None

    def columns(self, relation: exp.Expr) -> dict[str, str]:
        """Return column name → type in the embedded engine's names."""
        return {name: _type_of(kind) for name, kind in self._frame(select(["*"], relation)).dtypes}

    def frame(
        self,
        query: exp.Select,
        order: Sequence[exp.Expr],  # noqa: ARG002
        to_pandas: Callable[[pa.Table], Any],  # noqa: ARG002
    ) -> "DataFrame":
        """Return the query as an unsorted Spark DataFrame that has not been computed yet."""
        return self._frame(query)

    def transfer_note(self, count: int, why: str) -> str:
        """Return the sentence that reports how many customers were brought here, and why."""
        return (
            f"{counted(count, 'customers', 'were')} transferred from the cluster, one row each, "
            f"{why}."
        )

    def _frame(self, query: exp.Expr) -> "DataFrame":
        with _converted_errors():
            return self._session.sql(self._own(query).sql("spark"))

    def table(self, query: exp.Expr) -> pa.Table:
        """Run a query with a small result and return it."""
        with _converted_errors(), _quietly():
            return self._frame(query).toArrow()

    def keep(self, query: exp.Expr) -> exp.Table:
        """Cache the query's rows on the executors, in memory and on their disks.

        Later queries do not contain the query's plan, which Spark would analyse each time. If an
        executor is lost, its part is computed again.
        """
        with _converted_errors(), _quietly():
            kept = self._frame(query).persist()
            rows = kept._jdf.queryExecution().toRdd()
            leaf = self._session._jsparkSession.internalCreateDataFrame(
                rows, kept._jdf.schema(), False
            )
            relation = self.view(type(kept)(leaf, self._session))
        self._kept[relation.name] = kept
        return relation

    def view(self, frame: "DataFrame") -> exp.Table:
        """Return a DataFrame of our session as a relation."""
        self._names += 1
        name = f"{self._prefix}_{self._names}"
        frame.createOrReplaceTempView(name)
        return exp.to_table(name)

    def forget(self, relation: exp.Expr) -> None:
        """Drop from the executors what ``keep`` cached."""
        with _converted_errors():
            self._session.catalog.dropTempView(relation.name)
            if (kept := self._kept.pop(relation.name, None)) is not None:
                kept.unpersist()

    @contextmanager
    def passing(self) -> Iterator[Callable[[exp.Expr], exp.Expr]]:
        """At the end of the block, drop what was cached or sent in it, except what has an owner or
        is passed to the function that the block receives.

        Such relations are computed first. Otherwise each question would leave its steps on the
        executors and their plans on the driver.
        """
        before, lasting = set(self._kept), set[str]()

        def last(relation: exp.Expr) -> exp.Expr:
            self.table(exp.select("COUNT(*)").from_(relation))
            lasting.add(relation.name)
            return relation

        try:
            yield last
        finally:
            for name in self._kept.keys() - before - lasting - self._owned:
                self.forget(exp.to_table(name))

    def own(self, owner: object, relation: exp.Expr) -> None:
        """Drop a cached relation when its owner is garbage-collected."""
        self._owned.add(relation.name)
        weakref.finalize(owner, _let_go, weakref.ref(self), relation)

    def offer(self, table: pa.Table) -> exp.Table:
        """Send a local table to the cluster."""
        with _converted_errors(), _quietly():
            sent = self._session.createDataFrame(table)
            relation = self.view(sent)
        self._kept[relation.name] = sent
        return relation

    def require_own(self, path: str) -> tuple[str, Any, Any]:
        """Return the path as the cluster sees it, with Hadoop's path and file system.

        Raises UsageError if the path exists and is not a folder that we wrote.
        """
        with _converted_errors():
            java: Any = self._session._jvm
            seen = _as_seen(self._session, path)
            target = java.org.apache.hadoop.fs.Path(seen.rstrip("/"))
            system = target.getFileSystem(self._session._jsc.hadoopConfiguration())
            if system.exists(target) and not system.exists(
                java.org.apache.hadoop.fs.Path(target, RECEIPT)
            ):
                raise UsageError(
                    f"{seen!r} exists and was not written by Fair Ladder. Name another folder."
                )
        return seen, target, system

    def write(self, query: exp.Expr, path: str, kind: str, receipt: str) -> None:
        """Have the executors write the query's rows as a folder of ``csv`` or ``parquet`` parts,
        all or nothing.

        They write to a temporary folder, which replaces ``path`` once all parts and ``receipt`` (as
        ``RECEIPT``) are complete. Raises UsageError if ``path`` exists and is not such a folder,
        DataError if it cannot be written.
        """
        with _converted_errors():
            java: Any = self._session._jvm
            path, target, system = self.require_own(path)
            mark = uuid4().hex[:8]
            new, old = (
                java.org.apache.hadoop.fs.Path(f"{path.rstrip('/')}.{word}-{mark}")
                for word in ("new", "old")
            )
            try:
                writer = self._frame(query).write
                if kind == "csv":
                    writer = writer.options(
                        header="true", quote='"', escape='"', emptyValue='""', nullValue=""
                    )
                getattr(writer, kind)(new.toString())
                receipt_stream = system.create(java.org.apache.hadoop.fs.Path(new, RECEIPT), True)
                receipt_stream.write(receipt.encode())
                receipt_stream.close()
                replaced = system.exists(target)
                if (replaced and not system.rename(target, old)) or not system.rename(new, target):
                    raise DataError(
                        f"{path!r} could not be replaced. The parts are in {new.toString()!r}."
                    )
                if replaced:
                    system.delete(old, True)
            except BaseException:
                with suppress(Exception):
                    if not system.exists(target) and system.exists(old):
                        system.rename(old, target)
                    else:
                        system.delete(new, True)
                raise

    def sql(self, query: exp.Expr) -> str:
        """Return the query as indented Spark SQL."""
        return laid_out(self._own(query), "spark")

    def _own(self, query: exp.Expr) -> exp.Expr:
        return in_words(query, partial(spark.translated, floats=self._floats), keep_layers=False)


def session_at(master: str) -> "SparkSession":
    """Return the active session, or start one at this address (``local[2]``,
    ``spark://host:7077``).

    Raises UsageError if PySpark is missing or no Spark answers at the address.
    """
    if find_spec("pyspark") is None:
        raise UsageError(
            "Clusters need PySpark: install it with pip install 'fairladder[spark]', and Java 17 "
            "or later."
        )
    import pyspark
    from pyspark.sql import SparkSession

    if (running := SparkSession.getActiveSession()) is not None:
        return running
    # A Spark installed by pip does not know its home or version when it starts its own executors.
    os.environ.setdefault("SPARK_HOME", str(Path(pyspark.__file__).parent))
    os.environ.setdefault("SPARK_SCALA_VERSION", "2.13")
    os.environ.setdefault("SPARK_WORKER_DIR", str(scratch_path("spark")))
    builder = SparkSession.builder.master(master).appName("fairladder")
    builder = builder.config(
        "spark.driver.extraJavaOptions",
        f"-Dlog4j2.configurationFile={_LOGGING.as_uri()} {_COMPILE_ALL}",
    )
    for name, value in _STARTED.items():
        builder = builder.config(name, value)
    try:
        with _quietly():
            return builder.getOrCreate()
    except Exception as error:  # Java has many exceptions
        raise UsageError(
            f"There is no Spark session at {master!r}: {_message_of(error)}. Check the address, and "
            "that Java 17 or later is installed."
        ) from error


def _compiles_all(session: "SparkSession") -> bool:
    """Return True if Java compiles long methods on every machine where the session's tasks run."""
    java_settings = session.sparkContext.getConf()
    return all(
        _COMPILE_ALL in (java_settings.get(f"spark.{side}.extraJavaOptions") or "")
        for side in ("driver", "executor")
    )


def files_frame(
    session: "SparkSession", path: str, separator: str | None, encoding: str | None
) -> "tuple[DataFrame, bool]":
    """Return a file, a pattern or a folder of CSV, Parquet or JSON as a DataFrame, and whether its
    cells are text.

    Raises UsageError for an unknown kind of file, DataError if it cannot be read.
    """
    path = _as_seen(session, path)
    kind = _kind_of_files(session, path)
    with _converted_errors():
        reader = session.newSession()
        for name, value in _SETTINGS.items():
            reader.conf.set(name, value)
        if kind == "csv":
            ends = (
                "\t"
                if separator is None and path.lower().endswith((".tsv", ".tsv.gz"))
                else separator or ","
            )
            options = {"header": "true", "sep": ends, "quote": '"', "escape": '"',
            "multiLine": "true", "mode": "FAILFAST",
                       "enforceSchema": "false", "encoding": encoding or "UTF-8"}  # fmt: skip
            return reader.read.options(**options).csv(path), True
        return getattr(reader.read, kind)(path), False


def files_of(frame: "DataFrame") -> tuple[Path, ...]:
    """Return the local files that a DataFrame reads."""
    with _converted_errors():
        places = [local_path(place) for place in frame.inputFiles()]
    return tuple(place for place in places if place is not None)


def _as_seen(session: "SparkSession", path: str) -> str:
    """Return a relative path as the cluster sees it: in the current folder if the cluster's files
    are local.
    """
    if "://" in path or session._jsc.hadoopConfiguration().get("fs.defaultFS") != "file:///":
        return path
    return str(Path(path).absolute())


_ENDINGS = {".csv": "csv", ".tsv": "csv", ".txt": "csv", ".parquet": "parquet", ".pq": "parquet",
".json": "json",
            ".jsonl": "json", ".ndjson": "json"}  # fmt: skip


def _kind_of_files(session: "SparkSession", path: str) -> str:
    """Return ``csv``, ``parquet`` or ``json``, from the suffix of the path or of the first file in
    the folder.
    """
    bare = path.removesuffix(".gz").removesuffix(".zst")
    if (kind := _ENDINGS.get(Path(bare).suffix.lower())) is not None and not Path(path).is_dir():
        return kind
    with _converted_errors():
        java: Any = session._jvm
        place = java.org.apache.hadoop.fs.Path(path)
        system = place.getFileSystem(session._jsc.hadoopConfiguration())
        if not system.exists(place):
            raise UsageError(
                f"There is no file or folder {path!r}. Check the path as the cluster sees it."
            )
        files = system.listFiles(place, True)
        while files.hasNext():
            name = files.next().getPath().getName()
            ending = Path(name.removesuffix(".gz").removesuffix(".zst")).suffix.lower()
            if not name.startswith(("_", ".")) and ending in _ENDINGS:
                return _ENDINGS[ending]
    raise UsageError(
        f"{path!r} contains no .csv, .tsv, .parquet or .json files, the formats that can be "
        "read on a cluster."
    )


def catalogue_frame(session: "SparkSession", table: str) -> "DataFrame":
    """Return a table of the session's catalogue. Raises UsageError if it does not exist."""
    with _converted_errors():
        if not session.catalog.tableExists(table):
            names = [
                t.name for t in session.catalog.listTables() if not t.name.startswith("fairladder_")
            ]
            there = ", ".join(names[:20])
            raise UsageError(
                (
                    f"The catalogue has no table `{shortened(table, 80)}`. "
                    f"{f'It has: {there}.' if there else ''}"
                ).rstrip()
            )
        return session.table(table)


def _let_go(cluster: "weakref.ref[Cluster]", relation: exp.Expr) -> None:
    if (there := cluster()) is not None:
        with suppress(Exception):  # the session may have ended already
            there.forget(relation)


def _forget_all(session: "SparkSession", view: str, kept: "dict[str, DataFrame]") -> None:
    with suppress(Exception):  # the session may have ended already
        session.catalog.dropGlobalTempView(view)
        for frame in kept.values():
            frame.unpersist()


def _type_of(kind: str) -> str:
    if kind.startswith("decimal"):
        return kind.upper()
    return _TYPES.get(kind, "VARCHAR")


@contextmanager
def _quietly() -> Iterator[None]:
    """Suppress PySpark's warning about newer versions of pandas, which we do not use with it."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        yield


@contextmanager
def _converted_errors() -> Iterator[None]:
    """Convert Spark's errors to ours and print none of them."""
    from py4j.protocol import Py4JError
    from pyspark.errors import PySparkException

    for name in ("SQLQueryContextLogger", "DataFrameQueryContextLogger"):
        logging.getLogger(name).setLevel(logging.CRITICAL + 1)
    try:
        yield
    except (PySparkException, Py4JError) as error:
        raise DataError(_advice(_message_of(error))) from error


def _message_of(error: Exception) -> str:
    """Return the message of a Spark error: its first line if it has an error class, otherwise the
    root cause.
    """
    lines = [line for line in str(error).splitlines() if line.strip(" ^")] or ["no reason is given"]
    causes = [
        line.split("Exception: ", 1)[-1] for line in lines if line.startswith(("Caused by: ", ": "))
    ]
    reason = lines[0] if lines[0].startswith("[") else (causes or lines)[-1]
    return shortened(" ".join(reason.split()), 300).rstrip(".")


def _advice(reason: str) -> str:
    if "USER_RAISED_EXCEPTION" in reason:
        return reason.split("] ", 1)[-1].split(" SQLSTATE")[0]
    if "PATH_NOT_FOUND" in reason:
        path = reason.partition("does not exist: ")[2].partition(". SQLSTATE")[0]
        return f"There is no file or folder {path!r} for the cluster to read. Check the path as the cluster sees it."
    if "does not conform to the schema" in reason:
        return (
            "These files differ in their headers, or a header repeats a name. Name each column "
            "once, and the same way in all files."
        )
    if "MALFORMED" in reason or "FAILED_READ_FILE" in reason:
        return (
            f"The cluster could not read these files: {reason}. A row may have more or fewer "
            "cells than the header. Look for a stray separator, or set it with --separator."
        )
    if "ARITHMETIC_OVERFLOW" in reason:
        return (
            "The sum of the amounts exceeds 64 bits. Use a larger unit, or fewer decimals under "
            "[money]."
        )
    return f"The cluster did not answer: {reason}."

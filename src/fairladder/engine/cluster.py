"""A Spark cluster: rows, orders and customers stay there, and only what is counted of them
comes back. Touched in this file only.
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

#: What our queries need, set on a session of our own so that nobody else's is changed.
_SETTINGS = {
    "spark.sql.ansi.enabled": "true",  # what overflows stops, and does not wrap
    "spark.sql.session.timeZone": "UTC",  # the machines' zones must never show
    "spark.sql.caseSensitive": "false",
    "spark.sql.parser.escapedStringLiterals": "false",
    "spark.sql.sources.partitionColumnTypeInference.enabled": "false",  # a folder `id=007` says 007
    # a row with too few cells is told whatever is asked of it
    "spark.sql.csv.parser.columnPruning.enabled": "false",
    "spark.sql.legacy.timeParserPolicy": "CORRECTED",
    # Spark writes a plan out in full to name what is kept by its first words
    "spark.sql.maxPlanStringLength": "2000",
    "spark.sql.debug.maxToStringFields": "3",
    # what is longer Java only interprets, if it is not told otherwise
    "spark.sql.codegen.hugeMethodLimit": "8000",
    "spark.sql.decimalOperations.allowPrecisionLoss": "true",
    # a quarter of the time of scoring; what is kept is read a few times
    "spark.sql.inMemoryColumnarStorage.compressed": "false",
    # A first table of a few groups, which costs as much again where nearly each row is its own.
    "spark.sql.codegen.aggregate.map.twolevel.enabled": "false",
    # What the parser has learnt of long statements fills half a gigabyte of the driver in a session
    # of many questions.
    "spark.sql.parser.manageParserCaches": "true",
    "spark.sql.parser.parserDfaCacheFlushRatio": "15",
}
#: What stands beside the parts of a result: day of reckoning, settings and balance. Names that
#: begin so are no parts to Spark.
RECEIPT = "_settings.json"
#: Java is told by this to compile methods of any length: rows are then read in one such, in a good
#: half of the time.
_COMPILE_ALL = "-XX:-DontCompileHugeMethods"
#: A session that we start ourselves is silent, and shows its pages to nobody.
_STARTED = {
    "spark.executor.extraJavaOptions": _COMPILE_ALL,
    "spark.ui.enabled": "false",
    "spark.ui.showConsoleProgress": "false",
    # The driver remembers the plans of a thousand queries otherwise, for pages that nobody opens.
    "spark.sql.ui.retainedExecutions": "10",
    "spark.ui.retainedJobs": "50",
    "spark.ui.retainedStages": "50",
    "spark.ui.retainedTasks": "1000",
    # of one machine; a cluster's own settings are not touched
    "spark.sql.shuffle.partitions": "16",
}
_LOGGING = Path(__file__).with_name("quiet-log4j2.properties")
_TYPES = {
    "string": "VARCHAR", "bigint": "BIGINT", "int": "INTEGER", "smallint": "SMALLINT",
    "tinyint": "TINYINT", "double": "DOUBLE",
    "float": "FLOAT", "date": "DATE", "timestamp": "TIMESTAMP WITH TIME ZONE",
    "timestamp_ntz": "TIMESTAMP", "boolean": "BOOLEAN",
}  # fmt: skip

#: So many rows that are set aside come to this machine.
SET_ASIDE_SHOWN = 1000
_LIMITS = Limits(
    rows_here=1_000_000,
    set_aside=SET_ASIDE_SHOWN,
    looked_at=0,
    customer_findings=False,
    ids_as_written=False,
    windows=False,
    note=f"Rows have no numbers on a cluster, so examples give none; of those set aside at most {SET_ASIDE_SHOWN:,} are shown",
)


class Cluster:
    """A session of our own beside that of a DataFrame. What is asked are trees; what comes
    back are counts.
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
        # Only a view of all sessions can hold a DataFrame of another one.
        frame.createGlobalTempView(self._rows)
        weakref.finalize(self, _forget_all, frame.sparkSession, self._rows, self._kept)

    @property
    def relation(self) -> exp.Table:
        """The rows of the DataFrame."""
        return exp.Table(this=exp.to_identifier(self._rows), db=exp.to_identifier("global_temp"))

    @property
    def reader(self) -> Embedded:
        """The engine for files that stand beside the orders."""
        if self._reader is None:
            self._reader = Embedded()
        return self._reader

    @property
    def limits(self) -> Limits:
        """What comes to this machine is limited, and what takes another pass is left to `check`."""
        return _LIMITS

    @property
    def customer_engine(self) -> "Cluster":
        """Customers stay on the cluster."""
        return self

    @property
    def parts_writer(self) -> "Cluster":
        """The executors write results."""
        return self

    def hand_over(self, query: exp.Select, *, keep: bool = True) -> exp.Expr:
        """The rows of a query; without ``keep`` they are computed when they are asked for."""
        return self.keep(query) if keep else query.subquery("handed_over", copy=False)

    @property
    def steady(self) -> bool:
        """What a DataFrame reads is taken to stay as it is."""
        return True

    def moment(self) -> AbstractContextManager[None]:
        """What a DataFrame reads is taken to stay as it is."""
        return nullcontext()

    def progress(self) -> float | None:
        """Not told."""
        return None

    def columns(self, relation: exp.Expr) -> dict[str, str]:
        """Column name → its type in the embedded engine's words."""
        return {name: _type_of(kind) for name, kind in self._frame(select(["*"], relation)).dtypes}

    def frame(
        self,
        query: exp.Select,
        order: Sequence[exp.Expr],  # noqa: ARG002
        to_pandas: Callable[[pa.Table], Any],  # noqa: ARG002
    ) -> "DataFrame":
        """The query as a DataFrame of Spark, of which nothing has been computed; it is not
        sorted.
        """
        return self._frame(query)

    def came_here(self, count: int, why: str) -> str:
        """Return the sentence that reports how many customers were brought here, and why."""
        return f"{counted(count, 'customers', 'were')} brought here from the cluster, one row each, {why}."

    def _frame(self, query: exp.Expr) -> "DataFrame":
        with _told_plainly():
            return self._session.sql(self._own(query).sql("spark"))

    def table(self, query: exp.Expr) -> pa.Table:
        """Run a query whose answer is small, and bring it back."""
        with _told_plainly(), _quietly():
            return self._frame(query).toArrow()

    def keep(self, query: exp.Expr) -> exp.Table:
        """The query's rows, kept by the executors, in memory and what does not fit on their disks.

        What is asked of them later does not carry the query along, which Spark would look through
        each time; where an executor is lost, its part is worked out again.
        """
        with _told_plainly(), _quietly():
            kept = self._frame(query).persist()
            rows = kept._jdf.queryExecution().toRdd()
            leaf = self._session._jsparkSession.internalCreateDataFrame(
                rows, kept._jdf.schema(), False
            )
            relation = self.view(type(kept)(leaf, self._session))
        self._kept[relation.name] = kept
        return relation

    def view(self, frame: "DataFrame") -> exp.Table:
        """A DataFrame of our session as a relation."""
        self._names += 1
        name = f"{self._prefix}_{self._names}"
        frame.createOrReplaceTempView(name)
        return exp.to_table(name)

    def forget(self, relation: exp.Expr) -> None:
        """Let the executors drop what ``keep`` kept."""
        with _told_plainly():
            self._session.catalog.dropTempView(relation.name)
            if (kept := self._kept.pop(relation.name, None)) is not None:
                kept.unpersist()

    @contextmanager
    def passing(self) -> Iterator[Callable[[exp.Expr], exp.Expr]]:
        """Forget at the end what was kept or sent within, but for what has an owner or is handed
        to the function given.

        That is worked out before. Otherwise each question would leave its steps with the
        executors, and the plans of all of them with the driver.
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
        """Let what is kept go together with its owner."""
        self._owned.add(relation.name)
        weakref.finalize(owner, _let_go, weakref.ref(self), relation)

    def offer(self, table: pa.Table) -> exp.Table:
        """A table of ours, sent to the cluster."""
        with _told_plainly(), _quietly():
            sent = self._session.createDataFrame(table)
            relation = self.view(sent)
        self._kept[relation.name] = sent
        return relation

    def require_own(self, path: str) -> tuple[str, Any, Any]:
        """The path as the cluster sees it, and Hadoop's words for it and its file system.

        Raises UsageError where something stands there that is no folder of ours.
        """
        with _told_plainly():
            java: Any = self._session._jvm
            seen = _as_seen(self._session, path)
            target = java.org.apache.hadoop.fs.Path(seen.rstrip("/"))
            system = target.getFileSystem(self._session._jsc.hadoopConfiguration())
            if system.exists(target) and not system.exists(
                java.org.apache.hadoop.fs.Path(target, RECEIPT)
            ):
                raise UsageError(
                    f"{seen!r} is there already and was not written by Fair Ladder. Name another "
                    "folder."
                )
        return seen, target, system

    def write(self, query: exp.Expr, path: str, kind: str, receipt: str) -> None:
        """Let the executors write the query's rows as a folder of ``csv`` or ``parquet`` parts,
        whole or not at all.

        They write beside ``path``; once all parts and ``receipt`` (as ``RECEIPT``) are there, the
        folder takes its place. Raises UsageError where something stands there that is no such
        folder, DataError where it cannot be written.
        """
        with _told_plainly():
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
                told = system.create(java.org.apache.hadoop.fs.Path(new, RECEIPT), True)
                told.write(receipt.encode())
                told.close()
                replaced = system.exists(target)
                if (replaced and not system.rename(target, old)) or not system.rename(new, target):
                    raise DataError(
                        f"{path!r} could not be put in its place. The parts lie in "
                        f"{new.toString()!r}."
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
        """The query as indented text in Spark's SQL."""
        return laid_out(self._own(query), "spark")

    def _own(self, query: exp.Expr) -> exp.Expr:
        return in_words(query, partial(spark.translated, floats=self._floats), layers_apart=False)


def session_at(master: str) -> "SparkSession":
    """The session that there is, else one at this address (``local[2]``, ``spark://host:7077``).

    Raises UsageError where PySpark is missing or there is nothing at the address.
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
    # A Spark that came by pip knows neither where it is nor its own version when it starts
    # executors of its own.
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
    except Exception as error:  # Java's, of which there are many
        raise UsageError(
            f"There is no Spark session at {master!r}: {_said(error)}. Check the address, and "
            "that Java 17 or later is installed."
        ) from error


def _compiles_all(session: "SparkSession") -> bool:
    """Whether Java was told so wherever the session's tasks run."""
    told = session.sparkContext.getConf()
    return all(
        _COMPILE_ALL in (told.get(f"spark.{side}.extraJavaOptions") or "")
        for side in ("driver", "executor")
    )


def files_frame(
    session: "SparkSession", path: str, separator: str | None, encoding: str | None
) -> "tuple[DataFrame, bool]":
    """A file, a pattern or a folder of CSV, Parquet or JSON as a DataFrame, and whether its cells
    are text.

    Raises UsageError where the kind cannot be told, DataError where it cannot be read.
    """
    path = _as_seen(session, path)
    kind = _kind_of_files(session, path)
    with _told_plainly():
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
    """The files that a DataFrame reads, as far as they are this machine's."""
    with _told_plainly():
        places = [local_path(place) for place in frame.inputFiles()]
    return tuple(place for place in places if place is not None)


def _as_seen(session: "SparkSession", path: str) -> str:
    """A path beside us as the cluster sees it: where its files are this machine's, those of
    the folder we are in.
    """
    if "://" in path or session._jsc.hadoopConfiguration().get("fs.defaultFS") != "file:///":
        return path
    return str(Path(path).absolute())


_ENDINGS = {".csv": "csv", ".tsv": "csv", ".txt": "csv", ".parquet": "parquet", ".pq": "parquet",
".json": "json",
            ".jsonl": "json", ".ndjson": "json"}  # fmt: skip


def _kind_of_files(session: "SparkSession", path: str) -> str:
    """``csv``, ``parquet`` or ``json``, by the ending of the path, or of the first file in the
    folder.
    """
    bare = path.removesuffix(".gz").removesuffix(".zst")
    if (kind := _ENDINGS.get(Path(bare).suffix.lower())) is not None and not Path(path).is_dir():
        return kind
    with _told_plainly():
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
        f"{path!r} holds no .csv, .tsv, .parquet or .json files, which are what is read on a "
        "cluster."
    )


def catalogue_frame(session: "SparkSession", table: str) -> "DataFrame":
    """A table of the session's catalogue. Raises UsageError where there is none."""
    with _told_plainly():
        if not session.catalog.tableExists(table):
            names = [
                t.name for t in session.catalog.listTables() if not t.name.startswith("fairladder_")
            ]
            there = ", ".join(names[:20])
            raise UsageError(
                f"The catalogue has no table `{shortened(table, 80)}`. {f'There are: {there}.' if there else ''}".rstrip()
            )
        return session.table(table)


def _let_go(cluster: "weakref.ref[Cluster]", relation: exp.Expr) -> None:
    if (there := cluster()) is not None:
        with suppress(Exception):  # the session may have ended before
            there.forget(relation)


def _forget_all(session: "SparkSession", view: str, kept: "dict[str, DataFrame]") -> None:
    with suppress(Exception):  # the session may have ended before
        session.catalog.dropGlobalTempView(view)
        for frame in kept.values():
            frame.unpersist()


def _type_of(kind: str) -> str:
    if kind.startswith("decimal"):
        return kind.upper()
    return _TYPES.get(kind, "VARCHAR")


@contextmanager
def _quietly() -> Iterator[None]:
    """Without PySpark's warning of a newer pandas, of which nothing is used here."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        yield


@contextmanager
def _told_plainly() -> Iterator[None]:
    """Spark's errors as ours, and none of them printed by itself."""
    from py4j.protocol import Py4JError
    from pyspark.errors import PySparkException

    for name in ("SQLQueryContextLogger", "DataFrameQueryContextLogger"):
        logging.getLogger(name).setLevel(logging.CRITICAL + 1)
    try:
        yield
    except (PySparkException, Py4JError) as error:
        raise DataError(_advice(_said(error))) from error


def _said(error: Exception) -> str:
    """What an error of Spark's says: its own first line where it has a name, else the deepest
    cause.
    """
    lines = [line for line in str(error).splitlines() if line.strip(" ^")] or ["no reason is given"]
    causes = [
        line.split("Exception: ", 1)[-1] for line in lines if line.startswith(("Caused by: ", ": "))
    ]
    said = lines[0] if lines[0].startswith("[") else (causes or lines)[-1]
    return shortened(" ".join(said.split()), 300).rstrip(".")


def _advice(said: str) -> str:
    if "USER_RAISED_EXCEPTION" in said:
        return said.split("] ", 1)[-1].split(" SQLSTATE")[0]
    if "PATH_NOT_FOUND" in said:
        path = said.partition("does not exist: ")[2].partition(". SQLSTATE")[0]
        return f"There is no file or folder {path!r} for the cluster to read. Check the path as the cluster sees it."
    if "does not conform to the schema" in said:
        return "These files do not have one header: a name stands twice in it, or files differ. Name each column once, alike in all files."
    if "MALFORMED" in said or "FAILED_READ_FILE" in said:
        return (
            f"The cluster could not read these files: {said}. A row may have more or fewer cells "
            "than the header, which nothing "
            "may be lost of; look for a stray separator, or name the one that is used with "
            "--separator."
        )
    if "ARITHMETIC_OVERFLOW" in said:
        return "Amounts come to more than a whole number of 64 bits holds. Give them in a larger unit, or fewer decimals under [money]."
    return f"The cluster did not answer: {said}."

"""The embedded engine: DuckDB in this process. The only module that uses it."""

import re
import shutil
import warnings
import weakref
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future
from contextlib import AbstractContextManager, contextmanager, nullcontext, suppress
from pathlib import Path
from threading import RLock, Thread, current_thread, local, main_thread
from typing import Any, TypeVar

import duckdb
import pyarrow as pa
from sqlglot import exp

from fairladder.engine.exact import EXACT_MINOR, exact_minor_functions
from fairladder.engine.layout import laid_out
from fairladder.engine.limits import Limits
from fairladder.errors import DataError, shortened
from fairladder.scratch import scratch_folder, scratch_path
from fairladder.sqltree import select
from fairladder.wording import counted

T = TypeVar("T")
#: Prefix of the names of offered tables.
_OFFERED = "frame_"
#: Memory limit of the engine, whatever the size of the file; the rest goes to disk.
MOST_GIGABYTES = 2


class Embedded:
    """DuckDB in this process. Its clock is set to UTC, so that the machine's time zone does not
    matter.
    """

    dialect = "duckdb"

    def __init__(self) -> None:
        with _converted_errors():
            self._connection = duckdb.connect()
        self._offered = 0
        self._scratched = 0
        self._owners: list[Any] = []
        self._owned: set[str] = set()
        self._unneeded: list[
            str
            # tables whose owner is gone; dropped with the next query, since an owner can go at any
            # moment
        ] = []
        self._passing = local()
        self._lock = RLock()  # a connection can be used by one thread at a time
        self._folder: Path | None = None
        # Copying the rows again costs less than planning a statement twice, which this warning
        # advises.
        warnings.filterwarnings("ignore", message="Arrow output on a DB-API result")
        self._connection.execute("SET TimeZone = 'UTC'")
        # Progress can be queried but is not printed. In a notebook that needs a package for
        # progress bars.
        with suppress(duckdb.InvalidInputException):
            self._connection.execute("SET enable_progress_bar = true")
            self._connection.execute("SET enable_progress_bar_print = false")
        # Each engine has its own folder, created on use: engines would overwrite each other's
        # files.
        spill = scratch_path("spill")
        self._connection.execute("SET temp_directory = ?", [str(spill)])
        weakref.finalize(self, shutil.rmtree, spill, ignore_errors=True)
        if (
            _gigabytes(
                self._connection.execute("SELECT current_setting('memory_limit')").fetchone()
            )
            > MOST_GIGABYTES
        ):
            self._connection.execute(f"SET memory_limit = '{MOST_GIGABYTES}GiB'")
        self._functions = {
            name: (work, arguments) for name, work, arguments in exact_minor_functions()
        }

    def _with_functions(self, text: str) -> str:
        """Register our functions if a query uses one. Registering them always would take longer
        than a small file.
        """
        for name in set(_OURS.findall(text.lower())) & self._functions.keys():
            function, arguments = self._functions.pop(name)
            types: Any = ["VARCHAR"] * arguments
            self._connection.create_function(
                name, function, types, "BIGINT", null_handling="special"
            )  # type: ignore[call-overload]
        return text

    @property
    def reader(self) -> "Embedded":
        """The engine itself, which reads files."""
        return self

    def scratch(self, name: str) -> Path:
        """Return a path for a file that lives as long as this engine."""
        if self._folder is None:
            self._folder = scratch_folder()
            weakref.finalize(self, shutil.rmtree, self._folder, ignore_errors=True)
        self._scratched += 1
        return self._folder / f"{self._scratched}-{name}"

    def offer(self, table: pa.Table, owner: Any = None) -> exp.Table:
        """Make an Arrow table readable in SQL without copying it. ``owner`` is kept alive as long
        as this engine.
        """
        with self._lock:
            self._offered += 1
            name = f"{_OFFERED}{self._offered}"
            self._connection.register(name, table)
        self._owners.append(owner)
        return exp.to_table(name)

    @property
    def limits(self) -> Limits:
        """No limits."""
        return Limits()

    @property
    def customer_engine(self) -> "Embedded":
        """The engine itself, which holds customers."""
        return self

    def hand_over(self, query: exp.Select, *, keep: bool = True) -> exp.Expr:
        """Return the rows of a query; without ``keep`` they are computed on use."""
        return self.keep(query) if keep else query.subquery("handed_over", copy=False)

    @property
    def steady(self) -> bool:
        """True, since no other program changes what this engine reads."""
        return True

    def moment(self) -> AbstractContextManager[None]:
        """Do nothing: no other program changes what this engine reads."""
        return nullcontext()

    def columns(self, relation: exp.Expr) -> dict[str, str]:
        """Return column name → DuckDB type."""
        query = select(["*"], relation).limit(0, copy=False)
        with self._lock:
            return {
                row[0]: str(row[1])
                for row in self._run(f"DESCRIBE {query.sql(self.dialect, copy=False)}").fetchall()
            }

    def table(self, query: exp.Expr) -> pa.Table:
        """Run a query and return its rows as an Arrow table."""
        with self._lock, _converted_errors():
            text = self._with_functions(query.sql(self.dialect, copy=False))
            return self._in_thread(lambda: self._connection.execute(text).to_arrow_table())

    def keep(self, query: exp.Expr) -> exp.Table:
        """Run a query and store its rows in the engine, on disk if they are many, until they are
        forgotten.
        """
        with self._lock:
            self._offered += 1
            name = f"kept_{self._offered}"
        while self._unneeded:
            self.forget(exp.to_table(self._unneeded.pop()))
        self._run(f"CREATE TEMP TABLE {name} AS {query.sql(self.dialect, copy=False)}")
        if (names := getattr(self._passing, "names", None)) is not None:
            names.append(name)
        return exp.to_table(name)

    @contextmanager
    def passing(self) -> Iterator[Callable[[exp.Expr], exp.Expr]]:
        """Drop the tables that a block of code creates, at its end. The block receives a function:
        tables passed to it stay, as do tables with an owner and those of other threads.
        """
        outer, names, lasting = getattr(self._passing, "names", None), list[str](), set[str]()
        self._passing.names = names

        def last(relation: exp.Expr) -> exp.Expr:
            lasting.add(relation.name)
            return relation

        try:
            yield last
        finally:
            self._passing.names = outer
            self._unneeded += [
                name for name in names if name not in lasting and name not in self._owned
            ]
            if outer is not None:
                outer += [name for name in names if name in lasting]

    def own(self, owner: object, relation: exp.Expr) -> None:
        """Drop a kept relation once ``owner`` is gone."""
        self._owned.add(relation.name)
        weakref.finalize(owner, self._unneeded.append, relation.name)

    def frame(
        self, query: exp.Select, order: Sequence[exp.Expr], to_pandas: Callable[[pa.Table], T]
    ) -> T:
        """Return the rows of a query as a pandas DataFrame, in ``order``."""
        return to_pandas(self.table(query.order_by(*order) if order else query))

    def transfer_note(self, count: int, why: str) -> str:  # noqa: ARG002
        """Return an empty note: customers are always on this machine."""
        return ""

    @property
    def parts_writer(self) -> None:
        """None: results are written as files on this machine."""
        return None

    def write_csv(self, table: pa.Table, path: str, separator: str = ",") -> None:
        """Write an Arrow table as CSV (UTF-8, LF, nulls empty) in row order."""
        relation = self.offer(table)
        target = exp.Literal.string(path).sql(self.dialect)
        self._run(
            f"COPY {relation.name} TO {target} (FORMAT csv, HEADER, DELIMITER '{separator}', "
            "QUOTE '\"')"
        )
        self.forget(relation)

    def write_parquet(self, query: exp.Expr, path: Path) -> None:
        """Write the query's rows to a Parquet file."""
        self._run(
            f"COPY ({query.sql(self.dialect, copy=False)}) TO "
            f"{exp.Literal.string(str(path)).sql()} (FORMAT parquet)"
        )

    def keeps_order(self, query: exp.Expr) -> bool:
        """Return True if ``keep`` would store the query's rows in the order they are read; a join
        loses that order.
        """
        with self._lock:
            plan = self._run(
                "EXPLAIN (FORMAT json) CREATE TEMP TABLE kept AS "
                f"{query.sql(self.dialect, copy=False)}"
            ).fetchall()
        return "BATCH_CREATE_TABLE_AS" in str(plan)

    def forget(self, relation: exp.Expr) -> None:
        """Drop what ``keep`` stored or ``offer`` registered."""
        if relation.name.startswith(_OFFERED):
            with self._lock:
                self._connection.unregister(relation.name)
        else:
            self._run(f"DROP TABLE IF EXISTS {relation.sql(self.dialect)}")

    def sql(self, query: exp.Expr) -> str:
        """Return the query as indented DuckDB SQL."""
        return laid_out(query, self.dialect)

    def _run(self, text: str) -> duckdb.DuckDBPyConnection:
        with self._lock, _converted_errors():
            text = self._with_functions(text)
            return self._in_thread(lambda: self._connection.execute(text))

    def _in_thread(self, work: Callable[[], T]) -> T:
        """Run the engine's work in a thread of its own, so that Ctrl-C is handled immediately."""
        if current_thread() is not main_thread():
            return work()
        made: Future[T] = Future()

        def run() -> None:
            try:
                made.set_result(work())
            except BaseException as error:
                made.set_exception(error)

        worker = Thread(target=run, daemon=True)
        worker.start()
        try:
            return made.result()
        except KeyboardInterrupt:
            self._connection.interrupt()
            worker.join()
            raise

    def progress(self) -> float | None:
        """Return the share (0..1) of the running query that is done; None if no query runs or it is
        unknown.
        """
        done = float(self._connection.query_progress())
        return done / 100 if 0 <= done <= 100 else None


_OURS = re.compile(rf"{EXACT_MINOR}_\w+")


def _gigabytes(setting: tuple[Any, ...] | None) -> float:
    """Convert ``18.8 GiB`` to 18.8; return 0 for units below gigabytes."""
    amount, unit = str(setting[0] if setting else "0 bytes").split()
    return float(amount) * {"GiB": 1, "TiB": 1024}.get(unit, 0)


@contextmanager
def _converted_errors() -> Iterator[None]:
    """Convert the engine's errors to ours."""
    try:
        yield
    except duckdb.InterruptException as error:
        raise KeyboardInterrupt from error
    except duckdb.Error as error:
        raise DataError(_advice(str(error))) from error
    except RuntimeError as error:  # raised by the engine when a scanned Python object fails
        if "interrupt" in str(error).lower():
            raise KeyboardInterrupt from error
        raise DataError(f"The rows could not be read: {error}.") from error


def _advice(message: str) -> str:
    """Rewrite a common engine message with advice."""
    if ragged := re.search(
        r"CSV Error on Line: (\d+)(?s:.*?)Expected Number of Columns: (\d+) Found: (\d+)", message
    ):
        at, wanted, got = (int(number) for number in ragged.groups())
        written = re.search(r"Original Line: *(.*)", message)
        shown = (
            f" (`{shortened(written[1].strip(), 60)}`)" if written and written[1].strip() else ""
        )
        if got == 1:
            what = "It looks like a note below the table, not a row; delete it."
        elif got < wanted:
            what = "The line may be cut off; complete it, or delete it."
        else:
            what = (
                "Look for a stray separator or an unclosed quote; a cell that contains a "
                "separator must be in double quotes."
            )
        return (
            f"Line {at} of the orders has {counted(got, 'cells')} but the header has "
            f"{wanted}{shown}. {what}"
        )
    if "not utf-8 encoded" in message and (line := re.search(r"CSV Error on Line: (\d+)", message)):
        return f'Line {line[1]} of the orders is not UTF-8. Set the encoding, e.g. `encoding = "cp1252"` under [orders].'
    if bad := re.search(r"CSV Error on Line: (\d+)", message):
        lines = [
            t
            for t in message.splitlines()[1:]
            if t and not t.startswith(("Original Line", "Possible"))
        ]
        return f"Line {bad[1]} of the orders cannot be read: {lines[0] if lines else message.splitlines()[0]}"
    if "No space left on device" in message or "Could not write file" in message:
        return "The disk is full. Free some space, or write to another disk."
    reason = re.sub(r"^[A-Z]\w+( \w+)? Error: ", "", message.splitlines()[0])
    return (
        f"These rows could not be read: {shortened(reason).rstrip('.')}. If the file opens "
        "elsewhere, export it again as CSV."
    )

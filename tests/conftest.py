"""Fixtures shared by all tests: the sample shop's files and a way to run the command line."""

import contextlib
import io
import os
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

os.environ.setdefault(
    "OPENBLAS_NUM_THREADS", "1"
)  # the command line sets this as well; tests use all cores anyway

import psycopg
import pytest
import sqlalchemy
from hypothesis import settings

from fairladder.cli.app import main
from fairladder.demo import FILES, SHOP

#: URL of a PostgreSQL database for tests; tests that need it are skipped without one. Each worker
#: writes to its own schema.
POSTGRES, SCHEMA = (
    os.environ.get("FAIRLADDER_POSTGRES"),
    f"test_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}",
)
if POSTGRES:
    with psycopg.connect(POSTGRES, autocommit=True) as first:
        first.execute(f"CREATE SCHEMA IF NOT EXISTS {SCHEMA}".encode())
    POSTGRES += f"?options=-csearch_path%3D{SCHEMA}&application_name={SCHEMA}"
#: URL of a MariaDB for tests. Each worker writes to its own database, whose name starts with this
#: one's.
MARIADB = os.environ.get("FAIRLADDER_MARIADB")
if MARIADB:
    MARIADB = MARIADB.replace("mariadb:", "mariadb+pymysql:")
    own = f"{sqlalchemy.make_url(MARIADB).database}_{SCHEMA}"
    engine = sqlalchemy.create_engine(MARIADB)
    with engine.connect() as first:
        first.exec_driver_sql(f"CREATE DATABASE IF NOT EXISTS {own}")
    engine.dispose()
    MARIADB = sqlalchemy.make_url(MARIADB).set(database=own).render_as_string(hide_password=False)
needs_mariadb = pytest.mark.skipif(
    not MARIADB, reason="no MariaDB: set FAIRLADDER_MARIADB to the URL of an empty database"
)
needs_postgres = pytest.mark.skipif(
    not POSTGRES, reason="no PostgreSQL: set FAIRLADDER_POSTGRES to the URL of an empty database"
)


#: The available databases, and all databases with skip marks.
DATABASES = ["sqlite", *(["postgres"] if POSTGRES else []), *(["mariadb"] if MARIADB else [])]
EACH_DATABASE = [
    "sqlite",
    pytest.param("postgres", marks=needs_postgres),
    pytest.param("mariadb", marks=needs_mariadb),
]


def times(examples):
    """Return the number of random examples: few by default, FAIRLADDER_MORE times as many on
    request.
    """
    return int(examples * float(os.environ.get("FAIRLADDER_MORE", "1")))


settings.register_profile(
    "unhurried", deadline=None
)  # machines are noisy; benchmarks measure speed
settings.load_profile("unhurried")
os.environ["TZ"] = "Pacific/Kiritimati"  # far from UTC, since the machine's zone must never matter


@pytest.fixture(scope="session")
def shop(tmp_path_factory):
    folder = tmp_path_factory.mktemp("shop")
    for name in FILES:
        (folder / name).write_bytes((SHOP / name).read_bytes())
    return folder


def in_database(kind, frame, folder, table="orders"):
    """Write the frame to a table of a database; return the address for ``open_orders``."""
    url = {
        "sqlite": f"sqlite:///{folder / 'orders.db'}",
        "postgres": (POSTGRES or "").replace("postgresql:", "postgresql+psycopg:"),
        "mariadb": MARIADB,
    }[kind]
    # A connection left open by a failed test would block the next one forever.
    waits = (
        {"options": f"-c lock_timeout=20s -c search_path={SCHEMA}"} if kind == "postgres" else {}
    )
    engine = sqlalchemy.create_engine(url, connect_args=waits)
    frame.to_sql(table, engine, if_exists="replace", index=False)
    engine.dispose()
    return url.replace("+psycopg", "")


@dataclass
class Done:
    returncode: int
    stdout: str
    stderr: str


@pytest.fixture
def fairladder(monkeypatch):
    """Run the command line in this process: ``fairladder("score", path, …)`` → exit code and
    output.
    """

    def run(*words, cwd=None, input=""):  # noqa: A002  # as subprocess has it
        out, err = io.StringIO(), io.StringIO()
        monkeypatch.setattr(sys, "argv", ["fairladder", *map(str, words)])
        monkeypatch.setattr(sys, "stdin", io.TextIOWrapper(io.BytesIO(input.encode())))
        here = contextlib.chdir(cwd) if cwd else contextlib.nullcontext()
        with here, contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            try:
                main()
                code = 0
            except SystemExit as done:
                code = int(done.code or 0)
        return Done(code, out.getvalue(), err.getvalue())

    return run


@pytest.fixture(scope="session")
def process():
    """Run the command line in a process of its own, as users do."""

    def run(*words):
        command = [str(Path(sys.executable).with_name("fairladder")), *map(str, words)]
        return subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)

    return run

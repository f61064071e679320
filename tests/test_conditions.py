"""Test conditions: equal on a frame, in three engines and as exported SQL, with SQL's logic of
NULL; and what is refused.
"""

import contextlib
import os
import random
import sqlite3

import duckdb
import pandas as pd
import psycopg
import pyarrow as pa
import pytest
import sqlalchemy

import fairladder as fl
from conditions_on_frames import to_mask
from conftest import MARIADB, POSTGRES, times
from fairladder.conditions import parse_condition, to_engine
from fairladder.engine.database import Database
from fairladder.engine.embedded import Embedded
from fairladder.frames import frame_kinds
from fairladder.scores.as_sql import condition_sql
from fairladder.sqltree import column, named, select

FRAME = pd.DataFrame(
    {
        "n": pd.array([0, 1, 2, 3, None, 7, -2, 4, 4, 12], dtype="Int64"),
        "x": [0.0, 0.5, 2.5, float("nan"), 1.005, -2.5, 10.0, 0.1, -0.15, 1234567.145],
        "t": ["web", "Web", None, "stall", "w_b", "zz", "50%", "straße", "ÉA\\b", "ΣİΆ ẞ"],
        "d": pd.to_datetime(["2026-06-30", None, "2026-01-01", "2025-12-31", "2026-06-29", "2024-02-29", "2026-07-01",
                             "2026-06-28", "2026-06-28", "1999-12-31"]),
        "s": ["web", "zz", "w", None, "W_B", "ZZ", "50", "STRASSE", "éa\\b", "σiά ß"],
    }
)  # fmt: skip


class Grammar:
    """Generates random conditions from the whole language, some parts in two equivalent
    spellings.
    """

    def __init__(self, seed):
        self.random = random.Random(seed)

    def one(self, *options):
        found = self.random.choice(options)
        return found() if callable(found) else found

    def number(self, depth=2):
        if not depth:
            return self.one(
                "n", "x", "1", "2.5", "0", "-2", "NULL", "1e1", ".5", "0.1", "LENGTH(t)", "3."
            )
        a, b = self.number(depth - 1), self.number(depth - 1)
        op = self.random.choice("+-*/")
        return self.one(
            lambda: self.number(0), f"({a} {op} {b})", f"ABS({a})", f"ROUND({a})", f"ROUND({a}, {self.random.choice('012')})", f"-{a}",
            f"COALESCE({a}, {b})", f"CASE WHEN {self.truth(0)} THEN {a} ELSE {b} END", f"CASE n WHEN 1 THEN {a} WHEN 4 THEN {b} END",
        )  # fmt: skip

    def text(self, depth=2):
        if not depth:
            return self.one("t", "s", "'web'", "'ZZ'", "NULL", "'Straße'", "''")
        a, b = self.text(depth - 1), self.text(depth - 1)
        return self.one(
            lambda: self.text(0), f"LOWER({a})", f"UPPER({a})", f"COALESCE({a}, {b})", f"CASE WHEN {self.truth(0)} THEN {a} ELSE {b} END"
        )  # fmt: skip

    def day(self):
        return self.one("d", "'2026-01-01'", "DATE '2026-06-29'", "CAST('2024-02-29' AS DATE)", "COALESCE(d, '2026-06-28')",
                        "CASE WHEN n > 1 THEN d END", "NULL")  # fmt: skip

    def truth(self, depth=2):
        how, no = self.one("=", "<>", "<", "<=", ">", ">="), self.one("", "NOT ")
        n, m, t, u = (
            make(min(depth, 1)) for make in (self.number, self.number, self.text, self.text)
        )
        if depth:
            a, b = self.truth(depth - 1), self.truth(depth - 1)
            found = self.one(
                "",
                f"({a} AND {b})",
                f"{a} OR {b}",
                f"NOT {a}",
                f"({a}) = ({b})",
                f"({a}) IS {no}TRUE",
                f"({a}) IS {no}NULL",
            )
            if found:
                return found
        return self.one(
            f"{n} {how} {m}", f"{t} {how} {u}", f"{self.one('d', 'COALESCE(d, NULL)')} {how} {self.day()}", f"{n} {no}BETWEEN {m} AND 3",
            f"{t} {no}BETWEEN 'A' AND {u}", f"d {no}BETWEEN {self.day()} AND {self.day()}", f"{n} {no}IN (1, {m}, 2.5)",
            f"{t} {no}IN ('web', {u})", f"d {no}IN ({self.day()}, NULL)", f"{n} IS {no}NULL", f"{t} IS {no}NULL",
            f"{t} {no}LIKE {self.one(chr(39) + 'w%' + chr(39), chr(39) + 'w_b' + chr(39), chr(39) + '%[*?' + chr(39), chr(39) + '%' + chr(92) + 'b' + chr(39), chr(39) + '%%_' + chr(39))}",
        )  # fmt: skip


def test_conditions_agree_on_frames_engines_and_exported_sql(tmp_path, closing):
    """True, false or unknown for each row: on the frame, in all three engines, and as exported SQL."""
    kinds, wanted = frame_kinds(FRAME), times(200)
    cells = {name: column(name) for name in kinds}
    records = [
        (i, *(None if pd.isna(v) else v for v in row))
        for i, row in enumerate(FRAME.astype(object).to_numpy())
    ]
    records = [(*r[:4], r[4] and r[4].date(), r[5]) for r in records]
    table = pa.table({c: [r[i] for r in records] for i, c in enumerate(["row", *FRAME.columns])})
    lite, duck = sqlite3.connect(tmp_path / "t.db"), duckdb.connect()
    lite.execute("CREATE TABLE t (row INTEGER, n INTEGER, x REAL, t TEXT, d TEXT, s TEXT)")
    lite.executemany(
        "INSERT INTO t VALUES (?, ?, ?, ?, ?, ?)",
        [(*r[:4], r[4] and str(r[4]), r[5]) for r in records],
    )
    lite.commit()
    duck.register("t", table)
    embedded, base = Embedded(), Database(f"sqlite:///{tmp_path / 't.db'}")
    engines = {
        "embedded": (embedded, embedded.offer(table)),
        "sqlite": (base, base.relation("t", None)),
    }
    plain = {"duckdb": duck.execute, "sqlite": lite.execute}
    if POSTGRES:
        post = closing.enter_context(psycopg.connect(POSTGRES, autocommit=True))
        post.execute(
            "CREATE TEMP TABLE t (row INT, n BIGINT, x DOUBLE PRECISION, t TEXT, d DATE, s TEXT)"
        )
        post.cursor().executemany("INSERT INTO t VALUES (%s, %s, %s, %s, %s, %s)", records)
        plain["postgres"] = lambda text: post.execute(text.encode())
    if MARIADB:
        there = closing.enter_context(in_mariadb(records))
        plain["mariadb"] = lambda text: there.exec_driver_sql(text.replace("%", "%%"))
        maria = Database(MARIADB)
        engines["mariadb"] = (
            maria,
            maria.by_code_point(r := maria.relation("t", None), maria.columns(r)),
        )
    grammar = Grammar(int(os.environ.get("FAIRLADDER_SEED", "7")))
    for _ in range(-(-wanted // 100)):
        conditions = [c for c in (accepted(grammar.truth(), kinds) for _ in range(100)) if c]
        masks = [to_mask(c, FRAME) for c in conditions]
        expected = [[None if u else bool(t) for t, u in zip(*mask, strict=True)] for mask in masks]
        trees = [named(to_engine(c, cells), f"h{i}") for i, c in enumerate(conditions)]
        for name, (engine, relation) in engines.items():
            output = engine.table(select([column("row"), *trees], relation).order_by(column("row")))
            held(name, conditions, expected, list(output.to_pydict().values())[1:])
        for name, run in plain.items():
            arguments = ", ".join(condition_sql(c.text, kinds, name) for c in conditions)
            held(
                f"as {name}",
                conditions,
                expected,
                list(zip(*run(f"SELECT {arguments} FROM t ORDER BY row").fetchall(), strict=True)),
            )


@contextlib.contextmanager
def in_mariadb(records):
    """Create a table ``t`` with the records."""
    engine = sqlalchemy.create_engine(MARIADB)
    with engine.begin() as connection:
        connection.exec_driver_sql("DROP TABLE IF EXISTS t")
        connection.exec_driver_sql(
            "CREATE TABLE t (row INT, n BIGINT, x DOUBLE, t TEXT, d DATE, s TEXT)"
        )
        connection.exec_driver_sql("INSERT INTO t VALUES (%s, %s, %s, %s, %s, %s)", records)
    with engine.connect() as connection:
        yield connection
    engine.dispose()


@pytest.fixture
def closing():
    with contextlib.ExitStack() as stack:
        yield stack


def held(name, conditions, expected, output):
    for condition, wanted, got in zip(conditions, expected, output, strict=True):
        assert [None if v is None else bool(v) for v in got] == wanted, (name, condition)


def accepted(text, kinds):
    try:
        return parse_condition(text, kinds)
    except fl.ConditionError:
        return None


def test_conditions_divide_round_and_compare_dates_as_documented():
    def rows(text):
        return FRAME.index[to_mask(parse_condition(text, frame_kinds(FRAME)), FRAME)[0]].tolist()

    assert rows("1 / n IS NULL") == [0, 4]  # by zero gives NULL
    assert rows("n / 2 = 0.5") == [1]  # real division
    assert rows("ROUND(x, 2) = 1.01") == [4]  # half away from zero, of 1.005 as written
    assert rows("ROUND(x) = -3 OR ROUND(x) = 3") == [2, 5]
    assert rows("d >= '2026-06-30'") == [0, 6]
    assert rows("t NOT LIKE 'w%' AND UPPER(t) = 'STRAẞE'") == [
        7
    ]  # letter by letter, and the sign of the tree is respected


def test_long_and_deep_conditions_are_refused_with_advice():
    for text in (
        " OR ".join(["n = 1"] * 3000),
        "(" * 5000,
        "NOT " * 3000 + "n = 1",
        "-" + " -" * 4000 + "n = 1",
        "CASE " * 900,
    ):
        with pytest.raises(
            fl.ConditionError,
            match=r"nests more than 250 parts or joins more with AND and OR\. Write `x IN \(…\)`",
        ):
            parse_condition(text, frame_kinds(FRAME))
    with pytest.raises(
        fl.ConditionError, match="has 300,000 characters; at most 200,000 are allowed"
    ):
        parse_condition("n" * 300_000, frame_kinds(FRAME))
    assert parse_condition(
        f"n IN ({', '.join(map(str, range(20_000)))})", frame_kinds(FRAME)
    ).names == {"n"}


WORDS = "Conditions may use comparisons, AND, OR, NOT, IN, BETWEEN, LIKE, IS NULL, + − × ÷, CASE, COALESCE, ABS, ROUND, LOWER, UPPER and LENGTH."


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("nn = 1", "rule: `nn = 1` names the column `nn`, which does not exist. Did you mean `n`?"),
        ("n = 'one'", "rule: `n = 'one'` compares a number with text (`n` and `'one'`)."),
        ("d > '30.6.2026'", "rule: `d > '30.6.2026'` compares a date with '30.6.2026'; write a date as '2026-06-30'."),
        ("n + 1", "rule: `n + 1` is a value, not a condition; compare it with something."),
        ("n IN (SELECT 1)", "rule: `n IN (SELECT 1)` uses IN, which is not allowed. " + WORDS),
        ("sleep(9) = 1", "rule: `sleep(9) = 1` uses SLEEP, which is not allowed. " + WORDS),
        ("n IN x", "rule: `n IN x` uses IN without a list of values in parentheses, which is not allowed. " + WORDS),
        ("n BETWEEN SYMMETRIC 2 AND 1", "rule: `n BETWEEN SYMMETRIC 2 AND 1` uses BETWEEN with SYMMETRIC, which is not allowed. " + WORDS),
        ("n = 1e", "rule: `n = 1e` writes `1e`, which is not a plain number up to 10^15."),
        ("n = 0.19.99", "rule: `n = 0.19.99` uses DOT, which is not allowed. " + WORDS),
        ("d > DATE '2026-13-01'", "rule: `d > DATE '2026-13-01'` writes DATE '2026-13-01'; write a date as '2026-06-30'."),
        ("", "rule: `` does not parse as a SQL condition: it is empty."),
    ],
)  # fmt: skip
def test_refused_conditions_name_the_reason(text, message):
    with pytest.raises(fl.ConditionError) as caught:
        parse_condition(text, frame_kinds(FRAME), "rule")
    assert str(caught.value) == message

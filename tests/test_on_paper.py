"""Test the reduction as a SQL statement: run in the available databases, and for warehouses
translated back to DuckDB.
"""

import contextlib
import datetime as dt
import random
import re

import duckdb
import pandas as pd
import pytest
import sqlalchemy
import sqlglot

import fairladder as fl
from conftest import MARIADB, POSTGRES
from fairladder.cli.as_sql import KNOWN
from fairladder.engine import dialects

SCHEME = {
    "orders": {"customer": "who", "order": "slip", "placed": "day", "amount": "sum", "name": "called", "channel": "way",
               "where": "LOWER(kind) <> 'gïft' OR pieces > 2.5"},
}  # fmt: skip


def typed_orders(rows, seed):
    """Return orders as a warehouse has them, with ids that need trimming, letters beyond ASCII,
    blank cells, refunds and total rows.
    """
    chance = random.Random(seed)
    ids = [
        "a",
        "A",
        " a",
        "b\u00a0",
        "'=1",
        "=1",
        "'x",
        "é",
        "É",
        "\u2003",
        "",
        None,
        "Gesamt:",
        "GRAND  TOTAL",
        "Σύνολο",
        "00123",
    ]
    ids += [f"k{n}" for n in range(120)]

    def one(n):
        day = dt.date(2024, 2, 27) + dt.timedelta(days=chance.randrange(6))
        return {
            "who": chance.choice(ids), "slip": chance.choice([str(n % 40), f" {n % 40}", None, "z"]),
            "day": None if chance.random() < 0.05 else dt.datetime(day.year, day.month, day.day, chance.randrange(24), 59, 59),
            "sum": chance.choice([None, 1.005, 2.675, -1.0, 0.0, 19.99, 0.285, 1e6, 12.3456]),
            "called": chance.choice([None, "Zoë", "zoe", "Ann "]), "way": chance.choice(["web", " web", "post", "", None]),
            "kind": chance.choice(["GÏFT", "gïft", "sale", None]), "pieces": chance.choice([1.0, 2.5, 3.0, None]),
        }  # fmt: skip

    return pd.DataFrame([one(n) for n in range(rows)])


def in_server(url, frame, text):
    engine = sqlalchemy.create_engine(url.replace("postgresql:", "postgresql+psycopg:"))
    frame.to_sql("paper", engine, if_exists="replace", index=False)
    with engine.connect() as connection:
        found = pd.read_sql(sqlalchemy.text(text.replace(":", r"\:")), connection)
    engine.dispose()
    return found


@pytest.mark.parametrize(
    "changes", [{}, {"time": {"as_of": dt.date(2024, 2, 29)}}], ids=["latest day", "set by as_of"]
)
def test_reduction_sql_gives_the_customers_in_every_dialect(changes):
    frame = typed_orders(600, seed=len(changes))
    orders = fl.open_orders(frame, scheme=SCHEME | changes, allow_set_aside=True)
    wanted = orders.customers()
    assert (len(wanted) > 40, wanted["only_channel"].nunique()) == (True, 2)
    results = {}
    with contextlib.closing(duckdb.connect()) as duck:
        duck.register("paper", frame)
        for dialect in dialects.WITH_TYPES:
            text = fl.customers_sql(orders, dialect, table="paper")
            assert dialect != "trino" or not re.search(r"[\t\r\f]", text)
            assert dialect != "redshift" or not re.search(r"VARCHAR(?!\(MAX\))", text)
            if dialect in dialects.WAREHOUSES:
                text = (
                    sqlglot.parse_one(text, dialect=dialect)
                    .sql("duckdb")
                    .replace("TEXT(MAX)", "TEXT")
                )
            if dialect == "duckdb" or dialect in dialects.WAREHOUSES:
                results[dialect] = duck.sql(text).df()
            elif (url := {"postgres": POSTGRES, "mariadb": MARIADB}.get(dialect)) is not None:
                results[dialect] = in_server(url, frame, text)
    for dialect, found in results.items():
        found = found.sort_values(
            "customer", key=lambda ids: ids.map(lambda i: i.encode())
        ).reset_index(drop=True)
        assert list(found) == list(wanted), dialect
        for name in found:
            text = str(wanted[name].dtype) == "str"
            sides = [
                side[name].fillna("").astype(str) if text else side[name].astype(wanted[name].dtype)
                for side in (found, wanted)
            ]
            pd.testing.assert_series_equal(*sides, obj=f"{dialect} {name}")


def test_unsupported_reduction_sql_is_refused(tmp_path, fairladder):
    frame = typed_orders(50, seed=3)
    plain = SCHEME["orders"] | {"where": None}
    for arguments, output in (
        (
            {"amount": None, "unit_price": "sum", "quantity": "pieces"},
            "an amount of several columns",
        ),
        ({"amount_is": "order"}, "total on each of its rows"),
        ({"drop": "repeats"}, "cannot handle `drop`"),
        ({"amount_unit": "minor"}, "amounts in cents"),
    ):
        orders = fl.open_orders(frame, scheme={"orders": plain | arguments}, allow_set_aside=True)
        with pytest.raises(fl.UsageError, match=output):
            fl.customers_sql(orders, "snowflake")
    dollars = fl.open_orders(
        frame.assign(money="usd"),
        scheme={"orders": plain | {"currency": "money"}},
        allow_set_aside=True,
    )
    with pytest.raises(
        fl.UsageError,
        match="The orders have several currencies in `money`, and a statement can add up only one",
    ):
        fl.customers_sql(dollars, "trino")
    offsets = frame.assign(day=frame["day"].dt.strftime("%Y-%m-%dT%H:%M:%S+02:00"))
    orders = fl.open_orders(
        offsets, scheme={"orders": plain, "time": {"time_zone": "UTC"}}, allow_set_aside=True
    )
    with pytest.raises(fl.UsageError, match="times with an offset from UTC"):
        fl.customers_sql(orders, "bigquery")
    frame.assign(own_day=1).to_csv(tmp_path / "o.csv", index=False)
    words = [
        "o.csv",
        "--customer-column",
        "who",
        "--amount-column",
        "sum",
        "--placed-column",
        "day",
        "--allow-set-aside",
        "--as-sql",
    ]
    for more, output in {
        ("sqlite",): "SQLite has no column types", ("oracel",): "SQL is written for duckdb", ("trino", "--out", "x.sql"): "Redirect it to a file",
        ("trino", "--columns", "spend"): "cannot be combined with", ("trino", "--where", "own_day = 1"): "uses names like `own_day` for its own columns",
    }.items():  # fmt: skip
        done = fairladder("customers", *words, *more, cwd=tmp_path)
        assert (done.returncode, output in done.stderr) == (2, True), done.stderr
    done = fairladder("customers", *words, "trino", "--as-view", "shown", cwd=tmp_path)
    head = done.stdout.splitlines()
    assert head[0].startswith("-- Written for trino and parsed back, but never run there")
    assert (
        head[1]
        == "-- Reads the table orders, with who as text; day as a date or a timestamp without time zone; sum as a number."
    )
    assert (head[2], head[-1][-1]) == ("CREATE VIEW shown AS", ";")
    odd = frame.rename(columns={"who": "who\nDROP TABLE x; --"})
    text = fl.customers_sql(
        fl.open_orders(
            odd,
            scheme={"orders": plain | {"customer": "who\nDROP TABLE x; --"}},
            allow_set_aside=True,
        ),
        "trino",
    )
    assert (
        text.splitlines()[1] == "WITH typed AS ("
    )  # a header cannot end the comment that names it
    orders = fl.open_orders(frame, scheme={"orders": plain}, allow_set_aside=True)
    assert '"x; DROP TABLE y"' in fl.customers_sql(orders, "trino", table="x; DROP TABLE y")
    with pytest.raises(fl.UsageError, match="is not the name of a table"):
        fl.customers_sql(orders, "trino", table="f(1)")
    assert all(dialect in KNOWN for dialect in dialects.DIALECTS)

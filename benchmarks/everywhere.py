"""Run three large random messy files through every command in every engine; the tables must be
equal to the last byte.

python benchmarks/everywhere.py --lines 200000 sqlite postgres mariadb spark

PostgreSQL and MariaDB are those of FAIRLADDER_POSTGRES and FAIRLADDER_MARIADB, whose table `messy`
is replaced; Spark is FAIRLADDER_SPARK, or local[2]. Exits with 1 if a table differs.
"""

import argparse
import datetime as dt
import os
import random
import tempfile
import time
from pathlib import Path

import pandas as pd
import pyarrow as pa
import sqlalchemy

import fairladder as fl
from fairladder.engine.cluster import SET_ASIDE_SHOWN as MOST_SET_ASIDE

TIERS = {"reward": {"of": "spend", "top_percents": [1, 5, 20], "labels": ["gold", "silver", "bronze", "all"]},
         "held": {"of": "spend", "spend_percents": [50, 80], "labels": ["half", "most", "rest"]}}  # fmt: skip
SEGMENTS = [{"name": "often", "when": "frequency_score >= 4 AND LOWER(name) LIKE '%e%'", "stance": "keep"},
            {"name": "gone", "when": "recency_score = 1 OR overdue_ratio > 2", "stance": "win-back"},
            {"name": "others", "otherwise": True, "stance": "leave"}]  # fmt: skip
#: Whole numbers with nulls.
WHOLE = {pa.int64(): pd.Int64Dtype(), pa.int32(): pd.Int32Dtype(), pa.int8(): pd.Int8Dtype()}
NAMES = [
    "Zoë Ängström",
    "zoë",
    "Ann O'Neil",
    "İpek",
    "ΣΩ",
    "  Lee ",
    "",
    "Émile",
    "de Vries",
    "Ölund",
]


def one_id(chance, customers):
    number = int(customers * chance.random() ** 3)
    pads = ["", "", "", "", "", " ", "\u00a0", "'"]
    text = chance.choice(["", "0", "Ä-", "ä-", "k"]) + str(number)
    return f"{text}{chance.choice(pads[:7])}" if chance.random() < 0.9 else f"'={text}"


def plain(chance, n):
    """Write ISO dates, some with a time and an offset; prices times quantities less percentages;
    several channels; total rows.
    """
    day = pd.Timestamp("2022-01-01") + pd.Timedelta(
        days=chance.randrange(1200), seconds=chance.randrange(86400)
    )
    written = chance.choice(
        [
            f"{day:%Y-%m-%d}",
            f"{day:%Y-%m-%dT%H:%M:%S}",
            f"{day:%Y-%m-%d %H:%M:%S}+02:00",
            f"{day:%Y-%m-%dT%H:%M}Z",
        ]
    )
    return {
        "who": chance.choice(["", "Total", "Gesamt:"]) if chance.random() < 0.002 else one_id(chance, 20_000),
        "slip": "" if chance.random() < 0.001 else f"{n // 3}{chance.choice(['', '', '', ' '])}", "sold": "soon" if chance.random() < 0.001 else written,
        "price": chance.choice(["x", ""]) if chance.random() < 0.002 else f"{chance.choice([0.015, 1.005, 2.675, 19.99, 0.285, 350]):.3f}",
        "pieces": chance.choice(["1", "2", "3", "-1", "0.5", "0"]), "off": chance.choice(["", "", "10%", "33.3%", "0.15"]),
        "way": chance.choice(["web", "web ", "post", "", "stall"]), "called": chance.choice(NAMES), "state": chance.choice(["paid", "PAID", "void", ""]),
    }  # fmt: skip


def continental(chance, n):
    """Write day-first dates, decimal commas, thousands and currency symbols; an order's total on
    each of its lines.
    """
    day = pd.Timestamp("2021-03-01") + pd.Timedelta(days=(n // 4 * 7919) % 1500)
    total = ["1.234,50 €", "0,99", "-12,345", "€ 7", "99.999,99", "0,00"][n // 4 * 31 % 6]
    return {
        "who": one_id(random.Random(n // 4), 8_000), "slip": str(n // 4), "sold": "31.02.2023" if n % 997 == 0 else f"{day:%d.%m.%Y %H:%M}",
        "total": "12,00" if n % 499 == 0 else total, "way": chance.choice(["Laden", "Netz"]), "called": NAMES[n // 4 % len(NAMES)],
        "state": "", "price": "", "pieces": "", "off": "",
    }  # fmt: skip


def bare(chance, n):
    """Write no order ids, two currencies of which one counts, amounts with too many decimals,
    refunds, month names.
    """
    day = pd.Timestamp("2023-01-01") + pd.Timedelta(days=chance.randrange(800))
    return {
        "who": one_id(chance, 50_000), "sold": f"{day.day} {day:%B} {day.year}", "total": f"{chance.choice(['', '$', '-'])}{chance.randrange(10**6) / 1000}",
        "money": chance.choice(["EUR", "EUR", "usd", ""]), "way": chance.choice(["a", "b", "c"]), "called": chance.choice(NAMES), "n": n,
    }  # fmt: skip


def cases():
    common = {
        "scores": {"rungs": 5},
        "value": {"method": "beta-geometric"},
        "tiers": TIERS,
        "segments": SEGMENTS,
        "time": {"as_of": dt.date(2025, 6, 30)},
    }
    yield "plain", plain, {**common, "time": {"as_of": dt.date(2025, 1, 31), "time_zone": "Europe/Lisbon"}, "orders": {
        "customer": "who", "order": "slip", "placed": "sold", "unit_price": "price", "quantity": "pieces", "discount": "off", "channel": "way",
        "name": "called", "where": "LOWER(state) <> 'void' OR price > 300", "discount_as": "fraction"}}  # fmt: skip
    yield "continental", continental, {**common, "orders": {
        "customer": "who", "order": "slip", "placed": "sold", "amount": "total", "amount_is": "order", "channel": "way", "name": "called"}}  # fmt: skip
    yield "bare", bare, {**common, "money": {"currency": "EUR"}, "orders": {
        "customer": "who", "placed": "sold", "amount": "total", "currency": "money", "channel": "way", "name": "called"}}  # fmt: skip


def answers(orders, ids):
    """Return the result of each command, table by table."""
    yield "balance", lambda: orders.balance
    yield "set aside", lambda: set_aside(orders.check().set_aside["reason"])
    yield (
        "findings",
        lambda: "\n".join(
            str((f.code, f.level, f.count, f.effect, [e for e in f.examples if "row" not in e]))
            for f in orders.check().findings
            if f.code != "reading"  # rows on a cluster have no numbers
        ),
    )
    yield "customers", orders.customers
    yield "score", orders.score
    yield "segments", orders.segment_summary
    yield "top", lambda: orders.top(by="average_order_value", percent=10)
    yield (
        "top within",
        lambda: orders.top(
            by="last_order", within="only_channel", percent=7, worst=True, ties="exclude"
        ),
    )
    yield "growth", lambda: orders.growth(period="quarter", by="channel")
    yield "cohorts", lambda: orders.cohorts(period="quarter").frame
    yield "order counts", orders.order_counts
    yield "breakdown", lambda: orders.breakdown("channel", "amount:5,50,500").frame
    yield "breakdown of orders", lambda: orders.breakdown("amount:5,50,500").frame
    yield "orders", orders.order_ledger
    yield "lines", orders.order_lines
    yield (
        "campaign",
        lambda: fl.campaign(orders, when="orders > 1", limit=500, holdout=20, by="spend").frame,
    )
    yield (
        "compare",
        lambda: pd.concat([t.astype(str) for t in orders.compare("2024-06-30").tables().values()]),
    )
    yield "explain", lambda: [str(e.as_json()) for e in orders.explain(ids)]
    yield "stability", lambda: fl.stability(orders, resamples=20).frame
    yield (
        "returns",
        lambda: (
            fl.campaign(
                orders,
                when="active_probability < 0.5",
                response=0.05,
                by="expected_return",
                limit=300,
            ).frame
        ),
    )
    yield "value", lambda: orders.value_forecast(method="beta-geometric").frame


def set_aside(reasons):
    """Return the reasons; a cluster returns no more rows than this."""
    few = len(reasons) < MOST_SET_ASIDE
    return pd.DataFrame({"reason": sorted(reasons) if few else [f"{MOST_SET_ASIDE} or more"]})


def result_lines(answer):
    """Return a result as sorted lines, so that a cluster's row order does not matter; or the reason
    of its refusal.
    """
    try:
        found = answer()
    except fl.FairLadderError as error:
        return [f"{type(error).__name__}: {error}"]
    if type(found).__module__.startswith("pyspark."):
        found = found.toArrow().to_pandas(date_as_object=False, types_mapper=WHOLE.get)
    if not isinstance(found, pd.DataFrame):
        return [str(found)]
    days = {n: v.dt.strftime("%Y-%m-%d") for n, v in found.items() if v.dtype.kind == "M"}
    return sorted(found.assign(**days).to_csv(index=False).splitlines())


def opened(engine, path, frame, scheme, folder):
    if engine == "embedded":
        return fl.open_orders(path, scheme=scheme, allow_set_aside=True)
    if engine == "spark":
        from fairladder.engine import cluster

        cluster._STARTED["spark.sql.shuffle.partitions"] = "4"  # few rows
        rows, _ = cluster.files_frame(
            cluster.session_at(os.environ.get("FAIRLADDER_SPARK", "local[2]")),
            str(path),
            None,
            None,
        )
        return fl.open_orders(rows, scheme=scheme, allow_set_aside=True)
    url = {"sqlite": f"sqlite:///{folder}/messy.db", "postgres": os.environ.get("FAIRLADDER_POSTGRES"),
           "mariadb": os.environ.get("FAIRLADDER_MARIADB")}[engine]  # fmt: skip
    drivers = {"postgresql:": "postgresql+psycopg:", "mariadb:": "mariadb+pymysql:"}
    there = sqlalchemy.create_engine(
        next((url.replace(a, b) for a, b in drivers.items() if url.startswith(a)), url)
    )
    frame.to_sql("messy", there, if_exists="replace", index=False, chunksize=5000)
    there.dispose()
    scheme = {**scheme, "orders": {**scheme["orders"], "table": "messy"}}
    return fl.open_orders(url, scheme=scheme, allow_set_aside=True)


def main():
    options = argparse.ArgumentParser()
    options.add_argument("engines", nargs="*", default=["sqlite"])
    options.add_argument("--lines", type=int, default=200_000)
    options.add_argument("--seed", type=int, default=1)
    options.add_argument("--without", default="", help="results to skip, separated by commas")
    given = options.parse_args()
    wrong = 0
    for name, row, scheme in cases():
        chance = random.Random(given.seed)
        frame = pd.DataFrame([row(chance, n) for n in range(given.lines)]).astype(str)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / f"{name}.csv"
            frame.to_csv(path, index=False)
            wanted: dict[str, list[str]] = {}
            ids = None
            for engine in ["embedded", *given.engines]:
                begun, differ = time.monotonic(), []
                orders = opened(engine, path, frame, scheme, folder)
                ids = ids or orders.customers()["customer"].iloc[[0, -1]].tolist()
                for what, answer in answers(orders, ids):
                    if what in given.without.split(","):
                        continue
                    lines = result_lines(answer)
                    if wanted.setdefault(what, lines) != lines:
                        differ.append(what)
                        one = next(
                            ((a, b) for a, b in zip(wanted[what], lines, strict=False) if a != b),
                            (len(wanted[what]), len(lines)),
                        )
                        print(
                            f"  {what}: {str(one[0])[:300]}\n      {str(one[1])[:300]}", flush=True
                        )
                wrong += len(differ)
                refused = [
                    what
                    for what, lines in wanted.items()
                    if len(lines) == 1 and "Error:" in lines[0]
                ]
                also = f", refused everywhere: {', '.join(refused)}" if refused else ""
                print(
                    f"{name:12} {engine:9} {time.monotonic() - begun:6.1f} s  {len(wanted)} answers, differ: {', '.join(differ) or 'none'}{also}",
                    flush=True,
                )
                del orders
    raise SystemExit(1 if wrong else 0)


if __name__ == "__main__":
    main()

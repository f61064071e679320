"""Measure the cost of a tenth of new rows, compared with reading all of them, if the orders of
older files are kept.

python benchmarks/kept.py benchmarks/data/lines-10m-by-time.parquet
"""

import sys
import tempfile
import time
from pathlib import Path

import duckdb

import fairladder as fl


def main():
    with tempfile.TemporaryDirectory() as folder:
        files = cut(sys.argv[1], Path(folder), 10)
        roles = {
            "customer": "member_no",
            "order": "slip",
            "placed": "sold_at",
            "amount": "line_total",
        }
        plain, kept = {"orders": roles}, {"orders": {**roles, "kept_in": f"{folder}/kept"}}
        seconds(
            "all ten, reading everything", lambda: fl.open_orders(files, scheme=plain).customers()
        )
        seconds(
            "nine, kept for the first time",
            lambda: fl.open_orders(files[:9], scheme=kept).customers(),
        )
        seconds(
            "all ten, nine of them kept", lambda: fl.open_orders(files, scheme=kept).customers()
        )
        seconds("all ten kept", lambda: fl.open_orders(files, scheme=kept).customers())
        seconds(
            "all ten, reading everything", lambda: fl.open_orders(files, scheme=plain).customers()
        )
        size = sum(f.stat().st_size for f in Path(folder, "kept").iterdir())
        print(f"kept: {size / 1e6:.0f} MB of {sum(f.stat().st_size for f in files) / 1e6:.0f} MB")


def cut(lines, folder, parts):
    """Split the lines into files of equal length, in order."""
    connection = duckdb.connect()
    connection.execute(
        f"CREATE VIEW lines AS SELECT *, ROW_NUMBER() OVER () AS place FROM '{lines}'"
    )
    n = connection.execute("SELECT COUNT(*) FROM lines").fetchone()[0]
    files = [folder / f"lines-{i}.csv" for i in range(parts)]
    for i, file in enumerate(files):
        bounds = f"place > {n * i // parts} AND place <= {n * (i + 1) // parts}"
        connection.execute(
            f"COPY (SELECT * EXCLUDE (place) FROM lines WHERE {bounds}) TO '{file}' (HEADER)"
        )
    return files


def seconds(what, work):
    begun = time.monotonic()
    work()
    print(f"{what:32} {time.monotonic() - begun:6.1f} s", flush=True)


if __name__ == "__main__":
    main()

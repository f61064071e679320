"""Generate order lines at scale, as Parquet and CSV: the same rows for the same size, on any
machine.

python benchmarks/generate.py 10 # ten million lines into benchmarks/data/ python
benchmarks/generate.py 1 --csv # one million, as CSV too python benchmarks/generate.py 10 --by-time
# like exports: by time, an order's lines together
"""

import argparse
from pathlib import Path

import duckdb

DATA = Path(__file__).parent / "data"

#: About 2.7 lines per order and 6 orders per customer, a few customers with very many; three years.
LINES = """
WITH orders AS (
    SELECT i AS slip, hash(i) % 1000003 / 1000003.0 AS u, hash(i + 1000000007) % 1000003 / 1000003.0 AS v,
           (1 + (hash(i * 3 + 1) % 7 * (hash(i * 5 + 2) % 7)) // 6)::BIGINT AS lines
    FROM range({orders}) t(i) -- more than enough for the lines
)
SELECT 'M' || lpad((({customers} * u ** 1.7)::BIGINT)::VARCHAR, 7, '0') AS member_no,
       'S' || lpad(slip::VARCHAR, 9, '0') AS slip,
       TIMESTAMP '2023-07-01' + INTERVAL 1 SECOND * (v * 1095 * 86400)::BIGINT AS sold_at,
       ['web', 'stall', 'post'][(1 + (hash(slip + 7) % 10) // 4)::BIGINT] AS channel,
       ((300 + hash(slip * 31 + line) % 6000) / 100.0)::DOUBLE AS line_total
FROM orders, unnest(range(lines)) t(line)
LIMIT {lines}
"""


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("millions", type=float, help="lines to make, in millions: 1, 10, 100")
    options.add_argument("--csv", action="store_true", help="write CSV as well")
    options.add_argument(
        "--by-time", action="store_true", help="sorted by time as in exports instead of randomly"
    )
    given = options.parse_args()
    DATA.mkdir(exist_ok=True)
    lines = round(given.millions * 1_000_000)
    query = LINES.format(orders=lines // 2, customers=lines // 14, lines=lines)
    path = DATA / f"lines-{given.millions:g}m{'-by-time' if given.by_time else ''}.parquet"
    query = f"SELECT * FROM ({query}) ORDER BY sold_at, slip" if given.by_time else query
    connection = duckdb.connect()
    connection.execute(f"COPY ({query}) TO '{path}' (FORMAT parquet)")
    if given.csv:
        connection.execute(f"COPY '{path}' TO '{path.with_suffix('.csv')}' (FORMAT csv)")
    count = connection.execute(
        f"SELECT count(*), count(DISTINCT slip), count(DISTINCT member_no) FROM '{path}'"
    ).fetchone()
    print(f"{path}: %d lines, %d orders, %d customers" % count)


if __name__ == "__main__":
    main()

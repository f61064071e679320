"""Compare `growth`, `retention`, `breakdown` and `orders` with one hand-written DuckDB query each,
whole processes in turns.

python benchmarks/history.py 10 # make the lines first: python benchmarks/generate.py 10
"""

import argparse
import statistics
import sys
import tempfile

from run import FAIRLADDER, HERE, ROLES, measured

LINES = """
WITH orders AS (
  SELECT member_no, slip, min(sold_at) AS moment, sum(line_total) AS amount, count(*) AS lines, any_value(channel) AS channel
  FROM '{source}' GROUP BY 1, 2
), purchases AS (
  SELECT *, row_number() OVER (PARTITION BY member_no ORDER BY moment, slip) AS nth FROM orders WHERE amount > 0
)
"""
QUERIES = {
    "growth": "SELECT date_trunc('month', moment) AS period, count(*) AS orders, count(DISTINCT member_no) AS customers, "
    "count(*) FILTER (nth = 1) AS new, sum(amount) FILTER (nth = 1) AS first, sum(amount) FILTER (nth > 1) AS repeat "
    "FROM purchases GROUP BY 1 ORDER BY 1",
    "retention": "SELECT cohort, period, count(*) AS active, sum(amount) AS revenue FROM (SELECT member_no, "
    "date_trunc('month', moment) AS period, sum(amount) AS amount, min(min(date_trunc('month', moment))) OVER "
    "(PARTITION BY member_no) AS cohort FROM purchases GROUP BY 1, 2) GROUP BY 1, 2 ORDER BY 1, 2",
    "breakdown": "SELECT channel, count(*) AS orders, count(DISTINCT member_no) AS customers, sum(amount) AS spend, "
    "sum(lines) AS lines FROM purchases GROUP BY ROLLUP (channel) ORDER BY 1",
    "orders": "SELECT *, moment::DATE - lag(moment::DATE) OVER (PARTITION BY member_no ORDER BY moment, slip) AS gap, "
    "amount / sum(amount) OVER (PARTITION BY member_no) AS share FROM purchases ORDER BY moment, member_no, slip",
}
OPTIONS = {
    "growth": [],
    "retention": ["--part", "cohorts"],
    "breakdown": ["--rows", "channel"],
    "orders": [],
}


def main() -> None:
    options = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    options.add_argument(
        "millions", type=float, help="size of the generated file, in million lines"
    )
    options.add_argument("--rounds", type=int, default=3)
    given = options.parse_args()
    source = HERE / "data" / f"lines-{given.millions:g}m.parquet"
    print(
        f"{source.name}, median of {given.rounds} rounds\n{'':12}{'by hand':>9}{'ours':>8}{'ratio':>7}{'peak MB':>9}"
    )
    with tempfile.TemporaryDirectory() as folder:
        for name, query in QUERIES.items():
            text = f"COPY ({LINES.format(source=source)} {query}) TO '{folder}/hand.parquet' (FORMAT parquet)"
            by_hand = [sys.executable, "-c", f"import duckdb; duckdb.sql({text!r})"]
            ours = [
                FAIRLADDER,
                name,
                str(source),
                *ROLES,
                "line_total",
                "--channel-column",
                "channel",
                "--as-of",
                "2026-06-30",
            ]
            ours += [*OPTIONS[name], "--out", f"{folder}/out.parquet", "--quiet"]
            taken = [(measured(by_hand), measured(ours)) for _ in range(given.rounds)]
            hand, own = (statistics.median(t[i][0] for t in taken) for i in (0, 1))
            print(
                f"{name:12}{hand:9.2f}{own:8.2f}{own / hand:7.2f}{max(t[1][2] for t in taken):9.0f}"
            )


if __name__ == "__main__":
    main()

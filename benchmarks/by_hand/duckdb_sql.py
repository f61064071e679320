"""A hand-written DuckDB SQL script: recency, orders, spend, averages, share, three quintile
scores.
"""

import sys

import duckdb

source, out = sys.argv[1:3]
duckdb.sql(f"""
COPY (
    WITH customers AS (
        SELECT member_no, date_diff('day', max(sold_at)::DATE, DATE '2026-06-30') AS recency_days,
               count(DISTINCT slip) AS orders, sum(line_total) AS spend
        FROM '{source}' GROUP BY member_no
    )
    SELECT *, spend / orders AS average_order_value, spend / sum(spend) OVER () AS spend_share,
           ntile(5) OVER (ORDER BY recency_days DESC) AS recency_score,
           ntile(5) OVER (ORDER BY orders) AS frequency_score,
           ntile(5) OVER (ORDER BY spend) AS monetary_score
    FROM customers ORDER BY member_no
) TO '{out}'
""")

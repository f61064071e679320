"""A hand-written Polars script: recency, orders, spend, averages, share, three quintile scores."""

import sys
from datetime import date

import polars as pl

source, out = sys.argv[1:3]
read = (
    pl.scan_csv(source, try_parse_dates=True)
    if source.endswith(".csv")
    else pl.scan_parquet(source)
)


def fifths(column: str, descending: bool = False) -> pl.Expr:
    rank = pl.col(column).rank("ordinal", descending=descending)
    return ((rank * 5 - 1) // pl.len() + 1).clip(1, 5).alias(f"{column}_score")


customers = (
    read.group_by("member_no")
    .agg(
        pl.col("sold_at").max().dt.date().alias("last_order"),
        pl.col("slip").n_unique().alias("orders"),
        pl.col("line_total").sum().alias("spend"),
    )
    .with_columns(
        (pl.lit(date(2026, 6, 30)) - pl.col("last_order")).dt.total_days().alias("recency_days"),
        (pl.col("spend") / pl.col("orders")).alias("average_order_value"),
        (pl.col("spend") / pl.col("spend").sum()).alias("spend_share"),
    )
    .with_columns(fifths("recency_days", descending=True), fifths("orders"), fifths("spend"))
    .sort("member_no")
    .collect(engine="streaming")
)
customers.write_csv(out) if out.endswith(".csv") else customers.write_parquet(out)

"""A hand-written pandas script: recency, orders, spend, averages, share, three quintile scores."""

import sys

import pandas as pd

source, out = sys.argv[1:3]
columns = ["member_no", "slip", "sold_at", "line_total"]
if source.endswith(".csv"):
    rows = pd.read_csv(source, usecols=columns, parse_dates=["sold_at"])
else:
    rows = pd.read_parquet(source, columns=columns)
customers = rows.groupby("member_no").agg(
    last_order=("sold_at", "max"), orders=("slip", "nunique"), spend=("line_total", "sum")
)
customers["recency_days"] = (
    pd.Timestamp("2026-06-30") - customers["last_order"].dt.normalize()
).dt.days
customers["average_order_value"] = customers["spend"] / customers["orders"]
customers["spend_share"] = customers["spend"] / customers["spend"].sum()
for measure, ascending in (("recency_days", False), ("orders", True), ("spend", True)):
    ranks = customers[measure].rank(method="first", ascending=ascending)
    customers[f"{measure}_score"] = pd.qcut(ranks, 5, labels=False) + 1
customers = customers.sort_index().reset_index()
customers.to_csv(out, index=False) if out.endswith(".csv") else customers.to_parquet(out)

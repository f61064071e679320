"""Open orders from a DataFrame with unit prices and quantities, and use your own rule: python
examples/orders_of_a_dataframe.py
"""

import pandas as pd

import fairladder as fl

rows = pd.DataFrame(
    {
        "knitter": ["ada", "ada", "bo", "bo", "cy", "cy"],
        "slip": [1, 1, 2, 3, 4, 5],
        "day": pd.to_datetime(
            ["2026-01-05", "2026-01-05", "2026-02-10", "2026-03-01", "2025-06-30", "2025-09-02"]
        ),
        "price": [14.5, 9.8, 48.0, 16.25, 85.0, 12.75],
        "balls": [3, 1, 1, 2, 1, 4],
    }
)
scheme = fl.Scheme.model_validate(
    {
        "orders": {
            "customer": "knitter",
            "order": "slip",
            "placed": "day",
            "unit_price": "price",
            "quantity": "balls",
        },
        "segments": (
            {"name": "this-season", "when": "recency_days <= 90", "stance": "keep"},
            {"name": "spent-well", "when": "spend >= 100", "stance": "win-back"},
            {"name": "others", "otherwise": True, "stance": "leave"},
        ),
    }
)
orders = fl.open_orders(rows, scheme=scheme)
scored = fl.score(orders.customers(as_of="2026-03-31"), scheme)
print(scored[["customer", "orders", "spend", "recency_days", "segment"]].to_string(index=False))
print(fl.rule_coverage(scored, scheme).to_string(index=False))

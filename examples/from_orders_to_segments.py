"""Score and segment customers in Python: python examples/from_orders_to_segments.py"""

import fairladder as fl
from fairladder.demo import SHOP

orders = fl.open_orders(SHOP / "orders.csv", scheme=SHOP / "scheme.toml")
print(orders.check())

customers = orders.customers()
scored = fl.score(customers, orders.scheme)
print(
    fl.segment_summary(scored)[["segment", "stance", "customers", "spend"]].to_string(index=False)
)

win_back = scored[scored["stance"] == "win-back"].nlargest(5, "spend")
print(
    win_back[["customer", "name", "recency_days", "orders", "spend", "score_code"]].to_string(
        index=False
    )
)

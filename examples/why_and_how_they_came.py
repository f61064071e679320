"""Show why a customer is in a segment, how new customers arrive, and who is one order short of
three.
"""

import fairladder as fl
from fairladder.demo import SHOP

orders = fl.open_orders(SHOP / "orders.csv", scheme=SHOP / "scheme.toml")

(explained,) = fl.explain(orders, ["00363"])
print(explained)  # values, rules, and the smallest changes with an effect

grown = fl.growth(orders, period="month", by="district")
print(fl.flat_spells(grown, "district").head(3))

print(fl.cohorts(orders, period="quarter").repeat_retention)
print(fl.one_order_short(orders, goal=3)[["customer", "recency_days", "spend"]].head())
print(fl.breakdown(orders, "age(born):30,40,50,60", "channel", measure="customers"))

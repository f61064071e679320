"""Make a win-back list from orders, and measure its effect: python examples/win_back.py

The response is simulated; with real orders, open those placed after the campaign instead.
"""

import numpy as np
import pandas as pd

import fairladder as fl
from fairladder.demo import SHOP


def simulated(listed: pd.DataFrame) -> pd.DataFrame:
    """Return orders of the ten days after: one customer in ten buys anyway, one in five when
    contacted.
    """
    random = np.random.default_rng(2026)
    bought = listed[random.random(len(listed)) < np.where(listed["group"] == "contact", 0.2, 0.1)]
    days = pd.Timestamp("2026-07-01") + pd.to_timedelta(random.integers(0, 10, len(bought)), "D")
    return pd.DataFrame(
        {
            "customer": bought["customer"],
            "placed": days,
            "amount": random.gamma(4, 15, len(bought)).round(2),
        }
    )


orders = fl.open_orders(SHOP / "orders.csv", scheme=SHOP / "scheme.toml")
plan = fl.plan_holdout(400, rate=0.1, effect=0.12)
print(plan.in_words())
win_back = fl.campaign(
    orders,
    "win-back",
    when="recency_days > 120 AND spend >= 20",
    consent="email_ok",
    limit=400,
    by="spend",
    holdout=plan.percent,
)
print(win_back)
print(win_back.contacts[["customer", "segment", "rank", "spend"]].head(3).to_string(index=False))
results = fl.open_orders(simulated(win_back.frame))
print(fl.lift(win_back.frame, results, through="2026-07-10").in_words())

"""Time fitting the ordering and spend models and forecasting all customers, on simulated data, best
of three.

python benchmarks/value.py 1 # a million customers
"""

import argparse
import time
from collections.abc import Callable
from typing import Any

import numpy as np
import pandas as pd

from fairladder.value.buying import Buying
from fairladder.value.histories import Histories
from fairladder.value.ordering import MODELS, fit_ordering
from fairladder.value.predict import predict
from fairladder.value.spend import fit_spend


def best(work: Callable[[], Any], rounds: int = 3) -> tuple[float, Any]:
    taken = []
    for _ in range(rounds):
        start = time.perf_counter()
        found = work()
        taken.append(time.perf_counter() - start)
    return min(taken), found


def customers(count: int) -> pd.DataFrame:
    """Simulate three years of customers who order at their own rates until they leave, in whole
    days.
    """
    random = np.random.default_rng(3)
    began = random.integers(0, 1000, count)
    rate = random.gamma(0.5, 1 / 60, count)
    life = random.exponential(1 / random.gamma(0.6, 1 / 200, count))
    there = np.minimum(life, 1000 - began)
    x = np.minimum(random.poisson(rate * there), there.astype(int))
    last = np.where(
        x > 0, np.maximum(np.ceil(there * random.beta(np.maximum(x, 1), 1)), 1), 0
    ).astype(int)
    bought = random.gamma(4 * (x + 1)) / random.gamma(6, 1 / 50, count)
    age = np.full(count, 2)
    day = np.datetime64("2023-01-01", "s")
    first = day + began.astype("timedelta64[D]")
    return pd.DataFrame(
        {
            "first": first,
            "last": first + last.astype("timedelta64[D]"),
            "days": x + 1,
            "bought": bought,
            "ages": age * (x + 1),
            "squares": age**2 * (x + 1),
            "aged": age * bought,
        }
    )


def main() -> None:
    options = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    options.add_argument("millions", type=float, help="number of customers, in millions")
    count = int(options.parse_args().millions * 1_000_000)
    past = Histories(
        customers(count), (pd.Timestamp("2023-01-01") + pd.Timedelta(days=1000)).date()
    )
    put_together, buying = best(lambda: past.buying)
    assert isinstance(buying, Buying)
    print(
        f"{count:,} customers, {len(buying.x):,} different rows, put together in {put_together:.2f} s"
    )
    taken, spend = best(lambda: fit_spend(past.frame["days"].to_numpy(np.float64), past.day_value))
    print(f"{'gamma-gamma':24}{taken:6.2f} s to fit")
    for name, model in MODELS.items():
        taken, fit = best(lambda model=model: fit_ordering(model, buying))
        ahead, _ = best(
            lambda model=model, fit=fit: predict(
                past,
                buying,
                (model, fit),
                spend,
                365,
                past.day_value,
                1.0,
                np.random.default_rng(1),
            )
        )
        print(
            f"{name:24}{taken:6.2f} s to fit, {ahead:.2f} s to forecast all customers with ranges"
        )


if __name__ == "__main__":
    main()

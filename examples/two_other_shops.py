"""Forecast two invented shops that no simple model fits: a seasonal candle maker, and a button
wholesaler with a few large buyers.

It shows what the forecast reports for each, how uncertain its total is, and when not to trust it.
"""

import numpy as np
import pandas as pd

import fairladder as fl

FIRST, LAST = np.datetime64("2023-01-01"), np.datetime64("2025-12-31")
DAYS = int((LAST - FIRST).astype(int))


def candle_maker() -> pd.DataFrame:
    """Return orders of nine hundred households who buy four times as often in the weeks before the
    holidays.
    """
    random = np.random.default_rng(12)
    day = np.arange(DAYS + 1)
    rate = 1 + 5 * np.exp(-(((day % 365.25 - 345) / 14) ** 2))
    busy = np.cumsum(rate / rate.mean())
    rows = []
    for number in range(900):
        first, pace = int(random.integers(0, DAYS)), random.gamma(1.2, 1 / 70)
        stays = random.exponential(900)
        ticks = busy[first] + np.cumsum(random.exponential(1 / pace, 60))
        days = np.unique(
            np.concatenate(
                [[first], np.searchsorted(busy, ticks[ticks < min(busy[-1], busy[first] + stays)])]
            )
        )
        rows += [
            (f"household-{number:03}", FIRST + int(d), round(float(random.gamma(5, 6)), 2))
            for d in days
        ]
    return pd.DataFrame(rows, columns=["customer", "placed", "amount"])


def button_wholesaler() -> pd.DataFrame:
    """Return orders of two hundred small haberdashers and six large clothing makers."""
    random = np.random.default_rng(7)
    rows = []
    for number in range(206):
        giant = number < 6
        first = int(random.integers(0, 200 if giant else DAYS))
        gaps = random.gamma(3, (12 if giant else 25), 200)
        days = first + np.concatenate([[0], np.cumsum(gaps).astype(int)])
        days = np.unique(
            days[days <= min(DAYS, first + (9e9 if giant else random.exponential(700)))]
        )
        size = random.gamma(8, 900 if giant else 15)
        rows += [
            (f"buyer-{number:03}", FIRST + int(d), round(float(size * random.gamma(6, 1 / 6)), 2))
            for d in days
        ]
    return pd.DataFrame(rows, columns=["customer", "placed", "amount"])


for name, frame in {
    "The candle maker": candle_maker(),
    "The button wholesaler": button_wholesaler(),
}.items():
    orders = fl.open_orders(frame.assign(order=np.arange(len(frame))))
    ahead = fl.value_forecast(orders, horizon=180)
    print(f"\n{name}: {len(frame):,} orders of {len(ahead.frame):,} customers")
    print(ahead.finding())
    print(ahead.of_range())
    for note in ahead.notes:
        print(f"- {note}")
    # Without a season the same shop is forecast as if all weeks were equal.
    plain = fl.value_forecast(
        fl.open_orders(
            frame.assign(order=np.arange(len(frame))), scheme={"value": {"season": "off"}}
        ),
        horizon=180,
    )
    print(f"Without a season: {plain.totals()['expected_value'].iloc[0]:,.0f}")

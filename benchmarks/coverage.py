"""Measure how often the range of the total contains the actual total, over simulated shops of
several kinds.

    python benchmarks/coverage.py --shops 30                # all kinds, three years of history, a year ahead
    python benchmarks/coverage.py --kinds season giants

An 80 % range should contain the actual total in 70 to 90 % of the shops of every kind.
"""

import argparse
import warnings
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np
import pandas as pd

import fairladder as fl

DAY = np.datetime64("2023-07-01")
HISTORY, AHEAD = 1095, 365


@dataclass(frozen=True)
class Shop:
    """The customers of a simulated shop: amounts in major units, times in days."""

    customers: int = 1000
    clock: Callable[[np.ndarray], np.ndarray] = lambda t: t
    """Calendar day → how much ordering time has passed."""
    steady: int = 1
    """Orders come at the n-th tick of a random clock: 1 is pure chance, 3 is regular."""
    once: float = 0.0
    """Share who never come again after the first order."""
    burst: float = 0.0
    """Share of those still there who leave in the 90 days before the forecast."""
    by_frequency: float = 0.0
    """Power of a customer's rate of ordering in the size of their orders."""
    giants: int = 0
    prices: float = 0.0
    """Yearly rise of prices."""
    ahead: int = AHEAD
    arrivals: float = 0.0
    """How much more customers arrive at the end of the history than at its beginning."""


def season(t: np.ndarray) -> np.ndarray:
    """Return the seasonal rate: twice as many orders in winter as in summer, and a holiday peak in
    December.
    """
    days = np.arange(-1, HISTORY + AHEAD + 2)
    of_year = (days + 181) % 365.25  # 1 July is the first day
    rate = (
        1
        + 0.6 * np.cos(2 * np.pi * (of_year - 15) / 365.25)
        + 1.5 * np.exp(-(((of_year - 340) / 12) ** 2))
    )
    total = np.concatenate([[0.0], np.cumsum(rate / rate.mean())])[:-1]
    return np.interp(t, days, total)


KINDS: dict[str, Shop] = {
    "well specified": Shop(),
    "growing": Shop(clock=lambda t: t + 0.15 * t**2 / 730, arrivals=1.5),
    "most leave after the first order": Shop(once=0.4),
    "regular buyers": Shop(steady=3),
    "burst of leavers": Shop(burst=0.3),
    "value falls with frequency": Shop(by_frequency=-0.4),
    "value rises with frequency": Shop(by_frequency=0.4),
    "giants": Shop(giants=5),
    "rising prices": Shop(prices=0.15),
    "season": Shop(clock=season, ahead=180),
    "fading": Shop(clock=lambda t: t - 0.1 * t**2 / 1460),
}


def orders_of(shop: Shop, seed: int) -> pd.DataFrame:
    """Return orders of the history and the year after it: ``customer``, ``day`` (from 0),
    ``amount``.
    """
    random = np.random.default_rng(seed)
    days = np.arange(HISTORY + AHEAD + 1, dtype=float)
    passed = shop.clock(days)
    rows = []
    for number in range(shop.customers):
        giant = number < shop.giants
        first = HISTORY * (
            random.random() if shop.arrivals == 0 else _late(random.random(), shop.arrivals)
        )
        rate = random.gamma(0.8, 1 / 45) if not giant else 1 / 15
        leaving = random.beta(1, 4) if not giant else 0.01
        level = (
            300 / random.gamma(5) * (40 if giant else 1) * (rate * 45 + 0.1) ** shop.by_frequency
        )
        start, end = np.interp(first, days, passed), passed[-1]
        most = min(random.geometric(max(leaving, 1e-3)), 3000)
        if random.random() < shop.once and not giant:
            most = 0
        gaps = random.gamma(
            shop.steady, 1 / (rate * shop.steady), min(most, int(rate * (end - start) * 3) + 30)
        )
        ticks = start + np.cumsum(gaps)
        at = np.concatenate([[first], np.interp(ticks[ticks < end], passed, days)])
        if random.random() < shop.burst:
            at = at[at <= HISTORY - 90 * random.random()]
        whole = np.unique(at[at <= HISTORY + AHEAD].astype(int))
        if len(whole):
            amounts = (
                level * random.gamma(6, 1 / 6, len(whole)) * (1 + shop.prices) ** (whole / 365)
            )
            rows.append(
                pd.DataFrame(
                    {"customer": f"c{number:05}", "day": whole, "amount": amounts.round(2)}
                )
            )
    return pd.concat(rows, ignore_index=True)


def _late(share: float, rise: float) -> float:
    """Return a time of arrival if the arrival rate rises linearly to 1 + rise."""
    return float((np.sqrt(1 + share * ((1 + rise) ** 2 - 1)) - 1) / rise)


def tried(given: tuple[str, int]) -> dict[str, object]:
    """Forecast one shop and compare with the year after."""
    kind, seed = given
    every = orders_of(KINDS[kind], seed)
    known = every[every["day"] <= HISTORY]
    frame = known.assign(
        order=np.arange(len(known)), placed=DAY + known["day"].to_numpy().astype("timedelta64[D]")
    )
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        orders = fl.open_orders(
            frame.drop(columns="day"), scheme={"time": {"as_of": (DAY + HISTORY).astype(object)}}
        )
        made = fl.value_forecast(orders, horizon=KINDS[kind].ahead)
    total = made.totals().iloc[0]
    later = every[
        (every["day"] > HISTORY)
        & (every["day"] <= HISTORY + KINDS[kind].ahead)
        & every["customer"].isin(set(known["customer"]))
    ]
    actual = float(later["amount"].sum())
    return {
        "kind": kind, "seed": seed, "method": made.method, "held": bool(total["value_low"] <= actual <= total["value_high"]),
        "off": float(np.log(total["expected_value"] / actual)), "orders_off": float(np.log(total["expected_orders"] / len(later))),
        "width": float(np.log(total["value_high"] / max(total["value_low"], 1))), "notes": " ".join(made.notes),
    }  # fmt: skip


def main() -> None:
    options = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    options.add_argument("--shops", type=int, default=30, help="number of shops of each kind")
    options.add_argument("--kinds", nargs="*", default=list(KINDS))
    options.add_argument("--first-seed", type=int, default=0)
    options.add_argument("--out", help="a CSV of every shop")
    given = options.parse_args()
    work = [
        (kind, seed)
        for seed in range(given.first_seed, given.first_seed + given.shops)
        for kind in given.kinds
    ]
    with ProcessPoolExecutor(2) as pool:
        frame = pd.DataFrame(list(pool.map(tried, work)))
    if given.out:
        frame.to_csv(given.out, index=False)
    print(f"{'kind':28}{'held':>6}{'off by':>9}{'typically':>11}{'width':>7}")
    for kind, of in frame.groupby("kind", sort=False):
        print(
            f"{kind:28}{of['held'].mean():6.2f}{np.expm1(of['off'].mean()):+9.1%}{of['off'].abs().median():11.1%}"
            f"{np.expm1(of['width'].median()):7.0%}"
        )


if __name__ == "__main__":
    main()

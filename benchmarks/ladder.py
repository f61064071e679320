"""Time fitting and placing the even ladder on 10 million numbers, next to sorting them, best of
five: python benchmarks/ladder.py
"""

import sys
import time

import numpy as np

import fairladder as fl

ROUNDS = 5


def seconds(work) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def main(n: int) -> None:
    dice = np.random.default_rng(1)
    uniform = dice.random(n)
    atom = np.where(dice.random(n) < 0.6, 0.5, uniform)
    cases = {
        "all distinct": uniform,
        "one value holds 60 %": atom,
        "order counts": dice.geometric(0.3, n),
    }
    for name, values in cases.items():
        ladder = fl.Ladder.fit(values)
        works = (
            lambda v=values: np.sort(v),
            lambda v=values: fl.Ladder.fit(v),
            lambda v=values, x=ladder: x.place(v),
        )
        taken = [
            [seconds(work) for work in works] for _ in range(ROUNDS)
        ]  # in turns, since the machine is noisy
        sort, fit, place = map(min, zip(*taken, strict=True))
        print(f"| {name} | {fit:.2f} s | {place:.2f} s | {(fit + place) / sort:.1f} |")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000_000)

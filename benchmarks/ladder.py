"""Fitting and placing the even ladder on 10 million numbers, beside sorting them: python benchmarks/ladder.py"""

import sys
import time

import numpy as np

import fairladder as fl


def seconds(work) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def main(n: int) -> None:
    dice = np.random.default_rng(1)
    uniform = dice.random(n)
    atom = np.where(dice.random(n) < 0.6, 0.5, uniform)
    cases = {"all distinct": uniform, "one value holds 60 %": atom, "order counts": dice.geometric(0.3, n)}
    for name, values in cases.items():
        sort = seconds(lambda v=values: np.sort(v))
        fit = seconds(lambda v=values: fl.Ladder.fit(v))
        ladder = fl.Ladder.fit(values)
        place = seconds(lambda v=values, x=ladder: x.place(v))
        print(f"| {name} | {fit:.2f} s | {place:.2f} s | {(fit + place) / sort:.1f} |")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000_000)

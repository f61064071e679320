"""Compare whole processes in turns: `fairladder score`, `check`, both in one session, and
hand-written scripts.

python benchmarks/run.py 10 # on ten million lines (make them first: python benchmarks/generate.py
10) python benchmarks/run.py 1 --csv --rounds 5 python benchmarks/run.py 10 --by-time --every # all
commands that read orders
"""

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).parent
ROLES = [
    "--customer-column",
    "member_no",
    "--order-column",
    "slip",
    "--placed-column",
    "sold_at",
    "--amount-column",
]
FAIRLADDER = str(Path(sys.executable).with_name("fairladder"))


def commands(source: Path, out: str) -> dict[str, list[str]]:
    by_hand = {
        p.stem: [sys.executable, str(p), str(source), out]
        for p in sorted((HERE / "by_hand").glob("*.py"))
    }
    arguments = [str(source), *ROLES, "line_total", "--as-of", "2026-06-30", "--quiet", "--out"]
    found = str(Path(out).with_name("findings.json"))
    return {
        **by_hand, "fairladder score": [FAIRLADDER, "score", *arguments, out], "fairladder check": [FAIRLADDER, "check", *arguments, found],
        "fairladder both": [sys.executable, str(HERE / "together.py"), str(source), out],
    }  # fmt: skip


def others(source: Path, out: str) -> dict[str, list[str]]:
    """Return the other commands that read orders, with their required options."""
    arguments = [
        str(source),
        *ROLES,
        "line_total",
        "--as-of",
        "2026-06-30",
        "--quiet",
        "--out",
        out,
    ]
    own = {
        "customers": [], "top": [], "growth": [], "retention": [], "breakdown": ["--rows", "channel"], "orders": [],
        "campaign": ["--when", "recency_days > 180"], "compare": ["--then", "2026-03-31"], "value": [],
    }  # fmt: skip
    return {
        f"fairladder {name}": [FAIRLADDER, name, *arguments, *words] for name, words in own.items()
    }


def measured(command: list[str]) -> tuple[float, float, float]:
    """Return wall-clock seconds, processor seconds and peak memory in MB of one process."""
    start = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, status, used = os.wait4(process.pid, 0)
    if status:
        raise SystemExit(f"failed: {' '.join(command)}")
    return time.perf_counter() - start, used.ru_utime + used.ru_stime, used.ru_maxrss / 1024


def main() -> None:
    options = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    options.add_argument(
        "millions", type=float, help="size of the generated file, in million lines"
    )
    options.add_argument("--csv", action="store_true", help="read and write CSV instead of Parquet")
    options.add_argument("--by-time", action="store_true", help="the file sorted by time")
    options.add_argument("--every", action="store_true", help="run every command that reads orders")
    options.add_argument("--rounds", type=int, default=3)
    given = options.parse_args()
    ending = "csv" if given.csv else "parquet"
    source = (
        HERE / "data" / f"lines-{given.millions:g}m{'-by-time' if given.by_time else ''}.{ending}"
    )
    if not source.exists():
        raise SystemExit(
            f"{source} does not exist; create it with: python benchmarks/generate.py "
            f"{given.millions:g} --csv"
        )
    runs: dict[str, list[tuple[float, float, float]]] = {}
    with tempfile.TemporaryDirectory() as folder:
        for _ in range(given.rounds):
            out = f"{folder}/out.{ending}"
            for name, command in (
                commands(source, out) | (others(source, out) if given.every else {})
            ).items():
                runs.setdefault(name, []).append(measured(command))
    medians = {
        name: [statistics.median(column) for column in zip(*taken, strict=True)]
        for name, taken in runs.items()
    }
    fastest = min(
        seconds for name, (seconds, _, _) in medians.items() if not name.startswith("fairladder")
    )
    print(f"{source.name}, median of {given.rounds} rounds")
    print(f"{'':18}{'seconds':>9}{'of fastest':>12}{'processor':>11}{'peak MB':>9}")
    for name, (seconds, processor, peak) in medians.items():
        print(f"{name:18}{seconds:9.2f}{seconds / fastest:12.2f}{processor:11.2f}{peak:9.0f}")


if __name__ == "__main__":
    main()

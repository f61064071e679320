"""Compare commands on the sample shop with the minimum time of their imports: python
benchmarks/small.py [ROUNDS]

The base is a process that imports DuckDB, pandas, PyArrow, sqlglot, pydantic and Typer and does
nothing; for the help it is an empty Typer application. Each round runs all commands in turn, so
that a slow moment of the machine affects all of them; ratios are of medians.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SHOP = Path(__file__).parents[1] / "src" / "fairladder" / "demo" / "shop"
PROGRAM = str(Path(sys.executable).with_name("fairladder"))
IMPORTS = [sys.executable, "-c", "import duckdb, pandas, pyarrow, sqlglot, pydantic, typer"]
BARE = "import typer\napp = typer.Typer()\n@app.command()\ndef one(): pass\n@app.command()\ndef two(): pass\napp()"
ORDERS = [str(SHOP / "orders.csv"), "--scheme", str(SHOP / "scheme.toml"), "--quiet"]
#: Command → its arguments, its base, and the allowed multiple of the base.
COMMANDS = {
    "help": (["--help"], "bare", 2.0),
    "score": (["score", *ORDERS], "imports", 1.1),
    "customers": (["customers", *ORDERS], "imports", 1.1),
    "top": (["top", *ORDERS], "imports", 1.1),
    "check": (["check", *ORDERS], "imports", 1.3),
    "growth": (["growth", *ORDERS], "imports", 1.4),
    "explain": (["explain", ORDERS[0], "09302", *ORDERS[1:]], "imports", 1.4),
    "compare": (["compare", *ORDERS, "--then", "2025-12-31"], "imports", 1.4),
    "campaign": (["campaign", *ORDERS], "imports", 1.4),
    "value": (["value", *ORDERS], "imports", 2.5),
    "score --stability": (["score", *ORDERS, "--stability"], "imports", 2.5),
}


def seconds(command: list[str], folder: str) -> tuple[float, float]:
    """Return wall-clock and processor seconds of a process."""
    before, begun = os.times(), time.perf_counter()
    subprocess.run(command, check=True, cwd=folder, stdout=subprocess.DEVNULL)
    taken, after = time.perf_counter() - begun, os.times()
    return (
        taken,
        after.children_user + after.children_system - before.children_user - before.children_system,
    )


def main(rounds: int) -> None:
    """Print the table."""
    bases = {"imports": IMPORTS, "bare": [sys.executable, "-c", BARE, "--help"]}
    everything = {**bases, **{name: [PROGRAM, *words] for name, (words, _, _) in COMMANDS.items()}}
    taken: dict[str, list[tuple[float, float]]] = {name: [] for name in everything}
    with tempfile.TemporaryDirectory() as folder:
        for _ in range(rounds):
            for name, command in everything.items():
                taken[name].append(seconds(command, folder))
    wall, processor = (
        {n: statistics.median(t[i] for t in times) for n, times in taken.items()} for i in (0, 1)
    )
    print("| command | seconds | processor | times the base | wanted |\n|---|--:|--:|--:|--:|")
    for name in bases:
        print(f"| {name} alone | {wall[name]:.2f} | {processor[name]:.2f} | | |")
    for name, (_, base, wanted) in COMMANDS.items():
        print(
            f"| `{name}` | {wall[name]:.2f} | {processor[name]:.2f} | {wall[name] / wall[base]:.2f} | {wanted} |"
        )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 5)

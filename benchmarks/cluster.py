"""Measure seconds, processor seconds, stages and shuffled bytes of scoring on a local Spark
session, next to two plain GROUP BYs.

    python benchmarks/cluster.py benchmarks/data/lines-10m.parquet [--master 'local[2]'] [--share 0.4]

A part of the file is selected by a hash of its customers. Everything runs twice, since Java
compiles on the fly and machines are noisy.
"""

import argparse
import os
import tempfile
import time
from pathlib import Path

import fairladder as fl
from fairladder.engine.cluster import session_at

PLAIN = """
SELECT COUNT(*), SUM(spend), MAX(last) FROM (
    SELECT member_no, COUNT(*) AS orders, SUM(amount) AS spend, MIN(day) AS first, MAX(day) AS last, MIN(amount), MAX(amount)
    FROM (SELECT member_no, slip, SUM(line_total) AS amount, MIN(CAST(sold_at AS DATE)) AS day, COUNT(*) AS n
          FROM lines GROUP BY member_no, slip)
    GROUP BY member_no)
"""


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("lines")
    parser.add_argument("--master", default="local[2]")
    parser.add_argument("--share", type=float, default=1.0)
    given = parser.parse_args()
    session = session_at(given.master)
    frame = session.read.parquet(given.lines)
    if given.share < 1:
        frame = frame.where(f"ABS(HASH(member_no)) % 1000 < {round(given.share * 1000)}")
    frame.createOrReplaceTempView("lines")
    print(f"{frame.count():,} lines")

    def plain():
        session.sql(PLAIN).collect()

    for _ in range(2):
        measured("two plain GROUP BYs", session, plain)
        orders = []
        measured("read", session, lambda held=orders: held.append(fl.open_orders(frame)))
        with tempfile.TemporaryDirectory() as folder:
            to = f"{folder}/scored"
            measured(
                "score and write",
                session,
                lambda held=orders, to=to: held[0].score().write.parquet(to),
            )
        del orders  # which also drops what the executors keep


def measured(what, session, work):
    before, begun = spent(session), time.monotonic()
    work()
    after = spent(session)
    busy, shuffled, stages = (b - a for a, b in zip(before, after, strict=True))
    seconds = time.monotonic() - begun
    print(
        f"{what:22} {seconds:6.1f} s, processors {busy:6.1f} s, {shuffled / 1e6:6.0f} MB shuffled, {stages} stages",
        flush=True,
    )


def spent(session):
    """Return processor seconds (of tasks, if executors are separate processes), shuffled bytes and
    stages so far.
    """
    context = session.sparkContext._jsc.sc()
    executors = context.statusStore().executorList(False)
    each = [executors.apply(i) for i in range(executors.size())]
    stages = context.dagScheduler().nextStageId()
    busy = sum(e.totalDuration() for e in each) / 1e3
    if context.isLocal():
        process = session._jvm.java.lang.ProcessHandle.current().pid()
        ticks = Path(f"/proc/{process}/stat").read_text().rsplit(") ", 1)[1].split()[11:13]
        busy = sum(map(int, ticks)) / os.sysconf("SC_CLK_TCK")
    return busy, sum(e.totalShuffleWrite() for e in each), stages


if __name__ == "__main__":
    main()

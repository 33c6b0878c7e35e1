"""Killing a process while it takes results and finishes days, again and again, and looking at what is left."""

import random
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kuppel.core.duration import DAY_US
from kuppel.store import days, history, maintenance
from kuppel.store.database import Database

FIRST = 20_000 * DAY_US
MINUTE = 60_000_000


@dataclass(frozen=True, slots=True)
class Outcome:
    """What was acknowledged, how many of those are not there, how many are there twice or where none was, and what a check
    of the whole database found to be damaged."""

    acknowledged: int
    lost: int
    twice: int
    wrong: int
    damaged: int
    finished_days: int


def kill_often(folder: Path, rounds: int, seed: int) -> Outcome:
    """SIGKILL at random moments; each round goes on with what the one before acknowledged."""
    generator = random.Random(seed)
    acknowledged = 0
    for _ in range(rounds):
        command = [sys.executable, "-m", "tests.store.busy", str(folder), str(acknowledged)]
        process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        for _ in range(generator.randrange(1, 40)):
            told = process.stdout.readline()
            if not told.strip():
                break
            acknowledged = int(told)
        process.kill()
        rest = process.stdout.read().split()
        process.stdout.close()
        process.wait()
        if rest and rest[-1].isdigit():
            acknowledged = max(acknowledged, int(rest[-1]))
    database = Database(folder / "kuppel.db")
    try:
        report = maintenance.check(database)
        with database.reading() as connection:
            ok, failed = history.run_times(connection, 1, 0, 2**60)
            total = history.samples(connection, [1], ["total"], 0, 2**60)[1, "total"]
            horizon_us = days.horizon(connection)
    finally:
        database.close()
    times = np.sort(np.concatenate([ok, failed]))
    unique = np.unique(times)
    # The first so many, a minute apart; a batch that was stored but not acknowledged may follow.
    numbers = (unique - FIRST) // MINUTE
    lost = acknowledged - int(np.count_nonzero(numbers < acknowledged))
    wrong = int(np.count_nonzero((unique - FIRST) % MINUTE)) + int(total[0].tolist() != np.sort(ok).tolist())
    wrong += int(np.count_nonzero(total[1] != (total[0] - FIRST) // MINUTE / 8))
    return Outcome(
        acknowledged,
        lost,
        int(times.size - unique.size),
        wrong,
        len(report.damaged) + len(report.broken),
        max(0, horizon_us - FIRST) // DAY_US,
    )

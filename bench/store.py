"""The store: how fast results go in, how small finished days are, how fast long windows come out.

Everything is a ratio against a plain yardstick of the same run: sqlite3's own executemany for writing, duckdb on one thread
for reading. The data are made: answer times in ms told to 0.1 ms, lognormal with a daily rhythm, and jitter in the times.
"""

import json
import sqlite3
import sys
import tempfile
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import replace
from functools import partial
from pathlib import Path

import duckdb
import numpy as np

from bench import store_load
from bench.machine import Steal
from kuppel.core import sketch as sketches
from kuppel.core.duration import DAY_US
from kuppel.core.result import Attempt, Result
from kuppel.core.window import band
from kuppel.store import days, history, inventory, rollup, tail
from kuppel.store.database import Database
from kuppel.store.days import Day
from kuppel.store.intake import NumberedResult, take_batch
from kuppel.store.inventory import Target
from kuppel.store.writer import Writer
from tests.store.test_store import a_probe

FIRST = 20_000 * DAY_US
MINUTE = 60_000_000
POINTS = 500
SPAN = 30
STREAMS = 334
QUANTITIES = {"total": 80, "connect": 12, "tls": 25, "first_byte": 35, "transfer": 6, "name_lookup": 3}
_RUN_TABLE = """CREATE TABLE run (q INTEGER, s INTEGER, t INTEGER, r TEXT, g INTEGER, b BLOB, PRIMARY KEY (q, s, t))
 WITHOUT ROWID"""
_SAMPLE_TABLE = "CREATE TABLE sample (q INTEGER, s INTEGER, t INTEGER, v REAL, PRIMARY KEY (q, s, t)) WITHOUT ROWID"
# So many streams have data of their own; the others have theirs again, since making and packing noise takes long.
DIFFERENT = 24
_FILL = "INSERT INTO sample SELECT s, t, v FROM (SELECT unnest($s) AS s, unnest($t) AS t, unnest($v) AS v)"
_WINDOW = """SELECT (t - $f) // $w AS slice, quantile_disc(v, 0.05), quantile_disc(v, 0.5), quantile_disc(v, 0.95), count(*)
 FROM sample WHERE series = 7 GROUP BY slice ORDER BY slice"""
_TOP = "SELECT series, quantile_disc(v, 0.95) AS p FROM sample GROUP BY series ORDER BY p DESC LIMIT 20"


def best(act: Callable[[], object], times: int = 5) -> float:
    """The shortest of a few runs, in s: what the machine's other guests disturbed least."""
    taken = []
    for _ in range(times):
        begun = time.perf_counter()
        act()
        taken.append(time.perf_counter() - begun)
    return min(taken)


def a_day(generator: np.random.Generator, day_us: int) -> Day:
    """1,440 runs of six quantities, a minute apart with up to 3 ms of jitter."""
    times = day_us + np.arange(1440, dtype=np.int64) * MINUTE + 7_000_000 + generator.integers(0, 3_000, 1440)
    rhythm = 1 + 0.3 * np.sin(np.arange(1440) / 1440 * 2 * np.pi)
    values = {
        name: np.round(rhythm * generator.lognormal(np.log(scale), 0.15, 1440), 1) for name, scale in QUANTITIES.items()
    }
    return Day(times, np.zeros(1440, dtype=np.uint8), [], values)


def furnished(folder: Path, streams: int) -> tuple[Database, Writer]:
    """A store with that many streams of one probe."""
    database = Database(folder / "kuppel.db")
    writer = Writer(database)
    target = writer.write(partial(inventory.add_target, new=Target(0, "t"))).id
    points = []
    for number in range(streams):
        told = {"name": f"p{number}", "kind": "site", "place": "", "provider": "", "version": "", "addresses": []}
        points.append(writer.write(partial(inventory.enrol, description=told, token_hash=f"{number}", now_us=5)))
    writer.write(partial(inventory.add_probe, new=a_probe(target, tuple(points)), now_us=5))
    return database, writer


def inserting(folder: Path) -> dict[str, float]:
    """Batches of 500 results of six quantities through intake, against executemany of the same runs and samples."""
    generator = np.random.default_rng(1)
    results = []
    for number in range(20_000):
        time_us = FIRST + number // 20 * MINUTE + number % 20 * 1000
        drawn = generator.lognormal(3, 0.3, len(QUANTITIES))
        quantities = {name: round(float(value), 1) for name, value in zip(QUANTITIES, drawn, strict=True)}
        result = Result(time_us, None, quantities, {}, (Attempt(time_us, 90_000),), {"status": 200})
        results.append(NumberedResult(number + 1, number % 20 + 1, result))
    batches = [results[first : first + 500] for first in range(0, len(results), 500)]

    taken, plain = [], []
    # In turns, the best of each: what else the machine does meanwhile then hits both alike.
    for turn in range(3):
        (folder / str(turn)).mkdir()
        taken.append(_taking(folder / str(turn), batches))
        plain.append(_raw(folder / str(turn), batches))
    count = len(results) * len(QUANTITIES)
    best_taken, best_plain = min(taken), min(plain)
    return {"insert_per_s": count / best_taken, "raw_per_s": count / best_plain, "insert_ratio": best_plain / best_taken}


def _taking(folder: Path, batches: list[list[NumberedResult]]) -> float:
    database, writer = furnished(folder, 20)
    begun = time.perf_counter()
    # Four agents' worth at a time: the writer commits what has come together.
    waiting: deque[Future[object]] = deque()
    for batch in batches:
        up_to = batch[-1].sequence
        job = partial(take_batch, vantage_point_id=1, spool="s", results=batch, up_to=up_to, refused=0)
        waiting.append(writer.submit(job))
        if len(waiting) == 4:
            waiting.popleft().result()
    for one in waiting:
        one.result()
    taken = time.perf_counter() - begun
    writer.close()
    database.close()
    return taken


def _raw(folder: Path, batches: list[list[NumberedResult]]) -> float:
    attempt = {"started_us": FIRST, "duration_us": 90_000, "reason": None, "note": ""}
    body = json.dumps({"attempts": [attempt], "detail": {"status": 200}}, separators=(",", ":")).encode()
    rows = []
    for batch in batches:
        told = [(one.result.started_us, one.stream_id, list(one.result.quantities.values())) for one in batch]
        samples = [(tail.slot(t), s * 10 + at, t, value) for t, s, values in told for at, value in enumerate(values)]
        rows.append(([(tail.slot(t), s, t, None, 0, body) for t, s, _ in told], sorted(samples)))
    raw = sqlite3.connect(folder / "raw.db", isolation_level=None)
    for statement in (
        "PRAGMA page_size=16384",
        "PRAGMA journal_mode=WAL",
        "PRAGMA synchronous=NORMAL",
        _RUN_TABLE,
        _SAMPLE_TABLE,
    ):
        raw.execute(statement)
    begun = time.perf_counter()
    for runs, samples in rows:
        raw.execute("BEGIN IMMEDIATE")
        raw.executemany("INSERT INTO run VALUES (?, ?, ?, ?, ?, ?)", runs)
        raw.executemany("INSERT INTO sample VALUES (?, ?, ?, ?)", samples)
        raw.execute("COMMIT")
    plain = time.perf_counter() - begun
    raw.close()
    return plain


def reading(folder: Path, streams: int) -> dict[str, float]:
    """Streams over a month of finished days; one series at 500 points with p95, and the top 20 of all series by p95."""
    database, writer = furnished(folder, streams)
    generator = np.random.default_rng(2)
    duck = duckdb.connect(str(folder / "duck.db"))
    duck.execute("SET threads = 1")
    duck.execute("CREATE TABLE sample (series INTEGER, t BIGINT, v DOUBLE)")
    starts = [FIRST + number * DAY_US for number in range(SPAN)]
    drawn = [[a_day(generator, start) for start in starts] for _ in range(min(streams, DIFFERENT))]
    packed = [[days.encode_day(1, start, one) for start, one in zip(starts, own, strict=True)] for own in drawn]
    # As it happens in use: one day after another, all streams of each.
    for number in range(SPAN):
        encoded = [replace(packed[(stream - 1) % DIFFERENT][number], stream_id=stream) for stream in range(1, streams + 1)]
        writer.write(partial(days.write_days, encoded=encoded))
    for stream in range(1, streams + 1):
        made = drawn[(stream - 1) % DIFFERENT]
        times = np.concatenate([one.times_us for one in made])
        # The top list is over all series: each quantity of a stream is one.
        for number, name in enumerate(QUANTITIES):
            series = np.full(times.size, stream * len(QUANTITIES) + number + 1, dtype=np.int32)
            duck.execute(_FILL, {"s": series, "t": times, "v": np.concatenate([one.values[name] for one in made])})
    writer.write(partial(days.move_horizon, to_us=FIRST + SPAN * DAY_US))
    writer.close()
    plain = sqlite3.connect(folder / "kuppel.db", isolation_level=None)
    plain.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    tables = ("block", "day_summary", "hour_summaries")
    sizes = {one: plain.execute("SELECT sum(pgsize) FROM dbstat WHERE name = ?", (one,)).fetchone()[0] for one in tables}
    plain.close()
    size = (folder / "kuppel.db").stat().st_size
    end, width = FIRST + SPAN * DAY_US, SPAN * DAY_US // POINTS

    def own_window() -> object:
        with database.reading() as connection:
            found = history.samples(connection, [1], ["total"], FIRST, end)[1, "total"]
        return band(*found, FIRST, end, width)

    def own_top() -> list[tuple[float, tuple[int, str]]]:
        wanted = [(stream, name) for stream in range(1, streams + 1) for name in QUANTITIES]
        with database.reading() as connection:
            found = rollup.sketches_of(connection, wanted, FIRST, end)
        return sorted(zip(sketches.quantiles(list(found.values()), 0.95).tolist(), found, strict=True), reverse=True)[:20]

    with Steal() as steal:
        window = best(own_window)
        their_window = best(lambda: duck.execute(_WINDOW, {"f": FIRST, "w": width}).fetchall())
        top, their_top = best(own_top, 3), best(lambda: duck.execute(_TOP).fetchall(), 3)
    print(steal.told())
    duck.close()
    database.close()
    samples = streams * SPAN * 1440 * len(QUANTITIES)
    return {
        "bytes_per_sample": size / samples,
        "block_bytes": sizes["block"] / samples,
        "day_summary_bytes": sizes["day_summary"] / samples,
        "hour_summary_bytes": sizes["hour_summaries"] / samples,
        "query30d_ms": window * 1000,
        "query30d_ratio": window / their_window,
        "top20_ms": top * 1000,
        "top20_ratio": top / their_top,
    }


def main() -> None:
    wanted = sys.argv[1:] or ["insert", "read", "ingest", "load", "growth", "open", "kills"]
    parts: dict[str, Callable[[Path], dict[str, float]]] = {
        "insert": inserting,
        "read": partial(reading, streams=STREAMS),
        "ingest": store_load.ingesting,
        "load": store_load.together,
        "growth": store_load.growing,
        "open": store_load.opening,
        "kills": partial(store_load.killing, rounds=100),
    }
    figures: dict[str, float] = {}
    for name in wanted:
        with tempfile.TemporaryDirectory() as folder:
            figures |= parts[name](Path(folder))
    for name, value in figures.items():
        print(f"{name:>20} {value:>14,.3f}")
    print(json.dumps({name: round(value, 4) for name, value in figures.items()}))


if __name__ == "__main__":
    main()

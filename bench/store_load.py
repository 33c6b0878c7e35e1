"""The hub under load: results over HTTP on one core, and 5,000 results a second beside eight readers."""

import contextlib
import json
import os
import sqlite3
import threading
import time
from functools import partial
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import zstandard

from bench.machine import Steal
from kuppel.core.duration import DAY_US
from kuppel.core.result import Attempt, Result
from kuppel.core.state import StreamState
from kuppel.store import days, history, inventory, states
from kuppel.store.database import Database
from kuppel.store.intake import NumberedResult, store_results
from kuppel.store.inventory import Target
from kuppel.store.states import StateNote
from kuppel.store.writer import Writer
from tests.hub.running import ADMIN, DESCRIPTION, TOKEN, HubProcess
from tests.store.killing import kill_often
from tests.store.test_store import a_probe

FIELDS = ("name_lookup", "connect", "tls", "first_byte", "transfer", "ttfb", "total", "body_size", "redirects")
UNITS = dict.fromkeys(FIELDS, "ms") | {"body_size": "By", "redirects": "{redirect}"}
BATCH = 500
SECOND = 1_000_000
SENDERS = 4


class Load:
    """A hub in a process of its own with many streams, and an agent that delivers for all of them."""

    def __init__(self, folder: Path, streams: int, **environment: str) -> None:
        self.hub = HubProcess(folder, None, **environment)
        self.hub.start()
        answer = self.hub.api.post("agents/enrolments", json=DESCRIPTION, headers={"Authorization": f"Bearer {TOKEN}"})
        self.agent = {"Authorization": f"Bearer {answer.json()['token']}"}
        point = answer.json()["vantage_point"]
        self.hub.stop()
        database = Database(folder / "kuppel.db")
        writer = Writer(database)
        target = writer.write(partial(inventory.add_target, new=Target(0, "t"))).id
        for number in range(streams):
            probe = a_probe(target, (point,), name=f"p{number}")
            writer.write(partial(inventory.add_probe, new=probe, now_us=5))
        with database.reading() as connection:
            self.streams = [one.id for one in inventory.active_streams(connection)]
        writer.close()
        database.close()
        self.hub.start()
        self.sequence = 0
        self.generator = np.random.default_rng(5)

    def batch(self, base_us: int, spool: int = 1) -> bytes:
        """500 results of about fifteen fields, packed as agents pack them."""
        results = []
        drawn = self.generator.lognormal(3, 0.3, (BATCH, len(FIELDS))).round(1)
        for number in range(BATCH):
            # Every stream once a minute, as agents deliver that were cut off for some hours.
            minute, at = divmod(self.sequence, len(self.streams))
            started = base_us + minute * 60 * SECOND + at * 60 * SECOND // len(self.streams)
            self.sequence += 1
            quantities = dict(zip(FIELDS, drawn[number].tolist(), strict=True)) | {"redirects": 0.0, "body_size": 18_000.0}
            results.append(
                {
                    "sequence": self.sequence,
                    "stream": self.streams[at],
                    "started_us": started,
                    "quantities": quantities,
                    "facts": {"address": "192.0.2.7"},
                    "attempts": [{"started_us": started, "duration_us": 90_000, "reason": None, "note": ""}],
                    "detail": {"status": 200, "size": 18_000},
                }
            )
        body = json.dumps({"spool": f"spool-number-{spool}", "units": UNITS, "results": results}).encode()
        return zstandard.ZstdCompressor(level=3).compress(body)

    def deliver(self, client: httpx.Client, body: bytes) -> None:
        headers = self.agent | {"Content-Encoding": "zstd", "Content-Type": "application/json"}
        while True:
            answer = client.post("agents/self/batches", content=body, headers=headers)
            if answer.status_code != 429:
                break
            time.sleep(float(answer.headers["Retry-After"]))
        answer.raise_for_status()
        assert not answer.json()["refused"], answer.text


def ingesting(folder: Path) -> dict[str, float]:
    """How many results a second one core takes in, against executemany of the same rows."""
    load = Load(folder, 100, KUPPEL_READERS="0")
    pid = load.hub.pid
    os.sched_setaffinity(pid, {0})
    for task in Path(f"/proc/{pid}/task").iterdir():
        with contextlib.suppress(OSError):
            os.sched_setaffinity(int(task.name), {0})
    os.sched_setaffinity(0, {1})
    base = time.time_ns() // 1000 - 6 * 3600 * SECOND
    bodies = [load.batch(base, 1 + number % 2) for number in range(44)]
    # Two agents, so that the one core has always something to do.
    with httpx.Client(base_url=f"{load.hub.url}/api/", trust_env=False, timeout=60) as client:
        for body in bodies[:4]:
            load.deliver(client, body)

        def send(part: list[bytes]) -> None:
            for body in part:
                load.deliver(client, body)

        begun = time.perf_counter()
        senders = [threading.Thread(target=send, args=(bodies[4 + number :: 2],)) for number in range(2)]
        for one in senders:
            one.start()
        for one in senders:
            one.join()
        taken = time.perf_counter() - begun
    load.hub.stop()

    plain = sqlite3.connect(folder / "kuppel.db", isolation_level=None)
    runs = plain.execute("SELECT * FROM run ORDER BY time_us, stream_id").fetchall()
    samples = plain.execute("SELECT * FROM sample ORDER BY time_us, series_id").fetchall()
    schema = [row[0] for row in plain.execute("SELECT sql FROM sqlite_master WHERE name IN ('run', 'sample')")]
    plain.close()
    os.sched_setaffinity(0, {0})
    rows_taken = min(_raw(folder / f"raw{turn}.db", schema, runs, samples) for turn in range(3))
    os.sched_setaffinity(0, {0, 1})
    per_s, raw_per_s = 40 * BATCH / taken, len(runs) / rows_taken
    return {"ingest_per_s": per_s, "raw_results_per_s": raw_per_s, "ingest_ratio": per_s / raw_per_s}


def _raw(path: Path, schema: list[str], runs: list[Any], samples: list[Any]) -> float:
    """The same rows by executemany, in as many commits; s."""
    raw = sqlite3.connect(path, isolation_level=None)
    for statement in (*(f"PRAGMA {one}" for one in ("page_size=16384", "journal_mode=WAL", "synchronous=NORMAL")), *schema):
        raw.execute(statement)
    begun = time.perf_counter()
    for at in range(0, len(runs), BATCH):
        raw.execute("BEGIN IMMEDIATE")
        raw.executemany("INSERT INTO run VALUES (?, ?, ?, ?, ?, ?)", runs[at : at + BATCH])
        part = samples[at * len(FIELDS) : (at + BATCH) * len(FIELDS)]
        raw.executemany("INSERT INTO sample VALUES (?, ?, ?, ?)", part)
        raw.execute("COMMIT")
    taken = time.perf_counter() - begun
    raw.close()
    return taken


def together(folder: Path, seconds: float = 30) -> dict[str, float]:
    """5,000 results a second arrive while eight readers ask what a dashboard asks; what each waited for."""
    load = Load(folder, 300)
    asked: list[float] = []
    errors: list[str] = []
    is_over = threading.Event()
    lock = threading.Lock()

    def read(number: int) -> None:
        generator = np.random.default_rng(number)
        with httpx.Client(base_url=f"{load.hub.url}/api/", headers=ADMIN, trust_env=False, timeout=90) as client:
            while not is_over.is_set():
                stream = int(generator.choice(load.streams))
                path = ("matrix", f"streams/{stream}/series", f"streams/{stream}/figures", "ribbon", "query/top")[
                    int(generator.integers(5))
                ]
                begun = time.perf_counter()
                answer = client.get(path)
                with lock:
                    asked.append(time.perf_counter() - begun)
                    if answer.status_code != 200:
                        errors.append(f"{path}: {answer.status_code} {answer.text[:200]}")
                time.sleep(0.2)

    base = time.time_ns() // 1000 - 10 * 3600 * SECOND
    count = round(seconds * 10)
    bodies = [load.batch(base, 1 + number % SENDERS) for number in range(count)]
    waited: list[float] = []

    def send(number: int, begun: float) -> None:
        with httpx.Client(base_url=f"{load.hub.url}/api/", trust_env=False, timeout=90) as client:
            for at in range(number, count, SENDERS):
                ahead = begun + at * 0.1 - time.perf_counter()
                if ahead > 0:
                    time.sleep(ahead)
                sent = time.perf_counter()
                load.deliver(client, bodies[at])
                waited.append(time.perf_counter() - sent)

    with Steal() as steal:
        readers = [threading.Thread(target=read, args=(number,)) for number in range(8)]
        begun = time.perf_counter()
        senders = [threading.Thread(target=send, args=(number, begun)) for number in range(SENDERS)]
        for one in (*senders, *readers):
            one.start()
        for one in senders:
            one.join()
        taken = time.perf_counter() - begun
        is_over.set()
        for one in readers:
            one.join()
    print(steal.told())
    commits = load.hub.api.get("store").json()["commits"]
    load.hub.stop()
    for one in errors[:5]:
        print("error:", one)
    return {
        "arrived_per_s": count * BATCH / taken,
        "commit_p50_ms": commits["p50_ms"],
        "commit_p99_ms": commits["p99_ms"],
        "delivery_p99_ms": float(np.percentile(waited, 99)) * 1000,
        "read_p50_ms": float(np.percentile(asked, 50)) * 1000,
        "read_p95_ms": float(np.percentile(asked, 95)) * 1000,
        "reads": len(asked),
        "errors": len(errors),
    }


def growing(folder: Path) -> dict[str, float]:
    """What it costs to take one sample and to read one series' last hour, at 100, 1,000 and 10,000 series."""
    written, read = {}, {}
    for streams in (17, 167, 1667):
        database = Database(folder / f"{streams}.db")
        writer = Writer(database)
        target = writer.write(partial(inventory.add_target, new=Target(0, "t"))).id
        told = DESCRIPTION | {"name": "p"}
        point = writer.write(partial(inventory.enrol, description=told, token_hash="x", now_us=5))

        def furnish(connection: Any, target: int = target, point: int = point, streams: int = streams) -> None:
            for number in range(streams):
                inventory.add_probe(connection, a_probe(target, (point,), name=f"p{number}"), 5)

        writer.write(furnish)
        generator = np.random.default_rng(3)
        first = 20_000 * DAY_US
        taken = 0.0
        results = []
        # For few streams more time, so that each size is timed over as many samples.
        minutes = 100_020 // streams
        offsets = generator.integers(0, 60 * SECOND, streams)
        for minute in range(minutes):
            for stream in np.argsort(offsets).tolist():
                time_us = first + minute * 60 * SECOND + int(offsets[stream])
                values = {
                    name: float(v) for name, v in zip(FIELDS[:6], generator.lognormal(3, 0.3, 6).round(1), strict=True)
                }
                results.append(NumberedResult(0, stream + 1, Result(time_us, None, values, {}, (Attempt(time_us, 5),))))
        for at in range(0, len(results), BATCH):
            part = results[at : at + BATCH]
            begun = time.perf_counter()
            writer.write(lambda connection, part=part: store_results(connection, part, is_generated=False))
            taken += time.perf_counter() - begun
        written[streams] = taken / len(results) / 6
        best = float("inf")
        for _ in range(7):
            begun = time.perf_counter()
            with database.reading() as connection:
                end_us = first + minutes * 60 * SECOND
                history.samples(connection, [1], FIELDS[:6], end_us - 3600 * SECOND, end_us)
            best = min(best, time.perf_counter() - begun)
        read[streams] = best
        writer.close()
        database.close()
    return {
        "write_us_100": written[17] * 1e6,
        "write_us_1000": written[167] * 1e6,
        "write_us_10000": written[1667] * 1e6,
        "read_ms_100": read[17] * 1e3,
        "read_ms_10000": read[1667] * 1e3,
        "growth": max(written.values()) / min(written.values()),
        "growth_reading": read[1667] / read[17],
    }


def opening(folder: Path) -> dict[str, float]:
    """A hub over 150 streams with 45 days of runs of six quantities, 35 of them with details: its size, and how long it
    takes from its start until it is ready."""
    streams, span, runs = 150, 45, 444
    hub = HubProcess(folder)
    hub.start()
    hub.stop()
    now_us = time.time_ns() // 1000
    first_day = now_us // DAY_US - span
    generator = np.random.default_rng(6)
    database = Database(folder / "kuppel.db")
    writer = Writer(database)
    target = writer.write(partial(inventory.add_target, new=Target(0, "t"))).id
    told = DESCRIPTION | {"name": "p"}
    point = writer.write(partial(inventory.enrol, description=told, token_hash="x", now_us=5))
    for number in range(streams):
        writer.write(partial(inventory.add_probe, new=a_probe(target, (point,), name=f"p{number}"), now_us=5))
    with database.reading() as connection:
        ids = [one.id for one in inventory.active_streams(connection)]
    scales = dict(zip(FIELDS[:6], (3, 12, 25, 35, 6, 80), strict=True))
    for day in range(first_day, first_day + span):
        day_us = day * DAY_US
        encoded = []
        for stream in ids:
            times = day_us + np.arange(runs, dtype=np.int64) * (DAY_US // runs) + generator.integers(0, 3000, runs)
            values = {name: generator.lognormal(np.log(scale), 0.15, runs).round(1) for name, scale in scales.items()}
            bodies = []
            if day >= first_day + span - 35:
                sizes, octets = generator.lognormal(10, 0.2, runs).astype(int).tolist(), times.tolist()
                bodies = [
                    {
                        "attempts": [{"started_us": at, "duration_us": size * 3, "reason": None, "note": "200 OK"}],
                        "detail": {"status": 200, "size": size, "local": "192.0.2.31"},
                    }
                    for at, size in zip(octets, sizes, strict=True)
                ]
            encoded.append(days.encode_day(stream, day_us, days.Day(times, np.zeros(runs, np.uint8), bodies, values)))
            last_us = int(times[-1])
        writer.write(partial(days.write_days, encoded=encoded))
    writer.write(partial(days.move_horizon, to_us=(first_day + span) * DAY_US))
    notes = [StateNote(one, StreamState(), last_us, last_us, ()) for one in ids]
    writer.write(partial(states.keep_states, notes=notes))
    writer.close()
    database.close()
    taken = []
    for _ in range(3):
        begun = time.perf_counter()
        hub.start()
        taken.append(time.perf_counter() - begun)
        hub.stop()
    size = sum(one.stat().st_size for one in folder.iterdir() if one.is_file())
    return {"opened_results": streams * span * runs, "open_s": min(taken), "open_mb": size / 1e6}


def killing(folder: Path, rounds: int) -> dict[str, float]:
    """SIGKILL at random moments of taking results and finishing days; what was acknowledged and is not there."""
    outcome = kill_often(folder, rounds, seed=11)
    return {
        "kills": rounds,
        "acknowledged": outcome.acknowledged,
        "lost": outcome.lost,
        "twice": outcome.twice,
        "wrong": outcome.wrong + outcome.damaged,
    }

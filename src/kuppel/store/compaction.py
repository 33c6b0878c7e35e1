"""Finishes days: turns the rows of a day that is over into blocks, moves the horizon, and clears the dead rows away.

One day at a time, in steps that each leave the store whole; killed between any two of them, it goes on where it was:

| step                                                                                    | if killed after it          |
| --------------------------------------------------------------------------------------- | --------------------------- |
| 1. read some streams' rows of the day, compress them, write their blocks (unseen yet)   | the blocks are written anew |
| 2. count the day's rows again, in the writer; as many as were compressed: move the horizon | step 3 goes on              |
| 3. delete the dead rows, two minutes of them at a time                                  | step 3 goes on              |

Between steps it waits until the writer has nothing else to do: results that arrive come first.
"""

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from typing import TypeVar

import numpy as np
from sqlalchemy import Connection, select

from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.core.series import FloatArray
from kuppel.store import days, metrics, positions, tables, tail
from kuppel.store.database import Database
from kuppel.store.days import Day, EncodedDay
from kuppel.store.tail import TailRun
from kuppel.store.writer import Writer

T = TypeVar("T")

# A day is finished this long after its end: agents deliver within seconds, and what comes later is merged.
GRACE_US = 2 * HOUR_US
_STREAMS_AT_ONCE = 50
_LONGEST_WAIT_S = 30.0


@dataclass(frozen=True, slots=True)
class Keep:
    """How long what is kept: what explains single runs, every sample, and the hours' summaries; those of days stay."""

    details_us: int
    samples_us: int
    summaries_us: int


class Compaction:
    """Finishes days of one database, whenever `run` is called."""

    def __init__(self, database: Database, writer: Writer) -> None:
        self._database = database
        self._writer = writer

    def run(self, now_us: int, is_wanted: Callable[[], bool] = lambda: True) -> int:
        """Finish all days that are over, as long as it `is_wanted`; how many days were finished."""
        finished = 0
        self._clear(is_wanted)
        while is_wanted():
            day_us = self._next_day()
            if day_us is None or day_us + DAY_US + GRACE_US > now_us:
                break
            # A day to which a run was added meanwhile is compressed anew.
            if self._finish(day_us, is_wanted):
                finished += 1
                self._clear(is_wanted)
        return finished

    def retire(self, now_us: int, keep: Keep) -> None:
        """Remove what is older than it is kept, a day or a table at a time."""
        while self._write(partial(days.retire_bodies, before_us=now_us - keep.details_us)):
            pass
        self._write(partial(metrics.retire, before_us=now_us - keep.samples_us))
        self._write(partial(positions.retire, before_us=now_us - keep.samples_us))
        self._write(partial(days.retire, table=tables.block, before_us=now_us - keep.samples_us))
        self._write(partial(days.retire, table=tables.hour_summaries, before_us=now_us - keep.summaries_us))

    def _write(self, job: Callable[[Connection], T]) -> T:
        """Write when nobody else wants to."""
        deadline = time.monotonic() + _LONGEST_WAIT_S
        while self._writer.waiting and time.monotonic() < deadline:
            time.sleep(0.005)
        return self._writer.write(job)

    def _next_day(self) -> int | None:
        """The day of the oldest row that is not in blocks; days without any row are skipped."""
        with self._database.reading() as connection:
            first_us, _ = tail.span(connection, days.horizon(connection))
        return None if first_us is None else first_us // DAY_US * DAY_US

    def _finish(self, day_us: int, is_wanted: Callable[[], bool]) -> bool:
        with self._database.reading() as connection:
            streams = tail.streams_with_runs(connection, day_us, day_us + DAY_US)
        compressed = 0
        for first in range(0, len(streams), _STREAMS_AT_ONCE):
            if not is_wanted():
                return False
            with self._database.reading() as connection:
                read = list(_days_in_rows(connection, streams[first : first + _STREAMS_AT_ONCE], day_us))
            encoded = [days.encode_day(stream_id, day_us, day) for stream_id, day in read]
            compressed += sum(one.runs for one in encoded)
            if not self._write(_writing(encoded, day_us)):
                return True

        def move(connection: Connection) -> bool:
            if days.horizon(connection) > day_us:
                return True
            # A run that arrived meanwhile is not in its block: the day is then compressed anew.
            if tail.run_count(connection, day_us, day_us + DAY_US) != compressed:
                return False
            days.move_horizon(connection, day_us + DAY_US)
            return True

        return self._write(move)

    def _clear(self, is_wanted: Callable[[], bool]) -> None:
        """Delete the rows before the horizon, oldest first."""
        while is_wanted():
            with self._database.reading() as connection:
                horizon_us = days.horizon(connection)
                slot = tail.oldest_slot(connection, horizon_us)
            if slot is None:
                return
            self._write(partial(tail.clear, until_us=(slot + 1) * tail.SLOT_US))


def _writing(encoded: Sequence[EncodedDay], day_us: int) -> Callable[[Connection], bool]:
    """Write blocks, unless somebody else finished the day meanwhile: its rows may be half cleared away by now."""

    def job(connection: Connection) -> bool:
        if days.horizon(connection) > day_us:
            return False
        days.write_days(connection, encoded)
        return True

    return job


def _days_in_rows(connection: Connection, streams: Sequence[int], day_us: int) -> Iterator[tuple[int, Day]]:
    """The day of each stream, from its rows."""
    runs: dict[int, list[TailRun]] = {one: [] for one in streams}
    for one in tail.runs_of(connection, streams, day_us, day_us + DAY_US):
        runs[one.stream_id].append(one)
    names = connection.execute(
        select(tables.series.c.id, tables.series.c.stream_id, tables.series.c.quantity).where(
            tables.series.c.stream_id.in_(streams)
        )
    ).all()
    samples = tail.samples(connection, [row.id for row in names], day_us, day_us + DAY_US)
    for stream_id, own in runs.items():
        times = np.array([one.time_us for one in own], dtype=np.int64)
        values: dict[str, FloatArray] = {}
        for row in names:
            if row.stream_id == stream_id and row.id in samples:
                column = np.full(times.size, np.nan)
                # Every sample was stored with its run, in one commit.
                column[np.searchsorted(times, samples[row.id][0])] = samples[row.id][1]
                values[row.quantity] = column
        codes = np.array([days.code(one.reason, is_generated=one.is_generated) for one in own], dtype=np.uint8)
        yield stream_id, Day(times, codes, [one.body for one in own], values)

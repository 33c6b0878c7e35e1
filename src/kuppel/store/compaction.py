"""Finishes days: turns the rows of a day that is over into blocks, moves the horizon, and clears the dead rows away.

One day at a time, in steps that each leave the store whole; killed between any two of them, it goes on where it was:

| step                                                                                    | if killed after it          |
| --------------------------------------------------------------------------------------- | --------------------------- |
| 1. read some streams' rows of the day, compress them, write their blocks (unseen yet)   | the blocks are written anew |
| 2. count the day's rows again, in the writer; as many as were compressed: move the horizon | step 3 goes on              |
| 3. delete the dead rows, a few minutes of them at a time                                | step 3 goes on              |

Between steps it waits until the writer has nothing else to do: results that arrive come first.
"""

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import orjson
from sqlalchemy import Connection, func, select, text

from kuppel.core.series import FloatArray
from kuppel.store import days, tables
from kuppel.store.database import Database
from kuppel.store.days import DAY_US, Day, EncodedDay
from kuppel.store.writer import Writer

# A day is finished this long after its end: agents deliver within seconds, and what comes later is merged.
GRACE_US = 2 * 3_600_000_000
_STREAMS_AT_ONCE = 50
_SERIES_AT_ONCE = 500
_CLEARED_US = 5 * 60_000_000
_LONGEST_WAIT_S = 30.0


@dataclass(frozen=True, slots=True)
class Keep:
    """How long what is kept: what explains single runs, every sample, and the hours' summaries; those of days stay."""

    details_us: int
    samples_us: int
    summaries_us: int


class Compaction:
    """Finishes days of one database, whenever `step` is called."""

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
        """Remove what is older than it is kept, column by column."""
        with self._database.reading() as connection:
            series = dict(connection.execute(select(tables.series.c.id, tables.series.c.quantity)).all())
        ids = sorted(series)
        for first in range(0, len(ids), _SERIES_AT_ONCE):
            limits = [
                (
                    one,
                    now_us - (keep.details_us if series[one] == days.BODIES else keep.samples_us),
                    now_us - keep.summaries_us,
                )
                for one in ids[first : first + _SERIES_AT_ONCE]
            ]
            self._wait_for_turn()
            self._writer.write(_retiring(limits))

    def _next_day(self) -> int | None:
        """The day of the oldest row that is not in blocks; days without any row are skipped."""
        with self._database.reading() as connection:
            oldest = select(func.min(tables.run.c.time_us)).where(tables.run.c.time_us >= days.horizon(connection))
            first_us = connection.execute(oldest).scalar()
        return None if first_us is None else int(first_us) // DAY_US * DAY_US

    def _finish(self, day_us: int, is_wanted: Callable[[], bool]) -> bool:
        with self._database.reading() as connection:
            streams = days.streams_with_rows(connection, day_us, day_us + DAY_US)
        compressed = 0
        for first in range(0, len(streams), _STREAMS_AT_ONCE):
            if not is_wanted():
                return False
            with self._database.reading() as connection:
                read = list(_days_in_rows(connection, streams[first : first + _STREAMS_AT_ONCE], day_us))
            encoded = [days.encode_day(stream_id, day_us, day) for stream_id, day in read]
            compressed += sum(one.runs for one in encoded)
            self._wait_for_turn()
            if not self._writer.write(_writing(encoded, day_us)):
                return True

        def move(connection: Connection) -> bool:
            if days.horizon(connection) > day_us:
                return True
            # A run that arrived meanwhile is not in its block: the day is then compressed anew.
            if days.day_runs(connection, day_us, day_us + DAY_US) != compressed:
                return False
            days.move_horizon(connection, day_us + DAY_US)
            return True

        return self._writer.write(move)

    def _clear(self, is_wanted: Callable[[], bool]) -> None:
        """Delete the rows before the horizon, oldest first."""
        while is_wanted():
            with self._database.reading() as connection:
                horizon_us = days.horizon(connection)
                firsts = [
                    connection.execute(select(func.min(one.c.time_us)).where(one.c.time_us < horizon_us)).scalar()
                    for one in (tables.run, tables.sample)
                ]
            known = [int(one) for one in firsts if one is not None]
            if not known:
                return
            until_us = min(min(known) + _CLEARED_US, horizon_us)
            self._wait_for_turn()
            self._writer.write(_clearing(until_us))

    def _wait_for_turn(self) -> None:
        deadline = time.monotonic() + _LONGEST_WAIT_S
        while self._writer.waiting and time.monotonic() < deadline:
            time.sleep(0.005)


def _retiring(limits: Sequence[tuple[int, int, int]]) -> Callable[[Connection], None]:
    """Series with the moments before which their blocks and their hours' summaries go."""

    def job(connection: Connection) -> None:
        for table, at in (("block", 1), ("hour_summaries", 2)):
            connection.exec_driver_sql(
                f"DELETE FROM {table} WHERE key >= ? AND key < ?",
                [(days.block_key(one[0], 0), days.block_key(one[0], max(0, one[at]))) for one in limits],
            )

    return job


def _writing(encoded: Sequence[EncodedDay], day_us: int) -> Callable[[Connection], bool]:
    """Write blocks, unless somebody else finished the day meanwhile: its rows may be half cleared away by now."""

    def job(connection: Connection) -> bool:
        if days.horizon(connection) > day_us:
            return False
        days.write_days(connection, encoded)
        return True

    return job


def _clearing(until_us: int) -> Callable[[Connection], None]:
    def job(connection: Connection) -> None:
        for table in ("run", "sample"):
            connection.exec_driver_sql(f"DELETE FROM {table} WHERE time_us < ?", (until_us,))

    return job


def _days_in_rows(connection: Connection, streams: Sequence[int], day_us: int) -> Iterator[tuple[int, Day]]:
    """The day of each stream, from the rows of `run` and `sample`."""
    marks = ", ".join(str(int(one)) for one in streams)
    window = {"from_us": day_us, "to_us": day_us + DAY_US}
    rows = connection.execute(
        text(
            "SELECT stream_id, time_us, reason, is_generated, attempts, detail FROM run"
            f" WHERE time_us >= :from_us AND time_us < :to_us AND +stream_id IN ({marks}) ORDER BY stream_id, time_us"
        ),
        window,
    ).all()
    table = tables.series
    query = select(table.c.id, table.c.stream_id, table.c.quantity).where(table.c.stream_id.in_(streams))
    series = {series_id: (stream_id, quantity) for series_id, stream_id, quantity in connection.execute(query)}
    ids = ", ".join(str(int(one)) for one in series) or "NULL"
    found = connection.execute(
        text(
            "SELECT series_id, time_us, value FROM sample"
            f" WHERE time_us >= :from_us AND time_us < :to_us AND +series_id IN ({ids})"
        ),
        window,
    ).all()
    of_series = np.array([row[0] for row in found], dtype=np.int64)
    sample_times = np.array([row[1] for row in found], dtype=np.int64)
    sample_values = np.array([row[2] for row in found], dtype=np.float64)
    order = np.lexsort((sample_times, of_series))
    of_series, sample_times, sample_values = of_series[order], sample_times[order], sample_values[order]
    run_streams = np.array([row[0] for row in rows], dtype=np.int64)
    for stream_id in streams:
        first, last = np.searchsorted(run_streams, [stream_id, stream_id + 1])
        own = rows[first:last]
        times = np.array([row[1] for row in own], dtype=np.int64)
        values: dict[str, FloatArray] = {}
        for series_id, (owner, quantity) in series.items():
            if owner != stream_id:
                continue
            left, right = np.searchsorted(of_series, [series_id, series_id + 1])
            if left == right:
                continue
            column = np.full(times.size, np.nan)
            # Every sample was stored with its run, in one commit.
            column[np.searchsorted(times, sample_times[left:right])] = sample_values[left:right]
            values[quantity] = column
        yield (
            stream_id,
            Day(
                times,
                np.array([days.code(row[2], is_generated=bool(row[3])) for row in own], dtype=np.uint8),
                [{"attempts": orjson.loads(row[4]), "detail": orjson.loads(row[5])} for row in own],
                values,
            ),
        )

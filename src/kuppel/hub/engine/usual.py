"""What is usual for a stream: its baseline, from the hours' distributions of the six weeks before a midnight."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial

import numpy as np

from kuppel.core.baseline import Baseline, bands, hour_of_week, of_sketches
from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.core.quantity import bad_end
from kuppel.core.series import FloatArray, IntArray
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.hub.readers import Readers
from kuppel.probes.registry import KINDS
from kuppel.store import history, totals
from kuppel.store import usual as store
from kuppel.store.database import Database
from kuppel.store.usual import KeptUsual
from kuppel.store.writer import Writer

WEEKS = 6
_KEPT = 500
# A batch takes a reader half a second; questions that wait come in between.
_AT_ONCE = 12


@dataclass(frozen=True, slots=True)
class Usual:
    """Hours of a window and what is usual in each: shape (hours,) each, NaN where nothing is known."""

    starts_us: IntArray
    centre: FloatArray
    low: FloatArray
    high: FloatArray
    counts: IntArray


def usual(database: Database, joined: Joined, from_us: int, to_us: int) -> Usual:
    """The pattern over a window; it rests on what was measured before the last midnight of it, so today is no part of
    it."""
    until_us = to_us // DAY_US * DAY_US
    with database.reading() as connection:
        kept = store.usual_of(connection, [joined.stream.id]).get(joined.stream.id)
    if kept is not None and kept.until_us == until_us:
        found = kept.pattern
    else:
        found = _baseline(database, joined.stream.id, joined.main.name, until_us)
    starts = np.arange(from_us // HOUR_US * HOUR_US, to_us, HOUR_US, dtype=np.int64)
    low, high = bands(found, starts)
    hours = hour_of_week(starts)
    return Usual(starts, found.centre[hours], low, high, found.count[hours])


class UsualKeeper:
    """Finds what is usual for every stream anew when a day is over, in the background."""

    def __init__(self, database: Database, writer: Writer, readers: Readers) -> None:
        self._database = database
        self._writer = writer
        self._readers = readers

    def run(self, now_us: int, is_wanted: Callable[[], bool] = lambda: True) -> int:
        """For all streams that want it, as long as it `is_wanted`; for how many."""
        until_us = now_us // DAY_US * DAY_US
        with self._database.reading() as connection:
            waiting = store.stale(connection, until_us)
        done = 0
        while waiting and is_wanted():
            batch, waiting = waiting[:_AT_ONCE], waiting[_AT_ONCE:]
            found = self._readers.ask(found_usual, batch, until_us)
            self._writer.write(partial(store.put_usual, found=found))
            done += len(batch)
        return done


def found_usual(database: Database, stream_ids: Sequence[int], until_us: int) -> dict[int, KeptUsual]:
    """What is usual for some streams."""
    from_us = until_us - WEEKS * 7 * DAY_US
    wanted = set(stream_ids)
    kinds = {one.stream.id: KINDS[one.probe.kind] for one in joined_streams(database) if one.stream.id in wanted}
    with database.reading() as connection:
        runs = totals.run_counts(connection, list(kinds), from_us, until_us)
        packets = [(one, name) for one, kind in kinds.items() if "lost" in kind.quantities for name in ("sent", "lost")]
        told = totals.totals(connection, packets, from_us, until_us)
    found = {}
    for stream_id, kind in kinds.items():
        ok, total = runs[stream_id]
        sent = told[stream_id, "sent"].sum if (stream_id, "sent") in told else 0.0
        found[stream_id] = KeptUsual(
            until_us,
            _found(database, stream_id, kind.main, until_us),
            ok / total if total else None,
            told[stream_id, "lost"].sum / sent if sent else None,
        )
    return found


def _found(database: Database, stream_id: int, quantity: str, until_us: int) -> Baseline:
    from_us = until_us - WEEKS * 7 * DAY_US
    with database.reading() as connection:
        hours = history.summaries(connection, stream_id, quantity, from_us, until_us, is_by_day=False)
    kept = [(start, one.sketch) for start, one in hours if from_us <= start < until_us]
    starts = np.array([start for start, _ in kept], dtype=np.int64)
    return of_sketches(starts, [one for _, one in kept], bad_end(quantity, 0.95))


_baseline = lru_cache(maxsize=_KEPT)(_found)

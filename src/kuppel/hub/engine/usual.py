"""What is usual for a stream: its baseline, from the hours' distributions of the six weeks before a midnight."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial

import numpy as np

from kuppel.core.baseline import HOURS, Baseline, bands, hour_of_week, of_sketches, weekly_medians
from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.core.quantity import bad_end
from kuppel.core.series import FloatArray, IntArray
from kuppel.core.sketch import Sketch, merged, quantile
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.hub.readers import Readers
from kuppel.probes.registry import KINDS
from kuppel.store import rollup, totals
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


def usual_together(database: Database, streams: Sequence[Joined], from_us: int, to_us: int) -> Usual:
    """What is usual for the runs of some streams together: the middle and the ends (5th and 95th percentile) of their runs
    at each hour of the week, each the median of six weeks. A spread would say more of how unlike the streams are than of
    how unlike their usual selves."""
    series = tuple((one.stream.id, one.main.name) for one in streams)
    pattern, counts = _together(database, series, to_us // DAY_US * DAY_US)
    starts = np.arange(from_us // HOUR_US * HOUR_US, to_us, HOUR_US, dtype=np.int64)
    hours = hour_of_week(starts)
    low, centre, high = (column[hours] for column in pattern)
    return Usual(starts, centre, low, high, counts[hours])


@lru_cache(maxsize=_KEPT)
def _together(
    database: Database, series: tuple[tuple[int, str], ...], until_us: int
) -> tuple[tuple[FloatArray, ...], IntArray]:
    """The 5th percentile, median and 95th percentile of each hour of the week, shape (168,) each, and of how many runs."""
    from_us = until_us - WEEKS * 7 * DAY_US
    own: dict[int, list[Sketch]] = {}
    with database.reading() as connection:
        for stream_id, quantity in series:
            for start, one in rollup.summaries(connection, stream_id, quantity, from_us, until_us, is_by_day=False):
                if from_us <= start < until_us and one.sketch.count:
                    own.setdefault(start, []).append(one.sketch)
    hours = [merged(each) for each in own.values()]
    starts = np.array(list(own), dtype=np.int64)
    pattern = tuple(weekly_medians(starts, [quantile(one, share) for one in hours]) for share in (0.05, 0.5, 0.95))
    counts = np.bincount(hour_of_week(starts), [one.count for one in hours], HOURS).astype(np.int64)
    return pattern, counts


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
        hours = rollup.summaries(connection, stream_id, quantity, from_us, until_us, is_by_day=False)
    kept = [(start, one.sketch) for start, one in hours if from_us <= start < until_us]
    starts = np.array([start for start, _ in kept], dtype=np.int64)
    return of_sketches(starts, [one for _, one in kept], bad_end(quantity, 0.95))


_baseline = lru_cache(maxsize=_KEPT)(_found)

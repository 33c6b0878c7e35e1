"""Streams taken together: percentiles over the runs of all of them, and the share of runs that were ok."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core import sketch as sketches
from kuppel.core import window
from kuppel.core.duration import DAY_US
from kuppel.core.series import FloatArray, IntArray, slice_starts, slice_width
from kuppel.core.sketch import Sketch, bucket_values
from kuppel.core.window import Statistics, Summaries
from kuppel.hub.engine.joined import Joined
from kuppel.hub.engine.statistic import (
    EXACT,
    NOTHING,
    WITHIN,
    Statistic,
    is_exact,
    share_statistic,
    sketch_statistic,
    time_statistic,
)
from kuppel.store import days, history, rollup
from kuppel.store.database import Connection, Database

# Below it every sample is read, for an interval of the sample itself; beyond, distributions do.
_MOST_SAMPLES = 60_000
_MOST_RUNS_BY_HOUR = 400_000


@dataclass(frozen=True, slots=True)
class Pool:
    """Distributions of the main quantity of some streams over a window, by stream; of the samples themselves where there
    are few."""

    values: dict[int, FloatArray] | None
    sketches: dict[int, Sketch]

    def percentile(self, stream_ids: Sequence[int], share: float) -> Statistic:
        """Over the runs of some of them together."""
        if self.values is not None:
            own = [self.values[one] for one in stream_ids]
            return time_statistic(np.sort(np.concatenate(own)) if own else NOTHING[1], share)
        return sketch_statistic(sketches.merged([self.sketches[one] for one in stream_ids]), share)

    def distribution(self, stream_id: int) -> tuple[FloatArray, IntArray]:
        """Values of one stream and how many runs had each."""
        if self.values is not None:
            values = self.values[stream_id]
            return values, np.ones(values.size, dtype=np.int64)
        own = self.sketches[stream_id]
        return bucket_values(own.keys), own.counts


def pool(connection: Connection, streams: Sequence[Joined], from_us: int, to_us: int) -> Pool:
    wanted = [(one.stream.id, one.main.name) for one in streams]
    expected = sum((to_us - from_us) // one.probe.interval_us for one in streams)
    if expected <= _MOST_SAMPLES and is_exact(connection, streams, from_us, to_us):
        found = history.samples(
            connection, [stream_id for stream_id, _ in wanted], {name for _, name in wanted}, from_us, to_us
        )
        return Pool({one[0]: found.get(one, NOTHING)[1] for one in wanted}, {})
    sketched = rollup.sketches_of(connection, wanted, from_us, to_us)
    return Pool(None, {stream_id: sketched[stream_id, name] for stream_id, name in wanted})


def answered(counts: dict[int, tuple[int, int]], stream_ids: Sequence[int]) -> Statistic:
    """The share of the runs of some streams together that were ok."""
    ok, total = (sum(counts[one][at] for one in stream_ids) for at in (0, 1))
    return share_statistic(ok, total, "runs")


@dataclass(frozen=True, slots=True)
class PooledSeries:
    """Percentiles and failed runs of some streams together, in slices; columns of shape (slices,)."""

    starts_us: IntArray
    width_us: int
    columns: dict[str, FloatArray]
    method: str


_COLUMNS = Statistics(("count", "p5", "p50", "p95", "failed"))


def pooled_series(database: Database, streams: Sequence[Joined], from_us: int, to_us: int, points: int) -> PooledSeries:
    """The window in at most `points` slices: of every sample where there are few, of hours' and days' summaries beyond."""
    shortest_us = min((one.probe.interval_us for one in streams), default=to_us - from_us)
    width_us = slice_width(from_us, to_us, points, shortest_us)
    expected = sum((to_us - from_us) // one.probe.interval_us for one in streams)
    with database.reading() as connection:
        if expected <= 4 * _MOST_SAMPLES and is_exact(connection, streams, from_us, to_us):
            starts = slice_starts(from_us, to_us, width_us)
            mains = {one.stream.id: one.main.name for one in streams}
            found = history.samples(connection, list(mains), set(mains.values()), from_us, to_us)
            own = [found.get((stream_id, main), NOTHING) for stream_id, main in mains.items()] or [NOTHING]
            failed = [history.run_times(connection, one.stream.id, from_us, to_us)[1] for one in streams]
            columns = window.from_samples(
                np.concatenate([times for times, _ in own]),
                np.concatenate([values for _, values in own]),
                np.concatenate([np.empty(0, np.int64), *failed]),
                starts,
                width_us,
                _COLUMNS,
            )
            return PooledSeries(starts, width_us, columns, EXACT)
        # Hours of many streams over weeks are a hundred thousand distributions; days tell the same.
        width_us = window.summary_width(max(width_us, DAY_US if expected > _MOST_RUNS_BY_HOUR else 0))
        starts = slice_starts(from_us, to_us, width_us)
        return PooledSeries(starts, width_us, _of_summaries(connection, streams, starts, width_us), WITHIN)


def _of_summaries(
    connection: Connection, streams: Sequence[Joined], starts: IntArray, width_us: int
) -> dict[str, FloatArray]:
    first_us, end_us = int(starts[0]), int(starts[-1]) + width_us
    is_by_day = width_us % DAY_US == 0
    groups: list[list[Sketch]] = [[] for _ in range(starts.size)]
    failed = np.zeros(starts.size)
    index: list[int] = []
    counts: list[int] = []
    for one in streams:
        main = one.main.name
        for start, each in rollup.summaries(connection, one.stream.id, main, first_us, end_us, is_by_day=is_by_day):
            at = (start - first_us) // width_us
            groups[at].append(each.sketch)
            index.append(at)
            counts.append(each.count)
        for start, each in rollup.summaries(connection, one.stream.id, days.TIMES, first_us, end_us, is_by_day=is_by_day):
            failed[(start - first_us) // width_us] += each.failed
    nothing = np.empty(0)
    of = Summaries(np.array(index, np.int64), np.array(counts, np.int64), nothing, nothing, nothing)
    return window.from_summaries(of, [sketches.merged(each) for each in groups], failed, _COLUMNS)

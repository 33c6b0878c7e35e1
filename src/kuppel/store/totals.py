"""Counts, sums and greatest values of series over windows: what takes no distribution, and is exact."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
from sqlalchemy import Connection

from kuppel.core.duration import DAY_US
from kuppel.core.series import FloatArray
from kuppel.store import days, tables, tail
from kuppel.store.rollup import edges, whole_days


@dataclass(slots=True)
class Totals:
    """How many values, how many runs that failed, the sum and the greatest of a series over a window: what takes no
    distribution. Failed runs are counted for `days.TIMES` alone."""

    count: int = 0
    failed: int = 0
    sum: float = 0.0
    most: float | None = None

    def add(self, count: int, failed: int, total: float, most: float | None) -> None:
        self.count += count
        self.failed += failed
        self.sum += total
        if most is not None:
            self.most = most if self.most is None else max(self.most, most)

    def add_values(self, values: FloatArray) -> None:
        if values.size:
            self.add(values.size, 0, float(values.sum()), float(values.max()))


def totals(
    connection: Connection, wanted: Collection[tuple[int, str]], from_us: int, to_us: int
) -> dict[tuple[int, str], Totals]:
    """Of series (stream, quantity) over a window, exact."""
    horizon_us = days.horizon(connection)
    found = _finished_totals(connection, wanted, from_us, min(to_us, horizon_us))
    keys = _series_of(connection, wanted)
    for series, (_, values) in tail.samples(connection, list(keys), max(from_us, horizon_us), to_us).items():
        found[keys[series]].add_values(values)
    return found


def _series_of(connection: Connection, wanted: Collection[tuple[int, str]]) -> dict[int, tuple[int, str]]:
    asked = set(wanted)
    found = days.series_of(connection, {one for one, _ in wanted}, {name for _, name in wanted})
    return {series: one for series, one in found.items() if one in asked}


def _finished_totals(
    connection: Connection, wanted: Collection[tuple[int, str]], from_us: int, to_us: int
) -> dict[tuple[int, str], Totals]:
    found = {one: Totals() for one in wanted}
    keys = _series_of(connection, wanted)
    columns = ["count", "failed", "sum", "max"]
    for key, *row in days.rows_of(connection, tables.day_summary, columns, list(keys), *whole_days(from_us, to_us)):
        found[keys[days.key_series(key)]].add(*row)
    streams, names = {one for one, _ in wanted}, {name for _, name in wanted}
    for start, end in edges(from_us, to_us):
        read = days.read_days_of(connection, streams, {days.CODES, *names}, start, end)
        for (stream_id, name), own in found.items():
            day = read[stream_id].get(start // DAY_US * DAY_US)
            if day is None:
                continue
            inside = (day.times_us >= start) & (day.times_us < end)
            if name == days.TIMES:
                own.add(int(inside.sum()), int((day.is_failed & inside).sum()), 0.0, None)
            elif name in day.values:
                values = day.values[name][inside]
                own.add_values(values[~np.isnan(values)])
    return found


def run_counts(connection: Connection, stream_ids: Collection[int], from_us: int, to_us: int) -> dict[int, tuple[int, int]]:
    """(ok runs, all runs) per stream."""
    return run_counts_since(connection, stream_ids, [from_us], to_us)[0]


def run_counts_since(
    connection: Connection, stream_ids: Collection[int], starts_us: Sequence[int], to_us: int
) -> list[dict[int, tuple[int, int]]]:
    """(ok runs, all runs) per stream since each of some moments; what several of them hold is read once."""
    horizon_us = days.horizon(connection)
    in_rows = tail.run_counts_since(connection, [max(one, horizon_us) for one in starts_us], to_us)
    found = []
    for start_us, rows in zip(starts_us, in_rows, strict=True):
        counts = {stream_id: rows.get(stream_id, (0, 0)) for stream_id in stream_ids}
        if start_us < horizon_us:
            wanted = [(one, days.TIMES) for one in stream_ids]
            for (stream_id, _), own in _finished_totals(connection, wanted, start_us, min(to_us, horizon_us)).items():
                ok, total = counts[stream_id]
                counts[stream_id] = (ok + own.count - own.failed, total + own.count)
        found.append(counts)
    return found

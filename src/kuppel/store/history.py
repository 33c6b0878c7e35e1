"""Reading what was measured: runs, samples, facts, over windows [from_us, to_us)."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import Connection, Row, bindparam, func, select, text

from kuppel.core import sketch as sketches
from kuppel.core.series import FloatArray, IntArray
from kuppel.core.sketch import Sketch
from kuppel.store import block, days, summary, tables


@dataclass(frozen=True, slots=True)
class StoredRun:
    """One run as kept, with its samples."""

    time_us: int
    stream_id: int
    reason: str | None
    is_generated: bool
    attempts: list[dict[str, Any]]
    detail: dict[str, Any]
    quantities: Mapping[str, float]


@dataclass(frozen=True, slots=True)
class StoredFact:
    name: str
    value: str
    from_us: int


def run_counts(connection: Connection, stream_ids: Collection[int], from_us: int, to_us: int) -> dict[int, tuple[int, int]]:
    """(ok runs, all runs) per stream."""
    counts = dict.fromkeys(stream_ids, (0, 0))
    horizon_us = days.horizon(connection)
    table = tables.run
    query = (
        select(table.c.stream_id, func.count() - func.count(table.c.reason), func.count())
        .where(table.c.time_us >= max(from_us, horizon_us), table.c.time_us < to_us)
        .group_by(table.c.stream_id)
    )
    for stream_id, ok, total in connection.execute(query):
        if stream_id in counts:
            counts[stream_id] = (ok, total)
    if from_us < horizon_us:
        for stream_id, (ok, total) in counts.items():
            found = finished_summaries(connection, stream_id, days.TIMES, from_us, min(to_us, horizon_us))
            runs_before = sum(one.count for one in found)
            counts[stream_id] = (ok + runs_before - sum(one.failed for one in found), total + runs_before)
    return counts


def finished_summaries(
    connection: Connection, stream_id: int, quantity: str, from_us: int, to_us: int
) -> list[summary.Summary]:
    """Summaries that together make up a window before the horizon: whole days, whole hours, and the edges from samples.

    The counts are exact; percentiles of the merged sketch are within 1 %.
    """
    series = next(iter(days.series_of(connection, [stream_id], [quantity])), None)
    if series is None or to_us <= from_us:
        return []
    found = list(day_summaries(connection, series, from_us, to_us).values())
    for start, end in _edges(from_us, to_us):
        day_us = start // days.DAY_US * days.DAY_US
        day = days.read_days(connection, stream_id, [quantity, days.CODES], start, end).get(day_us)
        if day is None:
            continue
        inside = (day.times_us >= start) & (day.times_us < end)
        values = np.zeros(day.times_us.size) if quantity == days.TIMES else day.values.get(quantity)
        if values is not None:
            kept = inside & ~np.isnan(values)
            failed_us = day.times_us[inside & day.is_failed]
            found += summary.hours_of(day_us, day.times_us[kept], values[kept], failed_us).values()
    return found


def sketches_of(connection: Connection, wanted: Mapping[int, str], from_us: int, to_us: int) -> dict[int, Sketch]:
    """The distribution of one quantity of each wanted stream over a window, from summaries where days are finished.

    Parameters
    ----------
    wanted : the quantity by stream.
    """
    horizon_us = days.horizon(connection)
    by_stream: dict[int, list[Sketch]] = {stream_id: [] for stream_id in wanted}
    for quantity in set(wanted.values()):
        streams = [stream_id for stream_id, one in wanted.items() if one == quantity]
        for (stream_id, _), (_, values) in _samples_in_rows(
            connection, streams, [quantity], max(from_us, horizon_us), to_us
        ).items():
            by_stream[stream_id].append(sketches.sketch(values))
    whole = _whole_days(from_us, min(to_us, horizon_us))
    series = {
        series_id: stream_id
        for series_id, (stream_id, quantity) in days.series_of(connection, wanted, set(wanted.values())).items()
        if wanted[stream_id] == quantity
    }
    numbers = {stream_id: number for number, stream_id in enumerate(wanted)}
    packed: list[bytes] = []
    groups: list[int] = []
    edges = _edges(from_us, min(to_us, horizon_us))
    # The driver's own cursor: over thousands of series, all that stands above it costs more than the reading.
    cursor = connection.connection.cursor()
    for series_id, stream_id in series.items():
        keys = (days.block_key(series_id, whole[0]), days.block_key(series_id, whole[1]))
        rows = cursor.execute("SELECT sketch FROM day_summary WHERE key >= ? AND key < ?", keys).fetchall()
        packed += [row[0] for row in rows]
        groups += [numbers[stream_id]] * len(rows)
        for start_us, end_us in edges:
            found = finished_summaries(connection, stream_id, wanted[stream_id], start_us, end_us)
            packed += [sketches.encode(one.sketch) for one in found]
            groups += [numbers[stream_id]] * len(found)
        packed += [sketches.encode(one) for one in by_stream[stream_id]]
        groups += [numbers[stream_id]] * len(by_stream[stream_id])
    cursor.close()
    merged = sketches.merged_octets(packed, np.array(groups, dtype=np.int64), len(numbers))
    return {stream_id: merged[number] for stream_id, number in numbers.items()}


def _whole_days(from_us: int, to_us: int) -> tuple[int, int]:
    """From where to where a window holds whole days; nothing when the two meet."""
    first_us = -(-from_us // days.DAY_US) * days.DAY_US
    return first_us, max(first_us, to_us // days.DAY_US * days.DAY_US)


def _edges(from_us: int, to_us: int) -> list[tuple[int, int]]:
    """What whole days leave of a window: pieces of at most two days."""
    first_us, last_us = _whole_days(from_us, to_us)
    if first_us == last_us:
        midnight_us = to_us // days.DAY_US * days.DAY_US
        pieces = [(from_us, midnight_us), (midnight_us, to_us)] if from_us < midnight_us else [(from_us, to_us)]
    else:
        pieces = [(from_us, first_us), (last_us, to_us)]
    return [(start, end) for start, end in pieces if start < end]


def day_summaries(connection: Connection, series_id: int, from_us: int, to_us: int) -> dict[int, summary.Summary]:
    """The summaries of the whole days in a window, by the day's start."""
    first_us, last_us = _whole_days(from_us, to_us)
    # Plain SQL: over thousands of series the making of statements would cost more than the reading.
    rows = connection.exec_driver_sql(
        "SELECT key, count, failed, sum, min, max, sketch FROM day_summary WHERE key >= ? AND key < ?",
        (days.block_key(series_id, first_us), days.block_key(series_id, last_us)),
    ).all()
    return {
        days.key_day(key): summary.Summary(count, failed, total, least, most, sketches.decode(packed))
        for key, count, failed, total, least, most, packed in rows
    }


def run_times(connection: Connection, stream_id: int, from_us: int, to_us: int) -> tuple[IntArray, IntArray]:
    """Times of the runs that were ok, and of those that failed."""
    horizon_us = days.horizon(connection)
    table = tables.run
    rows = connection.execute(
        select(table.c.time_us, table.c.reason.is_(None))
        .where(table.c.time_us >= max(from_us, horizon_us), table.c.time_us < to_us, table.c.stream_id == stream_id)
        .order_by(table.c.time_us)
    ).all()
    finished = days.read_days(connection, stream_id, [days.CODES], from_us, to_us).values()
    times = np.concatenate([*(day.times_us for day in finished), np.array([row[0] for row in rows], dtype=np.int64)])
    is_ok = np.concatenate([*(~day.is_failed for day in finished), np.array([bool(row[1]) for row in rows], dtype=bool)])
    inside = (times >= from_us) & (times < to_us)
    return times[inside & is_ok], times[inside & ~is_ok]


def samples(
    connection: Connection, stream_ids: Collection[int], quantities: Collection[str], from_us: int, to_us: int
) -> dict[tuple[int, str], tuple[IntArray, FloatArray]]:
    """Times and values of each wanted series that has any, in time order."""
    horizon_us = days.horizon(connection)
    found = _samples_in_rows(connection, stream_ids, quantities, max(from_us, horizon_us), to_us)
    if from_us < horizon_us:
        for stream_id in stream_ids:
            finished = days.read_days(connection, stream_id, quantities, from_us, to_us).values()
            for quantity in quantities:
                parts = [
                    (day.times_us[present], values[present])
                    for day in finished
                    if (values := day.values.get(quantity)) is not None
                    for present in [~np.isnan(values) & (day.times_us >= from_us) & (day.times_us < to_us)]
                ]
                if (stream_id, quantity) in found:
                    parts.append(found[stream_id, quantity])
                times = np.concatenate([times for times, _ in parts]) if parts else np.empty(0, dtype=np.int64)
                if times.size:
                    found[stream_id, quantity] = (times, np.concatenate([values for _, values in parts]))
    return found


def _samples_in_rows(
    connection: Connection, stream_ids: Collection[int], quantities: Collection[str], from_us: int, to_us: int
) -> dict[tuple[int, str], tuple[IntArray, FloatArray]]:
    keys = days.series_of(connection, stream_ids, quantities)
    if not keys or to_us <= from_us:
        return {}
    # The unary plus keeps SQLite on the time range: one pass over the window instead of a seek per series and time.
    query = text(
        "SELECT time_us, series_id, value FROM sample WHERE time_us >= :from_us AND time_us < :to_us"
        " AND +series_id IN :series ORDER BY time_us"
    ).bindparams(bindparam("series", expanding=True))
    rows = connection.execute(query, {"from_us": from_us, "to_us": to_us, "series": list(keys)}).all()
    if not rows:
        return {}
    columns = list(zip(*rows, strict=True))
    times = np.array(columns[0], dtype=np.int64)
    series = np.array(columns[1], dtype=np.int64)
    values = np.array(columns[2], dtype=np.float64)
    found = {}
    for series_id in np.unique(series):
        mask = series == series_id
        found[keys[int(series_id)]] = (times[mask], values[mask])
    return found


def runs(
    connection: Connection, stream_id: int, from_us: int, to_us: int, limit: int, *, is_failed_only: bool = False
) -> list[StoredRun]:
    """The newest runs of a stream in the window, newest first, with their samples."""
    horizon_us = days.horizon(connection)
    table = tables.run
    query = (
        select(table)
        .where(table.c.stream_id == stream_id, table.c.time_us >= max(from_us, horizon_us), table.c.time_us < to_us)
        .order_by(table.c.time_us.desc())
        .limit(limit)
    )
    if is_failed_only:
        query = query.where(table.c.reason.is_not(None))
    found = _with_samples(connection, stream_id, connection.execute(query).all())
    if from_us >= horizon_us or len(found) >= limit:
        return found
    for day_us in reversed(_finished_days(connection, stream_id, from_us, min(to_us, horizon_us))):
        finished = _finished_runs(connection, stream_id, day_us)
        wanted = [one for one in finished if from_us <= one.time_us < to_us and not (is_failed_only and one.reason is None)]
        found += wanted[::-1][: limit - len(found)]
        if len(found) >= limit:
            break
    return found


def _finished_days(connection: Connection, stream_id: int, from_us: int, to_us: int) -> list[int]:
    """Starts of the finished days in which a stream has runs, oldest first."""
    series = next(iter(days.series_of(connection, [stream_id], [days.TIMES])), None)
    return [] if series is None else sorted(days.payloads(connection, tables.hour_summaries, series, from_us, to_us))


def _finished_runs(connection: Connection, stream_id: int, day_us: int) -> list[StoredRun]:
    """The runs of one finished day, oldest first."""
    names = connection.execute(select(tables.series.c.quantity).where(tables.series.c.stream_id == stream_id)).scalars()
    day = days.read_days(connection, stream_id, list(names), day_us, day_us + days.DAY_US).get(day_us)
    if day is None:
        return []
    found = []
    for index, (time_us, run_code) in enumerate(zip(day.times_us.tolist(), day.codes.tolist(), strict=True)):
        body = day.bodies[index] if day.bodies else {"attempts": [], "detail": {}}
        quantities = {name: float(one[index]) for name, one in day.values.items() if not np.isnan(one[index])}
        found.append(
            StoredRun(
                time_us,
                stream_id,
                days.reason_of(run_code),
                bool(day.is_generated[index]),
                body["attempts"],
                body["detail"],
                quantities,
            )
        )
    return found


def _with_samples(connection: Connection, stream_id: int, rows: Sequence[Row[Any]]) -> list[StoredRun]:
    if not rows:
        return []
    measured: dict[int, dict[str, float]] = {}
    sample, series = tables.sample, tables.series
    times = [row.time_us for row in rows]
    query = (
        select(sample.c.time_us, series.c.quantity, sample.c.value)
        .join(series, series.c.id == sample.c.series_id)
        .where(series.c.stream_id == stream_id, sample.c.time_us >= min(times), sample.c.time_us <= max(times))
    )
    for time_us, quantity, value in connection.execute(query):
        measured.setdefault(time_us, {})[quantity] = value
    return [
        StoredRun(
            row.time_us,
            row.stream_id,
            row.reason,
            row.is_generated,
            row.attempts,
            row.detail,
            measured.get(row.time_us, {}),
        )
        for row in rows
    ]


def runs_after(connection: Connection, stream_id: int, after_us: int, limit: int) -> list[StoredRun]:
    """The first runs of a stream after a moment, oldest first: what a judgement missed."""
    horizon_us = days.horizon(connection)
    found: list[StoredRun] = []
    for day_us in _finished_days(connection, stream_id, after_us + 1, horizon_us):
        found += [one for one in _finished_runs(connection, stream_id, day_us) if one.time_us > after_us]
        if len(found) >= limit:
            return found[:limit]
    table = tables.run
    query = select(table).where(table.c.stream_id == stream_id, table.c.time_us > max(after_us, horizon_us - 1))
    rows = connection.execute(query.order_by(table.c.time_us).limit(limit - len(found))).all()
    return found + _with_samples(connection, stream_id, rows)


def facts(connection: Connection, stream_id: int, to_us: int) -> list[StoredFact]:
    """All values that each fact had until `to_us`, oldest first."""
    table = tables.fact
    rows = connection.execute(
        select(table.c.name, table.c.value, table.c.from_us)
        .where(table.c.stream_id == stream_id, table.c.from_us < to_us)
        .order_by(table.c.name, table.c.from_us)
    )
    return [StoredFact(*row) for row in rows]


def runs_per_slice(connection: Connection, starts_us: IntArray, width_us: int, from_us: int, to_us: int) -> IntArray:
    """How many runs of the window fall into each slice; counted in SQL, since a window may hold millions.

    Before the horizon, slices of an hour or more are counted from the hours' summaries, each by its start.
    """
    counts = np.zeros(starts_us.size, dtype=np.int64)
    horizon_us = days.horizon(connection)
    table = tables.run
    slice_us = table.c.time_us - table.c.time_us % width_us
    rows = connection.execute(
        select(slice_us, func.count())
        .where(table.c.time_us >= max(from_us, horizon_us), table.c.time_us < to_us)
        .group_by(slice_us)
    )
    for start_us, count in rows:
        counts[(start_us - int(starts_us[0])) // width_us] += count
    if from_us < horizon_us:
        for times, weights in _finished_counts(connection, width_us, from_us, min(to_us, horizon_us)):
            inside = (times >= from_us) & (times < to_us)
            np.add.at(counts, (times[inside] - starts_us[0]) // width_us, weights[inside])
    return counts


def _finished_counts(
    connection: Connection, width_us: int, from_us: int, to_us: int
) -> Iterator[tuple[IntArray, IntArray]]:
    """Times before the horizon and how many runs each stands for."""
    query = select(tables.series.c.id).where(tables.series.c.quantity == days.TIMES)
    for series in connection.execute(query).scalars().all():
        is_by_hour = width_us >= summary.HOUR_US
        table = tables.hour_summaries if is_by_hour else tables.block
        for day_us, payload in days.payloads(connection, table, series, from_us, to_us).items():
            try:
                if is_by_hour:
                    hours, counts = summary.hour_counts(payload)
                    yield day_us + hours * summary.HOUR_US, counts
                else:
                    times = block.decode_times(payload)
                    yield times, np.ones(times.size, dtype=np.int64)
            except block.BlockDamaged:
                continue


def run_count(connection: Connection, from_us: int, to_us: int) -> int:
    """How many runs were measured in the window, of those that still lie in rows: for windows that reach now."""
    return days.day_runs(connection, from_us, to_us)


def span(connection: Connection) -> tuple[int | None, int | None]:
    """The first and the last time at which anything was measured; of finished days, the first to the day."""
    table = tables.run
    horizon_us = days.horizon(connection)
    first = connection.execute(select(func.min(table.c.time_us)).where(table.c.time_us >= horizon_us)).scalar()
    last = connection.execute(select(func.max(table.c.time_us)).where(table.c.time_us >= horizon_us)).scalar()
    if horizon_us:
        day = tables.hour_summaries.c.key % days.KEY_DAYS
        oldest, newest = connection.execute(select(func.min(day), func.max(day))).one()
        if oldest is not None:
            first = oldest * days.DAY_US
            last = last if last is not None else (newest + 1) * days.DAY_US - 1
    return first, last


def has_generated(connection: Connection, stream_id: int, from_us: int, to_us: int) -> bool:
    """Whether any run of a stream in the window was made up rather than measured."""
    horizon_us = days.horizon(connection)
    table = tables.run
    query = select(table.c.time_us).where(
        table.c.time_us >= max(from_us, horizon_us),
        table.c.time_us < to_us,
        table.c.stream_id == stream_id,
        table.c.is_generated,
    )
    if connection.execute(query.limit(1)).first() is not None:
        return True
    finished = days.read_days(connection, stream_id, [days.CODES], from_us, to_us).values()
    return any(bool((day.is_generated & (day.times_us >= from_us) & (day.times_us < to_us)).any()) for day in finished)

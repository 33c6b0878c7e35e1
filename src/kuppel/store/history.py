"""Reading what was measured: runs, samples, facts, over windows [from_us, to_us)."""

import contextlib
import itertools
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, select

from kuppel.core import sketch as sketches
from kuppel.core.duration import DAY_US, HOUR_US, MINUTE_US
from kuppel.core.series import FloatArray, IntArray
from kuppel.core.sketch import Sketch
from kuppel.store import block, days, summary, tables, tail
from kuppel.store.summary import Summary
from kuppel.store.tail import TailRun

_FOREVER_US = 2**62
_SERIES_AT_ONCE = 12
_NOTHING = (np.empty(0, dtype=np.int64), np.empty(0))


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
    """A value that held from a moment until another; `until_us` is None while it holds."""

    name: str
    value: str
    from_us: int
    until_us: int | None


def finished_summaries(
    connection: Connection, wanted: Mapping[int, str], from_us: int, to_us: int
) -> dict[int, list[Summary]]:
    """Summaries that together make up a window before the horizon: whole days, and the edges from samples.

    The counts are exact; percentiles of the merged sketch are within 1 %.

    Parameters
    ----------
    wanted : the quantity by stream.
    """
    found: dict[int, list[Summary]] = {stream_id: [] for stream_id in wanted}
    for day in day_summaries(connection, wanted, *whole_days(from_us, to_us)):
        found[day.stream_id].append(day.summary)
    for start, end in edges(from_us, to_us):
        read = days.read_days_of(connection, wanted, {days.CODES, *wanted.values()}, start, end)
        for stream_id, quantity in wanted.items():
            found[stream_id] += _edge_summaries(read[stream_id], quantity, start, end)
    return found


def whole_summaries(connection: Connection, wanted: Mapping[int, str], from_us: int, to_us: int) -> dict[int, Summary]:
    """One summary of the whole window for each stream's wanted quantity; failed runs of the tail are not counted in it."""
    horizon_us = days.horizon(connection)
    found = finished_summaries(connection, wanted, from_us, min(to_us, horizon_us))
    keys = days.series_of(connection, wanted, set(wanted.values()))
    for series, (_, values) in tail.samples(connection, keys, max(from_us, horizon_us), to_us).items():
        stream_id, quantity = keys[series]
        if wanted[stream_id] == quantity:
            found[stream_id].append(summary.of_values(values, 0))
    return {stream_id: summary.merged(pieces) for stream_id, pieces in found.items()}


def _edge_summaries(read: Mapping[int, days.Day], quantity: str, start: int, end: int) -> list[Summary]:
    """Summaries of a piece of one finished day, from its samples."""
    day_us = start // DAY_US * DAY_US
    day = read.get(day_us)
    if day is None:
        return []
    inside = (day.times_us >= start) & (day.times_us < end)
    values = np.zeros(day.times_us.size) if quantity == days.TIMES else day.values.get(quantity)
    if values is None:
        return []
    kept = inside & ~np.isnan(values)
    failed_us = day.times_us[inside & day.is_failed]
    return list(summary.hours_of(day_us, day.times_us[kept], values[kept], failed_us).values())


def sketches_of(
    connection: Connection, wanted: Collection[tuple[int, str]], from_us: int, to_us: int
) -> dict[tuple[int, str], Sketch]:
    """The distributions of series (stream, quantity) over a window, from summaries where days are finished."""
    horizon_us = days.horizon(connection)
    numbers = {one: number for number, one in enumerate(wanted)}
    streams, names = {stream_id for stream_id, _ in wanted}, {name for _, name in wanted}
    found = days.series_of(connection, streams, names)
    keys = {series: numbers[one] for series, one in found.items() if one in numbers}
    packed: list[bytes] = []
    groups: list[int] = []
    first_us, last_us = whole_days(from_us, min(to_us, horizon_us))
    rows = days.rows_of(connection, tables.day_summary, ["sketch"], keys, first_us, last_us)
    packed += [row[1] for row in rows]
    groups += days.groups_of(rows, keys)
    for series, (_, values) in tail.samples(connection, keys, max(from_us, horizon_us), to_us).items():
        packed.append(sketches.encode(sketches.sketch(values)))
        groups.append(keys[series])
    for start, end in edges(from_us, min(to_us, horizon_us)):
        read = days.read_days_of(connection, streams, names, start, end)
        for (stream_id, quantity), number in numbers.items():
            pieces = _edge_summaries(read[stream_id], quantity, start, end)
            packed += [sketches.encode(one.sketch) for one in pieces]
            groups += [number] * len(pieces)
    merged = sketches.merged_octets(packed, np.array(groups, dtype=np.int64), len(numbers))
    return {one: merged[number] for one, number in numbers.items()}


def whole_days(from_us: int, to_us: int) -> tuple[int, int]:
    """From where to where a window holds whole days; nothing when the two meet."""
    first_us = -(-from_us // DAY_US) * DAY_US
    return first_us, max(first_us, to_us // DAY_US * DAY_US)


def edges(from_us: int, to_us: int) -> list[tuple[int, int]]:
    """What whole days leave of a window: pieces of at most two days."""
    first_us, last_us = whole_days(from_us, to_us)
    if first_us == last_us:
        midnight_us = to_us // DAY_US * DAY_US
        pieces = [(from_us, midnight_us), (midnight_us, to_us)] if from_us < midnight_us else [(from_us, to_us)]
    else:
        pieces = [(from_us, first_us), (last_us, to_us)]
    return [(start, end) for start, end in pieces if start < end]


@dataclass(frozen=True, slots=True)
class DaySummary:
    stream_id: int
    day_us: int
    summary: Summary


def day_summaries(connection: Connection, wanted: Mapping[int, str], from_us: int, to_us: int) -> Iterator[DaySummary]:
    """Summaries of the finished days that touch a window, of one quantity of each wanted stream."""
    series = {
        one: stream_id
        for one, (stream_id, quantity) in days.series_of(connection, wanted, set(wanted.values())).items()
        if wanted[stream_id] == quantity
    }
    columns = ["count", "failed", "sum", "min", "max", "sketch"]
    for key, count, failed, total, least, most, packed in days.rows_of(
        connection, tables.day_summary, columns, series, from_us, to_us
    ):
        told = Summary(count, failed, total, least, most, sketches.decode(packed))
        yield DaySummary(series[days.key_series(key)], days.key_day(key), told)


def summaries(
    connection: Connection, stream_id: int, quantity: str, from_us: int, to_us: int, *, is_by_day: bool
) -> list[tuple[int, Summary]]:
    """Starts and summaries of the whole hours (or days) that touch a window, for one quantity of a stream.

    Of finished days they are read, of the days since they are made. Failed runs are counted by the summaries of
    `days.TIMES` alone: a day on which every run failed has none of any other quantity.
    """
    horizon_us = days.horizon(connection)
    found: list[tuple[int, Summary]] = []
    if is_by_day:
        kept = day_summaries(connection, {stream_id: quantity}, from_us, to_us)
        found += [(one.day_us, one.summary) for one in kept]
    else:
        series = list(days.series_of(connection, [stream_id], [quantity]))
        for key, payload in days.rows_of(connection, tables.hour_summaries, ["payload"], series, from_us, to_us):
            try:
                hours = summary.decode_hours(payload)
            except block.BlockDamaged:
                continue
            starts = [(days.key_day(key) + hour * HOUR_US, one) for hour, one in hours.items()]
            found += [one for one in starts if from_us - HOUR_US < one[0] < to_us]
    start_us = max(from_us // DAY_US * DAY_US, horizon_us)
    keys = days.series_of(connection, [stream_id], [quantity])
    times, values = next(iter(tail.samples(connection, keys, start_us, to_us).values()), _NOTHING)
    if quantity == days.TIMES:
        times, is_ok = tail.run_times(connection, stream_id, start_us, to_us)
        values, failed_us = np.zeros(times.size), times[~is_ok]
    else:
        failed_us = _NOTHING[0]
    for day_us in np.unique(times // DAY_US * DAY_US).tolist():
        own = (times >= day_us) & (times < day_us + DAY_US)
        failed = failed_us[(failed_us >= day_us) & (failed_us < day_us + DAY_US)]
        hours = summary.hours_of(day_us, times[own], values[own], failed)
        if is_by_day:
            found.append((day_us, summary.merged(list(hours.values()))))
        else:
            starts = [(day_us + hour * HOUR_US, one) for hour, one in hours.items()]
            found += [one for one in starts if one[0] > from_us - HOUR_US]
    return found


def is_retired(connection: Connection, from_us: int) -> bool:
    """Whether samples since a moment are no longer kept, so that only summaries tell of them."""
    horizon_us = days.horizon(connection)
    known = days.first_day(connection)
    if known is None or known >= horizon_us:
        return False
    sampled = days.first_day_of(connection, tables.block)
    kept_from_us = horizon_us if sampled is None else sampled
    return known < kept_from_us and from_us < kept_from_us


def run_times(connection: Connection, stream_id: int, from_us: int, to_us: int) -> tuple[IntArray, IntArray]:
    """Times of the runs that were ok, and of those that failed."""
    times, is_ok = tail.run_times(connection, stream_id, max(from_us, days.horizon(connection)), to_us)
    finished = days.read_days(connection, stream_id, [days.CODES], from_us, to_us).values()
    times = np.concatenate([*(day.times_us for day in finished), times])
    is_ok = np.concatenate([*(~day.is_failed for day in finished), is_ok])
    inside = (times >= from_us) & (times < to_us)
    return times[inside & is_ok], times[inside & ~is_ok]


def samples(
    connection: Connection, stream_ids: Collection[int], quantities: Collection[str], from_us: int, to_us: int
) -> dict[tuple[int, str], tuple[IntArray, FloatArray]]:
    """Times and values of each wanted series that has any, in time order."""
    horizon_us = days.horizon(connection)
    keys = days.series_of(connection, stream_ids, quantities)
    in_rows = tail.samples(connection, keys, max(from_us, horizon_us), to_us)
    found = {keys[one]: measured for one, measured in in_rows.items()}
    if from_us < horizon_us:
        for stream_id, read in days.read_days_of(connection, stream_ids, quantities, from_us, to_us).items():
            finished = read.values()
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


@dataclass(frozen=True, slots=True)
class RunColumns:
    """Runs of one stream in columns, in the order of time: NaN where a run has no value."""

    times_us: IntArray
    reasons: list[str | None]
    is_generated: NDArray[np.bool_]
    values: Mapping[str, FloatArray]


def runs_in_columns(
    connection: Connection, stream_id: int, quantities: Collection[str], from_us: int, to_us: int
) -> RunColumns:
    """All runs of a stream in a window, without what explains them."""
    horizon_us = days.horizon(connection)
    finished = days.read_days(connection, stream_id, {days.CODES, *quantities}, from_us, to_us).values()
    tail_from_us = max(from_us, horizon_us)
    tail_times, tail_reasons, tail_made = tail.run_outcomes(connection, stream_id, tail_from_us, to_us)
    keys = days.series_of(connection, [stream_id], quantities)
    measured = tail.samples(connection, keys, tail_from_us, to_us)
    times = np.concatenate([*(day.times_us for day in finished), tail_times])
    reasons = [days.reason_of(code) for day in finished for code in day.codes.tolist()] + tail_reasons
    made = np.concatenate([*(day.is_generated for day in finished), tail_made])
    values = {}
    for series, (_, name) in keys.items():
        own = np.full(tail_times.size, np.nan)
        if series in measured:
            own[np.searchsorted(tail_times, measured[series][0])] = measured[series][1]
        values[name] = np.concatenate(
            [*(day.values.get(name, np.full(day.times_us.size, np.nan)) for day in finished), own]
        )
    inside = np.flatnonzero((times >= from_us) & (times < to_us))
    return RunColumns(
        times[inside],
        [reasons[at] for at in inside.tolist()],
        made[inside],
        {name: column[inside] for name, column in values.items()},
    )


def runs(
    connection: Connection, stream_id: int, from_us: int, to_us: int, limit: int, *, is_failed_only: bool = False
) -> list[StoredRun]:
    """The newest runs of a stream in the window, newest first, with their samples."""
    horizon_us = days.horizon(connection)
    rows = tail.newest_runs(connection, stream_id, max(from_us, horizon_us), to_us, limit, is_failed_only=is_failed_only)
    found = _with_samples(connection, stream_id, rows)
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
    series = list(days.series_of(connection, [stream_id], [days.TIMES]))
    rows = days.rows_of(connection, tables.day_summary, [], series, from_us, to_us)
    return [days.key_day(row[0]) for row in rows]


def _finished_runs(connection: Connection, stream_id: int, day_us: int) -> list[StoredRun]:
    """The runs of one finished day, oldest first."""
    names = connection.execute(select(tables.series.c.quantity).where(tables.series.c.stream_id == stream_id)).scalars()
    day = days.read_days(connection, stream_id, list(names), day_us, day_us + DAY_US).get(day_us)
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


def _with_samples(connection: Connection, stream_id: int, rows: Sequence[TailRun]) -> list[StoredRun]:
    if not rows:
        return []
    times = [row.time_us for row in rows]
    table = tables.series
    query = select(table.c.id, table.c.quantity).where(table.c.stream_id == stream_id)
    names = {row.id: row.quantity for row in connection.execute(query)}
    measured: dict[int, dict[str, float]] = {}
    for series, (of, values) in tail.samples(connection, names, min(times), max(times) + 1).items():
        for time_us, value in zip(of.tolist(), values.tolist(), strict=True):
            measured.setdefault(time_us, {})[names[series]] = value
    return [
        StoredRun(
            row.time_us,
            row.stream_id,
            row.reason,
            row.is_generated,
            row.body["attempts"],
            row.body["detail"],
            measured.get(row.time_us, {}),
        )
        for row in rows
    ]


def runs_after(connection: Connection, stream_id: int, after_us: int, limit: int) -> list[StoredRun]:
    """The first runs of a stream after a moment, oldest first: what a judgement missed."""
    horizon_us = days.horizon(connection)
    found: list[StoredRun] = []
    # Times alone first: mostly nothing was missed, and then nothing else need be read.
    for day_us, day in days.read_days(connection, stream_id, [], after_us + 1, horizon_us).items():
        if day.times_us[-1] <= after_us:
            continue
        found += [one for one in _finished_runs(connection, stream_id, day_us) if one.time_us > after_us]
        if len(found) >= limit:
            return found[:limit]
    rows = tail.oldest_runs(connection, stream_id, max(after_us + 1, horizon_us), _FOREVER_US, limit - len(found))
    return found + _with_samples(connection, stream_id, rows)


def facts(connection: Connection, stream_id: int, to_us: int) -> list[StoredFact]:
    """All values that each fact had before `to_us`, by name and time."""
    table = tables.fact
    rows = connection.execute(
        select(table.c.name, table.c.value, table.c.from_us)
        .where(table.c.stream_id == stream_id, table.c.from_us < to_us)
        .order_by(table.c.name, table.c.from_us)
    )
    found = [StoredFact(row.name, row.value, row.from_us, None) for row in rows]
    for at, (one, following) in enumerate(itertools.pairwise(found)):
        if one.name == following.name:
            found[at] = replace(one, until_us=following.from_us)
    return found


def newest_facts(connection: Connection, name: str) -> dict[int, str]:
    """What a fact says now, by stream."""
    table = tables.fact
    rows = connection.execute(
        select(table.c.stream_id, table.c.value).where(table.c.name == name).order_by(table.c.from_us)
    )
    return {row.stream_id: row.value for row in rows}


def runs_per_slice(connection: Connection, starts_us: IntArray, width_us: int, from_us: int, to_us: int) -> IntArray:
    """How many runs of the window fall into each slice; for windows of some hours."""
    counts = np.zeros(starts_us.size, dtype=np.int64)
    horizon_us = days.horizon(connection)
    for start_us, count in tail.runs_per_slice(connection, width_us, max(from_us, horizon_us), to_us):
        counts[(start_us - int(starts_us[0])) // width_us] += count
    for start, end in _days_before(from_us, min(to_us, horizon_us)):
        for times in _times_of(connection, _all_series(connection), start, MINUTE_US):
            inside = times[(times >= start) & (times < end)]
            counts += np.bincount((inside - starts_us[0]) // width_us, minlength=counts.size)
    return counts


def measured(connection: Connection, starts_us: IntArray, width_us: int, from_us: int, to_us: int) -> NDArray[np.bool_]:
    """Whether anything was measured in each slice of the window.

    Before the horizon, slices of an hour or more are told from the hours' summaries, those of a day or more from the days'.
    """
    found = np.zeros(starts_us.size, dtype=bool)
    horizon_us = days.horizon(connection)
    found |= tail.measured(connection, starts_us, width_us, max(from_us, horizon_us), to_us)
    series = _all_series(connection)
    for start, end in _days_before(from_us, min(to_us, horizon_us)):
        if width_us >= DAY_US:
            at = (start - int(starts_us[0])) // width_us
            found[at] = found[at] or days.has_any(connection, start)
            continue
        # What can be told of the day: its hours, each by its start, or all slices.
        step_us = HOUR_US if width_us >= HOUR_US else width_us
        able = np.unique((np.arange(start, end, step_us) - int(starts_us[0])) // width_us)
        # A few streams tell of the whole day, unless nothing was measured in a part of it.
        for at in range(0, len(series), _SERIES_AT_ONCE):
            if found[able].all():
                break
            for times in _times_of(connection, series[at : at + _SERIES_AT_ONCE], start, width_us):
                inside = times[(times >= start) & (times < end)]
                found[(inside - int(starts_us[0])) // width_us] = True
    return found


def _days_before(from_us: int, to_us: int) -> list[tuple[int, int]]:
    """The pieces of a window that lie within one day each."""
    starts = range(from_us // DAY_US * DAY_US, to_us, DAY_US)
    return [(max(one, from_us), min(one + DAY_US, to_us)) for one in starts]


def _all_series(connection: Connection) -> list[int]:
    """The series that tell when each stream ran."""
    query = select(tables.series.c.id).where(tables.series.c.quantity == days.TIMES).order_by(tables.series.c.id)
    return list(connection.execute(query).scalars())


def _times_of(connection: Connection, series: Sequence[int], day_us: int, width_us: int) -> Iterator[IntArray]:
    """When some streams ran on a finished day; for slices of an hour or more, the hours that hold any."""
    is_by_hour = width_us >= HOUR_US
    table = tables.hour_summaries if is_by_hour else tables.block
    for key, payload in days.rows_of(connection, table, ["payload"], series, day_us, day_us + 1):
        with contextlib.suppress(block.BlockDamaged):
            if is_by_hour:
                yield days.key_day(key) + summary.hours_with_any(payload) * HOUR_US
            else:
                yield block.decode_times(payload)


def run_count(connection: Connection, from_us: int, to_us: int) -> int:
    """How many runs were measured in the window, of those that still lie in rows: for windows that reach now."""
    return tail.run_count(connection, from_us, to_us)


def span(connection: Connection) -> tuple[int | None, int | None]:
    """The first and the last time at which anything was measured; of finished days, the first to the day."""
    horizon_us = days.horizon(connection)
    first, last = tail.span(connection, horizon_us)
    oldest = days.first_day(connection)
    if oldest is not None and oldest < horizon_us:
        return oldest, last if last is not None else horizon_us - 1
    return first, last


def has_generated(connection: Connection, stream_id: int, from_us: int, to_us: int) -> bool:
    """Whether any run of a stream in the window was made up rather than measured."""
    if tail.has_generated(connection, stream_id, max(from_us, days.horizon(connection)), to_us):
        return True
    finished = days.read_days(connection, stream_id, [days.CODES], from_us, to_us).values()
    return any(bool((day.is_generated & (day.times_us >= from_us) & (day.times_us < to_us)).any()) for day in finished)

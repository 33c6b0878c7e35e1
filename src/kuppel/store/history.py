"""Reading what was measured: runs, samples, facts, over windows [from_us, to_us)."""

import contextlib
import itertools
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, select

from kuppel.core.duration import DAY_US, HOUR_US, MINUTE_US
from kuppel.core.series import FloatArray, IntArray
from kuppel.store import block, days, summary, tables, tail
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

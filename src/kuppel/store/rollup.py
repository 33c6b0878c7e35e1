"""Windows from the summaries of hours and days: exact counts, percentiles within 1 %, over windows [from_us, to_us)."""

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass

import numpy as np
from sqlalchemy import Connection

from kuppel.core import sketch as sketches
from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.core.sketch import Sketch
from kuppel.store import block, days, summary, tables, tail
from kuppel.store.summary import Summary

_NOTHING = (np.empty(0, dtype=np.int64), np.empty(0))


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

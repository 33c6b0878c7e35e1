"""Summaries of an hour or a day of one series: count, failed runs, sum, least, most, and a sketch of the distribution."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core import sketch as sketches
from kuppel.core.series import FloatArray, IntArray
from kuppel.core.sketch import Sketch
from kuppel.store.block import decode_values, encode_values, packed_hours, unpacked_hours

HOUR_US = 3_600_000_000


@dataclass(frozen=True, slots=True)
class Summary:
    """What is kept of a stretch of time. `least` and `most` are None without a value."""

    count: int
    failed: int
    sum: float
    least: float | None
    most: float | None
    sketch: Sketch


def hours_of(day_us: int, times_us: IntArray, values: FloatArray, failed_us: IntArray) -> dict[int, Summary]:
    """The hours (0 … 23) of a day that hold a value or a failed run.

    Parameters
    ----------
    times_us, values : shape (n,), the values that there are, in any order.
    failed_us : times of the stream's failed runs.
    """
    hours = (times_us - day_us) // HOUR_US
    failed = np.bincount((failed_us - day_us) // HOUR_US, minlength=24)
    made = sketches.grouped_sketches(values, hours, 24)
    found = {}
    for hour in range(24):
        own = values[hours == hour]
        if own.size or failed[hour]:
            least, most = (float(own.min()), float(own.max())) if own.size else (None, None)
            found[hour] = Summary(own.size, int(failed[hour]), float(own.sum()), least, most, made[hour])
    return found


def merged(summaries: Sequence[Summary]) -> Summary:
    """The summary of several stretches together."""
    least = [one.least for one in summaries if one.least is not None]
    most = [one.most for one in summaries if one.most is not None]
    return Summary(
        sum(one.count for one in summaries),
        sum(one.failed for one in summaries),
        sum(one.sum for one in summaries),
        min(least, default=None),
        max(most, default=None),
        sketches.merged(one.sketch for one in summaries),
    )


def encode_hours(hours: dict[int, Summary]) -> bytes:
    """All columns of the day's hours one after another: alike things side by side take the least room."""
    told = [hours[hour] for hour in sorted(hours)]
    columns = [
        # To a millionth, which is far below what adding in another order changes.
        np.array([round(one.sum, 6) for one in told]),
        np.array([np.nan if one.least is None else one.least for one in told]),
        np.array([np.nan if one.most is None else one.most for one in told]),
    ]
    values = [encode_values(one) for one in columns]
    whole = np.array(
        [(hour, hours[hour].count, hours[hour].failed, hours[hour].sketch.keys.size) for hour in sorted(hours)], dtype="<u4"
    ).reshape(-1, 4)
    keys = [np.diff(one.sketch.keys, prepend=0) for one in told]
    steps = np.concatenate(keys).astype("<i2") if keys else np.empty(0, "<i2")
    counts = np.concatenate([one.sketch.counts for one in told]).astype("<u4") if told else np.empty(0, "<u4")
    lengths = np.array([len(told), *(len(one) for one in values)], dtype="<u4")
    shuffled = [column.view(np.uint8).reshape(-1, column.itemsize).T.tobytes() for column in (steps, counts)]
    return packed_hours(lengths.tobytes() + whole.T.tobytes() + b"".join(shuffled) + b"".join(values))


def hour_counts(payload: bytes) -> tuple[IntArray, IntArray]:
    """The hours (0 … 23) that hold anything, and how many values each; the quick part of `decode_hours`.

    Raises
    ------
    BlockDamaged
    """
    body = unpacked_hours(payload)
    size = int(np.frombuffer(body, "<u4", 1)[0])
    whole = np.frombuffer(body, "<u4", size * 4, 16).reshape(4, size).astype(np.int64)
    return whole[0], whole[1]


def decode_hours(payload: bytes) -> dict[int, Summary]:
    """What `encode_hours` wrote.

    Raises
    ------
    BlockDamaged
    """
    body = unpacked_hours(payload)
    size, *lengths = (int(one) for one in np.frombuffer(body, "<u4", 4))
    whole = np.frombuffer(body, "<u4", size * 4, 16).reshape(4, size)
    buckets = int(whole[3].sum())
    at = 16 + size * 16
    steps = np.frombuffer(body, np.uint8, buckets * 2, at).reshape(2, buckets).T.copy().view("<i2").reshape(-1)
    at += buckets * 2
    counts = np.frombuffer(body, np.uint8, buckets * 4, at).reshape(4, buckets).T.copy().view("<u4").reshape(-1)
    at += buckets * 4
    columns = []
    for length in lengths:
        columns.append(decode_values(body[at : at + length]))
        at += length
    found = {}
    edges = np.concatenate([[0], np.cumsum(whole[3].astype(np.int64))])
    for index in range(size):
        hour, count, failed, _ = (int(one) for one in whole[:, index])
        a, b = edges[index], edges[index + 1]
        made = Sketch(np.cumsum(steps[a:b]).astype(np.int32), counts[a:b].astype(np.int64))
        total, least, most = (float(column[index]) for column in columns)
        found[hour] = Summary(count, failed, total, None if count == 0 else least, None if count == 0 else most, made)
    return found

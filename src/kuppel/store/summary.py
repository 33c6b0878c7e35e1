"""Summaries of an hour or a day of one series: count, failed runs, sum, least, most, and a sketch of the distribution."""

import struct
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core import sketch as sketches
from kuppel.core.series import FloatArray, IntArray
from kuppel.core.sketch import Sketch
from kuppel.store.block import packed_hours, unpacked_hours

HOUR_US = 3_600_000_000
_HEAD = struct.Struct("<BIIdddH")


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
    body = b""
    for hour, one in sorted(hours.items()):
        packed = sketches.encode(one.sketch)
        least = np.nan if one.least is None else one.least
        most = np.nan if one.most is None else one.most
        body += _HEAD.pack(hour, one.count, one.failed, one.sum, least, most, len(packed)) + packed
    return packed_hours(body)


def decode_hours(payload: bytes) -> dict[int, Summary]:
    """What `encode_hours` wrote.

    Raises
    ------
    BlockDamaged
    """
    body = unpacked_hours(payload)
    found, at = {}, 0
    while at < len(body):
        hour, count, failed, total, least, most, length = _HEAD.unpack_from(body, at)
        at += _HEAD.size
        made = sketches.decode(body[at : at + length])
        at += length
        found[hour] = Summary(count, failed, total, None if count == 0 else least, None if count == 0 else most, made)
    return found

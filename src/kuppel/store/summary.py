"""Summaries of an hour or a day of one series: count, failed runs, sum, least, most, and a sketch of the distribution."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kuppel.core import sketch as sketches
from kuppel.core.duration import HOUR_US
from kuppel.core.series import FloatArray, IntArray
from kuppel.core.sketch import Sketch
from kuppel.store.block import from_plain_values, packed_hours, plain_values, unpacked_hours


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
    counts = np.bincount(hours, minlength=24)
    held = np.flatnonzero(counts)
    in_order = bool((np.diff(hours) >= 0).all())
    ordered = values if in_order else values[np.argsort(hours, kind="stable")]
    starts = np.cumsum(counts[held]) - counts[held]
    ends: dict[int, tuple[float, float, float]] = {}
    if held.size:
        columns = (
            np.add.reduceat(ordered, starts),
            np.minimum.reduceat(ordered, starts),
            np.maximum.reduceat(ordered, starts),
        )
        ends = dict(zip(held.tolist(), zip(*(one.tolist() for one in columns), strict=True), strict=True))
    found = {}
    for hour in np.flatnonzero(counts + failed).tolist():
        total, least, most = ends.get(hour, (0.0, None, None))
        found[hour] = Summary(int(counts[hour]), int(failed[hour]), total, least, most, made[hour])
    return found


def of_values(values: FloatArray, failed: int) -> Summary:
    """The summary of one stretch whose values are at hand."""
    least, most = (float(values.min()), float(values.max())) if values.size else (None, None)
    return Summary(values.size, failed, float(values.sum()), least, most, sketches.sketch(values))


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


def encode_hours(hours: dict[int, Summary], *, is_quick: bool = False) -> bytes:
    """The day's hours as columns and a table of all buckets by hours: alike things side by side take the least room.

    size, buckets, width of a count, length of each column of values (u4) | hour, count, failed (u4 each, by octet)
    | steps between the buckets (u2) | counts, a row an hour, by octet | sums, least, most (as in a block of values)
    """
    told = [hours[hour] for hour in sorted(hours)]
    keys = sketches.merged(one.sketch for one in told).keys
    table = np.zeros((len(told), keys.size), "<u4")
    rows = np.repeat(np.arange(len(told)), [one.sketch.keys.size for one in told])
    columns_of = np.searchsorted(keys, np.concatenate([one.sketch.keys for one in told]))
    table[rows, columns_of] = np.concatenate([one.sketch.counts for one in told])
    width = 4 if table.max(initial=0) > 65_535 else 2 if table.max(initial=0) > 255 else 1
    values = [
        plain_values(np.array(column, dtype=np.float64), is_quick=is_quick)
        for column in (
            # To a millionth, which is far below what adding in another order changes.
            [round(one.sum, 6) for one in told],
            [np.nan if one.least is None else one.least for one in told],
            [np.nan if one.most is None else one.most for one in told],
        )
    ]
    whole = np.array([(hour, hours[hour].count, hours[hour].failed) for hour in sorted(hours)], dtype="<u4").reshape(-1, 3)
    steps = np.diff(keys, prepend=0).astype("<i2")
    head = np.array([len(told), keys.size, width, *(len(one) for one in values)], dtype="<u4")
    counts = table.view(np.uint8).reshape(-1, 4)[:, :width]
    parts = [head.tobytes(), _by_octet(whole.T.copy()), _by_octet(steps), counts.T.tobytes(), *values]
    return packed_hours(b"".join(parts), is_quick=is_quick)


def _by_octet(column: NDArray[Any]) -> bytes:
    return column.reshape(-1).view(np.uint8).reshape(-1, column.itemsize).T.tobytes()


def _from_octets(body: bytes, kind: str, count: int, at: int) -> tuple[NDArray[Any], int]:
    width = np.dtype(kind).itemsize
    octets = np.frombuffer(body, np.uint8, width * count, at).reshape(width, count).T.copy()
    return octets.reshape(-1).view(kind), at + width * count


def _head(body: bytes) -> tuple[list[int], NDArray[Any], int]:
    """The numbers of the head; hour, count and failed of each hour, shape (3, hours); where the rest begins."""
    head = np.frombuffer(body, "<u4", 6).tolist()
    whole, at = _from_octets(body, "<u4", head[0] * 3, 24)
    return head, whole.reshape(3, -1).astype(np.int64), at


def hours_with_any(payload: bytes) -> IntArray:
    """The hours (0 … 23) that hold anything; the quick part of `decode_hours`.

    Raises
    ------
    BlockDamaged
    """
    _, whole, _ = _head(unpacked_hours(payload))
    hours: IntArray = whole[0][whole[1] > 0]
    return hours


def decode_hours(payload: bytes) -> dict[int, Summary]:
    """What `encode_hours` wrote.

    Raises
    ------
    BlockDamaged
    """
    body = unpacked_hours(payload)
    (size, buckets, width, *lengths), whole, at = _head(body)
    steps, at = _from_octets(body, "<i2", buckets, at)
    keys = np.cumsum(steps, dtype=np.int64).astype(np.int32)
    octets = np.zeros((size * buckets, 4), np.uint8)
    octets[:, :width] = np.frombuffer(body, np.uint8, width * size * buckets, at).reshape(width, -1).T
    table = octets.reshape(-1).view("<u4").reshape(size, buckets)
    at += width * size * buckets
    columns = []
    for length in lengths:
        columns.append(from_plain_values(body[at : at + length]))
        at += length
    found = {}
    for index, (hour, count, failed) in enumerate(whole.T.tolist()):
        held = np.flatnonzero(table[index])
        made = Sketch(keys[held], table[index][held].astype(np.int64))
        total, least, most = (float(column[index]) for column in columns)
        found[hour] = Summary(count, failed, total, None if count == 0 else least, None if count == 0 else most, made)
    return found

"""A mergeable sketch of a distribution: counts in logarithmic buckets, any quantile within 1 % of its value.

Buckets are numbered in the order of their values, so that a sketch is two sorted columns and merging is adding counts:

    negative values … −1 | 0: zero | 1 … positive values | INFINITE: lost packets

A positive value x falls into bucket ⌈log_γ x⌉ with γ = (1 + α)/(1 − α); the bucket's stand-in 2γⁱ/(γ + 1) is within α of
every value in it. Lost packets are infinite delays (RFC 7679 §5.1) and have a bucket of their own, so that a percentile of
a lossy sample can be infinite. Values nearer to zero than 1e-9 count as zero, below what any quantity here resolves.

The construction is that of relative-error sketches (Masson, Rim and Lee, DDSketch, PVLDB 12 (2019) 2195–2205).
"""

import itertools
import math
import struct
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kuppel.core.percentile import PercentileInterval, interval_ranks, rank

ALPHA = 0.01
_GAMMA = (1 + ALPHA) / (1 - ALPHA)
_LOG_GAMMA = math.log(_GAMMA)
_LEAST = 1e-9
_MOST = 1e15
# Moves the bucket of the least positive value to 1.
_OFFSET = 1 - math.ceil(math.log(_LEAST) / _LOG_GAMMA)
INFINITE = 32_000

Keys = NDArray[np.int32]
Counts = NDArray[np.int64]


@dataclass(frozen=True, slots=True, eq=False)
class Sketch:
    """Bucket numbers in rising order and how many values fell into each; both of shape (buckets,)."""

    keys: Keys
    counts: Counts

    @property
    def count(self) -> int:
        return int(self.counts.sum())


def bucket_keys(values: NDArray[np.float64]) -> Keys:
    """The bucket of each value, shape as given. NaN has none: leave it out before."""
    size = np.abs(values)
    with np.errstate(divide="ignore", invalid="ignore"):
        keys = np.ceil(np.log(np.clip(size, _LEAST, _MOST)) / _LOG_GAMMA - 1e-9).astype(np.int32) + _OFFSET
    keys = np.where(size < _LEAST, 0, np.where(values < 0, -keys, keys))
    return np.where(np.isinf(values), np.sign(values) * INFINITE, keys).astype(np.int32)


def bucket_values(keys: Keys) -> NDArray[np.float64]:
    """The value that stands in for each bucket."""
    magnitude = 2 * np.exp((np.abs(keys) - _OFFSET) * _LOG_GAMMA) / (_GAMMA + 1)
    values = np.where(keys == 0, 0.0, np.sign(keys) * magnitude)
    return np.where(keys == INFINITE, np.inf, np.where(keys == -INFINITE, -np.inf, values))


def sketch(values: NDArray[np.float64]) -> Sketch:
    """The sketch of a sample; infinity stands for a lost packet."""
    keys, counts = np.unique(bucket_keys(np.asarray(values, dtype=np.float64)), return_counts=True)
    return Sketch(keys, counts.astype(np.int64))


def grouped_sketches(values: NDArray[np.float64], groups: NDArray[np.int64], group_count: int) -> list[Sketch]:
    """A sketch for each of the groups 0 … group_count − 1, all in one pass.

    Parameters
    ----------
    values, groups : shape (n,); `groups` says to which group each value belongs.
    """
    buckets = bucket_keys(values).astype(np.int64)
    least, width = (int(buckets.min()), int(np.ptp(buckets)) + 1) if buckets.size else (0, 1)
    cells = groups * width + buckets - least
    if group_count * width <= _MOST_CELLS:
        table = np.bincount(cells, minlength=group_count * width)
        unique = np.flatnonzero(table)
        counts = table[unique]
    else:
        unique, counts = np.unique(cells, return_counts=True)
    edges = np.searchsorted(unique, np.arange(group_count + 1, dtype=np.int64) * width)
    keys = (unique % width + least).astype(np.int32)
    return [Sketch(keys[a:b], counts[a:b].astype(np.int64)) for a, b in itertools.pairwise(edges)]


def merged(sketches: Iterable[Sketch]) -> Sketch:
    """The sketch of all samples together: exactly what sketching them as one would have given."""
    found = list(sketches)
    if not found:
        return Sketch(np.empty(0, np.int32), np.empty(0, np.int64))
    keys = np.concatenate([one.keys for one in found])
    if keys.size == 0:
        return Sketch(np.empty(0, np.int32), np.empty(0, np.int64))
    least = int(keys.min())
    # Sums of whole numbers below 2⁵³ are exact in the weights' floating point.
    table = np.bincount(keys - least, np.concatenate([one.counts for one in found]))
    held = np.flatnonzero(table)
    return Sketch((held + least).astype(np.int32), table[held].astype(np.int64))


def quantile(of: Sketch, share: float) -> float:
    """The percentile (RFC 2330 §11.3) of the sketched sample, within `ALPHA` of its value.

    >>> abs(quantile(sketch(np.array([10.0, 20.0, 30.0, np.inf])), 0.5) - 20) <= 0.01 * 20
    True
    """
    if of.keys.size == 0:
        raise ValueError("an empty sample has no percentile")
    return _at_rank(of, rank(share, of.count))


def quantiles(of: Sequence[Sketch], share: float) -> NDArray[np.float64]:
    """`quantile` of many sketches at once, NaN for an empty one; shape (len(of),)."""
    found = np.full(len(of), np.nan)
    totals = np.array([one.count for one in of], dtype=np.int64)
    held = np.flatnonzero(totals)
    if held.size:
        counts = np.concatenate([one.counts for one in of])
        keys = np.concatenate([one.keys for one in of])
        before = np.cumsum(totals)[held] - totals[held]
        ranks = np.array([rank(share, total) for total in totals[held].tolist()], dtype=np.int64)
        found[held] = bucket_values(keys[np.searchsorted(np.cumsum(counts), before + ranks)])
    return found


def deviation(of: Sketch) -> float | None:
    """The sample's standard deviation (n − 1), from the values that stand in for the buckets; None for fewer than two
    values or with a lost packet among them."""
    values, count = bucket_values(of.keys), of.count
    if count < 2 or not np.isfinite(values).all():
        return None
    mean = float((values * of.counts).sum()) / count
    return math.sqrt(float((of.counts * (values - mean) ** 2).sum()) / (count - 1))


def class_counts(of: Sketch, edges: NDArray[np.float64]) -> Counts:
    """How many values lie below the first edge, from each to below the next, and from the last on; shape (edges + 1,).
    A value within `ALPHA` of an edge may be counted beside it."""
    classes = np.searchsorted(edges, bucket_values(of.keys), side="right")
    return np.bincount(classes, of.counts, edges.size + 1).astype(np.int64)


def quantile_interval(of: Sketch, share: float, confidence: float = 0.95) -> PercentileInterval:
    """A percentile with its distribution-free interval, each within `ALPHA` of what the sample itself would give."""
    count = of.count
    lower, upper = interval_ranks(count, share, confidence)
    return PercentileInterval(
        quantile(of, share),
        _at_rank(of, lower) if lower >= 1 else None,
        _at_rank(of, upper) if upper <= count else None,
        count,
        confidence,
    )


def _at_rank(of: Sketch, wanted: int) -> float:
    index = int(np.searchsorted(np.cumsum(of.counts), wanted))
    return float(bucket_values(of.keys[index : index + 1])[0])


# How wide a bucket is written: its step from the bucket before, and its count. The narrowest that fits is taken.
_LAYOUTS = tuple(
    np.dtype([("step", step), ("count", count)]) for step, count in (("u1", "u1"), ("u1", "<u2"), ("<u2", "<u4"))
)
_HEAD = struct.Struct("<BhH")
_HEADS = np.dtype([("layout", "u1"), ("first", "<i2"), ("size", "<u2")])
_MOST_COUNT = 2**32 - 1
_MOST_CELLS = 4_000_000


def encode(of: Sketch) -> bytes:
    """One octet for the layout, two each for the first bucket's number and how many there are, then two to six octets a
    bucket; nothing when empty.

    Raises
    ------
    ValueError
        when a bucket holds more than 2³² − 1 values.
    """
    if of.keys.size == 0:
        return b""
    steps, most = np.diff(of.keys, prepend=of.keys[:1]), int(of.counts.max())
    if most > _MOST_COUNT:
        raise ValueError(f"a bucket holds {most} values; {_MOST_COUNT} is the most that can be kept")
    layout = 2 if steps.max() > 255 or most > 65_535 else int(most > 255)
    buckets = np.empty(of.keys.size, _LAYOUTS[layout])
    buckets["step"], buckets["count"] = steps, of.counts
    return _HEAD.pack(layout, int(of.keys[0]), of.keys.size) + buckets.tobytes()


def decode(octets: bytes) -> Sketch:
    """What `encode` wrote.

    Raises
    ------
    ValueError
        when it is cut short.
    """
    return merged_octets([octets], np.zeros(1, np.int64), 1)[0]


def _decoded(encoded: Sequence[bytes], owners: NDArray[np.int64]) -> tuple[NDArray[np.int64], Counts, NDArray[np.int64]]:
    """Bucket numbers, counts and owners of all buckets of many encoded sketches."""
    found = []
    layouts = np.array([one[0] if one else -1 for one in encoded], dtype=np.int64)
    for number, layout in enumerate(_LAYOUTS):
        chosen = np.flatnonzero(layouts == number)
        if chosen.size == 0:
            continue
        own = [encoded[index] for index in chosen.tolist()]
        sizes = np.array([len(one) for one in own], dtype=np.int64)
        if (sizes < _HEAD.size).any():
            raise ValueError("a sketch is cut short")
        heads = np.frombuffer(b"".join([one[: _HEAD.size] for one in own]), _HEADS)
        lengths = heads["size"].astype(np.int64)
        if (sizes != _HEAD.size + lengths * layout.itemsize).any():
            raise ValueError("a sketch is cut short")
        buckets = np.frombuffer(b"".join([one[_HEAD.size :] for one in own]), layout)
        # Each sketch's steps add up from its own first bucket: what came before it is taken off again.
        keys = np.cumsum(buckets["step"], dtype=np.int64)
        starts = np.concatenate([[0], np.cumsum(lengths)[:-1]])
        keys += np.repeat(heads["first"] - keys[starts], lengths)
        found.append((keys, buckets["count"].astype(np.int64), np.repeat(owners[chosen], lengths)))
    if (layouts >= len(_LAYOUTS)).any():
        raise ValueError("a sketch is written in a layout that is not known")
    if not found:
        return np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0, np.int64)
    keys, counts, whose = (np.concatenate(column) for column in zip(*found, strict=True))
    return keys, counts, whose


def merged_octets(encoded: Sequence[bytes], groups: NDArray[np.int64], group_count: int) -> list[Sketch]:
    """The merged sketch of each group, from many encoded sketches in one pass.

    Parameters
    ----------
    encoded : sketches as `encode` wrote them.
    groups : shape (len(encoded),), the group 0 … group_count − 1 of each.
    """
    keys, counts, owners = _decoded(encoded, groups)
    if keys.size == 0:
        return [Sketch(np.empty(0, np.int32), np.empty(0, np.int64))] * group_count
    least = int(keys.min())
    width = int(keys.max()) - least + 1
    sketches: list[Sketch] = []
    # A table of all buckets of some groups at a time: adding up is then one pass without sorting.
    at_once = max(1, _MOST_CELLS // width)
    if at_once < group_count:
        order = np.argsort(owners, kind="stable")
        owners, keys, counts = owners[order], keys[order], counts[order]
    for first in range(0, group_count, at_once):
        last = min(group_count, first + at_once)
        a, b = np.searchsorted(owners, [first, last]) if at_once < group_count else (0, owners.size)
        cells = (owners[a:b] - first) * width + (keys[a:b] - least)
        # Sums of whole numbers below 2⁵³ are exact in the weights' floating point.
        table = np.bincount(cells, counts[a:b], (last - first) * width).reshape(-1, width)
        rows, columns = np.nonzero(table)
        edges = np.searchsorted(rows, np.arange(last - first + 1))
        found, sums = (columns + least).astype(np.int32), table[rows, columns].astype(np.int64)
        sketches += [Sketch(found[c:d], sums[c:d]) for c, d in itertools.pairwise(edges)]
    return sketches

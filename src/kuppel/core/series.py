"""A window of samples as a band: percentiles per slice of time."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

IntArray = NDArray[np.int64]
FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Band:
    """Percentiles of a quantity per slice; NaN where a slice holds no sample. All arrays have the shape (slices,)."""

    starts_us: IntArray
    width_us: int
    counts: IntArray
    p5: FloatArray
    p50: FloatArray
    p95: FloatArray


def slice_width(from_us: int, to_us: int, points: int, at_least_us: int) -> int:
    """The width of one of at most `points` slices, not finer than the measurement's own interval."""
    if to_us <= from_us:
        raise ValueError("the window ends before it starts")
    return max(at_least_us, -(-(to_us - from_us) // points))


def slice_starts(from_us: int, to_us: int, width_us: int) -> IntArray:
    """Starts of the slices that cover [from_us, to_us), aligned to multiples of the width so that they do not wander."""
    return np.arange(from_us // width_us * width_us, to_us, width_us, dtype=np.int64)


def band(times_us: IntArray, values: FloatArray, from_us: int, to_us: int, width_us: int) -> Band:
    """Percentiles per slice, of the empirical distribution (RFC 2330 §11.3).

    Parameters
    ----------
    times_us, values : shape (n,), any order; samples outside the window are ignored.
    """
    starts = slice_starts(from_us, to_us, width_us)
    inside = (times_us >= from_us) & (times_us < to_us)
    index = (times_us[inside] - starts[0]) // width_us
    kept = values[inside]
    order = np.lexsort((kept, index))
    index, kept = index[order], kept[order]
    counts = np.bincount(index, minlength=starts.size).astype(np.int64)
    first = np.concatenate([[0], np.cumsum(counts)[:-1]])

    def at(share: float) -> FloatArray:
        ranks = np.maximum(1, np.ceil(share * counts - 1e-9)).astype(np.int64)
        result = np.full(starts.size, np.nan)
        has = counts > 0
        result[has] = kept[(first + ranks - 1)[has]]
        return result

    return Band(starts, width_us, counts, at(0.05), at(0.50), at(0.95))


def slice_counts(times_us: IntArray, from_us: int, to_us: int, width_us: int) -> IntArray:
    """How many of `times_us` fall into each slice of the window."""
    starts = slice_starts(from_us, to_us, width_us)
    inside = times_us[(times_us >= from_us) & (times_us < to_us)]
    return np.bincount((inside - starts[0]) // width_us, minlength=starts.size).astype(np.int64)


def slice_means(times_us: IntArray, values: FloatArray, from_us: int, to_us: int, width_us: int) -> FloatArray:
    """The arithmetic mean of the samples in each slice, NaN where there is none.

    For parts of a whole (the phases of a fetch), whose means, unlike their percentiles, add up to the whole's mean.
    """
    starts = slice_starts(from_us, to_us, width_us)
    inside = (times_us >= from_us) & (times_us < to_us)
    index = (times_us[inside] - starts[0]) // width_us
    counts = np.bincount(index, minlength=starts.size)
    sums = np.bincount(index, weights=values[inside], minlength=starts.size)
    with np.errstate(invalid="ignore"):
        return np.where(counts > 0, sums / counts, np.nan)


def state_shares(
    spans: list[tuple[int, int, str]], streams: int, starts_us: IntArray, width_us: int
) -> dict[str, FloatArray]:
    """How much of an estate was in each state, per slice.

    Parameters
    ----------
    spans : (from_us, to_us, state) of every stream, clipped to the window.
    streams : how many streams there are: what a share of 1 stands for.

    Returns
    -------
    For each state that occurs, the share (0…1) of stream-time in it, shape (slices,).
    """
    shares: dict[str, FloatArray] = {}
    if streams == 0 or starts_us.size == 0:
        return shares
    origin = int(starts_us[0])
    for from_us, to_us, state in spans:
        share = shares.setdefault(state, np.zeros(starts_us.size))
        first = max(0, (from_us - origin) // width_us)
        last = min(starts_us.size - 1, (to_us - 1 - origin) // width_us)
        for index in range(first, last + 1):
            start = origin + index * width_us
            overlap = min(to_us, start + width_us) - max(from_us, start)
            share[index] += overlap / width_us / streams
    return shares

"""A window of time in slices."""

import numpy as np
from numpy.typing import NDArray

IntArray = NDArray[np.int64]
FloatArray = NDArray[np.float64]


def slice_width(from_us: int, to_us: int, points: int, at_least_us: int) -> int:
    """The width of one of at most `points` slices, not finer than the measurement's own interval."""
    if to_us <= from_us:
        raise ValueError("the window ends before it starts")
    return max(at_least_us, -(-(to_us - from_us) // points))


def slice_starts(from_us: int, to_us: int, width_us: int) -> IntArray:
    """Starts of the slices that cover [from_us, to_us), aligned to multiples of the width so that they do not wander."""
    return np.arange(from_us // width_us * width_us, to_us, width_us, dtype=np.int64)


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


def covered_shares(from_us: IntArray, to_us: IntArray, whole: int, starts_us: IntArray, width_us: int) -> FloatArray:
    """How much of each slice some spans cover, as a share of `whole` things that all last.

    Parameters
    ----------
    from_us, to_us : shape (spans,), in any order; they may overlap.
    whole : how many there are: what a share of 1 stands for.

    Returns
    -------
    Shares (0…1 when no thing is covered twice), shape (slices,).

    Notes
    -----
    What spans cover until a moment t is Σ(t − from) over those begun less Σ(t − to) over those ended.
    """
    if whole == 0 or starts_us.size == 0:
        return np.zeros(starts_us.size)
    edges = np.append(starts_us, starts_us[-1] + width_us) - starts_us[0]

    def passed(moments_us: IntArray) -> FloatArray:
        moments = np.sort(moments_us - starts_us[0]).astype(np.float64)
        sums = np.concatenate([[0.0], np.cumsum(moments)])
        begun = np.searchsorted(moments, edges)
        covered: FloatArray = begun * edges - sums[begun]
        return covered

    shares: FloatArray = np.diff(passed(from_us) - passed(to_us)) / width_us / whole
    # Sums of many microseconds lose the last digits of a double.
    return np.where(shares < 1e-9, 0.0, shares)

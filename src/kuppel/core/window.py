"""A window in slices of time: any statistic of each slice, from samples or from sketches."""

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.core.error import SettingsError
from kuppel.core.percentile import rank
from kuppel.core.series import FloatArray, IntArray, slice_starts
from kuppel.core.sketch import Sketch, quantiles

# A slice of whole hours must not straddle days: widths of one day and less divide it.
_HOURS = (1, 2, 3, 4, 6, 8, 12, 24)
_PERCENTILE = re.compile(r"p(\d{1,2}(?:\.\d{1,3})?|100)")


@dataclass(frozen=True, slots=True)
class Statistics:
    """Which statistics are wanted: their names, as `min`, `mean`, `max`, `count`, `failed` or `p95`."""

    names: tuple[str, ...]

    PLAIN = ("min", "mean", "max", "count", "failed")

    @classmethod
    def named(cls, names: Sequence[str], field: str = "statistics") -> "Statistics":
        """Raises `SettingsError` for a name that is not known."""
        for name in names:
            if name not in cls.PLAIN and share_of(name) is None:
                raise SettingsError(field, name, f"be one of {', '.join(cls.PLAIN)}, or a percentile such as p95 or p99.9")
        return cls(tuple(dict.fromkeys(names)))


def share_of(name: str) -> float | None:
    """The share of a percentile's name; None for what is no percentile.

    >>> share_of("p95"), share_of("p99.9"), share_of("mean")
    (0.95, 0.999, None)
    """
    found = _PERCENTILE.fullmatch(name)
    return None if found is None else round(float(found[1]) / 100, 5)


def summary_width(width_us: int) -> int:
    """The least width of slices that summaries of hours and days can fill, not below what is asked for.

    >>> summary_width(5 * HOUR_US) // HOUR_US, summary_width(30 * HOUR_US) // HOUR_US
    (6, 48)
    """
    if width_us > DAY_US:
        return -(-width_us // DAY_US) * DAY_US
    return next(hours * HOUR_US for hours in _HOURS if hours * HOUR_US >= width_us)


def from_samples(
    times_us: IntArray, values: FloatArray, failed_us: IntArray, starts_us: IntArray, width_us: int, wanted: Statistics
) -> dict[str, FloatArray]:
    """Statistics per slice, exact; NaN where a slice holds no sample (counts are 0 there).

    Parameters
    ----------
    times_us, values : shape (n,), the samples, in any order; those outside the slices are ignored.
    failed_us : times of the failed runs.
    starts_us : shape (slices,), starts of slices that follow one another.

    Notes
    -----
    Percentiles are of the empirical distribution (RFC 2330 §11.3).
    """
    index = (times_us - starts_us[0]) // width_us
    inside = (index >= 0) & (index < starts_us.size)
    index = index[inside]
    counts = np.bincount(index, minlength=starts_us.size)
    kept = _sorted_in_slices(index, values[inside], counts)
    held = np.flatnonzero(counts)
    firsts = (np.cumsum(counts) - counts)[held]

    def filled(of_held: FloatArray) -> FloatArray:
        column = np.full(starts_us.size, np.nan)
        column[held] = of_held
        return column

    found: dict[str, FloatArray] = {}
    for name in wanted.names:
        share = share_of(name)
        if share is not None:
            ranks = np.array([rank(share, count) for count in counts[held].tolist()], dtype=np.int64)
            found[name] = filled(kept[firsts + ranks - 1])
        elif name == "count":
            found[name] = counts.astype(np.float64)
        elif name == "failed":
            where = (failed_us - starts_us[0]) // width_us
            own = where[(where >= 0) & (where < starts_us.size)]
            found[name] = np.bincount(own, minlength=starts_us.size).astype(np.float64)
        elif name == "mean":
            found[name] = filled(np.add.reduceat(kept, firsts) / counts[held] if held.size else np.empty(0))
        else:
            at = firsts if name == "min" else firsts + counts[held] - 1
            found[name] = filled(kept[at])
    return found


def _sorted_in_slices(index: IntArray, values: FloatArray, counts: IntArray) -> FloatArray:
    """Values by slice, and by size within each."""
    most = int(counts.max(initial=0))
    if most * counts.size > 8 * values.size:  # a few slices hold nearly all
        return values[np.lexsort((values, index))]
    if (np.diff(index) < 0).any():
        order = np.argsort(index, kind="stable")
        index, values = index[order], values[order]
    # A row a slice: short rows sort several times as fast as one long column by two keys.
    table = np.full((counts.size, most), np.inf)
    table[index, np.arange(values.size) - (np.cumsum(counts) - counts)[index]] = values
    table.sort(axis=1)
    kept: FloatArray = table[np.arange(most) < counts[:, None]]
    return kept


@dataclass(frozen=True, slots=True)
class Summaries:
    """Summaries of stretches, one entry each: in which slice it lies, and what it holds; `least` and `most` are NaN
    without a value."""

    slices: IntArray
    counts: IntArray
    sums: FloatArray
    least: FloatArray
    most: FloatArray


def from_summaries(
    of: Summaries, merged: Sequence[Sketch], failed: FloatArray, wanted: Statistics
) -> dict[str, FloatArray]:
    """Statistics per slice from summaries; percentiles within 1 %, the others exact.

    Parameters
    ----------
    merged : the sketch of each slice, one a slice.
    failed : failed runs of each slice, shape (slices,).
    """
    count = failed.size
    counts = np.bincount(of.slices, of.counts, count).astype(np.float64)
    found: dict[str, FloatArray] = {}
    for name in wanted.names:
        share = share_of(name)
        if share is not None:
            found[name] = quantiles(merged, share)
        elif name == "count":
            found[name] = counts
        elif name == "failed":
            found[name] = failed
        elif name == "mean":
            sums = np.bincount(of.slices, of.sums, count)
            found[name] = np.divide(sums, counts, out=np.full(count, np.nan), where=counts > 0)
        else:
            column = np.full(count, np.nan)
            if name == "min":
                np.fmin.at(column, of.slices, of.least)
            else:
                np.fmax.at(column, of.slices, of.most)
            found[name] = column
    return found


@dataclass(frozen=True, slots=True)
class Band:
    """Percentiles of a quantity per slice; NaN where a slice holds no sample. All arrays have the shape (slices,)."""

    starts_us: IntArray
    width_us: int
    counts: IntArray
    p5: FloatArray
    p50: FloatArray
    p95: FloatArray


def band(times_us: IntArray, values: FloatArray, from_us: int, to_us: int, width_us: int) -> Band:
    """Percentiles per slice, of the empirical distribution (RFC 2330 §11.3).

    Parameters
    ----------
    times_us, values : shape (n,), any order; samples outside the window are ignored.
    """
    starts = slice_starts(from_us, to_us, width_us)
    inside = (times_us >= from_us) & (times_us < to_us)
    wanted = Statistics(("count", "p5", "p50", "p95"))
    found = from_samples(times_us[inside], values[inside], np.empty(0, dtype=np.int64), starts, width_us, wanted)
    return Band(starts, width_us, found["count"].astype(np.int64), found["p5"], found["p50"], found["p95"])


def class_counts(values: FloatArray, edges: FloatArray) -> IntArray:
    """How many values lie in each class: below the first edge, from each edge to below the next, from the last on.

    >>> class_counts(np.array([1.0, 2.0, 2.5, 9.0]), np.array([2.0, 5.0])).tolist()
    [1, 2, 1]
    """
    return np.bincount(np.searchsorted(edges, values, side="right"), minlength=edges.size + 1).astype(np.int64)

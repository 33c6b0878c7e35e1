"""What is usual: a stream's own seasonal pattern, by the hour of the week; and how far a value departs from it.

Each of the 168 hours of the week (UTC) has a centre and a spread, both robust: incidents of a few hours in six weeks move
neither. The centre is the median of the values of that hour, the spread 1.4826 times their median absolute deviation, which
is the standard deviation where values are normal (Rousseeuw and Croux, "Alternatives to the median absolute deviation",
JASA 88 (1993) 1273–1283). An hour with few values borrows from the hours beside it, then from the same hour of every day,
then from all.
"""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core.duration import HOUR_US
from kuppel.core.percentile import percentile
from kuppel.core.series import FloatArray, IntArray
from kuppel.core.sketch import Sketch, bucket_values, merged, quantile

HOURS = 168
# Where less is there, the spread of a median says more of chance than of the stream.
FEWEST = 12
_NORMAL = 1.482602218505602  # 1 / Φ⁻¹(3/4)
_FIRST_HOUR = 3 * 24  # 1 January 1970 was a Thursday; hour 0 is Monday 00:00


@dataclass(frozen=True, slots=True, eq=False)
class Baseline:
    """Centre, spread, usual bad end and number of values behind them for each hour of the week, shape (168,); NaN where
    nothing is known.

    The bad end is the 95th percentile (the 5th where less is worse), the median of those of the single hours: an incident
    in one of six weeks does not move it.
    """

    centre: FloatArray
    spread: FloatArray
    end: FloatArray
    count: IntArray


def hour_of_week(times_us: IntArray) -> IntArray:
    """0 is the hour after Monday's midnight, UTC.

    >>> hour_of_week(np.array([0, 4 * 86_400_000_000])).tolist()
    [72, 0]
    """
    found: IntArray = (times_us // HOUR_US + _FIRST_HOUR) % HOURS
    return found


def robust(values: FloatArray) -> tuple[float, float]:
    """Median and 1.4826 × median absolute deviation."""
    centre = float(np.median(values))
    return centre, float(np.median(np.abs(values - centre))) * _NORMAL


def baseline(times_us: IntArray, values: FloatArray, end: float = 0.95) -> Baseline:
    """The usual pattern of a series.

    Parameters
    ----------
    times_us, values : shape (n,), finite values in any order.
    end : the share of the bad end.
    """
    starts = times_us // HOUR_US
    single = {int(one): percentile(values[starts == one], end) for one in np.unique(starts)}
    ends = weekly_medians(np.array(list(single), np.int64) * HOUR_US, list(single.values()))
    hours = hour_of_week(times_us)
    order = np.argsort(hours, kind="stable")
    ordered = values[order]
    edges = np.searchsorted(hours[order], np.arange(HOURS + 1))
    own = [ordered[a:b] for a, b in itertools.pairwise(edges.tolist())]
    centre, spread = np.full(HOURS, np.nan), np.full(HOURS, np.nan)
    count = np.zeros(HOURS, dtype=np.int64)
    for hour in range(HOURS):
        pool = _pool(own, hour, values)
        if pool.size:
            centre[hour], spread[hour] = robust(pool)
            count[hour] = pool.size
    return Baseline(centre, spread, ends, count)


def weekly_medians(starts_us: IntArray, told: Sequence[float]) -> FloatArray:
    """The median of what single hours tell for each hour of the week, shape (168,); of all hours where it has none.

    What was unlike itself in one week of six moves none of them.
    """
    hours, values = hour_of_week(starts_us), np.array(told)
    found = np.full(HOURS, np.median(values) if values.size else np.nan)
    for hour in np.unique(hours).tolist():
        found[hour] = np.median(values[hours == hour])
    return found


def of_sketches(hour_starts_us: IntArray, sketches: Sequence[Sketch], end: float = 0.95) -> Baseline:
    """`baseline` of a series that is kept as hours' distributions; centres and spreads are within 1 % of a value of it.

    Parameters
    ----------
    hour_starts_us : shape (n,), the start of each sketch's hour.
    """
    hours = hour_of_week(hour_starts_us).tolist()
    own: list[list[Sketch]] = [[] for _ in range(HOURS)]
    for hour, one in zip(hours, sketches, strict=True):
        if one.count:
            own[hour].append(one)
    filled = [(start, one) for start, one in zip(hour_starts_us.tolist(), sketches, strict=True) if one.count]
    ends = weekly_medians(np.array([start for start, _ in filled], np.int64), [quantile(one, end) for _, one in filled])
    each = [merged(some) for some in own]
    centre, spread = np.full(HOURS, np.nan), np.full(HOURS, np.nan)
    count = np.zeros(HOURS, dtype=np.int64)
    for hour in range(HOURS):
        pool = _sketch_pool(each, hour)
        if pool.count:
            centre[hour], spread[hour] = _robust_sketch(pool)
            count[hour] = pool.count
    return Baseline(centre, spread, ends, count)


def _sketch_pool(each: Sequence[Sketch], hour: int) -> Sketch:
    """As `_pool`."""
    if each[hour].count >= FEWEST:
        return each[hour]
    beside = merged(each[(hour + step) % HOURS] for step in (-1, 0, 1))
    if beside.count >= FEWEST:
        return beside
    daily = merged(each[(hour + 24 * day) % HOURS] for day in range(7))
    return daily if daily.count >= FEWEST else merged(each)


def _robust_sketch(pool: Sketch) -> tuple[float, float]:
    values = bucket_values(pool.keys)
    centre = quantile(pool, 0.5)
    apart = np.abs(values - centre)
    order = np.argsort(apart)
    at = int(np.searchsorted(np.cumsum(pool.counts[order]), (pool.count + 1) // 2))
    return centre, float(apart[order][at]) * _NORMAL


def _pool(own: list[FloatArray], hour: int, values: FloatArray) -> FloatArray:
    """The values that tell of an hour: its own, or as many more as are needed."""
    if own[hour].size >= FEWEST:
        return own[hour]
    beside = np.concatenate([own[(hour + step) % HOURS] for step in (-1, 0, 1)])
    if beside.size >= FEWEST:
        return beside
    daily = np.concatenate([own[(hour + 24 * day) % HOURS] for day in range(7)])
    return daily if daily.size >= FEWEST else values


def departures(of: Baseline, times_us: IntArray, values: FloatArray, least_spread: float) -> FloatArray:
    """How many spreads each value lies above (positive) or below what is usual at its hour; NaN where nothing is known.

    Parameters
    ----------
    least_spread : what the spread is taken for at least, in the values' unit: below what anybody would call a difference.
    """
    hours = hour_of_week(times_us)
    found: FloatArray = (values - of.centre[hours]) / np.maximum(of.spread[hours], least_spread)
    return found


def bands(of: Baseline, times_us: IntArray, spreads: float = 2.0) -> tuple[FloatArray, FloatArray]:
    """From where to where values are usual at each time; twice the spread either way holds 95 % of normal values."""
    hours = hour_of_week(times_us)
    reach = spreads * of.spread[hours]
    return of.centre[hours] - reach, of.centre[hours] + reach

"""Attempts in columns, and the statistics of many trains at once; the definitions are those of `core`."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kuppel.core.percentile import rank
from kuppel.core.reason import Reason
from kuppel.core.series import FloatArray, IntArray
from kuppel.lab.world.draw import Generator
from kuppel.lab.world.loss import Flags
from kuppel.lab.world.world import World

# A share so small that its percentile is the least value.
_LEAST = 1e-6

# Later than any packet: what never came goes behind everything that did.
_NEVER_MS = 1e12
Columns = dict[str, FloatArray]
Reasons = NDArray[np.object_]


@dataclass(slots=True)
class Tried:
    """One attempt at each of n times. Values are NaN where an attempt has none; facts are one for all, or one each.

    `notes` are by reason: words that every attempt of that reason has, or each attempt's.
    """

    values: Columns
    reasons: Reasons
    durations_us: IntArray
    notes: Mapping[Reason, str | NDArray[np.object_]] = field(default_factory=dict)
    facts: dict[str, str | NDArray[np.object_]] = field(default_factory=dict)
    details: Sequence[Any] | None = None

    def note(self, at: int) -> str:
        found = "" if self.reasons[at] is None else self.notes.get(self.reasons[at], "")
        return found if isinstance(found, str) else str(found[at])


Attempt = Callable[[World, str, Mapping[str, Any], str, IntArray, Generator], Tried]
"""World, vantage point, settings as the kind fills them in, application, times, generator."""


def no_reasons(size: int) -> Reasons:
    return np.full(size, None, dtype=object)


def are_good(reasons: Reasons) -> Flags:
    """Whether each attempt has no reason for having failed."""
    return np.fromiter((one is None for one in reasons), dtype=bool, count=reasons.size)


def lateness(world: World, point: str, times_us: IntArray, draw: Generator) -> FloatArray:
    """What an overloaded machine adds to the times that it reads, in ms."""
    busy = world.effects.value("busy", point, times_us)
    return np.zeros(times_us.size) if busy is None else busy * draw.random(times_us.size)


def microseconds(ms: FloatArray) -> IntArray:
    return np.round(np.minimum(ms, 1e9) * 1000).astype(np.int64)


def blanked(values: Columns, keep: Flags) -> Columns:
    """Values where `keep`, NaN elsewhere."""
    return {name: np.where(keep, column, np.nan) for name, column in values.items()}


@dataclass(frozen=True, slots=True)
class Trips:
    """Statistics of trains, a train a row, over the packets that came back; NaN where none did."""

    middle: FloatArray
    least: FloatArray
    mean: FloatArray
    high: FloatArray
    most: FloatArray
    came_back: IntArray


def trip_statistics(trips: FloatArray, good: Flags) -> Trips:
    """Percentiles of RFC 2330 §11.3 and the rest of `core.delay.round_trip_summary`, for shape (n, count)."""
    ordered = np.sort(np.where(good, trips, np.inf), axis=1)
    counts = good.sum(axis=1).astype(np.int64)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.where(good, trips, 0.0).sum(axis=1) / counts
    return Trips(
        percentiles(ordered, counts, 0.5),
        percentiles(ordered, counts, _LEAST),
        np.where(counts > 0, mean, np.nan),
        percentiles(ordered, counts, 0.95),
        percentiles(ordered, counts, 1.0),
        counts,
    )


def percentiles(ordered: FloatArray, counts: IntArray, share: float) -> FloatArray:
    """A percentile of the first `counts` values of each ordered row; NaN where there is none."""
    ranks = np.array([0, *(rank(share, count) for count in range(1, ordered.shape[1] + 1))], dtype=np.int64)
    found = ordered[np.arange(counts.size), np.maximum(ranks[counts] - 1, 0)]
    return np.where(counts > 0, found, np.nan)


def mean_variation(trips: FloatArray, good: Flags) -> FloatArray:
    """The mean of |ipdv| over neighbours that both came back (RFC 3393); NaN where there are none."""
    both = good[:, 1:] & good[:, :-1]
    steps = np.where(both, np.abs(np.diff(trips, axis=1)), 0.0)
    counts = both.sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(counts > 0, steps.sum(axis=1) / counts, np.nan)


def train_figures(told: Trips, trips: FloatArray, good: Flags) -> Columns:
    """The quantities that every probe of trains yields: packets, loss, round trips, variation."""
    count = good.shape[1]
    lost = count - told.came_back
    return {
        "sent": np.full(lost.size, float(count)),
        "lost": lost.astype(np.float64),
        "loss_ratio": lost / count,
        "rtt": told.middle,
        "rtt_min": told.least,
        "rtt_mean": told.mean,
        "rtt_p95": told.high,
        "rtt_max": told.most,
        "ipdv": mean_variation(trips, good),
    }


def arrival_jitter(sent_ms: FloatArray, received_ms: FloatArray, good: Flags) -> FloatArray:
    """Interarrival jitter (RFC 3550 A.8) over the packets in the order of arrival; NaN for fewer than two.

    Parameters
    ----------
    sent_ms : shape (count,) or as `received_ms`.
    received_ms, good : shape (n, count).
    """
    keyed = np.where(good, received_ms, _NEVER_MS)
    transits = np.where(good, received_ms - sent_ms, np.nan)
    disordered = np.flatnonzero((np.diff(keyed, axis=1) < 0).any(axis=1))
    if disordered.size:
        order = np.argsort(keyed[disordered], axis=1, kind="stable")
        transits[disordered] = np.take_along_axis(transits[disordered], order, axis=1)
    # Gaps that lost packets leave are closed by carrying the packet before on.
    jitter = np.zeros(good.shape[0])
    before = np.full(good.shape[0], np.nan)
    for at in range(good.shape[1]):
        now = transits[:, at]
        there = ~np.isnan(now)
        step = np.abs(now - before)
        known = there & ~np.isnan(before)
        jitter[known] += (step[known] - jitter[known]) / 16
        before = np.where(there, now, before)
    return np.where(good.sum(axis=1) > 1, jitter, np.nan)

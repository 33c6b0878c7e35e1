"""Figures of streams over a window, each with its interval, its count and how it was computed.

**Exact or within 1 %.** A question is answered from every sample when it reaches over at most `MOST_SAMPLES` runs as their
schedules make them, and the samples are still kept. Beyond that it is answered from the summaries of hours and days, whose
percentiles are within 1 % and whose counts, sums and ends are exact; slices then are whole hours or days. Every answer says
which it was.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core import sketch as sketches
from kuppel.core import window
from kuppel.core.percentile import percentile_interval
from kuppel.core.proportion import wilson
from kuppel.core.series import FloatArray
from kuppel.core.sketch import Sketch, quantile_interval
from kuppel.hub.engine.joined import Joined
from kuppel.store import history, rollup, totals
from kuppel.store.database import Connection
from kuppel.store.summary import Summary

FEW_SAMPLES = 30
# Read and sorted in a tenth of a second or two.
MOST_SAMPLES = 120_000
EXACT, WITHIN = "exact", "within 1 %"
NOTHING = (np.empty(0, dtype=np.int64), np.empty(0))


@dataclass(frozen=True, slots=True)
class Statistic:
    """A figure with its interval, sample count and how it was computed. `value` is None without a sample."""

    value: float | None
    low: float | None
    high: float | None
    count: int
    method: str

    @property
    def is_few(self) -> bool:
        return self.count < FEW_SAMPLES


def share_statistic(count: int, total: int, of_what: str) -> Statistic:
    """A share with its Wilson interval."""
    proportion = wilson(count, total)
    return Statistic(
        proportion.ratio, proportion.low, proportion.high, total, f"share of {of_what}; interval {proportion.method}"
    )


def time_statistic(values: FloatArray, share: float) -> Statistic:
    """A percentile of the runs that were ok, with its interval."""
    method = "RFC 2330 §11.3 percentile over runs that were ok; 95 % interval from order statistics; exact"
    if values.size == 0:
        return Statistic(None, None, None, 0, method)
    interval = percentile_interval(values, share)
    return Statistic(interval.value, interval.low, interval.high, interval.count, method)


def sketch_statistic(of: Sketch, share: float) -> Statistic:
    """A percentile of the runs that were ok from a sketch of them, with its interval."""
    method = (
        "RFC 2330 §11.3 percentile over runs that were ok, from logarithmic buckets;"
        " 95 % interval from order statistics; within 1 %"
    )
    if of.count == 0:
        return Statistic(None, None, None, 0, method)
    interval = quantile_interval(of, share)
    return Statistic(interval.value, interval.low, interval.high, interval.count, method)


def is_exact(connection: Connection, joined: Sequence[Joined], from_us: int, to_us: int) -> bool:
    expected = sum((to_us - from_us) // one.probe.interval_us for one in joined)
    return expected <= MOST_SAMPLES and not history.is_retired(connection, from_us)


def statistics_of(
    connection: Connection, wanted: Sequence[tuple[Joined, str]], statistic: str, from_us: int, to_us: int
) -> list[Statistic]:
    """One statistic of each series over a window."""
    ids, names = {one.stream.id for one, _ in wanted}, {name for _, name in wanted}
    if statistic in ("count", "failed"):
        counts = totals.run_counts(connection, ids, from_us, to_us)
        return [_counted(statistic, *counts[one.stream.id]) for one, _ in wanted]
    share = window.share_of(statistic)
    if share is not None:
        return percentiles_of(connection, [(one, name, share) for one, name in wanted], from_us, to_us)
    if is_exact(connection, [one for one, _ in wanted], from_us, to_us):
        samples = history.samples(connection, ids, names, from_us, to_us)
        return [_of_samples(samples.get((one.stream.id, name), NOTHING)[1], statistic) for one, name in wanted]
    told = rollup.whole_summaries(connection, {one.stream.id: name for one, name in wanted}, from_us, to_us)
    return [_of_summary(told[one.stream.id], statistic) for one, _ in wanted]


def percentiles_of(
    connection: Connection, wanted: Sequence[tuple[Joined, str, float]], from_us: int, to_us: int
) -> list[Statistic]:
    """A percentile of each series over a window, each its own."""
    if is_exact(connection, [one for one, _, _ in wanted], from_us, to_us):
        ids, names = {one.stream.id for one, _, _ in wanted}, {name for _, name, _ in wanted}
        found = history.samples(connection, ids, names, from_us, to_us)
        return [time_statistic(found.get((one.stream.id, name), NOTHING)[1], share) for one, name, share in wanted]
    sketched = rollup.sketches_of(connection, [(one.stream.id, name) for one, name, _ in wanted], from_us, to_us)
    return [sketch_statistic(sketched[one.stream.id, name], share) for one, name, share in wanted]


def _counted(statistic: str, ok: int, total: int) -> Statistic:
    return Statistic(float(total if statistic == "count" else total - ok), None, None, total, f"runs counted; {EXACT}")


def _of_samples(values: FloatArray, statistic: str) -> Statistic:
    if values.size == 0:
        return Statistic(None, None, None, 0, EXACT)
    if statistic == "mean":
        spread = float(values.std(ddof=1)) if values.size > 1 else None
        return _mean(float(values.mean()), spread, values.size, EXACT)
    value = float(values.min() if statistic == "min" else values.max())
    return Statistic(value, None, None, values.size, f"{statistic} over runs that were ok; {EXACT}")


def _of_summary(of: Summary, statistic: str) -> Statistic:
    if of.count == 0:
        return Statistic(None, None, None, 0, EXACT)
    if statistic == "mean":
        return _mean(of.sum / of.count, sketches.deviation(of.sketch), of.count, f"{EXACT}, its interval within 1 %")
    value = of.least if statistic == "min" else of.most
    return Statistic(value, None, None, of.count, f"{statistic} over runs that were ok; {EXACT}")


def _mean(value: float, spread: float | None, count: int, told: str) -> Statistic:
    reach = None if spread is None else 1.96 * spread / count**0.5
    low, high = (None, None) if reach is None else (value - reach, value + reach)
    return Statistic(value, low, high, count, f"mean over runs that were ok; 95 % interval 1.96 s/√n; {told}")

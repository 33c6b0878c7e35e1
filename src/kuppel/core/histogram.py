"""Exponential histograms as OpenTelemetry defines them: buckets whose edges are powers of 2^(2^−scale).

Bucket i holds values in (baseⁱ, baseⁱ⁺¹] with base = 2^(2^−scale); negative values are held by their size. Lowering the
scale by one joins two neighbours exactly, so histograms of different scales merge without loss beyond the coarser one.

Reference: OpenTelemetry, Metrics Data Model, section "ExponentialHistogram".
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from kuppel.core.error import SettingsError
from kuppel.core.percentile import rank

Counts = NDArray[np.int64]
LEAST_SCALE, MOST_SCALE = -10, 20
_NONE: Counts = np.empty(0, dtype=np.int64)


@dataclass(frozen=True, slots=True)
class Buckets:
    """Counts of the buckets from number `offset` on."""

    offset: int = 0
    counts: Counts = field(default_factory=lambda: _NONE)

    @property
    def count(self) -> int:
        return int(self.counts.sum())

    def lowered(self, steps: int) -> "Buckets":
        """At a scale lower by so many steps."""
        if steps == 0 or self.counts.size == 0:
            return Buckets(self.offset >> steps, self.counts)
        numbers = (np.arange(self.counts.size, dtype=np.int64) + self.offset) >> steps
        first = int(numbers[0])
        return Buckets(first, np.bincount(numbers - first, self.counts).astype(np.int64))


@dataclass(frozen=True, slots=True)
class ExponentialHistogram:
    """A histogram of one stretch of time. `least` and `most` are None where the sender did not tell them."""

    scale: int
    zero_count: int
    zero_threshold: float
    positive: Buckets
    negative: Buckets
    sum: float
    least: float | None = None
    most: float | None = None

    @property
    def count(self) -> int:
        return self.zero_count + self.positive.count + self.negative.count

    @property
    def relative_error(self) -> float:
        """How far a percentile may lie from its value, as a share of it."""
        return (base(self.scale) - 1) / (base(self.scale) + 1)


def base(scale: int) -> float:
    """What one edge is multiplied by to give the next.

    >>> base(0), base(-1), round(base(3), 5)
    (2.0, 4.0, 1.09051)
    """
    return float(2.0 ** (2.0**-scale))


def bucket_numbers(sizes: NDArray[np.float64], scale: int) -> Counts:
    """The bucket of each positive value: upper edges belong to it.

    >>> bucket_numbers(np.array([1.0, 1.5, 2.0, 4.0, 4.1]), 0).tolist()
    [-1, 0, 0, 1, 2]
    """
    return np.ceil(np.log2(sizes) * 2.0**scale).astype(np.int64) - 1


def check(of: ExponentialHistogram) -> None:
    """Raise `SettingsError` for what no sender may send."""
    if not LEAST_SCALE <= of.scale <= MOST_SCALE:
        raise SettingsError("scale", of.scale, f"lie between {LEAST_SCALE} and {MOST_SCALE}")
    if not math.isfinite(of.sum):
        raise SettingsError("sum", of.sum, "be a finite number")
    if not 0 <= of.zero_threshold < math.inf:
        raise SettingsError("zero_threshold", of.zero_threshold, "be a finite number, 0 or more")
    if of.zero_count < 0 or (of.positive.counts < 0).any() or (of.negative.counts < 0).any():
        raise SettingsError("counts", "negative", "be 0 or more")


def merged(histograms: Sequence[ExponentialHistogram]) -> ExponentialHistogram:
    """The histogram of all together, at the lowest of their scales.

    Notes
    -----
    Buckets below the largest zero threshold are counted as zero, as the data model asks.
    """
    if not histograms:
        return ExponentialHistogram(MOST_SCALE, 0, 0.0, Buckets(), Buckets(), 0.0)
    scale = min(one.scale for one in histograms)
    lowered = [
        replace(
            one,
            scale=scale,
            positive=one.positive.lowered(one.scale - scale),
            negative=one.negative.lowered(one.scale - scale),
        )
        for one in histograms
    ]
    threshold = max(one.zero_threshold for one in lowered)
    zeros = sum(one.zero_count for one in lowered)
    positive, into_zero = _above(_joined([one.positive for one in lowered]), threshold, scale)
    negative, also_zero = _above(_joined([one.negative for one in lowered]), threshold, scale)
    least = [one.least for one in lowered]
    most = [one.most for one in lowered]
    return ExponentialHistogram(
        scale,
        zeros + into_zero + also_zero,
        threshold,
        positive,
        negative,
        sum(one.sum for one in lowered),
        None if None in least else min(one for one in least if one is not None),
        None if None in most else max(one for one in most if one is not None),
    )


def _joined(parts: Sequence[Buckets]) -> Buckets:
    held = [one for one in parts if one.counts.size]
    if not held:
        return Buckets()
    first = min(one.offset for one in held)
    counts = np.zeros(max(one.offset + one.counts.size for one in held) - first, dtype=np.int64)
    for one in held:
        counts[one.offset - first : one.offset - first + one.counts.size] += one.counts
    return Buckets(first, counts)


def _above(of: Buckets, threshold: float, scale: int) -> tuple[Buckets, int]:
    """What lies above a threshold, and how many do not."""
    if threshold <= 0 or of.counts.size == 0:
        return of, 0
    # A bucket whose upper edge is at most the threshold lies wholly within it.
    first = math.floor(math.log2(threshold) * 2.0**scale + 1e-12)
    inside = max(0, min(of.counts.size, first - of.offset))
    return Buckets(of.offset + inside, of.counts[inside:]), int(of.counts[:inside].sum())


def quantile(of: ExponentialHistogram, share: float) -> float | None:
    """The percentile (RFC 2330 §11.3) of what the histogram holds, within its `relative_error`; None when it is empty.

    Zero stands for what lies within the zero threshold; ends that the sender told bound the answer.
    """
    if of.count == 0:
        return None
    wanted = rank(share, of.count)
    negative = of.negative.counts[::-1]
    counts = np.concatenate([negative, [of.zero_count], of.positive.counts])
    index = int(np.searchsorted(np.cumsum(counts), wanted))
    if index < negative.size:
        value = -_middle(of.negative.offset + negative.size - 1 - index, of.scale)
    elif index == negative.size:
        value = 0.0
    else:
        value = _middle(of.positive.offset + index - negative.size - 1, of.scale)
    if of.least is not None:
        value = max(value, of.least)
    return value if of.most is None else min(value, of.most)


def _middle(number: int, scale: int) -> float:
    """The value that is nearest, by ratio of error, to both edges of a bucket: their harmonic mean."""
    low = float(2.0 ** (number * 2.0**-scale))
    return 2 * low * base(scale) / (1 + base(scale))

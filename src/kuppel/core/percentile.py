"""Percentiles of the empirical distribution, and how far they can be trusted.

RFC 2330 §11.3: F(x) is the share of values ≤ x; the p-th percentile is the smallest x with F(x) ≥ p. A lost packet is an
undefined delay and counts as infinite (RFC 7679 §5.1), so a percentile of a lossy sample may itself be infinite.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def empirical_share(values: Sequence[float] | Array, x: float) -> float:
    """F(x): the share of `values` that are ≤ x. RFC 2330 §11.3.

    >>> empirical_share([-2, 7, 7, 4, 18, -5], 7)
    0.8333333333333334
    """
    sample = np.asarray(values, dtype=np.float64)
    if sample.size == 0:
        raise ValueError("an empty sample has no distribution")
    return float(np.count_nonzero(sample <= x) / sample.size)


def rank(share: float, count: int) -> int:
    """The 1-based rank of the percentile `share` in a sorted sample of `count`: the smallest k with k/count ≥ share."""
    if not 0 < share <= 1:
        raise ValueError(f"a percentile's share is {share}; it must be above 0 and at most 1")
    # The subtraction keeps 0.95 × 20 from being 19.000000000000004 and so rank 20.
    return max(1, math.ceil(share * count - 1e-9))


def percentile(values: Sequence[float] | Array, share: float) -> float:
    """The percentile of the empirical distribution.

    Parameters
    ----------
    values : shape (n,), any order; infinity stands for a lost packet.
    share : 0 < share ≤ 1, for example 0.95.

    References
    ----------
    RFC 2330 §11.3.

    Examples
    --------
    >>> percentile([-2, 7, 7, 4, 18, -5], 0.5)
    4.0
    """
    sample = np.sort(np.asarray(values, dtype=np.float64))
    if sample.size == 0:
        raise ValueError("an empty sample has no percentile")
    return float(sample[rank(share, sample.size) - 1])


def median(values: Sequence[float] | Array) -> float:
    """The statistician's median, the mean of the two middle values of an even sample; not the 50th percentile.

    RFC 2330 §11.3 keeps the two apart.

    >>> median([-2, 7, 7, 4, 18, -5])
    5.5
    """
    return float(np.median(np.asarray(values, dtype=np.float64)))


@dataclass(frozen=True, slots=True)
class PercentileInterval:
    """A percentile with its distribution-free confidence interval; a bound that the sample cannot give is None."""

    value: float
    low: float | None
    high: float | None
    count: int
    confidence: float


def percentile_interval(values: Sequence[float] | Array, share: float, confidence: float = 0.95) -> PercentileInterval:
    """A percentile with an interval from order statistics, which assumes nothing about the distribution.

    The number of values below the true percentile is binomial(n, share); the interval runs from the l-th to the u-th
    smallest value, where P(B ≤ l−1) ≤ α/2 and P(B ≤ u−1) ≥ 1 − α/2.

    References
    ----------
    H. A. David and H. N. Nagaraja, Order Statistics, 3rd ed., §7.1.
    """
    sample = np.sort(np.asarray(values, dtype=np.float64))
    count = sample.size
    value = percentile(sample, share)
    lower, upper = interval_ranks(count, share, confidence)
    return PercentileInterval(
        value,
        float(sample[lower - 1]) if lower >= 1 else None,
        float(sample[upper - 1]) if upper <= count else None,
        count,
        confidence,
    )


# Beyond this the normal approximation of the ranks is within one of the exact ones, and far quicker.
_EXACT_COUNT = 20_000


@lru_cache(maxsize=4096)  # streams of one interval have the same counts, again and again
def interval_ranks(count: int, share: float, confidence: float = 0.95) -> tuple[int, int]:
    """Ranks (from 1) of the order statistics that bound a percentile; 0 or count + 1 where the sample cannot bound it.

    Of samples over 20,000 the binomial distribution is approximated by the normal one, David and Nagaraja §7.1.
    """
    tail = (1 - confidence) / 2
    if count > _EXACT_COUNT:
        reach = NormalDist().inv_cdf(1 - tail) * math.sqrt(count * share * (1 - share))
        return max(0, math.floor(count * share - reach)), min(count + 1, math.ceil(count * share + reach) + 1)
    below = _binomial_cdf(count, share)
    # The tolerance absorbs rounding of the summed probabilities.
    lower = int(np.searchsorted(below, tail + 1e-12, side="right"))
    return lower, int(np.searchsorted(below, 1 - tail - 1e-12, side="left")) + 1


def _binomial_cdf(count: int, share: float) -> Array:
    """P(B ≤ k) for k = 0 … count, B binomial(count, share)."""
    if share >= 1:
        return np.concatenate([np.zeros(count), [1.0]])
    k = np.arange(count + 1)
    log_factorial = np.concatenate([[0.0], np.cumsum(np.log(np.arange(1, count + 1)))])
    log_mass = (
        log_factorial[count] - log_factorial - log_factorial[::-1] + k * math.log(share) + (count - k) * math.log1p(-share)
    )
    return np.cumsum(np.exp(log_mass))

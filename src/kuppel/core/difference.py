"""The difference of two estimates, with an interval made from theirs."""

import math
from dataclasses import dataclass

from kuppel.core.percentile import PercentileInterval
from kuppel.core.proportion import Proportion


@dataclass(frozen=True, slots=True)
class Estimate:
    """A value with its interval; an end that the sample cannot give is None."""

    value: float
    low: float | None
    high: float | None


@dataclass(frozen=True, slots=True)
class Difference:
    """`value` is the first less the second. An end is None when an end that it needs is."""

    value: float
    low: float | None
    high: float | None

    @property
    def is_clear(self) -> bool:
        """Whether the interval lies on one side of zero: a difference that the samples cannot put down to chance."""
        return (self.low is not None and self.low > 0) or (self.high is not None and self.high < 0)


def difference(one: Estimate, two: Estimate) -> Difference:
    """The difference of two independent estimates, its interval recovered from their own at the same confidence.

    References
    ----------
    Zou and Donner, "Construction of confidence limits about effect measures", Statistics in Medicine 27 (2008)
    1693–1702, formula for θ₁ − θ₂; for two shares with Wilson intervals it is method 10 of Newcombe, Statistics in
    Medicine 17 (1998) 873–890.

    Examples
    --------
    >>> found = difference(Estimate(10.0, 9.0, 11.0), Estimate(7.0, 6.0, 8.0))
    >>> round(found.value, 3), round(found.low, 3), round(found.high, 3), found.is_clear
    (3.0, 1.586, 4.414, True)
    """
    value = one.value - two.value
    if not math.isfinite(value):
        return Difference(value, None, None)
    low = None if one.low is None or two.high is None else value - math.hypot(one.value - one.low, two.high - two.value)
    high = None if one.high is None or two.low is None else value + math.hypot(one.high - one.value, two.value - two.low)
    return Difference(value, low, high)


def of_percentile(interval: PercentileInterval) -> Estimate:
    return Estimate(interval.value, interval.low, interval.high)


def of_share(share: Proportion) -> Estimate | None:
    return None if share.ratio is None else Estimate(share.ratio, share.low, share.high)

"""Shares (loss, availability) never travel without their interval and sample count."""

import math
from dataclasses import dataclass

# The 97.5 % point of the standard normal distribution: two-sided 95 %.
_Z_95 = 1.959963984540054


@dataclass(frozen=True, slots=True)
class Proportion:
    """`count` of `total`, its ratio, and the 95 % Wilson score interval. Without a sample the ratio is None."""

    count: int
    total: int
    ratio: float | None
    low: float | None
    high: float | None
    method: str = "Wilson score, 95 %"


def wilson(count: int, total: int) -> Proportion:
    """The ratio count/total with its 95 % Wilson score interval.

    Parameters
    ----------
    count, total : 0 ≤ count ≤ total.

    References
    ----------
    E. B. Wilson, JASA 22 (1927) 209–212; recommended for small samples and ratios near 0 or 1 by R. G. Newcombe,
    Statistics in Medicine 17 (1998) 857–872, method 3.

    Examples
    --------
    >>> interval = wilson(81, 263)
    >>> round(interval.low, 4), round(interval.high, 4)
    (0.2553, 0.3662)
    """
    if not 0 <= count <= total:
        raise ValueError(f"count is {count}; it must lie between 0 and the total, {total}")
    if total == 0:
        return Proportion(0, 0, None, None, None)
    ratio = count / total
    z2 = _Z_95 * _Z_95
    centre = (ratio + z2 / (2 * total)) / (1 + z2 / total)
    half = _Z_95 / (1 + z2 / total) * math.sqrt(ratio * (1 - ratio) / total + z2 / (4 * total * total))
    # At the ends the bound is exact; the subtraction would leave 1e-17.
    low = 0.0 if count == 0 else centre - half
    high = 1.0 if count == total else centre + half
    return Proportion(count, total, ratio, low, high)

"""How far a figure departs from what it is held against, in classes that a picture can tell apart.

Whatever is worse is positive: classes 1 to 4 are worse, −1 and −2 better, 0 is as usual. The edges of the classes are
common practice, no source.
"""

from dataclasses import dataclass

import numpy as np

from kuppel.core.baseline import Baseline, hour_of_week
from kuppel.core.difference import Difference
from kuppel.core.duration import HOUR_US
from kuppel.core.quantity import Worse

# In spreads: a normal value is beyond 2.5 once in eighty times, beyond 4 once in 16,000.
_SPREADS = (2.5, 4.0, 6.5, 10.0)
# Of a share, in points; of a comparison, as a ratio.
_POINTS = (0.005, 0.02, 0.08, 0.25)
_CHANGES = (0.1, 0.25, 0.5, 1.0)
# The lowest class that deserves a sentence.
UNUSUAL = 2
# Nobody calls less than this a difference: a part of the centre, and an amount of the unit.
_LEAST_PART = 0.04
_LEAST = {"ms": 0.5, "{mos}": 0.05, "1": 0.002}


@dataclass(frozen=True, slots=True)
class Departure:
    """What is usual, and how far a value lies from it: `amount` in spreads, points or as a ratio, worse is positive."""

    usual: float
    amount: float
    level: int


def from_usual(
    of: Baseline, from_us: int, to_us: int, value: float, unit: str, worse: Worse, *, is_end: bool = False
) -> Departure | None:
    """A window's median against the centres of the window's hours, or its bad end against their usual ends; None where no
    hour's pattern is known.

    Notes
    -----
    Centre (or end) and spread are the means of those of the hours that the window touches, each weighed by how much of it.
    """
    starts = np.arange(from_us // HOUR_US * HOUR_US, to_us, HOUR_US, dtype=np.int64)
    weights = np.minimum(starts + HOUR_US, to_us) - np.maximum(starts, from_us)
    hours = hour_of_week(starts)
    known = of.count[hours] > 0
    if not known.any():
        return None
    centre, spread = (
        float(np.average(column[hours][known], weights=weights[known]))
        for column in (of.end if is_end else of.centre, of.spread)
    )
    least = max(spread, _LEAST_PART * abs(centre), _LEAST.get(unit, 0.0))
    amount = 0.0 if least == 0 else (value - centre) / least * (1 if worse == "higher" else -1)
    return Departure(centre, amount, _level(amount, _SPREADS))


def from_usual_share(usual: float, value: float, low: float, high: float, worse: Worse) -> Departure:
    """A share against its usual one, in points. Within its interval it is as usual.

    >>> from_usual_share(0.001, 0.04, 0.02, 0.07, "higher").level, from_usual_share(0.03, 0.04, 0.02, 0.07, "higher").level
    (2, 0)
    """
    amount = (value - usual) * (1 if worse == "higher" else -1)
    return Departure(usual, amount, 0 if low <= usual <= high else _level(amount, _POINTS))


def from_before(before: float, difference: Difference, worse: Worse) -> Departure:
    """A figure against the same of another window, as a ratio of that. What may be chance is no departure.

    >>> from_before(40.0, Difference(20.0, 15.0, 25.0), "higher").level
    3
    >>> from_before(40.0, Difference(20.0, -1.0, 41.0), "higher").level
    0
    """
    sign = 1 if worse == "higher" else -1
    amount = sign * (difference.value / abs(before) if before else float(np.sign(difference.value)))
    return Departure(before, amount, _level(amount, _CHANGES) if difference.is_clear else 0)


def from_before_share(before: float, difference: Difference, worse: Worse) -> Departure:
    """A share against the same of another window, in points."""
    amount = difference.value * (1 if worse == "higher" else -1)
    return Departure(before, amount, _level(amount, _POINTS) if difference.is_clear else 0)


def _level(amount: float, edges: tuple[float, ...]) -> int:
    """
    >>> [_level(one, (1.0, 2.0, 3.0, 4.0)) for one in (0.5, 1.0, 3.5, 9.0, -1.5, -9.0)]
    [0, 1, 3, 4, -1, -2]
    """
    if amount < 0:
        return -sum(-amount >= edge for edge in edges[:2])
    return sum(amount >= edge for edge in edges)

"""Change points: where a series changed its level, or its level and spread, for good.

The best segmentation under a penalty for every change is found exactly by PELT: Killick, Fearnhead and Eckley, "Optimal
detection of changepoints with a linear computational cost", JASA 107 (2012) 1590–1598. The cost of a segment is minus twice
its greatest normal log-likelihood, constants left out:

| what may change  | cost of x₁ … xₙ               |
| ---------------- | ----------------------------- |
| level            | Σ (xᵢ − x̄)² / σ²              |
| level and spread | n log(Σ (xᵢ − x̄)² / n)        |

σ is the robust spread of the differences between neighbours, over √2: a level that changes now and then moves it little.
"""

import itertools
import math
from typing import Literal

import numpy as np

from kuppel.core.baseline import robust
from kuppel.core.series import FloatArray, IntArray

What = Literal["level", "spread"]
# A spread of nothing would make any value beside a constant a change.
_LEAST_VARIANCE = 1e-12


def change_points(values: FloatArray, what: What = "level", *, penalty: float | None = None, least: int = 5) -> list[int]:
    """Where new segments begin, in rising order; none when nothing changed.

    Parameters
    ----------
    values : shape (n,), finite, evenly spaced.
    penalty : what a change must save; 3 log n for the level, 6 log n for both if left out: three times as many parameters
    as
        a change has would cost by the Bayesian information criterion (Schwarz, 1978), so that chance seldom makes one.
    least : the fewest values of a segment, at least 2.
    """
    size = values.size
    if size < 2 * least:
        return []
    cost = _Cost(values, what)
    asked = (3 if what == "level" else 6) * float(np.log(size)) if penalty is None else penalty
    best = np.full(size + 1, np.inf)
    best[0] = -asked
    before = np.zeros(size + 1, dtype=np.int64)
    # Until where each start may be the best one.
    expires = np.full(size + 1, 2 * size, dtype=np.int64)
    for end in range(least, size + 1):
        begun = np.flatnonzero(expires[: end - least + 1] > end)
        totals = best[begun] + cost.of(begun, end) + asked
        at = int(np.argmin(totals))
        best[end], before[end] = totals[at], begun[at]
        # A start that is worse even without its penalty is never the best again (Killick et al., theorem 3.1), once a
        # segment that begins here may end.
        beaten = begun[totals - asked > best[end]]
        expires[beaten] = np.minimum(expires[beaten], end + least)
    found = []
    end = size
    while before[end] > 0:
        end = int(before[end])
        found.append(end)
    return found[::-1]


def level_and_spread(values: FloatArray) -> list[tuple[int, What]]:
    """Where a series changed for good, in rising order: its level, or its spread alone.

    Notes
    -----
    The segments are those of level and spread together, so that a spread that grows makes no levels of chance. A change is
    one of level when the means beside it lie more than three standard errors of their difference apart (Welch, Biometrika
    34 (1947) 28-35), which chance does once in 370.
    """
    found = change_points(values, "spread")
    edges = [0, *found, values.size]
    parts = [values[begun:ended] for begun, ended in itertools.pairwise(edges)]
    told: list[tuple[int, What]] = []
    for at, (one, two) in zip(found, itertools.pairwise(parts), strict=True):
        error = math.sqrt(one.var(ddof=1) / one.size + two.var(ddof=1) / two.size)
        told.append((at, "level" if abs(one.mean() - two.mean()) > 3 * error else "spread"))
    return told


class _Cost:
    """Costs of segments [begun, end), by sums up to each value."""

    def __init__(self, values: FloatArray, what: What) -> None:
        # Around the middle, so that squares of large values do not eat the digits that matter.
        centred = values - np.median(values)
        self._sums = np.concatenate([[0.0], np.cumsum(centred)])
        self._squares = np.concatenate([[0.0], np.cumsum(centred**2)])
        self._what = what
        self._variance = max(_LEAST_VARIANCE, robust(np.diff(values))[1] ** 2 / 2)

    def of(self, begun: IntArray, end: int) -> FloatArray:
        count: FloatArray = (end - begun).astype(np.float64)
        total: FloatArray = self._sums[end] - self._sums[begun]
        apart: FloatArray = np.maximum(self._squares[end] - self._squares[begun] - total**2 / count, 0.0)
        if self._what == "level":
            return apart / self._variance
        found: FloatArray = count * np.log(np.maximum(apart / count, _LEAST_VARIANCE))
        return found

"""Runs in classes of answer: how far each is inside or beyond the limits of its own stream, or failed."""

from enum import IntEnum

import numpy as np

from kuppel.core.limit import Level, Limit
from kuppel.core.series import FloatArray, IntArray

# A group answers within a class when at least this share of its runs did (common practice, no source).
MOST = 0.95


class AnswerClass(IntEnum):
    """Best first."""

    CLEAR = Level.INSIDE
    WITHIN = Level.BETWEEN
    DEGRADED = Level.DEGRADED
    BREACHED = Level.BREACHED
    FAILED = Level.BREACHED + 1


def class_counts(limit: Limit, values: FloatArray, counts: IntArray, failed: int) -> IntArray:
    """Runs in each class, shape (5,).

    Parameters
    ----------
    values, counts : shape (n,): values of the limit's quantity, and how many runs had each.
    """
    found = np.bincount(limit.levels(values), counts, len(AnswerClass)).astype(np.int64)
    found[AnswerClass.FAILED] = failed
    return found


def class_of(counts: IntArray) -> AnswerClass | None:
    """The best class in which, or in better ones, `MOST` of all runs lie; None without a run.

    >>> class_of(np.array([90, 6, 0, 0, 4])), class_of(np.array([90, 0, 0, 0, 10]))
    (<AnswerClass.WITHIN: 1>, <AnswerClass.FAILED: 4>)
    """
    total = int(counts.sum())
    if total == 0:
        return None
    # Rounded up: 95 % of 10 runs are 10 runs.
    wanted = int(np.ceil(MOST * total - 1e-9))
    return AnswerClass(int(np.searchsorted(np.cumsum(counts), wanted)))

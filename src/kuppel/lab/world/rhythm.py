"""When the made-up world is busy: by the hour of the day and the day of the week (UTC)."""

import numpy as np

from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.core.series import FloatArray, IntArray

# Share of the busiest hour, by hour: offices from eight to five, homes in the evening, nobody at four.
_BY_HOUR = np.array(
    [
        0.22, 0.15, 0.11, 0.09, 0.09, 0.13, 0.26, 0.45, 0.66, 0.74, 0.76, 0.74,
        0.72, 0.72, 0.74, 0.76, 0.80, 0.86, 0.93, 0.98, 1.00, 0.90, 0.66, 0.40,
    ]
)  # fmt: skip
# Monday … Sunday.
_BY_WEEKDAY = np.array([0.96, 0.95, 0.96, 0.98, 1.00, 0.90, 0.86])
_FIRST_WEEKDAY = 3  # 1 January 1970 was a Thursday


def busy_share(times_us: IntArray) -> FloatArray:
    """How busy it is, from nearly 0 to 1, at each time; linear between the hours' middles."""
    hour = times_us % DAY_US / HOUR_US - 0.5
    before = np.floor(hour).astype(np.int64)
    share = hour - before
    by_hour = _BY_HOUR[before % 24] * (1 - share) + _BY_HOUR[(before + 1) % 24] * share
    found: FloatArray = by_hour * _BY_WEEKDAY[(times_us // DAY_US + _FIRST_WEEKDAY) % 7]
    return found

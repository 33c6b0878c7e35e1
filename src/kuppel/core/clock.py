"""How far two clocks are apart, from exchanges of time stamps."""

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ClockOffset:
    """The other clock minus ours, and the most by which that can be wrong: half the round trip."""

    offset_us: float
    error_us: float


def clock_offset(t1: float, t2: float, t3: float, t4: float) -> ClockOffset:
    """Offset from one exchange: sent at t1 and back at t4 by our clock, received at t2 and answered at t3 by the other.

    References
    ----------
    RFC 5905 §8: θ = ½[(T2−T1)+(T3−T4)], δ = (T4−T1)−(T3−T2); the true offset lies within θ ± δ/2.

    Examples
    --------
    >>> clock_offset(0, 115, 117, 32)
    ClockOffset(offset_us=100.0, error_us=15.0)
    """
    return ClockOffset(((t2 - t1) + (t3 - t4)) / 2, max(0.0, ((t4 - t1) - (t3 - t2)) / 2))


def best_offset(exchanges: Iterable[ClockOffset]) -> ClockOffset | None:
    """The exchange with the shortest round trip, which was disturbed least (the clock filter of RFC 5905 §10)."""
    return min(exchanges, key=lambda one: one.error_us, default=None)

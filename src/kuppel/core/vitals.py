"""What a page load felt like: layout shifts, blocking time, when it could be used, how complete it looked when."""

from collections.abc import Sequence
from dataclasses import dataclass

_LONG_MS = 50.0


@dataclass(frozen=True, slots=True)
class Shift:
    """One layout shift (Layout Instability API): when, in ms after the start, and its score. Shifts within half a second of
    the user's input do not count."""

    at_ms: float
    score: float
    had_recent_input: bool = False


def cumulative_layout_shift(shifts: Sequence[Shift]) -> float:
    """The largest session of shifts: less than 1 s between two, less than 5 s in all (web.dev, "Cumulative Layout Shift").

    >>> round(cumulative_layout_shift([Shift(0, 0.05), Shift(999, 0.05)]), 3)
    0.1
    >>> round(cumulative_layout_shift([Shift(0, 0.05), Shift(1000, 0.05)]), 3)
    0.05
    """
    most = session = 0.0
    first = last = 0.0
    for one in sorted(shifts, key=lambda shift: shift.at_ms):
        if one.had_recent_input:
            continue
        if session and one.at_ms - last < 1000 and one.at_ms - first < 5000:
            session += one.score
        else:
            session, first = one.score, one.at_ms
        last = one.at_ms
        most = max(most, session)
    return most


@dataclass(frozen=True, slots=True)
class Stretch:
    """A stretch of time, in ms after the start of the load: a long task, or a request."""

    start_ms: float
    end_ms: float


def total_blocking_time(tasks: Sequence[Stretch], from_ms: float, to_ms: float) -> float:
    """What tasks took beyond 50 ms each, in ms, between first contentful paint and time to interactive
    (web.dev, "Total Blocking Time"). A task that begins before is counted from there.

    >>> tasks = [Stretch(100, 350), Stretch(400, 490), Stretch(500, 535), Stretch(600, 630), Stretch(700, 855)]
    >>> total_blocking_time(tasks, 0, 1000)
    345.0
    """
    total = 0.0
    for task in tasks:
        start, end = max(task.start_ms, from_ms), min(task.end_ms, to_ms)
        total += max(0.0, end - start - _LONG_MS)
    return total


def time_to_interactive(
    fcp_ms: float, loaded_ms: float, tasks: Sequence[Stretch], requests: Sequence[Stretch], quiet_ms: float
) -> float:
    """The end of the last long task before a quiet window: one without long tasks and with at most two requests under way.

    Searched from first contentful paint on; never before the document's content was loaded (web.dev, "Time to Interactive",
    where the window is 5 s). The last observation is taken to be followed by quiet.

    Parameters
    ----------
    tasks : tasks of more than 50 ms.
    """
    end = fcp_ms
    ends = sorted({fcp_ms, *(one.end_ms for one in tasks), *(one.end_ms for one in requests)})
    for candidate in (one for one in ends if one >= fcp_ms):
        window = Stretch(candidate, candidate + quiet_ms)
        if any(_overlap(one, window) for one in tasks):
            continue
        moments = [candidate, *(one.start_ms for one in requests if _inside(one.start_ms, window))]
        if all(sum(one.start_ms <= at < one.end_ms for one in requests) <= 2 for at in moments):
            end = candidate
            break
    before = [one.end_ms for one in tasks if one.end_ms <= end]
    return max(fcp_ms, loaded_ms, max(before, default=0.0))


def _overlap(one: Stretch, window: Stretch) -> bool:
    return one.start_ms < window.end_ms and one.end_ms > window.start_ms


def _inside(at: float, window: Stretch) -> bool:
    return window.start_ms <= at < window.end_ms


@dataclass(frozen=True, slots=True)
class Frame:
    """What the page looked like from a moment on: counts of its colours, all frames in the same bins."""

    at_ms: float
    histogram: tuple[int, ...]


def visual_progress(frames: Sequence[Frame]) -> list[tuple[float, float]]:
    """How complete each frame is, from 0 (as the first) to 1 (as the last), by the distance of colour histograms
    (common practice, no source)."""
    if not frames:
        return []
    first, last = frames[0].histogram, frames[-1].histogram
    whole = _distance(first, last)
    if not whole:
        return [(one.at_ms, 1.0) for one in frames]
    return [(one.at_ms, max(0.0, 1 - _distance(one.histogram, last) / whole)) for one in frames]


def _distance(one: tuple[int, ...], other: tuple[int, ...]) -> int:
    return sum(abs(a - b) for a, b in zip(one, other, strict=True))


def visually_complete(progress: Sequence[tuple[float, float]], share: float = 0.95) -> float | None:
    """From when on the page looked complete and stayed so, in ms; None without a frame.

    >>> visually_complete([(0, 0.0), (100, 0.97), (200, 0.5), (300, 1.0)])
    300
    """
    found = None
    for at_ms, complete in progress:
        if complete < share:
            found = None
        elif found is None:
            found = at_ms
    return found


def speed_index(progress: Sequence[tuple[float, float]]) -> float | None:
    """The mean time at which a part of the page appeared: the area above the curve of progress, in ms.

    >>> speed_index([(0, 0.0), (500, 0.5), (1000, 1.0)])
    750.0
    """
    if not progress:
        return None
    area, before_ms, done = 0.0, 0.0, 0.0
    for at_ms, complete in progress:
        area += (at_ms - before_ms) * (1 - done)
        before_ms, done = at_ms, complete
    return area

"""When a probe runs: evenly, at random times, at the times of a cron line, or once a day; faster after a failure; not in
quiet hours.

RFC 3432 (periodic streams) asks for a random start time, so that measurements neither synchronise with each other nor with
what they measure. The start is drawn from a seed, so the same agent keeps its phase over restarts.

| way     | the next run                                                                                     |
| ------- | ------------------------------------------------------------------------------------------------ |
| every   | the next whole interval after the start offset                                                    |
| poisson | after an exponentially distributed time whose mean is the interval (RFC 2330 §11.1.1)             |
| daily   | at the time of day, later by this agent's share of the spread                                     |
| cron    | the next time that fits the line (POSIX crontab), later by this agent's share of the spread       |

Whatever the way: while a burst lasts, no later than the burst's interval; never within quiet hours.
"""

import hashlib
import itertools
import math
import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from cronsim import CronSim, CronSimError

from kuppel.core.duration import DAY_US, SECOND_US
from kuppel.core.error import SettingsError

Way = Literal["every", "poisson", "daily", "cron"]
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_CLOCK = re.compile(r"^([01]\d|2[0-3]):([0-5]\d)$")
# A gap of a Poisson schedule is longer than this many means once in a thousand times.
_RARE_GAP = math.log(1000)
_LOOKED_AT = 400
# What a schedule comes to is the same whenever one looks: times of a year that has both changes of the clock.
_SOME_DAY_US = (datetime(2026, 1, 1, tzinfo=UTC) - _EPOCH) // timedelta(microseconds=1)


@dataclass(frozen=True, slots=True)
class Timing:
    """How a probe is scheduled. Times of day are of `zone`; `interval_us` is for `every` and `poisson`.

    `quiet` are stretches of the day, from and to, in which nothing is run; one may go over midnight.
    """

    way: Way = "every"
    interval_us: int = 60 * SECOND_US
    cron: str = ""
    at: str = "00:00"
    spread_us: int = 0
    zone: str = "UTC"
    quiet: tuple[tuple[str, str], ...] = ()
    burst_interval_us: int = 0
    burst_for_us: int = 0

    def __post_init__(self) -> None:
        if self.way in ("every", "poisson") and self.interval_us < SECOND_US:
            raise SettingsError("schedule.interval_s", self.interval_us / SECOND_US, "be at least 1 s")
        try:
            ZoneInfo(self.zone)
        except (ZoneInfoNotFoundError, ValueError, OSError):
            raise SettingsError("schedule.zone", self.zone, "be a time zone, such as UTC or Europe/Oslo") from None
        if self.way == "cron":
            self._check_cron()
        for field, text in (("at", self.at), *(("quiet", one) for pair in self.quiet for one in pair)):
            if not _CLOCK.match(text):
                raise SettingsError(f"schedule.{field}", text, "be a time of day, such as 02:30")
        if any(one == other for one, other in self.quiet) or _quiet_minutes(self.quiet) >= 24 * 60:
            raise SettingsError("schedule.quiet", self.quiet, "leave some of the day to run in")
        if self.way in ("daily", "cron") and not _occurrences(self, _SOME_DAY_US):
            raise SettingsError("schedule.quiet", self.quiet, "leave a time at which it runs")
        if self.spread_us < 0 or self.spread_us > DAY_US // 2:
            raise SettingsError("schedule.spread_s", self.spread_us / SECOND_US, "lie between 0 and 43,200 s")
        if bool(self.burst_interval_us) != bool(self.burst_for_us):
            raise SettingsError("schedule.burst_for_s", self.burst_for_us / SECOND_US, "be given with burst_interval_s")
        if self.burst_interval_us and self.burst_interval_us < SECOND_US:
            raise SettingsError("schedule.burst_interval_s", self.burst_interval_us / SECOND_US, "be at least 1 s")

    def _check_cron(self) -> None:
        if len(self.cron.split()) != 5:
            raise SettingsError("schedule.cron", self.cron, "have five parts: minute, hour, day, month, day of the week")
        try:
            next(CronSim(self.cron, datetime(2026, 1, 1, tzinfo=UTC)))
        except (CronSimError, StopIteration):
            raise SettingsError(
                "schedule.cron", self.cron, "be a crontab line that comes true, such as 0 6 * * 1-5"
            ) from None


def start_offset(seed: str, interval_us: int) -> int:
    """A start offset in [0, interval_us), uniform over seeds and the same for the same seed."""
    if interval_us <= 0:
        raise ValueError(f"interval_us is {interval_us}; it must be above 0")
    draw = int.from_bytes(hashlib.sha256(seed.encode()).digest()[:8], "big")
    return draw * interval_us >> 64


def next_slot(now_us: int, offset_us: int, interval_us: int) -> int:
    """The first time after `now_us` that is `offset_us` plus a whole number of intervals.

    Slots that passed while the agent could not run are left out, never caught up in a burst.

    >>> next_slot(125, offset_us=10, interval_us=60)
    130
    >>> next_slot(130, offset_us=10, interval_us=60)
    190
    """
    return offset_us + ((now_us - offset_us) // interval_us + 1) * interval_us


def exponential_gap(mean_us: int, draw: float) -> int:
    """The time to the next run of a Poisson stream, for a number drawn uniformly from [0, 1) (RFC 2330 §11.1.1).

    >>> exponential_gap(60_000_000, 0.5)
    41588831
    """
    return max(1, round(-mean_us * math.log(1 - draw)))


def next_run(timing: Timing, after_us: int, seed: str, draw: float = 0.0, burst_until_us: int = 0) -> int:
    """The next start after a time (UTC, µs).

    Parameters
    ----------
    seed : what sets one agent's phase and its share of the spread apart from another's.
    draw : uniform from [0, 1), for `poisson`.
    burst_until_us : until when a burst lasts.
    """
    for planned in _planned(timing, after_us, seed, draw):
        found = planned
        if after_us < burst_until_us and timing.burst_interval_us:
            found = min(found, after_us + timing.burst_interval_us)
        if not is_quiet(timing, found):
            return found
        if timing.way == "poisson" or found != planned:
            return quiet_end(timing, found)
    raise AssertionError("a checked timing always comes true")  # pragma: no cover


def _planned(timing: Timing, after_us: int, seed: str, draw: float) -> Iterator[int]:
    """Planned times after a time, in order."""
    if timing.way == "poisson":
        yield after_us + exponential_gap(timing.interval_us, draw)
        return
    if timing.way == "every":
        slot = next_slot(after_us, start_offset(seed, timing.interval_us), timing.interval_us)
        while True:
            if is_quiet(timing, slot):  # the intervals of a night are not gone through one by one
                slot = next_slot(quiet_end(timing, slot) - 1, start_offset(seed, timing.interval_us), timing.interval_us)
            yield slot
            slot += timing.interval_us
    share_us = start_offset(seed, timing.spread_us) if timing.spread_us else 0
    line = timing.cron if timing.way == "cron" else f"{int(timing.at[3:])} {int(timing.at[:2])} * * *"
    local = (_EPOCH + timedelta(microseconds=after_us - share_us)).astimezone(ZoneInfo(timing.zone))
    for moment in CronSim(line, local):
        yield (moment.astimezone(UTC) - _EPOCH) // timedelta(microseconds=1) + share_us


def is_quiet(timing: Timing, time_us: int) -> bool:
    """Whether a time is within quiet hours, by the clock of the timing's zone."""
    if not timing.quiet:
        return False
    local = (_EPOCH + timedelta(microseconds=time_us)).astimezone(ZoneInfo(timing.zone))
    minute = local.hour * 60 + local.minute
    return any(_within(minute, *pair) for pair in timing.quiet)


def quiet_end(timing: Timing, time_us: int) -> int:
    """The first minute at or after a time that is not quiet."""
    minute_us = 60 * SECOND_US
    found = time_us
    while is_quiet(timing, found):
        found = (found // minute_us + 1) * minute_us
    return found


def _within(minute: int, start: str, end: str) -> bool:
    first, last = _minute(start), _minute(end)
    return first <= minute < last if first < last else minute >= first or minute < last


def _minute(clock: str) -> int:
    return int(clock[:2]) * 60 + int(clock[3:])


def _quiet_minutes(quiet: tuple[tuple[str, str], ...]) -> int:
    return sum(any(_within(minute, *pair) for pair in quiet) for minute in range(24 * 60)) if quiet else 0


def _occurrences(timing: Timing, from_us: int) -> list[int]:
    """Planned times of a cron line or of a daily run from a time on: those of a year, or the first few hundred."""
    found: list[int] = []
    for planned in _planned(timing, from_us, "", 0.0):
        if len(found) >= _LOOKED_AT or planned > from_us + 366 * DAY_US:
            break
        if not is_quiet(timing, planned):
            found.append(planned)
    return found


def usual_gap(timing: Timing) -> int:
    """The usual time between two runs, in µs: what slices of a chart are made by."""
    if timing.way in ("every", "poisson"):
        return timing.interval_us
    gaps = _gaps(timing)
    return sorted(gaps)[len(gaps) // 2]


def longest_gap(timing: Timing) -> int:
    """The longest time, in µs, that may pass between two runs while all is well.

    A Poisson schedule has no longest one: the one that is passed once in a thousand times, divided by the three intervals
    after which a stream is silent.
    """
    night_us = _longest_quiet(timing.quiet) * 60 * SECOND_US
    if timing.way == "every":
        return timing.interval_us + night_us
    if timing.way == "poisson":
        return round(timing.interval_us * _RARE_GAP / 3) + night_us
    return max(_gaps(timing))


def _gaps(timing: Timing) -> list[int]:
    times = _occurrences(timing, _SOME_DAY_US)
    return [after - before for before, after in itertools.pairwise(times)] or [366 * DAY_US]


def _longest_quiet(quiet: tuple[tuple[str, str], ...]) -> int:
    """The longest quiet stretch, in minutes; it may go over midnight."""
    longest = run = 0
    for minute in range(2 * 24 * 60):
        run = run + 1 if any(_within(minute % (24 * 60), *pair) for pair in quiet) else 0
        longest = max(longest, run)
    return min(longest, 24 * 60)


def expected_runs(timing: Timing, from_us: int, to_us: int) -> int:
    """About how many runs the schedule makes in a window, without bursts."""
    length_us = max(0, to_us - from_us)
    if timing.way in ("every", "poisson"):
        awake = 1 - _quiet_minutes(timing.quiet) / (24 * 60)
        return int(length_us / timing.interval_us * awake + 1e-9)
    if length_us > 32 * DAY_US:
        return round(length_us / DAY_US * runs_a_day(timing))
    count = 0
    for planned in _planned(timing, from_us - 1, "", 0.0):
        if planned >= to_us:
            break
        count += not is_quiet(timing, planned)
    return count


def runs_a_day(timing: Timing) -> float:
    """The mean number of runs a day, without bursts."""
    if timing.way in ("every", "poisson"):
        return DAY_US / timing.interval_us * (1 - _quiet_minutes(timing.quiet) / (24 * 60))
    times = _occurrences(timing, _SOME_DAY_US)
    if len(times) < 2:
        return len(times) / 366
    return (len(times) - 1) / ((times[-1] - times[0]) / DAY_US)


def in_words(timing: Timing) -> str:
    """A schedule as people say it.

    >>> in_words(Timing("every", 300_000_000, quiet=(("22:00", "05:00"),)))
    'every 5 min, but not from 22:00 to 05:00 UTC'
    >>> in_words(Timing("daily", at="03:00", spread_us=3_600_000_000, zone="Europe/Oslo"))
    'daily at 03:00 Europe/Oslo, spread over 1 h'
    """
    zone = timing.zone.replace("_", " ")
    said = {
        "every": f"every {_length(timing.interval_us)}",
        "poisson": f"at random times, every {_length(timing.interval_us)} on average",
        "daily": f"daily at {timing.at} {zone}",
        "cron": f"at {timing.cron} {zone}",
    }[timing.way]
    if timing.spread_us and timing.way in ("daily", "cron"):
        said += f", spread over {_length(timing.spread_us)}"
    if timing.quiet:
        said += f", but not from {' and '.join(f'{start} to {end}' for start, end in timing.quiet)} {zone}"
    if timing.burst_for_us:
        said += f"; after a failure every {_length(timing.burst_interval_us)} for {_length(timing.burst_for_us)}"
    return said


def _length(us: int) -> str:
    seconds = us / SECOND_US
    if seconds >= 3600 and seconds % 3600 == 0:
        return f"{seconds / 3600:g} h"
    if seconds >= 120 and seconds % 60 == 0:
        return f"{seconds / 60:g} min"
    return f"{seconds:g} s"

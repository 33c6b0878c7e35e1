"""State: what is fine, degraded, breached or silent. Everything that decides it lives in this file.

**Run.** A run is beyond a limit when its quantity is; a failed run is beyond all (see `core.limit`).

**Stream.** Judged over its last m runs (`Judgement`, 2 of 3 by default). Rows are tried from the top, the first that holds
decides; `beyond(L)` counts runs at level L or worse, `inside` those at the clearing limit or better:

    | from      | when                         | to        |
    | --------- | ---------------------------- | --------- |
    | any       | beyond(breached) ≥ n         | breached  |
    | any       | inside ≥ n                   | fine      |
    | fine      | beyond(degraded) ≥ n         | degraded  |
    | breached  | not beyond(breached) ≥ n     | degraded  |
    | any       | otherwise                    | unchanged |

So a stream between its clearing and its degraded limit keeps its state: that is what the clearing limit is for.
The rows `beyond(breached)` and `inside` cannot both hold, because n of m is a majority.

**Silence.** No result for three intervals plus the delivery time. The judgement is kept meanwhile: when results come back,
the stream goes on from where it was, and one good result after a breach is not yet fine.

**Group** (vantage point, target, site, provider, group). Affected when at least a quarter of its streams, and at least one,
are not fine; its state is that of the worst quarter, that is of the mildest stream in it.
"""

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cache

import numpy as np
from numpy.typing import NDArray

from kuppel.core.error import SettingsError
from kuppel.core.limit import Level
from kuppel.core.series import IntArray


class State(StrEnum):
    FINE = "fine"
    DEGRADED = "degraded"
    BREACHED = "breached"
    SILENT = "silent"


# From mild to bad. Silence is never fine, but measured trouble is worse than not knowing.
SEVERITY: dict[State, int] = {State.FINE: 0, State.SILENT: 1, State.DEGRADED: 2, State.BREACHED: 3}

# Rows of the table in the module's text: (from, test, to); None is any state.
_BEYOND_BREACHED, _INSIDE, _BEYOND_DEGRADED, _WITHIN_BREACHED = range(4)
_TRANSITIONS: tuple[tuple[State | None, int, State], ...] = (
    (None, _BEYOND_BREACHED, State.BREACHED),
    (None, _INSIDE, State.FINE),
    (State.FINE, _BEYOND_DEGRADED, State.DEGRADED),
    (State.BREACHED, _WITHIN_BREACHED, State.DEGRADED),
)


@dataclass(frozen=True, slots=True)
class Judgement:
    """n of m runs decide. n must be a majority of m, or a stream could be breached and fine at once."""

    n: int = 2
    m: int = 3

    def __post_init__(self) -> None:
        if not 1 <= self.m <= 20:
            raise SettingsError("judgement.m", self.m, "lie between 1 and 20")
        if not self.m // 2 < self.n <= self.m:
            raise SettingsError("judgement.n", self.n, f"be more than half of m and at most m, {self.m}")


@dataclass(frozen=True, slots=True)
class StreamState:
    """A stream's state and what it needs to go on: the judgement under silence and the levels of the last m runs."""

    judged: State = State.FINE
    is_silent: bool = False
    levels: tuple[Level, ...] = ()

    @property
    def state(self) -> State:
        return State.SILENT if self.is_silent else self.judged


def after_run(before: StreamState, level: Level, judgement: Judgement) -> StreamState:
    """The stream's state after one more run."""
    levels = (*before.levels, level)[-judgement.m :]
    if before.judged is State.FINE and not before.is_silent and levels == before.levels == _all_inside(judgement.m):
        return before  # what nearly every run comes to
    breached = levels.count(Level.BREACHED)
    counts = (breached, levels.count(Level.INSIDE), breached + levels.count(Level.DEGRADED), len(levels) - breached)
    judged = next(
        (to for from_, test, to in _TRANSITIONS if from_ in (None, before.judged) and counts[test] >= judgement.n),
        before.judged,
    )
    return StreamState(judged, False, levels)


@cache
def _all_inside(m: int) -> tuple[Level, ...]:
    return (Level.INSIDE,) * m


def silent_after(interval_us: int, delivery_us: int) -> int:
    """How long after its last result a stream becomes silent: three intervals plus the delivery time."""
    return 3 * interval_us + delivery_us


def after_time(before: StreamState, last_run_us: int, now_us: int, interval_us: int, delivery_us: int) -> StreamState:
    """The stream's state at `now_us`, when nothing arrived since `last_run_us`."""
    if not before.is_silent and now_us - last_run_us > silent_after(interval_us, delivery_us):
        return replace(before, is_silent=True)
    return before


def replay(
    before: StreamState,
    last_run_us: int | None,
    times_us: IntArray,
    levels: NDArray[np.int8],
    judgement: Judgement,
    silent_after_us: int,
) -> tuple[StreamState, list[tuple[int, State]]]:
    """The state after many runs in the order of time, and its changes on the way: `after_run` and `after_time`, one by one.

    Where a stream is fine and goes on being fine, its runs are passed over at once.
    """
    changes: list[tuple[int, State]] = []
    state, calm = before, StreamState(State.FINE, False, _all_inside(judgement.m))
    if times_us.size == 0:
        return state, changes
    starts = np.concatenate([[times_us[0] if last_run_us is None else last_run_us], times_us[:-1]])
    is_late = times_us - starts > silent_after_us
    notable = np.flatnonzero((levels != Level.INSIDE) | is_late)
    at = 0
    while at < times_us.size:
        if state == calm:
            following = int(np.searchsorted(notable, at))
            if following == notable.size:
                break
            at = int(notable[following])
        now_us = int(times_us[at])
        if is_late[at] and not state.is_silent:
            changes.append((int(starts[at]) + silent_after_us, State.SILENT))
            state = replace(state, is_silent=True)
        shown = state.state
        state = after_run(state, Level(int(levels[at])), judgement)
        if state.state is not shown:
            changes.append((now_us, state.state))
        at += 1
    return state, changes


@dataclass(frozen=True, slots=True)
class GroupState:
    """How much of a group is not fine, and its state."""

    state: State
    is_affected: bool
    not_fine: int
    streams: int


def group_state(states: Iterable[State]) -> GroupState:
    """The state of a group of streams: that of its worst quarter.

    >>> group_state([State.BREACHED, State.FINE, State.FINE, State.FINE]).state
    <State.BREACHED: 'breached'>
    >>> group_state([State.BREACHED] + [State.FINE] * 4).is_affected
    False
    """
    worst_first = sorted(states, key=SEVERITY.__getitem__, reverse=True)
    if not worst_first:
        return GroupState(State.SILENT, False, 0, 0)
    quarter = math.ceil(len(worst_first) / 4)
    not_fine = sum(one is not State.FINE for one in worst_first)
    return GroupState(worst_first[quarter - 1], not_fine >= quarter, not_fine, len(worst_first))

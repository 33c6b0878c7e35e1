"""The made-up past of a stream: its runs day by day, in columns, and what the store keeps of them.

Each stretch of a stream's days is drawn from a generator of its own, by the world's seed: it is the same whenever it is
drawn, whatever else was drawn before it.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from kuppel.core.change import is_same_fact
from kuppel.core.duration import DAY_US, MINUTE_US, SECOND_US
from kuppel.core.limit import run_levels
from kuppel.core.quantity import QUANTITIES
from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Result
from kuppel.core.schedule import start_offset
from kuppel.core.series import IntArray
from kuppel.core.state import Judgement, State, StreamState, replay, silent_after
from kuppel.lab.bulk import packets, rest, web
from kuppel.lab.bulk.columns import Attempt as AttemptColumns
from kuppel.lab.bulk.columns import Tried, are_good
from kuppel.lab.skerry.estate import Plan
from kuppel.lab.world.draw import Generator, generator
from kuppel.lab.world.world import World
from kuppel.store import days
from kuppel.store.bulk import Fact, StreamPast
from kuppel.store.days import Day
from kuppel.store.states import StateNote

KINDS: Mapping[str, AttemptColumns] = {
    "icmp": packets.reach,
    "udp": packets.two_way,
    "voice": packets.call,
    "http": web.fetch,
    "transaction": web.steps,
    "tcp": web.connect,
    "tls": web.certificate,
    "dns": web.lookup,
    "throughput": rest.throughput,
    "path": rest.path,
    "host": rest.readings,
}
ATTEMPTS = 2
ATTEMPT_GAP_US = SECOND_US // 2
_MOST_DAYS = 15
_NO_DETAIL: dict[str, Any] = {}


@dataclass(frozen=True, slots=True)
class StreamPlan:
    """One stream of the scenario. `settings` are complete, as the kind parsed them."""

    stream_id: int
    plan: Plan
    point: str
    settings: Mapping[str, Any]
    delivery_us: int


@dataclass(slots=True)
class PastDay:
    """One day of a stream: its runs, and the facts that each of them tells of, None where it does not."""

    day_us: int
    day: Day
    facts: dict[str, Any]


def slots(stream: StreamPlan, from_us: int, to_us: int) -> IntArray:
    """The times at which a stream is run within [from_us, to_us)."""
    interval_us = stream.plan.interval_us
    offset_us = start_offset(f"history/{stream.plan.name}/{stream.point}", interval_us)
    first = (from_us - offset_us + interval_us - 1) // interval_us
    last = (to_us - offset_us + interval_us - 1) // interval_us
    return offset_us + np.arange(first, last, dtype=np.int64) * interval_us


def past_days(world: World, stream: StreamPlan, from_us: int, to_us: int) -> Iterator[PastDay]:
    """The days of a stream that touch [from_us, to_us), with the runs that lie in it."""
    stretch_us = _stretch(stream.plan.interval_us)
    for start_us in range(from_us // stretch_us * stretch_us, to_us, stretch_us):
        times_us = slots(stream, start_us, start_us + stretch_us)
        silent = world.effects.value("silent", stream.point, times_us)
        if silent is not None:
            times_us = times_us[silent == 0]
        if times_us.size == 0:
            continue
        draw = generator(world.seed, "history", stream.plan.name, stream.point, start_us // DAY_US)
        runs, facts = drawn(world, stream, times_us, draw)
        days_us = times_us // DAY_US * DAY_US
        is_wanted = (times_us >= from_us) & (times_us < to_us)
        for day_us in np.unique(days_us[is_wanted]).tolist():
            inside = np.flatnonzero(is_wanted & (days_us == day_us))
            yield PastDay(day_us, _part(runs, inside), {name: column[inside] for name, column in facts.items()})


def _stretch(interval_us: int) -> int:
    """How much is drawn at once: whole days, more of them where a day has few runs."""
    return DAY_US * min(_MOST_DAYS, max(1, round(interval_us / MINUTE_US)))


def drawn(world: World, stream: StreamPlan, times_us: IntArray, draw: Generator) -> tuple[Day, dict[str, Any]]:
    """Runs of a stream at given times and the facts that each tells of, as `probes.repetition` makes them of attempts:
    those that failed are tried once more."""
    attempt = KINDS[stream.plan.kind]
    first = attempt(world, stream.point, stream.settings, stream.plan.application, times_us, draw)
    failed = np.flatnonzero(~are_good(first.reasons))
    bodies = _bodies(times_us, first)
    facts = {name: _column(value, times_us.size) for name, value in first.facts.items()}
    values, reasons = first.values, first.reasons
    if failed.size:
        again_us = times_us[failed] + first.durations_us[failed] + ATTEMPT_GAP_US
        second = attempt(world, stream.point, stream.settings, stream.plan.application, again_us, draw)
        for name, column in values.items():
            column[failed] = second.values[name]
        reasons[failed] = second.reasons
        for name, value in second.facts.items():
            facts.setdefault(name, np.full(times_us.size, None, dtype=object))[failed] = _column(value, failed.size)
        for at, body in zip(failed.tolist(), _bodies(again_us, second), strict=True):
            bodies[at] = {"attempts": bodies[at]["attempts"] + body["attempts"], "detail": body["detail"]}
    codes = np.array([days.code(one, is_generated=True) for one in reasons.tolist()], dtype=np.uint8)
    kept = {name: _rounded(name, column) for name, column in values.items()}
    return Day(times_us, codes, bodies, kept), facts


def _rounded(name: str, column: Any) -> Any:
    found = np.round(np.where(np.isfinite(column), column, np.nan), QUANTITIES[name].decimals)
    return found + 0.0  # −0.0 is another number, and says nothing


def _column(value: Any, size: int) -> Any:
    return np.full(size, value, dtype=object) if isinstance(value, str) else value


def _bodies(times_us: IntArray, tried: Tried) -> list[dict[str, Any]]:
    details = tried.details if tried.details is not None else [_NO_DETAIL] * times_us.size
    return [
        {
            "attempts": [
                {
                    "started_us": time_us,
                    "duration_us": duration_us,
                    "reason": reason,
                    "note": tried.note(at),
                }
            ],
            "detail": detail,
        }
        for at, (time_us, duration_us, reason, detail) in enumerate(
            zip(times_us.tolist(), tried.durations_us.tolist(), tried.reasons.tolist(), details, strict=True)
        )
    ]


def _part(day: Day, inside: IntArray) -> Day:
    return Day(
        day.times_us[inside],
        day.codes[inside],
        [day.bodies[at] for at in inside.tolist()],
        {name: column[inside] for name, column in day.values.items()},
    )


def facts_of(past: PastDay, newest: dict[str, str]) -> list[Fact]:
    """The facts that change within a day; `newest` holds what was told last, and is brought up to date."""
    found: list[Fact] = []
    for name, column in past.facts.items():
        told = np.array([one is not None for one in column.tolist()])
        # Only where a value differs from the one told before it is there anything to look at.
        values, times = column[told], past.day.times_us[told]
        differs = np.ones(values.size, dtype=bool)
        differs[1:] = values[1:] != values[:-1]
        for time_us, value in zip(times[differs].tolist(), values[differs].tolist(), strict=True):
            before = newest.get(name)
            if before is None or not is_same_fact(name, before, value):
                found.append((time_us, name, value))
                newest[name] = value
    return sorted(found)


def whole_past(
    world: World, stream: StreamPlan, judgement: Judgement, from_us: int, horizon_us: int, to_us: int
) -> StreamPast:
    """A stream's runs in [from_us, to_us), those before the horizon compressed, with its facts and its states."""
    encoded, rest, facts = [], [], []
    newest: dict[str, str] = {}
    state, since_us, last_run_us = StreamState(State.FINE, True, ()), from_us, None
    changes: list[tuple[int, State]] = []
    quiet_us = silent_after(stream.plan.interval_us, stream.delivery_us)
    for past in past_days(world, stream, from_us, to_us):
        day = past.day
        facts += facts_of(past, newest)
        levels = run_levels(~day.is_failed, day.values, stream.plan.limits)
        state, new = replay(state, last_run_us, day.times_us, levels, judgement, quiet_us)
        changes += new
        last_run_us = int(day.times_us[-1])
        if past.day_us < horizon_us:
            encoded.append(days.encode_day(stream.stream_id, past.day_us, day, is_quick=True))
        else:
            rest.append(day)
    if changes:
        since_us = changes[-1][0]
    note = StateNote(stream.stream_id, state, since_us, last_run_us, tuple(changes))
    return StreamPast(stream.stream_id, encoded, rest, facts, note)


def results_of(past: PastDay) -> list[Result]:
    """The runs of a day one by one, as a probe would have told them."""
    day = past.day
    columns = {name: column.tolist() for name, column in day.values.items()}
    facts = {name: column.tolist() for name, column in past.facts.items()}
    found = []
    for at, time_us in enumerate(day.times_us.tolist()):
        body = day.bodies[at]
        reason = days.reason_of(int(day.codes[at]))
        found.append(
            Result(
                time_us,
                None if reason is None else Reason(reason),
                {name: column[at] for name, column in columns.items() if column[at] == column[at]},
                {name: column[at] for name, column in facts.items() if column[at] is not None},
                tuple(Attempt(**one) for one in body["attempts"]),
                body["detail"],
            )
        )
    return found

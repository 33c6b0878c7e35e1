"""Writing whole finished days of many streams at once: what was made up or comes from elsewhere, not run by run.

It ends where running intake does: in the blocks, facts, changes and states that every reader knows.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import orjson
from sqlalchemy import Connection

from kuppel.core.change import OF_FACT, Change
from kuppel.store import changes, days, states, tables, tail
from kuppel.store.days import Day, EncodedDay
from kuppel.store.dialect import add_flat, add_rows
from kuppel.store.states import StateNote

Fact = tuple[int, str, str]
"""When a fact began to hold, its name, its value."""


@dataclass(frozen=True, slots=True)
class StreamPast:
    """The past of one stream: its days, runs of days that are not over, facts in the order of time, and how it was
    judged."""

    stream_id: int
    days: Sequence[EncodedDay]
    rest: Sequence[Day]
    facts: Sequence[Fact]
    note: StateNote


def write_past(connection: Connection, past: StreamPast) -> None:
    """Store one stream's past. It is seen once the horizon has moved behind its last day."""
    days.write_days(connection, past.days)
    for one in past.rest:
        _write_rows(connection, past.stream_id, one)
    add_rows(connection, tables.fact, [(past.stream_id, name, from_us, value) for from_us, name, value in past.facts])
    changes.add_changes(connection, _changes(past))
    states.keep_states(connection, [past.note])


def _write_rows(connection: Connection, stream_id: int, day: Day) -> None:
    """Runs as the rows of the tail."""
    runs: list[Any] = []
    slots = (day.times_us // tail.SLOT_US).tolist()
    times, codes, made = day.times_us.tolist(), day.codes.tolist(), day.is_generated.tolist()
    for slot, time_us, code, is_generated, body in zip(slots, times, codes, made, day.bodies, strict=True):
        runs += (slot, stream_id, time_us, days.reason_of(code), is_generated, orjson.dumps(body))
    add_flat(connection, tables.run, runs)
    ids = days.series_ids(connection, [(stream_id, day.values)])[stream_id]
    samples: list[Any] = []
    for name, column in day.values.items():
        for slot, time_us, value in zip(slots, times, column.tolist(), strict=True):
            if not math.isnan(value):
                samples += (slot, ids[name], time_us, value)
    add_flat(connection, tables.sample, samples)


def _changes(past: StreamPast) -> list[Change]:
    found: list[Change] = []
    newest: dict[str, str] = {}
    for time_us, name, value in past.facts:
        before = newest.get(name)
        newest[name] = value
        if before is not None and name in OF_FACT:
            subject = name.replace("_", " ")
            found.append(Change(0, time_us, None, OF_FACT[name], subject, before, value, "kuppel", past.stream_id))
    return found

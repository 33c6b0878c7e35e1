"""Keeps every stream's state: after each run, and as time passes without one."""

import threading
from collections.abc import Mapping
from dataclasses import dataclass

import structlog

from kuppel.core.limit import run_level
from kuppel.core.schedule import longest_gap
from kuppel.core.state import State, StreamState, after_run, after_time, silent_after
from kuppel.hub.live import LiveBus, LiveEvent
from kuppel.probes.registry import KINDS
from kuppel.store import history, inventory, states
from kuppel.store.database import Database
from kuppel.store.intake import NumberedResult
from kuppel.store.inventory import Probe, Stream
from kuppel.store.states import StateNote
from kuppel.store.writer import Writer

_REPLAY_ROWS = 10_000
_log = structlog.get_logger()


@dataclass(slots=True)
class _Judged:
    """One stream in the judge's memory."""

    probe: Probe
    # The longest time that may pass between two runs.
    gap_us: int
    state: StreamState
    since_us: int
    last_run_us: int | None


class Judge:
    """The states of all active streams, in memory and in the store.

    Runs are judged in time order per stream; one that is older than the last judged is kept but changes no state.
    """

    def __init__(self, database: Database, writer: Writer, bus: LiveBus | None, delivery_us: int) -> None:
        self._database = database
        self._writer = writer
        self._bus = bus
        self._delivery_us = delivery_us
        self._lock = threading.Lock()
        self._streams: dict[int, _Judged] = {}

    def load(self) -> None:
        """Take up the streams as they are stored, and judge the runs that were committed but not yet judged."""
        with self._lock:
            with self._database.reading() as connection:
                probes = {probe.id: probe for probe in inventory.probes(connection)}
                streams = inventory.active_streams(connection)
            known = self._streams
            self._streams = {one.id: _updated(known.get(one.id), one, probes[one.probe_id]) for one in streams}
            for stream_id in self._streams.keys() - known.keys():
                self._replay(stream_id)

    def take(self, results: list[NumberedResult]) -> None:
        """Judge committed results."""
        notes: list[StateNote] = []
        events: list[LiveEvent] = []
        is_watched = self._bus is not None and self._bus.has_listeners
        with self._lock:
            touched: dict[int, list[tuple[int, State]]] = {}
            for one in sorted(results, key=lambda one: one.result.started_us):
                judged = self._streams.get(one.stream_id)
                if judged is None:
                    continue
                result = one.result
                changes = self._advance(judged, result.started_us, result.is_ok, result.quantities)
                touched.setdefault(one.stream_id, []).extend(changes)
                if is_watched:
                    events.append(_run_event(one, judged))
            for stream_id, changes in touched.items():
                notes.append(self._note(stream_id, changes))
                events.extend(_state_event(stream_id, self._streams[stream_id]) for _ in changes[-1:])
            # Inside the lock, or a later state could be overwritten by an earlier one.
            self._keep(notes)
        if self._bus is not None:
            self._bus.publish(events)

    def tick(self, now_us: int) -> None:
        """Find the streams that have become silent."""
        notes: list[StateNote] = []
        events: list[LiveEvent] = []
        with self._lock:
            for stream_id, judged in self._streams.items():
                changes = self._silence(judged, now_us)
                if changes:
                    notes.append(self._note(stream_id, changes))
                    events.append(_state_event(stream_id, judged))
            self._keep(notes)
        if self._bus is not None:
            self._bus.publish(events)

    def _advance(
        self, judged: _Judged, time_us: int, is_ok: bool, quantities: Mapping[str, float]
    ) -> list[tuple[int, State]]:
        if judged.last_run_us is not None and time_us <= judged.last_run_us:
            return []
        changes = self._silence(judged, time_us)
        before = judged.state.state
        level = run_level(is_ok, quantities, judged.probe.limits)
        judged.state = after_run(judged.state, level, judged.probe.judgement)
        judged.last_run_us = time_us
        if judged.state.state is not before:
            judged.since_us = time_us
            changes.append((time_us, judged.state.state))
        return changes

    def _silence(self, judged: _Judged, now_us: int) -> list[tuple[int, State]]:
        if judged.last_run_us is None:
            return []
        before = judged.state
        judged.state = after_time(before, judged.last_run_us, now_us, judged.gap_us, self._delivery_us)
        if judged.state is before:
            return []
        # It has been silent since its last result, not since we noticed.
        judged.since_us = judged.last_run_us
        return [(judged.last_run_us + silent_after(judged.gap_us, self._delivery_us), State.SILENT)]

    def _replay(self, stream_id: int) -> None:
        judged = self._streams[stream_id]
        changes: list[tuple[int, State]] = []
        count = 0
        while True:
            with self._database.reading() as connection:
                missed = history.runs_after(connection, stream_id, judged.last_run_us or 0, _REPLAY_ROWS)
            for run in missed:
                changes += self._advance(judged, run.time_us, run.reason is None, run.quantities)
            count += len(missed)
            if len(missed) < _REPLAY_ROWS:
                break
        if count:
            self._keep([self._note(stream_id, changes)])
            _log.info("runs judged at start", stream=stream_id, runs=count)

    def _note(self, stream_id: int, changes: list[tuple[int, State]]) -> StateNote:
        judged = self._streams[stream_id]
        return StateNote(stream_id, judged.state, judged.since_us, judged.last_run_us, tuple(changes))

    def _keep(self, notes: list[StateNote]) -> None:
        if notes:
            self._writer.write(lambda connection: states.keep_states(connection, notes))


def _updated(known: _Judged | None, stored: Stream, probe: Probe) -> _Judged:
    if known is None:
        return _Judged(probe, longest_gap(probe.timing), stored.judged, stored.state_since_us, stored.last_run_us)
    if known.probe.timing != probe.timing:
        known.gap_us = longest_gap(probe.timing)
    known.probe = probe
    return known


def _run_event(one: NumberedResult, judged: _Judged) -> LiveEvent:
    kind = KINDS[judged.probe.kind]
    result = one.result
    data = {
        "stream": one.stream_id,
        "time_us": result.started_us,
        "reason": result.reason,
        "main": result.quantities.get(kind.main),
    }
    return LiveEvent("run", data, one.stream_id)


def _state_event(stream_id: int, judged: _Judged) -> LiveEvent:
    data = {"stream": stream_id, "state": judged.state.state, "since_us": judged.since_us}
    return LiveEvent("state", data, stream_id)

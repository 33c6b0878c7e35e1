"""The states of streams over time."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, bindparam, func, select, update

from kuppel.core.series import IntArray
from kuppel.core.state import State, StreamState
from kuppel.store import tables
from kuppel.store.dialect import put_rows


@dataclass(frozen=True, slots=True)
class StateNote:
    """A stream's judgement after its newest run or after silence, and the changes of state on the way."""

    stream_id: int
    judged: StreamState
    since_us: int
    last_run_us: int | None
    changes: tuple[tuple[int, State], ...]


def keep_states(connection: Connection, notes: Sequence[StateNote]) -> None:
    """Store judgements and changes."""
    if not notes:
        return
    connection.execute(
        update(tables.stream).where(tables.stream.c.id == bindparam("stream")),
        [
            {
                "stream": note.stream_id,
                "state": note.judged.state,
                "state_since_us": note.since_us,
                "judged": note.judged.judged,
                "levels": [int(level) for level in note.judged.levels],
                "last_run_us": note.last_run_us,
            }
            for note in notes
        ],
    )
    # Two changes of a stream at one moment are one: the later holds.
    changes = {(note.stream_id, time_us): str(state) for note in notes for time_us, state in note.changes}
    put_rows(connection, tables.state_change, [(*key, state) for key, state in changes.items()])


@dataclass(frozen=True, slots=True)
class Spans:
    """Spans of states in columns, all of shape (spans,): the stream, from, to and the state in words."""

    stream_id: IntArray
    from_us: IntArray
    to_us: IntArray
    state: NDArray[np.str_]


def spans(connection: Connection, from_us: int, to_us: int) -> Spans:
    """The states of all active streams, clipped to a window. Before its first state a stream has no span."""
    change, stream = tables.state_change, tables.stream
    earlier = change.alias()
    before = (
        select(func.max(earlier.c.time_us))
        .where(earlier.c.stream_id == stream.c.id, earlier.c.time_us <= from_us)
        .scalar_subquery()
    )
    query = (
        select(change.c.stream_id, change.c.time_us, change.c.state)
        .join(stream, stream.c.id == change.c.stream_id)
        .where(stream.c.is_active, change.c.time_us < to_us, change.c.time_us >= func.coalesce(before, from_us))
        .order_by(change.c.stream_id, change.c.time_us)
    )
    rows = connection.execute(query).all()
    if not rows:
        return Spans(np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0, np.str_))
    streams, times, states = (np.array(column) for column in zip(*rows, strict=True))
    is_last = np.append(streams[1:] != streams[:-1], True)
    until = np.where(is_last, to_us, np.append(times[1:], to_us))
    return Spans(streams, np.maximum(times, from_us), np.minimum(until, to_us), states)


def state_spans(connection: Connection, from_us: int, to_us: int, stream_id: int) -> list[tuple[int, int, State]]:
    """(from, to, state) of one stream, clipped to the window. Before its first state, nothing."""
    change = tables.state_change
    query = select(change.c.time_us, change.c.state).where(change.c.stream_id == stream_id, change.c.time_us < to_us)
    rows = connection.execute(query.order_by(change.c.time_us)).all()
    if not rows:
        return []
    ends = [row.time_us for row in rows[1:]] + [to_us]
    return [
        (max(row.time_us, from_us), min(until, to_us), State(row.state))
        for row, until in zip(rows, ends, strict=True)
        if until > from_us
    ]

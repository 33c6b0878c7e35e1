"""The states of streams over time."""

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection, bindparam, func, select, update

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


def state_spans(
    connection: Connection, from_us: int, to_us: int, stream_id: int | None = None
) -> list[tuple[int, int, int, State]]:
    """(stream, from, to, state), clipped to the window, for every active stream or one. Before its first state, nothing."""
    change, stream = tables.state_change, tables.stream
    query = (
        select(
            change.c.stream_id,
            change.c.time_us,
            func.lead(change.c.time_us, 1, to_us)
            .over(partition_by=change.c.stream_id, order_by=change.c.time_us)
            .label("until_us"),
            change.c.state,
        )
        .join(stream, stream.c.id == change.c.stream_id)
        .where(change.c.time_us < to_us)
    )
    query = query.where(stream.c.is_active) if stream_id is None else query.where(change.c.stream_id == stream_id)
    spans = query.subquery()
    rows = connection.execute(select(spans).where(spans.c.until_us > from_us).order_by(spans.c.stream_id, spans.c.time_us))
    return [(one, max(start, from_us), min(until, to_us), State(state)) for one, start, until, state in rows]

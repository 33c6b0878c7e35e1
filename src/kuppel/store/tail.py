"""The tail: runs and samples of days that are not finished yet, as rows.

Their key begins with the **slot**, two minutes of time, then the stream (or series), then the time. A commit of fresh
results so touches the few pages of the current slot, and one stream's last hours are a few seeks a slot. Measured at 2,000
series a minute: with the time first, three hours of six series took 250 ms, since all rows are read; with slots 2.1 ms, and
rows go in at 0.82 of the speed. Slots of 5 and 10 minutes read in 1.7 and 1.4 ms, and rows went in at 0.70 and 0.56.
"""

import itertools
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import orjson
from numpy.typing import NDArray
from sqlalchemy import ColumnElement, Connection, Table, case, func, select

from kuppel.core.series import FloatArray, IntArray
from kuppel.store import tables
from kuppel.store.dialect import plain_rows

SLOT_US = 120_000_000
# Above this share of all series, reading the whole stretch of time is quicker than seeking each in every slot.
_SOUGHT_SHARE = 0.5
_SERIES_AT_ONCE = 500
_SLOTS_AT_ONCE = 720


@dataclass(frozen=True, slots=True)
class TailRun:
    """A run as a row: `body` holds its attempts and its detail."""

    time_us: int
    stream_id: int
    reason: str | None
    is_generated: bool
    body: dict[str, Any]


def slot(time_us: int) -> int:
    return time_us // SLOT_US


def bounds(connection: Connection, from_us: int, to_us: int) -> tuple[int, int]:
    """The part of a window in which there can be rows; the two meet when there is none."""
    # One at a time: asked for both at once, SQLite reads every row.
    first, last = (plain_rows(connection, f'SELECT {edge}(slot) FROM "{tables.run.name}"')[0][0] for edge in ("min", "max"))
    if first is None or last is None:
        return from_us, from_us
    from_us = max(from_us, int(first) * SLOT_US)
    return from_us, max(from_us, min(to_us, (int(last) + 1) * SLOT_US))


def within(table: Table, from_us: int, to_us: int) -> ColumnElement[bool]:
    """All rows of a window: one stretch of the key."""
    column = table.c
    return (
        (column.slot >= slot(from_us))
        & (column.slot <= slot(to_us - 1))
        & (column.time_us >= from_us)
        & (column.time_us < to_us)
    )


def _sought(table: Table, owner: ColumnElement[int], ids: Collection[int], from_us: int, to_us: int) -> ColumnElement[bool]:
    """The rows of some streams or series in a window: a seek for each of them in each slot."""
    slots = range(slot(from_us), slot(to_us - 1) + 1)
    return table.c.slot.in_(slots) & owner.in_(ids) & (table.c.time_us >= from_us) & (table.c.time_us < to_us)


def _seek(owner: str, ids: Sequence[int], from_us: int, to_us: int) -> str:
    """The same in plain words, for `plain_rows`."""
    slots, own = (",".join(map(str, some)) for some in (range(slot(from_us), slot(to_us - 1) + 1), ids))
    return f"slot IN ({slots}) AND {owner} IN ({own}) AND time_us >= {from_us} AND time_us < {to_us}"


def _pieces(from_us: int, to_us: int) -> list[tuple[int, int]]:
    """A window in pieces of at most a day, so that no statement becomes endless; oldest first."""
    width = _SLOTS_AT_ONCE * SLOT_US
    starts = range(from_us, to_us, width)
    return [(start, min(start + width, to_us)) for start in starts]


def samples(
    connection: Connection, series: Collection[int], from_us: int, to_us: int
) -> dict[int, tuple[IntArray, FloatArray]]:
    """Times and values of each of these series that has any, in the order of time."""
    from_us, to_us = bounds(connection, from_us, to_us)
    table = tables.sample
    wanted = sorted(series)
    if from_us >= to_us or not wanted:
        return {}
    all_series = connection.execute(select(func.count()).select_from(tables.series)).scalar_one()
    statement = f'SELECT series_id, time_us, value FROM "{table.name}" WHERE'
    rows: list[tuple[Any, ...]] = []
    if len(wanted) > _SOUGHT_SHARE * all_series:
        own = set(wanted)
        stretch = f"slot >= {slot(from_us)} AND slot <= {slot(to_us - 1)} AND time_us >= {from_us} AND time_us < {to_us}"
        rows = [row for row in plain_rows(connection, f"{statement} {stretch}") if row[0] in own]
    else:
        for at in range(0, len(wanted), _SERIES_AT_ONCE):
            some = wanted[at : at + _SERIES_AT_ONCE]
            for start, end in _pieces(from_us, to_us):
                rows += plain_rows(connection, f"{statement} {_seek('series_id', some, start, end)}")
    return _by_owner(rows)


def _by_owner(rows: Sequence[tuple[Any, ...]]) -> dict[int, tuple[IntArray, FloatArray]]:
    """Rows of owner, time and value as columns, by owner and in the order of time."""
    if not rows:
        return {}
    # Times in µs are whole numbers below 2⁵³ until the year 2255: a double holds them.
    flat = np.fromiter(itertools.chain.from_iterable(rows), np.float64, 3 * len(rows)).reshape(-1, 3)
    owners, times, values = flat[:, 0].astype(np.int64), flat[:, 1].astype(np.int64), flat[:, 2].copy()
    order = np.lexsort((times, owners))
    owners, times, values = owners[order], times[order], values[order]
    unique, firsts = np.unique(owners, return_index=True)
    edges = [*firsts.tolist(), owners.size]
    return {
        int(one): (times[edges[at] : edges[at + 1]], values[edges[at] : edges[at + 1]]) for at, one in enumerate(unique)
    }


def run_times(connection: Connection, stream_id: int, from_us: int, to_us: int) -> tuple[IntArray, NDArray[np.bool_]]:
    """Times of a stream's runs in their order, and whether each was ok."""
    rows: list[tuple[Any, ...]] = []
    for start, end in _pieces(*bounds(connection, from_us, to_us)):
        piece = _seek("stream_id", [stream_id], start, end)
        rows += plain_rows(
            connection, f'SELECT time_us, reason IS NULL FROM "{tables.run.name}" WHERE {piece} ORDER BY time_us'
        )
    times, is_ok = zip(*rows, strict=True) if rows else ((), ())
    return np.array(times, dtype=np.int64), np.array(is_ok, dtype=bool)


def run_outcomes(
    connection: Connection, stream_id: int, from_us: int, to_us: int
) -> tuple[IntArray, list[str | None], NDArray[np.bool_]]:
    """Times of a stream's runs in their order, why each failed (None when it did not), and whether it was made up."""
    table = tables.run
    columns = select(table.c.time_us, table.c.reason, table.c.is_generated)
    rows: list[Any] = []
    for start, end in _pieces(*bounds(connection, from_us, to_us)):
        found = columns.where(_sought(table, table.c.stream_id, [stream_id], start, end)).order_by(table.c.time_us)
        rows += connection.execute(found).all()
    times, reasons, made = zip(*rows, strict=True) if rows else ((), (), ())
    return np.array(times, dtype=np.int64), list(reasons), np.array(made, dtype=bool)


def run_counts_since(connection: Connection, starts_us: Sequence[int], to_us: int) -> list[dict[int, tuple[int, int]]]:
    """(ok runs, all runs) of every stream since each of some moments, in one reading; those without any may be missing."""
    first_us, to_us = bounds(connection, min(starts_us), to_us)
    if first_us == to_us:
        return [{} for _ in starts_us]
    table = tables.run
    counted: list[ColumnElement[int]] = []
    for start_us in starts_us:
        since = table.c.time_us >= start_us
        counted += [func.count(case((since & table.c.reason.is_(None), 1))), func.count(case((since, 1)))]
    query = select(table.c.stream_id, *counted).where(within(table, first_us, to_us)).group_by(table.c.stream_id)
    rows = connection.execute(query).all()
    return [{row[0]: (row[1 + 2 * at], row[2 + 2 * at]) for row in rows} for at in range(len(starts_us))]


def measured(connection: Connection, starts_us: IntArray, width_us: int, from_us: int, to_us: int) -> NDArray[np.bool_]:
    """Whether any row of a run lies in each slice, as far as it is in the window."""
    found = np.zeros(starts_us.size, dtype=bool)
    from_us, to_us = bounds(connection, from_us, to_us)
    if from_us >= to_us:
        return found
    name = tables.run.name
    first = int(starts_us[0])
    for at in range((from_us - first) // width_us, (to_us - 1 - first) // width_us + 1):
        start, end = max(first + at * width_us, from_us), min(first + (at + 1) * width_us, to_us)
        stretch = f"slot >= {slot(start)} AND slot <= {slot(end - 1)} AND time_us >= {start} AND time_us < {end}"
        found[at] = bool(plain_rows(connection, f'SELECT 1 FROM "{name}" WHERE {stretch} LIMIT 1'))
    return found


def runs_per_slice(connection: Connection, width_us: int, from_us: int, to_us: int) -> Iterator[tuple[int, int]]:
    """Starts of slices (multiples of the width) that hold any run, and how many."""
    from_us, to_us = bounds(connection, from_us, to_us)
    if from_us == to_us:
        return
    table = tables.run
    start = table.c.time_us - table.c.time_us % width_us
    query = select(start, func.count()).where(within(table, from_us, to_us)).group_by(start)
    for start_us, count in connection.execute(query):
        yield int(start_us), int(count)


def newest_runs(
    connection: Connection, stream_id: int, from_us: int, to_us: int, limit: int, *, is_failed_only: bool = False
) -> list[TailRun]:
    """The newest runs of a stream in the window, newest first."""
    pieces = _pieces(*bounds(connection, from_us, to_us))[::-1]
    return _some_runs(connection, stream_id, pieces, limit, is_failed_only=is_failed_only, is_newest_first=True)


def oldest_runs(connection: Connection, stream_id: int, from_us: int, to_us: int, limit: int) -> list[TailRun]:
    """The first runs of a stream in the window, oldest first."""
    pieces = _pieces(*bounds(connection, from_us, to_us))
    return _some_runs(connection, stream_id, pieces, limit, is_failed_only=False, is_newest_first=False)


def _some_runs(
    connection: Connection,
    stream_id: int,
    pieces: Iterable[tuple[int, int]],
    limit: int,
    *,
    is_failed_only: bool,
    is_newest_first: bool,
) -> list[TailRun]:
    table = tables.run
    order = table.c.time_us.desc() if is_newest_first else table.c.time_us
    found: list[TailRun] = []
    for start, end in pieces:
        query = select(table).where(_sought(table, table.c.stream_id, [stream_id], start, end))
        if is_failed_only:
            query = query.where(table.c.reason.is_not(None))
        rows = connection.execute(query.order_by(order).limit(limit - len(found)))
        found += [TailRun(row.time_us, row.stream_id, row.reason, row.is_generated, orjson.loads(row.body)) for row in rows]
        if len(found) >= limit:
            break
    return found


def runs_of(connection: Connection, streams: Sequence[int], from_us: int, to_us: int) -> list[TailRun]:
    """All runs of some streams in a window, by stream and time."""
    from_us, to_us = bounds(connection, from_us, to_us)
    if from_us == to_us:
        return []
    table = tables.run
    query = select(table).where(_sought(table, table.c.stream_id, streams, from_us, to_us))
    rows = connection.execute(query.order_by(table.c.stream_id, table.c.time_us))
    return [TailRun(row.time_us, row.stream_id, row.reason, row.is_generated, orjson.loads(row.body)) for row in rows]


def has_generated(connection: Connection, stream_id: int, from_us: int, to_us: int) -> bool:
    """Whether any run of the stream in the window was made up rather than measured."""
    table = tables.run
    return any(
        connection.execute(
            select(table.c.time_us)
            .where(_sought(table, table.c.stream_id, [stream_id], start, end), table.c.is_generated)
            .limit(1)
        ).first()
        for start, end in _pieces(*bounds(connection, from_us, to_us))
    )


def existing(connection: Connection, keys: Collection[tuple[int, int, int]]) -> set[tuple[int, int, int]]:
    """Those of some runs (slot, stream, time) that are there."""
    table = tables.run
    columns = (table.c.slot, table.c.stream_id, table.c.time_us)
    wanted = list(keys)
    found: set[tuple[int, int, int]] = set()
    for at in range(0, len(wanted), _SERIES_AT_ONCE):
        some = wanted[at : at + _SERIES_AT_ONCE]
        query = select(*columns).where(columns[0].in_({one[0] for one in some}), columns[1].in_({one[1] for one in some}))
        found |= {(slot, stream_id, time_us) for slot, stream_id, time_us in connection.execute(query)}
    return found & set(wanted)


def run_count(connection: Connection, from_us: int, to_us: int) -> int:
    """How many runs lie in rows, in the window, of streams that are there."""
    table = tables.run
    query = (
        select(func.count())
        .select_from(table)
        .where(within(table, from_us, to_us), table.c.stream_id.in_(select(tables.stream.c.id)))
    )
    return connection.execute(query).scalar_one()


def streams_with_runs(connection: Connection, from_us: int, to_us: int) -> list[int]:
    """Streams, of those that are there, with runs in the window; a removed probe leaves rows behind."""
    table = tables.run
    query = select(table.c.stream_id).where(within(table, from_us, to_us)).distinct()
    found = set(connection.execute(query).scalars())
    return sorted(found & set(connection.execute(select(tables.stream.c.id)).scalars()))


def span(connection: Connection, from_us: int) -> tuple[int | None, int | None]:
    """The first and the last time of a run since a moment."""
    table = tables.run
    ends: list[int | None] = []
    for edge, pick in ((func.min(table.c.slot), func.min), (func.max(table.c.slot), func.max)):
        at = connection.execute(select(edge).where(table.c.slot >= slot(from_us))).scalar()
        query = select(pick(table.c.time_us)).where(table.c.slot == at, table.c.time_us >= from_us)
        ends.append(None if at is None else connection.execute(query).scalar())
    return ends[0], ends[1]


def oldest_slot(connection: Connection, before_us: int) -> int | None:
    """The first slot, before a moment, that holds a row of a run or a sample."""
    firsts = [connection.execute(select(func.min(one.c.slot))).scalar() for one in (tables.run, tables.sample)]
    known = [int(one) for one in firsts if one is not None and one < slot(before_us)]
    return min(known, default=None)


def clear(connection: Connection, until_us: int) -> None:
    """Delete the rows of whole slots before a moment."""
    for table in (tables.run, tables.sample):
        connection.execute(table.delete().where(table.c.slot < slot(until_us)))

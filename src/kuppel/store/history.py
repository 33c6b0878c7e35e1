"""Reading what was measured: runs, samples, facts, over windows [from_us, to_us)."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import Connection, Row, bindparam, func, select, text

from kuppel.core.series import FloatArray, IntArray
from kuppel.store import tables


@dataclass(frozen=True, slots=True)
class StoredRun:
    """One run as kept, with its samples."""

    time_us: int
    stream_id: int
    reason: str | None
    is_generated: bool
    attempts: list[dict[str, Any]]
    detail: dict[str, Any]
    quantities: Mapping[str, float]


@dataclass(frozen=True, slots=True)
class StoredFact:
    name: str
    value: str
    from_us: int


def run_counts(connection: Connection, from_us: int, to_us: int) -> dict[int, tuple[int, int]]:
    """(ok runs, all runs) per stream."""
    table = tables.run
    query = (
        select(table.c.stream_id, func.count() - func.count(table.c.reason), func.count())
        .where(table.c.time_us >= from_us, table.c.time_us < to_us)
        .group_by(table.c.stream_id)
    )
    return {stream_id: (ok, total) for stream_id, ok, total in connection.execute(query)}


def run_times(connection: Connection, stream_id: int, from_us: int, to_us: int) -> tuple[IntArray, IntArray]:
    """Times of the runs that were ok, and of those that failed."""
    table = tables.run
    rows = connection.execute(
        select(table.c.time_us, table.c.reason.is_(None))
        .where(table.c.time_us >= from_us, table.c.time_us < to_us, table.c.stream_id == stream_id)
        .order_by(table.c.time_us)
    ).all()
    times = np.array([row[0] for row in rows], dtype=np.int64)
    is_ok = np.array([bool(row[1]) for row in rows], dtype=bool)
    return times[is_ok], times[~is_ok]


def samples(
    connection: Connection, stream_ids: Collection[int], quantities: Collection[str], from_us: int, to_us: int
) -> dict[tuple[int, str], tuple[IntArray, FloatArray]]:
    """Times and values of each wanted series that has any, in time order."""
    table = tables.series
    keys = {
        series_id: (stream_id, quantity)
        for series_id, stream_id, quantity in connection.execute(
            select(table.c.id, table.c.stream_id, table.c.quantity).where(
                table.c.stream_id.in_(stream_ids), table.c.quantity.in_(quantities)
            )
        )
    }
    if not keys:
        return {}
    # The unary plus keeps SQLite on the time range: one pass over the window instead of a seek per series and time.
    query = text(
        "SELECT time_us, series_id, value FROM sample WHERE time_us >= :from_us AND time_us < :to_us"
        " AND +series_id IN :series ORDER BY time_us"
    ).bindparams(bindparam("series", expanding=True))
    rows = connection.execute(query, {"from_us": from_us, "to_us": to_us, "series": list(keys)}).all()
    if not rows:
        return {}
    columns = list(zip(*rows, strict=True))
    times = np.array(columns[0], dtype=np.int64)
    series = np.array(columns[1], dtype=np.int64)
    values = np.array(columns[2], dtype=np.float64)
    found = {}
    for series_id in np.unique(series):
        mask = series == series_id
        found[keys[int(series_id)]] = (times[mask], values[mask])
    return found


def runs(
    connection: Connection, stream_id: int, from_us: int, to_us: int, limit: int, *, is_failed_only: bool = False
) -> list[StoredRun]:
    """The newest runs of a stream in the window, newest first, with their samples."""
    table = tables.run
    query = (
        select(table)
        .where(table.c.stream_id == stream_id, table.c.time_us >= from_us, table.c.time_us < to_us)
        .order_by(table.c.time_us.desc())
        .limit(limit)
    )
    if is_failed_only:
        query = query.where(table.c.reason.is_not(None))
    return _with_samples(connection, stream_id, connection.execute(query).all())


def _with_samples(connection: Connection, stream_id: int, rows: Sequence[Row[Any]]) -> list[StoredRun]:
    if not rows:
        return []
    measured: dict[int, dict[str, float]] = {}
    sample, series = tables.sample, tables.series
    times = [row.time_us for row in rows]
    query = (
        select(sample.c.time_us, series.c.quantity, sample.c.value)
        .join(series, series.c.id == sample.c.series_id)
        .where(series.c.stream_id == stream_id, sample.c.time_us >= min(times), sample.c.time_us <= max(times))
    )
    for time_us, quantity, value in connection.execute(query):
        measured.setdefault(time_us, {})[quantity] = value
    return [
        StoredRun(
            row.time_us,
            row.stream_id,
            row.reason,
            row.is_generated,
            row.attempts,
            row.detail,
            measured.get(row.time_us, {}),
        )
        for row in rows
    ]


def runs_after(connection: Connection, stream_id: int, after_us: int, limit: int) -> list[StoredRun]:
    """The first runs of a stream after a moment, oldest first: what a judgement missed."""
    table = tables.run
    query = select(table).where(table.c.stream_id == stream_id, table.c.time_us > after_us).order_by(table.c.time_us)
    return _with_samples(connection, stream_id, connection.execute(query.limit(limit)).all())


def facts(connection: Connection, stream_id: int, to_us: int) -> list[StoredFact]:
    """All values that each fact had until `to_us`, oldest first."""
    table = tables.fact
    rows = connection.execute(
        select(table.c.name, table.c.value, table.c.from_us)
        .where(table.c.stream_id == stream_id, table.c.from_us < to_us)
        .order_by(table.c.name, table.c.from_us)
    )
    return [StoredFact(*row) for row in rows]


def runs_per_slice(connection: Connection, starts_us: IntArray, width_us: int, from_us: int, to_us: int) -> IntArray:
    """How many runs of the window fall into each slice; counted in SQL, since a window may hold millions."""
    table = tables.run
    slice_us = table.c.time_us - table.c.time_us % width_us
    rows = connection.execute(
        select(slice_us, func.count()).where(table.c.time_us >= from_us, table.c.time_us < to_us).group_by(slice_us)
    )
    counts = np.zeros(starts_us.size, dtype=np.int64)
    for start_us, count in rows:
        counts[(start_us - int(starts_us[0])) // width_us] = count
    return counts


def run_count(connection: Connection, from_us: int, to_us: int) -> int:
    """How many runs were measured in the window."""
    table = tables.run
    query = select(func.count()).select_from(table).where(table.c.time_us >= from_us, table.c.time_us < to_us)
    return connection.execute(query).scalar_one()


def span(connection: Connection) -> tuple[int | None, int | None]:
    """The first and the last time at which anything was measured."""
    table = tables.run
    first = connection.execute(select(func.min(table.c.time_us))).scalar()
    last = connection.execute(select(func.max(table.c.time_us))).scalar()
    return first, last


def has_generated(connection: Connection, from_us: int, to_us: int) -> bool:
    """Whether any run of the window was made up rather than measured."""
    table = tables.run
    query = select(table.c.time_us).where(table.c.time_us >= from_us, table.c.time_us < to_us, table.c.is_generated)
    return connection.execute(query.limit(1)).first() is not None

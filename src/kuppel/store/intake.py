"""Taking results: once and only once, whole or not at all."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import orjson
from sqlalchemy import Connection, select, update
from sqlalchemy.dialects.sqlite import insert

from kuppel.core.result import Result
from kuppel.store import days, tables
from kuppel.store.days import Day


@dataclass(frozen=True, slots=True)
class NumberedResult:
    """A result of a stream with the sequence number its spool gave it."""

    sequence: int
    stream_id: int
    result: Result


@dataclass(frozen=True, slots=True)
class Intake:
    """What became of a batch: the sequence number taken up to, how many were new, and those new ones."""

    acknowledged: int
    repeated: int
    taken: list[NumberedResult] = field(default_factory=list)


def take_batch(
    connection: Connection,
    vantage_point_id: int,
    spool: str,
    results: Sequence[NumberedResult],
    up_to: int,
    refused: int,
) -> Intake:
    """Store what was not taken before.

    Parameters
    ----------
    results : in rising sequence; those at or below the last number taken from this spool are repeated and ignored.
    up_to : the batch's last sequence number, refused results included: they must not come again.
    refused : how many of the batch could not be used.
    """
    table = tables.spool
    last = connection.execute(
        select(table.c.last_sequence).where(table.c.vantage_point_id == vantage_point_id, table.c.spool == spool)
    ).scalar()
    taken = [one for one in results if last is None or one.sequence > last]
    store_results(connection, taken, is_generated=False)
    if last is None or up_to > last:
        statement = insert(table).values(vantage_point_id=vantage_point_id, spool=spool, last_sequence=up_to)
        connection.execute(
            statement.on_conflict_do_update(
                index_elements=["vantage_point_id", "spool"], set_={"last_sequence": statement.excluded.last_sequence}
            )
        )
        if refused:
            points = tables.vantage_point
            connection.execute(
                update(points)
                .where(points.c.id == vantage_point_id)
                .values(refused_results=points.c.refused_results + refused)
            )
    return Intake(max(up_to, last or 0), len(results) - len(taken), taken)


def store_results(connection: Connection, results: Sequence[NumberedResult], *, is_generated: bool) -> None:
    """Runs, samples and changed facts of results. A run that is already there is left as it is."""
    horizon_us = days.horizon(connection)
    late = [one for one in results if one.result.started_us < horizon_us]
    _merge_late(connection, late, is_generated)
    _store_rows(connection, [one for one in results if one.result.started_us >= horizon_us], is_generated)
    _store_facts(connection, results)


def _merge_late(connection: Connection, results: Sequence[NumberedResult], is_generated: bool) -> None:
    """Runs of days that are finished already go into those days' blocks."""
    found: dict[tuple[int, int], list[Result]] = {}
    for one in results:
        day_us = one.result.started_us // days.DAY_US * days.DAY_US
        found.setdefault((one.stream_id, day_us), []).append(one.result)
    for (stream_id, day_us), of_day in found.items():
        unique = {one.started_us: one for one in reversed(of_day)}
        late = [unique[time_us] for time_us in sorted(unique)]
        names = {name for one in late for name in one.quantities}
        day = Day(
            np.array([one.started_us for one in late], dtype=np.int64),
            np.array([days.code(one.reason, is_generated=is_generated) for one in late], dtype=np.uint8),
            [{"attempts": _attempts(one), "detail": dict(one.detail)} for one in late],
            {name: np.array([one.quantities.get(name, np.nan) for one in late]) for name in names},
        )
        days.merge_runs(connection, stream_id, day_us, day)


def _store_rows(connection: Connection, results: Sequence[NumberedResult], is_generated: bool) -> None:
    if not results:
        return
    connection.exec_driver_sql(
        "INSERT INTO run (time_us, stream_id, reason, is_generated, attempts, detail) VALUES (?, ?, ?, ?, ?, ?)"
        " ON CONFLICT DO NOTHING",
        [_run_row(one, is_generated) for one in results],
    )
    series = days.series_ids(connection, {(one.stream_id, name) for one in results for name in one.result.quantities})
    samples = [
        (one.result.started_us, series[one.stream_id, name], value)
        for one in results
        for name, value in one.result.quantities.items()
    ]
    if samples:
        connection.exec_driver_sql(
            "INSERT INTO sample (time_us, series_id, value) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", samples
        )


def _attempts(result: Result) -> list[dict[str, Any]]:
    return [
        {
            "started_us": attempt.started_us,
            "duration_us": attempt.duration_us,
            "reason": attempt.reason,
            "note": attempt.note,
        }
        for attempt in result.attempts
    ]


def _run_row(one: NumberedResult, is_generated: bool) -> tuple[Any, ...]:
    result = one.result
    reason = None if result.reason is None else str(result.reason)
    return (
        result.started_us,
        one.stream_id,
        reason,
        is_generated,
        orjson.dumps(_attempts(result)).decode(),
        orjson.dumps(dict(result.detail)).decode(),
    )


def _store_facts(connection: Connection, results: Sequence[NumberedResult]) -> None:
    """Facts are stored when they change. One that arrives out of time order is not: what holds now is newer."""
    table = tables.fact
    streams = {one.stream_id for one in results if one.result.facts}
    if not streams:
        return
    newest: dict[tuple[int, str], tuple[int, str]] = {}
    query = select(table).where(table.c.stream_id.in_(streams)).order_by(table.c.from_us)
    for stream_id, name, from_us, value in connection.execute(query):
        newest[stream_id, name] = (from_us, value)
    changed = []
    for one in sorted(results, key=lambda one: one.result.started_us):
        for name, value in one.result.facts.items():
            before = newest.get((one.stream_id, name))
            if before is None or (before[1] != value and before[0] < one.result.started_us):
                newest[one.stream_id, name] = (one.result.started_us, value)
                changed.append({"stream_id": one.stream_id, "name": name, "from_us": one.result.started_us, "value": value})
    if changed:
        connection.execute(insert(table).on_conflict_do_nothing(), changed)

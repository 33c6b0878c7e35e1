"""Taking results: once and only once, whole or not at all."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import orjson
from sqlalchemy import Connection, select, update
from sqlalchemy.dialects.sqlite import insert

from kuppel.core.result import Result
from kuppel.store import tables


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
    if not results:
        return
    connection.exec_driver_sql(
        "INSERT INTO run (time_us, stream_id, reason, is_generated, attempts, detail) VALUES (?, ?, ?, ?, ?, ?)"
        " ON CONFLICT DO NOTHING",
        [_run_row(one, is_generated) for one in results],
    )
    series = _series_ids(connection, {(one.stream_id, name) for one in results for name in one.result.quantities})
    samples = [
        (one.result.started_us, series[one.stream_id, name], value)
        for one in results
        for name, value in one.result.quantities.items()
    ]
    if samples:
        connection.exec_driver_sql(
            "INSERT INTO sample (time_us, series_id, value) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", samples
        )
    _store_facts(connection, results)


def _run_row(one: NumberedResult, is_generated: bool) -> tuple[Any, ...]:
    result = one.result
    attempts = [
        {
            "started_us": attempt.started_us,
            "duration_us": attempt.duration_us,
            "reason": attempt.reason,
            "note": attempt.note,
        }
        for attempt in result.attempts
    ]
    reason = None if result.reason is None else str(result.reason)
    return (
        result.started_us,
        one.stream_id,
        reason,
        is_generated,
        orjson.dumps(attempts).decode(),
        orjson.dumps(dict(result.detail)).decode(),
    )


def _series_ids(connection: Connection, wanted: set[tuple[int, str]]) -> dict[tuple[int, str], int]:
    table = tables.series
    streams = {stream_id for stream_id, _ in wanted}
    query = select(table.c.stream_id, table.c.quantity, table.c.id).where(table.c.stream_id.in_(streams))
    known = {(stream_id, quantity): one for stream_id, quantity, one in connection.execute(query)}
    missing = sorted(wanted - known.keys())
    if missing:
        connection.execute(
            insert(table), [{"stream_id": stream_id, "quantity": quantity} for stream_id, quantity in missing]
        )
        known |= {(stream_id, quantity): one for stream_id, quantity, one in connection.execute(query)}
    return known


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

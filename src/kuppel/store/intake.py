"""Taking results: once and only once, whole or not at all."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import orjson
from sqlalchemy import Connection, select, update

from kuppel.core.change import OF_FACT, Change, is_same_fact
from kuppel.core.duration import DAY_US
from kuppel.core.result import Result
from kuppel.store import changes, days, tables, tail
from kuppel.store.database import remembered
from kuppel.store.days import Day
from kuppel.store.dialect import add_flat, add_rows, put_rows


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
        put_rows(connection, table, [(vantage_point_id, spool, up_to)])
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
        day_us = one.result.started_us // DAY_US * DAY_US
        found.setdefault((one.stream_id, day_us), []).append(one.result)
    for (stream_id, day_us), of_day in found.items():
        unique = {one.started_us: one for one in reversed(of_day)}
        late = [unique[time_us] for time_us in sorted(unique)]
        names = {name for one in late for name in one.quantities}
        day = Day(
            np.array([one.started_us for one in late], dtype=np.int64),
            np.array([days.code(one.reason, is_generated=is_generated) for one in late], dtype=np.uint8),
            [orjson.loads(_body(one)) for one in late],
            {name: np.array([one.quantities.get(name, np.nan) for one in late]) for name in names},
        )
        days.merge_runs(connection, stream_id, day_us, day)


def _store_rows(connection: Connection, results: Sequence[NumberedResult], is_generated: bool) -> None:
    if not results:
        return
    # In the order of their keys, so that neighbours go into the same page one after another; of two at one time the first.
    own: dict[tuple[int, int, int], Result] = {}
    for one in results:
        time_us = one.result.started_us
        own.setdefault((time_us // tail.SLOT_US, one.stream_id, time_us), one.result)
    keys = sorted(own)
    with connection.begin_nested() as point:
        if _store_runs(connection, keys, own, is_generated) < len(keys):
            point.rollback()
            keys = []
    if not keys:
        # Some are there already and stay as they are: nothing of ours may be added to them.
        there = tail.existing(connection, own)
        keys = sorted(own.keys() - there)
        _store_runs(connection, keys, own, is_generated)
    ids = days.series_ids(connection, ((one.stream_id, one.result.quantities) for one in results))
    samples: list[Any] = []
    for key in keys:
        slot, stream_id, time_us = key
        names = ids[stream_id]
        for name, value in own[key].quantities.items():
            samples += (slot, names[name], time_us, value)
    add_flat(connection, tables.sample, samples)


def _store_runs(
    connection: Connection,
    keys: Sequence[tuple[int, int, int]],
    own: Mapping[tuple[int, int, int], Result],
    is_generated: bool,
) -> int:
    runs: list[Any] = []
    for key in keys:
        result = own[key]
        runs += (*key, result.reason, is_generated, _body(result))
    return add_flat(connection, tables.run, runs)


def _body(result: Result) -> bytes:
    return orjson.dumps({"attempts": result.attempts, "detail": result.detail})


def _store_facts(connection: Connection, results: Sequence[NumberedResult]) -> None:
    """Facts are stored when they change. One that arrives out of time order is not: what holds now is newer."""
    wanted = {(one.stream_id, name) for one in results for name in one.result.facts}
    if not wanted:
        return
    newest = _newest_facts(connection, wanted)
    changed = []
    found: list[Change] = []
    for one in sorted(results, key=lambda one: one.result.started_us):
        for name, value in one.result.facts.items():
            before = newest.get((one.stream_id, name))
            if before is None or (before[0] < one.result.started_us and not is_same_fact(name, before[1], value)):
                newest[one.stream_id, name] = (one.result.started_us, value)
                if before is not None and name in OF_FACT:
                    found.append(_change_of_fact(one, name, before[1], value))
                changed.append((one.stream_id, name, one.result.started_us, value))
    add_rows(connection, tables.fact, changed)
    changes.add_changes(connection, found)


def _change_of_fact(one: NumberedResult, name: str, before: str, after: str) -> Change:
    subject = name.replace("_", " ")
    return Change(0, one.result.started_us, None, OF_FACT[name], subject, before, after, "kuppel", one.stream_id)


def _newest_facts(connection: Connection, wanted: set[tuple[int, str]]) -> dict[tuple[int, str], tuple[int, str]]:
    """Since when each fact holds, and its value; remembered until something on the connection fails."""
    known: dict[tuple[int, str], tuple[int, str]] = remembered(connection, "facts")
    streams = {stream_id for stream_id, name in wanted if (stream_id, name) not in known}
    if streams:
        table = tables.fact
        query = select(table).where(table.c.stream_id.in_(streams)).order_by(table.c.from_us)
        for stream_id, name, from_us, value in connection.execute(query):
            known[stream_id, name] = (from_us, value)
    return known

"""Finished days: every run of one stream's day, as compressed columns that share one column of times.

**The horizon** is a moment at the start of a day. What was measured before it is in blocks, what was measured since is in
the rows of `run` and `sample`: each run is in exactly one of the two for every reader at every moment, since the horizon
moves in one commit, which a reader's snapshot either sees or does not. A day on its way is written beside the rows first;
nobody reads blocks beyond the horizon. Once it has moved, the rows before it are dead and go away in small pieces.

**Late runs**, from an agent that was cut off, belong before the horizon: intake merges them into their day's blocks.
"""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, Table, func, select
from sqlalchemy.dialects.sqlite import insert

from kuppel.core import sketch as sketches
from kuppel.core.reason import Reason
from kuppel.core.series import FloatArray, IntArray
from kuppel.store import block, summary, tables

DAY_US = 86_400_000_000
# Columns that every stream's day has, beside those of its quantities; names that no quantity has.
TIMES, CODES, BODIES = "_times", "_codes", "_bodies"

_HORIZON = "horizon_us"
KEY_DAYS = 1 << 20
_GENERATED = 128
_REASONS = tuple(Reason)
_CODE_OF = {reason: number + 1 for number, reason in enumerate(_REASONS)}


@dataclass(slots=True)
class Day:
    """The runs of one stream's day in the order of time: times, codes, bodies (attempts and detail), and values by
    quantity, NaN where a run has none. `bodies` is empty when they were left out of reading or are no longer kept."""

    times_us: IntArray
    codes: NDArray[np.uint8]
    bodies: list[Any] = field(default_factory=list)
    values: dict[str, FloatArray] = field(default_factory=dict)

    @property
    def is_failed(self) -> NDArray[np.bool_]:
        failed: NDArray[np.bool_] = (self.codes & (_GENERATED - 1)) != 0
        return failed

    @property
    def is_generated(self) -> NDArray[np.bool_]:
        generated: NDArray[np.bool_] = (self.codes & _GENERATED) != 0
        return generated


def code(reason: str | None, *, is_generated: bool) -> int:
    """A run's outcome in one octet: 0 for ok, else the number of its reason; the top bit marks made-up history."""
    return (0 if reason is None else _CODE_OF[Reason(reason)]) | (_GENERATED if is_generated else 0)


def reason_of(run_code: int) -> str | None:
    number = run_code & ~_GENERATED
    return None if number == 0 else str(_REASONS[number - 1])


def block_key(series_id: int, day_us: int) -> int:
    """One integer for a series and a day, series first: a series' days lie side by side."""
    return series_id * KEY_DAYS + day_us // DAY_US


def key_day(key: int) -> int:
    """The start of the day of a block's key."""
    return key % KEY_DAYS * DAY_US


def horizon(connection: Connection) -> int:
    """What was measured before this moment is in blocks; 0 before the first day was finished."""
    found = connection.execute(select(tables.mark.c.value).where(tables.mark.c.name == _HORIZON)).scalar()
    return int(found or 0)


def move_horizon(connection: Connection, to_us: int) -> None:
    statement = insert(tables.mark).values(name=_HORIZON, value=to_us)
    connection.execute(statement.on_conflict_do_update(index_elements=["name"], set_={"value": statement.excluded.value}))


def series_of(
    connection: Connection, stream_ids: Collection[int], quantities: Collection[str]
) -> dict[int, tuple[int, str]]:
    """(stream, quantity) by series id."""
    table = tables.series
    query = select(table.c.id, table.c.stream_id, table.c.quantity).where(
        table.c.stream_id.in_(stream_ids), table.c.quantity.in_(quantities)
    )
    return {series_id: (stream_id, quantity) for series_id, stream_id, quantity in connection.execute(query)}


def series_ids(connection: Connection, wanted: set[tuple[int, str]]) -> dict[tuple[int, str], int]:
    """The ids of series, made where there were none."""
    table = tables.series
    query = select(table.c.stream_id, table.c.quantity, table.c.id).where(
        table.c.stream_id.in_({stream_id for stream_id, _ in wanted})
    )
    known = {(stream_id, quantity): one for stream_id, quantity, one in connection.execute(query)}
    missing = sorted(wanted - known.keys())
    if missing:
        connection.execute(
            insert(table), [{"stream_id": stream_id, "quantity": quantity} for stream_id, quantity in missing]
        )
        known |= {(stream_id, quantity): one for stream_id, quantity, one in connection.execute(query)}
    return known


def payloads(connection: Connection, table: Table, series: int, from_us: int, to_us: int) -> dict[int, bytes]:
    """A series' blocks (or hour summaries) by day, of the days that touch [from_us, to_us), in the order of time."""
    first, last = block_key(series, from_us), block_key(series, to_us - 1)
    rows = connection.execute(
        select(table.c.key, table.c.payload).where(table.c.key >= first, table.c.key <= last).order_by(table.c.key)
    )
    return {key_day(key): payload for key, payload in rows}


def read_days(connection: Connection, stream_id: int, names: Iterable[str], from_us: int, to_us: int) -> dict[int, Day]:
    """The finished days of a stream that touch the window, with the named columns beside their times.

    Codes are read when they are named; without them every run counts as ok. A damaged block is left out: its day (times,
    codes) or its column is then missing, the rest stays readable.
    """
    to_us = min(to_us, horizon(connection))
    if to_us <= from_us:
        return {}
    wanted = {TIMES, *names}
    columns = {
        name: payloads(connection, tables.block, series, from_us, to_us)
        for series, (_, name) in series_of(connection, [stream_id], wanted).items()
    }
    found: dict[int, Day] = {}
    for day_us, packed in columns.get(TIMES, {}).items():
        try:
            times = block.decode_times(packed)
            codes = np.zeros(times.size, np.uint8)
            if CODES in wanted:
                codes = block.decode_codes(columns.get(CODES, {}).get(day_us, b""))
            day = Day(times, codes)
        except block.BlockDamaged:
            continue
        for name in wanted - {TIMES, CODES}:
            payload = columns.get(name, {}).get(day_us)
            if payload is not None:
                _add_column(day, name, payload)
        found[day_us] = day
    return found


def _add_column(day: Day, name: str, payload: bytes) -> None:
    try:
        column = block.decode_bodies(payload) if name == BODIES else block.decode_values(payload)
    except block.BlockDamaged:
        return
    if len(column) != day.times_us.size:  # written by nobody; what does not fit its times says nothing
        return
    if isinstance(column, list):
        day.bodies = column
    else:
        day.values[name] = column


@dataclass(frozen=True, slots=True)
class EncodedDay:
    """A stream's day as rows to store: blocks, day summaries and hour summaries by the name of their column."""

    stream_id: int
    day_us: int
    runs: int
    blocks: Mapping[str, bytes]
    days: Mapping[str, summary.Summary]
    hours: Mapping[str, bytes]


def encode_day(stream_id: int, day_us: int, day: Day) -> EncodedDay:
    """Compress and summarise. Touches no database: it may take its time in any thread."""
    failed_us = day.times_us[day.is_failed]
    blocks = {TIMES: block.encode_times(day.times_us), CODES: block.encode_codes(day.codes)}
    if day.bodies:
        blocks[BODIES] = block.encode_bodies(day.bodies)
    # The summary of the times counts the runs; it is what availability over long windows is read from.
    hours = {TIMES: summary.hours_of(day_us, day.times_us, np.zeros(day.times_us.size), failed_us)}
    for name, values in day.values.items():
        present = ~np.isnan(values)
        if not present.any():
            continue
        blocks[name] = block.encode_values(values)
        hours[name] = summary.hours_of(day_us, day.times_us[present], values[present], failed_us)
    return EncodedDay(
        stream_id,
        day_us,
        day.times_us.size,
        blocks,
        {name: summary.merged(list(one.values())) for name, one in hours.items()},
        {name: summary.encode_hours(one) for name, one in hours.items()},
    )


def write_days(connection: Connection, encoded: Sequence[EncodedDay]) -> None:
    """Store days, in the place of what was there of them."""
    ids = series_ids(connection, {(one.stream_id, name) for one in encoded for name in one.blocks})
    blocks, days, hours = [], [], []
    for one in encoded:
        for name, payload in one.blocks.items():
            key = block_key(ids[one.stream_id, name], one.day_us)
            blocks.append((key, payload))
            if name in one.days:
                told = one.days[name]
                row = (key, told.count, told.failed, told.sum, told.least, told.most, sketches.encode(told.sketch))
                days.append(row)
                hours.append((key, one.hours[name]))
    upsert = "INSERT OR REPLACE INTO {} VALUES ({})"
    for table, rows in (("block", blocks), ("day_summary", days), ("hour_summaries", hours)):
        if rows:
            connection.exec_driver_sql(upsert.format(table, ", ".join("?" * len(rows[0]))), rows)


def merge_runs(connection: Connection, stream_id: int, day_us: int, late: Day) -> int:
    """Merge late runs into a finished day; how many were new. A run that is there already is left as it is."""
    names = [
        quantity
        for (quantity,) in connection.execute(
            select(tables.series.c.quantity).where(tables.series.c.stream_id == stream_id)
        )
        if quantity not in (TIMES, CODES)
    ]
    known = read_days(connection, stream_id, {CODES, *names}, day_us, day_us + DAY_US).get(day_us)
    if known is not None:
        is_new = ~np.isin(late.times_us, known.times_us)
        late = _picked(late, np.flatnonzero(is_new))
        whole = _joined(known, late)
    else:
        whole = late
    if late.times_us.size:
        write_days(connection, [encode_day(stream_id, day_us, _picked(whole, np.argsort(whole.times_us, kind="stable")))])
    return int(late.times_us.size)


def _picked(day: Day, order: IntArray) -> Day:
    bodies = [day.bodies[index] for index in order] if day.bodies else []
    return Day(day.times_us[order], day.codes[order], bodies, {name: one[order] for name, one in day.values.items()})


def _joined(one: Day, two: Day) -> Day:
    def column(name: str) -> FloatArray:
        parts = [day.values.get(name, np.full(day.times_us.size, np.nan)) for day in (one, two)]
        return np.concatenate(parts)

    # Bodies that are no longer kept stay away; those of the late runs alone would not fit their order.
    bodies = [*one.bodies, *two.bodies] if len(one.bodies) == one.times_us.size else []
    return Day(
        np.concatenate([one.times_us, two.times_us]),
        np.concatenate([one.codes, two.codes]),
        bodies,
        {name: column(name) for name in {*one.values, *two.values}},
    )


def day_runs(connection: Connection, from_us: int, to_us: int) -> int:
    """How many runs lie in rows, in the window, of streams that are there."""
    table = tables.run
    query = (
        select(func.count())
        .select_from(table)
        .where(table.c.time_us >= from_us, table.c.time_us < to_us, table.c.stream_id.in_(select(tables.stream.c.id)))
    )
    return connection.execute(query).scalar_one()


def streams_with_rows(connection: Connection, from_us: int, to_us: int) -> list[int]:
    """Streams, of those that are there, with runs in rows in the window; a removed probe leaves rows behind."""
    table = tables.run
    query = select(table.c.stream_id).where(table.c.time_us >= from_us, table.c.time_us < to_us).distinct()
    found = set(connection.execute(query).scalars())
    return sorted(found & set(connection.execute(select(tables.stream.c.id)).scalars()))


def remove_series(connection: Connection, series_ids: Collection[int]) -> None:
    """Remove every finished day of these series."""
    ranges = [(block_key(one, 0), block_key(one + 1, 0)) for one in series_ids]
    for name in ("block", "day_summary", "hour_summaries"):
        if ranges:
            connection.exec_driver_sql(f"DELETE FROM {name} WHERE key >= ? AND key < ?", ranges)

"""Finished days: every run of one stream's day, as compressed columns that share one column of times.

**The horizon** is a moment at the start of a day. What was measured before it is in blocks, what was measured since is in
the rows of the tail: each run is in exactly one of the two for every reader at every moment, since the horizon
moves in one commit, which a reader's snapshot either sees or does not. A day on its way is written beside the rows first;
nobody reads blocks beyond the horizon. Once it has moved, the rows before it are dead and go away in small pieces.

**Late runs**, from an agent that was cut off, belong before the horizon: intake merges them into their day's blocks.
"""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, Table, bindparam, delete, func, select

from kuppel.core import sketch as sketches
from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.core.reason import Reason
from kuppel.core.series import FloatArray, IntArray
from kuppel.store import block, summary, tables
from kuppel.store.database import remembered
from kuppel.store.dialect import insert, plain_rows, put_rows

# Columns that every stream's day has, beside those of its quantities; names that no quantity has.
TIMES, CODES, BODIES = "_times", "_codes", "_bodies"

_HORIZON = "horizon_us"
_BODIES_RETIRED = "bodies_retired_us"
_KEY_SERIES = 1 << 40
_KEYS_AT_ONCE = 1000
# Above so many keys, and this share of all series, a stretch of days is read whole rather than key by key.
_SOUGHT, _SOUGHT_SHARE = 2000, 0.1
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
    """One integer for a day and a series, day first: new days go behind the old ones, and the oldest go as a piece."""
    return day_us // DAY_US * _KEY_SERIES + series_id


def key_day(key: int) -> int:
    """The start of the day of a block's key."""
    return key // _KEY_SERIES * DAY_US


def key_series(key: int) -> int:
    """The series of a block's key."""
    return key % _KEY_SERIES


def horizon(connection: Connection) -> int:
    """What was measured before this moment is in blocks; 0 before the first day was finished."""
    found = plain_rows(connection, f"SELECT value FROM \"{tables.mark.name}\" WHERE name = '{_HORIZON}'")
    return int(found[0][0] or 0) if found else 0


def move_horizon(connection: Connection, to_us: int) -> None:
    put_rows(connection, tables.mark, [(_HORIZON, to_us)])


def series_of(
    connection: Connection, stream_ids: Collection[int], quantities: Collection[str]
) -> dict[int, tuple[int, str]]:
    """(stream, quantity) by series id."""
    table = tables.series
    query = select(table.c.id, table.c.stream_id, table.c.quantity).where(
        table.c.stream_id.in_(stream_ids), table.c.quantity.in_(quantities)
    )
    return {series_id: (stream_id, quantity) for series_id, stream_id, quantity in connection.execute(query)}


def series_ids(
    connection: Connection, wanted: Iterable[tuple[int, Mapping[str, object]]]
) -> Mapping[int, Mapping[str, int]]:
    """The ids of series by stream and quantity, made where there were none; known ones are remembered.

    Parameters
    ----------
    wanted : streams, each with a mapping by the quantities that are asked for.
    """
    ids: dict[int, dict[str, int]] = remembered(connection, "series")
    missing: dict[int, set[str]] = {}
    for stream_id, names in wanted:
        own = ids.setdefault(stream_id, {})
        if not own.keys() >= names.keys():
            missing.setdefault(stream_id, set()).update(names)
    if missing:
        table = tables.series
        rows = [{"stream_id": one, "quantity": name} for one, names in sorted(missing.items()) for name in sorted(names)]
        connection.execute(insert(connection, table).on_conflict_do_nothing(), rows)
        query = select(table.c.stream_id, table.c.quantity, table.c.id).where(table.c.stream_id.in_(missing))
        for stream_id, quantity, one in connection.execute(query):
            ids[stream_id][quantity] = one
    return ids


def payloads(
    connection: Connection, table: Table, series: Collection[int], from_us: int, to_us: int
) -> dict[int, dict[int, bytes]]:
    """Blocks (or hour summaries) by series and day, of the days that touch [from_us, to_us), in the order of time."""
    found: dict[int, dict[int, bytes]] = {one: {} for one in series}
    for key, payload in rows_of(connection, table, ["payload"], series, from_us, to_us):
        found[key_series(key)][key_day(key)] = payload
    return found


def rows_of(
    connection: Connection, table: Table, columns: Sequence[str], series: Collection[int], from_us: int, to_us: int
) -> list[Any]:
    """Key and columns of the rows of some series, of the days that touch [from_us, to_us), in the order of time."""
    if not series or (first_us := first_day_of(connection, table)) is None:
        return []
    # Nothing lies in blocks beyond the horizon but a day that is just being written.
    start, end = max(from_us, first_us) // DAY_US, -(-min(to_us, horizon(connection)) // DAY_US)
    wanted = sorted(series)
    count = (end - start) * len(wanted)
    if count <= 0:
        return []
    statement = "SELECT key" + "".join(f', "{name}"' for name in columns) + f' FROM "{table.name}" WHERE key'
    if count > _SOUGHT and len(wanted) > _SOUGHT_SHARE * _series_count(connection):
        own = set(wanted)
        rows = plain_rows(connection, f"{statement} >= {start * _KEY_SERIES} AND key < {end * _KEY_SERIES} ORDER BY key")
        return [row for row in rows if row[0] % _KEY_SERIES in own]
    keys = [day * _KEY_SERIES + one for day in range(start, end) for one in wanted]
    found: list[Any] = []
    for at in range(0, count, _KEYS_AT_ONCE):
        chosen = ",".join(map(str, keys[at : at + _KEYS_AT_ONCE]))
        found += plain_rows(connection, f"{statement} IN ({chosen}) ORDER BY key")
    return found


def has_any(connection: Connection, day_us: int) -> bool:
    """Whether anything was measured on a finished day."""
    start = day_us // DAY_US * _KEY_SERIES
    stretch = f"key >= {start} AND key < {start + _KEY_SERIES}"
    return bool(plain_rows(connection, f'SELECT 1 FROM "{tables.day_summary.name}" WHERE {stretch} LIMIT 1'))


def groups_of(rows: Sequence[Any], groups: Mapping[int, int]) -> list[int]:
    """The group of each row of `rows_of`, by the series of its key."""
    series = np.fromiter(sorted(groups), np.int64, len(groups))
    numbers = np.fromiter((groups[one] for one in series.tolist()), np.int64, len(groups))
    own = np.fromiter((row[0] for row in rows), np.int64, len(rows)) % _KEY_SERIES
    found: list[int] = numbers[np.searchsorted(series, own)].tolist() if rows else []
    return found


def _series_count(connection: Connection) -> int:
    return connection.execute(select(func.count()).select_from(tables.series)).scalar_one()


def first_day(connection: Connection) -> int | None:
    """The start of the oldest day of which anything is kept in blocks or summaries."""
    firsts = [first_day_of(connection, one) for one in (tables.block, tables.day_summary, tables.hour_summaries)]
    return min((one for one in firsts if one is not None), default=None)


def first_day_of(connection: Connection, table: Table) -> int | None:
    """The start of the oldest day in one of the tables of finished days."""
    ((key,),) = plain_rows(connection, f'SELECT min(key) FROM "{table.name}"')
    return None if key is None else key_day(int(key))


def read_days(connection: Connection, stream_id: int, names: Iterable[str], from_us: int, to_us: int) -> dict[int, Day]:
    """The finished days of a stream that touch the window, with the named columns beside their times.

    Codes are read when they are named; without them every run counts as ok. A damaged block is left out: its day (times,
    codes) or its column is then missing, the rest stays readable.
    """
    return read_days_of(connection, [stream_id], names, from_us, to_us)[stream_id]


def read_days_of(
    connection: Connection, stream_ids: Collection[int], names: Iterable[str], from_us: int, to_us: int
) -> dict[int, dict[int, Day]]:
    """`read_days` for many streams: days by stream."""
    wanted = {TIMES, *names}
    series = series_of(connection, stream_ids, wanted)
    read = payloads(connection, tables.block, series, from_us, to_us)
    columns: dict[int, dict[str, dict[int, bytes]]] = {one: {} for one in stream_ids}
    for one, (stream_id, name) in series.items():
        columns[stream_id][name] = read[one]
    return {stream_id: _read_days(own, wanted) for stream_id, own in columns.items()}


def _read_days(columns: Mapping[str, Mapping[int, bytes]], wanted: set[str]) -> dict[int, Day]:
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


def encode_day(stream_id: int, day_us: int, day: Day, *, is_quick: bool = False) -> EncodedDay:
    """Compress and summarise; `is_quick` takes two thirds of the time and a sixth more room. Touches no database: it may
    take its time in any thread."""
    failed_us = day.times_us[day.is_failed]
    blocks = {TIMES: block.encode_times(day.times_us), CODES: block.encode_codes(day.codes)}
    if day.bodies:
        blocks[BODIES] = block.encode_bodies(day.bodies, is_quick=is_quick)
    # The summary of the times counts the runs; it is what availability over long windows is read from.
    told = {TIMES: _summarised(day_us, day.times_us, np.zeros(day.times_us.size), failed_us, is_quick=is_quick)}
    for name, values in day.values.items():
        present = ~np.isnan(values)
        if not present.any():
            continue
        blocks[name] = block.encode_values(values, is_quick=is_quick)
        told[name] = _summarised(day_us, day.times_us[present], values[present], failed_us, is_quick=is_quick)
    days = {name: one for name, (one, _) in told.items()}
    hours = {name: one for name, (_, one) in told.items()}
    return EncodedDay(stream_id, day_us, day.times_us.size, blocks, days, hours)


def _summarised(
    day_us: int, times_us: IntArray, values: FloatArray, failed_us: IntArray, *, is_quick: bool
) -> tuple[summary.Summary, bytes]:
    """A column's summary of the day, and those of its hours as octets."""
    if values.size and (values == values[0]).all():
        # Counts and shares are often the same all day, and so is what is told of them.
        runs, failed = (np.bincount((one - day_us) // HOUR_US, minlength=24) for one in (times_us, failed_us))
        return _summarised_constant(float(values[0]), tuple(runs.tolist()), tuple(failed.tolist()), is_quick)
    hours = summary.hours_of(day_us, times_us, values, failed_us)
    return summary.merged(list(hours.values())), summary.encode_hours(hours, is_quick=is_quick)


@lru_cache(maxsize=500)
def _summarised_constant(
    value: float, runs: tuple[int, ...], failed: tuple[int, ...], is_quick: bool
) -> tuple[summary.Summary, bytes]:
    times, failures = (np.repeat(np.arange(24) * HOUR_US, one) for one in (runs, failed))
    hours = summary.hours_of(0, times, np.full(times.size, value), failures)
    return summary.merged(list(hours.values())), summary.encode_hours(hours, is_quick=is_quick)


def write_days(connection: Connection, encoded: Sequence[EncodedDay]) -> None:
    """Store days, in the place of what was there of them."""
    ids = series_ids(connection, ((one.stream_id, one.blocks) for one in encoded))
    blocks: list[tuple[Any, ...]] = []
    days: list[tuple[Any, ...]] = []
    hours: list[tuple[Any, ...]] = []
    for one in encoded:
        for name, payload in one.blocks.items():
            key = block_key(ids[one.stream_id][name], one.day_us)
            blocks.append((key, payload))
            if name in one.days:
                told = one.days[name]
                row = (key, told.count, told.failed, told.sum, told.least, told.most, sketches.encode(told.sketch))
                days.append(row)
                hours.append((key, one.hours[name]))
    for table, rows in ((tables.block, blocks), (tables.day_summary, days), (tables.hour_summaries, hours)):
        put_rows(connection, table, sorted(rows))


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


def remove_series(connection: Connection, series_ids: Collection[int]) -> None:
    """Remove every finished day of these series."""
    first_us, last_us = first_day(connection), horizon(connection)
    if first_us is None or not series_ids:
        return
    days = range(first_us // DAY_US, last_us // DAY_US + 1)
    keys = [{"gone": day * _KEY_SERIES + one} for day in days for one in sorted(series_ids)]
    for table in (tables.block, tables.day_summary, tables.hour_summaries):
        connection.execute(delete(table).where(table.c.key == bindparam("gone")), keys)


def retire(connection: Connection, table: Table, before_us: int) -> None:
    """Remove what a table holds of days that ended before a moment."""
    connection.execute(delete(table).where(table.c.key < before_us // DAY_US * _KEY_SERIES))


def bodies_retired(connection: Connection) -> int:
    """The moment before which what explains single runs is no longer kept; 0 when all is."""
    table = tables.mark
    return connection.execute(select(table.c.value).where(table.c.name == _BODIES_RETIRED)).scalar() or 0


def retire_bodies(connection: Connection, before_us: int) -> bool:
    """Remove what explains single runs of one day that ended before a moment; whether there may be another such day."""
    first_us = connection.execute(select(func.min(tables.block.c.key))).scalar()
    day = max((first_us or 0) // _KEY_SERIES, bodies_retired(connection) // DAY_US)
    if first_us is None or day >= before_us // DAY_US:
        return False
    series = connection.execute(select(tables.series.c.id).where(tables.series.c.quantity == BODIES)).scalars().all()
    key = tables.block.c.key
    gone = [{"gone": day * _KEY_SERIES + one} for one in series]
    if gone:
        connection.execute(delete(tables.block).where(key == bindparam("gone")), gone)
    put_rows(connection, tables.mark, [(_BODIES_RETIRED, (day + 1) * DAY_US)])
    return True

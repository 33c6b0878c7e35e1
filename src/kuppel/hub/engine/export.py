"""Runs as a table for other programs: one row a run, a column for each quantity, in Apache Parquet."""

from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from kuppel.core.duration import DAY_US
from kuppel.core.error import SettingsError
from kuppel.core.quantity import QUANTITIES
from kuppel.hub.engine.joined import Joined, joined_stream, joined_streams
from kuppel.hub.readers import Readers
from kuppel.probes.registry import KINDS
from kuppel.store import history
from kuppel.store.database import Database
from kuppel.store.history import RunColumns
from kuppel.wire import parquet
from kuppel.wire.parquet import Column, Kind, Values

# A row group is held in memory; a month of one stream is half of this.
_DAYS_AT_ONCE_US = 31 * DAY_US

_COLUMNS = (
    Column("time", Kind.TIME_US),
    Column("stream", Kind.TEXT),
    Column("vantage_point", Kind.TEXT),
    Column("target", Kind.TEXT),
    Column("probe", Kind.TEXT),
    Column("kind", Kind.TEXT),
    Column("is_ok", Kind.BOOLEAN),
    Column("reason", Kind.TEXT, is_optional=True),
    Column("is_generated", Kind.BOOLEAN),
)


def chosen(database: Database, stream_ids: Sequence[int]) -> list[Joined]:
    """The streams of an export: those named, or all.

    Raises
    ------
    NotFound, SettingsError
    """
    found = [joined_stream(database, one) for one in stream_ids] if stream_ids else joined_streams(database)
    if not found:
        raise SettingsError("streams", "none", "be measured: there is no stream yet")
    return found


def columns_of(database: Database, stream_id: int, quantities: Sequence[str], from_us: int, to_us: int) -> RunColumns:
    with database.reading() as connection:
        return history.runs_in_columns(connection, stream_id, quantities, from_us, to_us)


def table(readers: Readers, streams: Sequence[Joined], from_us: int, to_us: int) -> Iterator[bytes]:
    """A Parquet file in pieces. Units (UCUM) stand in its key-value metadata as `unit.NAME`."""
    quantities = sorted({name for one in streams for name in KINDS[one.probe.kind].quantities})
    columns = [*_COLUMNS, *(Column(name, Kind.DOUBLE, is_optional=True) for name in quantities)]
    notes = {f"unit.{name}": QUANTITIES[name].unit for name in quantities}

    def groups() -> Iterator[Mapping[str, Values]]:
        for one in streams:
            own = [name for name in quantities if name in KINDS[one.probe.kind].quantities]
            for start_us in range(from_us, to_us, _DAYS_AT_ONCE_US):
                end_us = min(to_us, start_us + _DAYS_AT_ONCE_US)
                found = readers.ask(columns_of, one.stream.id, own, start_us, end_us)
                if found.times_us.size:
                    yield _group(one, found, quantities)

    return parquet.whole_file(columns, groups(), notes)


def _group(one: Joined, found: RunColumns, quantities: Sequence[str]) -> dict[str, Values]:
    count = found.times_us.size
    names = {
        "stream": str(one.stream.id),
        "vantage_point": one.vantage_point.name,
        "target": one.target.name,
        "probe": one.probe.name,
        "kind": one.probe.kind,
    }
    nothing = np.full(count, np.nan)
    return {
        "time": found.times_us,
        **{name: [value] * count for name, value in names.items()},
        "is_ok": np.array([reason is None for reason in found.reasons], dtype=bool),
        "reason": found.reasons,
        "is_generated": found.is_generated,
        **{name: found.values.get(name, nothing) for name in quantities},
    }

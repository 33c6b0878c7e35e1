"""What others measured: points that were summed up before they came, and exponential histograms, by metric series.

A metric series is a name with attributes from one source; it has one unit. Points and histograms are stretches of time
[time, until) that do not overlap within a series; one that comes again is left as it is.
"""

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import orjson
import zstandard
from numpy.typing import NDArray
from sqlalchemy import Connection, Table, select

from kuppel.core.duration import DAY_US
from kuppel.core.error import SettingsError
from kuppel.core.histogram import Buckets, ExponentialHistogram, check
from kuppel.core.series import FloatArray, IntArray
from kuppel.store import tables, tail
from kuppel.store.dialect import add_rows, insert


@dataclass(frozen=True, slots=True)
class MetricSeries:
    id: int
    source: str
    name: str
    unit: str
    attributes: Mapping[str, str]


@dataclass(frozen=True, slots=True)
class Point:
    """Count, sum and ends of what was measured in [time_us, until_us); the ends are None where the sender tells none."""

    time_us: int
    until_us: int
    count: int
    sum: float
    least: float | None = None
    most: float | None = None


@dataclass(frozen=True, slots=True)
class Points:
    """Points of a series in columns, all of shape (n,); `least` and `most` are NaN where they are not known."""

    times_us: IntArray
    until_us: IntArray
    counts: IntArray
    sums: FloatArray
    least: FloatArray
    most: FloatArray


def series_id(connection: Connection, source: str, name: str, unit: str, attributes: Mapping[str, str]) -> int:
    """The number of a series, made when it is new.

    Raises
    ------
    SettingsError
        when the series is there with another unit.
    """
    table = tables.metric_series
    told = orjson.dumps(dict(attributes), option=orjson.OPT_SORT_KEYS).decode()
    query = select(table.c.id, table.c.unit).where(
        table.c.source == source, table.c.name == name, table.c.attributes == told
    )
    found = connection.execute(query).first()
    if found is None:
        values = {"source": source, "name": name, "unit": unit, "attributes": told}
        connection.execute(insert(connection, table).values(values).on_conflict_do_nothing())
        found = connection.execute(query).one()
    if found.unit != unit:
        raise SettingsError("unit", unit, f"be {found.unit!r}, in which {name} is kept; convert it or send another name")
    return int(found.id)


def all_series(connection: Connection, source: str | None = None, name: str | None = None) -> list[MetricSeries]:
    """The series that are known, by name."""
    table = tables.metric_series
    query = select(table).order_by(table.c.name, table.c.id)
    if source is not None:
        query = query.where(table.c.source == source)
    if name is not None:
        query = query.where(table.c.name == name)
    return [
        MetricSeries(row.id, row.source, row.name, row.unit, orjson.loads(row.attributes))
        for row in connection.execute(query)
    ]


def add_points(connection: Connection, series: int, points: Sequence[Point]) -> None:
    """Store points of a series.

    Raises
    ------
    SettingsError
        for a point that cannot be; nothing is stored then.
    """
    for one in points:
        _check_stretch(one.time_us, one.until_us)
        if one.count < 0:
            raise SettingsError("count", one.count, "be 0 or more")
        for name, value in (("sum", one.sum), ("min", one.least), ("max", one.most)):
            if value is not None and not math.isfinite(value):
                raise SettingsError(name, value, "be a finite number")
        if one.least is not None and one.most is not None and one.least > one.most:
            raise SettingsError("min", one.least, f"be at most max, {one.most}")
    add_rows(connection, tables.metric_point, [_row(series, one) for one in points])


def add_histograms(connection: Connection, series: int, of: Sequence[tuple[int, int, ExponentialHistogram]]) -> None:
    """Store exponential histograms: (time, until, histogram).

    Raises
    ------
    SettingsError
        for a histogram that cannot be; nothing is stored then.
    """
    for time_us, until_us, one in of:
        _check_stretch(time_us, until_us)
        check(one)
    rows = []
    for time_us, until_us, one in of:
        point = Point(time_us, until_us, one.count, one.sum, one.least, one.most)
        rows.append((*_row(series, point), _packed(one)))
    add_rows(connection, tables.metric_histogram, rows)


def points(connection: Connection, series: Collection[int], from_us: int, to_us: int) -> dict[int, Points]:
    """Points that begin in a window, in the order of time."""
    rows = _rows(connection, tables.metric_point, series, from_us, to_us)
    return {one: _columns([row for row in rows if row.series_id == one]) for one in {row.series_id for row in rows}}


def histograms(
    connection: Connection, series: int, from_us: int, to_us: int
) -> list[tuple[int, int, ExponentialHistogram]]:
    """(time, until, histogram) of those that begin in a window, in the order of time."""
    return [
        (row.time_us, row.until_us, _unpacked(row))
        for row in _rows(connection, tables.metric_histogram, [series], from_us, to_us)
    ]


def retire(connection: Connection, before_us: int) -> None:
    """Remove what was measured before a moment, by whole slots."""
    for table in (tables.metric_point, tables.metric_histogram):
        connection.execute(table.delete().where(table.c.slot < tail.slot(before_us)))


def _check_stretch(time_us: int, until_us: int) -> None:
    if not 0 <= time_us <= until_us <= time_us + DAY_US:
        raise SettingsError("until", until_us, f"lie at or after its start {time_us} and within a day of it")


def _row(series: int, one: Point) -> tuple[Any, ...]:
    return tail.slot(one.time_us), series, one.time_us, one.until_us, one.count, one.sum, one.least, one.most


def _rows(connection: Connection, table: Table, series: Collection[int], from_us: int, to_us: int) -> list[Any]:
    query = select(table).where(tail.within(table, from_us, to_us), table.c.series_id.in_(series))
    return list(connection.execute(query.order_by(table.c.series_id, table.c.time_us)))


def _columns(rows: Sequence[Any]) -> Points:
    def of(name: str, kind: type[np.generic]) -> NDArray[Any]:
        return np.array([np.nan if row._mapping[name] is None else row._mapping[name] for row in rows], dtype=kind)

    return Points(
        of("time_us", np.int64),
        of("until_us", np.int64),
        of("count", np.int64),
        of("sum", np.float64),
        of("min", np.float64),
        of("max", np.float64),
    )


def _packed(one: ExponentialHistogram) -> bytes:
    body = {
        "scale": one.scale,
        "zero_count": one.zero_count,
        "zero_threshold": one.zero_threshold,
        "positive": [one.positive.offset, one.positive.counts.tolist()],
        "negative": [one.negative.offset, one.negative.counts.tolist()],
    }
    return zstandard.ZstdCompressor(level=3).compress(orjson.dumps(body))


def _unpacked(row: Any) -> ExponentialHistogram:
    body = orjson.loads(zstandard.ZstdDecompressor().decompress(row.body))
    positive, negative = (Buckets(body[name][0], np.array(body[name][1], np.int64)) for name in ("positive", "negative"))
    return ExponentialHistogram(
        body["scale"], body["zero_count"], body["zero_threshold"], positive, negative, row.sum, row.min, row.max
    )

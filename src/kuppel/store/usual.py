"""What is usual for each stream, as it was found on the newest day."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np
from sqlalchemy import Connection, select

from kuppel.core.baseline import HOURS, Baseline
from kuppel.store import tables
from kuppel.store.dialect import put_rows


@dataclass(frozen=True, slots=True, eq=False)
class KeptUsual:
    """The pattern of a stream's main quantity, and its usual shares of good runs and of lost packets (None where there
    are none), from what was measured before `until_us`."""

    until_us: int
    pattern: Baseline
    answered: float | None
    lost: float | None


def put_usual(connection: Connection, found: Mapping[int, KeptUsual]) -> None:
    rows = [(stream_id, one.until_us, _packed(one.pattern), one.answered, one.lost) for stream_id, one in found.items()]
    put_rows(connection, tables.usual, rows)


def usual_of(connection: Connection, stream_ids: Collection[int]) -> dict[int, KeptUsual]:
    """Of those streams of which it is known."""
    table = tables.usual
    rows = connection.execute(select(table).where(table.c.stream_id.in_(stream_ids))).all()
    return {row.stream_id: KeptUsual(row.until_us, _unpacked(row.payload), row.answered, row.lost) for row in rows}


def stale(connection: Connection, until_us: int) -> list[int]:
    """Active streams of which it was not found up to a moment yet."""
    table, stream = tables.usual, tables.stream
    query = (
        select(stream.c.id)
        .outerjoin(table, table.c.stream_id == stream.c.id)
        .where(stream.c.is_active, (table.c.until_us.is_(None)) | (table.c.until_us < until_us))
        .order_by(stream.c.id)
    )
    return list(connection.execute(query).scalars())


def _packed(of: Baseline) -> bytes:
    return np.concatenate([of.centre, of.spread, of.end, of.count.astype(np.float64)]).astype("<f4").tobytes()


def _unpacked(payload: bytes) -> Baseline:
    centre, spread, end, count = np.frombuffer(payload, "<f4").astype(np.float64).reshape(4, HOURS)
    return Baseline(centre, spread, end, count.astype(np.int64))

"""Where vantage points that move have been: a row whenever one was somewhere else than before."""

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection, delete, func, select, update

from kuppel.core.position import Position, is_elsewhere
from kuppel.store import tables
from kuppel.store.dialect import add_rows


@dataclass(frozen=True, slots=True)
class Fix:
    """Where a vantage point was at a moment."""

    time_us: int
    position: Position


def note(connection: Connection, vantage_point_id: int, fix: Fix) -> None:
    """A vantage point says where it is: kept when it is somewhere else than where it was."""
    table = tables.position
    query = select(table.c.longitude, table.c.latitude).where(table.c.vantage_point_id == vantage_point_id)
    before = connection.execute(query.order_by(table.c.time_us.desc()).limit(1)).first()
    if before is None or is_elsewhere(Position(before.longitude, before.latitude), fix.position):
        add(connection, vantage_point_id, [fix])


def add(connection: Connection, vantage_point_id: int, fixes: Sequence[Fix]) -> None:
    """Keep where it was, in the order of time; it is now where it was last."""
    if not fixes:
        return
    rows = [(vantage_point_id, one.time_us, one.position.longitude, one.position.latitude) for one in fixes]
    add_rows(connection, tables.position, rows)
    last = fixes[-1].position
    points = tables.vantage_point
    connection.execute(
        update(points).where(points.c.id == vantage_point_id).values(longitude=last.longitude, latitude=last.latitude)
    )


def courses(connection: Connection, from_us: int, to_us: int) -> dict[int, list[Fix]]:
    """Where each that moves was in a window, in the order of time, from where it was when the window began."""
    table = tables.position
    before = (
        select(table.c.vantage_point_id, func.max(table.c.time_us).label("time_us"))
        .where(table.c.time_us < from_us)
        .group_by(table.c.vantage_point_id)
        .subquery()
    )
    begun = select(table).join(
        before,
        (table.c.vantage_point_id == before.c.vantage_point_id) & (table.c.time_us == before.c.time_us),
    )
    within = select(table).where(table.c.time_us >= from_us, table.c.time_us < to_us)
    found: dict[int, list[Fix]] = {}
    for query in (begun, within.order_by(table.c.time_us)):
        for row in connection.execute(query):
            found.setdefault(row.vantage_point_id, []).append(Fix(row.time_us, Position(row.longitude, row.latitude)))
    return found


def retire(connection: Connection, before_us: int) -> None:
    """Forget where any was before a moment."""
    connection.execute(delete(tables.position).where(tables.position.c.time_us < before_us))

"""Changes: adding them, and finding those of a window."""

from collections.abc import Sequence

from sqlalchemy import Connection, Row, Select, delete, insert, or_, select

from kuppel.core.change import Change, ChangeSource
from kuppel.store import tables
from kuppel.store.inventory import NotFound


def add_change(connection: Connection, new: Change) -> int:
    """Store a change; its number."""
    key = connection.execute(insert(tables.change).values(_values(new))).inserted_primary_key
    assert key is not None  # the table has one
    return int(key[0])


def add_changes(connection: Connection, new: Sequence[Change]) -> None:
    if new:
        connection.execute(insert(tables.change), [_values(one) for one in new])


def change(connection: Connection, change_id: int) -> Change:
    row = connection.execute(select(tables.change).where(tables.change.c.id == change_id)).first()
    if row is None:
        raise NotFound(f"change {change_id}")
    return _change(row)


def remove_change(connection: Connection, change_id: int) -> None:
    connection.execute(delete(tables.change).where(tables.change.c.id == change_id))


def changes(
    connection: Connection,
    from_us: int,
    to_us: int,
    *,
    stream_id: int | None = None,
    target_id: int | None = None,
    vantage_point_id: int | None = None,
    source: ChangeSource | None = None,
    find: str = "",
    limit: int = 500,
) -> list[Change]:
    """Changes that touch a window, newest first.

    With a stream, those that concern it: its own, its target's, its vantage point's, and those of everything. With a
    target or a vantage point likewise: of it, of its streams, and of everything.
    """
    table, stream, probe = tables.change, tables.stream, tables.probe
    began = (table.c.time_us >= from_us) & (table.c.time_us < to_us)
    query = select(table).where(began | ((table.c.time_us < from_us) & (table.c.until_us > from_us)))
    nowhere = table.c.stream_id.is_(None) & table.c.target_id.is_(None) & table.c.vantage_point_id.is_(None)
    if stream_id is not None:
        own_target = select(probe.c.target_id).join(stream, stream.c.probe_id == probe.c.id).where(stream.c.id == stream_id)
        own_point = select(stream.c.vantage_point_id).where(stream.c.id == stream_id)
        of_its_places = (
            table.c.stream_id.is_(None)
            & (table.c.target_id.is_(None) | table.c.target_id.in_(own_target))
            & (table.c.vantage_point_id.is_(None) | table.c.vantage_point_id.in_(own_point))
        )
        query = query.where((table.c.stream_id == stream_id) | of_its_places)
    if target_id is not None:
        own = select(stream.c.id).join(probe, probe.c.id == stream.c.probe_id).where(probe.c.target_id == target_id)
        query = query.where(nowhere | (table.c.target_id == target_id) | table.c.stream_id.in_(own))
    if vantage_point_id is not None:
        own = select(stream.c.id).where(stream.c.vantage_point_id == vantage_point_id)
        query = query.where(nowhere | (table.c.vantage_point_id == vantage_point_id) | table.c.stream_id.in_(own))
    if source is not None:
        query = query.where(table.c.source == source)
    return [_change(row) for row in connection.execute(_finding(query, find).order_by(table.c.time_us.desc()).limit(limit))]


def _finding(query: Select[tuple[object, ...]], find: str) -> Select[tuple[object, ...]]:
    table = tables.change
    for word in find.split():
        columns = (table.c.subject, table.c.before, table.c.after, table.c.actor, table.c.source)
        query = query.where(or_(*(column.icontains(word, autoescape=True) for column in columns)))
    return query


def _values(one: Change) -> dict[str, object]:
    return {
        "time_us": one.time_us,
        "until_us": one.until_us,
        "source": str(one.source),
        "subject": one.subject,
        "before": one.before,
        "after": one.after,
        "actor": one.actor,
        "stream_id": one.stream_id,
        "target_id": one.target_id,
        "vantage_point_id": one.vantage_point_id,
    }


def _change(row: Row[tuple[object, ...]]) -> Change:
    values = dict(row._mapping)
    return Change(**values | {"source": ChangeSource(str(values["source"]))})

"""The record of who changed what: rows are added, never changed, never removed."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, insert, or_, select

from kuppel.store import tables


@dataclass(frozen=True, slots=True)
class Entry:
    """One act. `before` and `after` hold what changed, without secrets; None where there was or is nothing."""

    time_us: int
    actor_kind: str
    actor: str
    address: str
    action: str
    subject: str
    before: Mapping[str, Any] | None = None
    after: Mapping[str, Any] | None = None
    id: int = 0


def add_entry(connection: Connection, entry: Entry) -> None:
    """Add an entry, in the same commit as what it tells of."""
    connection.execute(
        insert(tables.record).values(
            time_us=entry.time_us,
            actor_kind=entry.actor_kind,
            actor=entry.actor,
            address=entry.address,
            action=entry.action,
            subject=entry.subject,
            before=None if entry.before is None else dict(entry.before),
            after=None if entry.after is None else dict(entry.after),
        )
    )


def entries(connection: Connection, find: str, below: int | None, limit: int) -> list[Entry]:
    """The newest entries that hold every word of `find`, newest first, with ids below `below`."""
    table = tables.record
    query = select(table).order_by(table.c.id.desc()).limit(limit)
    if below is not None:
        query = query.where(table.c.id < below)
    for word in find.split():
        columns = (table.c.actor, table.c.address, table.c.action, table.c.subject)
        query = query.where(or_(*(column.icontains(word, autoescape=True) for column in columns)))
    return [
        Entry(row.time_us, row.actor_kind, row.actor, row.address, row.action, row.subject, row.before, row.after, row.id)
        for row in connection.execute(query)
    ]

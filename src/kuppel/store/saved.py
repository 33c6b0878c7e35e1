"""What people keep under a name, each for themselves: ways of looking at a screen, and charts pinned to Now."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from sqlalchemy import Connection, delete, func, insert, select, update

from kuppel.core.error import SettingsError
from kuppel.store import tables
from kuppel.store.inventory import NotFound

SavedKind = Literal["view", "chart"]
_MOST = 200


@dataclass(frozen=True, slots=True)
class Saved:
    """`body` is what the kind needs: the address of a view; streams, window and refresh of a chart."""

    id: int
    kind: SavedKind
    name: str
    body: Mapping[str, Any]


def saved(connection: Connection, person_id: int) -> list[Saved]:
    """All that a person keeps, in the order in which it was kept."""
    table = tables.saved
    rows = connection.execute(select(table).where(table.c.person_id == person_id).order_by(table.c.id))
    return [Saved(row.id, row.kind, row.name, row.body) for row in rows]


def keep(connection: Connection, person_id: int, kind: SavedKind, name: str, body: Mapping[str, Any]) -> Saved:
    """Keep something; what has the same name and kind is replaced.

    Raises
    ------
    SettingsError
        when a person has too much already.
    """
    table = tables.saved
    own = (table.c.person_id == person_id, table.c.kind == kind, table.c.name == name)
    known = connection.execute(select(table.c.id).where(*own)).scalar()
    if known is not None:
        connection.execute(update(table).where(table.c.id == known).values(body=dict(body)))
        return Saved(known, kind, name, body)
    count = connection.execute(select(func.count()).where(table.c.person_id == person_id)).scalar() or 0
    if count >= _MOST:
        raise SettingsError("name", name, f"wait until something else is removed: {_MOST} are kept already")
    key = connection.execute(
        insert(table).values(person_id=person_id, kind=kind, name=name, body=dict(body))
    ).inserted_primary_key
    assert key is not None  # the table has an integer key
    return Saved(int(key[0]), kind, name, body)


def forget(connection: Connection, person_id: int, saved_id: int) -> None:
    """
    Raises
    ------
    NotFound
        when this person keeps nothing of that number.
    """
    table = tables.saved
    done = connection.execute(delete(table).where(table.c.id == saved_id, table.c.person_id == person_id))
    if done.rowcount == 0:
        raise NotFound(f"saved {saved_id}")

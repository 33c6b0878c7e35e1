"""Groups: named sets of targets, probes and vantage points, by hand or by tag."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from sqlalchemy import Connection, Row, delete, insert, select, update

from kuppel.core.error import SettingsError
from kuppel.store import tables
from kuppel.store.inventory import NotFound

MemberKind = Literal["target", "probe", "vantage_point"]
_TABLES = {"target": tables.target, "probe": tables.probe, "vantage_point": tables.vantage_point}


@dataclass(frozen=True, slots=True)
class Member:
    kind: MemberKind
    id: int


@dataclass(frozen=True, slots=True)
class Group:
    """`members` are those put in by hand; whoever has one of the tags belongs to it, too. The id is 0 before it is
    stored."""

    id: int
    name: str
    description: str
    tags: tuple[str, ...]
    members: tuple[Member, ...]

    def holds(self, kind: MemberKind, member_id: int, tags: Iterable[str]) -> bool:
        """Whether a thing with these tags belongs to it."""
        return Member(kind, member_id) in self.members or not set(self.tags).isdisjoint(tags)


def groups(connection: Connection) -> list[Group]:
    members: dict[int, list[Member]] = {}
    table = tables.group_member
    for group_id, kind, member_id in connection.execute(select(table).order_by(table.c.kind, table.c.member_id)):
        members.setdefault(group_id, []).append(Member(kind, member_id))
    rows = connection.execute(select(tables.group).order_by(tables.group.c.name))
    return [_group(row, members.get(row.id, ())) for row in rows]


def group(connection: Connection, group_id: int) -> Group:
    found = next((one for one in groups(connection) if one.id == group_id), None)
    if found is None:
        raise NotFound(f"group {group_id}")
    return found


def add_group(connection: Connection, new: Group) -> Group:
    _check(connection, new)
    key = connection.execute(insert(tables.group).values(_values(new))).inserted_primary_key
    assert key is not None  # the table has an integer key
    made = replace(new, id=int(key[0]))
    _keep_members(connection, made)
    return made


def change_group(connection: Connection, changed: Group) -> Group:
    _check(connection, changed)
    done = connection.execute(update(tables.group).where(tables.group.c.id == changed.id).values(_values(changed)))
    if done.rowcount == 0:
        raise NotFound(f"group {changed.id}")
    _keep_members(connection, changed)
    return changed


def remove_group(connection: Connection, group_id: int) -> None:
    """Its members stay; only their being together is forgotten."""
    connection.execute(delete(tables.group_member).where(tables.group_member.c.group_id == group_id))
    if connection.execute(delete(tables.group).where(tables.group.c.id == group_id)).rowcount == 0:
        raise NotFound(f"group {group_id}")


def forget_member(connection: Connection, kind: MemberKind, member_id: int) -> None:
    """What is removed leaves every group."""
    table = tables.group_member
    connection.execute(delete(table).where(table.c.kind == kind, table.c.member_id == member_id))


def _group(row: Row[Any], members: Sequence[Member]) -> Group:
    return Group(row.id, row.name, row.description, tuple(row.tags), tuple(members))


def _values(one: Group) -> dict[str, Any]:
    return {"name": one.name, "description": one.description, "tags": list(one.tags)}


def _check(connection: Connection, one: Group) -> None:
    holder = connection.execute(select(tables.group.c.id).where(tables.group.c.name == one.name)).scalar()
    if holder is not None and holder != one.id:
        raise SettingsError("name", one.name, f"be free, but group {holder} has it; choose another")
    for kind, table in _TABLES.items():
        wanted = {member.id for member in one.members if member.kind == kind}
        known = set(connection.execute(select(table.c.id).where(table.c.id.in_(wanted))).scalars())
        if missing := wanted - known:
            raise SettingsError("members", min(missing), f"be the id of a {kind.replace('_', ' ')}")


def _keep_members(connection: Connection, one: Group) -> None:
    connection.execute(delete(tables.group_member).where(tables.group_member.c.group_id == one.id))
    for member in sorted(set(one.members), key=lambda each: (each.kind, each.id)):
        connection.execute(insert(tables.group_member).values(group_id=one.id, kind=member.kind, member_id=member.id))

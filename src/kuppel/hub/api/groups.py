"""Groups: an application, a site, a team's estate: what belongs together."""

from typing import Literal

from fastapi import APIRouter
from pydantic import Field

from kuppel.core.state import group_state
from kuppel.hub.api.guard import Access, Editor, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Body, GroupSummary, HubDep
from kuppel.hub.api.targets import Tag
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.hub.engine.selection import holds
from kuppel.hub.hub import now_us
from kuppel.store import groups
from kuppel.store.database import Connection
from kuppel.store.groups import Group, Member

router = APIRouter(prefix="/groups", tags=["groups"])


class MemberShape(Body):
    kind: Literal["target", "probe", "vantage_point"]
    id: int


class NewGroup(Body):
    """A group to add: members by hand, and everything that has one of the tags."""

    name: str = Field(min_length=1, max_length=80, examples=["booking"])
    description: str = Field(default="", max_length=500)
    tags: list[Tag] = Field(default_factory=list, max_length=20)
    members: list[MemberShape] = Field(default_factory=list, max_length=1000)


class GroupShape(NewGroup):
    """A group, and how its streams are: those of a target, a probe or a vantage point in it."""

    id: int
    summary: GroupSummary


def _stored(new: NewGroup, group_id: int) -> Group:
    members = tuple(Member(one.kind, one.id) for one in new.members)
    return Group(group_id, new.name, new.description, tuple(dict.fromkeys(new.tags)), members)


def _shape(group: Group, streams: list[Joined]) -> GroupShape:
    return GroupShape(
        id=group.id,
        name=group.name,
        description=group.description,
        tags=list(group.tags),
        members=[MemberShape(kind=one.kind, id=one.id) for one in group.members],
        summary=GroupSummary.of(group_state(one.stream.state for one in streams if holds(group, one))),
    )


def _told(group: Group) -> dict[str, object]:
    return {
        "description": group.description,
        "tags": list(group.tags),
        "members": [f"{one.kind} {one.id}" for one in group.members],
    }


@router.get("", summary="List groups", dependencies=[may(Access.SEE)])
def list_groups(hub: HubDep) -> list[GroupShape]:
    with hub.database.reading() as connection:
        found = groups.groups(connection)
    streams = joined_streams(hub.database)
    return [_shape(one, streams) for one in found]


@router.post("", status_code=201, summary="Add a group", responses=responses(422, 429, 507))
def add_group(new: NewGroup, hub: HubDep, caller: Editor) -> GroupShape:
    def job(connection: Connection) -> Changed[Group]:
        made = groups.add_group(connection, _stored(new, 0))
        return Changed(made, f"group {made.name}", None, _told(made))

    return _shape(change(hub.writer, caller, "added", now_us(), job), joined_streams(hub.database))


@router.put("/{group}", summary="Change a group", responses=responses(404, 422, 429, 507))
def change_group(group: int, changed: NewGroup, hub: HubDep, caller: Editor) -> GroupShape:
    def job(connection: Connection) -> Changed[Group]:
        before = groups.group(connection, group)
        after = groups.change_group(connection, _stored(changed, group))
        return Changed(after, f"group {after.name}", _told(before), _told(after))

    return _shape(change(hub.writer, caller, "changed", now_us(), job), joined_streams(hub.database))


@router.delete("/{group}", status_code=204, summary="Remove a group", responses=responses(404, 429))
def remove_group(group: int, hub: HubDep, caller: Editor) -> None:
    """Its members stay."""

    def job(connection: Connection) -> Changed[None]:
        before = groups.group(connection, group)
        groups.remove_group(connection, group)
        return Changed(None, f"group {before.name}", _told(before), None)

    change(hub.writer, caller, "removed", now_us(), job)

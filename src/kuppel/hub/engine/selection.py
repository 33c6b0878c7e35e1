"""Streams that belong together: all, those of a group, of a target, or of a vantage point."""

from dataclasses import dataclass
from typing import Literal

from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.store import groups, inventory
from kuppel.store.database import Database
from kuppel.store.groups import Group

SelectionKind = Literal["all", "group", "target", "vantage_point"]


@dataclass(frozen=True, slots=True)
class Selection:
    """`id` is that of the group, target or vantage point; 0 for all."""

    kind: SelectionKind
    id: int


@dataclass(frozen=True, slots=True)
class Selected:
    """What a selection is called, and its active streams."""

    name: str
    description: str
    streams: list[Joined]


def holds(group: Group, one: Joined) -> bool:
    """Whether a stream belongs to a group: by its target, its probe or its vantage point."""
    return (
        group.holds("target", one.target.id, one.target.tags)
        or group.holds("probe", one.probe.id, one.probe.tags)
        or group.holds("vantage_point", one.vantage_point.id, one.vantage_point.tags)
    )


def selected(database: Database, selection: Selection) -> Selected:
    """
    Raises
    ------
    NotFound
    """
    streams = joined_streams(database)
    with database.reading() as connection:
        match selection.kind:
            case "all":
                return Selected("Everything", "all that is measured", streams)
            case "group":
                group = groups.group(connection, selection.id)
                return Selected(group.name, group.description, [one for one in streams if holds(group, one)])
            case "target":
                target = inventory.target(connection, selection.id)
                own = [one for one in streams if one.target.id == target.id]
                return Selected(target.name, target.description, own)
            case "vantage_point":
                point = inventory.vantage_point(connection, selection.id)
                own = [one for one in streams if one.vantage_point.id == point.id]
                return Selected(point.name, point.place, own)

"""Changes: what was done or happened that may explain what is measured afterwards."""

from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import AwareDatetime, BaseModel, Field

from kuppel.core.change import TOLD, Change, ChangeSource
from kuppel.core.error import SettingsError
from kuppel.hub.api.guard import Access, Editor, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Body, HubDep, WindowDep, at, at_or_none, microseconds
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.hub import Hub, now_us
from kuppel.store import changes, inventory
from kuppel.store.database import Connection

router = APIRouter(prefix="/changes", tags=["changes"])


class NewChange(Body):
    """A change that Kuppel cannot see by itself: a release, a provider's notice, maintenance. Without a target and a
    vantage point it concerns everything."""

    source: ChangeSource = Field(examples=["release"])
    subject: str = Field(min_length=1, max_length=200, examples=["booking API"])
    before: str = Field(default="", max_length=500, examples=["4.17.0"])
    after: str = Field(default="", max_length=500, examples=["4.18.0"])
    time: AwareDatetime | None = Field(default=None, description="When; now if left out.")
    until: AwareDatetime | None = Field(default=None, description="Until when, for what lasts.")
    target: int | None = None
    vantage_point: int | None = None


class ChangeShape(BaseModel):
    id: int
    source: ChangeSource
    subject: str
    before: str
    after: str
    time: datetime
    until: datetime | None
    actor: str = Field(description="Who told of it; kuppel for what was seen in the measurements.")
    stream: int | None
    target: int | None
    vantage_point: int | None

    @classmethod
    def of(cls, one: Change) -> "ChangeShape":
        return cls(
            id=one.id,
            source=one.source,
            subject=one.subject,
            before=one.before,
            after=one.after,
            time=at(one.time_us),
            until=at_or_none(one.until_us),
            actor=one.actor,
            stream=one.stream_id,
            target=one.target_id,
            vantage_point=one.vantage_point_id,
        )


@router.get("", summary="What changed", responses=responses(422), dependencies=[may(Access.SEE)])
def list_changes(
    hub: HubDep,
    window: WindowDep,
    stream: Annotated[int | None, Query(description="Those that concern this stream.")] = None,
    target: Annotated[int | None, Query(description="Those that concern this target.")] = None,
    vantage_point: Annotated[int | None, Query(description="Those that concern this vantage point.")] = None,
    source: ChangeSource | None = None,
    find: Annotated[str, Query(max_length=200, description="Words that it must hold.")] = "",
    limit: Annotated[int, Query(ge=1, le=2000)] = 500,
) -> list[ChangeShape]:
    """Newest first."""
    with hub.database.reading() as connection:
        found = changes.changes(
            connection,
            window.from_us,
            window.to_us,
            stream_id=stream,
            target_id=target,
            vantage_point_id=vantage_point,
            source=source,
            find=find,
            limit=limit,
        )
    return [ChangeShape.of(one) for one in found]


@router.post("", status_code=201, summary="Tell of a change", responses=responses(404, 422, 429, 507))
def add_change(new: NewChange, hub: HubDep, caller: Editor) -> ChangeShape:
    told = _told(hub, new, caller.name)

    def job(connection: Connection) -> Changed[Change]:
        made = changes.change(connection, changes.add_change(connection, told))
        return Changed(made, f"change {made.source} {made.subject}", None, new.model_dump(mode="json", exclude_none=True))

    return ChangeShape.of(change(hub.writer, caller, "added", now_us(), job))


@router.delete("/{change_id}", status_code=204, summary="Take a change back", responses=responses(404, 422, 429))
def remove_change(change_id: int, hub: HubDep, caller: Editor) -> None:
    """Only one that was told; what was seen in the measurements stays."""

    def job(connection: Connection) -> Changed[None]:
        before = changes.change(connection, change_id)
        if before.stream_id is not None:  # only what was seen in measurements has one
            raise SettingsError("change", change_id, "be one that was told; what was measured cannot be taken back")
        changes.remove_change(connection, change_id)
        shown = {"before": before.before, "after": before.after, "time": at(before.time_us).isoformat()}
        return Changed(None, f"change {before.source} {before.subject}", shown, None)

    change(hub.writer, caller, "removed", now_us(), job)


def _told(hub: Hub, new: NewChange, actor: str) -> Change:
    if new.source not in TOLD:
        raise SettingsError("source", new.source, f"be one of {', '.join(sorted(TOLD))}; Kuppel finds the others by itself")
    time_us = now_us() if new.time is None else microseconds(new.time)
    until_us = None if new.until is None else microseconds(new.until)
    if until_us is not None and until_us <= time_us:
        raise SettingsError("until", str(new.until), "lie after time")
    with hub.database.reading() as connection:
        if new.target is not None:
            inventory.target(connection, new.target)
        if new.vantage_point is not None:
            inventory.vantage_point(connection, new.vantage_point)
    return Change(
        0, time_us, until_us, new.source, new.subject, new.before, new.after, actor, None, new.target, new.vantage_point
    )

"""The record: who changed what, when, from which address. For admins; nobody can change it."""

from datetime import datetime
from typing import Annotated, Any

from fastapi import APIRouter, Query
from pydantic import BaseModel, Field

from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep, at
from kuppel.store import record

router = APIRouter(tags=["record"])


class EntryShape(BaseModel):
    id: int
    time: datetime
    actor_kind: str = Field(examples=["person"], description="person, token, agent, hub, command line or nobody.")
    actor: str = Field(examples=["signe"])
    address: str = Field(examples=["192.0.2.31"])
    action: str = Field(examples=["changed"])
    subject: str = Field(examples=["probe booking front page"])
    before: dict[str, Any] | None = Field(description="What it was, of what changed; secrets are masked.")
    after: dict[str, Any] | None = Field(description="What it became.")


class RecordPage(BaseModel):
    entries: list[EntryShape]
    next: int | None = Field(description="Ask with this as `below` for older ones; null when there are none.")


@router.get("/record", summary="Who changed what", responses=responses(422), dependencies=[may(Access.ADMINISTER)])
def read_record(
    hub: HubDep,
    find: Annotated[str, Query(max_length=200, description="Words that actor, address, act or subject must hold.")] = "",
    below: Annotated[int | None, Query(description="Only entries with smaller ids.")] = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> RecordPage:
    with hub.database.reading() as connection:
        found = record.entries(connection, find, below, limit + 1)
    shown = [
        EntryShape(
            id=one.id,
            time=at(one.time_us),
            actor_kind=one.actor_kind,
            actor=one.actor,
            address=one.address,
            action=one.action,
            subject=one.subject,
            before=None if one.before is None else dict(one.before),
            after=None if one.after is None else dict(one.after),
        )
        for one in found[:limit]
    ]
    return RecordPage(entries=shown, next=shown[-1].id if len(found) > limit else None)

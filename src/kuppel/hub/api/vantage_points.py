"""Vantage points: who measures, and how they are doing."""

from datetime import datetime

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel.core.state import group_state
from kuppel.hub.api.guard import Access, Admin, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import GroupSummary, HubDep, at
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.engine.joined import joined_streams
from kuppel.hub.hub import now_us
from kuppel.store import inventory
from kuppel.store.database import Connection
from kuppel.store.inventory import VantagePoint

router = APIRouter(prefix="/vantage-points", tags=["vantage points"])


class VantagePointShape(BaseModel):
    """A vantage point, as its agent last described itself."""

    id: int
    name: str = Field(examples=["Lundhavn"])
    kind: str = Field(examples=["site"], description="public, site, mobile or personal.")
    place: str = Field(examples=["harbour office, Lundhavn"])
    provider: str = Field(examples=["Quillnet"])
    tags: list[str] = Field(examples=[["harbour"]])
    has_token: bool = Field(description="Whether its agent is still let in.")
    version: str
    addresses: list[str] = Field(examples=[["192.0.2.17"]])
    enrolled: datetime
    seen: datetime = Field(description="When its agent last called.")
    clock_offset_ms: float | None = Field(description="Hub clock minus agent clock, in ms.")
    clock_error_ms: float | None = Field(description="The most by which that offset can be wrong, in ms.")
    scheduling_lag_ms: float = Field(description="How late its agent wakes, 95th percentile of a minute, in ms.")
    is_busy: bool = Field(description="Whether it is too busy to measure truly.")
    spooled: int = Field(description="Results waiting at the agent.")
    dropped_details: int
    dropped_results: int
    missed_slots: int
    refused_results: int
    summary: GroupSummary

    @classmethod
    def of(cls, point: VantagePoint, summary: GroupSummary) -> "VantagePointShape":
        return cls(
            id=point.id,
            name=point.name,
            kind=point.kind,
            place=point.place,
            provider=point.provider,
            tags=point.tags,
            has_token=point.has_token,
            version=point.version,
            addresses=point.addresses,
            enrolled=at(point.enrolled_us),
            seen=at(point.seen_us),
            clock_offset_ms=None if point.clock_offset_us is None else point.clock_offset_us / 1000,
            clock_error_ms=None if point.clock_error_us is None else point.clock_error_us / 1000,
            scheduling_lag_ms=point.scheduling_lag_us / 1000,
            is_busy=point.is_busy,
            spooled=point.spooled,
            dropped_details=point.dropped_details,
            dropped_results=point.dropped_results,
            missed_slots=point.missed_slots,
            refused_results=point.refused_results,
            summary=summary,
        )


@router.get("", summary="List vantage points", dependencies=[may(Access.SEE)])
def list_vantage_points(hub: HubDep) -> list[VantagePointShape]:
    with hub.database.reading() as connection:
        points = inventory.vantage_points(connection)
    streams = joined_streams(hub.database)
    return [
        VantagePointShape.of(
            one, GroupSummary.of(group_state(s.stream.state for s in streams if s.vantage_point.id == one.id))
        )
        for one in points
    ]


@router.delete(
    "/{vantage_point}/token", status_code=204, summary="Withdraw an agent's token", responses=responses(404, 429)
)
def withdraw_agent_token(vantage_point: int, hub: HubDep, caller: Admin) -> None:
    """Its agent is refused from now on; what it measured stays. A new enrolment token lets a new agent take its place."""

    def job(connection: Connection) -> Changed[None]:
        gone = inventory.withdraw_agent_token(connection, vantage_point)
        return Changed(None, f"agent token of {gone.name}")

    change(hub.writer, caller, "withdrew", now_us(), job)

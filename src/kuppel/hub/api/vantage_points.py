"""Vantage points: who measures, and how they are doing."""

from datetime import datetime

from fastapi import APIRouter
from pydantic import AwareDatetime, BaseModel, Field

from kuppel import __version__
from kuppel.core.state import group_state
from kuppel.hub.api.guard import Access, Admin, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Body, GroupSummary, HubDep, Position, at, at_or_none, microseconds
from kuppel.hub.api.targets import Tag
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.hub.engine.planning import stored_cost
from kuppel.hub.hub import Hub, now_us
from kuppel.store import inventory
from kuppel.store.database import Connection
from kuppel.store.inventory import Probe, VantagePoint

router = APIRouter(prefix="/vantage-points", tags=["vantage points"])


class VantagePointShape(BaseModel):
    """A vantage point, as its agent last described itself."""

    id: int
    name: str = Field(examples=["Lundhavn"])
    kind: str = Field(examples=["site"], description="public, site, mobile or personal.")
    place: str = Field(examples=["harbour office, Lundhavn"])
    provider: str = Field(examples=["Quillnet"])
    country: str = Field(description="The country that it stands in; empty when nobody said.")
    person: str = Field(description="Whose machine it is; empty when nobody said.")
    position: Position | None = Field(description="Where it is on the map; null when nobody said.")
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
    seen_from: str = Field(description="The address from which its agent calls, as the hub sees it.")
    update_due: datetime | None = Field(description="From when on its agent takes the hub's version; null without one.")
    is_current: bool = Field(description="Whether its agent is of the hub's version.")
    probes: int = Field(description="How many probes it runs.")
    load: "LoadShape"
    summary: GroupSummary

    @classmethod
    def of(cls, point: VantagePoint, probes: list[Probe], summary: GroupSummary) -> "VantagePointShape":
        costs = [stored_cost(one) for one in probes]
        return cls(
            id=point.id,
            name=point.name,
            kind=point.kind,
            place=point.place,
            provider=point.provider,
            country=point.country,
            person=point.person,
            position=Position.of(point.longitude, point.latitude),
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
            seen_from=point.seen_from,
            update_due=at_or_none(point.update_due_us),
            is_current=point.version == __version__,
            probes=len(probes),
            load=LoadShape(
                runs_a_minute=round(sum(one.runs_a_day for one in costs) / 1440, 2),
                octets_a_day=sum(one.octets_a_day for one in costs),
            ),
            summary=summary,
        )


class LoadShape(BaseModel):
    """What its probes come to, by their schedules."""

    runs_a_minute: float
    octets_a_day: float


class PointChanges(Body):
    """The same change to many vantage points. What is left out stays as it is."""

    vantage_points: list[int] = Field(min_length=1, max_length=1000)
    add_tags: list[Tag] = Field(default_factory=list)
    remove_tags: list[Tag] = Field(default_factory=list)
    update_due: AwareDatetime | None = Field(default=None, description="Announce the hub's version from then on.")
    position: Position | None = Field(default=None, description="Where they are on the map.")
    country: str | None = Field(default=None, max_length=60, description="Where they stand; empty: not stated.")
    person: str | None = Field(default=None, max_length=80, description="Whose machines they are; empty: not stated.")
    withdraw_update: bool = Field(default=False, description="Take an announced update back.")


@router.get("", summary="List vantage points", dependencies=[may(Access.SEE)])
def list_vantage_points(hub: HubDep) -> list[VantagePointShape]:
    with hub.database.reading() as connection:
        points = inventory.vantage_points(connection)
    return _shapes(hub, points)


def _shapes(hub: Hub, points: list[VantagePoint]) -> list[VantagePointShape]:
    own: dict[int, list[Joined]] = {}
    for one in joined_streams(hub.database):
        own.setdefault(one.vantage_point.id, []).append(one)
    return [
        VantagePointShape.of(
            point,
            [one.probe for one in own.get(point.id, [])],
            GroupSummary.of(group_state(one.stream.state for one in own.get(point.id, []))),
        )
        for point in points
    ]


@router.post("/changes", summary="Change many vantage points at once", responses=responses(404, 422, 429, 507))
def change_vantage_points(changes: PointChanges, hub: HubDep, caller: Admin) -> list[VantagePointShape]:
    """Tags, where they are, whose they are, and from when on their agents take the hub's version. An update that was
    announced can be put off by another date. All of them, or none."""

    def job(connection: Connection) -> Changed[list[VantagePoint]]:
        made = []
        for point_id in dict.fromkeys(changes.vantage_points):
            point = inventory.vantage_point(connection, point_id)
            tags = [one for one in dict.fromkeys((*point.tags, *changes.add_tags)) if one not in changes.remove_tags]
            due_us = point.update_due_us if changes.update_due is None else microseconds(changes.update_due)
            due_us = None if changes.withdraw_update else due_us
            where = Position.of(point.longitude, point.latitude) if changes.position is None else changes.position
            made.append(
                inventory.arrange_vantage_point(
                    connection,
                    point_id,
                    tags,
                    due_us,
                    None if where is None else (where.longitude, where.latitude),
                    point.country if changes.country is None else changes.country.strip(),
                    point.person if changes.person is None else changes.person.strip(),
                )
            )
        told = changes.model_dump(mode="json", exclude={"vantage_points"}, exclude_defaults=True)
        names = ", ".join(one.name for one in made)
        return Changed(made, f"{len(made)} vantage points: {names}"[:300], None, told)

    return _shapes(hub, change(hub.writer, caller, "changed", now_us(), job))


@router.delete(
    "/{vantage_point}/token", status_code=204, summary="Withdraw an agent's token", responses=responses(404, 429)
)
def withdraw_agent_token(vantage_point: int, hub: HubDep, caller: Admin) -> None:
    """Its agent is refused from now on; what it measured stays. A new enrolment token lets a new agent take its place."""

    def job(connection: Connection) -> Changed[None]:
        gone = inventory.withdraw_agent_token(connection, vantage_point)
        return Changed(None, f"agent token of {gone.name}")

    change(hub.writer, caller, "withdrew", now_us(), job)

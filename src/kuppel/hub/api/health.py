"""Whether the hub runs, is ready, and is receiving."""

from datetime import datetime

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel import __version__
from kuppel.core.duration import MINUTE_US
from kuppel.core.series import slice_starts
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep, at, at_or_none
from kuppel.hub.hub import now_us
from kuppel.store import history

router = APIRouter(tags=["health"])


class Health(BaseModel):
    status: str = Field(examples=["running"])
    version: str = Field(examples=["0.1.0"])


class Arriving(BaseModel):
    """Results that arrived lately, by the time at which they were measured."""

    minutes: list[datetime] = Field(description="Starts of the last 60 whole minutes.")
    counts: list[int] = Field(description="Results measured in each of them.")
    per_minute: int = Field(description="Results measured in the last 60 seconds.", examples=[418])
    newest: datetime | None = Field(description="When the newest result was measured.")
    now: datetime = Field(description="The hub's clock.")


@router.get("/health", summary="Is the hub running?", dependencies=[may(Access.ANYBODY)])
def health() -> Health:
    return Health(status="running", version=__version__)


@router.get("/ready", summary="Can the hub read its store?", responses=responses(507), dependencies=[may(Access.ANYBODY)])
def ready(hub: HubDep) -> Health:
    with hub.database.reading() as connection:
        history.span(connection)
    return Health(status="ready", version=__version__)


@router.get("/arriving", summary="Are results arriving, and how many?", dependencies=[may(Access.SEE)])
def arriving(hub: HubDep) -> Arriving:
    now = now_us()
    last_minute_us = now // MINUTE_US * MINUTE_US
    from_us = last_minute_us - 60 * MINUTE_US
    minutes = slice_starts(from_us, last_minute_us, MINUTE_US)
    with hub.database.reading() as connection:
        counts = history.runs_per_slice(connection, minutes, MINUTE_US, from_us, last_minute_us)
        per_minute = history.run_count(connection, now - MINUTE_US + 1, now + 1)
        _, newest = history.span(connection)
    return Arriving(
        minutes=[at(int(one)) for one in minutes],
        counts=counts.tolist(),
        per_minute=per_minute,
        newest=at_or_none(newest),
        now=at(now),
    )

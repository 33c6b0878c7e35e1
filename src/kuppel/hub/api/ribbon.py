"""The time ribbon: how much of the estate was in trouble, over the span that people look at."""

from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import BaseModel, Field

from kuppel.core.arch import ArchScope
from kuppel.core.state import State
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep, Window, WindowDep, at, at_or_none
from kuppel.hub.engine import ribbon as engine

router = APIRouter(tags=["matrix"], dependencies=[may(Access.SEE)])


class ArchShape(BaseModel):
    """A stretch in which streams that share a name were in trouble together."""

    scope: ArchScope
    name: str
    from_: datetime = Field(alias="from")
    to: datetime
    is_open: bool = Field(description="Whether it reaches the end of the window.")
    share: float = Field(description="The most of all streams at once, 0 to 1.")
    state: State

    model_config = {"populate_by_name": True}


class Ribbon(BaseModel):
    """Shares of stream-time per slice, 0 to 1; they are of all active streams."""

    window: Window
    starts: list[datetime]
    width_s: float
    degraded: list[float]
    breached: list[float]
    silent: list[float]
    is_measured: list[bool] = Field(description="Whether there is any result of it.")
    streams: int
    arches: list[ArchShape] = Field(description="In the order of time; those that explain most trouble.")
    first_result: datetime | None = Field(description="When anything was measured first.")


@router.get("/ribbon", summary="How much was affected, over time", responses=responses(422))
def ribbon(
    hub: HubDep,
    window: WindowDep,
    slices: Annotated[int, Query(ge=10, le=1000, description="How many slices at most.")] = 200,
) -> Ribbon:
    found = hub.readers.ask(engine.ribbon, window.from_us, window.to_us, slices)
    return Ribbon(
        window=window,
        starts=[at(int(one)) for one in found.starts_us],
        width_s=found.width_us / 1e6,
        degraded=found.shares[State.DEGRADED].round(4).tolist(),
        breached=found.shares[State.BREACHED].round(4).tolist(),
        silent=found.shares[State.SILENT].round(4).tolist(),
        is_measured=found.is_measured.tolist(),
        streams=found.streams,
        arches=[
            ArchShape(
                scope=one.scope,
                name=one.name,
                from_=at(int(found.starts_us[one.first])),
                to=at(min(int(found.starts_us[one.last]) + found.width_us, window.to_us)),
                is_open=one.last == found.starts_us.size - 1,
                share=round(one.share, 4),
                state=State.BREACHED if one.is_breached else State.DEGRADED,
            )
            for one in found.arches
        ],
        first_result=at_or_none(found.first_us),
    )

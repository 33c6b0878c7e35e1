"""The time ribbon: how much of the estate was in trouble, over the span that people look at."""

from datetime import datetime
from typing import Annotated

import numpy as np
from fastapi import APIRouter, Query
from pydantic import BaseModel, Field

from kuppel.core.series import slice_starts, slice_width, state_shares
from kuppel.core.state import State
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep, Window, WindowDep, at, at_or_none
from kuppel.store import history, inventory, states

router = APIRouter(tags=["matrix"], dependencies=[may(Access.SEE)])


class Ribbon(BaseModel):
    """Shares of stream-time per slice, 0 to 1; they are of all active streams. `results` counts what was measured."""

    window: Window
    starts: list[datetime]
    width_s: float
    degraded: list[float]
    breached: list[float]
    silent: list[float]
    results: list[int]
    streams: int
    first_result: datetime | None = Field(description="When anything was measured first.")


@router.get("/ribbon", summary="How much was affected, over time", responses=responses(422))
def ribbon(
    hub: HubDep,
    window: WindowDep,
    slices: Annotated[int, Query(ge=10, le=1000, description="How many slices at most.")] = 200,
) -> Ribbon:
    width_us = slice_width(window.from_us, window.to_us, slices, 60_000_000)
    starts = slice_starts(window.from_us, window.to_us, width_us)
    with hub.database.reading() as connection:
        spans = states.state_spans(connection, window.from_us, window.to_us)
        results = history.runs_per_slice(connection, starts, width_us, window.from_us, window.to_us)
        streams = len(inventory.active_streams(connection))
        first, _ = history.span(connection)
    shares = state_shares([span[1:] for span in spans], streams, starts, width_us)
    none = np.zeros(starts.size)
    return Ribbon(
        window=window,
        starts=[at(int(one)) for one in starts],
        width_s=width_us / 1e6,
        degraded=shares.get(State.DEGRADED, none).round(4).tolist(),
        breached=shares.get(State.BREACHED, none).round(4).tolist(),
        silent=shares.get(State.SILENT, none).round(4).tolist(),
        results=results.tolist(),
        streams=streams,
        first_result=at_or_none(first),
    )

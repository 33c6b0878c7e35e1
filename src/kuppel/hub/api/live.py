"""What happens now, as server-sent events (WHATWG HTML, section "Server-sent events")."""

from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.sse import EventSourceResponse, ServerSentEvent

from kuppel.hub.api.shapes import HubDep, at

router = APIRouter(tags=["live"])


@router.get("/live", summary="Results and changes of state as they happen", response_class=EventSourceResponse)
async def live(
    hub: HubDep,
    stream: Annotated[list[int] | None, Query(description="Only events of these streams; all if left out.")] = None,
) -> AsyncIterator[ServerSentEvent]:
    """Events: `ready` once; `run` for each result; `state` when a stream's state changed; `heartbeat` every 10 s without
    another; `lagged` when this listener was too slow and some were left out: ask again for what is on screen."""
    wanted = set(stream or ())
    async for event in hub.bus.listen():
        if event.stream is None or not wanted or event.stream in wanted:
            data = {key: at(value) if key.endswith("_us") else value for key, value in event.data.items()}
            yield ServerSentEvent(event=event.name, data={key.removesuffix("_us"): value for key, value in data.items()})

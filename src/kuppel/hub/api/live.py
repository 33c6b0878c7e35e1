"""What happens now, as server-sent events (WHATWG HTML, section "Server-sent events")."""

from collections.abc import AsyncIterator
from typing import Annotated

import orjson
from fastapi import APIRouter, Query
from fastapi.responses import StreamingResponse

from kuppel.hub.api.shapes import HubDep, at
from kuppel.hub.hub import Hub
from kuppel.hub.live import LiveEvent

router = APIRouter(tags=["live"])


@router.get(
    "/live",
    summary="Results and changes of state as they happen",
    response_class=StreamingResponse,
    responses={
        200: {"description": "A stream of events.", "content": {"text/event-stream": {"schema": {"type": "string"}}}}
    },
)
async def live(
    hub: HubDep,
    stream: Annotated[list[int] | None, Query(description="Only events of these streams; all if left out.")] = None,
) -> StreamingResponse:
    """Events: `ready` once; `run` for each result; `state` when a stream's state changed; `heartbeat` every 10 s without
    another; `lagged` when this listener was too slow and some were left out: ask again for what is on screen."""
    headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
    return StreamingResponse(_events(hub, set(stream or ())), media_type="text/event-stream", headers=headers)


async def _events(hub: Hub, wanted: set[int]) -> AsyncIterator[bytes]:
    async for event in hub.bus.listen():
        if event.stream is None or not wanted or event.stream in wanted:
            yield encoded(event)


def encoded(event: LiveEvent) -> bytes:
    """One event on the wire, its times as RFC 3339."""
    data = {key.removesuffix("_us"): at(value) if key.endswith("_us") else value for key, value in event.data.items()}
    return b"event: %s\ndata: %s\n\n" % (event.name.encode(), orjson.dumps(data))

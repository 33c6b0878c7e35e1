"""What happens now, as server-sent events (WHATWG HTML, section "Server-sent events")."""

import time
from collections.abc import AsyncIterator
from typing import Annotated

import orjson
from fastapi import APIRouter, Query, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse

from kuppel.hub.api.guard import Access, Guard, may
from kuppel.hub.api.problem import Refusal
from kuppel.hub.api.shapes import HubDep, at
from kuppel.hub.engine.access import Caller
from kuppel.hub.hub import Hub
from kuppel.hub.live import LiveEvent

router = APIRouter(tags=["live"])
# How soon a stream ends after its listener lost the right to it.
_CHECK_EVERY_S = 5.0


@router.get(
    "/live",
    summary="Results and changes of state as they happen",
    response_class=StreamingResponse,
    responses={
        200: {"description": "A stream of events.", "content": {"text/event-stream": {"schema": {"type": "string"}}}}
    },
)
async def live(
    request: Request,
    hub: HubDep,
    _caller: Annotated[Caller, may(Access.SEE)],
    stream: Annotated[list[int] | None, Query(description="Only events of these streams; all if left out.")] = None,
) -> StreamingResponse:
    """Events: `ready` once; `run` for each result; `state` when a stream's state changed; `heartbeat` every 5 s without
    another; `lagged` when this listener was too slow and some were left out: ask again for what is on screen."""
    headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
    return StreamingResponse(_events(hub, request, set(stream or ())), media_type="text/event-stream", headers=headers)


async def _events(hub: Hub, request: Request, wanted: set[int]) -> AsyncIterator[bytes]:
    """Events for as long as the caller may see them: a session that ended, or a token withdrawn, ends the stream."""
    guard = Guard(Access.SEE)
    checked = time.monotonic()
    async for event in hub.bus.listen(_CHECK_EVERY_S):
        if time.monotonic() - checked >= _CHECK_EVERY_S:
            checked = time.monotonic()
            try:
                await run_in_threadpool(guard.admitted, request, hub)
            except Refusal:
                return
        if event.stream is None or not wanted or event.stream in wanted:
            yield encoded(event)


def encoded(event: LiveEvent) -> bytes:
    """One event on the wire, its times as RFC 3339."""
    data = {key.removesuffix("_us"): at(value) if key.endswith("_us") else value for key, value in event.data.items()}
    return b"event: %s\ndata: %s\n\n" % (event.name.encode(), orjson.dumps(data))

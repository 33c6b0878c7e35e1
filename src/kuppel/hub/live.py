"""What just happened, to whoever is looking: a bus from the engine's threads to the browsers' event streams."""

import asyncio
from collections.abc import AsyncIterator
from dataclasses import dataclass
from typing import Any

# A browser further behind than this is told so and asks again for what it missed.
_MOST_WAITING = 1000


@dataclass(frozen=True, slots=True)
class LiveEvent:
    """`name` says what kind of event; `streams` which streams it is about (empty: everybody)."""

    name: str
    data: dict[str, Any]
    stream: int | None = None


class LiveBus:
    """Publish from any thread, listen in the event loop."""

    def __init__(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop
        self._listeners: set[asyncio.Queue[LiveEvent | None]] = set()
        self._is_closed = False

    @property
    def has_listeners(self) -> bool:
        """Whether anybody would hear."""
        return bool(self._listeners)

    def publish(self, events: list[LiveEvent]) -> None:
        if events and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._spread, events)

    def close_soon(self) -> None:
        """End every stream; may be called from a signal handler or another thread."""
        self._loop.call_soon_threadsafe(self.close)

    def close(self) -> None:
        """End every stream, so that the server can stop."""
        self._is_closed = True
        for queue in self._listeners:
            self._put(queue, None)

    async def listen(self, heartbeat_s: float = 10) -> AsyncIterator[LiveEvent]:
        """Events from now on; a `heartbeat` when there was none for a while, `lagged` when some had to be left out."""
        queue: asyncio.Queue[LiveEvent | None] = asyncio.Queue(_MOST_WAITING)
        self._listeners.add(queue)
        try:
            yield LiveEvent("ready", {})
            while not self._is_closed:
                try:
                    async with asyncio.timeout(heartbeat_s):
                        event = await queue.get()
                except TimeoutError:
                    yield LiveEvent("heartbeat", {})
                    continue
                if event is None:
                    return
                yield event
        finally:
            self._listeners.discard(queue)

    def _spread(self, events: list[LiveEvent]) -> None:
        for queue in self._listeners:
            for event in events:
                self._put(queue, event)

    @staticmethod
    def _put(queue: "asyncio.Queue[LiveEvent | None]", event: LiveEvent | None) -> None:
        if queue.full():
            while not queue.empty():
                queue.get_nowait()
            queue.put_nowait(LiveEvent("lagged", {}))
        queue.put_nowait(event)

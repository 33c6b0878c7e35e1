"""A clock on which time passes only by sleeping: a day of measuring takes as long as its computation."""

import asyncio
import selectors
from typing import Any


class SimulatedLoop(asyncio.SelectorEventLoop):
    """An event loop whose time jumps to the next timer as soon as nothing else is to be done."""

    def __init__(self) -> None:
        self._now_s = 0.0
        super().__init__(_JumpingSelector(self))

    def time(self) -> float:
        return self._now_s

    def advance(self, seconds: float) -> None:
        self._now_s += seconds


class _JumpingSelector(selectors.DefaultSelector):
    """Instead of waiting, moves the loop's time on."""

    def __init__(self, loop: SimulatedLoop) -> None:
        super().__init__()
        self._loop = loop

    def select(self, timeout: float | None = None) -> Any:
        ready = super().select(0)
        if not ready and timeout is not None and timeout > 0:
            self._loop.advance(timeout)
        return ready


class SimulatedClock:
    """The clock of a world that began at `begun_us`; to be used on a `SimulatedLoop`."""

    def __init__(self, begun_us: int) -> None:
        self._begun_us = begun_us

    def utc_us(self) -> int:
        return self._begun_us + round(asyncio.get_running_loop().time() * 1e6)

    def monotonic_us(self) -> int:
        return round(asyncio.get_running_loop().time() * 1e6)

    async def sleep_us(self, duration_us: int) -> None:
        await asyncio.sleep(duration_us / 1e6)

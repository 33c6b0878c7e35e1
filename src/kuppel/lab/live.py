"""The vantage points of the made-up world, live: real agents that deliver to a real hub over a simulated network."""

import asyncio
import contextlib
import time
from dataclasses import dataclass, field
from pathlib import Path
from random import Random

import structlog

from kuppel.agent.machine import BUSY_LAG_US, LagMeter
from kuppel.agent.navigation import Navigation
from kuppel.agent.process import Agent
from kuppel.agent.settings import AgentSettings
from kuppel.core.position import Position
from kuppel.lab.skerry.estate import Point
from kuppel.lab.skerry.ferries import LINES
from kuppel.lab.world.machine import USUAL_LAG_MS
from kuppel.lab.world.net import Loading, SimulatedNet
from kuppel.lab.world.world import World
from kuppel.probes.kernel.network import SystemClock

_LOOK_EVERY_S = 0.5
_log = structlog.get_logger()


class SimulatedLag(LagMeter):
    """As late as the world says that a vantage point's machine wakes; the machine under all of them says nothing of it."""

    def __init__(self, world: World, point: str) -> None:
        super().__init__()
        self._world = world
        self._point = point
        self._draw = Random(f"{world.seed} {point}")

    def note(self, lag_us: float) -> None:  # noqa: ARG002 (the real lag is that of all vantage points together)
        busy = self._world.effects.now("busy", self._point, time.time_ns() // 1000)
        usual_us = 1000 * USUAL_LAG_MS * self._draw.gammavariate(2.0, 0.5)
        super().note(usual_us if busy is None else max(busy.value * 1000, BUSY_LAG_US + 1))


@dataclass(slots=True)
class LivePoints:
    """Agents of all vantage points, in this process. One that the world silences is stopped, and started again after."""

    world: World
    hub: str
    folder: Path
    points: tuple[Point, ...]
    loading: Loading | None = None
    _tasks: dict[str, asyncio.Task[None]] = field(default_factory=dict)

    async def run(self) -> None:
        """Until cancelled."""
        try:
            while True:
                now_us = time.time_ns() // 1000
                for one in self.points:
                    await self._look_after(one, self.world.effects.now("silent", one.name, now_us) is not None)
                await asyncio.sleep(_LOOK_EVERY_S)
        finally:
            for name in list(self._tasks):
                await self._stop(name)

    async def _look_after(self, point: Point, is_silent: bool) -> None:
        task = self._tasks.get(point.name)
        if is_silent and task is not None:
            await self._stop(point.name)
        elif not is_silent and (task is None or task.done()):
            if task is not None and task.exception() is not None:
                _log.error("agent ended", point=point.name, reason=str(task.exception()))
            self._tasks[point.name] = asyncio.create_task(self._agent(point).run(), name=point.name)

    def _agent(self, point: Point) -> Agent:
        host = self.world.topology.hosts[point.name]
        settings = AgentSettings(
            hub=self.hub, name=point.name, kind=point.kind, place=point.words, provider=point.provider,
            country=point.country, person=point.person, state=agent_folder(self.folder, point.name), source=host.address,
        )  # fmt: skip
        net = SimulatedNet(self.world, point.name, SystemClock(), self.loading if point.name == "North" else None)
        return Agent(settings, net, SimulatedLag(self.world, point.name), _navigation(point.name))

    async def _stop(self, name: str) -> None:
        task = self._tasks.pop(name)
        task.cancel()
        with contextlib.suppress(asyncio.CancelledError, Exception):
            await task


def _navigation(ship: str) -> Navigation | None:
    """Where a ship of the line is by its timetable; nothing of what stands still."""
    line = LINES.get(ship)
    if line is None:
        return None

    async def position() -> Position:
        return line.at(time.time_ns() // 1000)

    return position


def agent_folder(folder: Path, name: str) -> Path:
    return folder / "agents" / name.replace(" ", "-").replace(".", "").lower()

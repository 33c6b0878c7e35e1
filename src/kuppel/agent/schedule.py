"""Runs every assigned probe at its times and hands over the results."""

import asyncio
from collections.abc import Callable
from dataclasses import dataclass

import structlog

from kuppel.agent.machine import LagMeter
from kuppel.core.error import SettingsError
from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Result
from kuppel.core.schedule import next_slot, start_offset
from kuppel.probes.net import Binding, Net
from kuppel.probes.registry import kind_named
from kuppel.probes.repetition import run_probe
from kuppel.wire.delivery import AssignedProbe, Assignment

# A new stream runs for the first time within this, however long its interval: whoever set it up is looking.
_FIRST_RUN_WITHIN_US = 5_000_000
_log = structlog.get_logger()


@dataclass(slots=True)
class _Running:
    probe: AssignedProbe
    task: asyncio.Task[None]


class Schedule:
    """The probes under way: one task a stream, its runs one after another.

    Parameters
    ----------
    seed : what sets this agent's start offsets apart from every other's.
    hand_over : called with the stream's number and its result.
    """

    def __init__(self, net: Net, lag: LagMeter, seed: str, hand_over: Callable[[int, Result], None]) -> None:
        self._net = net
        self._lag = lag
        self._seed = seed
        self._hand_over = hand_over
        self._running: dict[int, _Running] = {}
        self.missed_slots = 0

    async def assign(self, assignment: Assignment) -> None:
        """Start what is new, stop what is gone, start anew what changed; all else goes on undisturbed."""
        wanted = {probe.stream: probe for probe in assignment.probes}
        for stream, running in list(self._running.items()):
            if wanted.get(stream) != running.probe:
                del self._running[stream]
                await _cancel(running.task)
        for stream, probe in wanted.items():
            if stream not in self._running:
                task = asyncio.create_task(self._run(probe), name=f"stream {stream}")
                self._running[stream] = _Running(probe, task)

    async def stop(self) -> None:
        await self.assign(Assignment(probes=[]))

    async def _run(self, probe: AssignedProbe) -> None:
        clock = self._net.clock
        seed = f"{self._seed}/{probe.stream}"
        offset_us = start_offset(seed, probe.interval_us)
        first_within_us = min(probe.interval_us, _FIRST_RUN_WITHIN_US)
        slot_us = min(
            next_slot(clock.monotonic_us(), offset_us, probe.interval_us),
            clock.monotonic_us() + start_offset(seed, first_within_us),
        )
        while True:
            await clock.sleep_us(max(0, slot_us - clock.monotonic_us()))
            self._hand_over(probe.stream, await self._measure(probe))
            now_us = clock.monotonic_us()
            following_us = next_slot(max(now_us, slot_us), offset_us, probe.interval_us)
            self.missed_slots += max(0, (following_us - slot_us - 1) // probe.interval_us)
            slot_us = following_us

    async def _measure(self, probe: AssignedProbe) -> Result:
        started_us = self._net.clock.utc_us()
        try:
            kind = kind_named(probe.kind)
            settings = kind.parse(probe.settings)
        except SettingsError as error:
            # A newer hub may send what this agent does not know: say so where people look for results.
            _log.error("probe cannot be run", stream=probe.stream, reason=str(error))
            reason = Reason.AGENT_ERROR
            return Result(started_us, reason, {}, {}, (Attempt(started_us, 0, reason, str(error)[:500]),))
        result = await run_probe(
            kind,
            settings,
            self._net,
            binding=Binding(probe.binding.interface, probe.binding.source),
            attempts=probe.attempts,
            attempt_gap_us=probe.attempt_gap_us,
        )
        if self._lag.is_busy:
            detail = dict(result.detail) | {"agent_busy_lag_us": self._lag.lag_us}
            return Result(result.started_us, result.reason, result.quantities, result.facts, result.attempts, detail)
        return result


async def _cancel(task: asyncio.Task[None]) -> None:
    """Stop a task for certain: what it was waiting for may have kept the first request to itself."""
    while not task.done():
        task.cancel()
        await asyncio.wait([task], timeout=1)

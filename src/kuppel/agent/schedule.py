"""Runs every assigned probe at its times and hands over the results."""

import asyncio
import random
from collections.abc import Callable
from dataclasses import dataclass

import structlog

from kuppel.agent.machine import LagMeter
from kuppel.core.error import SettingsError
from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Result
from kuppel.core.schedule import Timing, longest_gap, next_run, next_slot, quiet_end, start_offset
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
    draw : uniform numbers from [0, 1), for schedules at random times.
    """

    def __init__(
        self,
        net: Net,
        lag: LagMeter,
        seed: str,
        hand_over: Callable[[int, Result], None],
        draw: Callable[[], float] = random.random,
    ) -> None:
        self._draw = draw
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
        try:
            timing = probe.timing()
        except SettingsError as error:
            self._hand_over(probe.stream, _unrunnable(self._net.clock.utc_us(), str(error)))
            return
        seed = f"{self._seed}/{probe.stream}"
        slot_us = self._first(timing, seed)
        burst_until_us = 0
        clock = self._net.clock
        while True:
            await clock.sleep_us(max(0, slot_us - clock.monotonic_us()))
            result = await self._measure(probe)
            self._hand_over(probe.stream, result)
            now_us = clock.monotonic_us()
            if timing.burst_for_us and not result.is_ok:
                burst_until_us = now_us + timing.burst_for_us
            following_us = self._following(timing, seed, slot_us, burst_until_us)
            if timing.way == "every" and not timing.quiet and not timing.burst_for_us:
                self.missed_slots += max(0, (following_us - slot_us - 1) // timing.interval_us)
            slot_us = following_us

    def _first(self, timing: Timing, seed: str) -> int:
        """The first run: soon, since whoever set it up is looking, but not in quiet hours."""
        clock = self._net.clock
        soon_us = start_offset(seed, min(longest_gap(timing), _FIRST_RUN_WITHIN_US))
        wait_us = quiet_end(timing, clock.utc_us() + soon_us) - clock.utc_us()
        return min(clock.monotonic_us() + wait_us, self._following(timing, seed, clock.monotonic_us() - 1, 0))

    def _following(self, timing: Timing, seed: str, slot_us: int, burst_until_us: int) -> int:
        """The next run by the monotonic clock; a plain interval never looks at the other one, which may be set."""
        clock = self._net.clock
        now_us = clock.monotonic_us()
        if timing.way == "every" and not timing.quiet:
            planned_us = next_slot(max(now_us, slot_us), start_offset(seed, timing.interval_us), timing.interval_us)
            is_bursting = timing.burst_interval_us and now_us < burst_until_us
            return min(planned_us, max(now_us, slot_us) + timing.burst_interval_us) if is_bursting else planned_us
        utc_us = clock.utc_us()
        left_us = max(0, burst_until_us - now_us)
        found_us = next_run(timing, utc_us + max(0, slot_us - now_us), seed, self._draw(), utc_us + left_us)
        return now_us + found_us - utc_us

    async def _measure(self, probe: AssignedProbe) -> Result:
        started_us = self._net.clock.utc_us()
        try:
            kind = kind_named(probe.kind)
            settings = kind.parse(probe.settings)
        except SettingsError as error:
            # A newer hub may send what this agent does not know: say so where people look for results.
            _log.error("probe cannot be run", stream=probe.stream, reason=str(error))
            return _unrunnable(started_us, str(error))
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


def _unrunnable(started_us: int, words: str) -> Result:
    reason = Reason.AGENT_ERROR
    return Result(started_us, reason, {}, {}, (Attempt(started_us, 0, reason, words[:500]),))


async def _cancel(task: asyncio.Task[None]) -> None:
    """Stop a task for certain: what it was waiting for may have kept the first request to itself."""
    while not task.done():
        task.cancel()
        await asyncio.wait([task], timeout=1)

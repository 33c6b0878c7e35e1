"""Runs what people try before they save it, at once and beside the schedule; results go straight to the hub."""

import asyncio

import structlog

from kuppel.agent.delivery import delivered
from kuppel.agent.hub_client import HubAway, HubClient, HubRefused
from kuppel.core.error import SettingsError
from kuppel.core.quantity import QUANTITIES
from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Result
from kuppel.probes.net import Binding, Net
from kuppel.probes.registry import kind_named
from kuppel.probes.repetition import run_probe
from kuppel.wire.delivery import AskedTrial, TrialResult

_AT_ONCE = 4
_log = structlog.get_logger()


class Trials:
    """Asks the hub for trials, again and again."""

    def __init__(self, net: Net, client: HubClient) -> None:
        self._net = net
        self._client = client
        self._room = asyncio.Semaphore(_AT_ONCE)
        self._running: set[asyncio.Task[None]] = set()

    async def fetch(self) -> None:
        """Wait for trials, and start those that come."""
        for one in await self._client.trials():
            task = asyncio.create_task(self._run(one), name=f"trial {one.trial}")
            self._running.add(task)
            task.add_done_callback(self._running.discard)

    def stop(self) -> None:
        for one in self._running:
            one.cancel()

    async def _run(self, asked: AskedTrial) -> None:
        async with self._room:
            result = delivered(1, await self._measured(asked))
        units = {name: QUANTITIES[name].unit for name in result.quantities}
        try:
            await self._client.deliver_trial(asked.trial, TrialResult(units=units, result=result))
        except (HubAway, HubRefused) as error:
            # It is not kept: whoever asked sees that it is late, and can try again.
            _log.warning("trial not delivered", reason=str(error))

    async def _measured(self, asked: AskedTrial) -> Result:
        try:
            kind = kind_named(asked.kind)
            settings = kind.parse(asked.settings)
        except SettingsError as error:
            started_us = self._net.clock.utc_us()
            attempt = Attempt(started_us, 0, Reason.AGENT_ERROR, str(error)[:500])
            return Result(started_us, Reason.AGENT_ERROR, {}, {}, (attempt,))
        binding = Binding(asked.binding.interface, asked.binding.source)
        return await run_probe(kind, settings, self._net, binding=binding, attempts=1, attempt_gap_us=0)

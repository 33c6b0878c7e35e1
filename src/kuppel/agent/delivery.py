"""Brings the spool's results to the hub, in order, however long that takes.

| hub's answer                   | what happens                                                      |
| ------------------------------ | ----------------------------------------------------------------- |
| receipt                        | forget up to the acknowledged number; log what was refused         |
| away, busy (429, 5xx, no answer) | wait as told, or twice as long as before, up to 10 s; same results |
| batch refused (413, 422)       | halve the batch; a single result that is refused is set aside      |
| token refused (401, 403)       | go on measuring and spooling; ask again every 10 s                 |
"""

import asyncio
import random

import structlog

from kuppel.agent.hub_client import HubAway, HubClient, HubRefused
from kuppel.core.quantity import QUANTITIES
from kuppel.core.result import Result
from kuppel.store.spool import Spool
from kuppel.wire.delivery import RESULTS_PER_BATCH, Batch, DeliveredAttempt, DeliveredResult

_LONGEST_WAIT_S = 10.0
_log = structlog.get_logger()


class Delivery:
    """The spool's way to the hub. `put` is called by whoever measured; `run` delivers until cancelled."""

    def __init__(self, spool: Spool, client: HubClient) -> None:
        self._spool = spool
        self._client = client
        self._news = asyncio.Event()
        self._news.set()
        self._batch_size = RESULTS_PER_BATCH
        self._wait_s = 0.5

    def put(self, stream: int, result: Result) -> None:
        self._spool.put(delivered(stream, result))
        self._news.set()

    async def run(self) -> None:
        while True:
            self._news.clear()
            if not await self.deliver_once():
                await self._news.wait()

    async def deliver_once(self) -> bool:
        """Try to deliver the oldest results. False when there is nothing to deliver."""
        results = self._spool.oldest(self._batch_size)
        if not results:
            return False
        try:
            receipt = await self._client.deliver(_batch(self._spool.identity, results))
        except HubAway as away:
            _log.warning("results wait", reason=str(away), waiting=self._spool.status().waiting)
            await self._pause(away.wait_s)
            return True
        except HubRefused as refused:
            await self._after_refusal(refused, results)
            return True
        for one in receipt.refused:
            _log.error("result refused", sequence=one.sequence, field=one.field, value=one.value, remedy=one.remedy)
        self._spool.forget(receipt.acknowledged)
        self._wait_s = 0.5
        self._batch_size = min(RESULTS_PER_BATCH, self._batch_size * 2)
        return True

    async def _after_refusal(self, refused: HubRefused, results: list[DeliveredResult]) -> None:
        if refused.status in (401, 403):
            _log.error("the hub does not accept this agent's token", remedy=refused.remedy)
            await self._pause(_LONGEST_WAIT_S)
        elif len(results) > 1:
            self._batch_size = max(1, len(results) // 2)
        else:
            _log.error("result set aside", sequence=results[0].sequence, reason=str(refused))
            self._spool.forget(results[0].sequence)

    async def _pause(self, told_s: float | None) -> None:
        wait_s = self._wait_s if told_s is None else told_s
        self._wait_s = min(_LONGEST_WAIT_S, self._wait_s * 2)
        # Spread, so that a hundred agents do not come back at the same moment.
        await asyncio.sleep(wait_s * random.uniform(0.8, 1.2))


def delivered(stream: int, result: Result) -> DeliveredResult:
    """A result in the shape in which it travels; the spool numbers it."""
    return DeliveredResult(
        sequence=1,
        stream=stream,
        started_us=result.started_us,
        reason=result.reason,
        quantities=dict(result.quantities),
        facts={name: value[:500] for name, value in result.facts.items()},
        attempts=[
            DeliveredAttempt(started_us=one.started_us, duration_us=one.duration_us, reason=one.reason, note=one.note[:500])
            for one in result.attempts
        ],
        detail=dict(result.detail),
    )


def _batch(identity: str, results: list[DeliveredResult]) -> Batch:
    names = {name for result in results for name in result.quantities}
    return Batch(spool=identity, units={name: QUANTITIES[name].unit for name in sorted(names)}, results=results)

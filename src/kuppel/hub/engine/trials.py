"""Trials: a probe that is not saved, run once by the agents of some vantage points, its results shown and then forgotten.

| state     | when                                                   |
| --------- | ------------------------------------------------------ |
| asked     | the agent has not fetched it yet                       |
| running   | the agent fetched it                                   |
| done      | its result came                                        |
| late      | neither came in time: the agent is away, or was stopped |
"""

import asyncio
import secrets
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from kuppel.core.duration import SECOND_US
from kuppel.core.error import SettingsError
from kuppel.wire.delivery import AskedTrial, Binding, DeliveredResult

_KEPT_US = 600 * SECOND_US
_FETCHED_WITHIN_US = 30 * SECOND_US
_DONE_WITHIN_US = 150 * SECOND_US
_MOST = 200


class TrialState(StrEnum):
    ASKED = "asked"
    RUNNING = "running"
    DONE = "done"
    LATE = "late"


@dataclass(slots=True)
class Part:
    """One vantage point's part of a trial."""

    vantage_point_id: int
    fetched_us: int | None = None
    result: DeliveredResult | None = None
    units: dict[str, str] = field(default_factory=dict)


@dataclass(slots=True)
class Trial:
    """Settings are whole, credentials included: they leave the hub only towards the agents."""

    id: str
    owner: str
    kind: str
    settings: dict[str, Any]
    binding: Binding
    asked_us: int
    parts: dict[int, Part]

    def state(self, part: Part, now_us: int) -> TrialState:
        if part.result is not None:
            return TrialState.DONE
        if part.fetched_us is None:
            return TrialState.LATE if now_us - self.asked_us > _FETCHED_WITHIN_US else TrialState.ASKED
        return TrialState.LATE if now_us - self.asked_us > _DONE_WITHIN_US else TrialState.RUNNING


class Trials:
    """The trials of the last minutes, in memory. Agents wait for theirs; whoever asked looks again and again."""

    def __init__(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop
        self._lock = threading.Lock()
        self._trials: dict[str, Trial] = {}
        self._news = asyncio.Event()
        self._is_closed = False

    def close_soon(self) -> None:
        """Let every waiting agent go, so that the server can stop; may be called from a signal handler or a thread."""
        self._is_closed = True
        self._loop.call_soon_threadsafe(self._wake)

    def ask(
        self, owner: str, kind: str, settings: dict[str, Any], binding: Binding, points: Sequence[int], now_us: int
    ) -> Trial:
        with self._lock:
            self._forget(now_us)
            if len(self._trials) >= _MOST:
                raise SettingsError("vantage_points", len(points), "wait: too many trials are under way")
            trial = Trial(secrets.token_hex(8), owner, kind, settings, binding, now_us, {one: Part(one) for one in points})
            self._trials[trial.id] = trial
        self._loop.call_soon_threadsafe(self._wake)
        return trial

    def trial(self, trial_id: str) -> Trial | None:
        with self._lock:
            return self._trials.get(trial_id)

    async def wait(self, vantage_point_id: int, timeout_s: float, now_us: int) -> list[AskedTrial]:
        """What this agent has to try; empty when nothing is asked within the time."""
        deadline = self._loop.time() + timeout_s
        while True:
            news = self._news
            found = self._fetch(vantage_point_id, now_us)
            left = deadline - self._loop.time()
            if found or left <= 0 or self._is_closed:
                return found
            try:
                async with asyncio.timeout(left):
                    await news.wait()
            except TimeoutError:
                return []

    def take(self, trial_id: str, vantage_point_id: int, result: DeliveredResult, units: dict[str, str]) -> bool:
        """Keep a result; False when nobody asked for it, or no longer."""
        with self._lock:
            trial = self._trials.get(trial_id)
            part = trial.parts.get(vantage_point_id) if trial is not None else None
            if part is None or part.result is not None:
                return False
            part.result, part.units = result, units
            return True

    def _fetch(self, vantage_point_id: int, now_us: int) -> list[AskedTrial]:
        found = []
        with self._lock:
            for trial in self._trials.values():
                part = trial.parts.get(vantage_point_id)
                if part is not None and trial.state(part, now_us) is TrialState.ASKED:
                    part.fetched_us = now_us
                    found.append(
                        AskedTrial(trial=trial.id, kind=trial.kind, settings=trial.settings, binding=trial.binding)
                    )
        return found

    def _forget(self, now_us: int) -> None:
        for trial_id in [one.id for one in self._trials.values() if now_us - one.asked_us > _KEPT_US]:
            del self._trials[trial_id]

    def _wake(self) -> None:
        before, self._news = self._news, asyncio.Event()
        before.set()

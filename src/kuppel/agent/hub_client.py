"""The agent's side of the conversation with its hub."""

import ssl
import time
from typing import Any, TypeVar

import httpx
import zstandard
from pydantic import TypeAdapter

from kuppel.agent.settings import AgentSettings
from kuppel.core.clock import ClockOffset, best_offset, clock_offset
from kuppel.wire.delivery import (
    AgentDescription,
    AgentReport,
    AskedTrial,
    Assignment,
    Batch,
    ClockReading,
    Enrolment,
    Receipt,
    Shape,
    TrialResult,
)

_CLOCK_EXCHANGES = 5
_TRIAL_WAIT_S = 25
_TRIALS = TypeAdapter(list[AskedTrial])
S = TypeVar("S", bound=Shape)


class HubAway(Exception):
    """The hub cannot be reached or has no time; come again after `wait_s`, or when it suits."""

    def __init__(self, words: str, wait_s: float | None = None) -> None:
        self.wait_s = wait_s
        super().__init__(words)


class HubRefused(Exception):
    """The hub understood and said no. `remedy` is in its words."""

    def __init__(self, status: int, title: str, remedy: str) -> None:
        self.status = status
        self.remedy = remedy
        super().__init__(f"{title} {remedy}".strip())


class HubClient:
    """One hub, one agent. Every call raises `HubAway` or `HubRefused` when it does not get its answer."""

    def __init__(self, settings: AgentSettings) -> None:
        context = ssl.create_default_context(cafile=None if settings.authority is None else str(settings.authority))
        self._http = httpx.AsyncClient(base_url=settings.hub, verify=context, timeout=20, trust_env=False)
        self._compressor = zstandard.ZstdCompressor()
        self._etag = ""

    def use_token(self, token: str) -> None:
        self._http.headers["Authorization"] = f"Bearer {token}"

    async def enrol(self, description: AgentDescription, enrolment_token: str) -> Enrolment:
        answer = await self._call(
            "POST",
            "/api/agents/enrolments",
            content=description.model_dump_json(),
            headers={"Authorization": f"Bearer {enrolment_token}", "Content-Type": "application/json"},
        )
        return _parse(Enrolment, answer)

    async def assignment(self) -> Assignment | None:
        """What to run, or None when it is what it was."""
        answer = await self._call("GET", "/api/agents/self/assignment", headers={"If-None-Match": self._etag})
        if answer.status_code == httpx.codes.NOT_MODIFIED:
            return None
        parsed = _parse(Assignment, answer)
        self._etag = answer.headers.get("ETag", "")
        return parsed

    async def clock(self) -> ClockOffset | None:
        """The hub's clock against this machine's, from the best of a few exchanges."""
        exchanges = []
        for _ in range(_CLOCK_EXCHANGES):
            t1 = time.time_ns() / 1000
            answer = await self._call("GET", "/api/agents/self/clock")
            t4 = time.time_ns() / 1000
            reading = _parse(ClockReading, answer)
            exchanges.append(clock_offset(t1, reading.received_us, reading.sent_us, t4))
        return best_offset(exchanges)

    async def deliver(self, batch: Batch) -> Receipt:
        body = self._compressor.compress(batch.model_dump_json().encode())
        answer = await self._call(
            "POST",
            "/api/agents/self/batches",
            content=body,
            headers={"Content-Type": "application/json", "Content-Encoding": "zstd"},
        )
        return _parse(Receipt, answer)

    async def report(self, report: AgentReport) -> None:
        await self._call(
            "PUT",
            "/api/agents/self/report",
            content=report.model_dump_json(),
            headers={"Content-Type": "application/json"},
        )

    async def trials(self) -> list[AskedTrial]:
        """What to try now; waits at the hub for a while."""
        answer = await self._call("GET", "/api/agents/self/trials", params={"wait_s": _TRIAL_WAIT_S}, timeout=60)
        try:
            return _TRIALS.validate_json(answer.content)
        except ValueError as error:
            raise HubAway(f"the hub's answer cannot be read: {str(error)[:200]}") from None

    async def deliver_trial(self, trial: str, told: TrialResult) -> None:
        await self._call(
            "POST",
            f"/api/agents/self/trials/{trial}",
            content=told.model_dump_json(),
            headers={"Content-Type": "application/json"},
        )

    async def package(self, version: str) -> bytes:
        """The agent's package of that version."""
        answer = await self._call("GET", f"/api/agents/package/kuppel-{version}-py3-none-any.whl")
        return answer.content

    async def close(self) -> None:
        await self._http.aclose()

    async def _call(self, method: str, path: str, **options: Any) -> httpx.Response:
        try:
            answer = await self._http.request(method, path, **options)
        except httpx.HTTPError as error:
            raise HubAway(f"the hub does not answer: {type(error).__name__}") from None
        if answer.is_success or answer.status_code == httpx.codes.NOT_MODIFIED:
            return answer
        problem = _problem(answer)
        words = str(problem.get("title") or f"status {answer.status_code}")
        if answer.status_code in (httpx.codes.TOO_MANY_REQUESTS, httpx.codes.REQUEST_TIMEOUT) or answer.is_server_error:
            wait = answer.headers.get("Retry-After", "")
            raise HubAway(words, float(wait) if wait.isdigit() else None)
        raise HubRefused(answer.status_code, words, str(problem.get("remedy") or ""))


def _parse(shape: type[S], answer: httpx.Response) -> S:
    try:
        return shape.model_validate_json(answer.content)
    except ValueError as error:
        raise HubAway(f"the hub's answer cannot be read: {str(error)[:200]}") from None


def _problem(answer: httpx.Response) -> dict[str, Any]:
    try:
        problem = answer.json()
    except ValueError:
        return {}
    return problem if isinstance(problem, dict) else {}

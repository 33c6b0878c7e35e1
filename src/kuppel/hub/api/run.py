"""The shape of one run: what was measured, tried and seen."""

from datetime import datetime
from typing import Any

from pydantic import BaseModel, Field

from kuppel.core.limit import run_level
from kuppel.core.quantity import QUANTITIES
from kuppel.core.reason import SENTENCES, Reason
from kuppel.hub.api.shapes import at
from kuppel.hub.engine.joined import Joined
from kuppel.probes.kind import Kind
from kuppel.store.history import StoredFact, StoredRun
from kuppel.wire.delivery import DeliveredResult

LEVEL_NAMES = ("inside", "between", "degraded", "breached")


class AttemptShape(BaseModel):
    started: datetime
    duration_ms: float
    reason: str | None
    words: str = Field(description="Why it failed, in words; empty when it succeeded.")
    note: str


class HopShape(BaseModel):
    """One address at one distance."""

    ttl: int
    address: str | None = Field(description="Null where none answered.")
    name: str = ""
    sent: int
    answered: int = 0
    rtt_us: float | None = None
    rtt_min_us: float | None = None
    reply_ttl: int | None = None
    labels: list[str] = Field(default_factory=list, description="MPLS labels that its answer carried.")
    note: str = ""
    flows: int


class StepShape(BaseModel):
    name: str
    number: int
    status: int | None = None
    size: int | None = None
    address: str | None = None
    timings_ms: dict[str, float] = Field(default_factory=dict)
    failed: str | None = None


class RequestShape(BaseModel):
    url: str
    status: int
    start_ms: float
    time_ms: float
    octets: int


class RunDetail(BaseModel):
    """What explains a run beyond its quantities; each kind of probe fills in its own part, and old runs may lack all."""

    status: int | None = Field(default=None, description="HTTP status.")
    size: int | None = Field(default=None, description="Octets of the answer.")
    headers: list[list[str]] = Field(default_factory=list, description="Headers of the answer.")
    local: str | None = Field(default=None, description="Source address used.")
    timings_ms: dict[str, float] | None = Field(default=None, description="Phases that a failed fetch got through.")
    round_trips_us: list[float | None] = Field(default_factory=list, description="Each packet; null when lost.")
    stamps: str | None = Field(default=None, description="Who took the times of the packets.")
    code: str | None = Field(default=None, description="DNS response code.")
    answers: list[str] = Field(default_factory=list, description="Answers to a DNS question.")
    transport: str | None = Field(default=None, description="udp or tcp.")
    remote: str | None = Field(default=None, description="Address that was reached.")
    chain: list[dict[str, str]] = Field(default_factory=list, description="Certificates as they were sent, the leaf first.")
    verification: str | None = Field(default=None, description="accepted, or why the chain was not.")
    refused: int | None = Field(default=None, description="What came back and was no answer.")
    call: str | None = Field(default=None, description="The final answer to a call's set-up.")
    by_way: dict[str, dict[str, float]] = Field(default_factory=dict, description="Figures of each way, by its name.")
    sent: int | None = Field(default=None, description="Packets sent.")
    answered: int | None = Field(default=None, description="Packets answered.")
    flows: int | None = Field(default=None, description="Flows along which a path was looked for.")
    hops: list[HopShape] = Field(default_factory=list, description="Hops of a path, the nearest first.")
    ways: list[list[str | None]] = Field(default_factory=list, description="Ways that flows took; null did not answer.")
    limited_by: str | None = Field(default=None, description="The hop that refuses larger packets.")
    steps: list[StepShape] = Field(default_factory=list, description="Steps of a transaction, as far as it went.")
    requests: list[RequestShape] = Field(default_factory=list, description="The slowest requests of a page.")
    failed_requests: list[str] = Field(default_factory=list, description="Requests of a page that failed.")
    console: list[str] = Field(default_factory=list, description="Errors on a page's console.")
    archive: dict[str, Any] = Field(default_factory=dict, description="The page load as HAR 1.2.")
    screenshot: str | None = Field(default=None, description="A picture of a page that failed: JPEG in base 64.")
    over_s: float | None = Field(default=None, description="Over what time rates of a machine are, in s.")
    disks: list[dict[str, Any]] = Field(default_factory=list, description="Mounted disks of a machine.")
    interfaces: list[dict[str, Any]] = Field(default_factory=list, description="Network cards of a machine.")
    connections: list[dict[str, Any]] = Field(default_factory=list, description="Open connections by process and peer.")
    processes: list[dict[str, Any]] = Field(default_factory=list, description="Processes with most memory.")
    agent_busy_lag_us: int | None = Field(default=None, description="How late the agent woke, when it was too busy.")


class RunShape(BaseModel):
    """One run. `level` is where it lies against its limits."""

    time: datetime
    is_ok: bool
    reason: str | None
    words: str
    level: str = Field(examples=list(LEVEL_NAMES))
    quantities: dict[str, float]
    attempts: list[AttemptShape]
    detail: RunDetail
    facts: dict[str, str] = Field(description="What held at that time.")
    is_generated: bool


class QuantityShape(BaseModel):
    """A quantity with its words and its UCUM unit."""

    name: str = Field(examples=["rtt_p95"])
    label: str = Field(examples=["95th percentile of the run's round trips"])
    unit: str = Field(examples=["ms"])


def quantities_of(kind: Kind) -> list[QuantityShape]:
    """What a run of this kind may measure."""
    found = (QUANTITIES[name] for name in kind.quantities)
    return [QuantityShape(name=one.name, label=one.label, unit=one.unit) for one in found]


def delivered_run(result: DeliveredResult) -> RunShape:
    """A run that is not stored, such as a trial's: it has no limits."""
    return RunShape(
        time=at(result.started_us),
        is_ok=result.reason is None,
        reason=result.reason,
        words=words(result.reason),
        level=LEVEL_NAMES[0] if result.reason is None else LEVEL_NAMES[-1],
        quantities=dict(result.quantities),
        attempts=[
            AttemptShape(
                started=at(one.started_us),
                duration_ms=one.duration_us / 1000,
                reason=one.reason,
                words=words(one.reason),
                note=one.note,
            )
            for one in result.attempts
        ],
        detail=RunDetail.model_validate(result.detail),
        facts=dict(result.facts),
        is_generated=False,
    )


def stored_run(run: StoredRun, joined: Joined, facts: list[StoredFact]) -> RunShape:
    held = {fact.name: fact.value for fact in facts if fact.from_us <= run.time_us}
    level = run_level(run.reason is None, run.quantities, joined.probe.limits)
    return RunShape(
        time=at(run.time_us),
        is_ok=run.reason is None,
        reason=run.reason,
        words=words(run.reason),
        level=LEVEL_NAMES[level],
        quantities=dict(run.quantities),
        attempts=[
            AttemptShape(
                started=at(one["started_us"]),
                duration_ms=one["duration_us"] / 1000,
                reason=one["reason"],
                words=words(one["reason"]),
                note=one["note"],
            )
            for one in run.attempts
        ],
        detail=RunDetail.model_validate(run.detail),
        facts=held,
        is_generated=run.is_generated,
    )


def words(reason: str | None) -> str:
    return "" if reason is None else SENTENCES[Reason(reason)]

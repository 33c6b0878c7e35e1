"""What an agent and its hub say to each other: JSON shapes, checked on both sides by the same models.

A result carries a sequence number of its own, rising by at least one within one spool. The hub keeps the last number it
took and ignores what is not above it, so a batch sent twice, or cut differently the second time, is taken once. A gap means
that the agent had to drop results; it says how many.
"""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from kuppel.core.duration import SECOND_US
from kuppel.core.position import Position
from kuppel.core.reason import Reason
from kuppel.core.schedule import Timing

RESULTS_PER_BATCH = 500
BATCH_BYTES = 4 * 1024 * 1024

Microseconds = Annotated[int, Field(ge=0, lt=2**63, description="UTC, microseconds since 1970-01-01T00:00:00Z.")]


class Shape(BaseModel):
    """Base of all shapes: unknown fields are refused, so that a misspelt one is noticed."""

    model_config = ConfigDict(extra="forbid")


class AgentDescription(Shape):
    """Who an agent is and where it stands."""

    name: str = Field(min_length=1, max_length=80, description="The vantage point's name, unique at the hub.")
    kind: str = Field(default="site", pattern="^(public|site|mobile|personal)$", description="Kind of vantage point.")
    place: str = Field(default="", max_length=120, description="Where it stands, in words.")
    provider: str = Field(default="", max_length=120, description="Its access provider.")
    country: str = Field(default="", max_length=60, description="The country that it stands in.")
    person: str = Field(default="", max_length=80, description="Whose machine it is.")
    version: str = Field(default="", max_length=40, description="The agent's version.")
    addresses: list[str] = Field(default_factory=list, max_length=64, description="Its own IP addresses.")


class Enrolment(Shape):
    """What the hub answers to an enrolment: the agent's own token, shown this once."""

    vantage_point: int
    token: str


class Binding(Shape):
    """Through which uplink a probe is sent."""

    interface: str | None = Field(default=None, max_length=15, pattern=r"^[^\s/]+$", description="Interface name.")
    source: str | None = Field(default=None, max_length=45, description="Source IP address.")


class AskedTrial(Shape):
    """A probe to run once, now; its result goes to the trial and is not kept."""

    trial: str
    kind: str
    settings: dict[str, Any]
    binding: Binding


class TrialResult(Shape):
    """What a trial came to; the result's stream and sequence say nothing."""

    units: dict[str, str]
    result: "DeliveredResult"


class AssignedSchedule(Shape):
    """When a probe runs, beyond its interval: `core.schedule.Timing` in JSON."""

    way: Literal["every", "poisson", "daily", "cron"] = "every"
    cron: str = ""
    at: str = "00:00"
    spread_us: int = 0
    zone: str = "UTC"
    quiet: list[tuple[str, str]] = Field(default_factory=list)
    burst_interval_us: int = 0
    burst_for_us: int = 0


class AssignedProbe(Shape):
    """One stream as its agent sees it: what to run, how often, and how to repeat a failed attempt."""

    stream: int
    kind: str
    settings: dict[str, Any]
    interval_us: int = Field(gt=0)
    attempts: int = Field(ge=1)
    attempt_gap_us: int = Field(ge=0)
    binding: Binding
    schedule: AssignedSchedule = Field(default_factory=AssignedSchedule)

    def timing(self) -> Timing:
        """
        Raises
        ------
        SettingsError
            for a schedule that this agent cannot follow.
        """
        told = self.schedule
        return Timing(
            told.way,
            max(self.interval_us, SECOND_US) if told.way in ("every", "poisson") else SECOND_US,
            told.cron,
            told.at,
            told.spread_us,
            told.zone,
            tuple(told.quiet),
            told.burst_interval_us,
            told.burst_for_us,
        )


class Update(Shape):
    """A version that the hub has for its agents, and from when on they take it."""

    version: str
    due_us: Microseconds


class Assignment(Shape):
    """All that an agent has to run."""

    probes: list[AssignedProbe]
    update: Update | None = None


class ClockReading(Shape):
    """The hub's two readings of its clock for one exchange (T2 and T3 of RFC 5905 §8)."""

    received_us: Microseconds
    sent_us: Microseconds


class DeliveredAttempt(Shape):
    started_us: Microseconds
    duration_us: int = Field(ge=0)
    reason: Reason | None = None
    note: str = Field(default="", max_length=500)


class DeliveredResult(Shape):
    """One result under way. Quantities are in the units that the batch states."""

    sequence: int = Field(ge=1)
    stream: int
    started_us: Microseconds
    reason: Reason | None = None
    quantities: dict[str, float] = Field(default_factory=dict, max_length=40)
    facts: dict[str, Annotated[str, Field(max_length=500)]] = Field(default_factory=dict, max_length=20)
    attempts: list[DeliveredAttempt] = Field(min_length=1, max_length=10)
    detail: dict[str, Any] = Field(default_factory=dict)


class Batch(Shape):
    """Results in rising sequence, at most `RESULTS_PER_BATCH`."""

    spool: str = Field(min_length=8, max_length=64, description="Identity of the spool that numbers these results.")
    units: dict[str, str] = Field(description="UCUM unit of every quantity in this batch.")
    results: list[DeliveredResult] = Field(max_length=RESULTS_PER_BATCH)


class Refusal(Shape):
    """A result that the hub cannot take, and why. It is not asked for again."""

    sequence: int
    field: str
    value: str
    remedy: str


class Receipt(Shape):
    """Everything up to `acknowledged` is on disk or refused: the agent may forget it."""

    acknowledged: int
    taken: int
    repeated: int
    refused: list[Refusal]


class Whereabouts(Shape):
    """Where a machine is (WGS 84), in degrees."""

    longitude: float = Field(ge=-180, le=180)
    latitude: float = Field(ge=-90, le=90)

    @classmethod
    def of(cls, position: Position | None) -> "Whereabouts | None":
        return None if position is None else cls(longitude=position.longitude, latitude=position.latitude)


class AgentReport(Shape):
    """How the agent itself is doing."""

    description: AgentDescription
    clock_offset_us: int | None = Field(default=None, description="Hub clock minus agent clock, RFC 5905 §8.")
    clock_error_us: int | None = Field(default=None, description="Half the round trip of the best exchange.")
    scheduling_lag_us: int = Field(ge=0, description="95th percentile of how late the agent woke in the last minute.")
    is_busy: bool = Field(description="The lag is so large that results may show the machine, not the network.")
    spooled: int = Field(ge=0, description="Results waiting for delivery.")
    dropped_details: int = Field(ge=0, description="Details dropped since the spool began, to keep it bounded.")
    dropped_results: int = Field(ge=0, description="Results dropped since the spool began, to keep it bounded.")
    missed_slots: int = Field(ge=0, description="Scheduled runs that could not start since the agent began.")
    position: Whereabouts | None = Field(default=None, description="Where it is, if it can tell.")

"""Plans: when a probe would run and what that would cost, before it is saved."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel.core.error import SettingsError
from kuppel.core.schedule import Timing, in_words, runs_a_day
from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Body, HubDep, at
from kuppel.hub.engine.planning import Cost, check_budget, cost_of, next_runs
from kuppel.hub.hub import now_us
from kuppel.probes.registry import kind_named
from kuppel.probes.secrecy import unmasked
from kuppel.store import inventory

router = APIRouter(tags=["probes"])


class ScheduleShape(Body):
    """When a probe runs, beside its interval."""

    way: Literal["every", "poisson", "daily", "cron"] = Field(
        default="every",
        description="every: evenly; poisson: at random times with the interval as mean; daily: at `at`; cron: by `cron`.",
    )
    cron: str = Field(default="", max_length=100, examples=["*/15 6-18 * * 1-5"], description="A crontab line (POSIX).")
    at: str = Field(default="03:00", description="Time of day of a daily run.")
    spread_s: float = Field(default=0, ge=0, le=43_200, description="Each agent runs later by its own share of this, in s.")
    zone: str = Field(default="UTC", max_length=60, examples=["Europe/Oslo"], description="Zone of all times of day here.")
    quiet: list[tuple[str, str]] = Field(
        default_factory=list, max_length=8, examples=[[("22:00", "05:00")]], description="When nothing is run, from and to."
    )
    burst_interval_s: float = Field(default=0, ge=0, le=86_400, description="After a failed run, run every so many s …")
    burst_for_s: float = Field(default=0, ge=0, le=86_400, description="… for so many s.")

    def timing(self, interval_s: float) -> Timing:
        return Timing(
            self.way,
            round(interval_s * 1e6),
            self.cron.strip() if self.way == "cron" else "",
            self.at,
            round(self.spread_s * 1e6),
            self.zone,
            tuple(self.quiet),
            round(self.burst_interval_s * 1e6),
            round(self.burst_for_s * 1e6),
        )

    @classmethod
    def of(cls, timing: Timing) -> "ScheduleShape":
        return cls(
            way=timing.way,
            cron=timing.cron,
            at=timing.at,
            spread_s=timing.spread_us / 1e6,
            zone=timing.zone,
            quiet=list(timing.quiet),
            burst_interval_s=timing.burst_interval_us / 1e6,
            burst_for_s=timing.burst_for_us / 1e6,
        )


class CostShape(BaseModel):
    """About what a probe costs each agent that runs it."""

    runs_a_day: float
    octets_a_run: int
    octets_a_day: float

    @classmethod
    def of(cls, cost: Cost) -> "CostShape":
        return cls(runs_a_day=round(cost.runs_a_day, 2), octets_a_run=cost.octets_a_run, octets_a_day=cost.octets_a_day)


class NewPlan(Body):
    """A probe that may not be saved yet, as far as its cost goes."""

    kind: str
    settings: dict[str, Any] = Field(description="As far as they are known.")
    interval_s: float = Field(ge=1, le=86_400 * 7)
    schedule: ScheduleShape = Field(default_factory=ScheduleShape)
    vantage_points: list[int] = Field(default_factory=list)
    probe: int | None = Field(default=None, description="The probe whose credentials masks in the settings stand for.")


class PlanShape(BaseModel):
    """What each agent, and all together, would do in a day."""

    each: CostShape
    wrong: str = Field(
        description="What is missing or wrong in the settings, in words; then octets are not known. Or empty."
    )
    runs_a_day: float
    octets_a_day: float
    schedule: str = Field(description="When it runs, in words.")
    next_runs: list[datetime] = Field(description="The next times at which one agent would run it.")


@router.post("/probes/plan", summary="What a probe would cost", responses=responses(422), dependencies=[may(Access.SEE)])
def plan(new: NewPlan, hub: HubDep) -> PlanShape:
    """For each agent and all together, without saving anything."""
    kind = kind_named(new.kind)
    kept: Mapping[str, Any] = {}
    if new.probe is not None:
        with hub.database.reading() as connection:
            kept = hub.credentials(inventory.probe(connection, new.probe))
    timing = new.schedule.timing(new.interval_s)
    wrong = ""
    try:
        settings = kind.parse(unmasked(new.settings, kept))
        check_budget(kind, settings, timing)
        cost = cost_of(kind, settings, timing)
    except SettingsError as error:
        wrong = str(error)
        cost = Cost(runs_a_day(timing), 0)
    count = len(set(new.vantage_points))
    each = CostShape.of(cost)
    return PlanShape(
        each=each,
        wrong=wrong,
        runs_a_day=each.runs_a_day * count,
        octets_a_day=each.octets_a_day * count,
        schedule=in_words(timing),
        next_runs=[at(one) for one in next_runs(timing, now_us(), 3)],
    )

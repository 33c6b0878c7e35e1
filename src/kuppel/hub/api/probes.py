"""Probes: what is measured how, how often, from where, and what is expected of it."""

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from typing import Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from kuppel.core.error import SettingsError
from kuppel.core.limit import Limit
from kuppel.core.quantity import QUANTITIES, check_unit
from kuppel.core.reason import SENTENCES
from kuppel.core.schedule import Timing, in_words, next_run, runs_a_day, usual_gap
from kuppel.core.state import Judgement
from kuppel.hub.api.guard import Access, Editor, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep, at
from kuppel.hub.api.targets import Tag
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.hub import Hub, now_us
from kuppel.probes.kind import Kind
from kuppel.probes.registry import KINDS, kind_named
from kuppel.probes.secrecy import masked, unmasked
from kuppel.store import groups, inventory
from kuppel.store.database import Connection
from kuppel.store.inventory import Probe
from kuppel.wire.delivery import Binding

router = APIRouter(tags=["probes"])


class LimitShape(BaseModel):
    """Limits of one quantity, in the unit stated, which must be the quantity's own."""

    model_config = ConfigDict(extra="forbid")

    quantity: str = Field(examples=["total"])
    unit: str = Field(examples=["ms"], description="UCUM unit of the three levels.")
    degraded: float | None = Field(default=None, examples=[650])
    breached: float | None = Field(default=None, examples=[800])
    clear: float | None = Field(default=None, examples=[600], description="Where it clears; the milder level if left out.")


class JudgementShape(BaseModel):
    """n of the last m runs decide."""

    n: int = Field(default=2, examples=[2])
    m: int = Field(default=3, examples=[3])


class ScheduleShape(BaseModel):
    """When a probe runs, beside its interval."""

    model_config = ConfigDict(extra="forbid")

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


class NewProbe(BaseModel):
    """A probe to add. Settings are those of its kind: see `GET /api/probe-kinds`."""

    model_config = ConfigDict(extra="forbid")

    name: str = Field(min_length=1, max_length=80, examples=["booking front page"])
    kind: str = Field(examples=["http"])
    target: int = Field(description="Id of the target that it measures.")
    settings: dict[str, Any] = Field(examples=[{"url": "https://booking.skerry.example/"}])
    interval_s: float = Field(ge=1, le=86_400 * 7, examples=[60], description="Time between two runs, in s.")
    attempts: int = Field(default=2, ge=1, le=5, description="How many tries before a run counts as failed.")
    attempt_gap_ms: int = Field(default=500, ge=0, le=60_000, description="Pause before the next try, in ms.")
    binding: Binding = Field(default_factory=Binding, description="Uplink to send through.")
    limits: list[LimitShape] = Field(default_factory=list, max_length=20)
    judgement: JudgementShape = Field(default_factory=JudgementShape)
    is_enabled: bool = True
    vantage_points: list[int] = Field(default_factory=list, description="Ids of the vantage points that run it.")
    schedule: ScheduleShape = Field(default_factory=ScheduleShape)
    tags: list[Tag] = Field(default_factory=list, max_length=20)


class ProbeShape(NewProbe):
    id: int
    told: "ToldShape" = Field(description="What follows from it; not part of what can be changed.")


class ToldShape(BaseModel):
    kind_label: str
    target_name: str
    schedule: str = Field(examples=["every 60 s"], description="When it runs, in words.")
    cost: "CostShape"


class CostShape(BaseModel):
    """About what a probe costs each agent that runs it."""

    runs_a_day: float
    octets_a_run: int
    octets_a_day: float


class NewPlan(BaseModel):
    """A probe that may not be saved yet, as far as its cost goes."""

    model_config = ConfigDict(extra="forbid")

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


class ProbeChanges(BaseModel):
    """The same change to many probes. What is left out stays as it is."""

    model_config = ConfigDict(extra="forbid")

    probes: list[int] = Field(min_length=1, max_length=1000)
    is_enabled: bool | None = None
    interval_s: float | None = Field(default=None, ge=1, le=86_400 * 7)
    attempts: int | None = Field(default=None, ge=1, le=5)
    add_vantage_points: list[int] = Field(default_factory=list)
    remove_vantage_points: list[int] = Field(default_factory=list)
    add_tags: list[Tag] = Field(default_factory=list)
    remove_tags: list[Tag] = Field(default_factory=list)


class KindShape(BaseModel):
    """A probe kind: its settings as JSON Schema, what it measures and why it may fail."""

    name: str
    label: str
    settings: dict[str, Any]
    main: str
    quantities: dict[str, str] = Field(description="UCUM unit by quantity.")
    phases: list[str]
    reasons: dict[str, str] = Field(description="Sentence by reason.")
    about: str = Field(description="What it does and what its figures mean, in one paragraph.")
    interval_s: float = Field(description="The trade's usual time between two runs, in s.")
    labels: dict[str, str] = Field(description="Words by quantity.")
    worse: dict[str, str] = Field(description="Which way is worse, by quantity: higher or lower.")


def _stored(hub: Hub, new: NewProbe, probe_id: int, kept: Mapping[str, Any]) -> Probe:
    """The probe as it is stored. A mask in its settings stands for the credential that is `kept` in that place."""
    kind = kind_named(new.kind)
    settings = kind.parse(unmasked(new.settings, kept))
    secret = settings.secret_part()
    limits = []
    for number, one in enumerate(new.limits):
        check_unit(one.quantity, one.unit, f"limits.{number}.unit")
        if one.quantity not in kind.quantities:
            raise SettingsError(
                f"limits.{number}.quantity", one.quantity, f"be what {kind.name} measures: {', '.join(kind.quantities)}"
            )
        limits.append(Limit(one.quantity, one.degraded, one.breached, one.clear))
    timing = new.schedule.timing(new.interval_s)
    _check_budget(kind, settings, timing)
    return Probe(
        id=probe_id,
        name=new.name,
        kind=new.kind,
        target_id=new.target,
        settings=masked(settings.model_dump(mode="json"), secret),
        sealed=hub.sealed_credentials(secret),
        interval_us=usual_gap(timing),
        attempts=new.attempts,
        attempt_gap_us=new.attempt_gap_ms * 1000,
        interface=new.binding.interface,
        source=new.binding.source,
        limits=tuple(limits),
        judgement=Judgement(new.judgement.n, new.judgement.m),
        is_enabled=new.is_enabled,
        vantage_point_ids=tuple(sorted(set(new.vantage_points))),
        timing=timing,
        tags=tuple(dict.fromkeys(new.tags)),
    )


def _check_budget(kind: Kind, settings: Any, timing: Timing) -> None:
    """A probe whose schedule alone needs more than its budget would fail every day at some hour."""
    budget_mb = getattr(settings, "budget_mb_a_day", None)
    needed_mb = kind.octets(settings) * runs_a_day(timing) / 1e6
    if budget_mb is not None and needed_mb > budget_mb:
        raise SettingsError(
            "settings.budget_mb_a_day",
            f"{budget_mb:g} MB",
            f"be at least the {needed_mb:,.0f} MB that its schedule needs; or run it less often, or move less",
        )


def cost_of(kind: Kind, settings: Any, timing: Timing) -> CostShape:
    runs, octets = runs_a_day(timing), kind.octets(settings)
    return CostShape(runs_a_day=round(runs, 2), octets_a_run=octets, octets_a_day=round(runs * octets))


def stored_cost(probe: Probe) -> CostShape:
    kind = KINDS[probe.kind]
    return cost_of(kind, kind.settings.model_construct(**_defaults(kind) | dict(probe.settings)), probe.timing)


def _defaults(kind: Kind) -> dict[str, Any]:
    fields = kind.settings.model_fields.items()
    return {name: field.get_default(call_default_factory=True) for name, field in fields if not field.is_required()}


def _shape(probe: Probe, targets: Mapping[int, str]) -> ProbeShape:
    return ProbeShape(
        told=ToldShape(
            kind_label=KINDS[probe.kind].label,
            target_name=targets.get(probe.target_id, ""),
            schedule=in_words(probe.timing),
            cost=stored_cost(probe),
        ),
        schedule=ScheduleShape.of(probe.timing),
        tags=list(probe.tags),
        id=probe.id,
        name=probe.name,
        kind=probe.kind,
        target=probe.target_id,
        settings=dict(probe.settings),
        interval_s=probe.interval_us / 1e6,
        attempts=probe.attempts,
        attempt_gap_ms=probe.attempt_gap_us // 1000,
        binding=Binding(interface=probe.interface, source=probe.source),
        limits=[
            LimitShape(
                quantity=one.quantity,
                unit=QUANTITIES[one.quantity].unit,
                degraded=one.degraded,
                breached=one.breached,
                clear=one.clear,
            )
            for one in probe.limits
        ],
        judgement=JudgementShape(n=probe.judgement.n, m=probe.judgement.m),
        is_enabled=probe.is_enabled,
        vantage_points=list(probe.vantage_point_ids),
    )


@router.get("/probe-kinds", summary="List probe kinds", dependencies=[may(Access.SEE)])
def list_kinds() -> list[KindShape]:
    return [
        KindShape(
            name=kind.name,
            label=kind.label,
            settings=kind.settings.model_json_schema(),
            main=kind.main,
            quantities={name: QUANTITIES[name].unit for name in kind.quantities},
            phases=list(kind.phases),
            reasons={str(reason): SENTENCES[reason] for reason in kind.reasons},
            about=kind.about,
            interval_s=kind.interval_s,
            labels={name: QUANTITIES[name].label for name in kind.quantities},
            worse={name: QUANTITIES[name].worse for name in kind.quantities},
        )
        for kind in KINDS.values()
    ]


@router.get("/probes", summary="List probes", dependencies=[may(Access.SEE)])
def list_probes(hub: HubDep) -> list[ProbeShape]:
    with hub.database.reading() as connection:
        targets = target_names(connection)
        return [_shape(one, targets) for one in inventory.probes(connection)]


def target_names(connection: Connection) -> dict[int, str]:
    return {one.id: one.name for one in inventory.targets(connection)}


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
        _check_budget(kind, settings, timing)
        each = cost_of(kind, settings, timing)
    except SettingsError as error:
        wrong = str(error)
        each = CostShape(runs_a_day=round(runs_a_day(timing), 2), octets_a_run=0, octets_a_day=0)
    count = len(set(new.vantage_points))
    times: list[int] = []
    at_us = now_us()
    while len(times) < 3:
        at_us = next_run(timing, at_us, "plan", 0.5)
        times.append(at_us)
    return PlanShape(
        each=each,
        wrong=wrong,
        runs_a_day=each.runs_a_day * count,
        octets_a_day=each.octets_a_day * count,
        schedule=in_words(timing),
        next_runs=[at(one) for one in times],
    )


@router.post("/probes/changes", summary="Change many probes at once", responses=responses(404, 422, 429, 507))
def change_probes(changes: ProbeChanges, hub: HubDep, caller: Editor) -> list[ProbeShape]:
    """All of them, or none."""

    def job(connection: Connection) -> Changed[list[Probe]]:
        made = []
        for probe_id in dict.fromkeys(changes.probes):
            made.append(
                inventory.change_probe(connection, _changed(inventory.probe(connection, probe_id), changes), now_us())
            )
        told = changes.model_dump(exclude={"probes"}, exclude_defaults=True)
        names = ", ".join(one.name for one in made)
        return Changed(made, f"{len(made)} probes: {names}"[:300], None, told)

    made = change(hub.writer, caller, "changed", now_us(), job)
    hub.judge.load()
    with hub.database.reading() as connection:
        targets = target_names(connection)
    return [_shape(one, targets) for one in made]


def _changed(probe: Probe, changes: ProbeChanges) -> Probe:
    timing = probe.timing
    if changes.interval_s is not None:
        if timing.way not in ("every", "poisson"):
            raise SettingsError("interval_s", changes.interval_s, f"be left out: {probe.name} runs at times of the day")
        timing = replace(timing, interval_us=round(changes.interval_s * 1e6))
    points = (set(probe.vantage_point_ids) | set(changes.add_vantage_points)) - set(changes.remove_vantage_points)
    tags = [one for one in dict.fromkeys((*probe.tags, *changes.add_tags)) if one not in changes.remove_tags]
    return replace(
        probe,
        interval_us=usual_gap(timing),
        timing=timing,
        attempts=probe.attempts if changes.attempts is None else changes.attempts,
        is_enabled=probe.is_enabled if changes.is_enabled is None else changes.is_enabled,
        vantage_point_ids=tuple(sorted(points)),
        tags=tuple(tags),
    )


@router.post("/probes", status_code=201, summary="Add a probe", responses=responses(422, 429, 507))
def add_probe(new: NewProbe, hub: HubDep, caller: Editor) -> ProbeShape:
    stored = _stored(hub, new, 0, {})

    def job(connection: Connection) -> Changed[Probe]:
        made = inventory.add_probe(connection, stored, now_us())
        return Changed(made, f"probe {made.name}", None, _told(made), made.target_id)

    made = change(hub.writer, caller, "added", now_us(), job)
    hub.judge.load()
    return _read(hub, made)


def _read(hub: Hub, probe: Probe) -> ProbeShape:
    with hub.database.reading() as connection:
        return _shape(probe, target_names(connection))


@router.get("/probes/{probe}", summary="Read a probe", responses=responses(404), dependencies=[may(Access.SEE)])
def read_probe(probe: int, hub: HubDep) -> ProbeShape:
    with hub.database.reading() as connection:
        return _shape(inventory.probe(connection, probe), target_names(connection))


@router.put("/probes/{probe}", summary="Change a probe", responses=responses(404, 422, 429, 507))
def change_probe(probe: int, changed: NewProbe, hub: HubDep, caller: Editor) -> ProbeShape:
    """Its agents hear of it within seconds. Its kind cannot change: another kind is another probe."""
    with hub.database.reading() as connection:
        kept = hub.credentials(inventory.probe(connection, probe))
    stored = _stored(hub, changed, probe, kept)

    def job(connection: Connection) -> Changed[Probe]:
        before = inventory.probe(connection, probe)
        after = inventory.change_probe(connection, stored, now_us())
        return Changed(after, f"probe {after.name}", _told(before), _told(after), after.target_id)

    made = change(hub.writer, caller, "changed", now_us(), job)
    hub.judge.load()
    return _read(hub, made)


@router.delete("/probes/{probe}", status_code=204, summary="Remove a probe with its streams", responses=responses(404, 429))
def remove_probe(probe: int, hub: HubDep, caller: Editor) -> None:
    """Cannot be undone. To stop measuring and keep what was measured, change `is_enabled` instead."""

    def job(connection: Connection) -> Changed[None]:
        before = inventory.probe(connection, probe)
        inventory.remove_probe(connection, probe)
        groups.forget_member(connection, "probe", probe)
        return Changed(None, f"probe {before.name}", _told(before), None, before.target_id)

    change(hub.writer, caller, "removed", now_us(), job)
    hub.judge.load()


def _told(probe: Probe) -> dict[str, Any]:
    """What the record says of a probe: all but its credentials, which are masked in its settings."""
    return _shape(probe, {}).model_dump(mode="json", exclude={"id", "told"})

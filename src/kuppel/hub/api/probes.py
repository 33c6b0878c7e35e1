"""Probes: what is measured how, how often, from where, and what is expected of it."""

from collections.abc import Mapping
from functools import cache
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel.core.error import SettingsError
from kuppel.core.limit import Limit
from kuppel.core.quantity import QUANTITIES, check_unit
from kuppel.core.reason import SENTENCES
from kuppel.core.schedule import in_words, usual_gap
from kuppel.core.state import Judgement
from kuppel.hub.api.guard import Access, Editor, may
from kuppel.hub.api.plans import CostShape, ScheduleShape
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Body, HubDep
from kuppel.hub.api.targets import Tag
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.engine.planning import Changes, changed, check_budget, stored_cost
from kuppel.hub.hub import Hub, now_us
from kuppel.probes.registry import KINDS, kind_named
from kuppel.probes.secrecy import masked, unmasked
from kuppel.store import groups, inventory
from kuppel.store.database import Connection
from kuppel.store.inventory import Probe
from kuppel.wire.delivery import Binding

router = APIRouter(tags=["probes"])


class LimitShape(Body):
    """Limits of one quantity, in the unit stated, which must be the quantity's own."""

    quantity: str = Field(examples=["total"])
    unit: str = Field(examples=["ms"], description="UCUM unit of the three levels.")
    degraded: float | None = Field(default=None, examples=[650])
    breached: float | None = Field(default=None, examples=[800])
    clear: float | None = Field(default=None, examples=[600], description="Where it clears; the milder level if left out.")


def limits_of(probe: Probe) -> list[LimitShape]:
    return [
        LimitShape(
            quantity=one.quantity,
            unit=QUANTITIES[one.quantity].unit,
            degraded=one.degraded,
            breached=one.breached,
            clear=one.clear,
        )
        for one in probe.limits
    ]


class JudgementShape(BaseModel):
    """n of the last m runs decide."""

    n: int = Field(default=2, examples=[2])
    m: int = Field(default=3, examples=[3])


class NewProbe(Body):
    """A probe to add. Settings are those of its kind: see `GET /api/probe-kinds`."""

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
    cost: CostShape


class ProbeChanges(Body):
    """The same change to many probes. What is left out stays as it is."""

    probes: list[int] = Field(min_length=1, max_length=1000)
    is_enabled: bool | None = None
    interval_s: float | None = Field(default=None, ge=1, le=86_400 * 7)
    attempts: int | None = Field(default=None, ge=1, le=5)
    add_vantage_points: list[int] = Field(default_factory=list)
    remove_vantage_points: list[int] = Field(default_factory=list)
    add_tags: list[Tag] = Field(default_factory=list)
    remove_tags: list[Tag] = Field(default_factory=list)

    def changes(self) -> Changes:
        return Changes(
            self.is_enabled,
            None if self.interval_s is None else round(self.interval_s * 1e6),
            self.attempts,
            frozenset(self.add_vantage_points),
            frozenset(self.remove_vantage_points),
            tuple(self.add_tags),
            frozenset(self.remove_tags),
        )


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
    check_budget(kind, settings, timing)
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


def _shape(probe: Probe, targets: Mapping[int, str]) -> ProbeShape:
    return ProbeShape(
        told=ToldShape(
            kind_label=KINDS[probe.kind].label,
            target_name=targets.get(probe.target_id, ""),
            schedule=in_words(probe.timing),
            cost=CostShape.of(stored_cost(probe)),
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
        limits=limits_of(probe),
        judgement=JudgementShape(n=probe.judgement.n, m=probe.judgement.m),
        is_enabled=probe.is_enabled,
        vantage_points=list(probe.vantage_point_ids),
    )


@router.get("/probe-kinds", summary="List probe kinds", dependencies=[may(Access.SEE)])
def list_kinds() -> list[KindShape]:
    return _kinds()


@cache
def _kinds() -> list[KindShape]:
    """Of this program, whoever asks: their schemas take a while to make."""
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


@router.post("/probes/changes", summary="Change many probes at once", responses=responses(404, 422, 429, 507))
def change_probes(changes: ProbeChanges, hub: HubDep, caller: Editor) -> list[ProbeShape]:
    """All of them, or none."""

    def job(connection: Connection) -> Changed[list[Probe]]:
        made = []
        for probe_id in dict.fromkeys(changes.probes):
            after = changed(inventory.probe(connection, probe_id), changes.changes())
            made.append(inventory.change_probe(connection, after, now_us()))
        told = changes.model_dump(exclude={"probes"}, exclude_defaults=True)
        names = ", ".join(one.name for one in made)
        return Changed(made, f"{len(made)} probes: {names}"[:300], None, told)

    made = change(hub.writer, caller, "changed", now_us(), job)
    hub.judge.load()
    with hub.database.reading() as connection:
        targets = target_names(connection)
    return [_shape(one, targets) for one in made]


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
def change_probe(probe: int, new: NewProbe, hub: HubDep, caller: Editor) -> ProbeShape:
    """Its agents hear of it within seconds. Its kind cannot change: another kind is another probe."""
    with hub.database.reading() as connection:
        kept = hub.credentials(inventory.probe(connection, probe))
    stored = _stored(hub, new, probe, kept)

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

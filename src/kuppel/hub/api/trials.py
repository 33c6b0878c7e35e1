"""Try it now: an unsaved probe, run once from chosen vantage points, shown in full, and forgotten after ten minutes."""

from datetime import datetime
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel.core.error import SettingsError
from kuppel.hub.api.guard import Access, Editor, may
from kuppel.hub.api.problem import Refusal, responses
from kuppel.hub.api.run import QuantityShape, RunShape, delivered_run, quantities_of
from kuppel.hub.api.shapes import Body, HubDep, at
from kuppel.hub.engine.trials import Trial, TrialState
from kuppel.hub.hub import Hub, now_us
from kuppel.probes.registry import kind_named
from kuppel.probes.secrecy import unmasked
from kuppel.store import inventory
from kuppel.store.record import Entry, add_entry
from kuppel.wire.delivery import Binding

router = APIRouter(prefix="/trials", tags=["probes"])

_MOST_POINTS = 20


class NewTrial(Body):
    """What to try. With `probe`, masks in the settings stand for that probe's credentials."""

    kind: str = Field(examples=["http"])
    settings: dict[str, Any]
    vantage_points: list[int] = Field(min_length=1, max_length=_MOST_POINTS)
    binding: Binding = Field(default_factory=Binding)
    probe: int | None = None


class TrialPart(BaseModel):
    """One vantage point's part: how far it is, and its result once it is done."""

    vantage_point: int
    name: str
    state: TrialState
    words: str = Field(description="How far it is, in words.")
    run: RunShape | None


class TrialShape(BaseModel):
    trial: str
    kind: str
    kind_label: str
    main: str
    unit: str
    phases: list[str]
    quantities: list[QuantityShape]
    asked: datetime
    is_done: bool = Field(description="Whether nothing more will come.")
    parts: list[TrialPart]


_WORDS = {
    TrialState.ASKED: "waits for its agent",
    TrialState.RUNNING: "is being run",
    TrialState.DONE: "is done",
    TrialState.LATE: "did not come back in time: its agent is away, or cannot run this",
}


@router.post("", status_code=201, summary="Try a probe without saving it", responses=responses(404, 422, 429))
def try_probe(new: NewTrial, hub: HubDep, caller: Editor) -> TrialShape:
    kind = kind_named(new.kind)
    kept: dict[str, Any] = {}
    points = sorted(set(new.vantage_points))
    with hub.database.reading() as connection:
        if new.probe is not None:
            kept = dict(hub.credentials(inventory.probe(connection, new.probe)))
        names = {one.id: one.name for one in inventory.vantage_points(connection) if one.has_token}
    if unknown := [one for one in points if one not in names]:
        raise SettingsError("vantage_points", unknown[0], "be the id of a vantage point whose agent is let in")
    settings = unmasked(new.settings, kept)
    kind.parse(settings)
    trial = hub.trials.ask(caller.name, kind.name, settings, new.binding, points, now_us())
    told = {"from": [names[one] for one in points]}
    subject = f"a {kind.label} probe, without saving it"
    entry = Entry(now_us(), caller.kind, caller.name, caller.address, "tried", subject, None, told)
    hub.writer.write(lambda connection: add_entry(connection, entry))
    return _shape(hub, trial)


@router.get("/{trial}", summary="What a trial came to", responses=responses(404), dependencies=[may(Access.EDIT)])
def read_trial(trial: str, hub: HubDep) -> TrialShape:
    found = hub.trials.trial(trial)
    if found is None:
        raise Refusal(404, "There is no such trial.", remedy="Trials are forgotten after ten minutes. Try again.")
    return _shape(hub, found)


def _shape(hub: Hub, trial: Trial) -> TrialShape:
    kind = kind_named(trial.kind)
    now = now_us()
    quantities = quantities_of(kind)
    with hub.database.reading() as connection:
        names = {one.id: one.name for one in inventory.vantage_points(connection)}
    parts = []
    for part in trial.parts.values():
        state = trial.state(part, now)
        parts.append(
            TrialPart(
                vantage_point=part.vantage_point_id,
                name=names.get(part.vantage_point_id, "gone"),
                state=state,
                words=_WORDS[state],
                run=None if part.result is None else delivered_run(part.result),
            )
        )
    return TrialShape(
        trial=trial.id,
        kind=kind.name,
        kind_label=kind.label,
        main=kind.main,
        unit=next(one.unit for one in quantities if one.name == kind.main),
        phases=list(kind.phases),
        quantities=quantities,
        asked=at(trial.asked_us),
        is_done=all(one.state in (TrialState.DONE, TrialState.LATE) for one in parts),
        parts=parts,
    )

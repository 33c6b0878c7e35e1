"""What agents ask of their hub: enrolment, assignment, clock, delivery, report."""

import hashlib
from dataclasses import replace
from typing import Annotated

from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.concurrency import run_in_threadpool

from kuppel import __version__
from kuppel.core.error import SettingsError
from kuppel.core.position import Position
from kuppel.core.quantity import check_unit
from kuppel.hub import package
from kuppel.hub.api.guard import Access, bearer, may, note_token_refused, unauthorised
from kuppel.hub.api.problem import Refusal, responses
from kuppel.hub.api.shapes import HubDep
from kuppel.hub.engine import reception
from kuppel.hub.engine.access import Caller, TokenRefused, digest, new_token
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.hub import Hub, now_us
from kuppel.probes.secrecy import unmasked
from kuppel.store import inventory, positions, tokens
from kuppel.store.database import Connection
from kuppel.store.intake import take_batch
from kuppel.store.inventory import VantagePoint
from kuppel.store.positions import Fix
from kuppel.store.record import Entry
from kuppel.wire.delivery import (
    AgentDescription,
    AgentReport,
    AskedTrial,
    AssignedProbe,
    AssignedSchedule,
    Assignment,
    Binding,
    ClockReading,
    Enrolment,
    Receipt,
    TrialResult,
    Update,
)

router = APIRouter(prefix="/agents", tags=["agents"])


def own_vantage_point(hub: HubDep, caller: Annotated[Caller, may(Access.AGENT)]) -> VantagePoint:
    """The vantage point whose agent is calling."""
    assert caller.vantage_point_id is not None  # the guard saw to it
    with hub.database.reading() as connection:
        return inventory.vantage_point(connection, caller.vantage_point_id)


OwnDep = Annotated[VantagePoint, Depends(own_vantage_point)]
AgentDep = Annotated[Caller, may(Access.AGENT)]


@router.post("/enrolments", status_code=201, summary="Enrol a vantage point", responses=responses(401, 409, 422, 429, 507))
def enrol(
    description: AgentDescription, request: Request, hub: HubDep, caller: Annotated[Caller, may(Access.JOINING)]
) -> Enrolment:
    """Trades an enrolment token for a token of the agent's own, shown this once. What the enrolment token says of kind,
    place and tags counts. A name that is taken needs an enrolment token made for that vantage point."""
    shown = bearer(request)
    if shown is None:
        raise unauthorised("This needs an enrolment token.", "Send it as Authorization: Bearer.")
    now, token = now_us(), new_token("agent")

    def job(connection: Connection) -> Changed[int]:
        found = tokens.enrolment_token_by_digest(connection, digest(shown))
        # Looked at inside the commit: of two that show the last use at once, one is refused.
        why = "there is no such enrolment token" if found is None else found.state.refusal(now)
        if found is None or why is not None:
            raise TokenRefused("" if found is None else f"enrolment token {found.name or found.id}", why or "")
        values = description.model_dump() | {"kind": found.kind}
        if found.place:
            values["place"] = found.place
        try:
            point = inventory.enrol(
                connection, values, digest(token), now, tags=found.tags, known_id=found.vantage_point_id
            )
        except SettingsError as error:
            raise Refusal(
                409,
                f"There is a vantage point called {description.name} already.",
                remedy="Choose another name with --name, or have an enrolment token made for that vantage point.",
                field=error.field,
            ) from None
        tokens.note_enrolment(connection, found.id)
        told = {"enrolment token": found.name or found.id, "version": description.version, "tags": list(found.tags)}
        return Changed(point, f"vantage point {description.name}", None, told)

    try:
        joining = replace(caller, kind="agent", name=description.name)
        return Enrolment(vantage_point=change(hub.writer, joining, "enrolled", now, job), token=token)
    except TokenRefused as refused:
        note_token_refused(hub, request, refused)
        raise unauthorised(f"This enrolment token cannot be used: {refused.why}.", "Have a new one made.") from None


@router.get(
    "/self/assignment",
    summary="What the calling agent has to run",
    response_model=Assignment,
    responses=responses(401) | {304: {"description": "It is what it was."}},
)
def assignment(own: OwnDep, hub: HubDep, request: Request) -> Response:
    """Answered with an ETag, and 304 while nothing changed."""
    with hub.database.reading() as connection:
        probes = {one.id: one for one in inventory.probes(connection)}
        streams = inventory.streams_of(connection, own.id)
    assigned = [
        AssignedProbe(
            stream=one.id,
            kind=probe.kind,
            settings=unmasked(probe.settings, hub.credentials(probe)),
            interval_us=probe.interval_us,
            attempts=probe.attempts,
            attempt_gap_us=probe.attempt_gap_us,
            binding=Binding(interface=probe.interface, source=probe.source),
            schedule=AssignedSchedule(
                way=probe.timing.way,
                cron=probe.timing.cron,
                at=probe.timing.at,
                spread_us=probe.timing.spread_us,
                zone=probe.timing.zone,
                quiet=list(probe.timing.quiet),
                burst_interval_us=probe.timing.burst_interval_us,
                burst_for_us=probe.timing.burst_for_us,
            ),
        )
        for one in streams
        for probe in [probes[one.probe_id]]
    ]
    update = None if own.update_due_us is None else Update(version=__version__, due_us=own.update_due_us)
    body = Assignment(probes=assigned, update=update).model_dump_json().encode()
    etag = f'"{hashlib.sha256(body).hexdigest()[:32]}"'
    if request.headers.get("If-None-Match") == etag:
        return Response(status_code=304, headers={"ETag": etag})
    return Response(body, media_type="application/json", headers={"ETag": etag, "Cache-Control": "no-store"})


async def _arrival() -> int:
    """When the question arrived, before it is looked at who asks."""
    return now_us()


@router.get("/self/clock", summary="Read the hub's clock", responses=responses(401))
async def clock(received_us: Annotated[int, Depends(_arrival)], _caller: AgentDep) -> ClockReading:
    """T2 and T3 of an RFC 5905 exchange: when the question arrived and when the answer leaves."""
    return ClockReading(received_us=received_us, sent_us=now_us())


@router.put("/self/report", status_code=204, summary="Report how the agent is doing", responses=responses(401, 422, 429))
def report(own: OwnDep, told: AgentReport, hub: HubDep, caller: AgentDep) -> None:
    own_words = told.model_dump(exclude={"description", "position"})
    values = told.description.model_dump() | own_words | {"seen_from": caller.address}
    moment_us = now_us()

    def note(connection: Connection) -> None:
        inventory.note_report(connection, own.id, values, moment_us)
        if told.position is not None:
            where = Position(told.position.longitude, told.position.latitude)
            positions.note(connection, own.id, Fix(moment_us, where))

    hub.writer.write(note)


@router.get("/self/trials", summary="What the calling agent has to try now", responses=responses(401))
async def trials(
    own: OwnDep, hub: HubDep, wait_s: Annotated[float, Query(ge=0, le=50, description="How long to wait for one.")] = 25
) -> list[AskedTrial]:
    """Answers as soon as something is to be tried, or with nothing when the time is over."""
    return await hub.trials.wait(own.id, wait_s, now_us())


@router.post(
    "/self/trials/{trial}", status_code=204, summary="Deliver a trial's result", responses=responses(401, 404, 422)
)
def deliver_trial(trial: str, told: TrialResult, own: OwnDep, hub: HubDep) -> None:
    for name, unit in told.units.items():
        check_unit(name, unit, f"units.{name}")
    if not hub.trials.take(trial, own.id, told.result, told.units):
        raise Refusal(404, "Nobody waits for this trial any more.", remedy="Forget it.")


@router.get("/join", summary="The program that puts an agent on a machine", dependencies=[may(Access.ANYBODY)])
def join(request: Request) -> Response:
    """Python, to be run by `python3` on that machine with an enrolment token in KUPPEL_AGENT_TOKEN."""
    return Response(package.joining(str(request.base_url).rstrip("/")), media_type="text/x-python; charset=utf-8")


@router.get("/package/{name}", summary="The agent's package", responses=responses(404), dependencies=[may(Access.ANYBODY)])
def agent_package(name: str) -> Response:
    """This hub's own version, as a Python wheel."""
    if name != package.wheel_name():
        raise Refusal(404, "There is no such package.", remedy=f"This hub has {package.wheel_name()}.")
    return Response(package.wheel(), media_type="application/zip")


@router.post(
    "/self/batches",
    summary="Deliver results",
    responses=responses(401, 413, 422, 429, 507),
    openapi_extra={
        "requestBody": {
            "required": True,
            "description": "JSON, plain or packed with zstd (Content-Encoding).",
            "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Batch"}}},
        }
    },
)
async def deliver(request: Request, caller: AgentDep, own: OwnDep, hub: HubDep) -> Receipt:
    """Takes each result once, however often it is sent. Answered after the commit: what is acknowledged is on disk."""
    body = await request.body()
    encoding = request.headers.get("Content-Encoding", "")
    return await run_in_threadpool(_take, hub, caller, own, body, encoding)


def _take(hub: Hub, caller: Caller, own: VantagePoint, body: bytes, encoding: str) -> Receipt:
    batch, unreadable, last = reception.read_batch(reception.unpacked(body, encoding))
    with hub.database.reading() as connection:
        streams = inventory.all_streams_of(connection, own.id)
    good, refused = reception.checked(batch.results, batch.units, streams, now_us(), hub.settings.keep_days)
    refused = sorted(unreadable + refused, key=lambda one: one.sequence)
    if strangers := [one.value for one in refused if one.field == "stream"]:
        subject = f"results of streams that are not its own: {', '.join(sorted(set(strangers))[:5])}"
        hub.access.note_refusal(Entry(now_us(), "agent", own.name, caller.address, "refused", subject))
    intake = hub.writer.write(lambda connection: take_batch(connection, own.id, batch.spool, good, last, len(refused)))
    hub.judge.take(intake.taken)
    return Receipt(acknowledged=intake.acknowledged, taken=len(intake.taken), repeated=intake.repeated, refused=refused)

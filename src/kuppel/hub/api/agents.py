"""What agents ask of their hub: enrolment, assignment, clock, delivery, report."""

import hashlib
import hmac
import secrets
from typing import Annotated

from fastapi import APIRouter, Depends, HTTPException, Request, Response
from fastapi.concurrency import run_in_threadpool

from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep
from kuppel.hub.engine import reception
from kuppel.hub.hub import Hub, now_us, token_hash
from kuppel.store import inventory
from kuppel.store.intake import take_batch
from kuppel.store.inventory import VantagePoint
from kuppel.wire.delivery import (
    BATCH_BYTES,
    AgentDescription,
    AgentReport,
    AssignedProbe,
    Assignment,
    Binding,
    ClockReading,
    Enrolment,
    Receipt,
)

router = APIRouter(prefix="/agents", tags=["agents"])


def _bearer(request: Request) -> str:
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not token.strip():
        raise HTTPException(401, "This needs a token: send it as Authorization: Bearer.", {"WWW-Authenticate": "Bearer"})
    return token.strip()


def own_vantage_point(request: Request, hub: HubDep) -> VantagePoint:
    """The vantage point whose agent is calling."""
    with hub.database.reading() as connection:
        point = inventory.vantage_point_by_token(connection, token_hash(_bearer(request)))
    if point is None:
        raise HTTPException(
            401, "This token is not, or no longer, an agent's. Enrol again.", {"WWW-Authenticate": "Bearer"}
        )
    return point


OwnDep = Annotated[VantagePoint, Depends(own_vantage_point)]


@router.post("/enrolments", status_code=201, summary="Enrol a vantage point", responses=responses(401, 422, 429, 507))
def enrol(description: AgentDescription, request: Request, hub: HubDep) -> Enrolment:
    """Trades the enrolment token for a token of the agent's own, shown this once. A vantage point of the same name is
    taken over by the new agent: the old one's token is withdrawn."""
    if not hmac.compare_digest(_bearer(request).encode(), hub.enrolment_token.encode()):
        raise HTTPException(401, "This is not the hub's enrolment token.", {"WWW-Authenticate": "Bearer"})
    token = secrets.token_urlsafe(32)
    point = hub.writer.write(
        lambda connection: inventory.enrol(connection, description.model_dump(), token_hash(token), now_us())
    )
    return Enrolment(vantage_point=point, token=token)


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
            settings=dict(probe.settings),
            interval_us=probe.interval_us,
            attempts=probe.attempts,
            attempt_gap_us=probe.attempt_gap_us,
            binding=Binding(interface=probe.interface, source=probe.source),
        )
        for one in streams
        for probe in [probes[one.probe_id]]
    ]
    body = Assignment(probes=assigned).model_dump_json().encode()
    etag = f'"{hashlib.sha256(body).hexdigest()[:32]}"'
    if request.headers.get("If-None-Match") == etag:
        return Response(status_code=304, headers={"ETag": etag})
    return Response(body, media_type="application/json", headers={"ETag": etag, "Cache-Control": "no-store"})


@router.get("/self/clock", summary="Read the hub's clock", responses=responses(401))
async def clock(request: Request, hub: HubDep) -> ClockReading:
    """T2 and T3 of an RFC 5905 exchange: when the question arrived and when the answer leaves."""
    received_us = now_us()
    await run_in_threadpool(own_vantage_point, request, hub)
    return ClockReading(received_us=received_us, sent_us=now_us())


@router.put("/self/report", status_code=204, summary="Report how the agent is doing", responses=responses(401, 422, 429))
def report(own: OwnDep, told: AgentReport, hub: HubDep) -> None:
    values = told.description.model_dump() | told.model_dump(exclude={"description"})
    hub.writer.write(lambda connection: inventory.note_report(connection, own.id, values, now_us()))


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
async def deliver(request: Request, own: OwnDep, hub: HubDep) -> Receipt:
    """Takes each result once, however often it is sent. Answered after the commit: what is acknowledged is on disk."""
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > BATCH_BYTES:
            raise reception.BatchTooLarge(f"A batch may hold {BATCH_BYTES:,} bytes at most. Send fewer results at a time.")
    encoding = request.headers.get("Content-Encoding", "")
    return await run_in_threadpool(_take, hub, own, bytes(body), encoding)


def _take(hub: Hub, own: VantagePoint, body: bytes, encoding: str) -> Receipt:
    batch, unreadable, last = reception.read_batch(reception.unpacked(body, encoding))
    with hub.database.reading() as connection:
        streams = inventory.all_streams_of(connection, own.id)
    good, refused = reception.checked(batch.results, batch.units, streams, now_us(), hub.settings.keep_days)
    refused = sorted(unreadable + refused, key=lambda one: one.sequence)
    intake = hub.writer.write(lambda connection: take_batch(connection, own.id, batch.spool, good, last, len(refused)))
    hub.judge.take(intake.taken)
    return Receipt(acknowledged=intake.acknowledged, taken=len(intake.taken), repeated=intake.repeated, refused=refused)

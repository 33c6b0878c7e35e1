"""The demo: stand-ins in this process, a hub and four agents in processes of their own, on real sockets."""

import asyncio
import contextlib
import json
import os
import shutil
import sys
import time
from collections.abc import AsyncIterator
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import httpx
import typer

from kuppel.agent.machine import write_private
from kuppel.core.duration import HOUR_US
from kuppel.core.quantity import rounded
from kuppel.core.state import Judgement
from kuppel.hub.engine.access import digest, new_token
from kuppel.hub.engine.judge import Judge
from kuppel.hub.hub import database_place, now_us
from kuppel.hub.server import listen
from kuppel.hub.settings import HubSettings
from kuppel.lab import history, scenario
from kuppel.lab.authority import Authority, Credential
from kuppel.lab.calls import CallService
from kuppel.lab.names import NameService
from kuppel.lab.scenario import PAGE_PROBE, PEOPLE, POINTS, PROBES, SERVICES, Point, ProbePlan, Service
from kuppel.lab.services import TcpService, Treat, Treatment, WebService
from kuppel.probes.certificate import certificate_facts
from kuppel.probes.kernel.browser import browser_missing
from kuppel.probes.kernel.reflectors import ReflectorPorts, Reflectors
from kuppel.probes.net import NetError
from kuppel.probes.registry import kind_named
from kuppel.store import groups, inventory
from kuppel.store.compaction import GRACE_US, Compaction
from kuppel.store.database import Database
from kuppel.store.groups import Group
from kuppel.store.intake import NumberedResult, store_results
from kuppel.store.inventory import Probe, Target
from kuppel.store.writer import Writer

_HISTORY_HOURS = 24
_RESULTS_A_COMMIT = 5_000
_READY_WITHIN_S = 30.0


class DemoFailed(Exception):
    """The demo cannot run; the message says why and what to do."""


@dataclass(frozen=True, slots=True)
class World:
    """What stays the same over the demo's starts: when it began, its certificates, and the stand-ins' ports."""

    begun_us: int
    authority: str
    credential: Credential
    ports: dict[str, int]


async def run_demo(folder: Path, web: Path | None, port: int, *, is_fresh: bool, is_reloading: bool = False) -> None:
    """Run until cancelled; with `is_reloading`, the hub starts anew whenever a source file changes.

    Raises
    ------
    PortTaken, DatabaseUnusable, DemoFailed
        before anything is served.
    """
    listen("127.0.0.1", port).close()  # says at once when the port is taken, before minutes of preparation
    settings = HubSettings(data=folder / "hub", port=port, web=web, site="Skerry Line", demo_people=list(PEOPLE))
    if is_fresh:
        await asyncio.to_thread(shutil.rmtree, folder, ignore_errors=True)
    world = _kept_world(folder)
    if world is None:
        world = _new_world(port)
        typer.echo(f"Preparing {_HISTORY_HOURS} hours of made-up history …")
        await asyncio.to_thread(_prepare, settings, folder, world)
    async with contextlib.AsyncExitStack() as stack:
        await stack.enter_async_context(stand_ins(world))
        for point in POINTS:
            await stack.enter_async_context(_agent_process(point, folder, settings))
        while True:
            async with _hub_process(settings) as hub:
                typer.echo(f"Kuppel is at http://127.0.0.1:{port} (Ctrl-C stops everything)")
                if not is_reloading:
                    ended = await hub.wait()
                    raise DemoFailed(f"The hub stopped by itself with status {ended}; its last words are above.")
                await _sources_change()
                typer.echo("A source file changed: starting the hub anew.")


async def _sources_change() -> None:
    """Return when a file of the package is saved."""
    package = Path(__file__).parents[1]

    def newest() -> float:
        return max(path.stat().st_mtime for path in package.rglob("*.py"))

    before = await asyncio.to_thread(newest)
    while await asyncio.to_thread(newest) == before:  # noqa: ASYNC110 (files send no event)
        await asyncio.sleep(1)


def _kept_world(folder: Path) -> World | None:
    kept = folder / "world.json"
    if not kept.exists():
        return None
    raw = json.loads(kept.read_text())
    return World(raw["begun_us"], raw["authority"], Credential(**raw["credential"]), raw["ports"])


def _new_world(port: int) -> World:
    authority = Authority()
    names = [service.host_name for service in SERVICES if service.host_name]
    # Some services have a second and a third port beside their own.
    ports = {service.name: port + 1 + 4 * number for number, service in enumerate(SERVICES)}
    return World(now_us(), authority.certificate, authority.issue(names, days=71), ports)


def _prepare(settings: HubSettings, folder: Path, world: World) -> None:
    """The demo's inventory and history, through the same writer and judge that a running hub uses."""
    if settings.data.exists():  # an earlier preparation broke off
        shutil.rmtree(settings.data)
    database = Database(database_place(settings))
    writer = Writer(database)
    try:
        points = {point.name: _enrol(writer, point, folder) for point in POINTS}
        targets = {
            service.name: writer.write(partial(inventory.add_target, new=_target(service))).id for service in SERVICES
        }
        for plan in plans():
            probe = _probe(plan, world, targets, points)
            writer.write(partial(inventory.add_probe, new=probe, now_us=world.begun_us))
        booking = Group(0, "booking", "what passengers use to book", ("passengers",), ())
        writer.write(partial(groups.add_group, new=booking))
        judge = Judge(database, writer, None, round(settings.delivery_s * 1e6))
        judge.load()
        _fill(database, writer, judge, world)
        # Made-up days are whole when they are written: nothing of them is still on its way.
        Compaction(database, writer).run(world.begun_us + GRACE_US)
    finally:
        writer.close()
        database.close()
    kept = {
        "begun_us": world.begun_us,
        "authority": world.authority,
        "credential": {"certificate": world.credential.certificate, "key": world.credential.key},
        "ports": world.ports,
    }
    write_private(folder / "world.json", json.dumps(kept).encode())


def plans() -> tuple[ProbePlan, ...]:
    """The probes of the demo that can run on this machine."""
    return (*PROBES, PAGE_PROBE) if not browser_missing() else PROBES


def _target(service: Service) -> Target:
    tags = ("passengers",) if service.belongs_to else ()
    return Target(
        0, service.name, service.description, tags, service.belongs_to, is_important=service.name == "booking site"
    )


def _enrol(writer: Writer, point: Point, folder: Path) -> int:
    token = new_token("agent")
    state = _agent_folder(point, folder)
    state.mkdir(parents=True, exist_ok=True)
    write_private(state / "token", token.encode())
    description = {
        "name": point.name,
        "kind": point.kind,
        "place": point.place,
        "provider": point.provider,
        "version": "",
        "addresses": [point.source],
    }
    tags = {"site": ("harbour",), "mobile": ("ship",)}.get(point.kind, ())
    return writer.write(lambda connection: inventory.enrol(connection, description, digest(token), now_us(), tags=tags))


def _probe(plan: ProbePlan, world: World, targets: dict[str, int], points: dict[str, int]) -> Probe:
    service = next(one for one in SERVICES if one.name == plan.service)
    port = world.ports[service.name]
    settings = dict(plan.settings) | _where(plan.kind, service, port, world)
    return Probe(
        id=0,
        name=plan.name,
        kind=plan.kind,
        target_id=targets[service.name],
        settings=kind_named(plan.kind).parse(settings).model_dump(mode="json"),
        interval_us=plan.interval_us,
        attempts=2,
        attempt_gap_us=500_000,
        interface=None,
        source=None,
        limits=plan.limits,
        judgement=Judgement(),
        is_enabled=True,
        vantage_point_ids=tuple(points[name] for name in plan.points),
    )


def _where(kind: str, service: Service, port: int, world: World) -> dict[str, Any]:
    """The settings of a kind that say where its stand-in is."""
    url = f"{service.kind}://{service.host_name}:{port}/"
    found: dict[str, dict[str, Any]] = {
        "http": {
            "url": url,
            "address": service.host,
            "authority": world.authority if service.kind == "https" else None,
            "timeout_ms": 5000,
        },
        "tcp": {"host": service.host, "port": port},
        "tls": {"host": service.host, "port": port, "server_name": service.host_name, "authority": world.authority},
        "dns": {"resolver": service.host, "port": port},
        "udp": {"host": service.host, "port": port},
        "throughput": {"host": service.host, "port": port + 2},
        "voice": {"host": service.host, "port": port + 1, "sip": f"sip:bridge@{service.host}:{port}"},
        "transaction": {
            "steps": [
                {
                    "name": "list the sailings", "url": url,
                    "take": [{"name": "seats", "from": "jsonpath", "expression": "$.sailings[0].seats"}],
                },
                {"name": "take a seat", "url": url + "seats?of=${seats}", "expect": [{"expression": "$.sailings[0].at"}]},
            ],
            "addresses": {service.host_name: service.host},
            "timeout_ms": 5000,
        },
        "page": {"url": url, "addresses": {service.host_name: service.host}, "verify": False},
        "host": {},
    }  # fmt: skip
    return found.get(kind, {"host": service.host})


def _fill(database: Database, writer: Writer, judge: Judge, world: World) -> None:
    with database.reading() as connection:
        probes = {one.id: one for one in inventory.probes(connection)}
        names = {one.id: one.name for one in inventory.vantage_points(connection)}
        streams = inventory.active_streams(connection)
    from_us = world.begun_us - _HISTORY_HOURS * HOUR_US
    waiting: list[NumberedResult] = []
    for stream in streams:
        plan = next(one for one in plans() if one.name == probes[stream.probe_id].name)
        if not plan.has_history:
            continue
        service = next(one for one in SERVICES if one.name == plan.service)
        point = next(one for one in POINTS if one.name == names[stream.vantage_point_id])
        facts = {"address": service.host, "http_version": "HTTP/1.1"}
        if service.kind == "https":
            facts |= certificate_facts(world.credential.certificate)
        for result in history.generate(plan, service, point, from_us, world.begun_us, world.begun_us, facts):
            kept = replace(result, quantities=rounded(result.quantities))
            waiting.append(NumberedResult(0, stream.id, kept))
            if len(waiting) >= _RESULTS_A_COMMIT:
                _store(writer, judge, waiting)
                waiting = []
    _store(writer, judge, waiting)


def _store(writer: Writer, judge: Judge, results: list[NumberedResult]) -> None:
    writer.write(lambda connection: store_results(connection, results, is_generated=True))
    judge.take(results)


@contextlib.asynccontextmanager
async def stand_ins(world: World) -> AsyncIterator[None]:
    """The services, treating each client as the scenario says at that moment."""
    async with contextlib.AsyncExitStack() as stack:
        for service in SERVICES:
            port = world.ports[service.name]
            try:
                if service.kind == "machine":
                    continue
                if service.kind == "calls":
                    await stack.enter_async_context(CallService(service.host, port, port + 1))
                elif service.kind == "names":
                    records: dict[tuple[str, str], tuple[str, ...]] = {
                        (one.host_name, "A"): (one.host,) for one in SERVICES if one.host_name
                    }
                    await stack.enter_async_context(NameService(service.host, port, records))
                elif service.kind == "line":
                    reflectors = Reflectors(service.host, ReflectorPorts(port, port + 1, port + 2))
                    reflectors.start()
                    stack.callback(reflectors.close)
                elif service.kind == "tcp":
                    gates = await stack.enter_async_context(TcpService(service.host, port))
                    refusing = asyncio.create_task(_refuse_at_times(gates, world.begun_us))
                    stack.callback(refusing.cancel)
                else:
                    credential = world.credential if service.kind == "https" else None
                    await stack.enter_async_context(WebService(service.host, port, _treat(service, world), credential))
            except (OSError, NetError) as error:
                why = error.note if isinstance(error, NetError) else error.strerror or str(error)
                raise DemoFailed(
                    f"The stand-in for the {service.name} cannot listen on {service.host} port {port}:"
                    f" {why.lower()}. Start with --fresh and another --port."
                ) from None
        yield


def _treat(service: Service, world: World) -> Treat:
    points = {point.source: point for point in POINTS}

    def treat(client: str, _path: str) -> Treatment:
        # Whoever else calls (a browser, say) is treated as the public point.
        return scenario.treatment(service, points.get(client, POINTS[-1]), now_us(), world.begun_us)

    return treat


async def _refuse_at_times(gates: TcpService, begun_us: int) -> None:
    while True:
        if scenario.is_refusing(now_us(), begun_us):
            await gates.refuse()
        else:
            await gates.listen()
        await asyncio.sleep(1)


@contextlib.asynccontextmanager
async def _hub_process(settings: HubSettings) -> AsyncIterator[asyncio.subprocess.Process]:
    options = ["--data", str(settings.data), "--port", str(settings.port)]
    if settings.web is not None:
        options += ["--web", str(settings.web)]
    environment = {
        "KUPPEL_LOG_LEVEL": "warning",
        "KUPPEL_SITE": settings.site,
        "KUPPEL_DEMO_PEOPLE": json.dumps([one.model_dump(mode="json") for one in settings.demo_people]),
    }
    async with _process("hub", *options, environment=environment) as process:
        await _until_ready(f"http://127.0.0.1:{settings.port}/api/ready", process)
        yield process


@contextlib.asynccontextmanager
async def _agent_process(point: Point, folder: Path, settings: HubSettings) -> AsyncIterator[asyncio.subprocess.Process]:
    options = {
        "--hub": f"http://127.0.0.1:{settings.port}",
        "--name": point.name,
        "--kind": point.kind,
        "--place": point.place,
        "--provider": point.provider,
        "--state": str(_agent_folder(point, folder)),
        "--source": point.source,
    }
    flat = [part for pair in options.items() for part in pair]
    async with _process("agent", *flat, environment={}, log=folder / f"{point.name}.log") as process:
        yield process


def _agent_folder(point: Point, folder: Path) -> Path:
    return folder / "agents" / point.name.replace(" ", "-").lower()


@contextlib.asynccontextmanager
async def _process(
    *arguments: str, environment: dict[str, str], log: Path | None = None
) -> AsyncIterator[asyncio.subprocess.Process]:
    """A Kuppel process that is stopped, gently at first, when the demo ends."""
    with contextlib.ExitStack() as files:
        process = await asyncio.create_subprocess_exec(
            sys.executable,
            "-m",
            "kuppel.cli",
            *arguments,
            env=os.environ | environment,
            stderr=None if log is None else files.enter_context(log.open("ab")),
            # A group of its own: Ctrl-C reaches the demo alone, which then stops everything in order.
            start_new_session=True,
        )
    try:
        yield process
    finally:
        with contextlib.suppress(ProcessLookupError):
            process.terminate()
        try:
            await asyncio.wait_for(process.wait(), 8)
        except TimeoutError:
            process.kill()
            await process.wait()


async def _until_ready(url: str, process: asyncio.subprocess.Process) -> None:
    deadline = time.monotonic() + _READY_WITHIN_S
    async with httpx.AsyncClient(trust_env=False) as client:
        while time.monotonic() < deadline:
            if process.returncode is not None:
                raise DemoFailed(f"The hub did not start (status {process.returncode}); its words are above.")
            with contextlib.suppress(httpx.HTTPError):
                if (await client.get(url)).is_success:
                    return
            await asyncio.sleep(0.1)
    raise DemoFailed(f"The hub was not ready within {_READY_WITHIN_S:g} s.")

"""The demo's inventory and past: written once, and brought up to now at later starts."""

import shutil
from functools import partial
from pathlib import Path
from typing import Any

import httpx
import numpy as np

from kuppel import __version__
from kuppel.agent.machine import write_private
from kuppel.core.access import Role, Scope
from kuppel.core.change import Change
from kuppel.core.duration import DAY_US, MINUTE_US
from kuppel.core.position import is_elsewhere
from kuppel.core.series import IntArray
from kuppel.core.state import Judgement
from kuppel.hub.api.shapes import at
from kuppel.hub.engine.access import digest, new_token
from kuppel.hub.engine.judge import Judge
from kuppel.hub.hub import add_demo_people, database_place
from kuppel.hub.map_layer import layer_file
from kuppel.hub.settings import HubSettings
from kuppel.lab.bulk.history import Progress, Recipe, write_history, write_runs
from kuppel.lab.bulk.past import ATTEMPT_GAP_US, ATTEMPTS, KINDS, StreamPlan
from kuppel.lab.events import FaultBook
from kuppel.lab.live import agent_folder
from kuppel.lab.skerry.archipelago import COAST, PLACES
from kuppel.lab.skerry.estate import PAGE_PLAN, PLANS, POINTS, TARGETS, Plan, Point
from kuppel.lab.skerry.faults import skerry_faults
from kuppel.lab.skerry.ferries import LINES
from kuppel.lab.world import machine
from kuppel.lab.world.draw import generator
from kuppel.lab.world.world import World
from kuppel.probes.kernel.browser import browser_missing
from kuppel.probes.registry import kind_named
from kuppel.store import groups, inventory, people, positions, tokens
from kuppel.store.database import Database
from kuppel.store.groups import Group
from kuppel.store.inventory import Probe, Target
from kuppel.store.positions import Fix
from kuppel.store.writer import Writer

_TOKEN = "lab-token"
_PAGE_HOST = "127.0.2.1"
_FIX_EVERY_US = 10 * MINUTE_US
_NAMES = frozenset(one.name for one in POINTS)


def events_port(port: int) -> int:
    return port + 1


def page_port(port: int) -> int:
    return port + 2


def plans() -> tuple[Plan, ...]:
    """The probes of the demo that can run on this machine."""
    return (*PLANS, PAGE_PLAN) if not browser_missing() else PLANS


def prepare(
    settings: HubSettings, folder: Path, port: int, days: int, seed: int, begun_us: int, progress: Progress
) -> FaultBook:
    """Everything that a first start needs; kept only when it is whole."""
    if settings.data.exists():  # an earlier preparation broke off
        shutil.rmtree(settings.data)
    folder.mkdir(parents=True, exist_ok=True)
    bare = Recipe(seed, begun_us, days)
    recipe = Recipe(seed, begun_us, days, tuple(skerry_faults(bare.made(), begun_us, days)))
    book = FaultBook(folder, recipe, recipe.made())
    database = Database(database_place(settings))
    writer = Writer(database)
    try:
        add_demo_people(writer, database, settings.demo_people)
        _arrange(writer, folder, port, book.world, begun_us - days * DAY_US)
        write_history(writer, recipe, stream_plans(database, settings), progress)
        judge = Judge(database, writer, None, round(settings.delivery_s * 1e6))
        judge.load()
        judge.tick(begun_us)
        _sail(writer, database, book.world, begun_us - days * DAY_US, begun_us)
        _note_seen(writer, database, book.world)
    finally:
        writer.close()
        database.close()
    shutil.copy(COAST, layer_file(settings.data))
    book.keep()
    return book


def fill_gap(settings: HubSettings, book: FaultBook, now_us: int, progress: Progress, *, has_measured: bool = True) -> int:
    """Make up what happened between the last results and now; how many runs. At a first start nothing has measured yet,
    and what is missing are the minutes that making up the past took."""
    database = Database(database_place(settings))
    writer = Writer(database)
    try:
        judge = Judge(database, writer, None, round(settings.delivery_s * 1e6))
        judge.load()
        with database.reading() as connection:
            newest = {one.id: one.last_run_us for one in inventory.active_streams(connection) if one.last_run_us}
        # A stream that people made since, of probe and vantage point of ours, begins when it is measured.
        streams = [one for one in stream_plans(database, settings) if one.stream_id in newest]
        # One interval is left out where a live result may still be on its way to the hub.
        written = write_runs(
            writer, judge, book.world, streams,
            lambda one: newest[one.stream_id] + (one.plan.interval_us if has_measured else 1), now_us, progress,
        )  # fmt: skip
        _sail(writer, database, book.world, min(newest.values(), default=now_us), now_us)
        _note_seen(writer, database, book.world)
        return written
    finally:
        writer.close()
        database.close()


def stream_plans(database: Database, settings: HubSettings) -> list[StreamPlan]:
    """The stored streams that the scenario knows, in the order of their numbers; those that people made are theirs."""
    with database.reading() as connection:
        probes = {one.id: one for one in inventory.probes(connection)}
        names = {one.id: one.name for one in inventory.vantage_points(connection)}
        streams = inventory.active_streams(connection)
    by_name = {one.name: one for one in PLANS}
    found = []
    for one in sorted(streams, key=lambda one: one.id):
        plan, point = by_name.get(probes[one.probe_id].name), names[one.vantage_point_id]
        if plan is not None and plan.kind in KINDS and point in _NAMES:
            told = kind_named(plan.kind).parse(plan.settings).model_dump(mode="json")
            found.append(StreamPlan(one.id, plan, point, told, round(settings.delivery_s * 1e6)))
    return found


def tell_hub(folder: Path, port: int, change: Change) -> None:
    """Tell the running hub of a change, as a release desk would."""
    token = (folder / _TOKEN).read_text()
    body: dict[str, Any] = {
        "source": change.source, "subject": change.subject, "before": change.before, "after": change.after,
    }  # fmt: skip
    if change.until_us is not None:
        body["until"] = at(change.until_us).isoformat()
    httpx.post(
        f"http://127.0.0.1:{port}/api/changes", json=body, headers={"Authorization": f"Bearer {token}"}, trust_env=False
    ).raise_for_status()


def moment(time_us: int) -> IntArray:
    return np.array([time_us], dtype=np.int64)


def _arrange(writer: Writer, folder: Path, port: int, world: World, enrolled_us: int) -> None:
    """Vantage points, targets, probes, groups, and the lab's own token."""
    points = {one.name: _enrol(writer, one, folder, world, enrolled_us) for one in POINTS}
    targets = {
        one.name: writer.write(
            partial(
                inventory.add_target,
                new=Target(
                    0, one.name, one.description, one.tags, one.service, one.site,
                    is_important=one.name == "booking site", **_position(one.place),
                ),
            )
        ).id
        for one in TARGETS
    }  # fmt: skip
    for plan in plans():
        probe = _probe(plan, port, targets, points)
        writer.write(partial(inventory.add_probe, new=probe, now_us=enrolled_us))
    for group in (
        Group(0, "booking", "what passengers use to book", ("passengers",), ()),
        Group(0, "on the bridge", "what crews need at sea", ("crew",), ()),
    ):
        writer.write(partial(groups.add_group, new=group))
    token = new_token("api")
    person = next(one.id for one in writer.write(people.people) if one.role is Role.ADMIN)
    writer.write(
        lambda connection: tokens.add_api_token(
            connection, "lab events", person, (Scope.EDIT,), digest(token), enrolled_us, None
        )
    )
    write_private(folder / _TOKEN, token.encode())


def _note_seen(writer: Writer, database: Database, world: World) -> None:
    """A vantage point was last seen with its newest result: one that is silent has been so for longer than the demo
    runs."""
    seen: dict[int, int] = {}
    with database.reading() as connection:
        points, streams = inventory.vantage_points(connection), inventory.active_streams(connection)
    for stream in streams:
        seen[stream.vantage_point_id] = max(seen.get(stream.vantage_point_id, 0), stream.last_run_us or 0)
    for one in points:
        seen_us = seen.get(one.id, 0)
        if one.name not in _NAMES or seen_us <= one.seen_us:
            continue
        lag_ms = machine.lag_ms(world, one.name, moment(seen_us), generator(world.seed, "lag", one.name))
        told = {"scheduling_lag_us": round(float(lag_ms[0]) * 1000)}
        writer.write(partial(inventory.note_report, vantage_point_id=one.id, values=told, now_us=seen_us))


def _sail(writer: Writer, database: Database, world: World, from_us: int, to_us: int) -> None:
    """Where the ships were meanwhile, as often as they would have told it; one that is silent tells nothing."""
    with database.reading() as connection:
        ids = {one.name: one.id for one in inventory.vantage_points(connection)}
    for name, line in LINES.items():
        if name not in ids:  # taken away by somebody who tries the demo
            continue
        fixes: list[Fix] = []
        for time_us in range(from_us // _FIX_EVERY_US * _FIX_EVERY_US + _FIX_EVERY_US, to_us, _FIX_EVERY_US):
            position = line.at(time_us)
            is_new = not fixes or is_elsewhere(fixes[-1].position, position)
            if is_new and world.effects.now("silent", name, time_us) is None:
                fixes.append(Fix(time_us, position))
        writer.write(partial(positions.add, vantage_point_id=ids[name], fixes=fixes))


def _position(place: str) -> dict[str, float | None]:
    found = PLACES.get(place)
    return {} if found is None else {"longitude": found.longitude, "latitude": found.latitude}


def _enrol(writer: Writer, point: Point, folder: Path, world: World, enrolled_us: int) -> int:
    token = new_token("agent")
    state = agent_folder(folder, point.name)
    state.mkdir(parents=True, exist_ok=True)
    write_private(state / "token", token.encode())
    description: dict[str, Any] = {
        "name": point.name,
        "kind": point.kind,
        "place": point.words,
        "provider": point.provider,
        "country": point.country,
        "person": point.person,
        "version": __version__,
        "addresses": [world.topology.hosts[point.name].address],
        **_position(point.place),
    }
    return writer.write(
        lambda connection: inventory.enrol(connection, description, digest(token), enrolled_us, tags=point.tags)
    )


def _probe(plan: Plan, port: int, targets: dict[str, int], points: dict[str, int]) -> Probe:
    told = dict(plan.settings)
    if plan.kind == "page":
        # The one probe whose network is real: a stand-in on loopback has the site's name.
        name = "booking.skerry.example"
        told |= {"url": f"https://{name}:{page_port(port)}/", "addresses": {name: _PAGE_HOST}, "verify": False}
    return Probe(
        id=0,
        name=plan.name,
        kind=plan.kind,
        target_id=targets[plan.target],
        settings=kind_named(plan.kind).parse(told).model_dump(mode="json"),
        interval_us=plan.interval_us,
        attempts=ATTEMPTS,
        attempt_gap_us=ATTEMPT_GAP_US,
        interface=None,
        source=None,
        limits=plan.limits,
        judgement=Judgement(),
        is_enabled=True,
        vantage_point_ids=tuple(points[name] for name in plan.points),
        tags=plan.tags,
    )

"""Vantage points, targets, probes and the streams between them.

Functions that take a connection and write are jobs for the `Writer`; those that only read take a connection of
`Database.reading`.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, Row, Select, delete, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from kuppel.core.duration import SECOND_US
from kuppel.core.error import SettingsError
from kuppel.core.limit import Level, Limit
from kuppel.core.schedule import Timing
from kuppel.core.state import Judgement, State, StreamState
from kuppel.store import days, tables

EVERY_MINUTE = Timing()


class NotFound(LookupError):
    """There is no such thing; the message names what was looked for."""


@dataclass(frozen=True, slots=True)
class VantagePoint:
    """A place that measures, as its agent last described it."""

    id: int
    name: str
    kind: str
    place: str
    provider: str
    country: str
    person: str
    version: str
    addresses: list[str]
    tags: list[str]
    has_token: bool
    enrolled_us: int
    seen_us: int
    clock_offset_us: int | None
    clock_error_us: int | None
    scheduling_lag_us: int
    is_busy: bool
    spooled: int
    dropped_details: int
    dropped_results: int
    missed_slots: int
    refused_results: int
    seen_from: str
    update_due_us: int | None
    longitude: float | None
    latitude: float | None


@dataclass(frozen=True, slots=True)
class Target:
    """What is measured. `service` and `site` say in words to what it belongs; both may be empty. Where it is is told in
    degrees, or not at all."""

    id: int
    name: str
    description: str = ""
    tags: tuple[str, ...] = ()
    service: str = ""
    site: str = ""
    is_important: bool = False
    longitude: float | None = None
    latitude: float | None = None


@dataclass(frozen=True, slots=True)
class Probe:
    """A configured measurement. Settings are those of its kind, already checked, with masks in the place of credentials,
    which are in `sealed`; ids are 0 before it is stored."""

    id: int
    name: str
    kind: str
    target_id: int
    settings: Mapping[str, Any]
    interval_us: int
    attempts: int
    attempt_gap_us: int
    interface: str | None
    source: str | None
    limits: tuple[Limit, ...]
    judgement: Judgement
    is_enabled: bool
    vantage_point_ids: tuple[int, ...] = ()
    sealed: bytes | None = None
    timing: Timing = EVERY_MINUTE
    tags: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if self.timing.way in ("every", "poisson") and self.timing.interval_us != self.interval_us:
            object.__setattr__(self, "timing", replace(self.timing, interval_us=self.interval_us))


@dataclass(frozen=True, slots=True)
class Stream:
    """One probe from one vantage point, with its state."""

    id: int
    probe_id: int
    vantage_point_id: int
    is_active: bool
    created_us: int
    state: State
    state_since_us: int
    last_run_us: int | None
    judged: StreamState


def _vantage_point(row: Row[Any]) -> VantagePoint:
    values = dict(row._mapping)
    has_token = values.pop("token_hash") is not None
    return VantagePoint(**values, has_token=has_token)


def vantage_points(connection: Connection) -> list[VantagePoint]:
    rows = connection.execute(select(tables.vantage_point).order_by(tables.vantage_point.c.name))
    return [_vantage_point(row) for row in rows]


def vantage_point_by_token(connection: Connection, token_hash: str) -> VantagePoint | None:
    row = connection.execute(select(tables.vantage_point).where(tables.vantage_point.c.token_hash == token_hash)).first()
    return None if row is None else _vantage_point(row)


def enrol(
    connection: Connection,
    description: Mapping[str, Any],
    token_hash: str,
    now_us: int,
    *,
    tags: Sequence[str] = (),
    known_id: int | None = None,
) -> int:
    """A new vantage point, or a new token for a known one: its old agent's token is withdrawn.

    Raises
    ------
    SettingsError
        when the name is that of another vantage point.
    """
    table = tables.vantage_point
    _refuse_taken_name(connection, table, description["name"], known_id)
    values = {**_stated(description), "token_hash": token_hash, "seen_us": now_us}
    if known_id is not None:
        connection.execute(update(table).where(table.c.id == known_id).values(values))
        return known_id
    return _inserted_id(connection, insert(table).values(values | {"enrolled_us": now_us, "tags": list(tags)}))


def vantage_point(connection: Connection, vantage_point_id: int) -> VantagePoint:
    row = connection.execute(select(tables.vantage_point).where(tables.vantage_point.c.id == vantage_point_id)).first()
    if row is None:
        raise NotFound(f"vantage point {vantage_point_id}")
    return _vantage_point(row)


def arrange_vantage_point(
    connection: Connection,
    vantage_point_id: int,
    tags: Sequence[str],
    update_due_us: int | None,
    position: tuple[float, float] | None,
    country: str,
    person: str,
) -> VantagePoint:
    """Give a vantage point its tags, position (degrees east and north), country and person, and say from when on its agent
    takes the hub's version."""
    table = tables.vantage_point
    longitude, latitude = position or (None, None)
    values = {
        "tags": list(tags),
        "update_due_us": update_due_us,
        "longitude": longitude,
        "latitude": latitude,
        "country": country,
        "person": person,
    }
    connection.execute(update(table).where(table.c.id == vantage_point_id).values(values))
    return vantage_point(connection, vantage_point_id)


def withdraw_agent_token(connection: Connection, vantage_point_id: int) -> VantagePoint:
    """From now on its agent is refused; what it measured stays."""
    table = tables.vantage_point
    connection.execute(update(table).where(table.c.id == vantage_point_id).values(token_hash=None))
    return vantage_point(connection, vantage_point_id)


def note_report(connection: Connection, vantage_point_id: int, values: Mapping[str, Any], now_us: int) -> None:
    """Keep what an agent says of itself. Its name is what it enrolled with and does not change by a report; nor does a
    country or a person that an admin gave and the agent was not told."""
    kept = _stated(values)
    kept.pop("name", None)
    connection.execute(
        update(tables.vantage_point).where(tables.vantage_point.c.id == vantage_point_id).values(kept | {"seen_us": now_us})
    )


def _stated(values: Mapping[str, Any]) -> dict[str, Any]:
    """What an agent says, without the country and the person that it was not told: an admin may have given them."""
    return {key: value for key, value in values.items() if value or key not in ("country", "person")}


def targets(connection: Connection) -> list[Target]:
    """Important ones first."""
    table = tables.target
    query = select(table).order_by(table.c.is_important.desc(), table.c.name)
    return [_target(row) for row in connection.execute(query)]


def _target(row: Row[Any]) -> Target:
    return Target(**{**row._mapping, "tags": tuple(row.tags)})


def _target_values(one: Target) -> dict[str, Any]:
    return {
        "name": one.name,
        "description": one.description,
        "tags": list(one.tags),
        "service": one.service,
        "site": one.site,
        "is_important": one.is_important,
        "longitude": one.longitude,
        "latitude": one.latitude,
    }


def target(connection: Connection, target_id: int) -> Target:
    row = connection.execute(select(tables.target).where(tables.target.c.id == target_id)).first()
    if row is None:
        raise NotFound(f"target {target_id}")
    return _target(row)


def add_target(connection: Connection, new: Target) -> Target:
    _refuse_taken_name(connection, tables.target, new.name, None)
    return replace(new, id=_inserted_id(connection, insert(tables.target).values(_target_values(new))))


def change_target(connection: Connection, target: Target) -> Target:
    _refuse_taken_name(connection, tables.target, target.name, target.id)
    changed = connection.execute(
        update(tables.target).where(tables.target.c.id == target.id).values(_target_values(target))
    )
    if changed.rowcount == 0:
        raise NotFound(f"target {target.id}")
    return target


def remove_target(connection: Connection, target_id: int) -> None:
    """Remove a target that no probe measures any more."""
    probes_left = connection.execute(
        select(func.count()).select_from(tables.probe).where(tables.probe.c.target_id == target_id)
    ).scalar_one()
    if probes_left:
        raise SettingsError("target", target_id, f"be without probes, but has {probes_left}; remove them first")
    if connection.execute(delete(tables.target).where(tables.target.c.id == target_id)).rowcount == 0:
        raise NotFound(f"target {target_id}")


def _probe(row: Row[Any], vantage_point_ids: Iterable[int]) -> Probe:
    return Probe(
        id=row.id,
        name=row.name,
        kind=row.kind,
        target_id=row.target_id,
        settings=row.settings,
        interval_us=row.interval_us,
        attempts=row.attempts,
        attempt_gap_us=row.attempt_gap_us,
        interface=row.interface,
        source=row.source,
        limits=tuple(Limit(**limit) for limit in row.limits),
        judgement=Judgement(row.judgement_n, row.judgement_m),
        is_enabled=row.is_enabled,
        vantage_point_ids=tuple(vantage_point_ids),
        sealed=row.sealed,
        timing=_timing(row.schedule, row.interval_us),
        tags=tuple(row.tags),
    )


def _timing(kept: Mapping[str, Any], interval_us: int) -> Timing:
    quiet = tuple((start, end) for start, end in kept.get("quiet", ()))
    return Timing(**{**kept, "quiet": quiet, "interval_us": interval_us if interval_us >= SECOND_US else SECOND_US})


def _schedule_values(timing: Timing) -> dict[str, Any]:
    """What differs from a plain interval."""
    plain = Timing()
    names = ("way", "cron", "at", "spread_us", "zone", "quiet", "burst_interval_us", "burst_for_us")
    return {name: value for name in names if (value := getattr(timing, name)) != getattr(plain, name)}


def _probe_values(probe: Probe) -> dict[str, Any]:
    return {
        "name": probe.name,
        "kind": probe.kind,
        "target_id": probe.target_id,
        "settings": dict(probe.settings),
        "sealed": probe.sealed,
        "interval_us": probe.interval_us,
        "attempts": probe.attempts,
        "attempt_gap_us": probe.attempt_gap_us,
        "interface": probe.interface,
        "source": probe.source,
        "limits": [
            {"quantity": one.quantity, "degraded": one.degraded, "breached": one.breached, "clear": one.clear}
            for one in probe.limits
        ],
        "judgement_n": probe.judgement.n,
        "judgement_m": probe.judgement.m,
        "is_enabled": probe.is_enabled,
        "schedule": _schedule_values(probe.timing),
        "tags": list(probe.tags),
    }


def probes(connection: Connection) -> list[Probe]:
    members: dict[int, list[int]] = {}
    query = select(tables.stream.c.probe_id, tables.stream.c.vantage_point_id).where(tables.stream.c.is_active)
    for probe_id, vantage_point_id in connection.execute(query.order_by(tables.stream.c.vantage_point_id)):
        members.setdefault(probe_id, []).append(vantage_point_id)
    rows = connection.execute(select(tables.probe).order_by(tables.probe.c.name))
    return [_probe(row, members.get(row.id, ())) for row in rows]


def probe(connection: Connection, probe_id: int) -> Probe:
    row = connection.execute(select(tables.probe).where(tables.probe.c.id == probe_id)).first()
    if row is None:
        raise NotFound(f"probe {probe_id}")
    query = select(tables.stream.c.vantage_point_id).where(tables.stream.c.probe_id == probe_id, tables.stream.c.is_active)
    return _probe(row, connection.execute(query.order_by(tables.stream.c.vantage_point_id)).scalars())


def add_probe(connection: Connection, new: Probe, now_us: int) -> Probe:
    """Store a new probe and open its streams."""
    _refuse_taken_name(connection, tables.probe, new.name, None)
    _require_target(connection, new.target_id)
    made = replace(new, id=_inserted_id(connection, insert(tables.probe).values(_probe_values(new))))
    _assign(connection, made, now_us)
    return made


def change_probe(connection: Connection, changed: Probe, now_us: int) -> Probe:
    """Replace a probe. Streams of vantage points that it leaves are closed, never deleted: their history stays."""
    before = probe(connection, changed.id)
    if before.kind != changed.kind:
        raise SettingsError("kind", changed.kind, f"stay {before.kind!r}: another kind is another probe")
    _refuse_taken_name(connection, tables.probe, changed.name, changed.id)
    _require_target(connection, changed.target_id)
    connection.execute(update(tables.probe).where(tables.probe.c.id == changed.id).values(_probe_values(changed)))
    _assign(connection, changed, now_us)
    return changed


def remove_probe(connection: Connection, probe_id: int) -> None:
    """Remove a probe with its streams, facts, changes of state and finished days; its newest rows go with their day."""
    series, stream = tables.series, tables.stream
    query = select(series.c.id).join(stream, stream.c.id == series.c.stream_id).where(stream.c.probe_id == probe_id)
    days.remove_series(connection, connection.execute(query).scalars().all())
    if connection.execute(delete(tables.probe).where(tables.probe.c.id == probe_id)).rowcount == 0:
        raise NotFound(f"probe {probe_id}")


def _assign(connection: Connection, one: Probe, now_us: int) -> None:
    table = tables.stream
    known = set(connection.execute(select(table.c.vantage_point_id).where(table.c.probe_id == one.id)).scalars())
    existing = set(connection.execute(select(tables.vantage_point.c.id)).scalars())
    for vantage_point_id in one.vantage_point_ids:
        if vantage_point_id not in existing:
            raise SettingsError("vantage_points", vantage_point_id, "be the id of an enrolled vantage point")
    wanted = set(one.vantage_point_ids)
    connection.execute(
        update(table).where(table.c.probe_id == one.id).values(is_active=table.c.vantage_point_id.in_(wanted))
    )
    for vantage_point_id in sorted(wanted - known):
        connection.execute(
            insert(table).values(
                probe_id=one.id,
                vantage_point_id=vantage_point_id,
                is_active=True,
                created_us=now_us,
                # Nothing is known of it yet, and no data is never fine.
                state=State.SILENT,
                state_since_us=now_us,
                judged=State.FINE,
                levels=[],
            )
        )


def _stream(row: Row[Any]) -> Stream:
    state = State(row.state)
    judged = StreamState(State(row.judged), state is State.SILENT, tuple(Level(level) for level in row.levels))
    return Stream(
        row.id,
        row.probe_id,
        row.vantage_point_id,
        row.is_active,
        row.created_us,
        state,
        row.state_since_us,
        row.last_run_us,
        judged,
    )


def _active_streams() -> Select[Any]:
    """Streams that should be measuring: assigned, and of an enabled probe."""
    table = tables.stream
    return (
        select(table)
        .join(tables.probe, tables.probe.c.id == table.c.probe_id)
        .where(table.c.is_active, tables.probe.c.is_enabled)
        .order_by(table.c.id)
    )


def active_streams(connection: Connection, probe_id: int | None = None) -> list[Stream]:
    """All that should be measuring, or those of one probe."""
    query = _active_streams()
    if probe_id is not None:
        query = query.where(tables.stream.c.probe_id == probe_id)
    return [_stream(row) for row in connection.execute(query)]


def streams_of(connection: Connection, vantage_point_id: int) -> list[Stream]:
    query = _active_streams().where(tables.stream.c.vantage_point_id == vantage_point_id)
    return [_stream(row) for row in connection.execute(query)]


def all_streams_of(connection: Connection, vantage_point_id: int) -> set[int]:
    """Every stream that a vantage point ever had: results of a closed one may still be on their way."""
    query = select(tables.stream.c.id).where(tables.stream.c.vantage_point_id == vantage_point_id)
    return set(connection.execute(query).scalars())


def stream(connection: Connection, stream_id: int) -> Stream:
    row = connection.execute(select(tables.stream).where(tables.stream.c.id == stream_id)).first()
    if row is None:
        raise NotFound(f"stream {stream_id}")
    return _stream(row)


def _inserted_id(connection: Connection, statement: Any) -> int:
    try:
        key = connection.execute(statement).inserted_primary_key
        assert key is not None  # every table here has an integer key
        return int(key[0])
    except IntegrityError as error:
        raise SettingsError("name", "", f"be free: {error.orig}") from None


def _refuse_taken_name(connection: Connection, table: Any, name: str, own_id: int | None) -> None:
    holder = connection.execute(select(table.c.id).where(table.c.name == name)).scalar()
    if holder is not None and holder != own_id:
        raise SettingsError("name", name, f"be free, but {table.name} {holder} has it; choose another")


def _require_target(connection: Connection, target_id: int) -> None:
    if connection.execute(select(tables.target.c.id).where(tables.target.c.id == target_id)).first() is None:
        raise SettingsError("target", target_id, "be the id of a target")

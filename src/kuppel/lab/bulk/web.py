"""Exchanges with applications in columns: web fetch, steps, connect, certificate, names."""

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any
from urllib.parse import urlsplit

import numpy as np
from numpy.typing import NDArray

from kuppel.core.duration import DAY_US
from kuppel.core.reason import Reason
from kuppel.core.series import FloatArray, IntArray
from kuppel.lab.bulk.columns import Columns, Tried, are_good, blanked, lateness, microseconds, no_reasons
from kuppel.lab.bulk.packets import named
from kuppel.lab.world import exchange
from kuppel.lab.world.draw import Generator
from kuppel.lab.world.exchange import Ends, Fetched
from kuppel.lab.world.loss import Flags
from kuppel.lab.world.secured import Chains
from kuppel.lab.world.world import World
from kuppel.probes.certificate import certificate_facts, certificate_names
from kuppel.probes.redirects import covers

_ERROR_OCTETS = 48
_FAMILIES = {"auto": 0, "ipv4": 4, "ipv6": 6}
_NO_DAYS = "certificate has expired"


def fetch(
    world: World, point: str, settings: Mapping[str, Any], application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.http`."""
    parts = urlsplit(settings["url"])
    has_tls = parts.scheme == "https"
    timeout_ms = float(settings["timeout_ms"])
    told = exchange.fetches(
        world, point, world.applications[application], times_us, draw,
        family=_FAMILIES[settings["family"]], timeout_ms=timeout_ms, has_tls=has_tls,
    )  # fmt: skip
    late_ms = lateness(world, point, times_us, draw)
    told.first_byte_ms = np.where(told.first_byte_ms > 0, told.first_byte_ms + late_ms, told.first_byte_ms)
    expected = _are_expected(told.statuses, settings["expect_status"])
    facts, days, refusals = (
        _certificates(world, application, parts.hostname or "", times_us) if has_tls else ({}, None, None)
    )
    reasons = np.array(told.failures, dtype=object)
    answered = reasons == None  # noqa: E711 (an array's elements)
    if refusals is not None:
        reasons[answered & refusals] = Reason.CERTIFICATE_INVALID
        answered &= ~refusals
    reasons[answered & ~expected] = Reason.UNEXPECTED_STATUS
    host = world.topology.hosts[world.applications[application].host]
    values = blanked(phases(told, has_tls=has_tls), answered & expected)
    if days is not None:
        # What the server showed is told whatever came of the rest.
        values["certificate_days"] = np.where(np.array([one is None for one in told.failures]), days, np.nan)
    octets = float(len(world.applications[application].body))
    values["body_size"] = np.where(answered & expected, octets, np.nan)
    facts |= {"address": np.where(told.is_v6, host.address_v6, host.address).astype(object)}
    facts["http_version"] = told_where(answered, "HTTP/1.1")
    statuses = told.statuses.tolist()
    details = [
        {"status": status, "size": round(octets) if status == 200 else _ERROR_OCTETS} if good else {}
        for status, good in zip(statuses, answered.tolist(), strict=True)
    ]
    notes = _broken(world, application, parts.hostname or "", timeout_ms) | {
        Reason.UNEXPECTED_STATUS: _of_statuses(told.statuses, settings["expect_status"])
    }
    return Tried(values, reasons, microseconds(told.total_ms), notes, facts, details)


def _broken(world: World, application: str, name: str, timeout_ms: float) -> dict[Reason, Any]:
    """The words of a fetch that ends before an answer that could be looked at."""
    own = world.applications[application]
    waited = f"nothing more within {timeout_ms / 1000:g} s"
    return {
        Reason.CERTIFICATE_INVALID: _NO_DAYS,
        Reason.CONNECTION_REFUSED: f"{world.topology.hosts[own.host].address} port {own.port}: connection refused",
        Reason.NAME_TIMEOUT: f"{name}: no answer from the resolver",
        Reason.CONNECT_TIMEOUT: waited,
        Reason.TIMEOUT: waited,
    }


def _are_expected(statuses: IntArray, expected: Sequence[str]) -> Flags:
    known = {status: any(covers(one, status) for one in expected) for status in np.unique(statuses).tolist()}
    return np.array([known[status] for status in statuses.tolist()])


def _of_statuses(statuses: IntArray, expected: Sequence[str]) -> NDArray[np.object_]:
    words = {status: f"status {status}, expected {', '.join(expected)}" for status in np.unique(statuses).tolist()}
    return np.array([words[status] for status in statuses.tolist()], dtype=object)


def phases(told: Fetched, *, has_tls: bool) -> Columns:
    """The quantities of a fetch's phases."""
    found = {
        "name_lookup": told.name_ms,
        "connect": told.connect_ms,
        "first_byte": told.first_byte_ms,
        "transfer": told.transfer_ms,
        "total": told.total_ms,
        "ttfb": told.total_ms - told.transfer_ms,
    }
    return found | ({"tls": told.tls_ms} if has_tls else {})


def steps(
    world: World, point: str, settings: Mapping[str, Any], application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.transaction`, every step with the same application; it ends with the first that fails."""
    size = times_us.size
    values: Columns = {}
    reasons = no_reasons(size)
    total = np.zeros(size)
    own = world.applications[application]
    host = world.topology.hosts[own.host]
    facts: dict[str, Any] = {}
    notes = np.full(size, "", dtype=object)
    left = np.ones(size, dtype=bool)
    for number, step in enumerate(settings["steps"], 1):
        told = exchange.fetches(world, point, own, times_us, draw, timeout_ms=float(settings["timeout_ms"]))
        answered = np.array([one is None for one in told.failures])
        if number == 1:
            facts, _, refusals = _certificates(world, application, urlsplit(step["url"]).hostname or "", times_us)
            facts = {name: told_where(answered, column) for name, column in facts.items()}
            facts["address"] = told_where(answered, np.where(told.is_v6, host.address_v6, host.address).astype(object))
            facts["http_version"] = told_where(answered, "HTTP/1.1")
        values[f"step_{number}"] = told.total_ms
        total = np.where(left, total + told.total_ms, total)
        for at in np.flatnonzero(left & ~answered).tolist():
            reasons[at] = told.failures[at]
        reasons[left & answered & refusals] = Reason.CERTIFICATE_INVALID
        reasons[left & answered & ~refusals & ~_are_expected(told.statuses, step["expect_status"])] = Reason.STEP_FAILED
        still = are_good(reasons)
        broken = _broken(world, application, urlsplit(step["url"]).hostname or "", float(settings["timeout_ms"]))
        broken[Reason.STEP_FAILED] = _of_statuses(told.statuses, step["expect_status"])
        failing = Tried({}, reasons, times_us, broken)
        for at in np.flatnonzero(left & ~still).tolist():
            notes[at] = f"step {number}, {step['name']}: {failing.note(at)}"
        left = still
    values |= {"total": total, "body_size": np.full(size, float(len(own.body) * len(settings["steps"])))}
    return Tried(blanked(values, left), reasons, microseconds(total), dict.fromkeys(Reason, notes), facts)


def connect(
    world: World, point: str, settings: Mapping[str, Any], application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.tcp`."""
    host = named(world, point, settings)
    timeout_ms = float(settings["timeout_ms"])
    looked_ms = exchange.name_lookups(world, point, times_us, draw)
    taken_ms = exchange.connections(world, Ends(point, host, draw.random(times_us.size)), times_us, draw)
    taken_ms = taken_ms + lateness(world, point, times_us, draw)
    reasons = no_reasons(times_us.size)
    refused = world.is_off(application, times_us)
    reasons[refused] = Reason.CONNECTION_REFUSED
    reasons[looked_ms + taken_ms > timeout_ms] = Reason.CONNECT_TIMEOUT
    reasons[looked_ms > timeout_ms] = Reason.NAME_TIMEOUT
    good = are_good(reasons)
    values = {"name_lookup": looked_ms, "connect": taken_ms, "total": looked_ms + taken_ms, "rtt": taken_ms}
    address, port = world.topology.hosts[host].address, settings["port"]
    notes = {
        Reason.CONNECTION_REFUSED: f"{address} port {port}: connection refused",
        Reason.CONNECT_TIMEOUT: f"{address} port {port}: no connection within {timeout_ms / 1000:g} s",
        Reason.NAME_TIMEOUT: f"no answer within {timeout_ms / 1000:g} s",
    }
    spent = np.minimum(looked_ms + taken_ms, timeout_ms)
    facts: dict[str, Any] = {"address": told_where(good, address)}
    return Tried(blanked(values, good), reasons, microseconds(spent), notes, facts)


def certificate(
    world: World, point: str, settings: Mapping[str, Any], application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.tls`."""
    host = named(world, point, settings)
    timeout_ms = float(settings["timeout_ms"])
    looked_ms = exchange.name_lookups(world, point, times_us, draw)
    ends = Ends(point, host, draw.random(times_us.size))
    connect_ms = exchange.connections(world, ends, times_us, draw)
    if settings["starttls"] != "none":
        connect_ms = connect_ms + 2 * exchange.reliable_trips(world, ends, times_us, draw, timeout_ms=200)
    tls_ms = exchange.handshakes(world, ends, times_us, draw)
    facts, days, refusals = _certificates(world, application, settings["server_name"] or settings["host"], times_us)
    reasons = no_reasons(times_us.size)
    reasons[refusals] = Reason.CERTIFICATE_INVALID
    reasons[looked_ms + connect_ms + tls_ms > timeout_ms] = Reason.CONNECT_TIMEOUT
    good = are_good(reasons)
    total = looked_ms + connect_ms + tls_ms
    values = blanked({"name_lookup": looked_ms, "connect": connect_ms, "tls": tls_ms, "total": total}, good)
    values["certificate_days"] = days
    names = certificate_names(world.certificates[application][0].chain[0])
    facts |= {
        "address": world.topology.hosts[host].address,
        "certificate_names": ", ".join(names),
        "tls_version": "TLSv1.3",
        "cipher": "TLS_AES_128_GCM_SHA256",
    }
    notes = {
        Reason.CERTIFICATE_INVALID: _NO_DAYS,
        Reason.CONNECT_TIMEOUT: f"{settings['host']}: no connection within {timeout_ms / 1000:g} s",
    }
    return Tried(values, reasons, microseconds(np.minimum(total, timeout_ms)), notes, facts)


def lookup(
    world: World, point: str, settings: Mapping[str, Any], _application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.dns`: one question for an address, by UDP."""
    host = world.hosts_by_address[settings["resolver"]].name
    timeout_ms = float(settings["timeout_ms"])
    ends = Ends(point, host, draw.random(times_us.size))
    trips, lost = exchange.round_trips(world, ends, times_us, draw, back=120)
    taken = trips + exchange.resolver_times(world, host, times_us, draw) + lateness(world, point, times_us, draw)
    reasons = no_reasons(times_us.size)
    right = world.names[settings["name"], 4]
    wrong = world.effects.value("wrong_names", host, times_us)
    shown = np.full(times_us.size, right, dtype=object)
    notes = {Reason.NAME_TIMEOUT: f"no answer within {timeout_ms / 1000:g} s"}
    if wrong is not None:
        said = next(one.note for one in world.effects.of("wrong_names", host, int(times_us.min()), int(times_us.max())))
        shown[wrong > 0] = said
        reasons[wrong > 0] = Reason.UNEXPECTED_ANSWER
        notes[Reason.UNEXPECTED_ANSWER] = f"{said}; expected {', '.join(sorted(settings['expect_answers']))}"
    silent = lost | (taken > timeout_ms)
    reasons[silent] = Reason.NAME_TIMEOUT
    shown[silent] = None
    good = are_good(reasons)
    values = {"lookup": taken, "answers": np.ones(times_us.size), "ttl": np.full(times_us.size, 300.0)}
    facts: dict[str, Any] = {"resolver": told_where(~silent, world.topology.hosts[host].address), "answers": shown}
    return Tried(blanked(values, good), reasons, microseconds(np.where(silent, timeout_ms, taken)), notes, facts)


def told_where(is_told: Flags, value: Any) -> Any:
    """A fact for each run, one for all or one each, None where it is not told."""
    found = np.full(is_told.size, None, dtype=object)
    found[is_told] = value if isinstance(value, str) else value[is_told]
    return found


def _certificates(
    world: World, application: str, name: str, times_us: IntArray
) -> tuple[dict[str, Any], FloatArray, Flags]:
    """What is told of an application's certificate at each time: facts, days left, and whether it is not accepted."""
    size = times_us.size
    chains = Chains(world)
    facts: dict[str, Any] = {}
    days, refused = np.full(size, np.nan), np.zeros(size, dtype=bool)
    moments = [one.from_us for one in world.certificates[application]]
    for one in world.effects.of("expiry", application, int(times_us.min()), int(times_us.max())):
        moments += [one.from_us, one.until_us if one.until_us is not None else 2**62]
    pieces = np.searchsorted(np.array(sorted(moments), dtype=np.int64), times_us, side="right")
    for piece in np.unique(pieces).tolist():
        own = np.flatnonzero(pieces == piece)
        leaf = chains.shown(application, int(times_us[own[0]]))[0]
        told = certificate_facts(leaf)
        end_us = round(datetime.fromisoformat(told["certificate_expires"]).astimezone(UTC).timestamp()) * 1_000_000
        days[own] = (end_us - times_us[own]) / DAY_US
        refused[own] = (times_us[own] > end_us) | (name not in certificate_names(leaf))
        for fact, value in told.items():
            facts.setdefault(fact, np.full(size, None, dtype=object))[own] = value
    return facts, days, refused

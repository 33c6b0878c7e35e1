"""Exchanges over the simulated network, many at once: names, connections, TLS, HTTP. A column has an entry an exchange.

What is lost is sent again after a timeout that doubles (RFC 6298); an exchange that never comes about takes for ever (∞).
"""

import math
from dataclasses import dataclass

import numpy as np

from kuppel.core.reason import Reason
from kuppel.core.series import FloatArray, IntArray
from kuppel.lab.world.application import Application
from kuppel.lab.world.draw import Generator
from kuppel.lab.world.loss import Flags
from kuppel.lab.world.world import World

_SYN_TIMEOUT_MS = 1_000.0  # RFC 6298 §2
_LEAST_TIMEOUT_MS = 200.0  # common practice, no source; RFC 6298 asks for a second
_NAME_TIMEOUT_MS = 1_000.0
_TRIES = 4
# How long a client waits for IPv6 before it begins with IPv4 as well (RFC 8305 §8, Connection Attempt Delay).
_NEXT_FAMILY_MS = 250.0
_SEGMENT, _FIRST_SEGMENTS = 1_440, 10  # octets; RFC 6928
_CRYPTO_MS = 2.6


@dataclass(frozen=True, slots=True)
class Ends:
    """Between whom: hosts by name. `flows` are what routers' hashes make of each exchange's flow, in [0, 1)."""

    source: str
    target: str
    flows: FloatArray
    family: int = 4


def round_trips(
    world: World, ends: Ends, times_us: IntArray, draw: Generator, *, forth: int = 64, back: int = 64
) -> tuple[FloatArray, Flags]:
    """One packet there and one back, of so many octets: ms, and whether either was lost."""
    there = world.cross(ends.source, ends.target, times_us, ends.flows, draw, octets=forth, family=ends.family)
    home = world.cross(ends.target, ends.source, times_us, ends.flows, draw, octets=back, family=ends.family)
    return (there.delays_ms + home.delays_ms)[:, 0], (there.lost | home.lost)[:, 0]


def reliable_trips(
    world: World,
    ends: Ends,
    times_us: IntArray,
    draw: Generator,
    *,
    timeout_ms: float,
    forth: int = 64,
    back: int = 64,
) -> FloatArray:
    """Round trips until one succeeds, ms, what was waited for the lost ones included; ∞ when all tries were lost."""
    found = np.full(times_us.size, np.inf)
    waited = 0.0
    left = np.arange(times_us.size)
    for number in range(_TRIES):
        part = Ends(ends.source, ends.target, ends.flows[left], ends.family)
        taken, lost = round_trips(world, part, times_us[left], draw, forth=forth, back=back)
        found[left] = np.where(lost, np.inf, waited + taken)
        left = left[lost]
        if left.size == 0:
            break
        waited += timeout_ms * 2**number
    return found


def name_lookups(world: World, source: str, times_us: IntArray, draw: Generator) -> FloatArray:
    """How long a vantage point's own resolver takes, ms; asked again after a second, ∞ when it never answers."""
    resolver = world.resolver_of[source]
    ends = Ends(source, resolver, draw.random(times_us.size))
    trips = reliable_trips(world, ends, times_us, draw, timeout_ms=_NAME_TIMEOUT_MS, back=120)
    return trips + resolver_times(world, resolver, times_us, draw)


def resolver_times(world: World, host: str, times_us: IntArray, draw: Generator) -> FloatArray:
    """What a resolver itself takes over questions, ms."""
    resolver = world.resolvers[host]
    size = times_us.size
    own = resolver.own_ms * np.exp(0.25 * draw.standard_normal(size))
    elsewhere = np.where(
        draw.random(size) < resolver.remembered_share, 0.0, resolver.elsewhere_ms * np.exp(0.5 * draw.standard_normal(size))
    )
    slower = world.effects.value("slow_names", host, times_us)
    more = 0.0 if slower is None else slower * draw.gamma(4.0, 0.25, size)
    found: FloatArray = own + elsewhere + more
    return found


def is_misled(world: World, source: str, times_us: IntArray) -> Flags:
    """Whether a vantage point's resolver gives a wrong address at each time."""
    wrong = world.effects.value("wrong_names", world.resolver_of.get(source, ""), times_us)
    return np.zeros(times_us.size, dtype=bool) if wrong is None else wrong > 0


def connections(world: World, ends: Ends, times_us: IntArray, draw: Generator) -> FloatArray:
    """Time of the three-way handshake as the client sees it, ms."""
    trips = reliable_trips(world, ends, times_us, draw, timeout_ms=_SYN_TIMEOUT_MS, forth=32, back=32)
    return trips + 0.04 * draw.standard_exponential(times_us.size)


def handshakes(world: World, ends: Ends, times_us: IntArray, draw: Generator) -> FloatArray:
    """A TLS 1.3 handshake (RFC 8446 §2: one round trip) and what both take over the arithmetic, ms."""
    trips = reliable_trips(world, ends, times_us, draw, timeout_ms=_LEAST_TIMEOUT_MS, forth=520, back=1_400)
    return trips + _CRYPTO_MS * np.exp(0.15 * draw.standard_normal(times_us.size))


@dataclass(slots=True)
class Fetched:
    """Phases in ms (0 for those not reached), what broke it off (None: an answer), status, and which address was used."""

    name_ms: FloatArray
    connect_ms: FloatArray
    tls_ms: FloatArray
    first_byte_ms: FloatArray
    transfer_ms: FloatArray
    failures: list[Reason | None]
    statuses: IntArray
    is_v6: Flags

    @property
    def total_ms(self) -> FloatArray:
        return self.name_ms + self.connect_ms + self.tls_ms + self.first_byte_ms + self.transfer_ms


def fetches(
    world: World,
    source: str,
    application: Application,
    times_us: IntArray,
    draw: Generator,
    *,
    family: int = 0,
    timeout_ms: float = 10_000.0,
    is_named: bool = True,
    has_tls: bool = True,
) -> Fetched:
    """HTTP exchanges with an application, each on a connection of its own.

    Parameters
    ----------
    family : 4, 6, or 0 for IPv6 first where both ends have it.
    is_named : whether the name has to be looked up.
    """
    size = times_us.size
    hosts = world.topology.hosts
    has_v6 = bool(hosts[source].address_v6 and hosts[application.host].address_v6)
    flows = draw.random(size)
    name = name_lookups(world, source, times_us, draw) if is_named else np.full(size, 0.03)
    connect, is_v6 = _connected(world, source, application.host, times_us, flows, draw, family if family or has_v6 else 4)
    told = world.answered(application, times_us, draw)
    tls, asked, transfer = np.zeros(size), np.zeros(size), np.zeros(size)
    octets = len(application.body) + 400
    for family_used in (4, 6):
        own = np.flatnonzero(is_v6 == (family_used == 6))
        ends, when = Ends(source, application.host, flows[own], family_used), times_us[own]
        if has_tls:
            tls[own] = handshakes(world, ends, when, draw)
        asked[own] = reliable_trips(world, ends, when, draw, timeout_ms=_LEAST_TIMEOUT_MS, forth=300, back=1_400)
        transfer[own] = transfers(world, ends, when, octets, draw)
    found = Fetched(name, connect, tls, asked + told.waits_ms, transfer, [None] * size, told.statuses, is_v6)
    refused = world.is_off(application.name, times_us)
    misled = is_misled(world, source, times_us) if is_named else np.zeros(size, dtype=bool)
    _break_off(found, refused | misled, timeout_ms)
    return found


def _connected(
    world: World, source: str, target: str, times_us: IntArray, flows: FloatArray, draw: Generator, family: int
) -> tuple[FloatArray, Flags]:
    """Connecting, by one family or by whichever is there first (RFC 8305): ms, and whether it was IPv6."""
    size = times_us.size
    if family in (4, 6):
        taken = connections(world, Ends(source, target, flows, family), times_us, draw)
        return taken, np.full(size, family == 6)
    by_v6 = connections(world, Ends(source, target, flows, 6), times_us, draw)
    late = by_v6 > _NEXT_FAMILY_MS
    by_v4 = np.full(size, np.inf)
    own = np.flatnonzero(late)
    by_v4[own] = _NEXT_FAMILY_MS + connections(world, Ends(source, target, flows[own], 4), times_us[own], draw)
    return np.minimum(by_v6, by_v4), by_v6 <= by_v4


def transfers(world: World, ends: Ends, times_us: IntArray, octets: int, draw: Generator) -> FloatArray:
    """From the first octet to the last, ms: windows that double every round trip (RFC 5681), at the line's rate."""
    rounds = max(0, math.ceil(math.log2(octets / _SEGMENT / _FIRST_SEGMENTS + 1)) - 1)
    found = bottleneck_ms(world, ends, times_us, octets)
    for _ in range(rounds):
        found = found + reliable_trips(world, ends, times_us, draw, timeout_ms=_LEAST_TIMEOUT_MS, back=1_400)
    return found + 0.05 * draw.standard_exponential(times_us.size)


def bottleneck_ms(world: World, ends: Ends, times_us: IntArray, octets: int) -> FloatArray:
    """How long the slowest link of the way back takes over so many octets."""
    found = np.zeros(times_us.size)
    for way, own in world.groups(ends.target, ends.source, times_us, ends.flows):
        if way is not None:
            found[own] = max(one.serialisation_ms(octets) for one in way.links)
    return found


def _break_off(found: Fetched, refused: Flags, timeout_ms: float) -> None:
    """End each exchange at its first phase that does not come about in time; later phases are 0."""
    phases = [found.name_ms, found.connect_ms, found.tls_ms, found.first_byte_ms, found.transfer_ms]
    reasons = (Reason.NAME_TIMEOUT, Reason.CONNECT_TIMEOUT, Reason.TIMEOUT, Reason.TIMEOUT, Reason.TIMEOUT)
    spent = np.zeros(refused.size)
    ended = np.zeros(refused.size, dtype=bool)
    for number, (column, reason) in enumerate(zip(phases, reasons, strict=True)):
        column[ended] = 0.0
        late = ~ended & (spent + column > timeout_ms)
        column[late] = timeout_ms - spent[late]
        for at in np.flatnonzero(late).tolist():
            found.failures[at] = reason
        ended |= late
        spent += column
        if number == 1:
            turned_away = refused & ~ended
            for at in np.flatnonzero(turned_away).tolist():
                found.failures[at] = Reason.CONNECTION_REFUSED
            ended |= turned_away


@dataclass(frozen=True, slots=True)
class Calls:
    """Setting calls up (RFC 3261): ms to the first sign of life, to ringing and to the answer, and its status."""

    first_ms: FloatArray
    ringing_ms: FloatArray
    final_ms: FloatArray
    statuses: IntArray


def calls(world: World, ends: Ends, application: Application, times_us: IntArray, draw: Generator) -> Calls:
    """INVITE and its answers over UDP, sent again after half a second (timer T1, RFC 3261 §17.1.1.1)."""
    trip = reliable_trips(world, ends, times_us, draw, timeout_ms=500, forth=600, back=400)
    told = world.answered(application, times_us, draw)
    ringing = trip + told.waits_ms * 0.4
    final = trip + told.waits_ms
    off = world.is_off(application.name, times_us)
    return Calls(trip, ringing, np.where(off, np.inf, final), told.statuses)

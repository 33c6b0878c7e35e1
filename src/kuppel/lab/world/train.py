"""Trains of packets there and back, data at full speed, and packets that die on the way."""

from dataclasses import dataclass

import numpy as np

from kuppel.core.series import FloatArray, IntArray
from kuppel.lab.world import condition
from kuppel.lab.world.draw import Generator
from kuppel.lab.world.effect import Effects
from kuppel.lab.world.exchange import Ends, round_trips
from kuppel.lab.world.loss import Flags
from kuppel.lab.world.routing import Way
from kuppel.lab.world.topology import Host, Link
from kuppel.lab.world.world import Crossing, World

_SEGMENT_BITS = 1_448 * 8
_LOSS_FACTOR = 1.22  # Mathis et al., "The macroscopic behavior of the TCP congestion avoidance algorithm", 1997


def trains(
    world: World, ends: Ends, times_us: IntArray, draw: Generator, *, octets: int, count: int, gap_ms: float
) -> tuple[Crossing, Crossing]:
    """Trains there, and what comes back of them: packets lost on the way there are lost on the way back, too."""
    forth = world.cross(
        ends.source, ends.target, times_us, ends.flows, draw,
        octets=octets, count=count, gap_ms=gap_ms, family=ends.family,
    )  # fmt: skip
    back = world.cross(
        ends.target, ends.source, times_us, ends.flows, draw,
        octets=octets, count=count, gap_ms=gap_ms, family=ends.family,
    )  # fmt: skip
    return forth, back


@dataclass(frozen=True, slots=True)
class Carried:
    """What TCP carries one way at full speed: Mbit/s, the share sent again, round trips at rest and under load in ms."""

    rate_mbit: FloatArray
    repeated_share: FloatArray
    rest_ms: FloatArray
    loaded_ms: FloatArray


def carried(world: World, ends: Ends, times_us: IntArray, draw: Generator, *, streams: int = 1) -> Carried:
    """The rate that the narrowest link leaves, or that loss allows (Mathis et al., 1997), whichever is less."""
    size = times_us.size
    rate, loss, buffers = np.full(size, 1e5), np.zeros(size), np.zeros(size)
    for way, own in world.groups(ends.source, ends.target, times_us, ends.flows):
        if way is None:
            rate[own] = 0.0
            continue
        rate[own], loss[own], buffers[own] = _narrowest(world, way, times_us[own])
    forth, back = trains(world, ends, times_us, draw, octets=1_400, count=8, gap_ms=10)
    trips = forth.delays_ms + back.delays_ms
    trips[forth.lost | back.lost] = np.inf
    rest = trips.min(axis=1)
    loaded = rest + buffers * (0.45 + 0.3 * draw.random(size))
    with np.errstate(divide="ignore", invalid="ignore"):
        by_loss = streams * _LOSS_FACTOR * _SEGMENT_BITS / (rest / 1000 * np.sqrt(loss)) / 1e6
    rate = np.where(np.isfinite(rest), np.minimum(rate, np.where(loss > 0, by_loss, np.inf)), 0.0)
    rate = rate * (0.93 + 0.04 * draw.random(size))
    return Carried(rate, np.minimum(0.9, loss + 0.0006 * draw.standard_exponential(size)), rest, loaded)


def _narrowest(world: World, way: Way, times_us: IntArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """What is left of the narrowest link, the loss of all, and how long the narrowest one's buffer holds packets."""
    left, buffers = np.full(times_us.size, np.inf), np.zeros(times_us.size)
    passed = np.ones(times_us.size)
    for link in way.links:
        passed *= 1 - lost_share(world, link, times_us)
        if not link.rate_mbit:
            continue
        taken = np.minimum(condition.load(world.seed, link, world.effects, times_us), 0.96)
        own = link.rate_mbit * (1 - taken)
        is_least = own < left
        left, buffers = np.where(is_least, own, left), np.where(is_least, link.buffer_ms, buffers)
    return left, 1 - passed, buffers


def lost_share(world: World, link: Link, times_us: IntArray) -> FloatArray:
    """The share of packets that a link loses, of whatever cause, at each time."""
    effects: Effects = world.effects
    passed = np.full(times_us.size, 1 - link.loss)
    for kind in ("loss", "bursts"):
        more = effects.value(kind, link.name, times_us)
        if more is not None:
            passed *= 1 - np.minimum(more, 1)
    if link.bursts is not None:
        passed *= 1 - link.bursts.share
    if link.wifi is not None:
        fails = condition.try_fails(condition.signal(world.seed, link, effects, times_us))
        passed *= 1 - fails**7
    return 1 - passed


@dataclass(frozen=True, slots=True)
class Hop:
    """What comes back of packets that die at one distance along one way: who answered, ms, and whether; shape (n,)."""

    host: Host
    is_end: bool
    trips_ms: FloatArray
    answered: Flags


def hops(world: World, ends: Ends, way: Way, times_us: IntArray, draw: Generator, octets: int) -> list[Hop]:
    """A packet for each hop of a way at each time; a router's answer comes back along its own way."""
    found = []
    for number, name in enumerate(way.hosts):
        host = world.topology.hosts[name]
        is_end = number == len(way.hosts) - 1
        there, lost = world.along(way.links[: number + 1], times_us, draw, octets=octets, family=ends.family)
        home = world.cross(name, ends.source, times_us, ends.flows, draw, octets=56, family=ends.family)
        taken = there[:, 0] + home.delays_ms[:, 0]
        good = ~(lost | home.lost)[:, 0]
        if not is_end:
            good &= draw.random(times_us.size) < _share(world, host, times_us)
            taken = taken + _own_time(world, host, times_us, draw)
        found.append(Hop(host, is_end, taken, good))
    return found


def beyond(world: World, ends: Ends, end: Hop, times_us: IntArray, draw: Generator, octets: int, most: int) -> list[Hop]:
    """Packets for farther than the target, sent while none for it was answered: they reach it, too. `times_us` is one."""
    found: list[Hop] = []
    while not (found[-1] if found else end).answered[0] and len(found) < most:
        trips, lost = round_trips(world, ends, times_us, draw, forth=octets, back=56)
        found.append(Hop(end.host, True, trips, ~lost))
    return found


def _share(world: World, host: Host, times_us: IntArray) -> FloatArray:
    fewer = world.effects.value("few_answers", host.name, times_us)
    found: FloatArray = np.full(times_us.size, host.answer_share) * (1 if fewer is None else 1 - fewer)
    return found


def _own_time(world: World, host: Host, times_us: IntArray, draw: Generator) -> FloatArray:
    """How long a router takes over an answer of its own: seldom, much longer than usual."""
    slower = world.effects.value("slow_answers", host.name, times_us)
    usual = host.answer_ms + (0.0 if slower is None else slower)
    found: FloatArray = usual * draw.gamma(1.5, 1 / 1.5, times_us.size)
    return found

"""Small worlds for tests, and runs over them by the real probes."""

import asyncio
import itertools
from collections.abc import Callable, Coroutine, Mapping
from typing import Any, TypeVar

import numpy as np

from kuppel.core.result import Result
from kuppel.core.series import IntArray
from kuppel.lab.skerry.estate import PLANS, Plan
from kuppel.lab.skerry.services import skerry_world
from kuppel.lab.world.clock import SimulatedClock, SimulatedLoop
from kuppel.lab.world.fault import Fault, effects
from kuppel.lab.world.net import SimulatedNet
from kuppel.lab.world.topology import Host, Link, Topology
from kuppel.lab.world.world import Resolver, World
from kuppel.probes.net import Binding
from kuppel.probes.registry import kind_named
from kuppel.probes.repetition import run_probe

# A Thursday, 10:00 UTC.
BEGUN_US = 1_790_244_000_000_000
T = TypeVar("T")


def in_simulated_time(work: Callable[[], Coroutine[Any, Any, T]]) -> T:
    """Run on a loop on which waiting takes no time."""
    loop = SimulatedLoop()
    try:
        return loop.run_until_complete(work())
    finally:
        loop.run_until_complete(loop.shutdown_default_executor())
        loop.close()


def plan_named(name: str) -> Plan:
    return next(one for one in PLANS if one.name == name)


def skerry(seed: int = 5, *faults: Fault, days: int = 3) -> World:
    world = skerry_world(seed, BEGUN_US, days)
    world.effects.put(effects(world, faults))
    return world


def fault(kind: str, where: str, strength: float = 1.0, from_us: int = BEGUN_US - 3_600_000_000) -> Fault:
    return Fault(1, kind, where, from_us, None, strength)


def measured(
    world: World, kind: str, settings: Mapping[str, Any], point: str, times_us: IntArray, attempts: int = 1
) -> list[Result]:
    """Runs of a probe kind at given times, by the real code above the seam."""
    made = kind_named(kind)
    parsed = made.parse(dict(settings))

    async def run(time_us: int) -> Result:
        net = SimulatedNet(world, point, SimulatedClock(time_us - round(asyncio.get_running_loop().time() * 1e6)))
        return await run_probe(made, parsed, net, binding=Binding(), attempts=attempts, attempt_gap_us=500_000)

    async def all_of_them() -> list[Result]:
        return [await run(int(one)) for one in times_us]

    return in_simulated_time(all_of_them)


def quiet_line(delay_ms: float, back_ms: float, hops: int = 3) -> World:
    """A chain of hosts without noise: a vantage point, routers, and a server that also is a resolver."""
    graph = Topology()
    names = ["near", *(f"router {number}" for number in range(1, hops)), "far"]
    for number, name in enumerate(names):
        graph.add(Host(name, "lab", "transit", f"192.0.2.{number + 1}", f"2001:db8::{number + 1}", answer_ms=0))
    for one, other in itertools.pairwise(names):
        graph.join(Link(one, other, "transit", "lab", delay_ms / hops))
        graph.join(Link(other, one, "transit", "lab", back_ms / hops))
    world = World(1, graph)
    world.resolvers["far"] = Resolver("far", 1.0, 0.0, 0.0)
    world.resolver_of["near"] = "far"
    world.names["far.example", 4] = f"192.0.2.{len(names)}"
    return world


def minutes(count: int, every: int = 1, from_us: int = BEGUN_US) -> IntArray:
    return from_us + np.arange(count, dtype=np.int64) * every * 60_000_000

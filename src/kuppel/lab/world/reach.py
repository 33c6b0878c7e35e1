"""Who measures what: which streams cross which component, and which components nobody could tell apart by measuring."""

from collections.abc import Iterable
from typing import Any

import numpy as np

from kuppel.lab.skerry.estate import Plan
from kuppel.lab.world.fault import KINDS, Fault, components
from kuppel.lab.world.topology import link_name
from kuppel.lab.world.world import World

_OF_LINES = ("delay", "load", "loss", "bursts", "cost", "no_v6")
_OF_SERVICES = ("errors", "queueing", "slowness", "off")
Streams = frozenset[tuple[str, str]]


def line_of(world: World, link: str) -> str:
    """A line's one name, whichever way."""
    one = world.topology.links[link]
    return min(link, link_name(one.target, one.source))


class Reach:
    """Streams (probe, vantage point) by component, at a moment."""

    def __init__(self, world: World, plans: Iterable[Plan], time_us: int) -> None:
        self._world = world
        self._epoch = int(world.effects.epochs(np.array([time_us], dtype=np.int64))[0])
        self._lines: dict[str, set[tuple[str, str]]] = {}
        self._applications: dict[str, set[tuple[str, str]]] = {}
        self._resolvers: dict[str, set[tuple[str, str]]] = {}
        self._points: dict[str, set[tuple[str, str]]] = {}
        self._hosts: dict[str, set[tuple[str, str]]] = {}
        # Lines that a path probe sees one behind the other, with a router between that answers.
        self._apart: set[frozenset[str]] = set()
        for plan in plans:
            for point in plan.points:
                self._add(plan, point)

    def _add(self, plan: Plan, point: str) -> None:
        stream = (plan.name, point)
        self._points.setdefault(point, set()).add(stream)
        resolver = self._world.resolver_of.get(point)
        is_asked = plan.kind not in ("host", "dns")
        if resolver is not None and is_asked:
            self._resolvers.setdefault(resolver, set()).add(stream)
            self._cross(stream, point, resolver)
        target = self._target(plan)
        if plan.kind == "dns" and target is not None:
            self._resolvers.setdefault(target, set()).add(stream)
        if target is not None:
            self._cross(stream, point, target)
            if plan.kind == "path":
                self._separate(point, target)
        if plan.application and plan.kind != "dns":
            self._depend(stream, plan.application)

    def _target(self, plan: Plan) -> str | None:
        if plan.kind == "dns":
            return self._world.hosts_by_address[plan.settings["resolver"]].name
        if plan.application:
            return self._world.applications[plan.application].host
        name = plan.settings.get("host")
        if name is None:
            return None
        address = self._world.names.get((name, 4), name)
        return self._world.hosts_by_address[address].name

    def _depend(self, stream: tuple[str, str], application: str) -> None:
        self._applications.setdefault(application, set()).add(stream)
        for one in self._world.applications[application].dependencies:
            self._depend(stream, one.application)

    def _cross(self, stream: tuple[str, str], point: str, target: str) -> None:
        for near, far in ((point, target), (target, point)):
            for way in self._world.routing.ways(near, far, self._epoch):
                for link in way.links:
                    self._lines.setdefault(line_of(self._world, link.name), set()).add(stream)
                    self._hosts.setdefault(link.target, set()).add(stream)

    def _separate(self, point: str, target: str) -> None:
        for way in self._world.routing.ways(point, target, self._epoch):
            names = [line_of(self._world, one.name) for one in way.links]
            for far in range(1, len(names)):
                if any(self._world.topology.hosts[one.target].answer_share > 0 for one in way.links[:far]):
                    self._apart |= {frozenset((names[near], names[far])) for near in range(far)}

    def streams(self, component: str) -> Streams:
        """The streams that a component can harm."""
        if component in self._world.topology.links:
            return frozenset(self._lines.get(line_of(self._world, component), ()))
        for known in (self._applications, self._resolvers, self._points, self._hosts):
            if component in known:
                return frozenset(known[component])
        return frozenset()

    def is_touched(self, fault: Fault) -> bool:
        """Whether anything that is measured passes where a fault is."""
        return any(self.streams(one) for one in components(self._world, fault))

    def alike(self, fault: Fault) -> list[dict[str, Any]]:
        """Components, each with its domain, that explain what is measured as well as the true one: those which the same
        streams cross, which do the same harm, and which no path probe sees apart. The true ones are among them."""
        parts = KINDS[fault.kind].parts(self._world, fault.where)
        own = sorted({line_of(self._world, one) if one in self._world.topology.links else one for _, one, *_ in parts})
        found = {(self._domain(one, fault), one) for one in own}
        if len(own) == 1:
            kinds = frozenset(kind for kind, *_ in parts)
            found |= {(self._domain(one, fault), one) for one in self._suspects(own[0], kinds)}
        return [{"domain": domain, "component": component} for domain, component in sorted(found)]

    def _suspects(self, own: str, kinds: frozenset[str]) -> list[str]:
        wanted = self.streams(own)
        lines = [one for one, crossed in self._lines.items() if crossed == wanted]
        if kinds & set(_OF_LINES):
            return [one for one in lines if frozenset((one, own)) not in self._apart]
        if "slow_names" in kinds:
            return [*(one for one, asked in self._resolvers.items() if asked == wanted), *lines]
        if kinds & set(_OF_SERVICES):
            return [one for one, used in self._applications.items() if used == wanted]
        return lines if "silent" in kinds else []

    def _domain(self, component: str, fault: Fault) -> str:
        link = self._world.topology.links.get(component)
        return fault.domain if link is None else link.domain

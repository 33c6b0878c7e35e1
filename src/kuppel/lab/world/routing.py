"""Which ways packets go: least total cost, and all ways of the same cost (equal-cost multipath, RFC 2992).

Each way round is routed by itself, with its own costs, so a reply may come back another way than the question went.
"""

import heapq
from collections.abc import Mapping
from dataclasses import dataclass

from kuppel.lab.world.effect import Effects
from kuppel.lab.world.topology import Link, Topology

_MOST_WAYS = 16


@dataclass(frozen=True, slots=True)
class Way:
    """Links one after another, and the share of flows that take them."""

    links: tuple[Link, ...]
    share: float

    @property
    def hosts(self) -> tuple[str, ...]:
        """The hosts behind each link; the source is not among them."""
        return tuple(one.target for one in self.links)


class Routing:
    """Ways between hosts, in each epoch of routing."""

    def __init__(self, topology: Topology, effects: Effects) -> None:
        self._topology = topology
        self._effects = effects
        self._version = -1
        self._ways: dict[tuple[str, str, int], tuple[Way, ...]] = {}

    def ways(self, source: str, target: str, epoch: int) -> tuple[Way, ...]:
        """All ways of least cost, their shares adding up to 1; none when there is no way."""
        if self._version != self._effects.version:
            self._ways.clear()
            self._version = self._effects.version
        key = (source, target, epoch)
        if key not in self._ways:
            self._ways[key] = self._found(source, target, self._effects.epoch_start(epoch))
        return self._ways[key]

    def _found(self, source: str, target: str, time_us: int) -> tuple[Way, ...]:
        costs = self._costs(time_us)
        far = distances(self._topology, target, costs)
        if source not in far:
            return ()
        found: list[Way] = []

        def follow(host: str, links: tuple[Link, ...], share: float) -> None:
            if host == target:
                found.append(Way(links, share))
                return
            next_links = [
                one
                for one in self._topology.neighbours[host]
                if one.name in costs and one.target in far and far[one.target] + costs[one.name] == far[host]
            ]
            for one in next_links[: _MOST_WAYS - len(found)]:
                follow(one.target, (*links, one), share / len(next_links))

        follow(source, (), 1.0)
        return tuple(found)

    def _costs(self, time_us: int) -> dict[str, int]:
        """The cost of every link that is up at a moment."""
        found: dict[str, int] = {}
        for name, one in self._topology.links.items():
            if self._effects.now("down", name, time_us) is None:
                more = self._effects.now("cost", name, time_us)
                found[name] = one.cost + (0 if more is None else round(more.value))
        return found


def distances(topology: Topology, target: str, costs: Mapping[str, int]) -> dict[str, int]:
    """The least cost from every host to a target (Dijkstra, 1959); hosts without a way are left out."""
    before: dict[str, list[Link]] = {}
    for name in costs:
        link = topology.links[name]
        before.setdefault(link.target, []).append(link)
    found: dict[str, int] = {}
    queue = [(0, target)]
    while queue:
        cost, host = heapq.heappop(queue)
        if host in found:
            continue
        found[host] = cost
        for link in before.get(host, ()):
            if link.source not in found:
                heapq.heappush(queue, (cost + costs[link.name], link.source))
    return found

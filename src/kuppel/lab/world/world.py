"""The world as a whole, and packets crossing it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from kuppel.core.duration import DAY_US
from kuppel.core.series import FloatArray, IntArray
from kuppel.lab.world import condition
from kuppel.lab.world.application import Answered, Application, answered
from kuppel.lab.world.draw import Generator
from kuppel.lab.world.effect import Effects
from kuppel.lab.world.loss import Flags
from kuppel.lab.world.routing import Routing, Way
from kuppel.lab.world.topology import Host, Link, Topology

_HEADERS = {4: 28, 6: 48}


@dataclass(frozen=True, slots=True)
class Resolver:
    """A name server that people ask. What it does not remember it has to ask for elsewhere."""

    host: str
    remembered_share: float = 0.96
    own_ms: float = 0.25
    elsewhere_ms: float = 34.0


@dataclass(frozen=True, slots=True)
class Certificate:
    """A certificate in use from a moment on: its chain as PEM, the leaf first, and until when it is valid."""

    from_us: int
    not_after_us: int
    chain: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Crossing:
    """Trains of packets one way: ms that each was under way, and which were lost; shape (n, count)."""

    delays_ms: FloatArray
    lost: Flags


@dataclass
class World:
    """Everything that answers.

    Parameters
    ----------
    names : addresses by name, each family's own.
    resolver_of : by vantage point the host whose resolver it asks.
    certificates : by application, in the order of time.
    releases : by application (from when, version), in the order of time.
    """

    seed: int
    topology: Topology
    effects: Effects = field(default_factory=Effects)
    applications: dict[str, Application] = field(default_factory=dict)
    names: dict[tuple[str, int], str] = field(default_factory=dict)
    resolvers: dict[str, Resolver] = field(default_factory=dict)
    resolver_of: dict[str, str] = field(default_factory=dict)
    certificates: dict[str, list[Certificate]] = field(default_factory=dict)
    releases: dict[str, list[tuple[int, str]]] = field(default_factory=dict)
    _routing: Routing | None = None

    @property
    def routing(self) -> Routing:
        if self._routing is None:
            self._routing = Routing(self.topology, self.effects)
        return self._routing

    def listening(self, address: str, port: int) -> Application | None:
        """The application at an address and port."""
        host = self.hosts_by_address.get(address)
        if host is None:
            return None
        return next((one for one in self.applications.values() if (one.host, one.port) == (host.name, port)), None)

    def answered(self, application: Application, times_us: IntArray, draw: Generator) -> Answered:
        return answered(self.seed, self.applications, application, self.effects, times_us, draw)

    def certificate(self, application: str, time_us: int) -> Certificate | None:
        return next((one for one in reversed(self.certificates.get(application, [])) if one.from_us <= time_us), None)

    def release(self, application: str, time_us: int) -> str:
        return next((name for from_us, name in reversed(self.releases.get(application, [])) if from_us <= time_us), "")

    def is_off(self, application: str, times_us: IntArray) -> Flags:
        """Whether nobody listens where an application should, at each time."""
        off = self.effects.value("off", application, times_us)
        return np.zeros(times_us.size, dtype=bool) if off is None else off > 0

    def groups(
        self, source: str, target: str, times_us: IntArray, flows: FloatArray
    ) -> Iterator[tuple[Way | None, IntArray]]:
        """Which packets go which way: ways, each with the numbers of those that take it; None for those without a way.

        Parameters
        ----------
        flows : shape (n,), in [0, 1): what the routers' hashes make of each packet's flow.
        """
        epochs = self.effects.epochs(times_us)
        for epoch in np.unique(epochs).tolist():
            own = np.flatnonzero(epochs == epoch)
            ways = self.routing.ways(source, target, epoch)
            if len(ways) < 2:
                yield (ways[0] if ways else None), own
                continue
            edges = np.cumsum([one.share for one in ways])[:-1]
            chosen = np.searchsorted(edges, flows[own], side="right")
            for number in np.unique(chosen).tolist():
                yield ways[number], own[chosen == number]

    def cross(
        self,
        source: str,
        target: str,
        times_us: IntArray,
        flows: FloatArray,
        draw: Generator,
        *,
        octets: int = 64,
        count: int = 1,
        gap_ms: float = 0.0,
        family: int = 4,
    ) -> Crossing:
        """Trains of `count` packets of so many octets (headers of IP and UDP come on top), `gap_ms` apart."""
        delays = np.zeros((times_us.size, count))
        lost = np.zeros((times_us.size, count), dtype=bool)
        for way, own in self.groups(source, target, times_us, flows):
            if way is None:
                lost[own] = True
                continue
            delays[own], lost[own] = self.along(
                way.links, times_us[own], draw, octets=octets, count=count, gap_ms=gap_ms, family=family
            )
        return Crossing(delays, lost)

    def along(
        self,
        links: Sequence[Link],
        times_us: IntArray,
        draw: Generator,
        *,
        octets: int = 64,
        count: int = 1,
        gap_ms: float = 0.0,
        family: int = 4,
    ) -> tuple[FloatArray, Flags]:
        """Trains of packets along given links: delays in ms and which were lost, both of shape (n, count)."""
        size = octets + _HEADERS[family]
        steady_ms = sum(one.delay_ms + one.serialisation_ms(size) for one in links)
        delays = np.full((times_us.size, count), steady_ms)
        lost = np.zeros((times_us.size, count), dtype=bool)
        if times_us.size == 0:
            return delays, lost
        passed = np.ones(times_us.size)
        first_us, last_us = int(times_us.min()), int(times_us.max())
        for link in links:
            if condition.is_lively(link, self.effects, first_us, last_us):
                waits, share, taken = condition.suffered(self.seed, link, self.effects, times_us, count, gap_ms, draw)
                delays += waits
                passed *= 1 - share
                if taken is not None:
                    lost |= taken
            for kind in ("down", "no_v6") if family == 6 else ("down",):
                gone = self.effects.value(kind, link.target, times_us)
                if gone is not None:
                    lost |= (gone > 0)[:, None]
        unlucky = np.flatnonzero(passed < 1)
        if unlucky.size:
            lost[unlucky] |= draw.random((unlucky.size, count)) >= passed[unlucky][:, None]
        return delays, lost

    @cached_property
    def hosts_by_address(self) -> dict[str, Host]:
        found = {one.address: one for one in self.topology.hosts.values()}
        return found | {one.address_v6: one for one in self.topology.hosts.values() if one.address_v6}


def slices(times_us: IntArray) -> Iterator[IntArray]:
    """Numbers of times day by day."""
    days = times_us // DAY_US
    for day in np.unique(days).tolist():
        yield np.flatnonzero(days == day)

"""The graph: hosts, and links between them, each way a link of its own."""

from dataclasses import dataclass, field
from typing import Literal

from kuppel.lab.world.loss import Bursts

# The fault domains of a way, in its order, and those apart from it.
Domain = Literal["machine", "local", "provider", "transit", "far", "service", "names", "certificate", "measuring"]
Queue = Literal["none", "exponential", "constant"]


@dataclass(frozen=True, slots=True)
class Wifi:
    """The last metres by radio: the usual signal, dBm."""

    signal_dbm: float


@dataclass(frozen=True, slots=True)
class Host:
    """A machine: a router, a server, a vantage point.

    `answer_share` is how many of the packets that die at a router it reports (RFC 792, time exceeded), `answer_ms` how long
    it usually takes over that: routers answer in their spare time.
    """

    name: str
    network: str
    domain: Domain
    address: str
    address_v6: str = ""
    reverse: str = ""
    place: str = ""
    answer_share: float = 1.0
    answer_ms: float = 0.15


@dataclass(frozen=True, slots=True)
class Link:
    """One way of a line. `load` is its utilisation in the busiest hour, `rate_mbit` 0 for one without limit.

    `jitter_ms` is a uniform wait for one's turn (a shared medium); `buffer_ms` what a full queue holds.
    """

    source: str
    target: str
    domain: Domain
    network: str
    delay_ms: float
    rate_mbit: float = 0.0
    load: float = 0.0
    queue: Queue = "none"
    cost: int = 1
    loss: float = 0.0
    bursts: Bursts | None = None
    jitter_ms: float = 0.0
    buffer_ms: float = 120.0
    wifi: Wifi | None = None

    @property
    def name(self) -> str:
        return link_name(self.source, self.target)

    @property
    def is_steady(self) -> bool:
        """Whether every packet takes the same time over it, and none is lost, while nothing is wrong."""
        return self.queue == "none" and not self.loss and self.bursts is None and not self.jitter_ms and self.wifi is None

    def serialisation_ms(self, octets: int) -> float:
        """How long it takes to put a packet on the line."""
        return octets * 8 / self.rate_mbit / 1000 if self.rate_mbit else 0.0


def link_name(source: str, target: str) -> str:
    return f"{source}>{target}"


@dataclass(slots=True)
class Topology:
    """Hosts and links by name."""

    hosts: dict[str, Host] = field(default_factory=dict)
    links: dict[str, Link] = field(default_factory=dict)
    neighbours: dict[str, list[Link]] = field(default_factory=dict)

    def add(self, *hosts: Host) -> None:
        for one in hosts:
            if one.name in self.hosts:
                raise ValueError(f"host {one.name} is there already")
            self.hosts[one.name] = one
            self.neighbours[one.name] = []

    def join(self, *links: Link) -> None:
        for one in links:
            for end in (one.source, one.target):
                if end not in self.hosts:
                    raise ValueError(f"link {one.name}: there is no host {end}")
            if one.name in self.links:
                raise ValueError(f"link {one.name} is there already")
            self.links[one.name] = one
            self.neighbours[one.source].append(one)

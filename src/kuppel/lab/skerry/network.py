"""The networks around Skerry Line: harbours, homes, ships, four access providers, a transit carrier, an exchange, hosting.

Delays are one way, ms. Rates are Mbit/s. Addresses are from RFC 5737, RFC 3849 and RFC 1918.
"""

from dataclasses import dataclass, field

from kuppel.lab.world.loss import Bursts
from kuppel.lab.world.topology import Domain, Host, Link, Queue, Topology, Wifi

_ROUTING_UNIT_MS = 0.1
# Packets wait only microseconds at lines as wide as this.
_WIDE_MBIT = 1000
EXCHANGE, HOSTING = "Norrvik Exchange", "Skerry hosting"


@dataclass(frozen=True, slots=True)
class Side:
    """One direction of a line."""

    rate: float = 0.0
    load: float = 0.0
    cost: int | None = None
    jitter_ms: float = 0.0


@dataclass(slots=True)
class _Builder:
    topology: Topology = field(default_factory=Topology)

    def router(
        self, name: str, network: str, domain: Domain, address: str, *, v6: str = "", share: float = 1.0, ms: float = 0.15
    ) -> str:
        reverse = f"{name}.{network.split(maxsplit=1)[0].lower()}.example"
        self.topology.add(Host(name, network, domain, address, v6, reverse, answer_share=share, answer_ms=ms))
        return name

    def server(self, name: str, network: str, address: str, *, v6: str = "", reverse: str = "") -> str:
        self.topology.add(Host(name, network, "service", address, v6, reverse or f"{name}.skerry.example"))
        return name

    def line(
        self, near: str, far: str, domain: Domain, network: str, delay_ms: float, *,
        up: Side = Side(), down: Side = Side(), queue: Queue = "exponential", buffer_ms: float = 120.0,
        loss: float = 0.0, bursts: Bursts | None = None, wifi: Wifi | None = None,
    ) -> None:  # fmt: skip
        """A line between two hosts; `up` is from near to far."""
        usual = max(1, round(delay_ms / _ROUTING_UNIT_MS))
        for source, target, side in ((near, far, up), (far, near, down)):
            self.topology.join(
                Link(
                    source, target, domain, network, delay_ms, side.rate, side.load,
                    queue if 0 < side.rate < _WIDE_MBIT else "none",
                    usual if side.cost is None else side.cost, loss, bursts, side.jitter_ms, buffer_ms, wifi,
                )
            )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Home:
    """A person's line: whose, where, through which provider's edge, and how the laptop is connected."""

    person: str
    town: str
    provider: str
    edge: str
    signal_dbm: float | None
    down_mbit: float = 100
    up_mbit: float = 20


HOMES = (
    Home("Ines H.", "Lundhavn", "Quillnet", "lun-edge-2", -56),
    Home("Olu A.", "Lundhavn", "Quillnet", "lun-edge-2", -61),
    Home("Pieter V.", "Brannick", "Quillnet", "bri-edge-1", None),
    Home("Tobias R.", "Kelmouth", "Vaskfiber", "kel-edge-1", -58),
    Home("Freja B.", "Kelmouth", "Vaskfiber", "kel-edge-1", -63),
    Home("Nils O.", "Kelmouth", "Vaskfiber", "kel-edge-2", None, 250, 100),
    Home("Hanna S.", "Kelmouth", "Vaskfiber", "kel-edge-2", -59),
    Home("Erik D.", "Kelmouth", "Vaskfiber", "kel-edge-1", -65),
    Home("Maren K.", "Lundhavn", "Vaskfiber", "lun-edge-1", -57, 250, 100),
    Home("Runa E.", "Brannick", "Vaskfiber", "bra-edge-1", -60),
    Home("Liv T.", "Ostrey", "Vaskfiber", "ost-edge-1", None, 250, 100),
    Home("Marta J.", "Ostrey", "Vaskfiber", "ost-edge-1", -62),
    Home("Dag W.", "Vessna", "Tarnmobile", "ves-mast-1", -60, 60, 15),
    Home("Sanna L.", "the mainland road", "Tarnmobile", "road-mast-4", None, 40, 10),
)
# Harbour, its number in our addresses, provider's edges (two: parallel uplinks), and the rate of each uplink.
HARBOURS = (
    ("Brannick", 4, ("bra-edge-1",), "Vaskfiber", 200),
    ("Ostrey", 5, ("ost-edge-1",), "Vaskfiber", 200),
    ("Averil", 6, ("ave-edge-1",), "Vaskfiber", 8),
    ("Lundhavn", 7, ("lun-edge-2",), "Quillnet", 200),
    ("Kelmouth", 3, ("kel-edge-1", "kel-edge-2"), "Vaskfiber", 100),
    ("Vessna", 8, ("ves-mast-1",), "Tarnmobile", 50),
)
SHIPS = ("MV Fulmar", "MV Guillemot", "MV Kittiwake")
PUBLIC = (("North", "hw-core-1", 6.2), ("West", "hw-core-2", 8.0), ("South", "sund-core-1", 7.1))


def skerry_topology() -> Topology:
    """The whole graph."""
    build = _Builder()
    _core(build)
    _quillnet(build)
    _vaskfiber(build)
    _tarnmobile(build)
    _orrosat(build)
    _servers(build)
    for name, number, edges, provider, rate in HARBOURS:
        _harbour(build, name, number, edges, provider, rate)
    for number, home in enumerate(HOMES):
        _home(build, number, home)
    for number, (name, core, delay_ms) in enumerate(PUBLIC):
        network = "Sund Carrier" if name == "South" else "Harrow Transit"
        host = Host(
            name, network, "machine", f"198.51.100.{141 + number}", f"2001:db8:90::{141 + number}",
            f"{name.lower()}.points.skerry.example",
        )  # fmt: skip
        build.topology.add(host)
        gate = build.router(f"{name.lower()}-gate", network, "local", f"198.51.100.{151 + number}")
        build.line(name, gate, "local", network, 0.12, up=Side(1000, 0.2), down=Side(1000, 0.2))
        build.line(gate, core, "provider", network, delay_ms, up=Side(10_000, 0.3), down=Side(10_000, 0.3))
    return build.topology


def _core(build: _Builder) -> None:
    """Transit, the exchange, and the way into the hosting."""
    for name, address in (("hw-core-1", "192.0.2.129"), ("hw-core-2", "192.0.2.130")):
        build.router(name, "Harrow Transit", "transit", address, v6=f"2001:db8:20::{address[-1]}")
    build.router("sund-core-1", "Sund Carrier", "transit", "192.0.2.161")
    for name, last in (("nx-port-17", 65), ("nx-port-4", 66), ("nx-port-9", 67), ("nx-port-2", 68)):
        build.router(name, EXCHANGE, "transit", f"192.0.2.{last}", v6=f"2001:db8:30::{last}")
    # This one is busy: it answers little and late, and passes everything on at once.
    build.router("nx-spine-2", EXCHANGE, "transit", "192.0.2.70", share=0.75, ms=9.0)
    build.router("nx-spine-1", EXCHANGE, "transit", "192.0.2.69")
    build.router("edge-a", HOSTING, "far", "198.51.100.1", v6="2001:db8:40::1")
    build.router("edge-b", HOSTING, "far", "198.51.100.2", v6="2001:db8:40::2")
    # Everything crosses the exchange, and takes its turn there.
    turn_ms = 0.4
    big = Side(100_000, 0.45, jitter_ms=turn_ms)
    for port in ("nx-port-17", "nx-port-4", "nx-port-9", "nx-port-2"):
        build.line(port, "nx-spine-2", "transit", EXCHANGE, 0.6, up=big, down=Side(100_000, 0.45, cost=40))
        # What comes back goes by the other spine: ways out and home differ.
        build.line(port, "nx-spine-1", "transit", EXCHANGE, 0.9, up=Side(100_000, 0.3, cost=40), down=big)
    build.line("nx-spine-2", "edge-a", "far", HOSTING, 4.6, up=Side(10_000, 0.5), down=Side(10_000, 0.5, cost=90))
    build.line("nx-spine-1", "edge-b", "far", HOSTING, 4.9, up=Side(10_000, 0.4, cost=90), down=Side(10_000, 0.4))
    build.line("hw-core-1", "nx-port-2", "transit", "Harrow Transit", 3.4, up=Side(100_000, 0.5), down=Side(100_000, 0.5))
    build.line("hw-core-2", "nx-port-2", "transit", "Harrow Transit", 4.1, up=Side(100_000, 0.5), down=Side(100_000, 0.5))
    build.line("sund-core-1", "hw-core-2", "transit", "Sund Carrier", 2.2, up=Side(100_000, 0.4), down=Side(100_000, 0.4))


def _quillnet(build: _Builder) -> None:
    name = "Quillnet"
    for host, last in (("lun-edge-2", 9), ("bri-edge-1", 10), ("trs-core-2", 17), ("trs-core-1", 41), ("hav-core-3", 44)):
        build.router(host, name, "provider", f"203.0.113.{last}", v6=f"2001:db8:50::{last}")
    side = Side(10_000, 0.5)
    for edge, delay_ms in (("lun-edge-2", 1.6), ("bri-edge-1", 2.4)):
        build.line(edge, "trs-core-2", "provider", name, delay_ms, up=side, down=side)
        build.line(edge, "trs-core-1", "provider", name, delay_ms + 0.2, up=side, down=side)
    build.line("trs-core-2", "nx-port-17", "provider", name, 9.8, up=side, down=side)
    build.line("trs-core-1", "hav-core-3", "provider", name, 27.6, up=side, down=side)
    build.line("hav-core-3", "nx-port-17", "provider", name, 12.4, up=side, down=side)


def _vaskfiber(build: _Builder) -> None:
    name = "Vaskfiber"
    edges = (("kel-edge-1", 129, 5.2), ("kel-edge-2", 130, 5.2), ("bra-edge-1", 131, 6.1), ("lun-edge-1", 132, 7.0),
             ("ost-edge-1", 133, 6.4), ("ave-edge-1", 134, 7.8))  # fmt: skip
    build.router("vf-core-1", name, "provider", "203.0.113.161", v6="2001:db8:60::a1")
    build.router("vf-core-2", name, "provider", "203.0.113.162", v6="2001:db8:60::a2")
    side = Side(10_000, 0.45)
    for edge, last, delay_ms in edges:
        build.router(edge, name, "provider", f"203.0.113.{last}", v6=f"2001:db8:60::{last}")
        for core in ("vf-core-1", "vf-core-2"):
            build.line(edge, core, "provider", name, delay_ms, up=side, down=side)
    for core in ("vf-core-1", "vf-core-2"):
        build.line(core, "nx-port-4", "provider", name, 9.1, up=side, down=side)


def _tarnmobile(build: _Builder) -> None:
    name = "Tarnmobile"
    build.router("tm-gate-1", name, "provider", "203.0.113.193")
    build.router("tm-core-1", name, "provider", "203.0.113.194")
    for mast, last in (("ves-mast-1", 195), ("road-mast-4", 196)):
        build.router(mast, name, "provider", f"203.0.113.{last}")
        # A mast is shared by all who are near, who take turns.
        build.line(
            mast, "tm-gate-1", "provider", name, 8.5, up=Side(80, 0.4, jitter_ms=4), down=Side(150, 0.5, jitter_ms=2)
        )
    build.line("tm-gate-1", "tm-core-1", "provider", name, 2.2, up=Side(10_000, 0.4), down=Side(10_000, 0.4))
    build.line("tm-core-1", "nx-port-9", "provider", name, 7.4, up=Side(10_000, 0.4), down=Side(10_000, 0.4))


def _orrosat(build: _Builder) -> None:
    name = "Orrosat"
    build.router("orr-hub-1", name, "provider", "203.0.113.225")
    build.line("orr-hub-1", "hw-core-1", "provider", name, 8.5, up=Side(1000, 0.4), down=Side(1000, 0.4))
    for number, ship in enumerate(SHIPS):
        address = f"10.{21 + number}.0.10"
        build.topology.add(Host(ship, name, "machine", address, "", f"{ship[3:].lower()}.ships.skerry.example", ship))
        modem = build.router(f"modem-{ship[3:].lower()}", "own network", "local", f"10.{21 + number}.0.1")
        build.line(ship, modem, "local", "own network", 0.4, up=Side(100, 0.1), down=Side(100, 0.1))
        # Up to the satellite and down: 36,000 km twice (ITU-T G.114 Annex A: 260 ms), and waiting for a time slot.
        build.line(
            modem, "orr-hub-1", "provider", name, 262, up=Side(3, 0.45, jitter_ms=38), down=Side(12, 0.4, jitter_ms=8),
            queue="constant", buffer_ms=600, loss=0.0015, bursts=Bursts(0.002, 180),
        )  # fmt: skip


def _harbour(build: _Builder, name: str, number: int, edges: tuple[str, ...], provider: str, rate: float) -> None:
    low = name.lower()
    build.topology.add(
        Host(name, "own network", "machine", f"10.{number}.0.10", f"2001:db8:{number}::10", f"{low}.skerry.example", name)
    )
    edge = build.router(f"edge-{low}", "own network", "local", f"10.{number}.0.1", v6=f"2001:db8:{number}::1")
    build.line(name, edge, "local", "own network", 0.15, up=Side(1000, 0.15), down=Side(1000, 0.15))
    # A thin line is as busy as its people make it; a wide one is not.
    busy = 0.62 if rate < 20 else 0.38
    for far in edges:
        build.line(
            edge, far, "local", provider, 1.7, up=Side(rate, busy * 0.6), down=Side(rate, busy),
            buffer_ms=260 if rate < 20 else 120,
        )  # fmt: skip


def _home(build: _Builder, number: int, home: Home) -> None:
    low = home.person.split()[0].lower()
    host = Host(
        home.person, "own network", "machine", f"10.{40 + number}.0.23", "", f"{low}.people.skerry.example", home.town
    )
    build.topology.add(host)
    router = build.router(f"home-{low}", "own network", "local", f"10.{40 + number}.0.1", ms=0.5)
    wifi = None if home.signal_dbm is None else Wifi(home.signal_dbm)
    side = Side(300, 0.08)
    build.line(home.person, router, "machine", "own network", 0.3, up=side, down=side, wifi=wifi)
    build.line(
        router, home.edge, "local", home.provider, 3.9 if home.provider != "Tarnmobile" else 8.0,
        up=Side(home.up_mbit, 0.3), down=Side(home.down_mbit, 0.42), buffer_ms=180, loss=0.0001,
    )  # fmt: skip


def _servers(build: _Builder) -> None:
    for name, last, has_v6 in (
        ("booking", 80, True), ("api", 81, True), ("roster", 84, False), ("signin", 85, False), ("mail", 86, False),
        ("charts", 88, False), ("weather", 89, False), ("calls", 90, False), ("line", 95, False),
    ):  # fmt: skip
        build.server(name, HOSTING, f"198.51.100.{last}", v6=f"2001:db8:40::{last}" if has_v6 else "")
        for edge in ("edge-a", "edge-b"):
            build.line(name, edge, "far", HOSTING, 0.3, up=Side(1000, 0.3), down=Side(1000, 0.3))
    build.server("dns", HOSTING, "192.0.2.53", v6="2001:db8:40::53")
    for edge in ("edge-a", "edge-b"):
        build.line("dns", edge, "far", HOSTING, 0.3, up=Side(1000, 0.1), down=Side(1000, 0.1))
    build.router("pay-edge", "Fjordpay", "far", "198.51.100.193")
    build.server("pay", "Fjordpay", "198.51.100.200", reverse="pay.example")
    build.line("hw-core-2", "pay-edge", "far", "Fjordpay", 5.5, up=Side(10_000, 0.4), down=Side(10_000, 0.4))
    build.line("pay-edge", "pay", "far", "Fjordpay", 0.4, up=Side(1000, 0.3), down=Side(1000, 0.3))
    for name, edge, last in (("gates", "ost-edge-1", 33), ("tides", "kel-edge-1", 34)):
        build.server(name, "own network", f"198.51.100.{last}")
        build.line(name, edge, "far", "Vaskfiber", 2.0, up=Side(50, 0.2), down=Side(50, 0.2))
    # Each provider has resolvers of its own.
    for name, near, last in (("dns-quillnet", "trs-core-1", 53), ("dns-vaskfiber", "vf-core-1", 153),
                             ("dns-tarnmobile", "tm-core-1", 203), ("dns-open", "hw-core-1", 213)):  # fmt: skip
        build.topology.add(Host(name, name.partition("-")[2], "names", f"203.0.113.{last}", "", f"{name}.example"))
        build.line(near, name, "names", name, 0.4, up=Side(1000, 0.2), down=Side(1000, 0.2))

"""Faults as data: what kind, where, from when until when, how strong; and what it comes to in effects.

Each fault has a true domain and the components that are at fault: what localisation is judged against.
"""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from kuppel.core.error import SettingsError
from kuppel.lab.world.effect import Effect, EffectKind
from kuppel.lab.world.machine import radio_of
from kuppel.lab.world.topology import Domain, link_name
from kuppel.lab.world.world import World


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault. `strength` is 1 for a usual one, more for a worse one; `until_us` is None while it is open."""

    id: int
    kind: str
    where: str
    from_us: int
    until_us: int | None = None
    strength: float = 1.0

    @property
    def domain(self) -> Domain:
        return KINDS[self.kind].domain


Part = tuple[EffectKind, str, float, float, str]
"""Kind, component, value at strength 1, length in ms where it has one, a note."""


@dataclass(frozen=True, slots=True)
class FaultKind:
    """A kind of fault. `places` are where it can be; `parts` what it does there; `is_fault` is false for what only looks
    like one."""

    name: str
    domain: Domain
    words: str
    places: Callable[[World], list[str]]
    parts: Callable[[World, str], list[Part]]
    is_fault: bool = True


def effects(world: World, faults: Iterable[Fault]) -> list[Effect]:
    """What faults come to."""
    found = []
    for fault in faults:
        for kind, component, value, length_ms, note in KINDS[fault.kind].parts(world, fault.where):
            strength = 1.0 if kind in ("down", "off", "no_v6", "silent", "wrong_names", "cost") else fault.strength
            found.append(Effect(kind, component, value * strength, fault.from_us, fault.until_us, length_ms, note))
    return found


def components(world: World, fault: Fault) -> list[str]:
    """What is at fault: links, hosts and applications by name."""
    return sorted({component for _, component, *_ in KINDS[fault.kind].parts(world, fault.where)})


def checked(world: World, kind: str, where: str, strength: float) -> None:
    """Raise `SettingsError` for a fault that there cannot be."""
    if kind not in KINDS:
        raise SettingsError("kind", kind, f"be one of {', '.join(sorted(KINDS))}")
    places = KINDS[kind].places(world)
    if where not in places:
        raise SettingsError("where", where, f"be one of {', '.join(places)}")
    if not 0 < strength <= 10:
        raise SettingsError("strength", strength, "lie above 0 and at most at 10")


def _points(world: World) -> list[str]:
    return sorted(world.resolver_of)


def _of_domain(domain: Domain) -> Callable[[World], list[str]]:
    """Links of one domain, the way away from vantage points."""

    def places(world: World) -> list[str]:
        return sorted(one.name for one in world.topology.links.values() if one.domain == domain and one.source > one.target)

    return places


def _both(world: World, link: str, kind: EffectKind, value: float, length_ms: float = 0.0) -> list[Part]:
    """The same on both ways of a line."""
    one = world.topology.links[link]
    return [(kind, name, value, length_ms, "") for name in (link, link_name(one.target, one.source))]


def _uplinks(world: World, point: str) -> list[str]:
    """The lines of a vantage point's own network up to its provider."""
    near = {one.target for one in world.topology.neighbours[point]}
    return sorted(
        link.name
        for router in near
        for link in world.topology.neighbours[router]
        if link.target != point and world.topology.hosts[link.target].domain == "provider"
    )


def _providers(world: World) -> list[str]:
    found = {one.network for one in world.topology.links.values() if one.domain == "provider"}
    return sorted(one for one in found if _last_lines(world, one))


def _last_lines(world: World, provider: str) -> list[str]:
    """The lines by which a provider hands over to others."""
    hosts = world.topology.hosts
    return sorted(
        one.name
        for one in world.topology.links.values()
        if one.network == provider and one.domain == "provider" and hosts[one.target].domain == "transit"
        and hosts[one.source].domain == "provider"
    )  # fmt: skip


def _detour(world: World, provider: str) -> list[Part]:
    """The provider's usual core is left for another, where it has one; else its lines outwards become longer."""
    lines = _last_lines(world, provider)
    hosts = world.topology.hosts
    cores = {world.topology.links[one].source for one in lines}
    cheapest = min(lines, key=lambda one: world.topology.links[one].cost)
    if len(cores) > 1 and len({world.topology.links[one].cost for one in lines}) > 1:
        core = world.topology.links[cheapest].source
        near = [
            one.name for one in world.topology.links.values() if core in (one.source, one.target)
            and {hosts[one.source].domain, hosts[one.target].domain} <= {"provider", "transit"}
        ]  # fmt: skip
        return [("cost", one, 4_000, 0.0, "") for one in near]
    return [part for one in lines for part in _both(world, one, "delay", 29)]


def _parallel(world: World) -> list[str]:
    """One uplink of each site that has several."""
    found = [_uplinks(world, point) for point in _points(world)]
    return sorted(lines[-1] for lines in found if len(lines) > 1)


def _single(world: World, *, is_home: bool) -> list[str]:
    """Vantage points at home, or at a site, whose line to a provider is theirs: a ship's is its provider's satellite."""
    links = world.topology.links
    return [
        one for one in _points(world)
        if _is_home(world, one) == is_home and "local" in {links[line].domain for line in _uplinks(world, one)}
    ]  # fmt: skip


def _is_home(world: World, point: str) -> bool:
    return any(one.target.startswith("home-") for one in world.topology.neighbours[point])


def _ships(world: World) -> list[str]:
    return [one for one in _points(world) if any(n.target.startswith("modem-") for n in world.topology.neighbours[one])]


def _with_radio(world: World) -> list[str]:
    return [one for one in _points(world) if radio_of(world, one) is not None]


def _radio_parts(world: World, point: str) -> list[Part]:
    radio = radio_of(world, point)
    assert radio is not None  # places names such points alone
    return _both(world, radio.name, "signal", -21)


def _applications(world: World) -> list[str]:
    return sorted(world.applications)


def _needed(world: World) -> list[str]:
    """Applications that others cannot do without."""
    return sorted({one.application for app in world.applications.values() for one in app.dependencies if one.is_needed})


def _secured(world: World) -> list[str]:
    return sorted(world.certificates)


def _routers(world: World) -> list[str]:
    return sorted(one.name for one in world.topology.hosts.values() if one.domain in ("provider", "transit"))


def _gates(world: World) -> list[str]:
    """Routers at the edge of the network where targets are."""
    return sorted(one.name for one in world.topology.hosts.values() if one.domain == "far")


_ALL = (
    FaultKind(
        "provider_detour", "provider", "a provider's path changes, and everything through it takes longer",
        _providers, _detour,
    ),
    FaultKind(
        "slow_uplink", "local", "of a site's two parallel uplinks one is slow and lossy", _parallel,
        lambda world, one: [*_both(world, one, "delay", 45), *_both(world, one, "loss", 0.12)],
    ),
    FaultKind(
        "home_router_bursts", "local", "a home router drops packets in bursts",
        lambda world: _single(world, is_home=True),
        lambda world, one: [part for line in _uplinks(world, one) for part in _both(world, line, "bursts", 0.06, 300)],
    ),
    FaultKind("weak_wifi", "machine", "a laptop is far from its Wi-Fi", _with_radio, _radio_parts),
    FaultKind(
        "full_uplink", "local", "a site's uplink is full", lambda world: _single(world, is_home=False),
        lambda world, one: [part for line in _uplinks(world, one) for part in _both(world, line, "load", 0.95)],
    ),
    FaultKind(
        "satellite_fade", "provider", "rain between a ship and its satellite", _ships,
        lambda world, one: [part for line in _uplinks(world, one)
                            for part in (*_both(world, line, "bursts", 0.14, 900), *_both(world, line, "loss", 0.03))],
    ),
    FaultKind(
        "provider_loss", "provider", "a provider's lines outwards lose packets", _providers,
        lambda world, one: [part for line in _last_lines(world, one) for part in _both(world, line, "loss", 0.09)],
    ),
    FaultKind(
        "transit_delay", "transit", "a line between carriers is congested", _of_domain("transit"),
        lambda world, one: _both(world, one, "delay", 42),
    ),
    FaultKind(
        "transit_loss", "transit", "a line between carriers loses packets", _of_domain("transit"),
        lambda world, one: _both(world, one, "loss", 0.1),
    ),
    FaultKind(
        "far_congestion", "far", "the network in front of the servers is congested", _of_domain("far"),
        lambda world, one: [*_both(world, one, "delay", 48), *_both(world, one, "loss", 0.04)],
    ),
    FaultKind(
        "broken_ipv6", "far", "IPv6 is dropped where IPv4 works", _gates,
        lambda _world, one: [("no_v6", one, 1, 0, "")],
    ),
    FaultKind(
        "slow_resolver", "names", "a resolver answers slowly", lambda world: sorted(world.resolvers),
        lambda _world, one: [("slow_names", one, 650, 0, "")],
    ),
    FaultKind(
        "wrong_names", "names", "a resolver gives a wrong address", lambda world: sorted(world.resolvers),
        lambda world, one: [("wrong_names", one, 1, 0, world.topology.hosts[sorted(world.topology.hosts)[-1]].address)],
    ),
    FaultKind(
        "certificate_expiring", "certificate", "a certificate was not renewed and is about to expire", _secured,
        lambda _world, one: [("expiry", one, 12, 0, "")],
    ),
    FaultKind(
        "certificate_expired", "certificate", "a certificate has expired", _secured,
        lambda _world, one: [("expiry", one, -2, 0, "")],
    ),
    FaultKind(
        "release_errors", "service", "a release answers a share of requests with server errors", _applications,
        lambda _world, one: [("errors", one, 0.7, 0, "")],
    ),
    FaultKind(
        "exhausted_pool", "service", "a service runs out of connections", _applications,
        lambda _world, one: [("queueing", one, 0.7, 0, "")],
    ),
    FaultKind(
        "slow_service", "service", "a service takes several times as long", _applications,
        lambda _world, one: [("slowness", one, 7, 0, "")],
    ),
    FaultKind(
        "failed_dependency", "service", "what a service depends on fails", _needed,
        lambda _world, one: [("errors", one, 0.85, 0, "")],
    ),
    FaultKind(
        "maintenance", "service", "an announced maintenance: the service is off", _applications,
        lambda _world, one: [("off", one, 1, 0, "")],
    ),
    FaultKind(
        "slow_router", "measuring", "a router answers probes late and seldom, and passes everything on as ever", _routers,
        lambda _world, one: [("slow_answers", one, 60, 0, ""), ("few_answers", one, 0.5, 0, "")], is_fault=False,
    ),
    FaultKind(
        "busy_agent", "measuring", "the machine that measures is overloaded", _points,
        lambda _world, one: [("busy", one, 220, 0, "")],
    ),
    FaultKind(
        "silent_point", "machine", "a vantage point sends nothing", _points,
        lambda _world, one: [("silent", one, 1, 0, "")],
    ),
)  # fmt: skip
KINDS: Mapping[str, FaultKind] = {one.name: one for one in _ALL}

"""What runs in the world of Skerry Line: applications, names, resolvers, certificates and releases."""

from collections.abc import Mapping

from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.lab.skerry.network import HARBOURS, HOMES, SHIPS, skerry_topology
from kuppel.lab.world.application import Application, Dependency
from kuppel.lab.world.effect import Effect, Effects
from kuppel.lab.world.secured import Chains, issued
from kuppel.lab.world.world import Certificate, Resolver, World

_PAGE = b"<html><title>Skerry Line</title><h1>Next sailing</h1>" + b"<p>Brannick to Ostrey 09:40</p>" * 1_600 + b"</html>"
_SAILINGS = b'{"sailings": [{"from": "Brannick", "to": "Ostrey", "at": "09:40", "seats": 118}]}'
_JSON = "application/json"

APPLICATIONS = (
    Application("seats", "api", 8101, 12, busier=0.6),
    Application("fares", "api", 8102, 7),
    Application("pay", "pay", 443, 38, b'{"status": "up"}', _JSON, 0.3),
    Application(
        "api", "api", 443, 24, _SAILINGS, _JSON, 0.7,
        (Dependency("seats"), Dependency("fares", 0.9), Dependency("pay", 0.06, is_needed=False)),
    ),
    Application("booking", "booking", 443, 52, _PAGE, busier=0.8, dependencies=(Dependency("api", 0.7),)),
    Application("roster", "roster", 443, 41, b'{"crew": 18}', _JSON, 0.4),
    Application("signin", "signin", 443, 30),
    Application("mail", "mail", 25, 5),
    Application("charts", "charts", 443, 66, b"\x00" * 90_000, "application/octet-stream", 0.2),
    Application("weather", "weather", 443, 58, b"\x00" * 60_000, "image/png", 0.3),
    Application("calls", "calls", 5060, 14),
    Application("gates", "gates", 8443, 4),
    Application("tides", "tides", 502, 3),
)  # fmt: skip
_NAMED = ("booking", "api", "roster", "signin", "mail", "charts", "weather", "calls", "line", "gates", "tides", "dns")
# The day before the history's end on which each certificate was renewed, how long it is valid, and how often it is renewed.
_CERTIFICATES: Mapping[str, tuple[float, float, float]] = {
    "booking": (19, 90, 60),
    "api": (31, 90, 60),
    "gates": (29, 90, 60),
    "signin": (26, 90, 60),
    "mail": (8, 90, 60),
    "pay": (40, 365, 365),
    "roster": (33, 90, 60),
    "charts": (12, 90, 60),
    "weather": (12, 90, 60),
}
_OWN_NAME = {"pay": "pay.example"}
_DRAWN_BEFORE = 16
_RELEASE_EVERY_US = 3 * DAY_US + 5 * HOUR_US


def skerry_world(seed: int, begun_us: int, days: int, effects: list[Effect] | None = None) -> World:
    """The world of Skerry Line.

    Parameters
    ----------
    begun_us : when the made-up history ends and measuring begins.
    days : how much history there is.
    """
    world = World(seed, skerry_topology(), Effects(effects or ()))
    world.applications = {one.name: one for one in APPLICATIONS}
    for name in _NAMED:
        host = world.topology.hosts[name]
        world.names[f"{name}.skerry.example", 4] = host.address
        if host.address_v6:
            world.names[f"{name}.skerry.example", 6] = host.address_v6
    world.names["pay.example", 4] = world.topology.hosts["pay"].address
    world.resolvers = {
        "dns": Resolver("dns", 0.985, 0.3, 28),
        **{name: Resolver(name) for name in ("dns-quillnet", "dns-vaskfiber", "dns-tarnmobile", "dns-open")},
    }
    world.resolver_of = {one[0]: "dns" for one in HARBOURS} | dict.fromkeys(SHIPS, "dns")
    world.resolver_of |= {one.person: f"dns-{one.provider.lower()}" for one in HOMES}
    world.resolver_of |= dict.fromkeys(("North", "West", "South"), "dns-open")
    # History is drawn in stretches that may begin some days before it.
    days += _DRAWN_BEFORE
    _certify(world, begun_us, days)
    first_us = begun_us - days * DAY_US
    for name in ("booking", "api"):
        world.releases[name] = [
            (first_us + number * _RELEASE_EVERY_US - 6 * HOUR_US, f"2026.{40 + number // 3}.{number % 3}")
            for number in range(days * DAY_US // _RELEASE_EVERY_US + 1)
        ]
    return world


def _certify(world: World, begun_us: int, days: int) -> None:
    authority = Chains(world).authority
    for name, (renewed, valid, every) in _CERTIFICATES.items():
        names = [_OWN_NAME.get(name, f"{name}.skerry.example")]
        found = []
        day = renewed
        while True:
            from_us = begun_us - round(day * DAY_US)
            end_us = (from_us + round(valid * DAY_US)) // DAY_US * DAY_US - 1_000_000
            found.append(Certificate(from_us, end_us, (issued(authority, names, end_us, valid), authority.certificate)))
            if day > days:
                break
            day += every
        # Somebody renews the later ones in time, as far as anybody looks ahead.
        for number in range(1, 8):
            from_us = begun_us - round((renewed - every * number) * DAY_US)
            end_us = (from_us + round(valid * DAY_US)) // DAY_US * DAY_US - 1_000_000
            found.append(Certificate(from_us, end_us, (issued(authority, names, end_us, valid), authority.certificate)))
        world.certificates[name] = sorted(found, key=lambda one: one.from_us)

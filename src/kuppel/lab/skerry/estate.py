"""What Skerry Line measures: vantage points, targets, and the probes between them."""

from dataclasses import dataclass, field
from typing import Any, Literal

from kuppel.core.access import Role
from kuppel.core.duration import DAY_US, HOUR_US, MINUTE_US
from kuppel.core.limit import Limit
from kuppel.hub.settings import DemoPerson
from kuppel.lab.skerry.ferries import LINES
from kuppel.lab.skerry.network import HARBOURS, HOMES, PUBLIC, SHIPS

# Ready people of the demo, on loopback only; the sign-in page tells their passwords.
PEOPLE = (
    DemoPerson(name="signe", full_name="Signe L.", role=Role.ADMIN, password="lantern over water"),
    DemoPerson(name="tobias", full_name="Tobias R.", role=Role.ENGINEER, password="gate by the harbour"),
    DemoPerson(name="maren", full_name="Maren K.", role=Role.READER, password="ferry at half past"),
)


@dataclass(frozen=True, slots=True)
class Point:
    """A vantage point, named as its host in the topology; `place` is one of `archipelago.PLACES`, or empty for
    what moves."""

    name: str
    kind: Literal["public", "site", "mobile", "personal"]
    words: str
    place: str
    provider: str
    country: str
    tags: tuple[str, ...]
    person: str = ""


@dataclass(frozen=True, slots=True)
class Target:
    """What is measured, and where it stands; `application` is the one in the world that it is, if any."""

    name: str
    description: str
    place: str
    tags: tuple[str, ...] = ()
    service: str = ""
    site: str = ""


@dataclass(frozen=True, slots=True)
class Plan:
    """A probe of the demo. `application` is what its settings point at; history needs it."""

    name: str
    kind: str
    target: str
    points: tuple[str, ...]
    interval_us: int
    limits: tuple[Limit, ...]
    settings: dict[str, Any]
    application: str = ""
    tags: tuple[str, ...] = field(default=())


# Made up, as all names here: the islands, the mainland behind them, and three countries around.
_ISLANDS, _MAINLAND = "Skerries", "Fjordland"
_AROUND = {"North": "Isenmark", "West": "Vestrey", "South": "Sundland"}
POINTS = (
    *(
        Point(name, "site", f"harbour office, {name}", name, provider, _ISLANDS, ("harbour",))
        for name, _, _, provider, _ in HARBOURS
    ),
    *(
        Point(name, "mobile", f"ship, {LINES[name].words}", "", "Orrosat", _ISLANDS, ("ship",))
        for name in SHIPS
    ),
    *(
        Point(
            name, "public", "rented server", name, "Sund Carrier" if name == "South" else "Harrow Transit", _AROUND[name],
            ("public",),
        )
        for name, _, _ in PUBLIC
    ),
    *(
        Point(
            one.person, "personal", f"laptop{'' if one.signal_dbm is None else ', Wi-Fi'}, {one.town}", one.town,
            one.provider, _MAINLAND if one.town == "the mainland road" else _ISLANDS, ("people",), one.person,
        )
        for one in HOMES
    ),
)  # fmt: skip

TARGETS = (
    Target("booking site", "where passengers book", "Havn", ("passengers",), "booking"),
    Target("booking API", "sailings and seats, for the site and the counters", "Havn", ("passengers",), "booking"),
    Target("ticket gates", "controllers of the gates on the piers", "Ostrey", ("passengers",), "", "Ostrey"),
    Target("crew roster", "who sails when", "Havn", ("crew",)),
    Target("chart service", "charts and notices, for the bridges", "Havn", ("crew",)),
    Target("bridge calls", "calls between the bridges, the offices and people at home", "Havn", ("crew",)),
    Target("payments", "the partner that takes cards", "Fjord city", ("passengers",), "booking"),
    Target("island DNS", "the resolver of the harbours", "Havn"),
    Target("staff sign-in", "one sign-in for all that staff use", "Havn", ("crew",)),
    Target("mail relay", "what confirmations go out through", "Havn"),
    Target("weather maps", "wind and waves, hourly", "Havn", ("crew",)),
    Target("tide gauges", "the gauge at the pier of Kelmouth", "Kelmouth", (), "", "Kelmouth"),
    Target("head office line", "a reflector at the hosting, for lines", "Havn"),
    Target("own machine", "the vantage point's own computer", ""),
)

_HARBOURS = tuple(one[0] for one in HARBOURS)
_PUBLIC = tuple(one[0] for one in PUBLIC)
_PERSONS = tuple(one.person for one in HOMES)
_LAND = (*_HARBOURS, *_PUBLIC)
_ASHORE = (*_LAND, *_PERSONS)
# What each is to expect: limits lie above what the world does while nothing is wrong.
_SITE = (Limit("total", degraded=600, breached=1000, clear=560),)
_SITE_AT_SEA = (Limit("total", degraded=4700, breached=7000, clear=4500),)
_API = (Limit("total", degraded=400, breached=800, clear=370),)
_API_AT_SEA = (Limit("total", degraded=4700, breached=7000, clear=4500),)
_LOSS = Limit("loss_ratio", degraded=0.1, breached=0.3, clear=0.05)
_CALLS = (Limit("mos", degraded=3.6, breached=3.1, clear=3.8),)
_CERTIFICATE = (Limit("certificate_days", degraded=30, breached=7),)
_FRONT = {"url": "https://booking.skerry.example/times", "expect_text": "Next sailing", "timeout_ms": 10_000}
_CALL = {"host": "calls.skerry.example", "sip": "sip:bridge@calls.skerry.example:5060", "duration_s": 2}
_TEN_S = {"timeout_ms": 10_000}


def _web(name: str, path: str = "/") -> dict[str, Any]:
    return {"url": f"https://{name}.skerry.example{path}", "expect_status": ["200"], **_TEN_S}


def _certificate(name: str, target: str, host: str, application: str, **more: Any) -> Plan:
    return Plan(
        name, "tls", target, ("North",), DAY_US, _CERTIFICATE, {"host": host, "family": "ipv4", **more}, application
    )


PLANS = (
    Plan("booking front page", "http", "booking site", _ASHORE, 5 * MINUTE_US, _SITE, _FRONT, "booking"),
    Plan("booking front page, at sea", "http", "booking site", SHIPS, 5 * MINUTE_US, _SITE_AT_SEA, _FRONT, "booking"),
    Plan(
        "booking front page by IPv6", "http", "booking site", ("Lundhavn", "Brannick"), 5 * MINUTE_US, _SITE,
        _FRONT | {"family": "ipv6"}, "booking",
    ),
    Plan("sailings API", "http", "booking API", _LAND, 5 * MINUTE_US, _API, _web("api", "/sailings"), "api"),
    Plan("crew roster", "http", "crew roster", _HARBOURS, 5 * MINUTE_US, _API, _web("roster"), "roster"),
    Plan("charts for the bridge", "http", "chart service", SHIPS, 5 * MINUTE_US, _API_AT_SEA, _web("charts"), "charts"),
    Plan(
        "payments answer", "http", "payments", _PUBLIC, 5 * MINUTE_US, _API,
        {"url": "https://pay.example/health", "expect_status": ["200"], **_TEN_S}, "pay",
    ),
    Plan("weather maps", "http", "weather maps", _PUBLIC, 5 * MINUTE_US, _SITE, _web("weather"), "weather"),
    Plan(
        "gate controllers", "tcp", "ticket gates", _LAND, 2 * MINUTE_US, (Limit("connect", 150, 400),),
        {"host": "gates.skerry.example", "port": 8443}, "gates",
    ),
    Plan(
        "tide gauges", "tcp", "tide gauges", ("Kelmouth", "North"), 5 * MINUTE_US, (Limit("connect", 150, 400),),
        {"host": "tides.skerry.example", "port": 502}, "tides",
    ),
    Plan(
        "reach the booking site", "icmp", "booking site", (*_LAND,), 2 * MINUTE_US, (_LOSS, Limit("rtt", 90, 180, 80)),
        {"host": "booking.skerry.example", "family": "ipv4", "timeout_ms": 1_000},
    ),
    Plan(
        "reach the booking site, at sea", "icmp", "booking site", SHIPS, 2 * MINUTE_US, (_LOSS, Limit("rtt", 900, 1500)),
        {"host": "booking.skerry.example", "timeout_ms": 2_000},
    ),
    Plan("call the bridge", "voice", "bridge calls", _HARBOURS, MINUTE_US, _CALLS, _CALL, "calls"),
    Plan("call the bridge, from home", "voice", "bridge calls", _PERSONS, 2 * MINUTE_US, _CALLS, _CALL, "calls"),
    Plan(
        "call the bridge, at sea", "voice", "bridge calls", SHIPS, 2 * MINUTE_US, (Limit("mos", 2.0, 1.5, 2.1),), _CALL,
        "calls",
    ),
    Plan(
        "name of the booking site", "dns", "island DNS", _LAND, 5 * MINUTE_US, (Limit("lookup", 150, 500),),
        {"resolver": "192.0.2.53", "name": "booking.skerry.example", "expect_answers": ["198.51.100.80"]}, "booking",
    ),
    Plan(
        "path to the booking site", "path", "booking site", tuple(one.name for one in POINTS), 10 * MINUTE_US, (),
        {
            "host": "booking.skerry.example", "family": "ipv4", "protocol": "tcp", "port": 443, "most_flows": 24,
            "confidence": "0.95",
        },
    ),
    Plan(
        "packets to the head office", "udp", "head office line", _HARBOURS, 2 * MINUTE_US,
        (Limit("loss_ratio", 0.02, 0.1),), {"host": "line.skerry.example"},
    ),
    Plan(
        "throughput to the head office", "throughput", "head office line", _HARBOURS, HOUR_US,
        (Limit("throughput", 3, 1),), {"host": "line.skerry.example", "most_mb": 10, "duration_s": 4},
    ),
    Plan(
        "look up a seat", "transaction", "booking API", _PUBLIC, 5 * MINUTE_US, (Limit("total", 850, 1500, 800),),
        {
            "steps": [
                {
                    "name": "list the sailings", "url": "https://api.skerry.example/sailings",
                    "take": [{"name": "seats", "from": "jsonpath", "expression": "$.sailings[0].seats"}],
                },
                {
                    "name": "take a seat", "url": "https://api.skerry.example/seats?of=${seats}",
                    "expect": [{"expression": "$.sailings[0].at"}],
                },
            ],
            **_TEN_S,
        },
        "api",
    ),
    _certificate("certificate of the booking site", "booking site", "booking.skerry.example", "booking"),
    _certificate("certificate of the ticket gates", "ticket gates", "gates.skerry.example", "gates", port=8443),
    _certificate("certificate of the sign-in", "staff sign-in", "signin.skerry.example", "signin"),
    _certificate("certificate of the mail relay", "mail relay", "mail.skerry.example", "mail", port=25, starttls="smtp"),
    _certificate("certificate of the payments", "payments", "pay.example", "pay"),
    Plan(
        "the laptops", "host", "own machine", _PERSONS, 5 * MINUTE_US, (Limit("memory_ratio", 0.9, 0.97),), {},
    ),
)  # fmt: skip

# A real browser loads a real page: only where there is one, and not in the made-up history.
PAGE_PLAN = Plan(
    "booking page in a browser", "page", "booking site", ("North",), 5 * MINUTE_US, (Limit("lcp", 2500, 4000),),
    {"expect_text": "Next sailing", "quiet_ms": 1000},
)  # fmt: skip

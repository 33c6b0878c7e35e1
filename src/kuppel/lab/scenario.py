"""The demo's part of the Skerry Line: four vantage points, three services, and what goes wrong when.

One function, `treatment`, says how each service treats each vantage point at each moment. The live stand-ins ask it, and
so does the made-up history: both show the same world.
"""

import hashlib
import math
from dataclasses import dataclass
from typing import Any, Literal

from kuppel.core.access import Role
from kuppel.core.duration import HOUR_US, MINUTE_US
from kuppel.core.limit import Limit
from kuppel.hub.settings import DemoPerson
from kuppel.lab.services import Treatment

# Troubles come again in this rhythm, counted from the demo's beginning.
_RHYTHM_US = 6 * HOUR_US


@dataclass(frozen=True, slots=True)
class Point:
    """A vantage point: its agent measures from `source`, one of this machine's loopback addresses."""

    name: str
    kind: Literal["public", "site", "mobile", "personal"]
    place: str
    provider: str
    source: str
    distance_ms: float
    spread: float


@dataclass(frozen=True, slots=True)
class Service:
    """A stand-in service and what it adds to every answer."""

    name: str
    description: str
    host: str
    host_name: str
    kind: Literal["https", "http", "tcp", "calls", "names", "line", "machine"]
    own_ms: float
    body: bytes = b""

    @property
    def belongs_to(self) -> str:
        """The application that people would call it a part of."""
        return self.name.partition(" ")[0] if self.name.startswith("booking") else ""


@dataclass(frozen=True, slots=True)
class ProbePlan:
    """A probe of the demo, but for the address of what it measures."""

    name: str
    kind: str
    service: str
    points: tuple[str, ...]
    interval_us: int
    limits: tuple[Limit, ...]
    settings: dict[str, Any]
    # The made-up history has it, too; what has none begins with the demo.
    has_history: bool = True


POINTS = (
    Point("Brannick", "site", "harbour office, Brannick", "Vaskfiber", "127.0.1.11", 18, 0.08),
    Point("Lundhavn", "site", "harbour office, Lundhavn", "Quillnet", "127.0.1.12", 26, 0.10),
    Point("MV Fulmar", "mobile", "ship, between Vessna and Ostrey", "Orrosat", "127.0.1.13", 590, 0.05),
    Point("North", "public", "public point", "Tarnmobile", "127.0.1.14", 9, 0.06),
)

SERVICES = (
    Service(
        "booking site", "where passengers book", "127.0.2.1", "booking.skerry.example", "https", 31,
        b"<html><title>Skerry Line</title><h1>Next sailing</h1>" + b"<p>Brannick to Ostrey 09:40</p>" * 400 + b"</html>",
    ),
    Service(
        "booking API", "sailings and seats, for the site and the counters", "127.0.2.2", "api.skerry.example", "http", 14,
        b'{"sailings": [{"from": "Brannick", "to": "Ostrey", "at": "09:40", "seats": 118}]}',
    ),
    Service("ticket gates", "controllers of the gates on the piers", "127.0.2.3", "gates.skerry.example", "tcp", 2),
    Service("bridge calls", "calls between the bridges and the offices", "127.0.2.4", "calls.skerry.example", "calls", 4),
    Service("island DNS", "the resolver of the harbours", "127.0.2.5", "dns.skerry.example", "names", 3),
    Service("harbour line", "a reflector at the head office, for lines", "127.0.2.6", "line.skerry.example", "line", 0),
    Service("own machine", "the agent's own computer", "", "", "machine", 0),
)  # fmt: skip

# Ready people of the demo, on loopback only; the sign-in page tells their passwords.
PEOPLE = (
    DemoPerson(name="signe", full_name="Signe L.", role=Role.ADMIN, password="lantern over water"),
    DemoPerson(name="tobias", full_name="Tobias R.", role=Role.ENGINEER, password="gate by the harbour"),
    DemoPerson(name="maren", full_name="Maren K.", role=Role.READER, password="ferry at half past"),
)

_LAND = ("Brannick", "Lundhavn", "North")
_SEA = ("MV Fulmar",)
_ALL = tuple(point.name for point in POINTS)
_WEB_LIMITS = (Limit("total", degraded=150, breached=400, clear=120),)
_SEA_LIMITS = (Limit("total", degraded=900, breached=1500, clear=800),)
_REACH_LIMITS = (Limit("loss_ratio", degraded=0.1, breached=0.5, clear=0.05), Limit("rtt", degraded=20, breached=100))
_FRONT = {"expect_text": "Next sailing"}
_REACH = {"count": 5, "interval_ms": 100, "timeout_ms": 1000}

PROBES = (
    ProbePlan("booking front page", "http", "booking site", _LAND, 20_000_000, _WEB_LIMITS, _FRONT),
    ProbePlan("booking front page, at sea", "http", "booking site", _SEA, 20_000_000, _SEA_LIMITS, _FRONT),
    ProbePlan("sailings API", "http", "booking API", _LAND, 20_000_000, _WEB_LIMITS, {"expect_status": ["200"]}),
    ProbePlan("sailings API, at sea", "http", "booking API", _SEA, 20_000_000, _SEA_LIMITS, {"expect_status": ["200"]}),
    ProbePlan("gate controller", "tcp", "ticket gates", _ALL, 30_000_000, (Limit("connect", 50, 200),), {}),
    ProbePlan("reach the booking site", "icmp", "booking site", _ALL, 30_000_000, _REACH_LIMITS, _REACH),
    ProbePlan("reach the booking API", "icmp", "booking API", _ALL, 30_000_000, _REACH_LIMITS, _REACH),
    ProbePlan("reach the ticket gates", "icmp", "ticket gates", _ALL, 30_000_000, _REACH_LIMITS, _REACH),
    ProbePlan(
        "call the bridge", "voice", "bridge calls", _LAND, 60_000_000, (Limit("mos", 3.6, 3.1, 3.8),), {"duration_s": 2},
        has_history=False,
    ),
    ProbePlan(
        "name of the booking site", "dns", "island DNS", _ALL, 60_000_000, (Limit("lookup", 100, 500),),
        {"name": "booking.skerry.example", "expect_answers": ["127.0.2.1"]}, has_history=False,
    ),
    ProbePlan(
        "certificate of the booking site", "tls", "booking site", ("North",), 3_600_000_000,
        (Limit("certificate_days", 30, 7),), {}, has_history=False,
    ),
    ProbePlan(
        "path to the booking site", "path", "booking site", _LAND, 120_000_000, (), {"names": False}, has_history=False
    ),
    ProbePlan(
        "packets along the line", "udp", "harbour line", _ALL, 30_000_000, (Limit("loss_ratio", 0.01, 0.05),), {},
        has_history=False,
    ),
    ProbePlan(
        "throughput of the line", "throughput", "harbour line", ("Brannick", "Lundhavn"), 600_000_000,
        (Limit("throughput", 50, 20),), {"most_mb": 2, "duration_s": 1}, has_history=False,
    ),
    ProbePlan("look up a seat", "transaction", "booking API", _LAND, 60_000_000, _WEB_LIMITS, {}, has_history=False),
    ProbePlan(
        "the agents' machines", "host", "own machine", _ALL, 60_000_000, (Limit("memory_ratio", 0.9, 0.97),), {},
        has_history=False,
    ),
)  # fmt: skip

# What needs a browser on this machine; added where there is one.
PAGE_PROBE = ProbePlan(
    "booking page in a browser", "page", "booking site", ("North",), 300_000_000, (Limit("lcp", 2500, 4000),),
    {"expect_text": "Next sailing", "quiet_ms": 1000}, has_history=False,
)  # fmt: skip


def draw(*what: object) -> float:
    """A number in [0, 1) that depends on nothing but its arguments: the same seed, the same world."""
    digest = hashlib.blake2b(repr(what).encode(), digest_size=8).digest()
    return int.from_bytes(digest, "big") / 2**64


def normal(*what: object) -> float:
    """A standard normal number that depends on nothing but its arguments (Box and Muller, 1958)."""
    return math.sqrt(-2 * math.log(1 - draw(*what, 0))) * math.cos(2 * math.pi * draw(*what, 1))


def in_rhythm(time_us: int, begun_us: int, start_minute: int, minutes: int) -> bool:
    """Whether a trouble that starts `start_minute` after the demo's beginning (negative: before) and comes again is on."""
    since = (time_us - begun_us - start_minute * MINUTE_US) % _RHYTHM_US
    return since < minutes * MINUTE_US


def busy_share(time_us: int) -> float:
    """How busy the day is, 0 to 1: passengers book in the evening, nobody at night (UTC)."""
    hour = time_us % (24 * HOUR_US) / HOUR_US
    return 0.5 - 0.5 * math.cos((hour - 4) / 24 * 2 * math.pi)


def is_refusing(time_us: int, begun_us: int) -> bool:
    """The gates' controllers restart after their evening update."""
    return in_rhythm(time_us, begun_us, -112, 7)


def is_silent(point: Point, time_us: int, begun_us: int) -> bool:
    """MV Fulmar was behind the cliffs of Vessna for two hours, and no result ever came from there."""
    return point.name == "MV Fulmar" and begun_us - 9 * HOUR_US <= time_us < begun_us - 7 * HOUR_US


def treatment(service: Service, point: Point, time_us: int, begun_us: int) -> Treatment:
    """How a service treats a vantage point at a moment."""
    seed = (service.name, point.name, time_us)
    delay_ms = point.distance_ms * math.exp(point.spread * normal(seed, "way"))
    delay_ms += service.own_ms * (1 + 0.6 * busy_share(time_us)) * math.exp(0.15 * normal(seed, "own"))
    if draw(seed, "slow") < 0.01:
        delay_ms += 40 + 120 * draw(seed, "how slow")
    if point.provider == "Quillnet" and in_rhythm(time_us, begun_us, -35, 75):
        delay_ms += 165 + 20 * normal(seed, "detour")
    is_lost = draw(seed, "lost") < (0.02 if point.kind == "mobile" else 0.0004)
    if service.name == "booking API" and in_rhythm(time_us, begun_us, -205, 40) and draw(seed, "error") < 0.7:
        return Treatment(delay_ms / 2000, 503, b'{"error": "no database connection"}\n')
    headers = (("Content-Type", "text/html" if service.kind == "https" else "application/json"), ("X-Release", "2026.47.1"))
    return Treatment(delay_ms / 1000, 200, service.body, headers, is_lost=is_lost)

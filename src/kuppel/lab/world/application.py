"""What runs on servers: how long an application takes over a request, what it depends on, and how it fails."""

from dataclasses import dataclass

import numpy as np

from kuppel.core.series import FloatArray, IntArray
from kuppel.lab.world.condition import by_minute
from kuppel.lab.world.draw import Generator
from kuppel.lab.world.effect import Effects
from kuppel.lab.world.rhythm import busy_share

_OK, _SERVER_ERROR, _UNAVAILABLE = 200, 500, 503
# A request that finds no connection free waits this long on average, and this long at most.
_POOL_WAIT_MS, _POOL_PATIENCE_MS = 1_600.0, 4_000.0
_MINUTE_SPREAD, _REQUEST_SPREAD = 0.06, 0.18


@dataclass(frozen=True, slots=True)
class Dependency:
    """An application that is asked for a share of the requests; without it, those fail when it `is_needed`."""

    application: str
    share: float = 1.0
    is_needed: bool = True


@dataclass(frozen=True, slots=True)
class Application:
    """A service at a port of a server. `own_ms` is its time over a request when nobody else asks."""

    name: str
    host: str
    port: int
    own_ms: float
    body: bytes = b""
    content_type: str = "text/html"
    # How much longer it takes in the busiest hour, as a share.
    busier: float = 0.5
    dependencies: tuple[Dependency, ...] = ()
    error_share: float = 0.0004


@dataclass(frozen=True, slots=True)
class Answered:
    """What came of requests: ms that each took at the server, and its status; both of shape (n,)."""

    waits_ms: FloatArray
    statuses: IntArray


def answered(
    seed: int, applications: dict[str, Application], one: Application, effects: Effects, times_us: IntArray, draw: Generator
) -> Answered:
    """The time and status of requests at each time, with those of the applications that it asks in turn."""
    size = times_us.size
    slower = 1 + one.busier * busy_share(times_us) ** 2
    more = effects.value("slowness", one.name, times_us)
    if more is not None:
        slower = slower * (1 + more)
    spread = _MINUTE_SPREAD * by_minute(seed, "application", one.name, times_us)
    waits: FloatArray = one.own_ms * slower * np.exp(spread + _REQUEST_SPREAD * draw.standard_normal(size))
    statuses = np.full(size, _OK, dtype=np.int64)
    for dependency in one.dependencies:
        asked = draw.random(size) < dependency.share
        below = answered(seed, applications, applications[dependency.application], effects, times_us, draw)
        waits = np.where(asked, waits + below.waits_ms, waits)
        if dependency.is_needed:
            statuses = np.where(asked & (below.statuses != _OK), np.maximum(statuses, 502), statuses)
    queueing = effects.value("queueing", one.name, times_us)
    if queueing is not None:
        held = np.where(draw.random(size) < queueing, _POOL_WAIT_MS * draw.standard_exponential(size), 0.0)
        waits = waits + np.minimum(held, _POOL_PATIENCE_MS)
        statuses = np.where(held > _POOL_PATIENCE_MS, _UNAVAILABLE, statuses)
    errors = effects.value("errors", one.name, times_us)
    share = one.error_share if errors is None else one.error_share + errors
    failing = draw.random(size) < share
    # An error is quicker than an answer: it gives up half-way.
    return Answered(np.where(failing, waits * 0.4, waits), np.where(failing, _SERVER_ERROR, statuses))

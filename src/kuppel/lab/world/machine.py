"""The computers of vantage points: how busy they are, and what their radio says."""

from collections.abc import Mapping

import numpy as np

from kuppel.core.series import FloatArray, IntArray
from kuppel.lab.world import condition
from kuppel.lab.world.draw import Generator, uniform
from kuppel.lab.world.rhythm import busy_share
from kuppel.lab.world.topology import Link
from kuppel.lab.world.world import World

_MEMORY_OCTETS = 16e9
# Rates that a radio falls back to as the signal falls (made up).
_SIGNALS_DBM = (-90.0, -82.0, -76.0, -70.0, -64.0, -56.0)
_RATES_MBIT = (6.5, 13.0, 52.0, 144.0, 240.0, 400.0)


def radio_of(world: World, point: str) -> Link | None:
    """The vantage point's own link by radio, if it has one."""
    return next((one for one in world.topology.neighbours[point] if one.wifi is not None), None)


def gateway(world: World, point: str) -> str:
    """The router next to a vantage point, and how it is reached."""
    radio = radio_of(world, point)
    nearest = world.topology.neighbours[point][0] if radio is None else radio
    return f"{world.topology.hosts[nearest.target].address} by {'cable' if radio is None else 'Wi-Fi'}"


# How late an idle machine wakes (ms, in the mean): common practice, no source.
USUAL_LAG_MS = 0.08


def lag_ms(world: World, point: str, times_us: IntArray, draw: Generator) -> FloatArray:
    """How late the machine wakes: hardly, or as much as an overloaded one does."""
    usual = USUAL_LAG_MS * draw.gamma(2.0, 0.5, times_us.size)
    more = world.effects.value("busy", point, times_us)
    found: FloatArray = usual if more is None else usual + more * (0.6 + 0.8 * draw.random(times_us.size))
    return found


def readings(world: World, point: str, times_us: IntArray, draw: Generator) -> Mapping[str, FloatArray]:
    """Readings of a vantage point's machine by quantity, shape (n,) each."""
    size = times_us.size
    busy = world.effects.value("busy", point, times_us)
    is_overloaded = np.zeros(size, dtype=bool) if busy is None else busy > 0
    character = uniform(world.seed, "machine", point)
    cpu = 0.05 + 0.22 * busy_share(times_us) * (0.5 + character) * draw.gamma(3.0, 1 / 3, size)
    cpu = np.where(is_overloaded, 0.985 + 0.012 * draw.random(size), np.minimum(cpu, 0.9))
    memory = 0.42 + 0.2 * character + 0.04 * condition.by_minute(world.seed, "memory", point, times_us // 30 * 30)
    memory = np.clip(np.where(is_overloaded, memory + 0.25, memory), 0.05, 0.98)
    found: dict[str, FloatArray] = {
        "scheduling_lag": lag_ms(world, point, times_us, draw),
        "cpu_ratio": cpu,
        "memory_ratio": memory,
        "memory_free": np.round(_MEMORY_OCTETS * (1 - memory), -6),
        "disk_ratio": np.full(size, round(0.35 + 0.4 * character, 3)),
        "net_in": 1.8 * busy_share(times_us) * draw.gamma(1.2, 1.0, size),
        "net_out": 0.5 * busy_share(times_us) * draw.gamma(1.2, 1.0, size),
    }
    radio = radio_of(world, point)
    if radio is not None:
        dbm = condition.signal(world.seed, radio, world.effects, times_us)
        found["wifi_signal"] = np.round(dbm)
        found["wifi_rate"] = np.round(np.interp(dbm, _SIGNALS_DBM, _RATES_MBIT), 1)
    return found

"""A corpus of labelled faults: what was measured before and during each, and what it truly was; for judging localisation.

One JSON object a line. Seeds make different corpora; nothing here knows what any of them holds.
"""

import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from kuppel.core.duration import DAY_US, HOUR_US, MINUTE_US
from kuppel.core.limit import run_levels
from kuppel.core.percentile import percentile
from kuppel.core.state import Judgement, State, StreamState, replay, silent_after
from kuppel.hub.api.shapes import at
from kuppel.lab.bulk.past import KINDS as BULK_KINDS
from kuppel.lab.bulk.past import StreamPlan, drawn, slots
from kuppel.lab.carrier import carrier_world
from kuppel.lab.skerry.estate import PLANS, Plan
from kuppel.lab.skerry.services import skerry_world
from kuppel.lab.world.draw import Generator, generator
from kuppel.lab.world.fault import KINDS, Fault, components, effects
from kuppel.lab.world.reach import Reach
from kuppel.lab.world.world import World
from kuppel.probes.registry import kind_named
from kuppel.store import days
from kuppel.store.days import Day

_BEFORE_US, _DURING_US = 2 * HOUR_US, 40 * MINUTE_US
_DELIVERY_US = 15_000_000
_BEGUN_US = 1_790_000_000_000_000
_WORLD_DAYS = 90
# One case in so many has two faults that have nothing to do with each other.
_DOUBLE_SHARE = 0.12
_DECIMALS = 4

Made = tuple[World, tuple[Plan, ...]]


class NoSuchNetwork(LookupError):
    """There is no such map here; the message says what there is."""


@dataclass(frozen=True, slots=True)
class Network:
    """A world to play faults in: its name, and how it is made anew from a seed."""

    name: str
    made: Callable[[int], Made]


def skerry() -> Network:
    return Network("skerry", lambda seed: (skerry_world(seed, _BEGUN_US, _WORLD_DAYS), PLANS))


def carrier(name: str) -> Network:
    """One of the maps of `topohub`, such as topozoo/Abilene.

    Raises
    ------
    NoSuchNetwork
    """
    try:
        import topohub
    except ImportError:
        raise NoSuchNetwork(
            f"{name}: maps come with the package topohub, which is not installed: pip install topohub"
        ) from None
    try:
        topology = topohub.get(name)
    except KeyError:
        raise NoSuchNetwork(f"{name}: topohub has no such map; one is topozoo/Abilene") from None
    return Network(name, lambda seed: carrier_world(name, topology, seed, _BEGUN_US))


def network(name: str) -> Network:
    """
    Raises
    ------
    NoSuchNetwork
    """
    return skerry() if name == "skerry" else carrier(name)


def cases(networks: list[Network], seed: int, count: int) -> Iterator[dict[str, Any]]:
    """So many cases, over the networks in turn."""
    worlds = {one.name: one.made(seed) for one in networks}
    for number in range(count):
        network = networks[number % len(networks)]
        yield _case(network.name, *worlds[network.name], seed, number)


def _case(name: str, world: World, plans: tuple[Plan, ...], seed: int, number: int) -> dict[str, Any]:
    draw = generator(seed, "corpus", name, number)
    began_us = _BEGUN_US - round(float(draw.uniform(1, _WORLD_DAYS - 20)) * DAY_US) // MINUTE_US * MINUTE_US
    world.effects.put([])
    reach = Reach(world, plans, began_us)
    faults = _faults(world, reach, draw, began_us)
    world.effects.put(effects(world, faults))
    streams, paths, devices = [], [], []
    number_of = 0
    for plan in plans:
        # What runs less than twice while a fault lasts says nothing of it.
        if plan.kind not in BULK_KINDS or 2 * plan.interval_us > _DURING_US:
            continue
        settings = kind_named(plan.kind).parse(plan.settings).model_dump(mode="json")
        for point in plan.points:
            number_of += 1
            stream = StreamPlan(number_of, plan, point, settings, _DELIVERY_US)
            told, day = _measured(world, stream, began_us, seed, number)
            if plan.kind == "path":
                paths.append({"vantage_point": point, "target": plan.target, **_hops(day, began_us)})
            if plan.kind == "host":
                devices.append({"vantage_point": point, **_columns(day, began_us)})
            streams.append(told)
    return {
        "case": number,
        "seed": seed,
        "network": name,
        "began": at(began_us).isoformat(),
        "ended": at(began_us + _DURING_US).isoformat(),
        "truth": [
            {
                "kind": one.kind, "domain": one.domain, "is_fault": KINDS[one.kind].is_fault,
                "components": components(world, one), "strength": one.strength, "alike": reach.alike(one),
            }
            for one in faults
        ],
        "streams": streams,
        "paths": paths,
        "devices": devices,
    }  # fmt: skip


def _faults(world: World, reach: Reach, draw: Generator, began_us: int) -> list[Fault]:
    """One fault, now and then two, each where something that is measured passes."""
    found: list[Fault] = []
    while len(found) < (2 if draw.random() < _DOUBLE_SHARE else 1):
        kind = str(draw.choice(sorted(KINDS)))
        places = KINDS[kind].places(world)
        if not places:
            continue
        where = places[int(draw.integers(len(places)))]
        strength = round(float(draw.uniform(0.8, 1.8)), 2)
        fault = Fault(len(found) + 1, kind, where, began_us, began_us + _DURING_US, strength)
        if reach.is_touched(fault) and all(not _overlap(world, fault, one) for one in found):
            found.append(fault)
    return found


def _overlap(world: World, one: Fault, other: Fault) -> bool:
    return bool(set(components(world, one)) & set(components(world, other))) or one.domain == other.domain


def _measured(world: World, stream: StreamPlan, began_us: int, seed: int, number: int) -> tuple[dict[str, Any], Day]:
    """What a stream measured before and during, and its state at the end."""
    times_us = slots(stream, began_us - _BEFORE_US, began_us + _DURING_US)
    silent = world.effects.value("silent", stream.point, times_us)
    if silent is not None:
        times_us = times_us[silent == 0]
    draw = generator(seed, "corpus", number, stream.plan.name, stream.point)
    if times_us.size == 0:
        day = Day(times_us, np.empty(0, np.uint8))
    else:
        day, _ = drawn(world, stream, times_us, draw)
    levels = run_levels(~day.is_failed, day.values, stream.plan.limits)
    quiet_us = silent_after(stream.plan.interval_us, stream.delivery_us)
    state, _ = replay(StreamState(State.FINE, True, ()), None, day.times_us, levels, Judgement(), quiet_us)
    is_silent = times_us.size == 0 or began_us + _DURING_US - int(times_us[-1]) > quiet_us
    return {
        "stream": stream.stream_id,
        "probe": stream.plan.name,
        "kind": stream.plan.kind,
        "vantage_point": stream.point,
        "target": stream.plan.target,
        "state": str(State.SILENT if is_silent else state.state),
        **_columns(day, began_us),
    }, day


def _columns(day: Day, began_us: int) -> dict[str, Any]:
    """Runs, failures by reason, and median and 95th percentile of each quantity, before and during."""
    found: dict[str, Any] = {}
    for name, chosen in (("before", day.times_us < began_us), ("during", day.times_us >= began_us)):
        reasons: dict[str, int] = {}
        for code in day.codes[chosen].tolist():
            reason = days.reason_of(code)
            if reason is not None:
                reasons[reason] = reasons.get(reason, 0) + 1
        quantities = {}
        for quantity, column in day.values.items():
            values = column[chosen]
            values = values[~np.isnan(values)]
            if values.size:
                middle, high = percentile(values, 0.5), percentile(values, 0.95)
                quantities[quantity] = [round(middle, _DECIMALS), round(high, _DECIMALS), int(values.size)]
        found[name] = {"runs": int(chosen.sum()), "failed": reasons, "quantities": quantities}
    return found


def _hops(day: Day, began_us: int) -> dict[str, Any]:
    """Hops by distance and address: packets sent and answered, and the median of the runs' medians, before and during."""
    found: dict[str, Any] = {}
    for name, is_before in (("before", True), ("during", False)):
        seen: dict[tuple[int, str | None], list[Any]] = {}
        for time_us, body in zip(day.times_us.tolist(), day.bodies, strict=True):
            if (time_us < began_us) == is_before:
                for hop in body["detail"].get("hops", []):
                    seen.setdefault((hop["ttl"], hop["address"]), []).append(hop)
        found[name] = [
            {
                "ttl": ttl, "address": address, "name": hops[0].get("name", ""),
                "sent": sum(one["sent"] for one in hops), "answered": sum(one["answered"] for one in hops),
                "rtt_ms": _middle([one["rtt_us"] / 1000 for one in hops if "rtt_us" in one]),
            }
            for (ttl, address), hops in sorted(seen.items(), key=lambda pair: (pair[0][0], str(pair[0][1])))
        ]  # fmt: skip
    return found


def _middle(values: list[float]) -> float | None:
    return round(percentile(values, 0.5), _DECIMALS) if values else None


def written(case: Mapping[str, Any]) -> str:
    """A case as one line."""
    return json.dumps(case, separators=(",", ":"), allow_nan=False)

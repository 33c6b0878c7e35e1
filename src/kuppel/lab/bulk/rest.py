"""Throughput, paths and machines in columns."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from kuppel.core.path import distinct, flows_missing, written
from kuppel.core.reason import Reason
from kuppel.core.series import FloatArray, IntArray
from kuppel.core.throughput import buffer_delay
from kuppel.lab.bulk.columns import Columns, Tried, blanked, no_reasons
from kuppel.lab.bulk.packets import named
from kuppel.lab.world import exchange, machine, train
from kuppel.lab.world.draw import Generator, generator
from kuppel.lab.world.exchange import Ends
from kuppel.lab.world.loss import Flags
from kuppel.lab.world.routing import Way
from kuppel.lab.world.world import World

_MTU = 1500


def throughput(
    world: World, point: str, settings: Mapping[str, Any], _application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.throughput` by TCP, both ways one after the other."""
    size = times_us.size
    host = named(world, point, settings)
    looked_ms = exchange.name_lookups(world, point, times_us, draw)
    values: Columns = {}
    elapsed_us = looked_ms * 1000
    efficiency, delay = np.full(size, np.inf), np.full(size, -np.inf)
    loaded, rest = np.zeros(size), np.zeros(size)
    for way, near, far in (("up", point, host), ("down", host, point)):
        told = train.carried(world, Ends(near, far, draw.random(size)), times_us, draw, streams=settings["streams"])
        octets = np.round(np.minimum(settings["most_mb"] * 1e6, told.rate_mbit * settings["duration_s"] * 1e6 / 8))
        with np.errstate(invalid="ignore", divide="ignore"):
            taken_us = np.maximum(1, np.round(octets * 8 / told.rate_mbit))
            values[f"throughput_{way}"] = octets * 8 / taken_us
            sent = octets + np.round(octets * told.repeated_share)
            efficiency = np.minimum(efficiency, octets / sent)
        own = np.array(
            [buffer_delay(a, b) if 0 < b < np.inf else 0.0 for a, b in zip(told.loaded_ms, told.rest_ms, strict=True)]
        )
        is_worse = own > delay
        delay, loaded, rest = (
            np.where(is_worse, one, other) for one, other in ((own, delay), (told.loaded_ms, loaded), (told.rest_ms, rest))
        )
        elapsed_us = elapsed_us + taken_us
    values |= {
        "throughput": np.minimum(values["throughput_up"], values["throughput_down"]),
        "tcp_efficiency": efficiency,
        "buffer_delay": np.maximum(0.0, delay),
        "rtt_loaded": loaded,
        "rtt_min": rest,
    }
    good = np.isfinite(values["throughput"]) & (values["throughput"] > 0) & np.isfinite(rest)
    reasons = no_reasons(size)
    reasons[~good] = Reason.CONNECT_TIMEOUT
    address = world.topology.hosts[host].address
    durations = np.where(good & np.isfinite(elapsed_us), elapsed_us, settings["timeout_ms"] * 1000.0)
    notes = {Reason.CONNECT_TIMEOUT: f"{address}: no connection"}
    return Tried(blanked(values, good), reasons, durations.astype(np.int64), notes, {"address": address})


def readings(
    world: World, point: str, _settings: Mapping[str, Any], _application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.host`."""
    told = machine.readings(world, point, times_us, draw)
    facts: dict[str, Any] = {"gateway": machine.gateway(world, point)}
    return Tried(dict(told), no_reasons(times_us.size), np.full(times_us.size, 500_000, dtype=np.int64), {}, facts)


def path(
    world: World, point: str, settings: Mapping[str, Any], _application: str, times_us: IntArray, draw: Generator
) -> Tried:
    """As `probes.path`: as many flows as it takes, each along its own way."""
    size = times_us.size
    host = named(world, point, settings)
    target = world.topology.hosts[host]
    shares = flow_shares(world, point, target.address, settings["port"], settings["most_flows"])
    values: Columns = {
        name: np.full(size, np.nan) for name in ("rtt", "rtt_min", "hops", "parallel_paths", "loss_ratio", "path_mtu")
    }
    reasons = no_reasons(size)
    facts = np.full(size, None, dtype=object)
    details: list[Any] = [{} for _ in range(size)]
    durations = np.full(size, 5_000_000, dtype=np.int64)
    epochs = world.effects.epochs(times_us)
    _, lost = exchange.round_trips(world, Ends(point, host, draw.random(size)), times_us, draw, forth=1_472)
    values["path_mtu"] = np.where(lost, np.nan, float(_MTU))
    for epoch in np.unique(epochs).tolist():
        own = np.flatnonzero(epochs == epoch)
        ways = world.routing.ways(point, host, epoch)
        if not ways:
            reasons[own] = Reason.NO_REPLY
            continue
        chosen = _ways_of_flows(ways, shares, float(settings["confidence"]))
        _trace(
            world, point, ways, chosen, shares, own, times_us, draw, settings, values, reasons, facts, details, durations
        )
    notes = {Reason.NO_REPLY: "no hop answered along 6 flows", Reason.NOT_REACHED: "the target did not answer"}
    return Tried(values, reasons, durations, notes, {"address": target.address, "path": facts}, details)


def flow_shares(world: World, point: str, address: str, port: int, count: int) -> FloatArray:
    """What the routers' hashes make of flows 0, 1, … of a vantage point to a port: the same each time."""
    return np.array([generator(world.seed, "flow", point, address, port, flow).random() for flow in range(count)])


def _ways_of_flows(ways: tuple[Way, ...], shares: FloatArray, confidence: float) -> list[int]:
    """The way of each flow, as many flows as the probe would send."""
    edges = np.cumsum([one.share for one in ways])[:-1]
    taken: list[int] = np.searchsorted(edges, shares, side="right").tolist()
    flows = 0
    while flows < len(taken):
        wanted = 1 if not flows else flows_missing([ways[one].hosts for one in taken[:flows]], confidence)
        if flows and not wanted:
            break
        flows = min(flows + wanted, len(taken))
    return taken[:flows]


def _trace(
    world: World, point: str, ways: tuple[Way, ...], chosen: list[int], shares: FloatArray, own: IntArray,
    times_us: IntArray, draw: Generator, settings: Mapping[str, Any], values: Columns, reasons: Any, facts: Any,
    details: list[Any], durations: IntArray,
) -> None:  # fmt: skip
    """Fill in the runs `own`, which all find the same ways."""
    size, flows = own.size, len(chosen)
    longest = max(len(ways[one].hosts) for one in chosen)
    trips = np.full((longest, flows, size), np.nan)
    for way_number in sorted(set(chosen)):
        of_way = [flow for flow, one in enumerate(chosen) if one == way_number]
        repeated = np.tile(times_us[own], len(of_way))
        ends = Ends(point, ways[way_number].hosts[-1], np.repeat(shares[of_way], size))
        for ttl, hop in enumerate(train.hops(world, ends, ways[way_number], repeated, draw, settings["size"])):
            good = hop.answered & (hop.trips_ms <= settings["timeout_ms"])
            trips[ttl, of_way] = np.where(good, hop.trips_ms, np.nan).reshape(len(of_way), size)
    ends_at = np.array([len(ways[one].hosts) - 1 for one in chosen])
    at_end, sent = _beyond(
        world, point, ways[0].hosts[-1], trips[ends_at, np.arange(flows)], shares, times_us[own], draw, settings
    )
    reached: Flags = ~np.isnan(at_end)
    ordered = np.sort(np.where(reached, at_end, np.inf), axis=0)
    counts = reached.sum(axis=0)
    middle = ordered[np.maximum(-(-counts // 2) - 1, 0), np.arange(size)]
    ok = counts > 0
    reasons[own[~ok]] = Reason.NOT_REACHED
    values["rtt"][own] = np.where(ok, middle, np.nan)
    values["rtt_min"][own] = np.where(ok, ordered[0], np.nan)
    hops = float(min(ends_at) + 1)
    values["hops"][own] = np.where(ok, hops, np.nan)
    addresses = [[world.topology.hosts[name].address for name in ways[one].hosts] for one in chosen]
    values["loss_ratio"][own] = np.where(ok, 1 - counts / sent, np.nan)
    durations[own] = np.round(np.nanmax(np.where(np.isnan(trips), 0, trips), axis=(0, 1)) * 2000).astype(np.int64) + 60_000
    nodes = _nodes(world, ways, chosen, trips)
    # Where nobody of one distance is missing, and each flow got there, every run sees the same.
    whole = _Seen([list(one) for one in addresses])
    several = [ttl for ttl in range(longest) if sum(node.ttl == ttl for node in nodes) > 1]
    doubtful = ~reached.all(axis=0) | np.isnan(trips[several]).any(axis=(0, 1))
    for node in nodes:
        doubtful |= np.array(node.answered) == 0
    for column, at in enumerate(own.tolist()):
        seen = whole
        if doubtful[column]:
            seen = _Seen(
                [_answered(one, trips[:, flow, column]) for flow, one in enumerate(addresses) if reached[flow, column]]
            )
        details[at] = {
            "stamps": "kernel",
            "flows": flows,
            "hops": [node.told(column) for node in nodes],
            "ways": seen.ways[:16],
        }
        if ok[column]:
            values["parallel_paths"][at] = float(len(seen.ways))
            facts[at] = seen.path


class _Seen:
    """What a run sees of the ways of its flows."""

    def __init__(self, ways: list[list[str | None]]) -> None:
        self.ways = [list(one) for one in distinct(ways)]
        self.path = written(ways)[:490]


def _answered(way: list[str], trips_ms: FloatArray) -> list[str | None]:
    """A way with None where nobody answered; its end is there, or the flow would not be looked at."""
    return [*(one if trip == trip else None for one, trip in zip(way[:-1], trips_ms.tolist(), strict=False)), way[-1]]  # noqa: PLR0124


def _beyond(
    world: World, point: str, host: str, at_end: FloatArray, shares: FloatArray, times_us: IntArray, draw: Generator,
    settings: Mapping[str, Any],
) -> tuple[FloatArray, IntArray]:  # fmt: skip
    """Flows of which the packet for the target got lost send more, for farther than it, which reach it, too.

    Returns
    -------
    the trip of each flow's first answer, shape (flows, n), NaN without one; packets sent for the target or farther, (n,)
    """
    found = at_end.copy()
    sent = np.full(at_end.shape[1], at_end.shape[0])
    for _ in range(settings["silent_hops"] - 1):
        flow, run = np.nonzero(np.isnan(found))
        if flow.size == 0:
            break
        trips, lost = exchange.round_trips(
            world, Ends(point, host, shares[flow]), times_us[run], draw, forth=settings["size"], back=56
        )
        good = ~lost & (trips <= settings["timeout_ms"])
        found[flow[good], run[good]] = trips[good]
        np.add.at(sent, run, 1)
    return found, sent


@dataclass(slots=True)
class _Node:
    """A host at a distance: the flows through it, and by run how many of them it answered, and how fast."""

    ttl: int
    address: str
    name: str
    members: list[int]
    answered: list[int]
    middle_us: list[float]
    least_us: list[float]

    def told(self, column: int) -> dict[str, Any]:
        """As the probe tells it."""
        flows = len(self.members)
        if not self.answered[column]:
            return {"ttl": self.ttl + 1, "address": None, "sent": flows, "answered": 0, "flows": flows}
        return {
            "ttl": self.ttl + 1,
            "address": self.address,
            "name": self.name,
            "sent": flows,
            "answered": self.answered[column],
            "rtt_us": self.middle_us[column],
            "rtt_min_us": self.least_us[column],
            "reply_ttl": 63 - self.ttl,
            "flows": flows,
        }


def _nodes(world: World, ways: tuple[Way, ...], chosen: list[int], trips: FloatArray) -> list[_Node]:
    """Every host at every distance, in the order of distance and address."""
    found = []
    for ttl in range(trips.shape[0]):
        by_host: dict[str, list[int]] = {}
        for flow, one in enumerate(chosen):
            if ttl < len(ways[one].hosts):
                by_host.setdefault(ways[one].hosts[ttl], []).append(flow)
        for name, members in sorted(by_host.items(), key=lambda pair: world.topology.hosts[pair[0]].address):
            host = world.topology.hosts[name]
            ordered = np.sort(trips[ttl, members], axis=0)  # NaN last
            counts = (~np.isnan(ordered)).sum(axis=0)
            middle = ordered[np.maximum(-(-counts // 2) - 1, 0), np.arange(counts.size)]
            found.append(
                _Node(
                    ttl, host.address, host.reverse, members, counts.tolist(),
                    np.round(middle * 1000, 1).tolist(), np.round(ordered[0] * 1000, 1).tolist(),
                )
            )  # fmt: skip
    return found

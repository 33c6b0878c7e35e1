"""Paths: what answers of hops, taken along several flows, say of the way to a target.

A flow is a set of packets that load balancers treat alike, since the fields that they hash stay fixed: the answers to one
flow belong to one way (Augustin et al., "Avoiding traceroute anomalies with Paris traceroute", IMC 2006).
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from typing import Literal

import numpy as np

from kuppel.core.percentile import percentile

Way = Sequence[str | None]
Kind = Literal["exceeded", "reached", "refused", "silent"]


@dataclass(frozen=True, slots=True)
class HopAnswer:
    """What came back for one packet: from whom, after how long (µs), and what it said. `reply_ttl` is the answer's own time
    to live as it arrived; `labels` are MPLS labels as words."""

    flow: int
    ttl: int
    kind: Kind
    address: str | None = None
    rtt_us: float | None = None
    reply_ttl: int | None = None
    labels: tuple[str, ...] = ()
    note: str = ""


@dataclass(frozen=True, slots=True)
class Node:
    """One address at one distance: how many packets were sent along flows that pass it, how many it answered, how fast."""

    ttl: int
    address: str | None
    flows: tuple[int, ...]
    sent: int
    answered: int
    rtt_min_us: float | None
    rtt_p50_us: float | None
    reply_ttl: int | None
    labels: tuple[str, ...]
    note: str

    @property
    def loss_ratio(self) -> float:
        return 1 - self.answered / self.sent


@cache
def stopping_point(next_hops: int, confidence: float) -> int:
    """How many flows through a node leave no doubt, at this confidence, that it has no more than `next_hops` next ones.

    The least n for which n flows, spread evenly and independently over `next_hops` + 1, miss any of them with a probability
    of at most 1 − confidence, by inclusion and exclusion.

    References
    ----------
    Augustin, Friedman, Teixeira, "Multipath tracing with Paris traceroute", E2EMON 2007; Veitch et al., "Failure control in
    multipath route tracing", INFOCOM 2009.

    Examples
    --------
    >>> [stopping_point(k, 0.95) for k in range(1, 5)]
    [6, 11, 16, 21]
    """
    ways = next_hops + 1
    flows = ways
    while _missing(flows, ways) > 1 - confidence:
        flows += 1
    return flows


def _missing(flows: int, ways: int) -> float:
    """The probability that at least one of `ways` equal ways is taken by none of the flows."""
    return sum((-1.0) ** (k + 1) * math.comb(ways, k) * (1 - k / ways) ** flows for k in range(1, ways + 1))


def flows_missing(ways: Sequence[Way], confidence: float) -> int:
    """How many more flows are needed before every node's next hops are known at this confidence.

    Parameters
    ----------
    ways : for each flow the addresses by distance; None where none answered, which counts as no next hop.
    """
    missing = stopping_point(1, confidence) - len(ways)
    longest = max((len(way) for way in ways), default=0)
    for at in range(longest):
        through: dict[str | None, list[int]] = {}
        for flow, way in enumerate(ways):
            if at < len(way):
                through.setdefault(way[at - 1] if at else "", []).append(flow)
        for flows in through.values():
            found = {ways[flow][at] for flow in flows} - {None}
            if len(found) > 1:
                missing = max(missing, stopping_point(len(found), confidence) - len(flows))
    return max(0, missing)


def ways_of(answers: Sequence[HopAnswer]) -> dict[int, list[str | None]]:
    """For each flow the addresses by distance: up to the target or who refused, or else to the last that answered.

    A packet that got lost where other flows reached the target makes the way no longer, though the next one got there.
    """
    ends: dict[int, int] = {}
    nearest: dict[str | None, int] = {}
    for one in answers:
        if one.kind in ("reached", "refused"):
            ends[one.flow] = min(one.ttl, ends.get(one.flow, one.ttl))
            nearest[one.address] = min(one.ttl, nearest.get(one.address, one.ttl))
    ways: dict[int, list[str | None]] = {}
    for one in sorted(answers, key=lambda one: one.ttl):
        if one.ttl > ends.get(one.flow, one.ttl):
            continue
        way = ways.setdefault(one.flow, [])
        way.extend([None] * (one.ttl - len(way)))
        way[one.ttl - 1] = way[one.ttl - 1] or one.address
    for flow, way in ways.items():
        while way and way[-1] is None:
            way.pop()
        at = nearest.get(way[-1], 0) if way and flow in ends else 0
        if 0 < at < len(way) and not any(way[at - 1 : -1]):
            del way[at - 1 : -1]
    return ways


def distinct(ways: Sequence[Way]) -> list[Way]:
    """Ways that differ in an address; a hop that did not answer differs from none.

    >>> distinct([["a", "b", "d"], ["a", None, "d"], ["a", "c", "d"]])
    [['a', 'b', 'd'], ['a', 'c', 'd']]
    """
    found: list[Way] = []
    for way in sorted(ways, key=lambda one: sum(hop is None for hop in one)):
        if not any(_alike(way, other) for other in found):
            found.append(way)
    return found


def _alike(one: Way, other: Way) -> bool:
    return len(one) == len(other) and all(a == b or a is None or b is None for a, b in zip(one, other, strict=True))


def nodes(answers: Sequence[HopAnswer]) -> list[Node]:
    """Every address at every distance, with its figures. What got no answer is counted against the node of its flow."""
    ways = ways_of(answers)
    by_node: dict[tuple[int, str | None], list[HopAnswer]] = {}
    for one in answers:
        way = ways[one.flow]
        if one.ttl <= len(way):
            by_node.setdefault((one.ttl, way[one.ttl - 1]), []).append(one)
    found = []
    for (ttl, address), members in sorted(by_node.items(), key=lambda item: (item[0][0], str(item[0][1]))):
        good = [one for one in members if one.address is not None]
        trips = [one.rtt_us for one in good if one.rtt_us is not None]
        last = good[-1] if good else None
        found.append(
            Node(
                ttl,
                address,
                tuple(sorted({one.flow for one in members})),
                len(members),
                len(good),
                min(trips, default=None),
                percentile(np.array(trips), 0.5) if trips else None,
                last.reply_ttl if last else None,
                last.labels if last else (),
                next((one.note for one in good if one.note), ""),
            )
        )
    return found


def written(ways: Sequence[Way]) -> str:
    """The way as one line: distances apart by `>`, parallel addresses by `|`, `*` where none answered.

    >>> written([["a", "b", "d"], ["a", "c", "d"], ["a", None, "d"]])
    'a > b|c > d'
    """
    longest = max((len(way) for way in ways), default=0)
    hops = []
    for at in range(longest):
        found = sorted({hop for way in ways if at < len(way) and (hop := way[at])})
        hops.append("|".join(found) or "*")
    return " > ".join(hops)

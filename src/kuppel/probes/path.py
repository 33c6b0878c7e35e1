"""Path: the hops on the way to a target, along as many flows as it takes to find parallel ways."""

from typing import Any, Literal

from pydantic import Field

from kuppel.core.path import HopAnswer, Node, distinct, flows_missing, nodes, ways_of, written
from kuppel.core.percentile import percentile
from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.kind import Host, Kind, Settings, TimeoutMs
from kuppel.probes.net import Binding, Net, NetError, PathMtu, TraceReport, TraceRequest

_LONGEST_FACT = 490


class PathSettings(Settings):
    host: Host
    protocol: Literal["udp", "tcp", "icmp"] = Field(default="udp", description="What routers take the packets for.")
    port: int = Field(default=33_434, ge=1, le=65_535, description="Port of the target, for UDP and TCP.")
    family: Literal["auto", "ipv4", "ipv6"] = Field(default="auto", description="IP family to use.")
    most_hops: int = Field(default=30, ge=1, le=64, description="How far to look at most, in hops.")
    confidence: Literal["0.95", "0.99", "0.999"] = Field(
        default="0.999", description="How sure to be that no parallel way is missed; decides how many flows are sent."
    )
    most_flows: int = Field(default=64, ge=1, le=128, description="Flows a run at most, however many ways there are.")
    silent_hops: int = Field(default=5, ge=1, le=20, description="Give up after so many hops in a row without an answer.")
    size: int = Field(default=32, ge=8, le=1_400, description="Data octets in a packet, without headers.")
    dscp: int = Field(default=0, ge=0, le=63, description="Differentiated services code point (RFC 2474).")
    gap_ms: float = Field(default=1, ge=0, le=1_000, description="Time between two packets, in ms.")
    names: bool = Field(default=True, description="Look up the name of each hop.")
    path_mtu: bool = Field(default=True, description="Find the largest packet that gets through whole.")
    timeout_ms: TimeoutMs = 1_000


async def attempt(settings: PathSettings, net: Net, binding: Binding) -> Observation:
    """Flows are added until every hop's next ones are known at the wanted confidence. It fails when none gets there."""
    timeout_us = settings.timeout_ms * 1000
    address = (await net.resolve(settings.host, settings.family, timeout_us)).addresses[0]
    report = await _traced(settings, net, binding, address)
    mtu = PathMtu(None)
    if settings.path_mtu:
        try:
            mtu = await net.path_mtu(address, timeout_us, binding)
        except NetError:
            mtu = PathMtu(None)
    found = nodes(report.answers)
    names: dict[str | None, str] = {}
    if settings.names:
        names = {one.address: await net.name_of(one.address) for one in found if one.address}
    return _observe(report, found, names, mtu, address)


async def _traced(settings: PathSettings, net: Net, binding: Binding, address: str) -> TraceReport:
    answers: list[HopAnswer] = []
    flows = 0
    stamps: Any = "kernel"
    while flows < settings.most_flows:
        # The first flow goes alone: what it finds out of the way's length spares the target the others' overshoot.
        wanted = 1 if not flows else flows_missing(list(ways_of(answers).values()), float(settings.confidence))
        if flows and not wanted:
            break
        new = tuple(range(flows, min(flows + wanted, settings.most_flows)))
        request = TraceRequest(
            address, settings.protocol, settings.port, new, settings.most_hops, settings.silent_hops, settings.size,
            settings.dscp, round(settings.gap_ms * 1000), settings.timeout_ms * 1000, binding,
        )  # fmt: skip
        report = await net.trace(request)
        answers += report.answers
        stamps = report.stamps if not flows or report.stamps != "kernel" else stamps
        flows += len(new)
    return TraceReport(tuple(answers), stamps)


def _observe(
    report: TraceReport, found: list[Node], names: dict[str | None, str], mtu: PathMtu, address: str
) -> Observation:
    ways = list(ways_of(report.answers).values())
    ends = [one for one in report.answers if one.kind == "reached"]
    detail: dict[str, Any] = {
        "stamps": report.stamps,
        "flows": len(ways),
        "hops": [_told(one, names) for one in found],
        "ways": [list(one) for one in distinct(ways)[:16]],
    }
    facts = {"address": address}
    quantities: dict[str, float] = {}
    if mtu.octets is not None:
        quantities["path_mtu"] = float(mtu.octets)
        detail["limited_by"] = mtu.limited_by
    if not ends:
        return Observation(*_why(found, len(ways)), quantities, facts, detail)
    distance = min(one.ttl for one in ends)
    # Whatever was sent so far or farther was for the target itself.
    at_end = [one for one in report.answers if one.ttl >= distance and one.kind in ("reached", "silent")]
    trips = [one.rtt_us for one in at_end if one.rtt_us is not None]
    ways_there = [way for way in ways if way and way[-1] in {one.address for one in ends}]
    facts["path"] = _fact(written(ways_there))
    quantities |= {
        "rtt": percentile(trips, 0.5) / 1000,
        "rtt_min": min(trips) / 1000,
        "hops": float(distance),
        "parallel_paths": float(len(distinct(ways_there))),
        "loss_ratio": sum(one.address is None for one in at_end) / len(at_end),
    }
    return Observation(None, "", quantities, facts, detail)


def _why(found: list[Node], flows: int) -> tuple[Reason, str]:
    last = max((one for one in found if one.address), key=lambda one: one.ttl, default=None)
    if last is None:
        return Reason.NO_REPLY, f"no hop answered along {flows} {'flow' if flows == 1 else 'flows'}"
    said = f", which says: {last.note}" if last.note else ""
    return Reason.NOT_REACHED, f"the last answer is from {last.address}, hop {last.ttl}{said}"


def _fact(text: str) -> str:
    return text if len(text) <= _LONGEST_FACT else text[:_LONGEST_FACT] + " …"


def _told(node: Node, names: dict[str | None, str]) -> dict[str, Any]:
    told = {
        "ttl": node.ttl,
        "address": node.address,
        "name": names.get(node.address, ""),
        "sent": node.sent,
        "answered": node.answered,
        "rtt_us": None if node.rtt_p50_us is None else round(node.rtt_p50_us, 1),
        "rtt_min_us": None if node.rtt_min_us is None else round(node.rtt_min_us, 1),
        "reply_ttl": node.reply_ttl,
        "labels": list(node.labels),
        "note": node.note,
        "flows": len(node.flows),
    }
    return {name: value for name, value in told.items() if value not in ("", [], None) or name == "address"}


KIND = Kind(
    name="path",
    label="path",
    settings=PathSettings,
    attempt=attempt,
    main="rtt",
    quantities=("rtt", "rtt_min", "hops", "parallel_paths", "loss_ratio", "path_mtu"),
    about=(
        "Finds the routers on the way with packets whose time to live rises from one. All packets of a flow "
        "look alike to load balancers, so each flow shows one real way; flows are added until parallel ways "
        "are found with the confidence that is asked for. A hop that answers late or not at all is no fault "
        "by itself: routers answer in their spare time. What lasts to the end of the path counts."
    ),
    octets=lambda settings: 14 * 12 * (settings.size + 28 + 64),
    interval_s=600,
    reasons=(
        Reason.NOT_REACHED, Reason.NO_REPLY, Reason.NO_ROUTE, Reason.NAME_NOT_FOUND, Reason.NAME_TIMEOUT,
        Reason.NO_ADDRESS_OF_FAMILY, Reason.NOT_PERMITTED, Reason.BINDING_UNUSABLE, Reason.AGENT_ERROR,
    ),
)  # fmt: skip

"""Reach: ICMP echo (RFC 792, RFC 4443), a periodic train of packets a run."""

from typing import Literal

import numpy as np
from pydantic import Field

from kuppel.core.delay import inter_arrival_jitter, ipdv, round_trip_summary
from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.kind import Host, Kind, Settings, TimeoutMs
from kuppel.probes.net import Binding, EchoReport, EchoTrain, Net


class IcmpSettings(Settings):
    host: Host
    family: Literal["auto", "ipv4", "ipv6"] = Field(default="auto", description="IP family to use.")
    count: int = Field(default=5, ge=1, le=100, description="Packets a run.")
    interval_ms: int = Field(default=200, ge=5, le=10_000, description="Time between two packets, in ms.")
    size: int = Field(default=56, ge=8, le=8_972, description="Data octets in a packet, without headers.")
    dscp: int = Field(default=0, ge=0, le=63, description="Differentiated services code point (RFC 2474).")
    timeout_ms: TimeoutMs = 2_000


async def attempt(settings: IcmpSettings, net: Net, binding: Binding) -> Observation:
    """One train. It fails when no packet is answered; a partial loss is a quantity, not a failure."""
    timeout_us = settings.timeout_ms * 1000
    resolution = await net.resolve(settings.host, settings.family, timeout_us)
    address = resolution.addresses[0]
    report = await net.icmp(
        EchoTrain(address, settings.count, settings.interval_ms * 1000, settings.size, settings.dscp, timeout_us, binding)
    )
    return _observe(report, address)


def _observe(report: EchoReport, address: str) -> Observation:
    trips = [None if one.received_ns is None else (one.received_ns - one.sent_ns) / 1000 for one in report.packets]
    summary = round_trip_summary(trips)
    quantities = {
        "sent": float(summary.loss.total),
        "lost": float(summary.loss.count),
        "loss_ratio": summary.loss.ratio or 0.0,
    }
    detail = {
        "round_trips_us": [None if trip is None else round(trip, 1) for trip in trips],
        "stamps": report.stamps,
    }
    facts = {"address": address}
    if summary.p50_us is None:
        if report.refusal:
            return Observation(Reason.NO_ROUTE, report.refusal, quantities, facts, detail)
        note = f"{summary.loss.total} packets sent, none answered"
        return Observation(Reason.NO_REPLY, note, quantities, facts, detail)
    for name, value_us in (
        ("rtt", summary.p50_us),
        ("rtt_min", summary.minimum_us),
        ("rtt_mean", summary.mean_us),
        ("rtt_p95", summary.p95_us),
        ("rtt_max", summary.maximum_us),
    ):
        assert value_us is not None  # all five are there when one packet came back
        quantities[name] = value_us / 1000
    variation = [abs(one) for one in ipdv(trips) if one is not None]
    if variation:
        quantities["ipdv"] = float(np.mean(variation)) / 1000
    arrived = sorted((one.received_ns, one.sent_ns) for one in report.packets if one.received_ns is not None)
    if len(arrived) > 1:
        times = np.array(arrived, dtype=np.int64)
        quantities["jitter"] = inter_arrival_jitter(times[:, 1], times[:, 0]) / 1e6
    return Observation(None, "", quantities, facts, detail)


KIND = Kind(
    name="icmp",
    label="reach",
    settings=IcmpSettings,
    attempt=attempt,
    main="rtt",
    quantities=(
        "rtt", "rtt_min", "rtt_mean", "rtt_p95", "rtt_max", "loss_ratio", "sent", "lost", "jitter", "ipdv",
    ),
    about=(
        "Sends a short train of ICMP echo requests and times their replies, by the kernel's own stamps where "
        "it has them. A run’s round trip is the median of its train; loss is the share of packets without a "
        "reply in time. It says whether a machine can be reached and how far it is, nothing about what runs "
        "on it; many routers answer their own echoes late while they pass others on without delay."
    ),
    octets=lambda settings: 2 * settings.count * (settings.size + 28),
    reasons=(
        Reason.NO_REPLY, Reason.NO_ROUTE, Reason.NAME_NOT_FOUND, Reason.NAME_TIMEOUT, Reason.NO_ADDRESS_OF_FAMILY,
        Reason.NOT_PERMITTED, Reason.BINDING_UNUSABLE, Reason.AGENT_ERROR,
    ),
)  # fmt: skip

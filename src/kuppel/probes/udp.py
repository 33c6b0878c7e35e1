"""Two-way: test packets of STAMP (RFC 8762) to a reflector, and what they say of each way.

Round trip without the time that the reflector keeps a packet; loss by way from the reflector's own count; variation of each
way, which needs no common clock; one-way delays only where both clocks are known to keep UTC, each with its error.
"""

from typing import Any, Literal

from pydantic import Field, SecretStr

from kuppel.core.delay import ipdv, round_trip_summary
from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.core.two_way import Answer, Clocks, TwoWay, two_way
from kuppel.probes.kind import Host, Kind, Settings, TimeoutMs, refused
from kuppel.probes.net import Binding, Net, StampReport, StampTrain
from kuppel.wire.stamp import PORT


class UdpSettings(Settings):
    host: Host
    port: int = Field(default=PORT, ge=1, le=65_535, description="UDP port of the reflector.")
    family: Literal["auto", "ipv4", "ipv6"] = Field(default="auto", description="IP family to use.")
    count: int = Field(default=20, ge=1, le=1_000, description="Packets a run.")
    interval_ms: int = Field(default=20, ge=1, le=10_000, description="Time between two packets, in ms.")
    size: int = Field(default=44, ge=44, le=8_972, description="UDP octets in a packet, without headers.")
    dscp: int = Field(default=0, ge=0, le=63, description="Differentiated services code point (RFC 2474).")
    key: SecretStr | None = Field(
        default=None, min_length=8, max_length=128, description="Shared key: packets are authenticated with it."
    )
    clock_error_us: int | None = Field(
        default=None,
        ge=1,
        le=10_000_000,
        description="How far this machine's clock may be off UTC, in µs; left out when it is not known to keep it.",
    )
    timeout_ms: TimeoutMs = 2_000

    def secret_part(self) -> dict[str, Any]:
        return {} if self.key is None else {"key": self.key.get_secret_value()}


async def attempt(settings: UdpSettings, net: Net, binding: Binding) -> Observation:
    """One train. It fails when no packet is answered; a partial loss is a quantity, not a failure."""
    timeout_us = settings.timeout_ms * 1000
    resolution = await net.resolve(settings.host, settings.family, timeout_us)
    address = resolution.addresses[0]
    report = await net.stamp(
        StampTrain(
            address,
            settings.port,
            settings.count,
            settings.interval_ms * 1000,
            settings.size,
            settings.dscp,
            None if settings.key is None else settings.key.get_secret_value().encode(),
            None if settings.clock_error_us is None else settings.clock_error_us * 1000,
            timeout_us,
            binding,
        )
    )
    return _observe(report, settings, address)


def _observe(report: StampReport, settings: UdpSettings, address: str) -> Observation:
    first: dict[int, Answer] = {}
    for one in report.answers:
        first.setdefault(one.sequence, Answer(one.received_ns, one.far_received_ns, one.far_sent_ns, one.far_number))
    answers = [first.get(number) for number in range(len(report.sent_ns))]
    far_errors = [one.far_error_ns for one in report.answers]
    found = two_way(report.sent_ns, answers, [one.sequence for one in report.answers], _clocks(settings, far_errors))
    sent, lost = len(answers), sum(one is None for one in answers)
    quantities = {"sent": float(sent), "lost": float(lost), "loss_ratio": lost / sent}
    facts = {"address": address}
    detail: dict[str, Any] = {"stamps": report.stamps, "refused": report.refused}
    if found is None:
        if report.refusal:
            return Observation(refused(report.refusal), report.refusal, quantities, facts, detail)
        note = f"{sent} packets sent, none answered"
        if report.refused:
            note += f"; {report.refused} that came were no answers: does the key fit?"
        return Observation(Reason.NO_REPLY, note, quantities, facts, detail)
    detail["round_trips_us"] = [None if trip is None else round(trip, 1) for trip in found.round_trips_us]
    return Observation(None, "", quantities | _figures(found, sent), facts, detail)


def _clocks(settings: UdpSettings, far_errors: list[float | None]) -> Clocks:
    """Both clocks' errors together; not known as soon as one of them is not."""
    if settings.clock_error_us is None or not far_errors or None in far_errors:
        return Clocks(None)
    return Clocks(settings.clock_error_us * 1000 + max(one for one in far_errors if one is not None))


def _figures(found: TwoWay, sent: int) -> dict[str, float]:
    summary = round_trip_summary(found.round_trips_us)
    variation = [abs(one) for one in ipdv(found.round_trips_us) if one is not None]
    known = sent - found.lost.unknown
    values = {
        "rtt": _ms(summary.p50_us),
        "rtt_min": _ms(summary.minimum_us),
        "rtt_mean": _ms(summary.mean_us),
        "rtt_p95": _ms(summary.p95_us),
        "rtt_max": _ms(summary.maximum_us),
        "ipdv": sum(variation) / len(variation) / 1000 if variation else None,
        "loss_forth_ratio": found.lost.forth / known if known else None,
        "loss_back_ratio": found.lost.back / (known - found.lost.forth) if known > found.lost.forth else None,
        "delay_forth": found.delay_forth,
        "delay_back": found.delay_back,
        "clock_error": found.clock_error,
        "pdv_forth": found.pdv_forth,
        "pdv_back": found.pdv_back,
        "reordered_ratio": found.reordered_ratio,
        "duplicates": float(found.duplicates),
    }
    return {name: value for name, value in values.items() if value is not None}


def _ms(value_us: float | None) -> float | None:
    return None if value_us is None else value_us / 1000


KIND = Kind(
    name="udp",
    label="two-way",
    settings=UdpSettings,
    attempt=attempt,
    main="rtt",
    quantities=(
        "rtt", "rtt_min", "rtt_mean", "rtt_p95", "rtt_max", "loss_ratio", "loss_forth_ratio", "loss_back_ratio", "sent",
        "lost", "delay_forth", "delay_back", "clock_error", "ipdv", "pdv_forth", "pdv_back", "reordered_ratio",
        "duplicates",
    ),
    about=(
        "Exchanges numbered test packets with a reflector (STAMP, RFC 8762). Since the reflector writes down "
        "when each came and left, loss and delay variation are known for each way by itself, and reordering "
        "and duplicates are seen. Delays of one way are told only when both clocks are known to keep UTC, "
        "with the error that leaves. Needs an agent with a reflector, or the command kuppel reflect, at the "
        "far end."
    ),
    octets=lambda settings: 2 * settings.count * (settings.size + 28),
    reasons=(
        Reason.NO_REPLY, Reason.CONNECTION_REFUSED, Reason.NO_ROUTE, Reason.NAME_NOT_FOUND, Reason.NAME_TIMEOUT,
        Reason.NO_ADDRESS_OF_FAMILY, Reason.BINDING_UNUSABLE, Reason.AGENT_ERROR,
    ),
)  # fmt: skip

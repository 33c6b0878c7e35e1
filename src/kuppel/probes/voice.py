"""Call: speech as packets to a reflector and back, and how a conversation over it would be rated; a call's set-up before
it."""

from typing import Any, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator

from kuppel.core.delay import inter_arrival_jitter
from kuppel.core.percentile import percentile
from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.core.two_way import Answer, lost_by_way
from kuppel.core.voice import CODECS, Judged, judge, spread
from kuppel.probes.kind import Host, Kind, Settings, TimeoutMs, refused
from kuppel.probes.net import Binding, Call, CallOutcome, Net, SpeechReport, SpeechStream
from kuppel.wire.sip import NotSip, Uri

_PORT = 5004


class VoiceSettings(Settings):
    host: Host
    port: int = Field(default=_PORT, ge=1, le=65_535, description="UDP port of the reflector for speech.")
    family: Literal["auto", "ipv4", "ipv6"] = Field(default="auto", description="IP family to use.")
    codec: Literal["G.711", "G.711 with concealment", "G.729A", "G.723.1", "GSM EFR"] = Field(
        default="G.711 with concealment", description="The codec whose packets are sent and whose quality is estimated."
    )
    packet_ms: int = Field(default=20, ge=10, le=120, description="Speech in a packet, in ms; whole frames of the codec.")
    duration_s: float = Field(default=5, ge=1, le=60, description="How long to talk, in s.")
    buffer_ms: int = Field(default=40, ge=0, le=500, description="Jitter buffer: how long the fastest packet waits, in ms.")
    dscp: int = Field(default=46, ge=0, le=63, description="Differentiated services code point; 46 is what calls use.")
    sip: str = Field(
        default="", max_length=200, description="Set up a call to this address first, sip:name@host:port; none if empty."
    )
    sip_method: Literal["INVITE", "OPTIONS"] = Field(
        default="INVITE", description="INVITE sets a call up and hangs up; OPTIONS only asks whether one could."
    )
    timeout_ms: TimeoutMs = 2_000

    @field_validator("sip")
    @classmethod
    def _is_an_address(cls, sip: str) -> str:
        if sip:
            try:
                Uri.parse(sip)
            except NotSip as error:
                raise ValueError(str(error)) from None
        return sip

    @model_validator(mode="after")
    def _frames_are_whole(self) -> "VoiceSettings":
        frame_ms = CODECS[self.codec].frame_ms
        if self.packet_ms % frame_ms:
            raise ValueError(f"packet_ms must be a multiple of {frame_ms:g} ms, the frame of {self.codec}")
        return self


async def attempt(settings: VoiceSettings, net: Net, binding: Binding) -> Observation:
    """One call. It fails when it cannot be set up, or when no packet of it comes back; poor speech is a quantity."""
    timeout_us = settings.timeout_ms * 1000
    quantities: dict[str, float] = {}
    detail: dict[str, Any] = {}
    if settings.sip:
        outcome = await _set_up(settings, net, binding)
        detail["call"] = f"{outcome.status} {outcome.phrase}"
        if outcome.status >= 300:
            return Observation(Reason.CALL_REFUSED, f"{settings.sip}: {outcome.status} {outcome.phrase}", {}, {}, detail)
        quantities["call_setup"] = outcome.final_us / 1000
        if outcome.ringing_us is not None:
            quantities["ringing"] = outcome.ringing_us / 1000
    address = (await net.resolve(settings.host, settings.family, timeout_us)).addresses[0]
    codec = CODECS[settings.codec]
    report = await net.speak(
        SpeechStream(
            address,
            settings.port,
            round(settings.duration_s * 1000 / settings.packet_ms),
            settings.packet_ms * 1000,
            codec.payload_type,
            round(codec.frame_octets * settings.packet_ms / codec.frame_ms),
            codec.clock_hz * settings.packet_ms // 1000,
            settings.dscp,
            timeout_us,
            binding,
        )
    )
    return _observe(report, settings, address, quantities, detail)


async def _set_up(settings: VoiceSettings, net: Net, binding: Binding) -> CallOutcome:
    uri = Uri.parse(settings.sip)
    codec = CODECS[settings.codec]
    timeout_us = settings.timeout_ms * 1000
    address = (await net.resolve(uri.host, settings.family, timeout_us)).addresses[0]
    return await net.call(
        Call(
            address,
            uri.port,
            settings.sip,
            settings.sip_method,
            codec.payload_type,
            codec.clock_hz,
            codec.name.split()[0].replace("G.711", "PCMU").replace(".", ""),
            timeout_us,
            binding,
        )
    )


def _observe(
    report: SpeechReport, settings: VoiceSettings, address: str, quantities: dict[str, float], detail: dict[str, Any]
) -> Observation:
    sent = len(report.sent_ns)
    facts = {"address": address, "codec": settings.codec}
    detail |= {"stamps": report.stamps, "sent": sent, "answered": len(report.answers)}
    if not report.answers:
        quantities |= {"loss_ratio": 1.0}
        note = report.refusal or f"{sent} packets sent, none answered"
        reason = refused(report.refusal) if report.refusal else Reason.NO_REPLY
        return Observation(reason, note, quantities, facts, detail)
    by_number = {one.sequence: one for one in report.answers}
    answers = [
        None
        if one is None
        else Answer(one.received_ns, one.far_received_ns, one.far_received_ns + one.far_held_ns, one.far_number)
        for one in (by_number.get(number) for number in range(sent))
    ]
    gone_forth, gone_back = lost_by_way(answers)
    forth: list[float | None] = []
    back: list[float | None] = []
    trips: list[float] = []
    for number, one in enumerate(answers):
        # What was lost on one way says nothing of the other.
        if number not in gone_back:
            forth.append(None if one is None else (one.far_received_ns - report.sent_ns[number]) / 1e6)
        if number not in gone_forth:
            back.append(None if one is None else (one.received_ns - one.far_sent_ns) / 1e6)
        if one is not None:
            held_ns = one.far_sent_ns - one.far_received_ns
            trips.append((one.received_ns - report.sent_ns[number] - held_ns) / 1e6)
    codec = CODECS[settings.codec]
    ways = {
        # One way is half of the shortest round trip: to know more, both clocks would have to agree.
        name: judge(codec, settings.packet_ms, transits, min(trips) / 2, settings.buffer_ms)
        for name, transits in (("forth", forth), ("back", back))
    }
    arrived = sorted((one.received_ns, one.far_received_ns + one.far_held_ns) for one in report.answers)
    if len(arrived) > 1:
        times = np.array(arrived, dtype=np.int64)
        quantities["jitter"] = inter_arrival_jitter(times[:, 1], times[:, 0]) / 1e6
    detail["by_way"] = {name: _told(one) for name, one in ways.items()}
    quantities |= _figures(ways, trips, sent) | {
        f"pdv_{name}": percentile(spread(transits), 0.95)
        for name, transits in (("forth", forth), ("back", back))
        if any(one is not None for one in transits)
    }
    return Observation(None, "", quantities, facts, detail)


def _figures(ways: dict[str, Judged], trips: list[float], sent: int) -> dict[str, float]:
    worse = min(ways.values(), key=lambda one: one.rating)
    return {
        "mos": worse.score,
        "mos_forth": ways["forth"].score,
        "mos_back": ways["back"].score,
        "rating": worse.rating,
        "mouth_to_ear": max(one.mouth_to_ear_ms for one in ways.values()),
        "rtt": percentile(trips, 0.5),
        "rtt_min": min(trips),
        "loss_ratio": (sent - len(trips)) / sent,
        "loss_forth_ratio": ways["forth"].loss_ratio,
        "loss_back_ratio": ways["back"].loss_ratio,
        "discard_ratio": max(one.discard_ratio for one in ways.values()),
        "burst_loss_ratio": max(one.bursts.burst_density for one in ways.values()),
        "sent": float(sent),
        "lost": float(sent - len(trips)),
    }


def _told(way: Judged) -> dict[str, float]:
    return {
        "rating": round(way.rating, 1),
        "score": round(way.score, 2),
        "lost": round(way.loss_ratio, 4),
        "discarded": round(way.discard_ratio, 4),
        "mouth_to_ear_ms": round(way.mouth_to_ear_ms, 1),
        "burst_packets": round(way.bursts.burst_packets, 1),
        "burst_density": round(way.bursts.burst_density, 3),
        "gap_density": round(way.bursts.gap_density, 4),
    }


KIND = Kind(
    name="voice",
    label="call",
    settings=VoiceSettings,
    attempt=attempt,
    main="mos",
    quantities=(
        "mos", "mos_forth", "mos_back", "rating", "mouth_to_ear", "rtt", "rtt_min", "jitter", "pdv_forth", "pdv_back",
        "loss_ratio", "loss_forth_ratio", "loss_back_ratio", "discard_ratio", "burst_loss_ratio", "sent", "lost",
        "call_setup", "ringing",
    ),
    about=(
        "Sends speech as RTP packets of a codec to a reflector and back, and rates what a conversation over "
        "it would be like with the E-model (ITU-T G.107): from delay, what the jitter buffer had to drop, and "
        "loss, which hurts more in bursts. A mean opinion score above 4.0 is good, below 3.6 people complain, "
        "below 3.1 they hang up. One way is taken for half of the shortest round trip. It can set up a call "
        "over SIP first, and time that."
    ),
    octets=lambda settings: round(2 * settings.duration_s * 1000 / settings.packet_ms * 200),
    interval_s=120,
    reasons=(
        Reason.NO_REPLY, Reason.NO_ROUTE, Reason.CALL_REFUSED, Reason.TIMEOUT, Reason.CONNECTION_REFUSED,
        Reason.NAME_NOT_FOUND, Reason.NAME_TIMEOUT, Reason.NO_ADDRESS_OF_FAMILY, Reason.BINDING_UNUSABLE,
        Reason.AGENT_ERROR,
    ),
)  # fmt: skip

"""Throughput: how much data a path carries to and from a reflector, by TCP (RFC 6349) or by UDP at a rate."""

from typing import Any, Literal

from pydantic import Field, SecretStr

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.core.throughput import buffer_delay, ideal_transfer_time, tcp_efficiency, transfer_time_ratio
from kuppel.probes.kind import Host, Kind, Settings, TimeoutMs
from kuppel.probes.net import Binding, Net, NetError, Transfer, Transferred

Way = Literal["up", "down"]
_NEVER_BEGAN = (Reason.CONNECTION_REFUSED, Reason.CONNECT_TIMEOUT, Reason.NO_ROUTE, Reason.NOT_PERMITTED)


class ThroughputSettings(Settings):
    host: Host
    port: int = Field(default=8471, ge=1, le=65_535, description="TCP port of the reflector for data.")
    family: Literal["auto", "ipv4", "ipv6"] = Field(default="auto", description="IP family to use.")
    transport: Literal["tcp", "udp"] = Field(default="tcp", description="TCP as fast as it goes, or UDP at the rate below.")
    direction: Literal["both", "up", "down"] = Field(
        default="both", description="Which way to move data, one after the other."
    )
    streams: int = Field(default=1, ge=1, le=16, description="TCP connections at once.")
    rate_mbit: float = Field(default=10, gt=0, le=10_000, description="Rate of UDP, in Mbit/s of payload.")
    size: int = Field(default=1_200, ge=64, le=8_900, description="Data octets in a UDP packet.")
    duration_s: float = Field(default=5, ge=0.5, le=30, description="How long to move data each way, in s.")
    most_mb: float = Field(default=25, ge=0.1, le=10_000, description="The most to move each way in a run, in MB.")
    budget_mb_a_day: float = Field(
        default=1_000, ge=0.1, le=1_000_000, description="What an agent may exchange with this reflector in a day, in MB."
    )
    line_mbit: float | None = Field(
        default=None, gt=0, le=400_000, description="What the line should carry, in Mbit/s; for the transfer-time ratio."
    )
    dscp: int = Field(default=0, ge=0, le=63, description="Differentiated services code point (RFC 2474).")
    key: SecretStr | None = Field(default=None, min_length=8, max_length=128, description="Shared key of the reflector.")
    timeout_ms: TimeoutMs = 5_000

    def secret_part(self) -> dict[str, Any]:
        return {} if self.key is None else {"key": self.key.get_secret_value()}

    def budget_octets(self) -> int:
        return round(self.budget_mb_a_day * 1e6)


def ways(settings: ThroughputSettings) -> tuple[Way, ...]:
    return ("up", "down") if settings.direction == "both" else (settings.direction,)


def octets_a_run(settings: ThroughputSettings) -> int:
    """The most payload that a run moves."""
    most = settings.most_mb * 1e6
    if settings.transport == "udp":
        most = min(most, settings.rate_mbit * 1e6 / 8 * settings.duration_s)
    return round(most) * len(ways(settings))


async def attempt(settings: ThroughputSettings, net: Net, binding: Binding) -> Observation:
    """One transfer each way. What it may move at most is taken from the day's budget first; the rest is given back."""
    address = (await net.resolve(settings.host, settings.family, settings.timeout_ms * 1000)).addresses[0]
    account, most_a_day = f"throughput to {settings.host} port {settings.port}", settings.budget_octets()
    reserved = octets_a_run(settings)
    await net.reserve(account, reserved, most_a_day)
    moved: dict[Way, Transferred] = {}
    try:
        for way in ways(settings):
            moved[way] = await net.transfer(_transfer(settings, way, address, binding))
    except NetError as error:
        # Of a transfer that broke off nobody knows how much was on its way: it stays spent, unless it never began.
        if error.reason in _NEVER_BEGAN and not moved:
            await net.reserve(account, -reserved, most_a_day)
        raise
    used = sum(max(one.octets, one.sent_octets) for one in moved.values())
    await net.reserve(account, min(0, used - reserved), most_a_day)
    return _observe(settings, moved, address)


def _transfer(settings: ThroughputSettings, way: Way, address: str, binding: Binding) -> Transfer:
    return Transfer(
        address,
        settings.port,
        way,
        settings.transport,
        settings.streams,
        round(settings.rate_mbit * 1e6),
        settings.size,
        round(settings.duration_s * 1e6),
        round(settings.most_mb * 1e6),
        settings.dscp,
        None if settings.key is None else settings.key.get_secret_value(),
        settings.timeout_ms * 1000,
        binding,
    )


def _observe(settings: ThroughputSettings, moved: dict[Way, Transferred], address: str) -> Observation:
    rates = {way: one.octets * 8 / one.elapsed_us for way, one in moved.items()}
    slower = min(moved, key=lambda way: rates[way])
    quantities = {f"throughput_{way}": rate for way, rate in rates.items()}
    detail: dict[str, Any] = {
        "by_way": {
            way: {
                "octets": one.octets,
                "elapsed_ms": round(one.elapsed_us / 1000, 1),
                "packets": one.packets,
                "lost": one.lost,
            }
            for way, one in moved.items()
        }
    }
    if all(one.octets == 0 for one in moved.values()):
        return Observation(Reason.NO_REPLY, "no data arrived", {}, {"address": address}, detail)
    quantities["throughput"] = rates[slower]
    if settings.transport == "udp":
        sent, lost = sum(one.packets for one in moved.values()), sum(one.lost for one in moved.values())
        quantities |= {"sent": float(sent), "lost": float(lost), "loss_ratio": lost / sent}
        jitters = [one.jitter_us / 1000 for one in moved.values() if one.jitter_us is not None]
        if jitters:
            quantities["jitter"] = max(jitters)
    else:
        quantities |= _tcp_figures(settings, list(moved.values()))
    return Observation(None, "", quantities, {"address": address}, detail)


def _tcp_figures(settings: ThroughputSettings, moved: list[Transferred]) -> dict[str, float]:
    """RFC 6349's figures, each of the way where it is worse."""
    found: dict[str, float] = {}
    if all(one.sent_octets for one in moved):
        found["tcp_efficiency"] = min(tcp_efficiency(one.sent_octets, one.repeated_octets) for one in moved)
    trips = [(one.rtt_loaded_us, one.rtt_min_us) for one in moved if one.rtt_loaded_us and one.rtt_min_us]
    if trips:
        loaded, rest = max(trips, key=lambda pair: pair[0] / pair[1])
        found["buffer_delay"] = max(0.0, buffer_delay(loaded, rest))
        found["rtt_loaded"], found["rtt_min"] = loaded / 1000, rest / 1000
    if settings.line_mbit:
        found["transfer_time_ratio"] = max(
            transfer_time_ratio(one.elapsed_us / 1e6, ideal_transfer_time(one.octets, settings.line_mbit * 1e6))
            for one in moved
            if one.octets
        )
    return found


KIND = Kind(
    name="throughput",
    label="throughput",
    settings=ThroughputSettings,
    attempt=attempt,
    main="throughput",
    quantities=(
        "throughput", "throughput_up", "throughput_down", "transfer_time_ratio", "tcp_efficiency", "buffer_delay",
        "rtt_loaded", "rtt_min", "loss_ratio", "jitter", "sent", "lost",
    ),
    about=(
        "Moves data to and from a reflector and says how fast it went: by TCP as fast as it goes, with the "
        "figures of RFC 6349 (how much longer than ideal, how much had to be sent again, how full the buffers "
        "were), or by UDP at a rate, with loss. It loads the line while it runs: keep it short and seldom; "
        "what an agent moves in a day never goes beyond its budget."
    ),
    octets=octets_a_run,
    interval_s=3_600,
    reasons=(
        Reason.BUDGET_SPENT, Reason.NO_REPLY, Reason.CONNECTION_REFUSED, Reason.CONNECT_TIMEOUT, Reason.CONNECTION_RESET,
        Reason.TIMEOUT, Reason.PROTOCOL_ERROR, Reason.NO_ROUTE, Reason.NOT_PERMITTED, Reason.NAME_NOT_FOUND,
        Reason.NAME_TIMEOUT, Reason.NO_ADDRESS_OF_FAMILY, Reason.BINDING_UNUSABLE, Reason.AGENT_ERROR,
    ),
)  # fmt: skip

"""Connect: the time of a TCP three-way handshake (RFC 9293 §3.5), closed again at once."""

from typing import Literal

from pydantic import Field

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.kind import Host, Kind, Settings, TimeoutMs
from kuppel.probes.net import Binding, Net


class TcpSettings(Settings):
    host: Host
    port: int = Field(ge=1, le=65_535, description="TCP port.")
    family: Literal["auto", "ipv4", "ipv6"] = Field(default="auto", description="IP family to use.")
    timeout_ms: TimeoutMs = 5_000


async def attempt(settings: TcpSettings, net: Net, binding: Binding) -> Observation:
    """One connection. `rtt` is the kernel's own measure of the handshake, free of the agent's scheduling."""
    timeout_us = settings.timeout_ms * 1000
    resolution = await net.resolve(settings.host, settings.family, timeout_us)
    remaining_us = max(1000, timeout_us - resolution.elapsed_us)
    made = await net.connect(resolution.addresses[0], settings.port, remaining_us, binding)
    quantities = {
        "name_lookup": resolution.elapsed_us / 1000,
        "connect": made.elapsed_us / 1000,
        "total": (resolution.elapsed_us + made.elapsed_us) / 1000,
    }
    if made.handshake_rtt_us is not None:
        quantities["rtt"] = made.handshake_rtt_us / 1000
    detail = {"local": made.local, "remote": made.remote}
    return Observation(None, "", quantities, {"address": resolution.addresses[0]}, detail)


KIND = Kind(
    name="tcp",
    label="connect",
    settings=TcpSettings,
    attempt=attempt,
    main="connect",
    quantities=("connect", "rtt", "name_lookup", "total"),
    about=(
        "Opens a TCP connection, as an application would, and closes it again. Its time is that of the "
        "handshake, one round trip and what the far kernel takes; a refused connection means that nobody "
        "listens on the port. It needs no rights and passes where echoes are dropped."
    ),
    octets=lambda _: 400,
    reasons=(
        Reason.CONNECTION_REFUSED, Reason.CONNECTION_RESET, Reason.CONNECT_TIMEOUT, Reason.NO_ROUTE,
        Reason.NAME_NOT_FOUND, Reason.NAME_TIMEOUT, Reason.NO_ADDRESS_OF_FAMILY, Reason.BINDING_UNUSABLE,
        Reason.AGENT_ERROR,
    ),
)  # fmt: skip

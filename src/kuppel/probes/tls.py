"""Certificate: a TLS handshake (RFC 8446, RFC 5246) and what the server shows: chain, names, days, protocol, cipher."""

from typing import Any, Literal

from pydantic import Field

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.certificate import certificate_facts, certificate_names, told_of_chain
from kuppel.probes.kind import Host, Kind, Settings, TimeoutMs
from kuppel.probes.net import Binding, Handshake, Net


class TlsSettings(Settings):
    host: Host
    port: int = Field(default=443, ge=1, le=65_535, description="TCP port.")
    family: Literal["auto", "ipv4", "ipv6"] = Field(default="auto", description="IP family to use.")
    server_name: str | None = Field(
        default=None, max_length=253, description="Name to ask for and to find in the certificate; the host if left out."
    )
    starttls: Literal["none", "smtp", "imap"] = Field(
        default="none", description="The dialogue after which the server begins TLS."
    )
    is_verified: bool = Field(default=True, description="Whether a chain that is not accepted is a failure.")
    authority: str | None = Field(
        default=None, max_length=65_536, description="Certificates (PEM) to trust, instead of the system's."
    )
    timeout_ms: TimeoutMs = 5_000


async def attempt(settings: TlsSettings, net: Net, binding: Binding) -> Observation:
    """One handshake. What the server shows is told whether its chain is accepted or not."""
    timeout_us = settings.timeout_ms * 1000
    resolution = await net.resolve(settings.host, settings.family, timeout_us)
    address = resolution.addresses[0]
    left_us = max(1000, timeout_us - resolution.elapsed_us)
    name = settings.server_name or settings.host
    found = await net.handshake(
        Handshake(address, settings.port, name, settings.starttls, settings.authority, left_us, binding)
    )
    facts, certificate = told_of_chain(found.chain, net.clock.utc_us())
    names = certificate_names(found.chain[0]) if found.chain else []
    facts |= {
        "address": address,
        "certificate_names": ", ".join(names)[:500],
        "tls_version": found.protocol,
        "cipher": found.cipher,
    }
    detail: dict[str, Any] = {
        "local": found.local,
        "remote": found.remote,
        "chain": [certificate_facts(one) for one in found.chain[:10]],
        "verification": found.refusal or "accepted",
    }
    if found.refusal and settings.is_verified:
        return Observation(Reason.CERTIFICATE_INVALID, found.refusal, certificate, facts, detail)
    quantities = {
        "name_lookup": resolution.elapsed_us / 1000,
        "connect": (found.connect_us + found.dialogue_us) / 1000,
        "tls": found.tls_us / 1000,
    }
    quantities["total"] = sum(quantities.values())
    return Observation(None, "", quantities | certificate, facts, detail)


KIND = Kind(
    name="tls",
    label="certificate",
    settings=TlsSettings,
    attempt=attempt,
    main="total",
    quantities=("total", "name_lookup", "connect", "tls", "certificate_days"),
    phases=("name_lookup", "connect", "tls"),
    about=(
        "Makes a TLS handshake and looks at the certificate: for which names it is, who issued it, how many "
        "days are left, whether the chain is accepted and if not why; over SMTP and IMAP after STARTTLS. Once "
        "a day is enough, and early enough to renew."
    ),
    octets=lambda _: 6_000,
    interval_s=86_400,
    reasons=(
        Reason.CERTIFICATE_INVALID, Reason.TLS_FAILED, Reason.CONNECTION_REFUSED, Reason.CONNECT_TIMEOUT,
        Reason.CONNECTION_RESET, Reason.TIMEOUT, Reason.PROTOCOL_ERROR, Reason.NO_ROUTE, Reason.NAME_NOT_FOUND,
        Reason.NAME_TIMEOUT, Reason.NO_ADDRESS_OF_FAMILY, Reason.BINDING_UNUSABLE, Reason.AGENT_ERROR,
    ),
)  # fmt: skip

"""Web fetch: HTTP exchanges (RFC 9110) with phases, redirects followed one exchange at a time."""

from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

from pydantic import Field, field_validator

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.certificate import told_of_chain
from kuppel.probes.kind import Kind, Settings, TimeoutMs
from kuppel.probes.net import Binding, Exchange, Net, Request
from kuppel.probes.redirects import BrokenOff, Following, Total, covers, headers_are_lines, web_address

_SECRET_HEADERS = frozenset({"authorization", "proxy-authorization", "cookie", "x-api-key"})
_METHOD = Literal["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"]
_StatusRange = Annotated[str, Field(pattern=r"^[1-5]\d\d(-[1-5]\d\d)?$")]


class HttpSettings(Settings):
    url: str = Field(max_length=2000, description="What to fetch, http:// or https://.")
    method: _METHOD = Field(default="GET", description="Request method.")
    headers: dict[str, str] = Field(default_factory=dict, max_length=30, description="Request headers.")
    body: str = Field(default="", max_length=65_536, description="Request body.")
    expect_status: list[_StatusRange] = Field(
        default=["200-399"], min_length=1, max_length=10, description="Statuses that are right, each one or a range."
    )
    expect_text: str = Field(default="", max_length=500, description="Text that the first MiB of the answer must hold.")
    redirects: int = Field(default=5, ge=0, le=20, description="How many redirects to follow at most.")
    family: Literal["auto", "ipv4", "ipv6"] = Field(default="auto", description="IP family to use.")
    proxy: str | None = Field(default=None, max_length=500, description="Proxy to go through, http://host:port.")
    verify: bool = Field(default=True, description="Whether the certificate must be valid for the name.")
    authority: str | None = Field(
        default=None,
        max_length=65_536,
        description="Certificates (PEM) of an own authority to trust instead of the usual.",
    )
    address: str | None = Field(
        default=None, max_length=45, description="IP address to use for the URL's host instead of asking the resolver."
    )
    timeout_ms: TimeoutMs = 10_000

    @field_validator("url")
    @classmethod
    def _is_web_address(cls, url: str) -> str:
        return web_address(url)

    @field_validator("headers")
    @classmethod
    def _headers_are_lines(cls, headers: dict[str, str]) -> dict[str, str]:
        return headers_are_lines(headers)

    def secret_part(self) -> dict[str, Any]:
        secret: dict[str, Any] = {}
        headers = {name: value for name, value in self.headers.items() if name.lower() in _SECRET_HEADERS}
        if headers:
            secret["headers"] = headers
        if self.proxy and urlsplit(self.proxy).password:
            secret["proxy"] = self.proxy
        return secret


async def attempt(settings: HttpSettings, net: Net, binding: Binding) -> Observation:
    """One fetch with its redirects, under one timeout for all of them."""
    following = Following(net, settings.redirects)
    request = Request(
        method=settings.method,
        url=settings.url,
        headers=tuple(settings.headers.items()),
        body=settings.body.encode(),
        family=settings.family,
        proxy=settings.proxy,
        is_verified=settings.verify,
        authority=settings.authority,
        address=settings.address,
        timeout_us=settings.timeout_ms * 1000,
        binding=binding,
    )
    try:
        exchange = await following.exchange(request)
    except BrokenOff as broken:
        facts, certificate = told_of_chain(broken.chain, net.clock.utc_us())
        if broken.remote:
            facts["address"] = broken.remote
        detail = {"timings_ms": following.total.quantities()}
        return Observation(broken.reason, broken.note, certificate, facts, detail)
    return _judge(settings, net, exchange, following.total, following.redirects)


def _judge(settings: HttpSettings, net: Net, exchange: Exchange, total: Total, redirects: int) -> Observation:
    facts, certificate = told_of_chain(exchange.chain, net.clock.utc_us())
    facts |= {"address": exchange.remote, "http_version": exchange.version}
    detail: dict[str, Any] = {
        "status": exchange.status,
        "size": exchange.size,
        "headers": [[name, value[:300]] for name, value in exchange.headers[:40] if name.lower() != "set-cookie"],
        "local": exchange.local,
    }
    reason, note = None, ""
    if not any(covers(one, exchange.status) for one in settings.expect_status):
        reason, note = (
            Reason.UNEXPECTED_STATUS,
            f"status {exchange.status}, expected {', '.join(settings.expect_status)}",
        )
    elif settings.expect_text and settings.expect_text not in exchange.body.decode("utf-8", "replace"):
        reason = Reason.UNEXPECTED_TEXT
        note = f"“{settings.expect_text[:80]}” was not in the answer of {exchange.size} bytes"
    if reason is not None:
        # A quick error page must not make the site look quick: the times of a failed fetch are detail, not samples.
        return Observation(reason, note, certificate, facts, detail | {"timings_ms": total.quantities()})
    quantities = total.quantities() | certificate | {"body_size": float(exchange.size)}
    if redirects:
        quantities["redirects"] = float(redirects)
    return Observation(None, "", quantities, facts, detail)


KIND = Kind(
    name="http",
    label="web fetch",
    settings=HttpSettings,
    attempt=attempt,
    main="total",
    quantities=(
        "total", "name_lookup", "connect", "tls", "first_byte", "transfer", "ttfb", "body_size", "redirects",
        "certificate_days",
    ),
    phases=("name_lookup", "connect", "tls", "first_byte", "transfer"),
    about=(
        "Fetches one address and times the phases: finding the name, connecting, agreeing on TLS, waiting for "
        "the first byte, receiving the rest. It fails on another status than expected, on a missing text, on "
        "a certificate that is not accepted. A failed fetch gives no times, so that a quick error page does "
        "not make a site look quick."
    ),
    octets=lambda _: 30_000,
    reasons=(
        Reason.NAME_NOT_FOUND, Reason.NAME_TIMEOUT, Reason.NO_ROUTE, Reason.CONNECTION_REFUSED, Reason.CONNECT_TIMEOUT,
        Reason.CONNECTION_RESET, Reason.TLS_FAILED, Reason.CERTIFICATE_INVALID, Reason.PROXY_FAILED, Reason.TIMEOUT,
        Reason.UNEXPECTED_STATUS, Reason.UNEXPECTED_TEXT, Reason.TOO_MANY_REDIRECTS, Reason.PROTOCOL_ERROR,
        Reason.NO_ADDRESS_OF_FAMILY, Reason.BINDING_UNUSABLE, Reason.AGENT_ERROR,
    ),
)  # fmt: skip

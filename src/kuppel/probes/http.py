"""Web fetch: HTTP exchanges (RFC 9110) with phases, redirects followed one exchange at a time."""

from dataclasses import dataclass
from typing import Annotated, Any, Literal
from urllib.parse import urljoin, urlsplit

from pydantic import Field, field_validator

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.certificate import told_of_chain
from kuppel.probes.kind import Kind, Settings, TimeoutMs
from kuppel.probes.net import Binding, Exchange, FetchError, Net, Phases, Request

_REDIRECTS = frozenset({301, 302, 303, 307, 308})
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
        parts = urlsplit(url)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise ValueError("it must begin with http:// or https:// and name a host")
        if parts.username is not None:
            raise ValueError("credentials belong into an Authorization header, which is kept secret, not into the address")
        return url

    @field_validator("headers")
    @classmethod
    def _headers_are_lines(cls, headers: dict[str, str]) -> dict[str, str]:
        for name, value in headers.items():
            if not name or any(mark in name + value for mark in "\r\n\0") or ":" in name:
                raise ValueError(f"header {name!r} must be one line without a colon in its name")
        return headers

    def secret_part(self) -> dict[str, Any]:
        secret: dict[str, Any] = {}
        headers = {name: value for name, value in self.headers.items() if name.lower() in _SECRET_HEADERS}
        if headers:
            secret["headers"] = headers
        if self.proxy and urlsplit(self.proxy).password:
            secret["proxy"] = self.proxy
        return secret


@dataclass(slots=True)
class _Total:
    """Phases added up over the redirects of one attempt, in microseconds."""

    name_us: int = 0
    connect_us: int = 0
    tls_us: int = 0
    has_tls: bool = False
    first_byte_us: int = 0
    transfer_us: int = 0

    def add(self, phases: Phases) -> None:
        self.name_us += phases.name_us
        self.connect_us += phases.connect_us
        self.has_tls = self.has_tls or phases.tls_us is not None
        self.tls_us += phases.tls_us or 0
        self.first_byte_us += phases.first_byte_us
        self.transfer_us += phases.transfer_us

    @property
    def total_us(self) -> int:
        return self.name_us + self.connect_us + self.tls_us + self.first_byte_us + self.transfer_us

    def quantities(self) -> dict[str, float]:
        phases = {
            "name_lookup": self.name_us / 1000,
            "connect": self.connect_us / 1000,
            "first_byte": self.first_byte_us / 1000,
            "transfer": self.transfer_us / 1000,
            "total": self.total_us / 1000,
            "ttfb": (self.total_us - self.transfer_us) / 1000,
        }
        return phases | ({"tls": self.tls_us / 1000} if self.has_tls else {})


async def attempt(settings: HttpSettings, net: Net, binding: Binding) -> Observation:
    """One fetch with its redirects, under one timeout for all of them."""
    total = _Total()
    url, method, body = settings.url, settings.method, settings.body.encode()
    first_host = urlsplit(url).hostname
    redirects = 0
    while True:
        same_host = urlsplit(url).hostname == first_host
        headers = settings.headers.items()
        request = Request(
            method=method,
            url=url,
            # What identifies us to the first host is not told to another (RFC 9110 §15.4).
            headers=tuple(h for h in headers if same_host or h[0].lower() not in ("authorization", "cookie")),
            body=body,
            family=settings.family,
            proxy=settings.proxy,
            is_verified=settings.verify,
            authority=settings.authority,
            address=settings.address if same_host else None,
            timeout_us=max(1000, settings.timeout_ms * 1000 - total.total_us),
            binding=binding,
        )
        try:
            exchange = await net.fetch(request)
        except FetchError as error:
            total.add(error.phases)
            facts, certificate = told_of_chain(error.chain, net.clock.utc_us())
            if error.remote:
                facts["address"] = error.remote
            return Observation(error.reason, error.note, certificate, facts, {"timings_ms": total.quantities()})
        total.add(exchange.phases)
        location = _header(exchange, "location")
        if exchange.status not in _REDIRECTS or not location or settings.redirects == 0:
            return _judge(settings, net, exchange, total, redirects)
        redirects += 1
        if redirects > settings.redirects:
            note = f"more than {settings.redirects} redirects, the last to {location[:200]}"
            return Observation(Reason.TOO_MANY_REDIRECTS, note, {}, {"address": exchange.remote})
        url = urljoin(url, location)
        if urlsplit(url).scheme not in ("http", "https"):
            return Observation(Reason.PROTOCOL_ERROR, f"redirected to {url[:200]}", {}, {"address": exchange.remote})
        if exchange.status == 303 or (exchange.status in (301, 302) and method == "POST"):
            method, body = "GET", b""


def _judge(settings: HttpSettings, net: Net, exchange: Exchange, total: _Total, redirects: int) -> Observation:
    facts, certificate = told_of_chain(exchange.chain, net.clock.utc_us())
    facts |= {"address": exchange.remote, "http_version": exchange.version}
    detail: dict[str, Any] = {
        "status": exchange.status,
        "size": exchange.size,
        "headers": [[name, value[:300]] for name, value in exchange.headers[:40] if name.lower() != "set-cookie"],
        "local": exchange.local,
    }
    reason, note = None, ""
    if not any(_covers(one, exchange.status) for one in settings.expect_status):
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


def _covers(status_range: str, status: int) -> bool:
    first, _, last = status_range.partition("-")
    return int(first) <= status <= int(last or first)


def _header(exchange: Exchange, name: str) -> str | None:
    return next((value for one, value in exchange.headers if one.lower() == name), None)


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
    reasons=(
        Reason.NAME_NOT_FOUND, Reason.NAME_TIMEOUT, Reason.NO_ROUTE, Reason.CONNECTION_REFUSED, Reason.CONNECT_TIMEOUT,
        Reason.CONNECTION_RESET, Reason.TLS_FAILED, Reason.CERTIFICATE_INVALID, Reason.PROXY_FAILED, Reason.TIMEOUT,
        Reason.UNEXPECTED_STATUS, Reason.UNEXPECTED_TEXT, Reason.TOO_MANY_REDIRECTS, Reason.PROTOCOL_ERROR,
        Reason.NO_ADDRESS_OF_FAMILY, Reason.BINDING_UNUSABLE, Reason.AGENT_ERROR,
    ),
)  # fmt: skip

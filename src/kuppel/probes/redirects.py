"""HTTP exchanges that belong together: redirects followed one exchange at a time, their phases added up, cookies kept."""

import email.message
import urllib.request
from dataclasses import dataclass, field, replace
from http.cookiejar import CookieJar
from urllib.parse import urljoin, urlsplit

from kuppel.core.reason import Reason
from kuppel.probes.net import Exchange, FetchError, Net, Phases, Request

_REDIRECTS = frozenset({301, 302, 303, 307, 308})
# What identifies us to the first origin is not told to another (RFC 9110 §15.4): not to another host or port, nor in clear.
_FIRST_ORIGIN_ONLY = ("authorization", "cookie")
_PORTS = {"http": 80, "https": 443}


@dataclass(slots=True)
class Total:
    """Phases added up over exchanges, in microseconds."""

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


class BrokenOff(Exception):
    """Exchanges that did not come to an answer; what was seen until then."""

    def __init__(self, reason: Reason, note: str, remote: str = "", chain: tuple[str, ...] = ()) -> None:
        self.reason = reason
        self.note = note
        self.remote = remote
        self.chain = chain
        super().__init__(f"{reason}: {note}")


@dataclass(slots=True)
class Following:
    """Follows redirects, at most `most`; `total` holds the phases even when it breaks off. Cookies are kept for later."""

    net: Net
    most: int
    total: Total = field(default_factory=Total)
    cookies: CookieJar | None = None
    redirects: int = 0

    async def exchange(self, first: Request) -> Exchange:
        """The last answer; all exchanges together under the first one's timeout.

        Raises
        ------
        BrokenOff
        """
        request = first
        spent_us = 0
        while True:
            try:
                exchange = await self.net.fetch(self._with_cookies(request))
            except FetchError as error:
                self.total.add(error.phases)
                raise BrokenOff(error.reason, error.note, error.remote, error.chain) from None
            self.total.add(exchange.phases)
            spent_us += exchange.phases.total_us
            self._keep_cookies(request.url, exchange)
            location = header(exchange, "location")
            if exchange.status not in _REDIRECTS or not location or self.most == 0:
                return exchange
            self.redirects += 1
            if self.redirects > self.most:
                note = f"more than {self.most} redirects, the last to {location[:200]}"
                raise BrokenOff(Reason.TOO_MANY_REDIRECTS, note, exchange.remote)
            url = urljoin(request.url, location)
            if urlsplit(url).scheme not in ("http", "https"):
                raise BrokenOff(Reason.PROTOCOL_ERROR, f"redirected to {url[:200]}", exchange.remote)
            request = _redirected(first, request, url, exchange.status)
            request = replace(request, timeout_us=max(1000, first.timeout_us - spent_us))

    def _with_cookies(self, request: Request) -> Request:
        if self.cookies is None:
            return request
        asked = urllib.request.Request(request.url)
        self.cookies.add_cookie_header(asked)
        cookie = asked.get_header("Cookie")
        return replace(request, headers=(*request.headers, ("Cookie", cookie))) if cookie else request

    def _keep_cookies(self, url: str, exchange: Exchange) -> None:
        if self.cookies is not None:
            self.cookies.extract_cookies(_Answer(exchange), urllib.request.Request(url))  # type: ignore[arg-type]


class _Answer:
    """An exchange as `http.cookiejar` wants to see it."""

    def __init__(self, exchange: Exchange) -> None:
        self._message = email.message.Message()
        for name, value in exchange.headers:
            self._message[name] = value

    def info(self) -> email.message.Message:
        return self._message


def _redirected(first: Request, before: Request, url: str, status: int) -> Request:
    """The next request (RFC 9110 §15.4): 303 becomes GET, and so does POST after 301 and 302 (common practice there)."""
    method, body = before.method, before.body
    if status == 303 or (status in (301, 302) and method == "POST"):
        method, body = "GET", b""
    is_home = origin(url) == origin(first.url)
    return replace(
        before,
        method=method,
        body=body,
        url=url,
        headers=tuple(one for one in first.headers if is_home or one[0].lower() not in _FIRST_ORIGIN_ONLY),
        # An address is told of a host, whatever its port.
        address=first.address if urlsplit(url).hostname == urlsplit(first.url).hostname else None,
    )


def origin(url: str) -> tuple[str, str, int]:
    """Scheme, host and port (RFC 6454 §4)."""
    parts = urlsplit(url)
    return parts.scheme, parts.hostname or "", parts.port or _PORTS.get(parts.scheme, 0)


def header(exchange: Exchange, name: str) -> str | None:
    return next((value for one, value in exchange.headers if one.lower() == name.lower()), None)


def covers(status_range: str, status: int) -> bool:
    """Whether a status is in a range such as `200` or `200-399`."""
    first, _, last = status_range.partition("-")
    return int(first) <= status <= int(last or first)


def web_address(url: str) -> str:
    """Raise `ValueError` for what is no web address, or has credentials in it."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise ValueError("it must begin with http:// or https:// and name a host")
    if parts.username is not None:
        raise ValueError("credentials do not belong into an address: put them where they are kept secret")
    return url


def headers_are_lines(headers: dict[str, str]) -> dict[str, str]:
    """Raise `ValueError` for a header that would be more than one line."""
    for name, value in headers.items():
        if not name or any(mark in name + value for mark in "\r\n\0") or ":" in name:
            raise ValueError(f"header {name!r} must be one line without a colon in its name")
    return headers

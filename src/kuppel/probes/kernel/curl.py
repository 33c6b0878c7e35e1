"""One HTTP exchange by libcurl: phases, the address really used, and the certificate chain even when it is refused."""

import io
import ipaddress
import os
from typing import Any
from urllib.parse import urlsplit

import certifi
import pycurl

from kuppel.core.reason import Reason
from kuppel.probes.kernel.sockets import ERRNO_REASONS
from kuppel.probes.net import Binding, Exchange, FetchError, NetError, Phases, Request

_KEPT_BODY = 1024 * 1024
_USER_AGENT = "kuppel-agent"
_FAMILIES = {"auto": pycurl.IPRESOLVE_WHATEVER, "ipv4": pycurl.IPRESOLVE_V4, "ipv6": pycurl.IPRESOLVE_V6}
_VERSIONS = {1: "HTTP/1.0", 2: "HTTP/1.1", 3: "HTTP/2", 30: "HTTP/3"}

_CODE_REASONS = {
    pycurl.E_COULDNT_RESOLVE_PROXY: Reason.PROXY_FAILED,
    pycurl.E_COULDNT_RESOLVE_HOST: Reason.NAME_NOT_FOUND,
    pycurl.E_SSL_CONNECT_ERROR: Reason.TLS_FAILED,
    pycurl.E_PEER_FAILED_VERIFICATION: Reason.CERTIFICATE_INVALID,
    pycurl.E_INTERFACE_FAILED: Reason.BINDING_UNUSABLE,
    pycurl.E_GOT_NOTHING: Reason.CONNECTION_RESET,
    pycurl.E_RECV_ERROR: Reason.CONNECTION_RESET,
    pycurl.E_SEND_ERROR: Reason.CONNECTION_RESET,
    pycurl.E_PARTIAL_FILE: Reason.CONNECTION_RESET,
    97: Reason.PROXY_FAILED,  # CURLE_PROXY
}


class _Body:
    """Counts all octets, keeps the first MiB."""

    def __init__(self) -> None:
        self.size = 0
        self._kept = io.BytesIO()

    def write(self, octets: bytes) -> None:
        self.size += len(octets)
        self._kept.write(octets[: max(0, _KEPT_BODY - self._kept.tell())])

    def value(self) -> bytes:
        return self._kept.getvalue()


def fetch(request: Request, binding: Binding) -> Exchange:
    """Make the exchange on a connection of its own; blocks until the answer is whole or the timeout passed."""
    _check_family(request)
    handle = pycurl.Curl()
    body = _Body()
    lines: list[bytes] = []
    try:
        _configure(handle, request, binding)
        handle.setopt(pycurl.WRITEFUNCTION, body.write)
        handle.setopt(pycurl.HEADERFUNCTION, lines.append)
        try:
            handle.perform()
        except pycurl.error as error:
            raise _failure(handle, request, error) from None
        return Exchange(
            status=handle.getinfo(pycurl.RESPONSE_CODE),
            version=_VERSIONS.get(handle.getinfo(pycurl.INFO_HTTP_VERSION), "HTTP"),
            headers=_headers(lines),
            body=body.value(),
            size=body.size,
            phases=_phases(handle),
            remote=handle.getinfo(pycurl.PRIMARY_IP),
            local=handle.getinfo(pycurl.LOCAL_IP),
            chain=_chain(handle),
        )
    finally:
        handle.close()


def _check_family(request: Request) -> None:
    """libcurl applies the family to names only; an address of the other one would be used all the same."""
    literal = request.address or urlsplit(request.url).hostname or ""
    try:
        version = ipaddress.ip_address(literal).version
    except ValueError:
        return
    if request.family not in ("auto", f"ipv{version}"):
        raise NetError(Reason.NO_ADDRESS_OF_FAMILY, f"{literal} is not an {request.family} address")


def _configure(handle: Any, request: Request, binding: Binding) -> None:
    handle.setopt(pycurl.URL, request.url)
    handle.setopt(pycurl.NOSIGNAL, 1)
    handle.setopt(pycurl.FRESH_CONNECT, 1)
    handle.setopt(pycurl.FORBID_REUSE, 1)
    handle.setopt(pycurl.DNS_CACHE_TIMEOUT, 0)
    handle.setopt(pycurl.TIMEOUT_MS, max(1, request.timeout_us // 1000))
    handle.setopt(pycurl.CONNECTTIMEOUT_MS, max(1, request.timeout_us // 1000))
    handle.setopt(pycurl.USERAGENT, _USER_AGENT)
    handle.setopt(pycurl.IPRESOLVE, _FAMILIES[request.family])
    # An empty proxy also keeps the machine's environment from choosing one behind the engineer's back.
    handle.setopt(pycurl.PROXY, request.proxy or "")
    handle.setopt(pycurl.CUSTOMREQUEST, request.method)
    if request.method == "HEAD":
        handle.setopt(pycurl.NOBODY, 1)
    if request.body:
        handle.setopt(pycurl.POSTFIELDS, request.body)
    handle.setopt(pycurl.HTTPHEADER, [f"{name}: {value}" for name, value in request.headers])
    handle.setopt(pycurl.OPT_CERTINFO, 1)
    handle.setopt(pycurl.SSL_VERIFYPEER, 1 if request.is_verified else 0)
    handle.setopt(pycurl.SSL_VERIFYHOST, 2 if request.is_verified else 0)
    if request.authority:
        handle.setopt(pycurl.CAINFO_BLOB, request.authority.encode())
    else:
        handle.setopt(pycurl.CAINFO, certifi.where())
    if request.address:
        parts = urlsplit(request.url)
        port = parts.port or (443 if parts.scheme == "https" else 80)
        address = f"[{request.address}]" if ":" in request.address else request.address
        handle.setopt(pycurl.RESOLVE, [f"{parts.hostname}:{port}:{address}"])
    if binding.interface and binding.source:
        handle.setopt(pycurl.INTERFACE, f"ifhost!{binding.interface}!{binding.source}")
    elif binding.interface:
        handle.setopt(pycurl.INTERFACE, f"if!{binding.interface}")
    elif binding.source:
        handle.setopt(pycurl.INTERFACE, f"host!{binding.source}")


def _phases(handle: Any) -> Phases:
    """libcurl's timers are cumulative from the start of the exchange, 0 where a phase was not reached."""

    def until(timer: int) -> int:
        return int(handle.getinfo(timer) * 1e6 + 0.5)

    total = until(pycurl.TOTAL_TIME)
    # The phase in which an exchange broke off has all the time that was left.
    name = until(pycurl.NAMELOOKUP_TIME) or total
    connect = max(name, until(pycurl.CONNECT_TIME) or total)
    tls = until(pycurl.APPCONNECT_TIME)
    secure = max(connect, tls)
    first_byte = max(secure, until(pycurl.STARTTRANSFER_TIME) or total)
    return Phases(
        name_us=name,
        connect_us=connect - name,
        tls_us=tls - connect if tls else None,
        first_byte_us=first_byte - secure,
        transfer_us=max(0, total - first_byte),
    )


def _headers(lines: list[bytes]) -> tuple[tuple[str, str], ...]:
    """Headers of the last answer: interim answers (1xx) and a proxy's own come before it."""
    headers: list[tuple[str, str]] = []
    for line in lines:
        text = line.decode("latin-1").rstrip("\r\n")
        if text.startswith("HTTP/"):
            headers = []
        elif ":" in text:
            name, _, value = text.partition(":")
            headers.append((name.strip(), value.strip()))
    return tuple(headers)


def _chain(handle: Any) -> tuple[str, ...]:
    """The certificates as PEM; unreadable ones are left out."""
    try:
        certificates = handle.getinfo(pycurl.INFO_CERTINFO) or []
    except (pycurl.error, UnicodeDecodeError):
        return ()
    return tuple(value for one in certificates for name, value in one if name == "Cert")


def _failure(handle: Any, request: Request, error: pycurl.error) -> NetError:
    code, words = error.args[0], str(error.args[1])
    phases = _phases(handle)
    reason = _CODE_REASONS.get(code, Reason.PROTOCOL_ERROR)
    is_connected = handle.getinfo(pycurl.CONNECT_TIME) > 0
    if code == pycurl.E_COULDNT_RESOLVE_HOST and request.family != "auto":
        reason = Reason.NO_ADDRESS_OF_FAMILY
    elif code == pycurl.E_COULDNT_CONNECT:
        errno = handle.getinfo(pycurl.OS_ERRNO)
        reason = ERRNO_REASONS.get(errno, Reason.CONNECT_TIMEOUT)
        words = f"{words}: {os.strerror(errno)}" if errno else words
    elif code == pycurl.E_OPERATION_TIMEDOUT:
        if not handle.getinfo(pycurl.NAMELOOKUP_TIME):
            reason = Reason.NAME_TIMEOUT
        else:
            reason = Reason.TIMEOUT if is_connected else Reason.CONNECT_TIMEOUT
    if request.proxy and not is_connected and reason in (Reason.CONNECTION_REFUSED, Reason.CONNECT_TIMEOUT):
        reason = Reason.PROXY_FAILED
    return FetchError(reason, words[:300], phases, handle.getinfo(pycurl.PRIMARY_IP) or "", _chain(handle))

"""TLS handshakes on kernel sockets, by OpenSSL, after STARTTLS where it is asked for."""

import socket
import ssl
import time
from collections.abc import Callable

from kuppel.core.reason import Reason
from kuppel.probes.kernel.sockets import bind, net_error
from kuppel.probes.net import Binding, Handshake, NetError, Secured

_MOST_DIALOGUE = 16_384


def shake(handshake: Handshake, binding: Binding) -> Secured:
    """A handshake with verification; when the chain is not accepted, a second without, to see what the server has.

    Raises
    ------
    NetError
    """
    deadline = time.monotonic_ns() + handshake.timeout_us * 1000
    try:
        return _once(handshake, binding, deadline, refusal=None)
    except ssl.SSLCertVerificationError as error:
        refusal = error.verify_message or str(error)
    try:
        return _once(handshake, binding, deadline, refusal=refusal)
    except NetError:
        raise NetError(Reason.CERTIFICATE_INVALID, refusal) from None


def _once(handshake: Handshake, binding: Binding, deadline_ns: int, *, refusal: str | None) -> Secured:
    family = socket.AF_INET6 if ":" in handshake.address else socket.AF_INET
    where = f"{handshake.address} port {handshake.port}"
    step = Reason.CONNECT_TIMEOUT
    with socket.socket(family, socket.SOCK_STREAM) as sock:
        bind(sock, binding)

        def wait() -> None:
            left_ns = deadline_ns - time.monotonic_ns()
            if left_ns <= 0:
                raise TimeoutError
            sock.settimeout(left_ns / 1e9)

        try:
            begun = time.monotonic_ns()
            wait()
            sock.connect((handshake.address, handshake.port))
            connected = time.monotonic_ns()
            step = Reason.TIMEOUT
            if handshake.starttls != "none":
                _DIALOGUES[handshake.starttls](sock, wait)
            agreed = time.monotonic_ns()
            wait()
            with _context(handshake, is_verified=refusal is None).wrap_socket(
                sock, server_hostname=handshake.server_name
            ) as secured:
                done = time.monotonic_ns()
                return Secured(
                    secured.version() or "",
                    (secured.cipher() or ("",))[0],
                    _chain(secured),
                    refusal or "",
                    (connected - begun) // 1000,
                    (agreed - connected) // 1000,
                    (done - agreed) // 1000,
                    str(secured.getsockname()[0]),
                    str(secured.getpeername()[0]),
                )
        except ssl.SSLCertVerificationError:
            raise
        except ssl.SSLError as error:
            raise NetError(Reason.TLS_FAILED, f"{where}: {error.reason or error}") from None
        except TimeoutError:
            raise NetError(step, f"{where} did not answer within {handshake.timeout_us / 1e6:.3g} s") from None
        except OSError as error:
            raise net_error(error, where) from None


def _context(handshake: Handshake, *, is_verified: bool) -> ssl.SSLContext:
    try:
        context = ssl.create_default_context(cadata=handshake.authority)
    except (ssl.SSLError, ValueError) as error:
        raise NetError(Reason.AGENT_ERROR, f"the authority's certificates cannot be read: {error}") from None
    if not is_verified:
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
    # What the server has is what is asked for, not what we would put up with.
    context.minimum_version = ssl.TLSVersion.MINIMUM_SUPPORTED
    return context


def _chain(secured: ssl.SSLSocket) -> tuple[str, ...]:
    """All certificates that the server sent. Public from Python 3.13 on; before, only the object within has it."""
    inner = getattr(secured, "_sslobj", None)
    sent = getattr(inner, "get_unverified_chain", None)
    found = sent() if sent is not None else None
    if found:
        return tuple(one.public_bytes() for one in found)
    leaf = secured.getpeercert(binary_form=True)
    return () if leaf is None else (ssl.DER_cert_to_PEM_cert(leaf),)


def _smtp(sock: socket.socket, wait: Callable[[], None]) -> None:
    lines = _Lines(sock, wait)
    lines.expect("220", "greeting")
    sock.sendall(b"EHLO kuppel.invalid\r\n")
    lines.expect("250", "EHLO")
    sock.sendall(b"STARTTLS\r\n")
    lines.expect("220", "STARTTLS")


def _imap(sock: socket.socket, wait: Callable[[], None]) -> None:
    lines = _Lines(sock, wait)
    told = lines.next()
    if not told.startswith("* OK"):
        raise NetError(Reason.PROTOCOL_ERROR, f"the greeting was {told[:80]!r}")
    sock.sendall(b"k1 STARTTLS\r\n")
    while not (told := lines.next()).startswith("k1 "):
        continue
    if not told.startswith("k1 OK"):
        raise NetError(Reason.PROTOCOL_ERROR, f"STARTTLS was answered {told[:80]!r}")


_DIALOGUES = {"smtp": _smtp, "imap": _imap}


class _Lines:
    """Lines of a dialogue, all of them together bounded."""

    def __init__(self, sock: socket.socket, wait: Callable[[], None]) -> None:
        self._sock = sock
        self._wait = wait
        self._left = _MOST_DIALOGUE

    def next(self) -> str:
        # An octet at a time: what follows the last line belongs to TLS.
        line = b""
        while not line.endswith(b"\n"):
            self._wait()
            octet = self._sock.recv(1)
            self._left -= 1
            if not octet:
                raise NetError(Reason.CONNECTION_RESET, "the server closed the connection before TLS")
            if self._left < 0:
                raise NetError(Reason.PROTOCOL_ERROR, "the server talks without end before TLS")
            line += octet
        return line.decode("ascii", "replace").rstrip("\r\n")

    def expect(self, code: str, what: str) -> None:
        """Read a reply of SMTP (RFC 5321 §4.2), of one line or several."""
        while (line := self.next())[3:4] == "-":
            continue
        if not line.startswith(code):
            raise NetError(Reason.PROTOCOL_ERROR, f"{what} was answered {line[:80]!r}")

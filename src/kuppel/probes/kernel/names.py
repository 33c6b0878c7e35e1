"""One DNS exchange on kernel sockets, by UDP or TCP."""

import select
import socket
import time

from kuppel.core.reason import Reason
from kuppel.probes.kernel.sockets import bind, net_error
from kuppel.probes.kernel.stamps import SO_TIMESTAMPNS, stamp_of
from kuppel.probes.net import Binding, NameQuery, NameReply, NetError

_MOST_OCTETS = 65_535


def ask(query: NameQuery, binding: Binding) -> NameReply:
    """Send a message and wait for the one that answers it; what has another number is not looked at.

    Raises
    ------
    NetError
    """
    family = socket.AF_INET6 if ":" in query.address else socket.AF_INET
    kind = socket.SOCK_STREAM if query.is_tcp else socket.SOCK_DGRAM
    with socket.socket(family, kind) as sock:
        bind(sock, binding)
        try:
            return _by_tcp(sock, query) if query.is_tcp else _by_udp(sock, query)
        except TimeoutError:
            raise _too_late(query) from None
        except OSError as error:
            raise net_error(error, f"{query.address} port {query.port}") from None


def _by_udp(sock: socket.socket, query: NameQuery) -> NameReply:
    sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    # Connected, so that only this resolver is heard, and its ICMP errors are.
    sock.connect((query.address, query.port))
    local = str(sock.getsockname()[0])
    poll = select.poll()
    poll.register(sock, select.POLLIN)
    sent_ns, begun = time.time_ns(), time.monotonic_ns()
    sock.send(query.message)
    deadline = begun + query.timeout_us * 1000
    while (left_ns := deadline - time.monotonic_ns()) > 0:
        if not poll.poll(left_ns / 1_000_000):
            break
        message, ancillary, _, _ = sock.recvmsg(_MOST_OCTETS, 512)
        elapsed_ns = time.monotonic_ns() - begun
        stamp = stamp_of(ancillary)
        # The kernel's stamp is free of our own lateness; where a clock was set meanwhile, ours stands in.
        if stamp is not None and 0 < stamp - sent_ns <= elapsed_ns:
            elapsed_ns = stamp - sent_ns
        if message[:2] == query.message[:2]:
            return NameReply(message, elapsed_ns // 1000, local)
    raise _too_late(query)


def _by_tcp(sock: socket.socket, query: NameQuery) -> NameReply:
    begun = time.monotonic_ns()
    deadline = begun + query.timeout_us * 1000

    def wait() -> None:
        sock.settimeout(max(0.001, (deadline - time.monotonic_ns()) / 1e9))

    def take(count: int) -> bytes:
        parts = b""
        while len(parts) < count:
            wait()
            if time.monotonic_ns() > deadline:  # a resolver that sends an octet now and then is late as a whole
                raise TimeoutError
            part = sock.recv(count - len(parts))
            if not part:
                raise NetError(Reason.CONNECTION_RESET, "the resolver closed the connection before it had answered")
            parts += part
        return parts

    wait()
    sock.connect((query.address, query.port))
    sock.sendall(len(query.message).to_bytes(2, "big") + query.message)
    message = take(int.from_bytes(take(2), "big"))
    if message[:2] != query.message[:2]:
        raise NetError(Reason.PROTOCOL_ERROR, "the answer is to another question")
    return NameReply(message, (time.monotonic_ns() - begun) // 1000, str(sock.getsockname()[0]))


def _too_late(query: NameQuery) -> NetError:
    return NetError(Reason.NAME_TIMEOUT, f"no answer from {query.address} within {query.timeout_us / 1e6:.3g} s")

"""The largest packet that gets through whole."""

import contextlib
import select
import socket
import time

from kuppel.probes.kernel.icmp_errors import IcmpError, entries, want_errors
from kuppel.probes.kernel.sockets import bind, net_error
from kuppel.probes.net import Binding, PathMtu

_IP_MTU_DISCOVER, _V6_MTU_DISCOVER, _PMTUDISC_PROBE = 10, 23, 3
# Sizes to try where larger packets vanish without a word: of common links, and the least that IP asks for.
_PLATEAUS = (9000, 4352, 1500, 1492, 1480, 1420, 1400, 1280, 576)


def path_mtu(address: str, timeout_us: int, binding: Binding) -> PathMtu:
    """The largest packet that gets through whole (RFC 1191, RFC 8201), found with packets to a port that nobody serves.

    Starts from what the uplink takes; each "too big" names the next size to try, silence the next plateau.
    """
    is_v6 = ":" in address
    overhead = 48 if is_v6 else 28
    with socket.socket(socket.AF_INET6 if is_v6 else socket.AF_INET, socket.SOCK_DGRAM) as sock:
        bind(sock, binding)
        want_errors(sock, is_v6=is_v6, dscp=0)
        level, discover = (socket.IPPROTO_IPV6, _V6_MTU_DISCOVER) if is_v6 else (socket.IPPROTO_IP, _IP_MTU_DISCOVER)
        # What the kernel remembers of an earlier, narrower way does not count.
        sock.setsockopt(level, discover, _PMTUDISC_PROBE)
        try:
            sock.connect((address, 33_434))
        except OSError as error:
            raise net_error(error, address) from None
        sock.setblocking(False)
        octets, limited_by = 65_535, ""
        while octets >= 68:
            answer = _passes(sock, octets - overhead, timeout_us, is_v6=is_v6)
            if answer is True:
                return PathMtu(octets, limited_by)
            if isinstance(answer, IcmpError) and 68 <= answer.info < octets:
                octets, limited_by = answer.info, answer.address
            else:
                octets = next((size for size in _PLATEAUS if size < octets), 0)
        return PathMtu(None)


def _passes(sock: socket.socket, size: int, timeout_us: int, *, is_v6: bool) -> bool | IcmpError:
    """Whether a packet of this many data octets reaches the address; the error that says how large one may be."""
    for _ in entries(sock, is_v6=is_v6):
        continue  # of packets before
    for _ in range(2):  # the first may only tell an error of before
        with contextlib.suppress(OSError):
            sock.send(bytes(size))
            break
    poll = select.poll()
    poll.register(sock, select.POLLIN | select.POLLERR)
    deadline_ns = time.monotonic_ns() + timeout_us * 1000
    while (left_ns := deadline_ns - time.monotonic_ns()) > 0:
        if not poll.poll(left_ns / 1e6):
            return False
        for found in entries(sock, is_v6=is_v6):
            if isinstance(found, IcmpError):
                if found.is_too_big:
                    return found
                if found.is_unreachable:
                    return found.is_port_unreachable
        with contextlib.suppress(OSError):
            if sock.recv(65_535):
                return True
    return False

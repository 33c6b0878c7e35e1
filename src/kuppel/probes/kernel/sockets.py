"""Name lookup by the system's resolver, TCP connections, and what all sockets share: binding and errors."""

import errno
import os
import select
import socket
import struct
import time

from kuppel.core.reason import Reason
from kuppel.probes.net import Binding, Connection, Family, NetError, Resolution

_FAMILIES = {"auto": socket.AF_UNSPEC, "ipv4": socket.AF_INET, "ipv6": socket.AF_INET6}
# Byte offset of tcpi_rtt (µs) in the kernel's struct tcp_info (include/uapi/linux/tcp.h): 8 octets, then 15 words.
_TCP_INFO_RTT = 68

ERRNO_REASONS = {
    errno.ECONNREFUSED: Reason.CONNECTION_REFUSED,
    errno.ECONNRESET: Reason.CONNECTION_RESET,
    errno.ETIMEDOUT: Reason.CONNECT_TIMEOUT,
    errno.ENETUNREACH: Reason.NO_ROUTE,
    errno.EHOSTUNREACH: Reason.NO_ROUTE,
    errno.ENETDOWN: Reason.NO_ROUTE,
    errno.EADDRNOTAVAIL: Reason.BINDING_UNUSABLE,
    errno.ENODEV: Reason.BINDING_UNUSABLE,
    errno.EPERM: Reason.NOT_PERMITTED,
    errno.EACCES: Reason.NOT_PERMITTED,
}


def net_error(error: OSError, what: str) -> NetError:
    """The `NetError` for a failed socket call."""
    reason = ERRNO_REASONS.get(error.errno or 0, Reason.PROTOCOL_ERROR)
    return NetError(reason, f"{what}: {error.strerror or error}")


def name_timeout(timeout_us: int) -> NetError:
    return NetError(Reason.NAME_TIMEOUT, f"no answer from the resolver within {timeout_us / 1e6:.3g} s")


def resolve(name: str, family: Family) -> Resolution:
    """Addresses of a name by the system's resolver (getaddrinfo, RFC 3493), an address being its own."""
    begun = time.perf_counter_ns()
    try:
        found = socket.getaddrinfo(name, None, _FAMILIES[family], socket.SOCK_STREAM)
    except socket.gaierror as error:
        if error.errno == socket.EAI_AGAIN:
            raise NetError(Reason.NAME_TIMEOUT, f"{name}: {error.strerror}") from None
        # glibc's name for "the name exists, but not in this family", and for a literal of the other family.
        if error.errno in (-5, getattr(socket, "EAI_ADDRFAMILY", -9)):
            raise NetError(Reason.NO_ADDRESS_OF_FAMILY, f"{name} has no {family} address") from None
        raise NetError(Reason.NAME_NOT_FOUND, f"{name}: {error.strerror}") from None
    elapsed_us = (time.perf_counter_ns() - begun) // 1000
    return Resolution(tuple(dict.fromkeys(str(entry[4][0]) for entry in found)), elapsed_us)


def name_of(address: str) -> str:
    """The name of an address by the system's resolver; empty when it has none."""
    try:
        return socket.getnameinfo((address, 0), socket.NI_NAMEREQD)[0]
    except OSError:
        return ""


def bind(sock: socket.socket, binding: Binding) -> None:
    """Send this socket's packets through the wanted uplink.

    Raises
    ------
    NetError
        with reason `binding_unusable` when the interface or address is not on this machine.
    """
    try:
        if binding.interface is not None:
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, binding.interface.encode() + b"\0")
        if binding.source is not None:
            sock.bind((binding.source, 0))
    except OSError as error:
        wanted = " ".join(part for part in (binding.interface, binding.source) if part)
        raise NetError(Reason.BINDING_UNUSABLE, f"{wanted}: {error.strerror or error}") from None


def connect(address: str, port: int, timeout_us: int, binding: Binding) -> Connection:
    """One TCP handshake, timed, and closed."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with socket.socket(family, socket.SOCK_STREAM) as sock:
        bind(sock, binding)
        sock.setblocking(False)
        where = f"[{address}]:{port}" if family == socket.AF_INET6 else f"{address}:{port}"
        begun = time.perf_counter_ns()
        status = sock.connect_ex((address, port))
        if status == errno.EINPROGRESS:
            poll = select.poll()
            poll.register(sock, select.POLLOUT)
            if not poll.poll(timeout_us / 1000):
                raise NetError(Reason.CONNECT_TIMEOUT, f"{where} did not answer within {timeout_us / 1e6:.3g} s")
            elapsed_us = (time.perf_counter_ns() - begun) // 1000
            status = sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
        else:
            elapsed_us = (time.perf_counter_ns() - begun) // 1000
        if status:
            raise net_error(OSError(status, os.strerror(status)), where)
        info = sock.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 104)
        rtt_us = struct.unpack_from("=I", info, _TCP_INFO_RTT)[0] if len(info) >= _TCP_INFO_RTT + 4 else 0
        return Connection(elapsed_us, rtt_us or None, str(sock.getsockname()[0]), str(sock.getpeername()[0]))

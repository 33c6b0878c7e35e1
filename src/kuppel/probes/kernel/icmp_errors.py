"""The error queue of a socket: ICMP errors as the kernel hands them back, with sender, extensions and time, and send
stamps."""

import contextlib
import errno
import socket
import struct
from collections.abc import Iterator
from dataclasses import dataclass

from kuppel.probes.kernel.stamps import SO_TIMESTAMPNS, stamp_both_ways, stamp_of
from kuppel.wire.icmp_extension import decode_labels

IP_TTL, IPV6_HOPLIMIT = 2, 52
_IP_RECVERR, _IP_RECVTTL, _IP_RECVERR_RFC4884 = 11, 12, 26
_V6_RECVERR, _V6_RECVERR_RFC4884, _V6_RECVHOPLIMIT = 25, 31, 51
_ORIGIN_LOCAL, _ORIGIN_ICMP, _ORIGIN_ICMP6, _ORIGIN_TIMESTAMPING = 1, 2, 3, 4
_EXCEEDED = {False: 11, True: 3}
_UNREACHABLE = {False: 3, True: 1}
_PORT_UNREACHABLE = {False: 3, True: 4}
_TOO_BIG = {False: (3, 4), True: (2, 0)}
_WORDS = {
    False: {0: "network unreachable", 1: "host unreachable", 2: "protocol unreachable", 3: "port unreachable",
            9: "network prohibited", 10: "host prohibited", 13: "prohibited by a filter"},
    True: {0: "no route", 1: "prohibited by a filter", 3: "address unreachable", 4: "port unreachable"},
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class SentStamp:
    """When the packet of that number left, in ns since 1970."""

    number: int
    sent_ns: int


@dataclass(frozen=True, slots=True)
class IcmpError:
    """An ICMP error about a packet of this socket. `info` is the largest size that fits, for "too big"; `quoted` is what it
    quotes of the packet, after the transport header for UDP, from it on for ICMP."""

    is_v6: bool
    type: int
    code: int
    info: int
    address: str
    reply_ttl: int | None
    labels: tuple[str, ...]
    stamp_ns: int | None
    quoted: bytes

    @property
    def is_exceeded(self) -> bool:
        return self.type == _EXCEEDED[self.is_v6]

    @property
    def is_unreachable(self) -> bool:
        return self.type == _UNREACHABLE[self.is_v6]

    @property
    def is_port_unreachable(self) -> bool:
        """The packet came to where it should: nobody listens there."""
        return self.is_unreachable and self.code == _PORT_UNREACHABLE[self.is_v6]

    @property
    def is_too_big(self) -> bool:
        return (self.type, self.code) == _TOO_BIG[self.is_v6]

    @property
    def words(self) -> str:
        return _WORDS[self.is_v6].get(self.code, f"ICMP {self.type}, {self.code}")


def want_errors(sock: socket.socket, *, is_v6: bool, dscp: int) -> None:
    """Have the kernel keep errors for this socket, with the answer's time to live and RFC 4884 extensions, and stamp
    packets."""
    if is_v6:
        sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_TCLASS, dscp << 2)
        sock.setsockopt(socket.IPPROTO_IPV6, _V6_RECVERR, 1)
        sock.setsockopt(socket.IPPROTO_IPV6, _V6_RECVHOPLIMIT, 1)
        with contextlib.suppress(OSError):  # kernels before 5.9
            sock.setsockopt(socket.IPPROTO_IPV6, _V6_RECVERR_RFC4884, 1)
    else:
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, dscp << 2)
        sock.setsockopt(socket.IPPROTO_IP, _IP_RECVERR, 1)
        sock.setsockopt(socket.IPPROTO_IP, _IP_RECVTTL, 1)
        with contextlib.suppress(OSError):
            sock.setsockopt(socket.IPPROTO_IP, _IP_RECVERR_RFC4884, 1)
    if sock.type == socket.SOCK_STREAM:
        sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    else:
        stamp_both_ways(sock)


def entries(sock: socket.socket, *, is_v6: bool) -> Iterator[IcmpError | SentStamp]:
    """What lies in the error queue, until it is empty. "Too big" of the own uplink comes as an error without a sender."""
    while True:
        try:
            quoted, ancillary, _, _ = sock.recvmsg(2048, 1024, socket.MSG_ERRQUEUE)
        except OSError:
            return
        for level, kind, data in ancillary:
            if (level, kind) in ((socket.IPPROTO_IP, _IP_RECVERR), (socket.IPPROTO_IPV6, _V6_RECVERR)) and len(data) >= 16:
                found = _entry(quoted, ancillary, data, is_v6=is_v6)
                if found is not None:
                    yield found


def _entry(
    quoted: bytes, ancillary: list[tuple[int, int, bytes]], data: bytes, *, is_v6: bool
) -> IcmpError | SentStamp | None:
    """One struct sock_extended_err (include/uapi/linux/errqueue.h)."""
    number, origin, icmp_type, icmp_code, _, info, more = struct.unpack_from("=IBBBBII", data)
    stamp_ns = stamp_of(ancillary)
    if origin == _ORIGIN_TIMESTAMPING:
        return None if stamp_ns is None else SentStamp(more, stamp_ns)
    if origin == _ORIGIN_LOCAL and number == errno.EMSGSIZE:
        return IcmpError(is_v6, *_TOO_BIG[is_v6], info, "", None, (), None, b"")
    if origin not in (_ORIGIN_ICMP, _ORIGIN_ICMP6):
        return None
    at = more & 0xFFFF
    labels = decode_labels(quoted[at:]) if at else ()
    return IcmpError(
        is_v6,
        icmp_type,
        icmp_code,
        info,
        _offender(data, is_v6=is_v6),
        time_to_live(ancillary),
        tuple(f"{one.label} (class {one.traffic_class}, time to live {one.ttl})" for one in labels),
        stamp_ns,
        quoted,
    )


def _offender(data: bytes, *, is_v6: bool) -> str:
    if is_v6 and len(data) >= 40:
        return socket.inet_ntop(socket.AF_INET6, data[24:40])
    if not is_v6 and len(data) >= 24:
        return socket.inet_ntop(socket.AF_INET, data[20:24])
    return ""


def time_to_live(ancillary: list[tuple[int, int, bytes]]) -> int | None:
    """The time to live, or hop limit, with which a packet arrived."""
    for level, kind, data in ancillary:
        if len(data) >= 4 and (level, kind) in ((socket.IPPROTO_IP, IP_TTL), (socket.IPPROTO_IPV6, IPV6_HOPLIMIT)):
            return int(struct.unpack_from("=i", data)[0]) & 0xFF
    return None

"""What every reflector of datagrams does: listen, answer one for one, count what each sender sent."""

import socket
import struct
import time
from dataclasses import dataclass, field

from kuppel.probes.kernel.sockets import net_error
from kuppel.probes.kernel.stamps import SO_TIMESTAMPNS, stamp_of

_IP_RECVTTL = 12
_IPV6_RECVHOPLIMIT, _IPV6_HOPLIMIT = 51, 52
# A session that was quiet for so long is over; its count begins anew.
_SESSION_NS = 120 * 1_000_000_000
_MOST_SESSIONS = 10_000


@dataclass(slots=True)
class _Session:
    """What is kept of one sender: how many packets came, and when the last."""

    count: int
    seen_ns: int


@dataclass(slots=True)
class Sessions:
    """How many packets came from each sender; bounded."""

    _known: dict[tuple[object, ...], _Session] = field(default_factory=dict)

    def number(self, sender: tuple[object, ...], now_ns: int) -> int:
        """The number of this packet among those of its sender, from 0."""
        session = self._known.get(sender)
        if session is None or now_ns - session.seen_ns > _SESSION_NS:
            if len(self._known) >= _MOST_SESSIONS:
                self._forget(now_ns)
            session = self._known[sender] = _Session(0, now_ns)
        number, session.count, session.seen_ns = session.count, session.count + 1, now_ns
        return number & 0xFFFF_FFFF

    def _forget(self, now_ns: int) -> None:
        """Drop sessions that are over; when none is, the one that was quiet for longest."""
        over = [sender for sender, one in self._known.items() if now_ns - one.seen_ns > _SESSION_NS]
        for sender in over or [min(self._known, key=lambda one: self._known[one].seen_ns)]:
            del self._known[sender]


class DatagramReflector:
    """A UDP port that answers each datagram that asks for it with one of the same length, to where it came from."""

    def __init__(self, address: str, port: int) -> None:
        """
        Raises
        ------
        NetError
            when the port cannot be listened on.
        """
        is_v6 = ":" in address
        self._sock = socket.socket(socket.AF_INET6 if is_v6 else socket.AF_INET, socket.SOCK_DGRAM)
        self._is_closed = False
        self.sessions = Sessions()
        self.answered = 0
        self.dropped = 0
        try:
            prepare(self._sock, is_v6=is_v6, dscp=0)
            if is_v6:
                self._sock.setsockopt(socket.IPPROTO_IPV6, _IPV6_RECVHOPLIMIT, 1)
            else:
                self._sock.setsockopt(socket.IPPROTO_IP, _IP_RECVTTL, 1)
            self._sock.bind((address, port))
        except OSError as error:
            self._sock.close()
            raise net_error(error, f"{address} port {port}") from None
        self._sock.settimeout(0.2)

    @property
    def port(self) -> int:
        return int(self._sock.getsockname()[1])

    def serve(self) -> None:
        """Answer until `close` is called."""
        while not self._is_closed:
            try:
                octets, ancillary, _, peer = self._sock.recvmsg(65_535, 512)
            except TimeoutError:
                continue
            except OSError:  # an ICMP error about an answer of ours, or closed
                continue
            answer = self.answer(octets, peer, stamp_of(ancillary) or time.time_ns(), _ttl(ancillary))
            if answer is None:
                self.dropped += 1
                continue
            try:
                self._sock.sendto(answer, peer)
                self.answered += 1
            except OSError:
                self.dropped += 1
        self._sock.close()

    def answer(self, octets: bytes, peer: tuple[object, ...], received_ns: int, ttl: int) -> bytes | None:
        """The answer to what came; None when it asks for none."""
        raise NotImplementedError

    def close(self) -> None:
        self._is_closed = True


def prepare(sock: socket.socket, *, is_v6: bool, dscp: int) -> None:
    sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    if is_v6:
        sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_TCLASS, dscp << 2)
    else:
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, dscp << 2)


def _ttl(ancillary: list[tuple[int, int, bytes]]) -> int:
    for level, kind, data in ancillary:
        is_ttl = (level == socket.IPPROTO_IP and kind == socket.IP_TTL) or (
            level == socket.IPPROTO_IPV6 and kind == _IPV6_HOPLIMIT
        )
        if is_ttl and len(data) >= 4:
            return int(struct.unpack_from("=i", data)[0]) & 0xFF
    return 0

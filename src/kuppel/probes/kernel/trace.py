"""Path discovery on unprivileged sockets: packets of rising time to live, and the ICMP errors that the kernel hands back.

Each flow has a socket of its own, whose ports (UDP, TCP) or identifier and checksum (ICMP) stay the same: those are the
fields that load balancers hash. IP_RECVERR brings each error with its sender, IP_RECVERR_RFC4884 the extensions behind it.
"""

import contextlib
import errno
import os
import select
import socket
import struct
import time
from dataclasses import dataclass
from typing import Literal

from kuppel.core.path import HopAnswer, Kind
from kuppel.probes.kernel.icmp_errors import IP_TTL, IPV6_HOPLIMIT, IcmpError, entries, time_to_live, want_errors
from kuppel.probes.kernel.sockets import bind, net_error
from kuppel.probes.kernel.stamps import keep_stamping, stamp_of
from kuppel.probes.net import Binding, TraceReport, TraceRequest
from kuppel.wire.icmp import decode_echo_reply, encode_echo_request, strip_ipv4_header

# The first port of flows, if it is free: the same flow then takes the same way in the next run.
_FIRST_PORT = 49_152 + 4_000
_WINDOW = 4
_TOKEN = struct.Struct("!IHH")


@dataclass(slots=True)
class _Shot:
    """One packet under way, times in ns."""

    flow: int
    ttl: int
    number: int
    wall_ns: int
    monotonic_ns: int
    kernel_ns: int | None = None
    answer: HopAnswer | None = None
    received_ns: int | None = None
    has_kernel_receive: bool = False

    def take(self, kind: Kind, address: str, stamp_ns: int | None, **said: object) -> None:
        if self.answer is not None:
            return
        self.has_kernel_receive = stamp_ns is not None
        self.received_ns = stamp_ns or time.time_ns()
        self.answer = HopAnswer(self.flow, self.ttl, kind, address, None, **said)  # type: ignore[arg-type]

    def told(self, timeout_ns: int) -> HopAnswer:
        silent = HopAnswer(self.flow, self.ttl, "silent")
        if self.answer is None or self.received_ns is None:
            return silent
        trip_ns = self.received_ns - (self.kernel_ns if self.has_kernel_receive and self.kernel_ns else self.wall_ns)
        # An answer after the waiting time counts as lost (RFC 2681 §2.5), even though it was seen.
        if trip_ns > timeout_ns:
            return silent
        one = self.answer
        return HopAnswer(
            one.flow, one.ttl, one.kind, one.address, max(0, trip_ns) / 1000, one.reply_ttl, one.labels, one.note
        )


class _Channel:
    """One flow: its socket and the packets that it sent."""

    events = select.POLLIN | select.POLLERR

    def __init__(self, request: TraceRequest, binding: Binding, flow: int) -> None:
        self.request = request
        self.binding = binding
        self.flow = flow
        self.is_v6 = ":" in request.address
        self.shots: list[_Shot] = []
        self.is_done = False

    def shoot(self, ttl: int) -> _Shot:
        shot = _Shot(self.flow, ttl, len(self.shots), time.time_ns(), time.monotonic_ns())
        self.shots.append(shot)
        self.send(shot)
        return shot

    def send(self, shot: _Shot) -> None:
        raise NotImplementedError

    def drain(self) -> None:
        raise NotImplementedError

    def fileno(self) -> int:
        raise NotImplementedError

    def close(self) -> None:
        raise NotImplementedError

    def outstanding(self) -> list[_Shot]:
        return [one for one in self.shots if one.answer is None]

    def judge(self, error: IcmpError, shot: _Shot | None) -> None:
        """Note what an error says of the packet that it is about."""
        if shot is None:
            return
        kind: Kind = "exceeded" if error.is_exceeded else "reached" if error.is_port_unreachable else "refused"
        note = error.words if kind == "refused" else ""
        shot.take(kind, error.address, error.stamp_ns, reply_ttl=error.reply_ttl, labels=error.labels, note=note)


class _Datagrams(_Channel):
    """UDP, or ICMP echo: one socket for all packets of the flow, which carry their numbers."""

    def __init__(self, request: TraceRequest, binding: Binding, flow: int) -> None:
        super().__init__(request, binding, flow)
        self.is_raw = False
        self.identifier = (os.getpid() + flow * 257) & 0xFFFF
        self.sock = self._opened()
        self.token = int.from_bytes(os.urandom(4), "big")
        try:
            want_errors(self.sock, is_v6=self.is_v6, dscp=request.dscp)
            self._bind_flow()
            self.sock.connect((request.address, 0 if request.protocol == "icmp" else request.port))
        except OSError as error:
            self.sock.close()
            raise net_error(error, request.address) from None
        self.sock.setblocking(False)

    def _opened(self) -> socket.socket:
        family = socket.AF_INET6 if self.is_v6 else socket.AF_INET
        if self.request.protocol == "udp":
            return socket.socket(family, socket.SOCK_DGRAM)
        protocol = socket.IPPROTO_ICMPV6 if self.is_v6 else socket.IPPROTO_ICMP
        with contextlib.suppress(PermissionError):
            return socket.socket(family, socket.SOCK_DGRAM, protocol)
        try:
            self.is_raw = True
            return socket.socket(family, socket.SOCK_RAW, protocol)
        except PermissionError as error:
            raise net_error(error, "ICMP") from None

    def _bind_flow(self) -> None:
        bind(self.sock, Binding(self.binding.interface, None))
        source = self.binding.source or ("::" if self.is_v6 else "0.0.0.0")
        if self.request.protocol == "icmp":
            if self.binding.source is not None:
                bind(self.sock, self.binding)
            return
        _bind_port(self.sock, source, self.flow)

    def fileno(self) -> int:
        return self.sock.fileno()

    def close(self) -> None:
        self.sock.close()

    def send(self, shot: _Shot) -> None:
        level, kind = (socket.IPPROTO_IPV6, IPV6_HOPLIMIT) if self.is_v6 else (socket.IPPROTO_IP, IP_TTL)
        limit = [(level, kind, struct.pack("=i", shot.ttl))]
        packet = self._packet(shot.number)
        for _ in range(5):
            shot.wall_ns, shot.monotonic_ns = time.time_ns(), time.monotonic_ns()
            try:
                self.sock.sendmsg([packet], limit)
                return
            except (ConnectionRefusedError, BlockingIOError):
                continue  # an error about an earlier packet, told here once
            except OSError as error:
                if error.errno not in (errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EACCES, errno.EPROTO, errno.EMSGSIZE):
                    raise
        # Five times an error of before: this packet was not sent, and counts as not answered.

    def _packet(self, number: int) -> bytes:
        if self.request.protocol == "udp":
            return _TOKEN.pack(self.token, number, 0).ljust(self.request.size, b"\0")
        # The number is the sequence; its complement in the data leaves the checksum, and so the flow, as it is.
        data = struct.pack("!HI", 0xFFFF - number, self.token).ljust(max(8, self.request.size), b"\0")
        return encode_echo_request(self.identifier, number, data, is_v6=self.is_v6)

    def _shot_of(self, quoted: bytes) -> _Shot | None:
        """The packet that an error quotes; of one that quotes too little, the only one under way."""
        number = None
        if self.request.protocol == "udp":
            if len(quoted) >= _TOKEN.size:
                token, number, _ = _TOKEN.unpack_from(quoted)
                if token != self.token:
                    return None
        elif len(quoted) >= 8:
            identifier, number = struct.unpack_from("!HH", quoted, 4)
            if self.is_raw and identifier != self.identifier:
                return None
        if number is not None:
            return self.shots[number] if number < len(self.shots) else None
        under_way = self.outstanding()
        return under_way[0] if len(under_way) == 1 else None

    def drain(self) -> None:
        for found in entries(self.sock, is_v6=self.is_v6):
            if isinstance(found, IcmpError):
                self.judge(found, self._shot_of(found.quoted))
            elif found.number < len(self.shots):
                self.shots[found.number].kernel_ns = found.sent_ns
        while True:
            try:
                octets, ancillary, _, peer = self.sock.recvmsg(65_535, 512)
            except BlockingIOError:
                return
            except OSError:
                continue
            self._answered(
                octets, stamp_of(ancillary), str(peer[0]) if peer else self.request.address, time_to_live(ancillary)
            )

    def _answered(self, octets: bytes, stamp_ns: int | None, address: str, reply_ttl: int | None) -> None:
        if self.request.protocol == "udp":
            under_way = self.outstanding()
            if under_way:
                under_way[0].take("reached", self.request.address, stamp_ns, reply_ttl=reply_ttl)
            return
        message = strip_ipv4_header(octets) if self.is_raw and not self.is_v6 else octets
        echo = decode_echo_reply(message, is_v6=self.is_v6)
        if echo is None or (self.is_raw and echo.identifier != self.identifier) or echo.sequence >= len(self.shots):
            return
        self.shots[echo.sequence].take("reached", address, stamp_ns, reply_ttl=reply_ttl)


class _Connections(_Channel):
    """TCP: one attempt to connect at a time, always from the same port, so that all belong to one flow."""

    events = select.POLLIN | select.POLLERR | select.POLLOUT

    def __init__(self, request: TraceRequest, binding: Binding, flow: int) -> None:
        super().__init__(request, binding, flow)
        self.sock: socket.socket | None = None
        self.port = 0

    def fileno(self) -> int:
        return -1 if self.sock is None else self.sock.fileno()

    def close(self) -> None:
        if self.sock is not None:
            self.sock.close()
            self.sock = None

    def send(self, shot: _Shot) -> None:
        self.close()
        sock = self.sock = socket.socket(socket.AF_INET6 if self.is_v6 else socket.AF_INET, socket.SOCK_STREAM)
        sock.setblocking(False)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        # Closing sends a reset and leaves nothing behind that would keep the port.
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        want_errors(sock, is_v6=self.is_v6, dscp=self.request.dscp)
        limit = (socket.IPPROTO_IPV6, socket.IPV6_UNICAST_HOPS) if self.is_v6 else (socket.IPPROTO_IP, IP_TTL)
        sock.setsockopt(*limit, shot.ttl)
        bind(sock, Binding(self.binding.interface, None))
        source = self.binding.source or ("::" if self.is_v6 else "0.0.0.0")
        if self.port:
            sock.bind((source, self.port))
        else:
            _bind_port(sock, source, self.flow)
            self.port = int(sock.getsockname()[1])
        shot.wall_ns, shot.monotonic_ns = time.time_ns(), time.monotonic_ns()
        status = sock.connect_ex((self.request.address, self.request.port))
        if status == errno.ECONNREFUSED:
            shot.take("reached", self.request.address, None, note="refused")
        elif status not in (0, errno.EINPROGRESS):
            raise net_error(OSError(status, os.strerror(status)), self.request.address)

    def drain(self) -> None:
        if self.sock is None or not self.shots:
            return
        shot = self.shots[-1]
        for found in entries(self.sock, is_v6=self.is_v6):
            if isinstance(found, IcmpError):
                self.judge(found, shot)
        if shot.answer is not None:
            self.close()
            return
        poll = select.poll()
        poll.register(self.sock, select.POLLOUT)
        if poll.poll(0):
            status = self.sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
            if status in (0, errno.ECONNREFUSED):
                shot.take("reached", self.request.address, None, note="refused" if status else "")
                self.close()


def trace(request: TraceRequest, binding: Binding) -> TraceReport:
    """Follow every flow to its end; blocks for as long as hops stay silent, at most `most_hops` waiting times.

    Raises
    ------
    NetError
    """
    keep_stamping()
    channels: list[_Channel] = []
    try:
        for flow in request.flows:
            make = _Connections if request.protocol == "tcp" else _Datagrams
            channels.append(make(request, binding, flow))
        _follow(channels, request)
    except OSError as error:
        raise net_error(error, request.address) from None
    finally:
        for one in channels:
            one.close()
    shots = [shot for channel in channels for shot in channel.shots]
    stamps: Literal["kernel", "kernel receive", "user"] = "kernel"
    answered = [one for one in shots if one.answer is not None]
    if any(not one.has_kernel_receive for one in answered):
        stamps = "user"
    elif any(one.kernel_ns is None for one in answered):
        stamps = "kernel receive"
    return TraceReport(tuple(one.told(request.timeout_us * 1000) for one in shots), stamps)


def _follow(channels: list[_Channel], request: TraceRequest) -> None:
    window = 1 if request.protocol == "tcp" else _WINDOW
    for first in range(1, request.most_hops + 1, window):
        ttls = range(first, min(first + window, request.most_hops + 1))
        going = [one for one in channels if not one.is_done]
        if not going:
            return
        for ttl in ttls:
            for channel in going:
                channel.shoot(ttl)
                _collect(going, time.monotonic_ns() + request.gap_us * 1000)
        _wait(going, request)
        _ask_again(going, request)
        for channel in going:
            channel.is_done = _is_done(channel, request)


def _ask_again(channels: list[_Channel], request: TraceRequest) -> None:
    """Silent hops are asked once more, one packet of a flow at a time: then an answer that quotes too little to tell
    which packet it is to has only one that it can be to."""
    queues = {channel.flow: _silent(channel) for channel in channels}
    while any(queues.values()):
        for channel in channels:
            if queues[channel.flow]:
                channel.shoot(queues[channel.flow].pop(0))
                _collect(channels, time.monotonic_ns() + request.gap_us * 1000)
        _wait(channels, request)


def _silent(channel: _Channel) -> list[int]:
    end = min((one.ttl for one in channel.shots if _is_end(one)), default=1 << 16)
    answered = {one.ttl for one in channel.shots if one.answer is not None}
    asked: dict[int, int] = {}
    for one in channel.shots:
        asked[one.ttl] = asked.get(one.ttl, 0) + 1
    # What was sent before must not be taken for outstanding any more.
    for one in channel.outstanding():
        one.monotonic_ns = 0
    return [ttl for ttl, count in sorted(asked.items()) if ttl < end and ttl not in answered and count == 1]


def _is_end(shot: _Shot) -> bool:
    return shot.answer is not None and shot.answer.kind in ("reached", "refused")


def _is_done(channel: _Channel, request: TraceRequest) -> bool:
    if any(_is_end(one) for one in channel.shots):
        return True
    farthest = max((one.ttl for one in channel.shots if one.answer is not None), default=0)
    return max(one.ttl for one in channel.shots) - farthest >= request.silent_hops


def _wait(channels: list[_Channel], request: TraceRequest) -> None:
    """Until every packet of these flows is answered, or the last one's waiting time has passed."""
    last_ns = max((one.shots[-1].monotonic_ns for one in channels if one.shots), default=0)
    _collect(channels, last_ns + request.timeout_us * 1000, is_last=True)


def _collect(channels: list[_Channel], deadline_ns: int, *, is_last: bool = False) -> None:
    while not (is_last and not any(shot.monotonic_ns for one in channels for shot in one.outstanding())):
        poll = select.poll()
        for one in channels:
            if one.fileno() >= 0:
                poll.register(one.fileno(), one.events)
        left_ns = deadline_ns - time.monotonic_ns()
        if left_ns <= 0:
            return
        # poll() counts whole milliseconds: the last one is spun through, which keeps the pacing exact.
        if poll.poll(left_ns // 1_000_000):
            for one in channels:
                one.drain()


def _bind_port(sock: socket.socket, source: str, flow: int) -> None:
    for port in (_FIRST_PORT + flow, 0):
        try:
            sock.bind((source, port))
            return
        except OSError as error:
            if error.errno != errno.EADDRINUSE or port == 0:
                raise net_error(error, source) from None

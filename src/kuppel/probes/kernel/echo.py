"""ICMP echo trains on kernel sockets, with the kernel's own send and receive times.

A datagram ICMP socket is used where the system allows it (`net.ipv4.ping_group_range`), a raw one where the agent is
privileged. Times come from SO_TIMESTAMPING: the send stamp is taken when the packet leaves the stack, the receive stamp
when it enters, so neither holds the agent's own lateness. They are of CLOCK_REALTIME; when that clock steps during a
train, the monotonic clock's user-space times stand in.
"""

import os
import select
import socket
import struct
import time
from dataclasses import dataclass, field
from typing import Literal

from kuppel.core.reason import Reason
from kuppel.probes.kernel.icmp_errors import IcmpError, entries, want_errors
from kuppel.probes.kernel.pacing import STEP_NS, collect
from kuppel.probes.kernel.sockets import bind, net_error
from kuppel.probes.kernel.stamps import keep_stamping, stamp_of
from kuppel.probes.net import Binding, EchoPacket, EchoReport, EchoTrain, NetError
from kuppel.wire.icmp import decode_echo_reply, encode_echo_request, strip_ipv4_header

_SOL_RAW, _ICMP_FILTER = 255, 1
_ICMPV6_FILTER = 1


@dataclass(slots=True)
class _Sent:
    """One packet under way, times in nanoseconds."""

    wall_ns: int
    monotonic_ns: int
    kernel_ns: int | None = None
    reply_wall_ns: int | None = None
    reply_monotonic_ns: int | None = None


@dataclass(slots=True)
class _Train:
    sock: socket.socket
    is_v6: bool
    is_raw: bool
    identifier: int
    token: bytes
    timeout_ns: int
    realtime_offset_ns: int
    sent: list[_Sent] = field(default_factory=list)
    refusal: str = ""
    has_kernel_receive: bool = True


def send_train(train: EchoTrain, binding: Binding) -> EchoReport:
    """Send the train and wait for its replies; blocks for at most its duration plus the timeout."""
    keep_stamping()
    is_v6 = ":" in train.address
    sock, is_raw = _open(is_v6)
    with sock:
        bind(sock, binding)
        _prepare(sock, train, is_v6=is_v6, is_raw=is_raw)
        # Raw sockets of all agents on a machine see every reply: the token tells ours from others'.
        running = _Train(
            sock, is_v6, is_raw, os.getpid() & 0xFFFF, os.urandom(8), train.timeout_us * 1000, _realtime_offset()
        )
        try:
            _run(running, train)
        except OSError as error:
            raise net_error(error, train.address) from None
        return _report(running)


def _realtime_offset() -> int:
    """CLOCK_REALTIME minus CLOCK_MONOTONIC in ns, from the least disturbed of a few pairs of readings."""
    readings = []
    for _ in range(5):
        before = time.monotonic_ns()
        wall = time.time_ns()
        after = time.monotonic_ns()
        readings.append((after - before, wall - (before + after) // 2))
    return min(readings)[1]


def _open(is_v6: bool) -> tuple[socket.socket, bool]:
    family, protocol = (socket.AF_INET6, socket.IPPROTO_ICMPV6) if is_v6 else (socket.AF_INET, socket.IPPROTO_ICMP)
    for kind in (socket.SOCK_DGRAM, socket.SOCK_RAW):
        try:
            return socket.socket(family, kind, protocol), kind == socket.SOCK_RAW
        except PermissionError:
            continue
    raise NetError(
        Reason.NOT_PERMITTED,
        "ICMP needs net.ipv4.ping_group_range to include the agent's group, or the capability CAP_NET_RAW",
    )


def _prepare(sock: socket.socket, train: EchoTrain, *, is_v6: bool, is_raw: bool) -> None:
    want_errors(sock, is_v6=is_v6, dscp=train.dscp)
    if is_raw and is_v6:
        # struct icmp6_filter: a set bit blocks; only echo replies (129) pass.
        words = [0xFFFFFFFF] * 8
        words[129 >> 5] &= ~(1 << (129 & 31))
        sock.setsockopt(socket.IPPROTO_ICMPV6, _ICMPV6_FILTER, struct.pack("=8I", *words))
    elif is_raw:
        sock.setsockopt(_SOL_RAW, _ICMP_FILTER, struct.pack("=I", 0xFFFFFFFF & ~1))
    try:
        sock.connect((train.address, 0))
    except OSError as error:
        raise net_error(error, train.address) from None


def _run(running: _Train, train: EchoTrain) -> None:
    sock = running.sock
    sock.setblocking(False)
    poll = select.poll()
    poll.register(sock, select.POLLIN | select.POLLERR)
    padding = bytes(max(0, train.size - len(running.token)))
    begun = time.monotonic_ns()
    for sequence in range(train.count):
        collect(poll, begun + sequence * train.interval_us * 1000, lambda: _drain(running))
        data = (running.token + padding)[: train.size]
        packet = encode_echo_request(running.identifier, sequence, data, is_v6=running.is_v6)
        running.sent.append(_Sent(time.time_ns(), time.monotonic_ns()))
        sock.send(packet)
    deadline_ns = running.sent[-1].monotonic_ns + running.timeout_ns
    collect(poll, deadline_ns, lambda: _drain(running), lambda: _is_whole(running))


def _drain(running: _Train) -> None:
    _drain_errors(running)
    _drain_replies(running)


def _is_whole(running: _Train) -> bool:
    return all(one.reply_wall_ns is not None for one in running.sent)


def _drain_replies(running: _Train) -> None:
    while True:
        try:
            packet, ancillary, _, _ = running.sock.recvmsg(65_535, 512)
        except BlockingIOError:
            return
        except ConnectionRefusedError:
            continue
        monotonic_ns, wall_ns = time.monotonic_ns(), time.time_ns()
        message = strip_ipv4_header(packet) if running.is_raw and not running.is_v6 else packet
        echo = decode_echo_reply(message, is_v6=running.is_v6)
        if echo is None or echo.data[:8] != running.token[: len(echo.data)] or echo.sequence >= len(running.sent):
            continue
        if running.is_raw and echo.identifier != running.identifier:
            continue
        sent = running.sent[echo.sequence]
        if sent.reply_wall_ns is None:  # a duplicate does not count
            stamp = stamp_of(ancillary)
            running.has_kernel_receive = running.has_kernel_receive and stamp is not None
            sent.reply_wall_ns = stamp or wall_ns
            sent.reply_monotonic_ns = monotonic_ns


def _drain_errors(running: _Train) -> None:
    for found in entries(running.sock, is_v6=running.is_v6):
        if isinstance(found, IcmpError):
            running.refusal = found.words
        elif found.number < len(running.sent):
            running.sent[found.number].kernel_ns = found.sent_ns


def _report(running: _Train) -> EchoReport:
    is_stepped = abs(_realtime_offset() - running.realtime_offset_ns) > STEP_NS
    has_kernel_send = all(one.kernel_ns is not None for one in running.sent if one.reply_wall_ns is not None)
    packets = []
    for one in running.sent:
        sent_ns = one.kernel_ns if has_kernel_send and one.kernel_ns is not None else one.wall_ns
        trip_ns = None
        if one.reply_wall_ns is not None and one.reply_monotonic_ns is not None:
            trip_ns = one.reply_monotonic_ns - one.monotonic_ns if is_stepped else one.reply_wall_ns - sent_ns
        # A reply after the waiting time counts as lost (RFC 2681 §2.5), even though it was seen.
        is_lost = trip_ns is None or trip_ns > running.timeout_ns
        packets.append(EchoPacket(sent_ns, None if trip_ns is None or is_lost else sent_ns + trip_ns))
    stamps: Literal["kernel", "kernel receive", "user"] = "kernel" if has_kernel_send else "kernel receive"
    if is_stepped or not running.has_kernel_receive:
        stamps = "user"
    return EchoReport(tuple(packets), stamps, running.refusal)

"""Two-way test packets (RFC 8762) on a UDP socket, with the kernel's receive times: the sender, and the reflector."""

import socket
import time
from dataclasses import dataclass, field
from typing import Literal

from kuppel.probes.kernel.icmp_errors import SentStamp, entries
from kuppel.probes.kernel.pacing import steady_clock, transmit
from kuppel.probes.kernel.reflector import DatagramReflector, prepare
from kuppel.probes.kernel.sockets import bind, net_error
from kuppel.probes.kernel.stamps import keep_stamping, stamp_both_ways, stamp_of
from kuppel.probes.net import PORT_UNREACHABLE, Binding, StampAnswer, StampReport, StampTrain
from kuppel.wire.stamp import (
    ErrorEstimate,
    NotStamp,
    ReflectedPacket,
    SenderPacket,
    decode_reflected,
    decode_sender,
    encode_reflected,
    encode_sender,
)


def send_train(train: StampTrain, binding: Binding) -> StampReport:
    """Send the train and wait for its answers; blocks for at most its duration plus the timeout.

    Raises
    ------
    NetError
    """
    keep_stamping()
    is_v6 = ":" in train.address
    with socket.socket(socket.AF_INET6 if is_v6 else socket.AF_INET, socket.SOCK_DGRAM) as sock:
        bind(sock, binding)
        prepare(sock, is_v6=is_v6, dscp=train.dscp)
        stamp_both_ways(sock)
        try:
            sock.connect((train.address, train.port))
        except OSError as error:
            raise net_error(error, train.address) from None
        running = _Running(sock, train)
        with steady_clock():
            running.run()
        return StampReport(
            tuple(running.sent_ns),
            tuple(running.answers),
            running.stamps(),
            running.refused,
            running.refusal,
        )


@dataclass(slots=True)
class _Running:
    sock: socket.socket
    train: StampTrain
    sent_ns: list[int] = field(default_factory=list)
    answers: list[StampAnswer] = field(default_factory=list)
    seen: set[int] = field(default_factory=set)
    refused: int = 0
    refusal: str = ""
    has_kernel_receive: bool = True
    kernel_sent: set[int] = field(default_factory=set)

    def stamps(self) -> Literal["kernel", "kernel receive", "user"]:
        if not self.has_kernel_receive:
            return "user"
        return "kernel" if self.seen <= self.kernel_sent else "kernel receive"

    def run(self) -> None:
        train = self.train
        transmit(self.sock, train.count, train.interval_us, train.timeout_us, self._send, self._drain, self._is_whole)

    def _send(self, sequence: int) -> None:
        now_ns = time.time_ns()
        error = ErrorEstimate.of(self.train.clock_error_ns)
        self.sent_ns.append(now_ns)
        try:
            self.sock.send(encode_sender(SenderPacket(sequence, now_ns, error), self.train.size, self.train.key))
        except ConnectionRefusedError:
            self.refusal = PORT_UNREACHABLE

    def _is_whole(self) -> bool:
        return len(self.seen) == self.train.count or bool(self.refusal)

    def _drain(self) -> None:
        for one in entries(self.sock, is_v6=":" in self.train.address):
            if isinstance(one, SentStamp) and one.number < len(self.sent_ns):
                self.sent_ns[one.number] = one.sent_ns
                self.kernel_sent.add(one.number)
        while True:
            try:
                octets, ancillary, _, _ = self.sock.recvmsg(65_535, 512)
            except BlockingIOError:
                return
            except ConnectionRefusedError:
                self.refusal = PORT_UNREACHABLE
                return
            stamp = stamp_of(ancillary)
            self.has_kernel_receive = self.has_kernel_receive and stamp is not None
            received_ns = stamp if stamp is not None else time.time_ns()
            try:
                packet = decode_reflected(octets, received_ns, self.train.key)
            except NotStamp:
                self.refused += 1
                continue
            number = packet.sender.sequence
            if number >= len(self.sent_ns):
                self.refused += 1
                continue
            # An answer after the waiting time counts as lost (RFC 2681 §2.5), even though it was seen.
            if received_ns - self.sent_ns[number] > self.train.timeout_us * 1000:
                continue
            self.seen.add(number)
            error_ns = packet.error.error_ns if packet.error.is_synchronised else None
            self.answers.append(
                StampAnswer(
                    number,
                    received_ns,
                    packet.sequence,
                    packet.received_ns,
                    packet.sent_ns,
                    error_ns,
                )
            )


class Reflector(DatagramReflector):
    """Answers two-way test packets, one octet for each that came, and nothing else.

    Only packets of the mode it is in are answered: with a key, those whose HMAC fits it. What is no test packet is dropped
    without a word, so that it cannot be made to send more than it was sent, or to a place that did not ask.
    """

    def __init__(self, address: str, port: int, key: bytes | None = None, clock_error_ns: int | None = None) -> None:
        super().__init__(address, port)
        self._key = key
        self._error = ErrorEstimate.of(clock_error_ns)

    def answer(self, octets: bytes, peer: tuple[object, ...], received_ns: int, ttl: int) -> bytes | None:
        try:
            sender = decode_sender(octets, received_ns, self._key)
        except NotStamp:
            return None
        number = self.sessions.number(peer, received_ns)
        packet = ReflectedPacket(number, time.time_ns(), self._error, received_ns, sender, ttl)
        return encode_reflected(packet, octets, self._key)

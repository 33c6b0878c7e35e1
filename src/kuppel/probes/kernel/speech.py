"""RTP test streams on a UDP socket, paced like speech, with the kernel's receive times: the sender, and the reflector."""

import secrets
import socket
import time
from dataclasses import dataclass, field

from kuppel.probes.kernel.pacing import steady_clock, transmit
from kuppel.probes.kernel.reflector import DatagramReflector, prepare
from kuppel.probes.kernel.sockets import bind, net_error
from kuppel.probes.kernel.stamps import keep_stamping, stamp_of
from kuppel.probes.net import PORT_UNREACHABLE, Binding, SpeechAnswer, SpeechReport, SpeechStream
from kuppel.wire.rtp import NotRtp, Reflected, RtpHeader, decode_answer, decode_question, encode_reflected, encode_test


@dataclass(slots=True)
class _Speaking:
    sock: socket.socket
    stream: SpeechStream
    source: int
    first: int
    sent_ns: list[int] = field(default_factory=list)
    answers: dict[int, SpeechAnswer] = field(default_factory=dict)
    refusal: str = ""
    has_kernel_receive: bool = True

    def run(self) -> None:
        stream = self.stream
        transmit(self.sock, stream.count, stream.interval_us, stream.timeout_us, self._send, self._drain, self._is_whole)

    def _send(self, number: int) -> None:
        ticks = number * self.stream.ticks
        header = RtpHeader(self.stream.payload_type, self.first + number, ticks, self.source, is_marked=number == 0)
        packet = encode_test(header, self.stream.payload_octets)
        self.sent_ns.append(time.time_ns())
        try:
            self.sock.send(packet)
        except ConnectionRefusedError:
            self.refusal = PORT_UNREACHABLE

    def _is_whole(self) -> bool:
        return len(self.answers) == self.stream.count or bool(self.refusal)

    def _drain(self) -> None:
        while True:
            try:
                octets, ancillary, _, _ = self.sock.recvmsg(65_535, 512)
            except BlockingIOError:
                return
            except ConnectionRefusedError:
                self.refusal = PORT_UNREACHABLE
                return
            stamp = stamp_of(ancillary)
            received_ns = stamp if stamp is not None else time.time_ns()
            try:
                header, said = decode_answer(octets)
            except NotRtp:
                continue
            number = (header.sequence - self.first) & 0xFFFF
            if header.source != self.source or number >= len(self.sent_ns) or number in self.answers:
                continue
            if received_ns - self.sent_ns[number] > self.stream.timeout_us * 1000:
                continue
            self.has_kernel_receive = self.has_kernel_receive and stamp is not None
            self.answers[number] = SpeechAnswer(number, received_ns, said.received_ns, said.held_ns, said.number)


def speak(stream: SpeechStream, binding: Binding) -> SpeechReport:
    """Send the stream and collect what comes back; blocks for its duration plus at most the timeout.

    Raises
    ------
    NetError
    """
    keep_stamping()
    is_v6 = ":" in stream.address
    with socket.socket(socket.AF_INET6 if is_v6 else socket.AF_INET, socket.SOCK_DGRAM) as sock:
        bind(sock, binding)
        prepare(sock, is_v6=is_v6, dscp=stream.dscp)
        try:
            sock.connect((stream.address, stream.port))
        except OSError as error:
            raise net_error(error, stream.address) from None
        speaking = _Speaking(sock, stream, secrets.randbits(32), secrets.randbits(15))
        with steady_clock():
            speaking.run()
        answers = tuple(speaking.answers.values())
        has_kernel = bool(answers) and speaking.has_kernel_receive
        return SpeechReport(tuple(speaking.sent_ns), answers, "kernel receive" if has_kernel else "user", speaking.refusal)


class SpeechReflector(DatagramReflector):
    """Sends RTP test packets back, each once and as long as it was; what is no test packet is dropped."""

    def answer(self, octets: bytes, peer: tuple[object, ...], received_ns: int, ttl: int) -> bytes | None:  # noqa: ARG002
        try:
            header = decode_question(octets)
        except NotRtp:
            return None
        number = self.sessions.number((*peer, header.source), received_ns)
        return encode_reflected(octets, Reflected(received_ns, time.time_ns() - received_ns, number))

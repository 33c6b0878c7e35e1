"""Moving data to and from a reflector: HTTP/1.1 over TCP for the data, UDP packets counted at the far end.

POST /up/RUN            octets up, as many as Content-Length says, or until the connection is closed
GET /down/RUN           octets down, for X-Seconds or X-Octets
POST /datagrams/RUN     makes the far end ready for UDP packets of this run, up or down; answers its port
GET /report/RUN         what the far end counted of this run, as JSON
"""

import contextlib
import fcntl
import http.client
import json
import secrets
import select
import socket
import struct
import termios
import time
from dataclasses import dataclass
from typing import Any

import numpy as np

from kuppel.core.delay import inter_arrival_jitter
from kuppel.core.reason import Reason
from kuppel.probes.kernel.sockets import bind, net_error
from kuppel.probes.kernel.stamps import SO_TIMESTAMPNS, keep_stamping, stamp_of
from kuppel.probes.net import Binding, NetError, Transfer, Transferred

# struct tcp_info of include/uapi/linux/tcp.h.
_RTT, _MIN_RTT, _BYTES_SENT, _BYTES_RETRANS = 68, 148, 200, 208
_PIECE = bytes(256 * 1024)
DATAGRAM = struct.Struct("!16sIQ")
_SAMPLE_NS = 20_000_000


@dataclass(slots=True)
class TcpCount:
    """What the kernel says of a connection: octets sent and sent again, the least round trip, the smoothed one now (µs)."""

    sent: int
    repeated: int
    rtt_min_us: int
    rtt_us: int

    @classmethod
    def of(cls, sock: socket.socket) -> "TcpCount":
        info = sock.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 256)

        def word(at: int, form: str) -> int:
            size = struct.calcsize(form)
            return int(struct.unpack_from(form, info, at)[0]) if len(info) >= at + size else 0

        return cls(word(_BYTES_SENT, "=Q"), word(_BYTES_RETRANS, "=Q"), word(_MIN_RTT, "=I"), word(_RTT, "=I"))


def transfer(wanted: Transfer, binding: Binding) -> Transferred:
    """Move the data; blocks for its duration and the waiting time at most.

    Raises
    ------
    NetError
    """
    run = secrets.token_hex(16)
    try:
        if wanted.transport == "udp":
            return _datagrams(wanted, binding, run)
        return (_up if wanted.way == "up" else _down)(wanted, binding, run)
    except TimeoutError:
        where = f"{wanted.address} port {wanted.port}"
        raise NetError(Reason.TIMEOUT, f"{where} did not answer within {wanted.timeout_us / 1e6:.3g} s") from None
    except OSError as error:
        raise net_error(error, f"{wanted.address} port {wanted.port}") from None


def _connected(wanted: Transfer, binding: Binding) -> socket.socket:
    is_v6 = ":" in wanted.address
    sock = socket.socket(socket.AF_INET6 if is_v6 else socket.AF_INET, socket.SOCK_STREAM)
    try:
        bind(sock, binding)
        level, option = (socket.IPPROTO_IPV6, socket.IPV6_TCLASS) if is_v6 else (socket.IPPROTO_IP, socket.IP_TOS)
        sock.setsockopt(level, option, wanted.dscp << 2)
        sock.settimeout(wanted.timeout_us / 1e6)
        sock.connect((wanted.address, wanted.port))
    except BaseException:
        sock.close()
        raise
    return sock


def _head(wanted: Transfer, line: str, **headers: object) -> bytes:
    host = f"[{wanted.address}]" if ":" in wanted.address else wanted.address
    lines = [f"{line} HTTP/1.1", f"Host: {host}:{wanted.port}", "Connection: close"]
    if wanted.key is not None:
        lines.append(f"Authorization: Bearer {wanted.key}")
    lines += [f"{name.replace('_', '-')}: {value}" for name, value in headers.items()]
    return ("\r\n".join(lines) + "\r\n\r\n").encode()


def _asked(wanted: Transfer, binding: Binding, method: str, path: str, body: dict[str, Any] | None = None) -> Any:
    """A short exchange with the reflector; what it answers."""
    octets = json.dumps(body).encode() if body is not None else b""
    with _connected(wanted, binding) as sock:
        sock.sendall(_head(wanted, f"{method} {path}", Content_Length=len(octets)) + octets)
        answer = http.client.HTTPResponse(sock, method=method)
        try:
            answer.begin()
            told = answer.read(65_536)
            if answer.status != 200:
                raise _refused(answer.status, told)
            return json.loads(told)
        except (http.client.HTTPException, ValueError):
            raise NetError(Reason.PROTOCOL_ERROR, "what answered is not a reflector for data") from None


def _refused(status: int, told: bytes) -> NetError:
    words = told[:200].decode("utf-8", "replace").strip()
    reason = Reason.NOT_PERMITTED if status in (401, 403) else Reason.PROTOCOL_ERROR
    return NetError(reason, f"the reflector answers {status}: {words}")


def _up(wanted: Transfer, binding: Binding, run: str) -> Transferred:
    socks: list[socket.socket] = []
    try:
        most = wanted.most_octets // wanted.streams
        for _ in range(wanted.streams):
            sock = _connected(wanted, binding)
            socks.append(sock)
            sock.sendall(_head(wanted, f"POST /up/{run}", Content_Length=most))
            sock.setblocking(False)
        left = dict.fromkeys(socks, most)
        trips: list[int] = []
        begun = time.monotonic_ns()
        deadline = begun + wanted.duration_us * 1000
        sampled = begun
        while (now := time.monotonic_ns()) < deadline:
            going = [one for one, rest in left.items() if rest]
            if not going and not any(_under_way(one) for one in socks):
                break
            # What is all handed to the kernel still has to arrive.
            _, ready, _ = select.select([], going, [], (deadline - now) / 1e9 if going else 0.001)
            for sock in ready:
                with contextlib.suppress(BlockingIOError):
                    left[sock] -= sock.send(_PIECE[: left[sock]])
            if now - sampled > _SAMPLE_NS:
                sampled = now
                trips += [TcpCount.of(one).rtt_us for one in socks]
        counts = [TcpCount.of(one) for one in socks]
        for sock in socks:  # what is not sent yet would only count as sent
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    finally:
        for sock in socks:
            sock.close()
    told = _report(_asked(wanted, binding, "GET", f"/report/{run}"))
    return _summed(told, counts, trips)


def _under_way(sock: socket.socket) -> int:
    """Octets that the far end has not acknowledged (SIOCOUTQ)."""
    return int(struct.unpack("i", fcntl.ioctl(sock, termios.TIOCOUTQ, bytes(4)))[0])


def _down(wanted: Transfer, binding: Binding, run: str) -> Transferred:
    socks: list[socket.socket] = []
    octets, begun, last = 0, 0, 0
    try:
        for _ in range(wanted.streams):
            sock = _connected(wanted, binding)
            socks.append(sock)
            limits = {"X_Seconds": wanted.duration_us / 1e6, "X_Octets": wanted.most_octets // wanted.streams}
            sock.sendall(_head(wanted, f"GET /down/{run}", **limits))
        for sock in socks:
            _skip_head(sock)
            sock.setblocking(False)
        begun = last = time.monotonic_ns()
        deadline = begun + wanted.duration_us * 1000
        silent_ns = wanted.timeout_us * 1000
        going = list(socks)
        while going and (now := time.monotonic_ns()) < deadline:
            ready, _, _ = select.select(going, [], [], min(deadline - now, silent_ns) / 1e9)
            if not ready and now - last > silent_ns:
                raise TimeoutError
            for sock in ready:
                with contextlib.suppress(BlockingIOError, ConnectionResetError):
                    got = len(sock.recv(len(_PIECE)))
                    octets += got
                    last = time.monotonic_ns() if got else last
                    if got:
                        continue
                    going.remove(sock)
    finally:
        for sock in socks:
            sock.close()
    told = _report(_asked(wanted, binding, "GET", f"/report/{run}"))
    counts = [TcpCount(one["sent"], one["repeated"], one["rtt_min_us"], 0) for one in told]
    trips = [trip for one in told for trip in one["trips_us"]]
    return _summed([{"octets": octets, "elapsed_us": max(1, (last - begun) // 1000)}], counts, trips)


def _skip_head(sock: socket.socket) -> None:
    """Read an answer's head, an octet at a time: what follows is what is measured."""
    head = b""
    while not head.endswith(b"\r\n\r\n"):
        octet = sock.recv(1)
        head += octet
        if not octet or len(head) > 8192:
            raise NetError(Reason.PROTOCOL_ERROR, "what answered is not a reflector for data")
    status = head.split(b" ", 2)[1:2]
    if status != [b"200"]:
        raise _refused(int(status[0]) if status and status[0].isdigit() else 0, sock.recv(500))


def _report(told: Any) -> list[dict[str, Any]]:
    if not isinstance(told, list) or not told or not all(isinstance(one, dict) for one in told):
        raise NetError(Reason.PROTOCOL_ERROR, "the reflector has no report of this run")
    return told


def _summed(told: list[dict[str, Any]], counts: list[TcpCount], trips: list[int]) -> Transferred:
    least = [one.rtt_min_us for one in counts if one.rtt_min_us]
    known = [one for one in trips if one]
    return Transferred(
        sum(int(one["octets"]) for one in told),
        max(int(one["elapsed_us"]) for one in told),
        sum(one.sent for one in counts),
        sum(one.repeated for one in counts),
        float(min(least)) if least else None,
        sum(known) / len(known) if known else None,
    )


def _datagrams(wanted: Transfer, binding: Binding, run: str) -> Transferred:
    count = max(1, min(wanted.most_octets, wanted.rate_bit_s // 8 * wanted.duration_us // 1_000_000) // wanted.size)
    asked = {"way": wanted.way, "count": count, "size": wanted.size, "rate_bit_s": wanted.rate_bit_s, "dscp": wanted.dscp}
    port = int(_asked(wanted, binding, "POST", f"/datagrams/{run}", asked)["port"])
    is_v6 = ":" in wanted.address
    with socket.socket(socket.AF_INET6 if is_v6 else socket.AF_INET, socket.SOCK_DGRAM) as sock:
        bind(sock, binding)
        level, option = (socket.IPPROTO_IPV6, socket.IPV6_TCLASS) if is_v6 else (socket.IPPROTO_IP, socket.IP_TOS)
        sock.setsockopt(level, option, wanted.dscp << 2)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 * 1024 * 1024)
        sock.connect((wanted.address, port))
        if wanted.way == "up":
            send_paced(sock, bytes.fromhex(run), count, wanted.size, wanted.rate_bit_s)
            time.sleep(min(0.5, wanted.timeout_us / 1e6))  # for the last ones to arrive
            told = _report(_asked(wanted, binding, "GET", f"/report/{run}"))[0]
            arrivals = [(int(sent), int(got)) for sent, got in told["arrivals"]]
            received, octets, elapsed_us = int(told["packets"]), int(told["octets"]), int(told["elapsed_us"])
        else:
            sock.send(DATAGRAM.pack(bytes.fromhex(run), 0, 0))
            seen = receive(sock, bytes.fromhex(run), count, (wanted.duration_us + wanted.timeout_us) / 1e6)
            arrivals, received, octets, elapsed_us = seen.arrivals, seen.packets, seen.octets, seen.elapsed_us
    return Transferred(octets, max(1, elapsed_us), packets=count, lost=count - received, jitter_us=jitter_us(arrivals))


@dataclass(slots=True)
class Received:
    """Datagrams of one run: how many, how large together, from the first to the last, and when each was sent and came."""

    packets: int
    octets: int
    elapsed_us: int
    arrivals: list[tuple[int, int]]


def receive(sock: socket.socket, run: bytes, count: int, seconds: float) -> Received:
    """Take datagrams of a run until the last one came, or nothing more does."""
    keep_stamping()
    numbers: set[int] = set()
    arrivals: list[tuple[int, int]] = []
    octets, first, last = 0, 0, 0
    sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    deadline = time.monotonic() + seconds
    while len(numbers) < count and (left := deadline - time.monotonic()) > 0:
        sock.settimeout(min(left, 1.0) if numbers else left)
        try:
            packet, ancillary, _, _ = sock.recvmsg(65_535, 256)
        except (TimeoutError, ConnectionRefusedError):
            break
        # By the kernel's stamp: a reader that is late must not make the line look faster.
        now = stamp_of(ancillary) or time.time_ns()
        if len(packet) < DATAGRAM.size:
            continue
        named, number, sent_ns = DATAGRAM.unpack_from(packet)
        if named != run or number in numbers or number >= count:
            continue
        numbers.add(number)
        octets += len(packet)
        first, last = first or now, now
        if len(arrivals) < 5000:
            arrivals.append((sent_ns, now))
    return Received(len(numbers), octets, (last - first) // 1000, arrivals)


def send_paced(sock: socket.socket, run: bytes, count: int, size: int, rate_bit_s: int) -> None:
    """Send datagrams evenly at a rate; a machine that cannot keep up sends later, never in a burst of more than 1 ms."""
    gap_ns = size * 8 * 1_000_000_000 / rate_bit_s
    begun = time.monotonic_ns()
    for number in range(count):
        due = begun + round(number * gap_ns)
        while (wait := due - time.monotonic_ns()) > 0:
            if wait > 2_000_000:
                time.sleep((wait - 1_000_000) / 1e9)
        if wait < -1_000_000:
            begun -= wait
        with contextlib.suppress(ConnectionRefusedError, BlockingIOError):
            sock.send(DATAGRAM.pack(run, number, time.monotonic_ns()).ljust(size, b"\0"))


def jitter_us(arrivals: list[tuple[int, int]]) -> float | None:
    if len(arrivals) < 2:
        return None
    times = np.array(arrivals, dtype=np.int64)
    return inter_arrival_jitter(times[:, 0], times[:, 1]) / 1000

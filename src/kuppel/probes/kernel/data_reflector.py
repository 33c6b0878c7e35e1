"""The far end of throughput probes: takes and gives octets, counts datagrams, and says what it counted.

Data goes only where a TCP connection came from, datagrams only to a port that showed the run's own number: it cannot be
made to send to others. A few connections at a time, each bounded in time and size.
"""

import hmac
import json
import select
import socket
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from kuppel.probes.kernel.sockets import net_error
from kuppel.probes.kernel.throughput import DATAGRAM, TcpCount, receive, send_paced

_MOST_CONNECTIONS, _MOST_RUNS = 32, 200
_MOST_SECONDS = 60.0
_MOST_OCTETS = 10_000_000_000
_MOST_RATE = 10_000_000_000
_PIECE = bytes(256 * 1024)
_WAIT_S = 10.0
_SAMPLE_S = 0.02


class DataReflector:
    """A TCP port that moves data on request; with a key, only for those who show it."""

    def __init__(self, address: str, port: int, key: str | None = None) -> None:
        """
        Raises
        ------
        NetError
            when the port cannot be listened on.
        """
        self.key = key
        self.address = address
        self._room = threading.BoundedSemaphore(_MOST_CONNECTIONS)
        self._lock = threading.Lock()
        self._reports: dict[str, list[dict[str, Any]]] = {}
        self._open: dict[str, int] = {}
        reflector = self

        class Handler(_Handler):
            owner = reflector

        class Server(ThreadingHTTPServer):
            daemon_threads = True
            address_family = socket.AF_INET6 if ":" in address else socket.AF_INET

            def server_bind(self) -> None:
                self.socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                self.socket.bind(self.server_address)
                self.server_address = self.socket.getsockname()

            def handle_error(self, request: Any, client_address: Any) -> None:
                """A client that went away is nothing to write about."""

        try:
            self._server = Server((address, port), Handler)
        except OSError as error:
            raise net_error(error, f"{address} port {port}") from None

    @property
    def port(self) -> int:
        return int(self._server.server_address[1])

    def serve(self) -> None:
        """Serve until `close` is called."""
        self._server.serve_forever(poll_interval=0.2)
        self._server.server_close()

    def close(self) -> None:
        threading.Thread(target=self._server.shutdown, daemon=True).start()

    def admit(self) -> bool:
        return self._room.acquire(blocking=False)

    def release(self) -> None:
        self._room.release()

    def begin(self, run: str) -> None:
        with self._lock:
            self._open[run] = self._open.get(run, 0) + 1

    def note(self, run: str, report: dict[str, Any]) -> None:
        with self._lock:
            while len(self._reports) >= _MOST_RUNS:
                del self._reports[next(iter(self._reports))]
            self._reports.setdefault(run, []).append(report)
            self._open[run] = self._open.get(run, 1) - 1
            if self._open[run] <= 0:
                del self._open[run]

    def report(self, run: str) -> list[dict[str, Any]]:
        """What was counted of a run, once its connections have ended."""
        deadline = time.monotonic() + 2
        while time.monotonic() < deadline:
            with self._lock:
                if run not in self._open:
                    break
            time.sleep(0.01)
        with self._lock:
            return self._reports.pop(run, [])


class _Handler(BaseHTTPRequestHandler):
    owner: DataReflector
    protocol_version = "HTTP/1.1"
    timeout = _WAIT_S

    def log_message(self, format: str, *args: Any) -> None:
        """Measurements are not written about one by one."""

    def do_POST(self) -> None:
        self._answer({"up": self._up, "datagrams": self._datagrams})

    def do_GET(self) -> None:
        self._answer({"down": self._down, "report": self._report})

    def _answer(self, ways: dict[str, Any]) -> None:
        self.close_connection = True
        parts = self.path.strip("/").split("/")
        act = ways.get(parts[0])
        if act is None or len(parts) != 2 or not _is_run(parts[1]):
            self._say(404, "There is no such way.")
        elif self.owner.key is not None and not self._shows_key():
            self._say(401, "This reflector wants its key.")
        elif not self.owner.admit():
            self._say(503, "Too many at once; try again later.")
        else:
            try:
                act(parts[1])
            except (OSError, ValueError):
                return
            finally:
                self.owner.release()

    def _shows_key(self) -> bool:
        shown = self.headers.get("Authorization", "").removeprefix("Bearer ")
        return hmac.compare_digest(shown.encode(), (self.owner.key or "").encode())

    def _say(self, status: int, told: Any) -> None:
        body = (told if isinstance(told, str) else json.dumps(told)).encode()
        self.send_response(status)
        self.send_header("Content-Type", "text/plain" if isinstance(told, str) else "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.send_header("Connection", "close")
        self.end_headers()
        self.wfile.write(body)

    def _report(self, run: str) -> None:
        self._say(200, self.owner.report(run))

    def _up(self, run: str) -> None:
        left = min(_MOST_OCTETS, int(self.headers.get("Content-Length", "0")))
        self.owner.begin(run)
        octets, begun = 0, time.monotonic()
        last = begun
        try:
            while left > 0 and time.monotonic() - begun < _MOST_SECONDS:
                got = len(self.rfile.read1(min(left, len(_PIECE))))
                if not got:
                    break
                octets, left, last = octets + got, left - got, time.monotonic()
        except OSError:
            pass  # the sender ends a transfer by cutting it off
        finally:
            elapsed_us = max(1, round((last - begun) * 1e6))
            self.owner.note(run, {"octets": octets, "elapsed_us": elapsed_us})

    def _down(self, run: str) -> None:
        seconds = min(_MOST_SECONDS, float(self.headers.get("X-Seconds", "5")))
        most = min(_MOST_OCTETS, int(self.headers.get("X-Octets", "0")))
        self.send_response(200)
        self.send_header("Content-Type", "application/octet-stream")
        self.send_header("Connection", "close")
        self.end_headers()
        self.wfile.flush()
        self.owner.begin(run)
        sock, left, trips = self.connection, most, []
        deadline = time.monotonic() + seconds
        sampled = 0.0
        sock.setblocking(False)
        try:
            while left > 0 and (now := time.monotonic()) < deadline:
                _, ready, _ = select.select([], [sock], [], deadline - now)
                if ready:
                    left -= sock.send(_PIECE[:left])
                if now - sampled > _SAMPLE_S:
                    sampled = now
                    trips.append(TcpCount.of(sock).rtt_us)
        except OSError:
            pass
        finally:
            count = TcpCount.of(sock)
            self.owner.note(
                run,
                {"sent": count.sent, "repeated": count.repeated, "rtt_min_us": count.rtt_min_us, "trips_us": trips[-2000:]},
            )

    def _datagrams(self, run: str) -> None:
        asked = json.loads(self.rfile.read(min(4096, int(self.headers.get("Content-Length", "0")))))
        count, size = int(asked["count"]), int(asked["size"])
        rate = int(asked["rate_bit_s"])
        if not (0 < count <= 10_000_000 and DATAGRAM.size <= size <= 65_000 and 0 < rate <= _MOST_RATE):
            self._say(422, "count, size or rate is out of bounds.")
            return
        if count * size * 8 / rate > _MOST_SECONDS:
            self._say(422, f"It would take longer than {_MOST_SECONDS:g} s.")
            return
        is_v6 = ":" in self.owner.address
        sock = socket.socket(socket.AF_INET6 if is_v6 else socket.AF_INET, socket.SOCK_DGRAM)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 * 1024 * 1024)
        sock.bind((self.owner.address, 0))
        self.owner.begin(run)
        work = self._count if asked.get("way") == "up" else self._send
        arguments = (sock, run, count, size, rate, str(self.client_address[0]))
        threading.Thread(target=work, args=arguments, daemon=True).start()
        self._say(200, {"port": sock.getsockname()[1]})

    def _count(self, sock: socket.socket, run: str, count: int, size: int, rate: int, _peer: str) -> None:
        with sock:
            seen = receive(sock, bytes.fromhex(run), count, count * size * 8 / rate + 2)
            self.owner.note(
                run,
                {
                    "packets": seen.packets,
                    "octets": seen.octets,
                    "elapsed_us": seen.elapsed_us,
                    "arrivals": seen.arrivals[:1000],
                },
            )

    def _send(self, sock: socket.socket, run: str, count: int, size: int, rate: int, peer: str) -> None:
        with sock:
            sock.settimeout(_WAIT_S)
            try:
                hello, where = sock.recvfrom(2048)
                # Only to the machine that asked over TCP, and to a port of it that knows the run.
                if where[0] == peer and hello[:16] == bytes.fromhex(run):
                    sock.connect(where)
                    send_paced(sock, bytes.fromhex(run), count, size, rate)
            except OSError:
                pass
            finally:
                self.owner.note(run, {})


def _is_run(text: str) -> bool:
    return len(text) == 32 and all(one in "0123456789abcdef" for one in text)

"""Stand-ins for outside services, on loopback: HTTP, with or without TLS, and plain TCP.

What they do to each answer is asked of a `Treatment`, by the client's address and the path, so that one stand-in can look
near to one vantage point and far to another. Delays are real time.
"""

import asyncio
import contextlib
import ssl
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Self

import h11

from kuppel.lab.authority import Credential


@dataclass(frozen=True, slots=True)
class Treatment:
    """How one answer is given. `is_lost` leaves the question without any answer; `is_cut` breaks off half-way."""

    delay_s: float = 0.0
    status: int = 200
    body: bytes = b"Next sailing 09:40\n"
    headers: tuple[tuple[str, str], ...] = ()
    is_lost: bool = False
    is_cut: bool = False


Treat = Callable[[str, str], Treatment]


def same_for_all(treatment: Treatment) -> Treat:
    return lambda _client, _path: treatment


@dataclass(slots=True)
class WebService:
    """An HTTP/1.1 service. `treat` is called with the client's address and the path of each request."""

    host: str = "127.0.0.1"
    port: int = 0
    treat: Treat = field(default_factory=lambda: same_for_all(Treatment()))
    credential: Credential | None = None
    requests: list[tuple[str, dict[str, str]]] = field(default_factory=list)
    _server: asyncio.Server | None = None

    async def __aenter__(self) -> Self:
        tls = None if self.credential is None else server_context(self.credential)
        self._server = await asyncio.start_server(self._serve, self.host, self.port, ssl=tls)
        self.port = self._server.sockets[0].getsockname()[1]
        return self

    async def __aexit__(self, *_: object) -> None:
        await _close(self._server)

    @property
    def url(self) -> str:
        return f"{'https' if self.credential else 'http'}://{self.host}:{self.port}"

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        client = str(writer.get_extra_info("peername")[0])
        # A stand-in that is stopped ends its answers quietly; asyncio would print each of them.
        with contextlib.suppress(ConnectionError, h11.RemoteProtocolError, asyncio.CancelledError):
            connection = h11.Connection(h11.SERVER)
            request = await _next_request(connection, reader)
            if request is not None:
                path = request.target.decode()
                self.requests = [*self.requests[-99:], (path, {k.decode(): v.decode() for k, v in request.headers})]
                await self._answer(connection, self.treat(client, path), request, writer)
        writer.close()

    async def _answer(
        self, connection: h11.Connection, treatment: Treatment, request: h11.Request, writer: asyncio.StreamWriter
    ) -> None:
        if treatment.is_lost:
            await asyncio.sleep(3600)
            return
        await asyncio.sleep(treatment.delay_s)
        length = len(treatment.body) * (2 if treatment.is_cut else 1)
        headers = [("Content-Length", str(length)), ("Connection", "close"), *treatment.headers]
        out = connection.send(h11.Response(status_code=treatment.status, headers=headers)) or b""
        if request.method != b"HEAD":
            out += connection.send(h11.Data(data=treatment.body)) or b""
        writer.write(out)
        await writer.drain()


@dataclass(slots=True)
class TcpService:
    """Accepts connections and greets; while it refuses, nothing listens on its port."""

    host: str = "127.0.0.1"
    port: int = 0
    greeting: bytes = b"gate ready\r\n"
    delay_s: float = 0.0
    _server: asyncio.Server | None = None

    async def __aenter__(self) -> Self:
        await self.listen()
        return self

    async def __aexit__(self, *_: object) -> None:
        await self.refuse()

    async def listen(self) -> None:
        if self._server is None:
            self._server = await asyncio.start_server(self._serve, self.host, self.port)
            self.port = self._server.sockets[0].getsockname()[1]

    async def refuse(self) -> None:
        server, self._server = self._server, None
        await _close(server)

    async def _serve(self, _reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(ConnectionError, asyncio.CancelledError):
            await asyncio.sleep(self.delay_s)
            writer.write(self.greeting)
            await writer.drain()
        writer.close()


def server_context(credential: Credential) -> ssl.SSLContext:
    """A TLS server's context. OpenSSL reads certificates from files only, so they pass through a private one."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.TemporaryDirectory() as folder:
        certificate, key = Path(folder) / "certificate.pem", Path(folder) / "key.pem"
        certificate.write_text(credential.certificate)
        key.write_text(credential.key)
        context.load_cert_chain(certificate, key)
    return context


async def _next_request(connection: h11.Connection, reader: asyncio.StreamReader) -> h11.Request | None:
    """The next request, once it is whole."""
    request: h11.Request | None = None
    while True:
        event = connection.next_event()
        if event is h11.NEED_DATA:
            connection.receive_data(await reader.read(65_536))
        elif isinstance(event, h11.Request):
            request = event
        elif isinstance(event, h11.EndOfMessage):
            return request
        elif isinstance(event, h11.ConnectionClosed):
            return None


async def _close(server: asyncio.Server | None) -> None:
    if server is not None:
        server.close()

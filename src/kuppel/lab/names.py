"""A stand-in for a resolver: answers for a few names, by UDP and TCP."""

import asyncio
import contextlib
import struct
from dataclasses import dataclass, field
from typing import Any, Self

import dns.exception
import dns.flags
import dns.message
import dns.rcode
import dns.rrset


@dataclass(slots=True)
class NameService:
    """Answers from `records`, (name, type) to values; any other name does not exist. `delay_s` passes before each
    answer."""

    host: str = "127.0.0.1"
    port: int = 0
    records: dict[tuple[str, str], tuple[str, ...]] = field(default_factory=dict)
    delay_s: float = 0.0
    ttl: int = 300
    _transport: asyncio.DatagramTransport | None = None
    _server: asyncio.Server | None = None

    async def __aenter__(self) -> Self:
        loop = asyncio.get_running_loop()
        self._transport, _ = await loop.create_datagram_endpoint(
            lambda: _Datagrams(self), local_addr=(self.host, self.port)
        )
        self.port = self._transport.get_extra_info("sockname")[1]
        self._server = await asyncio.start_server(self._serve, self.host, self.port)
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._transport is not None:
            self._transport.close()
        if self._server is not None:
            self._server.close()

    def answer(self, octets: bytes) -> bytes | None:
        """The answer to a question; None to what is no question."""
        try:
            query = dns.message.from_wire(octets)
        except (dns.exception.DNSException, ValueError):
            return None
        if not query.question or query.flags & dns.flags.QR:
            return None
        asked = query.question[0]
        answer = dns.message.make_response(query, recursion_available=True)
        kind = dns.rdatatype.to_text(asked.rdtype)
        values = self.records.get((asked.name.to_text().rstrip(".").lower(), kind), ())
        if values:
            answer.answer.append(dns.rrset.from_text(asked.name, self.ttl, "IN", kind, *values))
        else:
            answer.set_rcode(dns.rcode.NXDOMAIN)
        return answer.to_wire()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(ConnectionError, asyncio.IncompleteReadError, asyncio.CancelledError):
            (length,) = struct.unpack("!H", await reader.readexactly(2))
            told = self.answer(await reader.readexactly(length))
            await asyncio.sleep(self.delay_s)
            if told is not None:
                writer.write(struct.pack("!H", len(told)) + told)
                await writer.drain()
        writer.close()


class _Datagrams(asyncio.DatagramProtocol):
    def __init__(self, service: NameService) -> None:
        self._service = service
        self._transport: Any = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport

    def datagram_received(self, data: bytes, addr: tuple[Any, ...]) -> None:
        told = self._service.answer(data)
        if told is not None:
            later = asyncio.get_running_loop().call_later
            later(self._service.delay_s, self._transport.sendto, told, addr)

"""A stand-in for a call bridge: answers SIP by UDP, and sends speech back."""

import asyncio
import threading
from dataclasses import dataclass, field
from typing import Any, Self

from kuppel.probes.kernel.speech import SpeechReflector


@dataclass(slots=True)
class CallService:
    """Takes every call after `ringing_s`, unless `status` says otherwise; speech comes back on `speech_port`."""

    host: str = "127.0.0.1"
    port: int = 0
    speech_port: int = 0
    ringing_s: float = 0.02
    status: int = 200
    requests: list[str] = field(default_factory=list)
    _transport: asyncio.DatagramTransport | None = None
    _reflector: SpeechReflector | None = None

    async def __aenter__(self) -> Self:
        loop = asyncio.get_running_loop()
        self._transport, _ = await loop.create_datagram_endpoint(lambda: _Bridge(self), local_addr=(self.host, self.port))
        self.port = self._transport.get_extra_info("sockname")[1]
        self._reflector = SpeechReflector(self.host, self.speech_port)
        self.speech_port = self._reflector.port
        threading.Thread(target=self._reflector.serve, name="speech", daemon=True).start()
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._transport is not None:
            self._transport.close()
        if self._reflector is not None:
            self._reflector.close()


class _Bridge(asyncio.DatagramProtocol):
    def __init__(self, service: CallService) -> None:
        self._service = service
        self._transport: Any = None
        self._tasks: set[asyncio.Task[None]] = set()

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport

    def datagram_received(self, data: bytes, addr: tuple[Any, ...]) -> None:
        head = data.partition(b"\r\n\r\n")[0].decode("utf-8", "replace")
        first, *lines = head.split("\r\n")
        method = first.partition(" ")[0]
        self._service.requests = [*self._service.requests[-99:], method]
        if method in ("INVITE", "OPTIONS", "BYE"):
            task = asyncio.create_task(self._answer(method, lines, addr))
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)

    async def _answer(self, method: str, lines: list[str], addr: tuple[Any, ...]) -> None:
        if method == "INVITE":
            self._send("100 Trying", lines, addr)
            if self._service.status < 300:
                self._send("180 Ringing", lines, addr)
            await asyncio.sleep(self._service.ringing_s)
        status = 200 if method == "BYE" else self._service.status
        self._send(f"{status} {'OK' if status == 200 else 'Busy Here' if status == 486 else 'Refused'}", lines, addr)

    def _send(self, status: str, lines: list[str], addr: tuple[Any, ...]) -> None:
        kept = [line for line in lines if line.lower().startswith(("via:", "from:", "to:", "call-id:", "cseq:"))]
        told = [f"{line};tag=bridge" if line.lower().startswith("to:") and "tag=" not in line else line for line in kept]
        self._transport.sendto("\r\n".join([f"SIP/2.0 {status}", *told, "Content-Length: 0", "", ""]).encode(), addr)

"""A network that answers from a script: the seam of `Net` with nothing behind it."""

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, field

from kuppel.probes.net import (
    Binding,
    Connection,
    EchoReport,
    EchoTrain,
    Exchange,
    Family,
    Handshake,
    NameQuery,
    NameReply,
    Request,
    Resolution,
    Secured,
    StampReport,
    StampTrain,
)


@dataclass
class SimulatedClock:
    """Time passes only by sleeping."""

    now_us: int = 1_000_000_000_000_000

    def utc_us(self) -> int:
        return self.now_us

    def monotonic_us(self) -> int:
        return self.now_us

    async def sleep_us(self, duration_us: int) -> None:
        self.now_us += duration_us
        await asyncio.sleep(0)  # let others run, or a schedule would never end


@dataclass
class SimulatedNet:
    """Each answer is a function of what was asked; it may raise `NetError`."""

    clock: SimulatedClock = field(default_factory=SimulatedClock)
    on_icmp: Callable[[EchoTrain], EchoReport] | None = None
    on_stamp: Callable[[StampTrain], StampReport] | None = None
    on_query: Callable[[NameQuery], NameReply] | None = None
    on_handshake: Callable[[Handshake], Secured] | None = None
    on_connect: Callable[[str, int], Connection] | None = None
    on_fetch: Callable[[Request], Exchange] | None = None
    asked: list[object] = field(default_factory=list)

    async def resolve(self, name: str, family: Family, timeout_us: int) -> Resolution:
        self.asked.append((name, family, timeout_us))
        return Resolution(("192.0.2.7",), 1500)

    async def icmp(self, train: EchoTrain) -> EchoReport:
        self.asked.append(train)
        assert self.on_icmp is not None
        return self.on_icmp(train)

    async def stamp(self, train: StampTrain) -> StampReport:
        self.asked.append(train)
        assert self.on_stamp is not None
        return self.on_stamp(train)

    async def query(self, query: NameQuery) -> NameReply:
        self.asked.append(query)
        assert self.on_query is not None
        return self.on_query(query)

    async def handshake(self, handshake: Handshake) -> Secured:
        self.asked.append(handshake)
        assert self.on_handshake is not None
        return self.on_handshake(handshake)

    async def connect(self, address: str, port: int, timeout_us: int, binding: Binding) -> Connection:
        self.asked.append((address, port, timeout_us, binding))
        assert self.on_connect is not None
        return self.on_connect(address, port)

    async def fetch(self, request: Request) -> Exchange:
        self.asked.append(request)
        assert self.on_fetch is not None
        return self.on_fetch(request)

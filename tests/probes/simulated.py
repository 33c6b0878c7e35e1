"""A network that answers from a script: the seam of `Net` with nothing behind it."""

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, field

from kuppel.probes.kernel.ledger import Ledger
from kuppel.probes.net import (
    Binding,
    Call,
    CallOutcome,
    Connection,
    EchoReport,
    EchoTrain,
    Exchange,
    Family,
    Handshake,
    MachineAsked,
    MachineTold,
    NameQuery,
    NameReply,
    PageLoad,
    PageLoaded,
    PathMtu,
    Request,
    Resolution,
    Secured,
    SpeechReport,
    SpeechStream,
    StampReport,
    StampTrain,
    TraceReport,
    TraceRequest,
    Transfer,
    Transferred,
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
    on_speak: Callable[[SpeechStream], SpeechReport] | None = None
    on_call: Callable[[Call], CallOutcome] | None = None
    on_trace: Callable[[TraceRequest], TraceReport] | None = None
    on_transfer: Callable[[Transfer], Transferred] | None = None
    on_load: Callable[[PageLoad], PageLoaded] | None = None
    on_machine: Callable[[MachineAsked], MachineTold] | None = None
    on_query: Callable[[NameQuery], NameReply] | None = None
    on_handshake: Callable[[Handshake], Secured] | None = None
    on_connect: Callable[[str, int], Connection] | None = None
    on_fetch: Callable[[Request], Exchange] | None = None
    ledger: Ledger = field(default_factory=Ledger)
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

    async def speak(self, stream: SpeechStream) -> SpeechReport:
        self.asked.append(stream)
        assert self.on_speak is not None
        return self.on_speak(stream)

    async def call(self, call: Call) -> CallOutcome:
        self.asked.append(call)
        assert self.on_call is not None
        return self.on_call(call)

    async def transfer(self, transfer: Transfer) -> Transferred:
        self.asked.append(transfer)
        assert self.on_transfer is not None
        return self.on_transfer(transfer)

    async def reserve(self, account: str, octets: int, most_a_day: int) -> None:
        self.asked.append((account, octets, most_a_day))
        self.ledger.reserve(account, octets, most_a_day)

    async def trace(self, request: TraceRequest) -> TraceReport:
        self.asked.append(request)
        assert self.on_trace is not None
        return self.on_trace(request)

    async def path_mtu(self, address: str, timeout_us: int, binding: Binding) -> PathMtu:
        self.asked.append((address, timeout_us, binding))
        return PathMtu(1500)

    async def name_of(self, address: str) -> str:
        return f"at-{address}.example"

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

    async def load(self, page: PageLoad) -> PageLoaded:
        self.asked.append(page)
        assert self.on_load is not None
        return self.on_load(page)

    async def machine(self, asked: MachineAsked) -> MachineTold:
        self.asked.append(asked)
        assert self.on_machine is not None
        return self.on_machine(asked)

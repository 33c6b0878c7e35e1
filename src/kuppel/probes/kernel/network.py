"""`KernelNet`: each exchange runs in a worker thread, so that the event loop's lateness never enters a measurement."""

import asyncio
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from kuppel.core.reason import Reason
from kuppel.probes.kernel import (
    browser,
    call,
    curl,
    echo,
    names,
    path_mtu,
    sockets,
    speech,
    throughput,
    tls,
    trace,
    two_way,
)
from kuppel.probes.kernel.ledger import Ledger
from kuppel.probes.kernel.machine import Machine
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
    NetError,
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

# The most that a hub may shift an agent's clock silently; below it the agent's own clock is as good.
_TRUSTED_OFFSET_US = 500_000
# Names of hops seldom change, and a resolver that has none may take its time to say so.
_REVERSE_TIMEOUT_US = 1_000_000
_NAME_KEPT_S = 3600
_MOST_NAMES = 10_000
_T = TypeVar("_T")


class SystemClock:
    """The machine's clocks. `hub_offset_us` shifts UTC to the hub's when the machine's clock is plainly wrong."""

    def __init__(self) -> None:
        self.hub_offset_us = 0

    def utc_us(self) -> int:
        shift = self.hub_offset_us if abs(self.hub_offset_us) > _TRUSTED_OFFSET_US else 0
        return time.time_ns() // 1000 + shift

    def monotonic_us(self) -> int:
        return time.monotonic_ns() // 1000

    async def sleep_us(self, duration_us: int) -> None:
        await asyncio.sleep(duration_us / 1e6)


class KernelNet:
    """`Net` on this machine's own network. `default_source` is used where a probe is bound to nothing itself."""

    def __init__(self, *, threads: int = 64, default_source: str | None = None, ledger: Ledger | None = None) -> None:
        self.system_clock = SystemClock()
        self._default_source = default_source
        self._ledger = ledger or Ledger()
        self._machine = Machine()
        self._names: dict[str, tuple[float, str]] = {}
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix="exchange")

    @property
    def clock(self) -> SystemClock:
        return self.system_clock

    async def resolve(self, name: str, family: Family, timeout_us: int) -> Resolution:
        return await self._in_thread(lambda: sockets.resolve(name, family), timeout_us)

    async def icmp(self, train: EchoTrain) -> EchoReport:
        binding = self._bound(train.binding)
        return await self._in_thread(lambda: echo.send_train(train, binding))

    async def stamp(self, train: StampTrain) -> StampReport:
        binding = self._bound(train.binding)
        return await self._in_thread(lambda: two_way.send_train(train, binding))

    async def speak(self, stream: SpeechStream) -> SpeechReport:
        binding = self._bound(stream.binding)
        return await self._in_thread(lambda: speech.speak(stream, binding))

    async def call(self, asked: Call) -> CallOutcome:
        binding = self._bound(asked.binding)
        return await self._in_thread(lambda: call.set_up(asked, binding))

    async def transfer(self, wanted: Transfer) -> Transferred:
        binding = self._bound(wanted.binding)
        return await self._in_thread(lambda: throughput.transfer(wanted, binding))

    async def reserve(self, account: str, octets: int, most_a_day: int) -> None:
        await self._in_thread(lambda: self._ledger.reserve(account, octets, most_a_day))

    async def trace(self, request: TraceRequest) -> TraceReport:
        binding = self._bound(request.binding)
        return await self._in_thread(lambda: trace.trace(request, binding))

    async def path_mtu(self, address: str, timeout_us: int, binding: Binding) -> PathMtu:
        bound = self._bound(binding)
        return await self._in_thread(lambda: path_mtu.path_mtu(address, timeout_us, bound))

    async def name_of(self, address: str) -> str:
        known = self._names.get(address)
        if known is not None and time.monotonic() < known[0]:
            return known[1]
        try:
            name = await self._in_thread(lambda: sockets.name_of(address), _REVERSE_TIMEOUT_US)
        except NetError:
            name = ""
        if len(self._names) >= _MOST_NAMES:
            self._names.clear()
        self._names[address] = (time.monotonic() + _NAME_KEPT_S, name)
        return name

    async def query(self, query: NameQuery) -> NameReply:
        binding = self._bound(query.binding)
        return await self._in_thread(lambda: names.ask(query, binding))

    async def connect(self, address: str, port: int, timeout_us: int, binding: Binding) -> Connection:
        bound = self._bound(binding)
        return await self._in_thread(lambda: sockets.connect(address, port, timeout_us, bound))

    async def handshake(self, handshake: Handshake) -> Secured:
        binding = self._bound(handshake.binding)
        return await self._in_thread(lambda: tls.shake(handshake, binding))

    async def fetch(self, request: Request) -> Exchange:
        bound = self._bound(request.binding)
        return await self._in_thread(lambda: curl.fetch(request, bound))

    async def load(self, page: PageLoad) -> PageLoaded:
        if page.binding.interface is not None or page.binding.source is not None:
            raise NetError(Reason.BINDING_UNUSABLE, "a browser goes where the machine sends it: it cannot be bound")
        return await self._in_thread(lambda: browser.load(page))

    async def machine(self, asked: MachineAsked) -> MachineTold:
        return await self._in_thread(lambda: self._machine.read(asked))

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _bound(self, binding: Binding) -> Binding:
        if binding.interface is None and binding.source is None:
            return Binding(source=self._default_source)
        return binding

    async def _in_thread(self, call: Callable[[], _T], timeout_us: int | None = None) -> _T:
        future = asyncio.get_running_loop().run_in_executor(self._pool, call)
        if timeout_us is None:
            return await future
        # Not wait_for: in Python 3.11 it may lose a cancellation that comes just as the result does.
        try:
            async with asyncio.timeout(timeout_us / 1e6):
                return await future
        except TimeoutError:
            raise sockets.name_timeout(timeout_us) from None

"""`SimulatedNet`: the seam of the probes, answered from the simulated internet. One for each vantage point.

Schedule, repetition, quantities, reasons and limits are those of the field: only what would go through a socket is drawn.
"""

import ipaddress
from collections.abc import Awaitable, Callable
from urllib.parse import urlsplit

import dns.message
import dns.rcode
import dns.rdatatype
import dns.rrset
import numpy as np

from kuppel.core.reason import Reason
from kuppel.core.series import IntArray
from kuppel.lab.world import exchange
from kuppel.lab.world.application import Application
from kuppel.lab.world.packets import SimulatedPackets, microseconds, unbound
from kuppel.lab.world.secured import Chains
from kuppel.lab.world.topology import Host
from kuppel.lab.world.world import World
from kuppel.probes.net import (
    Binding,
    Call,
    CallOutcome,
    Clock,
    Connection,
    Exchange,
    Family,
    FetchError,
    Handshake,
    NameQuery,
    NameReply,
    NetError,
    PageLoad,
    PageLoaded,
    Phases,
    Request,
    Resolution,
    Secured,
)

_TTL_S = 300
_MTU = 1500
Loading = Callable[[PageLoad], Awaitable[PageLoaded]]


class SimulatedNet(SimulatedPackets):
    """The network as one vantage point of the world sees it.

    Parameters
    ----------
    loading : loads pages in a real browser; without it, a page load is refused.
    """

    def __init__(self, world: World, point: str, clock: Clock, loading: Loading | None = None) -> None:
        super().__init__(world, point, clock)
        self._loading = loading
        self._chains = Chains(world)

    async def resolve(self, name: str, family: Family, timeout_us: int) -> Resolution:
        if _is_address(name):
            return Resolution((name,), 30)
        now, draw = self._moment()
        elapsed_us = microseconds(exchange.name_lookups(self._world, self._point, now, draw)[0])
        if elapsed_us > timeout_us:
            await self._clock.sleep_us(timeout_us)
            raise NetError(Reason.NAME_TIMEOUT, f"no answer within {timeout_us / 1e6:g} s")
        await self._clock.sleep_us(elapsed_us)
        found = self._addresses(name, now)
        if not found:
            raise NetError(Reason.NAME_NOT_FOUND, f"{name}: the name does not exist")
        wanted = tuple(one for one in found if family == "auto" or (":" in one) == (family == "ipv6"))
        if not wanted:
            raise NetError(Reason.NO_ADDRESS_OF_FAMILY, f"{name} has no address of {family}")
        return Resolution(wanted, elapsed_us)

    async def call(self, call: Call) -> CallOutcome:
        unbound(call.binding)
        host = self._host(call.address)
        now, draw = self._moment()
        application = None if host is None else self._world.listening(host.address, call.port)
        if host is None or application is None:
            await self._clock.sleep_us(call.timeout_us)
            raise NetError(Reason.TIMEOUT, f"no answer from {call.address} within {call.timeout_us / 1e6:g} s")
        told = exchange.calls(self._world, self._ends(host, draw, call.address), application, now, draw)
        final_us = microseconds(told.final_ms[0])
        if final_us > call.timeout_us:
            await self._clock.sleep_us(call.timeout_us)
            raise NetError(Reason.TIMEOUT, f"no answer from {call.address} within {call.timeout_us / 1e6:g} s")
        await self._clock.sleep_us(final_us)
        status = int(told.statuses[0])
        phrase = "OK" if status < 300 else "Service Unavailable"
        return CallOutcome(status, phrase, microseconds(told.first_ms[0]), microseconds(told.ringing_ms[0]), final_us)

    async def name_of(self, address: str) -> str:
        host = self._host(address)
        return "" if host is None else host.reverse

    async def query(self, query: NameQuery) -> NameReply:
        unbound(query.binding)
        host = self._host(query.address)
        now, draw = self._moment()
        question = dns.message.from_wire(query.message)
        if host is None or host.name not in self._world.resolvers:
            await self._clock.sleep_us(query.timeout_us)
            raise NetError(Reason.NAME_TIMEOUT, f"no answer within {query.timeout_us / 1e6:g} s")
        trips, lost = exchange.round_trips(self._world, self._ends(host, draw, query.address), now, draw, back=120)
        elapsed = float(trips[0] + exchange.resolver_times(self._world, host.name, now, draw)[0]) + self._late_ms(now, draw)
        if lost[0] or elapsed * 1000 > query.timeout_us:
            await self._clock.sleep_us(query.timeout_us)
            raise NetError(Reason.NAME_TIMEOUT, f"no answer within {query.timeout_us / 1e6:g} s")
        await self._clock.sleep_us(microseconds(elapsed))
        wrong = self._world.effects.now("wrong_names", host.name, int(now[0]))
        return NameReply(
            self._answer(question, wrong.note if wrong else "").to_wire(), microseconds(elapsed), self._own_address()
        )

    async def connect(self, address: str, port: int, timeout_us: int, binding: Binding) -> Connection:
        unbound(binding)
        taken_us, _ = await self._connected(address, port, timeout_us)
        return Connection(taken_us, taken_us, f"{self._own_address()}:{40_000 + self._drawn % 20_000}", f"{address}:{port}")

    async def _connected(self, address: str, port: int, timeout_us: int) -> tuple[int, Host]:
        """
        Raises
        ------
        NetError
            when nobody answers in time, or nobody listens.
        """
        host = self._host(address)
        now, draw = self._moment()
        taken_ms = np.inf
        if host is not None:
            taken_ms = float(exchange.connections(self._world, self._ends(host, draw, address), now, draw)[0])
            taken_ms += self._late_ms(now, draw)
        if host is None or taken_ms * 1000 > timeout_us:
            await self._clock.sleep_us(timeout_us)
            raise NetError(Reason.CONNECT_TIMEOUT, f"{address} port {port}: no connection within {timeout_us / 1e6:g} s")
        await self._clock.sleep_us(microseconds(taken_ms))
        application = self._world.listening(address, port)
        if application is None or self._world.is_off(application.name, now)[0]:
            raise NetError(Reason.CONNECTION_REFUSED, f"{address} port {port}: connection refused")
        return microseconds(taken_ms), host

    async def handshake(self, handshake: Handshake) -> Secured:
        unbound(handshake.binding)
        connect_us, host = await self._connected(handshake.address, handshake.port, handshake.timeout_us)
        now, draw = self._moment()
        ends = self._ends(host, draw, handshake.address)
        dialogue_us = 0
        if handshake.starttls != "none":
            dialogue_us = microseconds(exchange.reliable_trips(self._world, ends, now, draw, timeout_ms=200)[0] * 2)
        tls_us = microseconds(exchange.handshakes(self._world, ends, now, draw)[0])
        if connect_us + dialogue_us + tls_us > handshake.timeout_us:
            await self._clock.sleep_us(handshake.timeout_us - connect_us)
            raise NetError(Reason.TIMEOUT, f"no handshake within {handshake.timeout_us / 1e6:g} s")
        await self._clock.sleep_us(dialogue_us + tls_us)
        application = self._world.listening(handshake.address, handshake.port)
        chain = () if application is None else self._chains.shown(application.name, int(now[0]))
        if not chain:
            raise NetError(Reason.TLS_FAILED, f"{handshake.address} port {handshake.port} does not speak TLS")
        refusal = self._chains.refusal(chain, handshake.server_name, int(now[0]))
        local, remote = self._own_address(), f"{handshake.address}:{handshake.port}"
        cipher = "TLS_AES_128_GCM_SHA256"
        return Secured("TLSv1.3", cipher, chain, refusal, connect_us, dialogue_us, tls_us, local, remote)

    async def fetch(self, request: Request) -> Exchange:
        unbound(request.binding)
        if request.proxy:
            words = "there is no proxy in the made-up world"
            raise FetchError(Reason.PROXY_FAILED, words, Phases(0, 0, None, 0, 0))
        parts = urlsplit(request.url)
        name = parts.hostname or ""
        has_tls = parts.scheme == "https"
        port = parts.port or (443 if has_tls else 80)
        now, draw = self._moment()
        address = request.address or (name if _is_address(name) else "")
        if not address:
            if not self._addresses(name, now):
                raise FetchError(Reason.NAME_NOT_FOUND, f"{name}: the name does not exist", Phases(0, 0, None, 0, 0))
            address = self._world.names.get((name, 4), "") or self._world.names.get((name, 6), "")
        application = self._world.listening(address, port)
        if application is None:
            await self._clock.sleep_us(request.timeout_us)
            phases = Phases(0, request.timeout_us, None, 0, 0)
            raise FetchError(Reason.CONNECT_TIMEOUT, f"{address} port {port}: no connection", phases, address)
        family = {"auto": 0, "ipv4": 4, "ipv6": 6}[request.family]
        told = exchange.fetches(
            self._world, self._point, application, now, draw,
            family=family, timeout_ms=request.timeout_us / 1000, is_named=not request.address, has_tls=has_tls,
        )  # fmt: skip
        late_us = microseconds(self._late_ms(now, draw))
        phases = Phases(
            microseconds(told.name_ms[0]),
            microseconds(told.connect_ms[0]),
            microseconds(told.tls_ms[0]) if has_tls else None,
            microseconds(told.first_byte_ms[0]) + late_us,
            microseconds(told.transfer_ms[0]),
        )
        await self._clock.sleep_us(phases.total_us)
        host = self._world.topology.hosts[application.host]
        remote = host.address_v6 if told.is_v6[0] else host.address
        chain = self._chains.shown(application.name, int(now[0])) if has_tls else ()
        failure = told.failures[0]
        if failure is not None:
            words = {
                Reason.CONNECTION_REFUSED: f"{remote} port {port}: connection refused",
                Reason.NAME_TIMEOUT: f"{name}: no answer from the resolver",
            }.get(failure, f"nothing more within {request.timeout_us / 1e6:g} s")
            raise FetchError(failure, words, phases, remote)
        refusal = self._chains.refusal(chain, name, int(now[0])) if has_tls and request.is_verified else ""
        if refusal:
            raise FetchError(Reason.CERTIFICATE_INVALID, refusal, phases, remote, chain)
        return self._exchange(application, int(told.statuses[0]), phases, remote, chain, int(now[0]))

    def _exchange(
        self, application: Application, status: int, phases: Phases, remote: str, chain: tuple[str, ...], time_us: int
    ) -> Exchange:
        body = application.body if status == 200 else b'{"error": "no answer from what it depends on"}\n'
        headers = [("Content-Type", application.content_type), ("Content-Length", str(len(body)))]
        release = self._world.release(application.name, time_us)
        if release:
            headers.append(("X-Release", release))
        return Exchange(status, "HTTP/1.1", tuple(headers), body, len(body), phases, remote, self._own_address(), chain)

    async def load(self, page: PageLoad) -> PageLoaded:
        if self._loading is None:
            raise NetError(Reason.NOT_PERMITTED, "no browser is here: pages are loaded by a real one only")
        return await self._loading(page)

    def _addresses(self, name: str, now: IntArray) -> tuple[str, ...]:
        wrong = self._world.effects.now("wrong_names", self._world.resolver_of.get(self._point, ""), int(now[0]))
        found = tuple(self._world.names[name, family] for family in (6, 4) if (name, family) in self._world.names)
        if not self._world.topology.hosts[self._point].address_v6:
            found = tuple(one for one in found if ":" not in one)
        return (wrong.note,) if wrong is not None and found else found

    def _answer(self, question: dns.message.Message, wrong: str) -> dns.message.Message:
        answer = dns.message.make_response(question, recursion_available=True)
        asked = question.question[0]
        name = asked.name.to_text().lower().removesuffix(".")
        kind = dns.rdatatype.to_text(asked.rdtype)
        known = {4: "A", 6: "AAAA"}
        if not any((name, family) in self._world.names for family in known):
            answer.set_rcode(dns.rcode.NXDOMAIN)
            return answer
        for family, letter in known.items():
            address = self._world.names.get((name, family))
            if kind == letter and address is not None:
                shown = wrong if wrong and family == 4 else address
                answer.answer.append(dns.rrset.from_text(asked.name, _TTL_S, "IN", letter, shown))
        return answer


def _is_address(name: str) -> bool:
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True

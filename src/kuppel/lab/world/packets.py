"""The half of `SimulatedNet` that is packets: trains, paths, data at full speed, and the machine itself."""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from kuppel.core.path import HopAnswer
from kuppel.core.reason import Reason
from kuppel.core.series import IntArray
from kuppel.lab.world import exchange, machine, train
from kuppel.lab.world.draw import Generator, generator
from kuppel.lab.world.exchange import Ends
from kuppel.lab.world.topology import Host
from kuppel.lab.world.world import Crossing, World
from kuppel.probes.kernel.ledger import Ledger
from kuppel.probes.net import (
    Binding,
    Clock,
    EchoPacket,
    EchoReport,
    EchoTrain,
    MachineAsked,
    MachineTold,
    NetError,
    PathMtu,
    SpeechAnswer,
    SpeechReport,
    SpeechStream,
    StampAnswer,
    StampReport,
    StampTrain,
    TraceReport,
    TraceRequest,
    Transfer,
    Transferred,
)

_MTU = 1500


# How long a reflector keeps a packet.
_HELD_NS = 20_000


@dataclass(frozen=True, slots=True)
class _Reflected:
    """A packet that came back: which, how many the reflector had seen before it, when it got there and when back; UTC
    ns."""

    number: int
    count: int
    arrived_ns: int
    received_ns: int


def _reflected(sent_ns: list[int], forth: Crossing, back: Crossing, late_ms: float) -> list[_Reflected]:
    """What a reflector sends back of one train, in the order of arrival."""
    found, count = [], 0
    for number, sent in enumerate(sent_ns):
        if forth.lost[0, number]:
            continue
        arrived = sent + round(float(forth.delays_ms[0, number]) * 1e6)
        if not back.lost[0, number]:
            received = arrived + _HELD_NS + round((float(back.delays_ms[0, number]) + late_ms) * 1e6)
            found.append(_Reflected(number, count, arrived, received))
        count += 1
    return sorted(found, key=lambda one: one.received_ns)


class SimulatedPackets:
    """What one vantage point of the world sends and gets back, packet by packet."""

    def __init__(self, world: World, point: str, clock: Clock) -> None:
        self._world = world
        self._point = point
        self._clock = clock
        self._ledger = Ledger()
        self._drawn = 0

    @property
    def clock(self) -> Clock:
        return self._clock

    async def icmp(self, train_: EchoTrain) -> EchoReport:
        unbound(train_.binding)
        host = self._host(train_.address)
        now, draw = self._moment()
        if host is None:
            sent = _sent_ns(now, train_.count, train_.interval_us)
            await self._clock.sleep_us(train_.count * train_.interval_us + train_.timeout_us)
            return EchoReport(tuple(EchoPacket(one, None) for one in sent), "kernel")
        forth, back = train.trains(
            self._world, self._ends(host, draw, train_.address), now, draw,
            octets=train_.size, count=train_.count, gap_ms=train_.interval_us / 1000,
        )  # fmt: skip
        trips = (forth.delays_ms + back.delays_ms)[0] + 0.02 + self._late_ms(now, draw)
        good = ~(forth.lost | back.lost)[0] & (trips * 1000 <= train_.timeout_us)
        sent = _sent_ns(now, train_.count, train_.interval_us)
        packets = tuple(
            EchoPacket(one, one + round(trip * 1e6) if is_good else None)
            for one, trip, is_good in zip(sent, trips.tolist(), good.tolist(), strict=True)
        )
        waited = float(trips[-1]) * 1000 if good.all() else train_.timeout_us
        await self._clock.sleep_us((train_.count - 1) * train_.interval_us + round(min(waited, train_.timeout_us)))
        return EchoReport(packets, self._stamps(now))

    async def stamp(self, train_: StampTrain) -> StampReport:
        now, draw = self._moment()
        sent, ways = await self._trains(train_, train_.size, now, draw)
        if ways is None:
            return StampReport(tuple(sent), (), "kernel")
        forth, back = ways
        answers = [
            StampAnswer(one.number, one.received_ns, one.count, one.arrived_ns, one.arrived_ns + _HELD_NS, 1e6)
            for one in _reflected(sent, forth, back, self._late_ms(now, draw))
        ]
        return StampReport(tuple(sent), tuple(answers), self._stamps(now))

    async def _trains(
        self, of: StampTrain | SpeechStream, octets: int, now: IntArray, draw: Generator
    ) -> tuple[list[int], tuple[Crossing, Crossing] | None]:
        """When each packet was sent, and what became of them there and back; None where nobody is there to answer."""
        unbound(of.binding)
        host = self._host(of.address)
        sent = _sent_ns(now, of.count, of.interval_us)
        await self._clock.sleep_us(of.count * of.interval_us)
        if host is None:
            await self._clock.sleep_us(of.timeout_us)
            return sent, None
        ends = self._ends(host, draw, of.address)
        return sent, train.trains(self._world, ends, now, draw, octets=octets, count=of.count, gap_ms=of.interval_us / 1000)

    async def speak(self, stream: SpeechStream) -> SpeechReport:
        now, draw = self._moment()
        sent, ways = await self._trains(stream, stream.payload_octets + 12, now, draw)
        if ways is None:
            return SpeechReport(tuple(sent), (), "kernel")
        forth, back = ways
        answers = [
            SpeechAnswer(one.number, one.received_ns, one.arrived_ns, _HELD_NS, one.count)
            for one in _reflected(sent, forth, back, self._late_ms(now, draw))
        ]
        return SpeechReport(tuple(sent), tuple(answers), self._stamps(now))

    async def transfer(self, wanted: Transfer) -> Transferred:
        unbound(wanted.binding)
        host = self._host(wanted.address)
        now, draw = self._moment()
        if host is None:
            await self._clock.sleep_us(wanted.timeout_us)
            raise NetError(Reason.CONNECT_TIMEOUT, f"{wanted.address}: no connection")
        near, far = (self._point, host.name) if wanted.way == "up" else (host.name, self._point)
        carried = train.carried(self._world, Ends(near, far, draw.random(1)), now, draw, streams=wanted.streams)
        rate = float(carried.rate_mbit[0])
        if rate <= 0 or not np.isfinite(carried.rest_ms[0]):
            await self._clock.sleep_us(wanted.timeout_us)
            raise NetError(Reason.CONNECT_TIMEOUT, f"{wanted.address}: no connection")
        octets = round(min(wanted.most_octets, rate * wanted.duration_us / 8))
        elapsed_us = max(1, round(octets * 8 / rate))
        await self._clock.sleep_us(elapsed_us)
        repeated = round(octets * float(carried.repeated_share[0]))
        return Transferred(
            octets, elapsed_us, octets + repeated, repeated,
            float(carried.rest_ms[0]) * 1000, float(carried.loaded_ms[0]) * 1000,
        )  # fmt: skip

    async def reserve(self, account: str, octets: int, most_a_day: int) -> None:
        self._ledger.reserve(account, octets, most_a_day)

    async def trace(self, request: TraceRequest) -> TraceReport:
        unbound(request.binding)
        host = self._host(request.address)
        now, draw = self._moment()
        answers: list[HopAnswer] = []
        longest_ms = 0.0
        for flow in request.flows:
            # A flow keeps its way: its hash is that of addresses and ports, which stay the same (RFC 2992).
            share = generator(self._world.seed, "flow", self._point, request.address, request.port, flow).random(1)
            ways = [] if host is None else list(self._world.groups(self._point, host.name, now, share))
            way = ways[0][0] if ways else None
            if way is None:
                silent = min(request.silent_hops, request.most_hops)
                answers += [HopAnswer(flow, ttl, "silent") for ttl in range(1, silent + 1)]
                continue
            ends = Ends(self._point, way.hosts[-1], share, 6 if ":" in request.address else 4)
            found = train.hops(self._world, ends, way, now, draw, request.size)
            found += train.beyond(self._world, ends, found[-1], now, draw, request.size, request.silent_hops - 1)
            for ttl, hop in enumerate(found, start=1):
                if ttl > request.most_hops:
                    break
                address = hop.host.address_v6 if ends.family == 6 else hop.host.address
                if not address or not hop.answered[0] or hop.trips_ms[0] * 1000 > request.timeout_us:
                    answers.append(HopAnswer(flow, ttl, "silent"))
                    continue
                trip_ms = float(hop.trips_ms[0])
                longest_ms = max(longest_ms, trip_ms)
                kind = "reached" if hop.is_end else "exceeded"
                answers.append(HopAnswer(flow, ttl, kind, address, trip_ms * 1000, 64 - ttl))  # type: ignore[arg-type]
        await self._clock.sleep_us(round(longest_ms * 1000) + request.gap_us * len(answers))
        return TraceReport(tuple(answers), self._stamps(now))

    async def path_mtu(self, address: str, timeout_us: int, binding: Binding) -> PathMtu:
        unbound(binding)
        host = self._host(address)
        if host is None:
            return PathMtu(None)
        now, draw = self._moment()
        trips, lost = exchange.round_trips(self._world, self._ends(host, draw, address), now, draw, forth=1_472)
        await self._clock.sleep_us(timeout_us if lost[0] else round(float(trips[0]) * 1000))
        return PathMtu(None if lost[0] else _MTU)

    async def machine(self, _asked: MachineAsked) -> MachineTold:
        now, draw = self._moment()
        told = machine.readings(self._world, self._point, now, draw)
        facts = {"gateway": machine.gateway(self._world, self._point)}
        return MachineTold({name: float(column[0]) for name, column in told.items()}, facts, {"over_s": 60.0})

    def _moment(self) -> tuple[IntArray, Generator]:
        """Now, and a generator for what is drawn now."""
        now_us = self._clock.utc_us()
        self._drawn += 1
        return np.array([now_us], dtype=np.int64), generator(self._world.seed, "live", self._point, now_us, self._drawn)

    def _ends(self, host: Host, draw: Generator, address: str) -> Ends:
        return Ends(self._point, host.name, draw.random(1), 6 if ":" in address else 4)

    def _host(self, address: str) -> Host | None:
        return self._world.hosts_by_address.get(address)

    def _late_ms(self, now: IntArray, draw: Generator) -> float:
        """What an overloaded machine adds to a time that it reads itself."""
        busy = self._world.effects.value("busy", self._point, now)
        return 0.0 if busy is None else float(busy[0]) * float(draw.random())

    def _stamps(self, now: IntArray) -> Literal["kernel", "user"]:
        return "kernel" if self._world.effects.value("busy", self._point, now) is None else "user"

    def _own_address(self) -> str:
        return self._world.topology.hosts[self._point].address


def unbound(binding: Binding) -> None:
    """
    Raises
    ------
    NetError
        where an exchange is bound to an uplink: a vantage point of the made-up world has no interfaces to choose from.
    """
    if binding.interface is not None or binding.source is not None:
        raise NetError(Reason.BINDING_UNUSABLE, "a vantage point of the made-up world has one way out, with no name")


def microseconds(ms: float) -> int:
    return 10**12 if not np.isfinite(ms) else max(1, round(float(ms) * 1000))


def _sent_ns(now: IntArray, count: int, interval_us: int) -> list[int]:
    return [(int(now[0]) + number * interval_us) * 1000 for number in range(count)]

"""The seam between a probe and the network: a few protocol exchanges, each timed by whoever carries it out.

The real network (`probes.kernel`) uses kernel sockets and libcurl; another may answer from a simulation. Everything above
the seam (schedule, repetition, quantities, reasons, limits) is the same for both.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, Protocol

from kuppel.core.path import HopAnswer
from kuppel.core.reason import Reason
from kuppel.core.vitals import Frame, Shift, Stretch

Family = Literal["auto", "ipv4", "ipv6"]

# What a machine says where nobody listens: the way there is fine.
PORT_UNREACHABLE = "port unreachable"


class NetError(Exception):
    """An exchange that did not come about. `note` says in words what was seen; no secret belongs in it."""

    def __init__(self, reason: Reason, note: str = "") -> None:
        self.reason = reason
        self.note = note
        super().__init__(f"{reason}: {note}")


@dataclass(frozen=True, slots=True)
class Binding:
    """Through which uplink to send: an interface, a source address, both or neither."""

    interface: str | None = None
    source: str | None = None


@dataclass(frozen=True, slots=True)
class Resolution:
    """Addresses of a name, in the resolver's order, and how long the answer took."""

    addresses: tuple[str, ...]
    elapsed_us: int


@dataclass(frozen=True, slots=True)
class EchoTrain:
    """What to send: `count` echo requests of `size` data octets, `interval_us` apart, each waited for `timeout_us`."""

    address: str
    count: int
    interval_us: int
    size: int
    dscp: int
    timeout_us: int
    binding: Binding


@dataclass(frozen=True, slots=True)
class EchoPacket:
    """One packet of a train, UTC nanoseconds, as kernel stamps have them; None if no reply came in time."""

    sent_ns: int
    received_ns: int | None


@dataclass(frozen=True, slots=True)
class EchoReport:
    """The train in sending order; `stamps` says who took the times; `refusal` is an ICMP error seen, in words."""

    packets: tuple[EchoPacket, ...]
    stamps: Literal["kernel", "kernel receive", "user"]
    refusal: str = ""


@dataclass(frozen=True, slots=True)
class StampTrain:
    """Two-way test packets (RFC 8762) to send: `size` UDP octets each, `key` None for the unauthenticated mode.

    `clock_error_ns` is how far this machine's clock may be off UTC; None when that is not known.
    """

    address: str
    port: int
    count: int
    interval_us: int
    size: int
    dscp: int
    key: bytes | None
    clock_error_ns: int | None
    timeout_us: int
    binding: Binding


@dataclass(frozen=True, slots=True)
class StampAnswer:
    """One answer, in the order of arrival: which packet it is to, when it came, and what the reflector wrote; UTC ns."""

    sequence: int
    received_ns: int
    far_number: int
    far_received_ns: int
    far_sent_ns: int
    far_error_ns: float | None


@dataclass(frozen=True, slots=True)
class StampReport:
    """When each packet was sent (UTC ns), and every answer in time, duplicates included; `refused` counts octets that were
    no answer, `refusal` is an ICMP error seen, in words."""

    sent_ns: tuple[int, ...]
    answers: tuple[StampAnswer, ...]
    stamps: Literal["kernel", "kernel receive", "user"]
    refused: int = 0
    refusal: str = ""


@dataclass(frozen=True, slots=True)
class SpeechStream:
    """An RTP stream (RFC 3550) to send: `count` packets of `payload_octets`, `interval_us` apart."""

    address: str
    port: int
    count: int
    interval_us: int
    payload_type: int
    payload_octets: int
    ticks: int
    dscp: int
    timeout_us: int
    binding: Binding


@dataclass(frozen=True, slots=True)
class SpeechAnswer:
    """What came of one packet: when it reached the reflector, by its clock, and when its answer came back; UTC ns."""

    sequence: int
    received_ns: int
    far_received_ns: int
    far_held_ns: int
    far_number: int


@dataclass(frozen=True, slots=True)
class SpeechReport:
    """When each packet was sent (UTC ns), and the first answer to each in the order of arrival."""

    sent_ns: tuple[int, ...]
    answers: tuple[SpeechAnswer, ...]
    stamps: Literal["kernel", "kernel receive", "user"]
    refusal: str = ""


@dataclass(frozen=True, slots=True)
class Call:
    """A call to set up over SIP (RFC 3261) by UDP, and to end at once; with `OPTIONS` only the question whether one
    could."""

    address: str
    port: int
    uri: str
    method: Literal["OPTIONS", "INVITE"]
    payload_type: int
    clock_hz: int
    codec: str
    timeout_us: int
    binding: Binding


@dataclass(frozen=True, slots=True)
class CallOutcome:
    """The final answer to a call, and how long each sign of life took; `ringing_us` is None when it did not ring first."""

    status: int
    phrase: str
    first_us: int
    ringing_us: int | None
    final_us: int


@dataclass(frozen=True, slots=True)
class Transfer:
    """Data to move to or from a reflector: along `streams` TCP connections as fast as they go, or by UDP at `rate_bit_s`.

    It ends after `duration_us` or `most_octets`, whichever comes first. `key` is the reflector's shared key.
    """

    address: str
    port: int
    way: Literal["up", "down"]
    transport: Literal["tcp", "udp"]
    streams: int
    rate_bit_s: int
    size: int
    duration_us: int
    most_octets: int
    dscp: int
    key: str | None
    timeout_us: int
    binding: Binding


@dataclass(frozen=True, slots=True)
class Transferred:
    """What was moved. `octets` is payload that arrived, within `elapsed_us`; `sent_octets` and `repeated_octets` are what
    TCP put on the wire. Round trips are by TCP's own estimate: the least, and the mean under load. Packets count for
    UDP."""

    octets: int
    elapsed_us: int
    sent_octets: int = 0
    repeated_octets: int = 0
    rtt_min_us: float | None = None
    rtt_loaded_us: float | None = None
    packets: int = 0
    lost: int = 0
    jitter_us: float | None = None


@dataclass(frozen=True, slots=True)
class TraceRequest:
    """Packets with rising time to live along each of `flows`, until the address answers or `most_hops` is passed.

    `port` is that of the destination, for `udp` and `tcp`; `gap_us` is the time between two packets; `silent_hops` is how
    many hops in a row may give no answer before a flow is given up.
    """

    address: str
    protocol: Literal["udp", "tcp", "icmp"]
    port: int
    flows: tuple[int, ...]
    most_hops: int
    silent_hops: int
    size: int
    dscp: int
    gap_us: int
    timeout_us: int
    binding: Binding


@dataclass(frozen=True, slots=True)
class TraceReport:
    """An answer for each packet, silent ones included; `stamps` says who took the times."""

    answers: tuple[HopAnswer, ...]
    stamps: Literal["kernel", "kernel receive", "user"]


@dataclass(frozen=True, slots=True)
class PathMtu:
    """The largest IP packet that got through, in octets; `limited_by` is the hop that refused a larger one. None when
    nothing of any size was answered."""

    octets: int | None
    limited_by: str = ""


@dataclass(frozen=True, slots=True)
class NameQuery:
    """One DNS message to a resolver, by UDP or by TCP (RFC 1035 §4.2; over TCP with its two octets of length)."""

    address: str
    port: int
    message: bytes
    is_tcp: bool
    timeout_us: int
    binding: Binding


@dataclass(frozen=True, slots=True)
class NameReply:
    """The message that came back with the query's number, and how long it took; connecting included where it is TCP."""

    message: bytes
    elapsed_us: int
    local: str


@dataclass(frozen=True, slots=True)
class Connection:
    """A TCP connection that came about and was closed again at once."""

    elapsed_us: int
    handshake_rtt_us: int | None
    local: str
    remote: str


@dataclass(frozen=True, slots=True)
class Handshake:
    """One TLS handshake to make, after a dialogue of SMTP (RFC 3207) or IMAP (RFC 9051 §6.2.1) where that is asked for.

    `authority` is PEM: the only certificates that are trusted, instead of the system's.
    """

    address: str
    port: int
    server_name: str
    starttls: Literal["none", "smtp", "imap"]
    authority: str | None
    timeout_us: int
    binding: Binding


@dataclass(frozen=True, slots=True)
class Secured:
    """A handshake that came about. `refusal` says why the chain was not accepted, empty when it was; `chain` is PEM, the
    leaf first, as the server sent it. `dialogue_us` is what came before TLS on the connection."""

    protocol: str
    cipher: str
    chain: tuple[str, ...]
    refusal: str
    connect_us: int
    dialogue_us: int
    tls_us: int
    local: str
    remote: str


@dataclass(frozen=True, slots=True)
class Request:
    """One HTTP exchange to make; redirects are the caller's business."""

    method: str
    url: str
    headers: tuple[tuple[str, str], ...]
    body: bytes
    family: Family
    proxy: str | None
    is_verified: bool
    authority: str | None
    address: str | None
    timeout_us: int
    binding: Binding


@dataclass(frozen=True, slots=True)
class Phases:
    """Durations of one exchange in microseconds, in order; they add up to its total. `tls_us` is None without TLS.

    Through a proxy, `connect_us` ends at the proxy and `tls_us` includes the CONNECT exchange.
    """

    name_us: int
    connect_us: int
    tls_us: int | None
    first_byte_us: int
    transfer_us: int

    @property
    def total_us(self) -> int:
        return self.name_us + self.connect_us + (self.tls_us or 0) + self.first_byte_us + self.transfer_us


@dataclass(frozen=True, slots=True)
class Exchange:
    """One HTTP answer. `body` holds at most the first MiB, `size` counts all octets. `chain` is PEM, the leaf first."""

    status: int
    version: str
    headers: tuple[tuple[str, str], ...]
    body: bytes
    size: int
    phases: Phases
    remote: str
    local: str
    chain: tuple[str, ...] = field(default=())


@dataclass(frozen=True, slots=True)
class PageLoad:
    """A page to load in a browser. It is done once at most two requests were under way for `quiet_us`."""

    url: str
    width: int
    height: int
    expect_text: str
    proxy: str | None
    is_verified: bool
    addresses: tuple[tuple[str, str], ...]
    quiet_us: int
    timeout_us: int
    binding: Binding


@dataclass(frozen=True, slots=True)
class PageLoaded:
    """What a browser says of a load, times in ms after its start. `reason` is None when the page was loaded.

    `navigation` are the marks of Navigation Timing, `archive` is HAR 1.2, `screenshot` a JPEG in base 64 of a page that
    failed.
    """

    reason: Reason | None
    note: str
    status: int
    text: str
    navigation: Mapping[str, float]
    first_paint_ms: float | None
    fcp_ms: float | None
    lcp_ms: float | None
    shifts: tuple[Shift, ...]
    tasks: tuple[Stretch, ...]
    frames: tuple[Frame, ...]
    failed: tuple[str, ...]
    console: tuple[str, ...]
    archive: Mapping[str, Any]
    screenshot: str = ""


@dataclass(frozen=True, slots=True)
class MachineAsked:
    """What to read of the agent's own machine, beyond what is always read."""

    services: tuple[str, ...]
    has_connections: bool
    has_processes: bool


@dataclass(frozen=True, slots=True)
class MachineTold:
    """A reading of the machine, in quantities and facts as a result has them."""

    quantities: Mapping[str, float]
    facts: Mapping[str, str]
    detail: Mapping[str, Any]


class FetchError(NetError):
    """An exchange that broke off, with the phases it got through and the chain it saw, if any."""

    def __init__(self, reason: Reason, note: str, phases: Phases, remote: str = "", chain: tuple[str, ...] = ()) -> None:
        super().__init__(reason, note)
        self.phases = phases
        self.remote = remote
        self.chain = chain


class Clock(Protocol):
    def utc_us(self) -> int:
        """UTC in microseconds, by the hub's clock as far as the agent knows it."""
        ...

    def monotonic_us(self) -> int:
        """A clock that never steps, in microseconds from any origin."""
        ...

    async def sleep_us(self, duration_us: int) -> None: ...


class Net(Protocol):
    """The network as probes see it. Every method raises `NetError` when the exchange does not come about."""

    @property
    def clock(self) -> Clock: ...

    async def resolve(self, name: str, family: Family, timeout_us: int) -> Resolution: ...

    async def icmp(self, train: EchoTrain) -> EchoReport: ...

    async def stamp(self, train: StampTrain) -> StampReport: ...

    async def speak(self, stream: SpeechStream) -> SpeechReport: ...

    async def call(self, call: Call) -> CallOutcome: ...

    async def transfer(self, transfer: Transfer) -> Transferred: ...

    async def reserve(self, account: str, octets: int, most_a_day: int) -> None:
        """Take octets from an account's budget of this day (UTC); negative ones give back what was not used.

        Raises
        ------
        NetError
            with reason `budget_spent`, when there is not enough left.
        """
        ...

    async def trace(self, request: TraceRequest) -> TraceReport: ...

    async def path_mtu(self, address: str, timeout_us: int, binding: Binding) -> PathMtu: ...

    async def name_of(self, address: str) -> str:
        """The name that its address has (PTR); empty when it has none, or nobody says so in time."""
        ...

    async def query(self, query: NameQuery) -> NameReply: ...

    async def connect(self, address: str, port: int, timeout_us: int, binding: Binding) -> Connection: ...

    async def handshake(self, handshake: Handshake) -> Secured: ...

    async def fetch(self, request: Request) -> Exchange: ...

    async def load(self, page: PageLoad) -> PageLoaded: ...

    async def machine(self, asked: MachineAsked) -> MachineTold: ...

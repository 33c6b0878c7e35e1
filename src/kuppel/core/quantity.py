"""Quantities: every named measured value that Kuppel knows, with its unit.

Units are UCUM codes (Unified Code for Units of Measure): `ms`, `1` (a ratio), `By` (byte), `d` (day), `{packet}`.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from kuppel.core.error import SettingsError

Worse = Literal["higher", "lower"]


@dataclass(frozen=True, slots=True)
class Quantity:
    """One measured quantity: its name in code and API, its UCUM unit, its words on screen, and which way is worse."""

    name: str
    unit: str
    label: str
    worse: Worse = "higher"

    @property
    def decimals(self) -> int:
        """To how many decimals its values are kept: what lies beyond is below what any probe resolves, and costs room."""
        return _DECIMALS.get(self.unit, 0)


# 0.1 µs; a millionth of a ratio; 9 s of a day; things that are counted are whole.
_DECIMALS = {
    "ms": 4,
    "1": 6,
    "d": 4,
    "s": 3,
    "{mos}": 3,
    "{R}": 2,
    "Mbit/s": 4,
    "{score}": 4,
    "MBy/s": 3,
    "/s": 2,
    "dB[mW]": 0,
}

_ALL = (
    Quantity("rtt", "ms", "round trip, median of the run"),
    Quantity("rtt_min", "ms", "shortest round trip of the run"),
    Quantity("rtt_mean", "ms", "mean round trip of the run"),
    Quantity("rtt_p95", "ms", "95th percentile of the run's round trips"),
    Quantity("rtt_max", "ms", "longest round trip of the run"),
    Quantity("loss_ratio", "1", "share of packets lost"),
    Quantity("loss_forth_ratio", "1", "share of packets lost on the way there"),
    Quantity("loss_back_ratio", "1", "share of packets lost on the way back"),
    Quantity("delay_forth", "ms", "delay on the way there, median of the run"),
    Quantity("delay_back", "ms", "delay on the way back, median of the run"),
    Quantity("clock_error", "ms", "how far the two clocks may differ"),
    Quantity("pdv_forth", "ms", "delay variation on the way there, 95th percentile (RFC 5481)"),
    Quantity("pdv_back", "ms", "delay variation on the way back, 95th percentile (RFC 5481)"),
    Quantity("reordered_ratio", "1", "share of packets out of order (RFC 4737)"),
    Quantity("duplicates", "{packet}", "answers that came twice"),
    Quantity("sent", "{packet}", "packets sent", "lower"),
    Quantity("lost", "{packet}", "packets lost"),
    Quantity("jitter", "ms", "interarrival jitter (RFC 3550)"),
    Quantity("ipdv", "ms", "mean absolute delay variation (RFC 3393)"),
    Quantity("hops", "{hop}", "hops to the target"),
    Quantity("parallel_paths", "{path}", "ways that packets take"),
    Quantity("path_mtu", "By", "largest packet that gets through whole", "lower"),
    Quantity("mos", "{mos}", "mean opinion score, of the worse way (G.107)", "lower"),
    Quantity("mos_forth", "{mos}", "mean opinion score on the way there", "lower"),
    Quantity("mos_back", "{mos}", "mean opinion score on the way back", "lower"),
    Quantity("rating", "{R}", "rating R of the worse way (G.107)", "lower"),
    Quantity("mouth_to_ear", "ms", "delay from mouth to ear, of the slower way"),
    Quantity("discard_ratio", "1", "share of packets too late for the jitter buffer"),
    Quantity("burst_loss_ratio", "1", "share of packets missing within bursts (RFC 3611)"),
    Quantity("call_setup", "ms", "time to the answer of the call"),
    Quantity("ringing", "ms", "time until it rings"),
    Quantity("throughput", "Mbit/s", "throughput of the slower way", "lower"),
    Quantity("throughput_up", "Mbit/s", "throughput up, payload", "lower"),
    Quantity("throughput_down", "Mbit/s", "throughput down, payload", "lower"),
    Quantity("transfer_time_ratio", "1", "transfer time against the ideal one (RFC 6349)"),
    Quantity("tcp_efficiency", "1", "share of octets sent only once (RFC 6349)", "lower"),
    Quantity("buffer_delay", "1", "round trip under load above the one at rest (RFC 6349)"),
    Quantity("rtt_loaded", "ms", "round trip under load"),
    Quantity("lookup", "ms", "time to the resolver's answer"),
    Quantity("answers", "{answer}", "answers to the question", "lower"),
    Quantity("ttl", "s", "least time that an answer may be kept", "lower"),
    *(Quantity(f"step_{number}", "ms", f"step {number}") for number in range(1, 13)),
    Quantity("name_lookup", "ms", "name lookup"),
    Quantity("connect", "ms", "TCP connect"),
    Quantity("tls", "ms", "TLS handshake"),
    Quantity("first_byte", "ms", "from request to first byte"),
    Quantity("transfer", "ms", "from first byte to last"),
    Quantity("processing", "ms", "from the last byte to the end of loading"),
    Quantity("load", "ms", "time until the page was loaded"),
    Quantity("first_paint", "ms", "first paint"),
    Quantity("fcp", "ms", "first contentful paint"),
    Quantity("lcp", "ms", "largest contentful paint"),
    Quantity("cls", "{score}", "cumulative layout shift"),
    Quantity("blocking_time", "ms", "total blocking time"),
    Quantity("interactive", "ms", "time until it can be used"),
    Quantity("visually_complete", "ms", "time until it looks complete"),
    Quantity("speed_index", "ms", "mean time at which it appears"),
    Quantity("requests", "{request}", "requests of the page"),
    Quantity("failed_requests", "{request}", "requests of the page that failed"),
    Quantity("console_errors", "{error}", "errors on the page's console"),
    Quantity("page_size", "By", "size of the page with all its parts"),
    Quantity("ttfb", "ms", "from start to first byte"),
    Quantity("total", "ms", "total time"),
    Quantity("body_size", "By", "size of the answer", "lower"),
    Quantity("redirects", "{redirect}", "redirects followed"),
    Quantity("scheduling_lag", "ms", "how late the machine wakes, 95th percentile"),
    Quantity("cpu_ratio", "1", "share of the processors' time in use"),
    Quantity("cpu_wait_ratio", "1", "share of the processors' time waiting for disks"),
    Quantity("cpu_steal_ratio", "1", "share of the processors' time taken by the host"),
    Quantity("memory_ratio", "1", "share of memory in use"),
    Quantity("memory_free", "By", "memory that is free", "lower"),
    Quantity("swap_ratio", "1", "share of swap in use"),
    Quantity("disk_ratio", "1", "share of the fullest disk in use"),
    Quantity("disk_read", "MBy/s", "read from disks"),
    Quantity("disk_write", "MBy/s", "written to disks"),
    Quantity("disk_latency", "ms", "time of a disk operation"),
    Quantity("net_in", "Mbit/s", "received by the machine"),
    Quantity("net_out", "Mbit/s", "sent by the machine"),
    Quantity("net_errors", "{packet}", "packets with errors or dropped at its cards"),
    Quantity("wifi_signal", "dB[mW]", "signal of the Wi-Fi", "lower"),
    Quantity("wifi_rate", "Mbit/s", "rate of the Wi-Fi", "lower"),
    Quantity("services_down", "{service}", "local services that are not running"),
    Quantity("connections", "{connection}", "open connections"),
    Quantity("processes", "{process}", "processes"),
    Quantity("certificate_days", "d", "days until the certificate expires", "lower"),
)

QUANTITIES: Mapping[str, Quantity] = {quantity.name: quantity for quantity in _ALL}
_PLACES = {quantity.name: quantity.decimals for quantity in _ALL}


def quantity_named(name: str, field: str = "quantity") -> Quantity:
    """The quantity of that name.

    Raises
    ------
    SettingsError
        naming `field`, when there is no such quantity.
    """
    found = QUANTITIES.get(name)
    if found is None:
        raise SettingsError(field, name, f"be one of {', '.join(sorted(QUANTITIES))}")
    return found


def rounded(quantities: Mapping[str, float]) -> dict[str, float]:
    """Values to the precision at which they are kept.

    >>> rounded({"rtt": 12.34567891, "loss_ratio": 0.2})
    {'rtt': 12.3457, 'loss_ratio': 0.2}
    """
    return {name: round(value, _PLACES[name]) for name, value in quantities.items()}


def check_unit(name: str, unit: str, field: str) -> None:
    """Raise `SettingsError` unless `unit` is the UCUM unit of the quantity `name`."""
    wanted = quantity_named(name, field).unit
    if unit != wanted:
        raise SettingsError(field, unit, f"be {wanted!r}: {name} is kept in {wanted}, convert it before sending")


def bad_end(name: str, share: float) -> float:
    """The percentile, as a share, that `share` of the values are at least as good as.

    >>> bad_end("rtt", 0.95), round(bad_end("mos", 0.95), 2)
    (0.95, 0.05)
    """
    return share if quantity_named(name).worse == "higher" else 1 - share

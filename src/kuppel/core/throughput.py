"""TCP throughput as RFC 6349 has it: what a path could carry, and what was made of it."""

import math

ETHERNET_OVERHEAD = 38  # preamble 8, header 14, check 4, gap 12
TCP_IP_HEADERS = 40


def bandwidth_delay_product(rate_bit_s: float, rtt_s: float) -> float:
    """Bits under way on a full path (RFC 6349 §3.3.1).

    >>> round(bandwidth_delay_product(44.21e6, 0.025))
    1105250
    """
    return rate_bit_s * rtt_s


def minimum_window(rate_bit_s: float, rtt_s: float) -> float:
    """The least TCP window, in octets, that can fill the path.

    >>> round(minimum_window(44.21e6, 0.025) / 1000, 2)
    138.16
    """
    return bandwidth_delay_product(rate_bit_s, rtt_s) / 8


def highest_payload_rate(line_bit_s: float, mtu: int = 1500, overhead: int = ETHERNET_OVERHEAD) -> float:
    """The most payload a second, in bit/s, that TCP can have of a line: full packets, each with its frame (RFC 6349 §4).

    Parameters
    ----------
    overhead : octets that the line adds to each IP packet; 38 for Ethernet.

    Examples
    --------
    >>> round(highest_payload_rate(100e6) / 1e6, 1)
    94.9
    """
    return line_bit_s / (8 * (mtu + overhead)) * (mtu - TCP_IP_HEADERS) * 8


def ideal_transfer_time(octets: int, line_bit_s: float, mtu: int = 1500, overhead: int = ETHERNET_OVERHEAD) -> float:
    """Seconds that a transfer would take at the highest payload rate."""
    return octets * 8 / highest_payload_rate(line_bit_s, mtu, overhead)


def transfer_time_ratio(actual_s: float, ideal_s: float) -> float:
    """How many times longer than ideal a transfer took (RFC 6349 §4.1)."""
    return actual_s / ideal_s


def tcp_efficiency(sent_octets: int, repeated_octets: int) -> float:
    """The share of octets that did not have to be sent again (RFC 6349 §4.2).

    >>> round(tcp_efficiency(102_000, 2_000) * 100, 2)
    98.04
    """
    return (sent_octets - repeated_octets) / sent_octets


def buffer_delay(rtt_loaded_ms: float, rtt_rest_ms: float) -> float:
    """By how much the round trip grows under load, as a share of the one at rest (RFC 6349 §4.3).

    >>> buffer_delay(32, 25)
    0.28
    """
    return (rtt_loaded_ms - rtt_rest_ms) / rtt_rest_ms


def loss_limited_rate(segment_octets: int, rtt_s: float, loss_ratio: float, *, delayed_acks: bool = False) -> float:
    """The rate, in bit/s, beyond which steady loss does not let TCP's congestion avoidance go.

    References
    ----------
    Mathis, Semke, Mahdavi, Ott, "The macroscopic behavior of the TCP congestion avoidance algorithm", 1997:
    BW = (MSS / RTT) · C / √p, with C = √(3/2), or √(3/4) when every second segment is acknowledged.
    """
    constant = math.sqrt(0.75 if delayed_acks else 1.5)
    return segment_octets * 8 / rtt_s * constant / math.sqrt(loss_ratio)

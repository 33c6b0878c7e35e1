"""Two-way active measurement: test packets of STAMP (RFC 8762 §4), unauthenticated and authenticated.

    sender, unauthenticated (44 octets)      reflector, unauthenticated (44 octets)
    sequence 4 · timestamp 8 · error 2 ·     sequence 4 · timestamp 8 · error 2 · 0 2 · receive timestamp 8 ·
    zero 30                                  sender's sequence 4 · its timestamp 8 · its error 2 · 0 2 · its TTL 1 · zero 3

    authenticated (112 octets): the same fields, each at its place of RFC 8762 figures 3 and 6, and HMAC-SHA-256 cut to
    16 octets over all before it

Timestamps are NTP's 64 bits, or PTP's truncated form when the error estimate's Z bit is set (§4.2.1). An answer is as long
as the question: a reflector cannot be used to send more than it was sent. Longer packets carry on with octets of the
sender's choice (RFC 8972 puts TLVs there); they come back as they were.
"""

import hashlib
import hmac
import struct
from dataclasses import dataclass

from kuppel.wire.ntp import from_ntp, to_ntp

PORT = 862
PLAIN_OCTETS = 44
AUTHENTICATED_OCTETS = 112
_HMAC_OCTETS = 16

_SENDER = struct.Struct("!IQH")
_REFLECTOR = struct.Struct("!IQHHQIQHHB3x")
_SENDER_AUTHENTICATED = struct.Struct("!I12xQH70x")
_REFLECTOR_AUTHENTICATED = struct.Struct("!I12xQH6xQ8xI12xQH6xB15x")


class NotStamp(ValueError):
    """Octets that are no test packet; the message says why."""


@dataclass(frozen=True, slots=True)
class ErrorEstimate:
    """How well a clock is known (RFC 4656 §4.1.2): synchronised to UTC or not, the form of its timestamps, and its error,
    multiplier × 2^(scale − 32) s."""

    is_synchronised: bool
    is_ptp: bool
    scale: int
    multiplier: int

    @property
    def error_ns(self) -> float:
        """
        >>> round(ErrorEstimate(True, False, 20, 1).error_ns)
        244141
        """
        return self.multiplier * 2.0 ** (self.scale - 32) * 1e9

    @classmethod
    def of(cls, error_ns: float | None) -> "ErrorEstimate":
        """The estimate that is not below an error; None stands for a clock that is not known to keep UTC."""
        if error_ns is None:
            return cls(False, False, 63, 255)
        scale, units = 0, error_ns / 1e9 * 2.0**32
        while units > 255 and scale < 63:
            scale, units = scale + 1, units / 2
        return cls(True, False, scale, max(1, min(255, -int(-units // 1))))

    def encode(self) -> int:
        return self.is_synchronised << 15 | self.is_ptp << 14 | self.scale << 8 | self.multiplier

    @classmethod
    def decode(cls, word: int) -> "ErrorEstimate":
        """
        Raises
        ------
        NotStamp
            for a multiplier of 0, which the standard forbids.
        """
        if word & 0xFF == 0:
            raise NotStamp("its error estimate has the multiplier 0")
        return cls(bool(word >> 15), bool(word >> 14 & 1), word >> 8 & 0x3F, word & 0xFF)


@dataclass(frozen=True, slots=True)
class SenderPacket:
    sequence: int
    sent_ns: int
    error: ErrorEstimate


@dataclass(frozen=True, slots=True)
class ReflectedPacket:
    """What a reflector adds: its own number and times, beside what the sender had written."""

    sequence: int
    sent_ns: int
    error: ErrorEstimate
    received_ns: int
    sender: SenderPacket
    sender_ttl: int


def encode_sender(packet: SenderPacket, size: int, key: bytes | None = None) -> bytes:
    """A test packet of `size` octets, at least those of its mode."""
    words = (packet.sequence, to_ntp(packet.sent_ns), packet.error.encode())
    if key is None:
        return _SENDER.pack(*words).ljust(max(size, PLAIN_OCTETS), b"\0")
    signed = _signed(_SENDER_AUTHENTICATED.pack(*words), key)
    return signed.ljust(max(size, AUTHENTICATED_OCTETS), b"\0")


def decode_sender(octets: bytes, near_ns: int, key: bytes | None = None) -> SenderPacket:
    """
    Raises
    ------
    NotStamp
    """
    body = _checked(octets, key)
    sequence, timestamp, error = (_SENDER if key is None else _SENDER_AUTHENTICATED).unpack_from(body)
    estimate = ErrorEstimate.decode(error)
    return SenderPacket(sequence, _moment(timestamp, near_ns, is_ptp=estimate.is_ptp), estimate)


def encode_reflected(packet: ReflectedPacket, question: bytes, key: bytes | None = None) -> bytes:
    """The answer to a question, as long as it was: what follows the fixed part comes back as it is."""
    own = (packet.sequence, to_ntp(packet.sent_ns), packet.error.encode())
    received = to_ntp(packet.received_ns)
    # The sender's own words, not what was understood of them.
    sequence, timestamp, error = (_SENDER if key is None else _SENDER_AUTHENTICATED).unpack_from(question)
    if key is None:
        body = _REFLECTOR.pack(*own, 0, received, sequence, timestamp, error, 0, packet.sender_ttl)
    else:
        words = (*own, received, sequence, timestamp, error, packet.sender_ttl)
        body = _signed(_REFLECTOR_AUTHENTICATED.pack(*words), key)
    return body + question[len(body) :]


def decode_reflected(octets: bytes, near_ns: int, key: bytes | None = None) -> ReflectedPacket:
    """
    Raises
    ------
    NotStamp
    """
    body = _checked(octets, key)
    if key is None:
        sequence, sent, error, _, received, of_sender, sender_sent, sender_error, _, ttl = _REFLECTOR.unpack_from(body)
    else:
        found = _REFLECTOR_AUTHENTICATED.unpack_from(body)
        sequence, sent, error, received, of_sender, sender_sent, sender_error, ttl = found
    estimate, its_estimate = ErrorEstimate.decode(error), ErrorEstimate.decode(sender_error)
    return ReflectedPacket(
        sequence,
        _moment(sent, near_ns, is_ptp=estimate.is_ptp),
        estimate,
        _moment(received, near_ns, is_ptp=estimate.is_ptp),
        SenderPacket(of_sender, _moment(sender_sent, near_ns, is_ptp=its_estimate.is_ptp), its_estimate),
        ttl,
    )


def _checked(octets: bytes, key: bytes | None) -> bytes:
    least = PLAIN_OCTETS if key is None else AUTHENTICATED_OCTETS
    if len(octets) < least:
        raise NotStamp(f"it has {len(octets)} octets; a test packet has at least {least}")
    if key is not None:
        body = octets[: AUTHENTICATED_OCTETS - _HMAC_OCTETS]
        if not hmac.compare_digest(_hmac(body, key), octets[len(body) : AUTHENTICATED_OCTETS]):
            raise NotStamp("its HMAC does not fit the key")
    return octets


def _signed(body: bytes, key: bytes) -> bytes:
    return body + _hmac(body, key)


def _hmac(body: bytes, key: bytes) -> bytes:
    return hmac.digest(key, body, hashlib.sha256)[:_HMAC_OCTETS]


def _moment(timestamp: int, near_ns: int, *, is_ptp: bool) -> int:
    if is_ptp:  # seconds since 1970 and nanoseconds, 32 bits each
        return (timestamp >> 32) * 1_000_000_000 + (timestamp & 0xFFFF_FFFF)
    return from_ntp(timestamp, near_ns)

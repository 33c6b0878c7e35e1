"""RTP (RFC 3550 §5.1), and what test streams carry in the place of speech.

    version 2 · padding 1 · extension 1 · sources 4 · marker 1 · type 7 | sequence 16 | timestamp 32 | source 32

    payload of a test packet: mark 32 | at the sender zero 128; at the reflector: received, ns since 1970, 64 · held, µs,
    32 · how many came before it, 32

It fits into the smallest speech packet, so that a test packet is as long as the one that it stands for; and an answer is
as long as its question.
"""

import struct
from dataclasses import dataclass

HEADER_OCTETS = 12
TEST_OCTETS = 20
_HEADER = struct.Struct("!BBHII")
_ANSWER = struct.Struct("!IQII")
_MARK = 0x4B56_7E57


class NotRtp(ValueError):
    """Octets that are no test packet; the message says why."""


@dataclass(frozen=True, slots=True)
class RtpHeader:
    payload_type: int
    sequence: int
    timestamp: int
    source: int
    is_marked: bool = False


@dataclass(frozen=True, slots=True)
class Reflected:
    """What the reflector says of a packet: when it came (ns, its own clock), how long it kept it (ns), and its number
    there."""

    received_ns: int
    held_ns: int
    number: int


def encode_header(header: RtpHeader) -> bytes:
    """
    >>> encode_header(RtpHeader(0, 1000, 160, 0x1234)).hex()
    '800003e8000000a000001234'
    """
    return _HEADER.pack(
        0x80,
        header.is_marked << 7 | header.payload_type,
        header.sequence & 0xFFFF,
        header.timestamp & 0xFFFF_FFFF,
        header.source,
    )


def decode_header(octets: bytes) -> tuple[RtpHeader, bytes]:
    """The header and what follows it, without padding.

    Raises
    ------
    NotRtp
    """
    if len(octets) < HEADER_OCTETS:
        raise NotRtp(f"it has {len(octets)} octets; a packet has at least {HEADER_OCTETS}")
    first, second, sequence, timestamp, source = _HEADER.unpack_from(octets)
    if first >> 6 != 2:
        raise NotRtp(f"its version is {first >> 6}, not 2")
    at = HEADER_OCTETS + 4 * (first & 0x0F)
    if first & 0x10:
        if len(octets) < at + 4:
            raise NotRtp("its extension is cut short")
        at += 4 + 4 * int.from_bytes(octets[at + 2 : at + 4], "big")
    end = len(octets)
    if first & 0x20:
        end -= octets[-1]
    if at > end:
        raise NotRtp("it is shorter than its header says")
    return RtpHeader(second & 0x7F, sequence, timestamp, source, bool(second >> 7)), octets[at:end]


def encode_test(header: RtpHeader, payload_octets: int) -> bytes:
    """A test packet with as many octets of payload as the speech would have, at least `TEST_OCTETS`."""
    payload = _ANSWER.pack(_MARK, 0, 0, 0)
    return encode_header(header) + payload.ljust(max(TEST_OCTETS, payload_octets), b"\0")


def decode_question(octets: bytes) -> RtpHeader:
    """
    Raises
    ------
    NotRtp
        for what is no test packet, or is an answer itself: two reflectors must not talk to each other.
    """
    header, payload = decode_header(octets)
    if len(octets) < HEADER_OCTETS + TEST_OCTETS or payload != octets[HEADER_OCTETS:]:
        raise NotRtp("it is too short for a test packet, or has what those do not have")
    mark, received_ns, _, _ = _ANSWER.unpack_from(payload)
    if mark != _MARK or received_ns:
        raise NotRtp("it is no question")
    return header


def encode_reflected(question: bytes, answer: Reflected) -> bytes:
    """The question with what the reflector has to say, as long as it was."""
    at = HEADER_OCTETS
    held_us = min(0xFFFF_FFFF, max(0, answer.held_ns // 1000))
    said = _ANSWER.pack(_MARK, answer.received_ns, held_us, answer.number & 0xFFFF_FFFF)
    return question[:at] + said + question[at + TEST_OCTETS :]


def decode_answer(octets: bytes) -> tuple[RtpHeader, Reflected]:
    """
    Raises
    ------
    NotRtp
    """
    header, payload = decode_header(octets)
    if len(payload) < TEST_OCTETS:
        raise NotRtp("its payload is too short for a test packet")
    mark, received_ns, held_us, number = _ANSWER.unpack_from(payload)
    if mark != _MARK or not received_ns:
        raise NotRtp("it is no answer")
    return header, Reflected(received_ns, held_us * 1000, number)

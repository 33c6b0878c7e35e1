"""ICMP echo, RFC 792 and RFC 4443 §4, with the checksum of RFC 1071."""

import struct
from dataclasses import dataclass

ECHO_REPLY_V4, ECHO_REQUEST_V4 = 0, 8
ECHO_REQUEST_V6, ECHO_REPLY_V6 = 128, 129
HEADER_LENGTH = 8
_HEADER = struct.Struct("!BBHHH")


@dataclass(frozen=True, slots=True)
class Echo:
    """An echo request or reply."""

    type: int
    identifier: int
    sequence: int
    data: bytes


def internet_checksum(octets: bytes) -> int:
    """The ones' complement of the ones' complement sum of 16-bit words, RFC 1071.

    >>> hex(internet_checksum(bytes.fromhex("0001f203f4f5f6f7")))
    '0x220d'
    """
    if len(octets) % 2:
        octets += b"\0"
    total: int = sum(struct.unpack(f"!{len(octets) // 2}H", octets))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def encode_echo_request(identifier: int, sequence: int, data: bytes, *, is_v6: bool = False) -> bytes:
    """An echo request. For IPv6 the checksum is left 0: the kernel fills it in, since it covers the pseudo-header."""
    if is_v6:
        return _HEADER.pack(ECHO_REQUEST_V6, 0, 0, identifier, sequence) + data
    bare = _HEADER.pack(ECHO_REQUEST_V4, 0, 0, identifier, sequence) + data
    return bare[:2] + internet_checksum(bare).to_bytes(2, "big") + bare[4:]


def decode_echo_reply(octets: bytes, *, is_v6: bool = False) -> Echo | None:
    """The echo reply in an ICMP message, or None when it is another message, cut short, or damaged."""
    if len(octets) < HEADER_LENGTH:
        return None
    kind, code, _, identifier, sequence = _HEADER.unpack_from(octets)
    if code != 0 or kind != (ECHO_REPLY_V6 if is_v6 else ECHO_REPLY_V4):
        return None
    if not is_v6 and internet_checksum(octets) != 0:
        return None
    return Echo(kind, identifier, sequence, octets[HEADER_LENGTH:])


def strip_ipv4_header(packet: bytes) -> bytes:
    """The payload of an IPv4 packet as a raw socket delivers it; empty when the header is cut short."""
    if not packet or packet[0] >> 4 != 4:
        return b""
    return packet[(packet[0] & 0x0F) * 4 :]

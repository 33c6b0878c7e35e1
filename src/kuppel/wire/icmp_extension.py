"""What routers add to ICMP errors: the extension structure of RFC 4884, and in it the MPLS label stack of RFC 4950.

version 4 bits (2) · reserved 12 · checksum 16 · objects: length 16 · class 8 · kind 8 · payload
label stack entry, 32 bits: label 20 · traffic class 3 · bottom of stack 1 · time to live 8
"""

import struct
from dataclasses import dataclass

from kuppel.wire.icmp import internet_checksum

_VERSION = 2
_LABEL_STACK, _INCOMING = 1, 1
_HEADER, _OBJECT = struct.Struct("!HH"), struct.Struct("!HBB")


@dataclass(frozen=True, slots=True)
class Label:
    """One entry of an MPLS label stack (RFC 3032)."""

    label: int
    traffic_class: int
    is_bottom: bool
    ttl: int


def decode_labels(extension: bytes) -> tuple[Label, ...]:
    """The label stack in an extension structure, the outermost first; empty when there is none, or it is damaged.

    A checksum of 0 says that none was made (RFC 4884 §7).

    >>> decode_labels(bytes.fromhex("2000c55f0008010118960101"))
    (Label(label=100704, traffic_class=0, is_bottom=True, ttl=1),)
    """
    if len(extension) < _HEADER.size:
        return ()
    first, checksum = _HEADER.unpack_from(extension)
    if first >> 12 != _VERSION or (checksum and internet_checksum(extension)):
        return ()
    labels: list[Label] = []
    at = _HEADER.size
    while at + _OBJECT.size <= len(extension):
        length, kind, sub_kind = _OBJECT.unpack_from(extension, at)
        if length < _OBJECT.size or at + length > len(extension):
            return ()
        if (kind, sub_kind) == (_LABEL_STACK, _INCOMING):
            payload = extension[at + _OBJECT.size : at + length]
            for (entry,) in struct.iter_unpack("!I", payload[: len(payload) // 4 * 4]):
                labels.append(Label(entry >> 12, entry >> 9 & 7, bool(entry >> 8 & 1), entry & 0xFF))
        at += length
    return tuple(labels)

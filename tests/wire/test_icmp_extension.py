"""Label stacks of ICMP errors: a reply of a published capture, scapy's encoder, and hostile octets."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from scapy.contrib.icmp_extensions import ICMPExtensionMPLS
from scapy.contrib.mpls import MPLS
from scapy.layers.inet import ICMPExtension_Header

from kuppel.wire.icmp import internet_checksum
from kuppel.wire.icmp_extension import Label, decode_labels


class Labels(unittest.TestCase):
    def test_a_reply_of_the_captures_that_tcpdump_is_tested_with(self) -> None:
        """tcpdump 4.99.3, tests/mpls-traceroute: label 100704, class 0, bottom, time to live 1, checksum 0xc55f."""
        self.assertEqual(decode_labels(bytes.fromhex("2000c55f0008010118960101")), (Label(100704, 0, True, 1),))

    def test_a_stack_of_two_as_scapy_writes_it(self) -> None:
        stack = [MPLS(label=18, cos=5, s=0, ttl=3), MPLS(label=1_048_575, cos=0, s=1, ttl=255)]
        octets = bytes(ICMPExtension_Header() / ICMPExtensionMPLS(stack=stack))
        self.assertEqual(decode_labels(octets), (Label(18, 5, False, 3), Label(1_048_575, 0, True, 255)))

    def test_damage_is_no_label(self) -> None:
        good = bytes.fromhex("2000c55f0008010118960101")
        self.assertEqual(decode_labels(good[:-1] + b"\x02"), ())
        self.assertEqual(decode_labels(b"\x10" + good[1:]), ())
        too_long = b"\x20\0\0\0" + b"\x00\xff\x01\x01" + good[8:]
        self.assertEqual(decode_labels(too_long), ())

    def test_other_objects_are_passed_over(self) -> None:
        """RFC 5837 puts interfaces (class 2) into the same structure."""
        body = b"\x00\x0c\x02\x09" + bytes(8) + bytes.fromhex("0008010118960101")
        header = b"\x20\0" + internet_checksum(b"\x20\0\0\0" + body).to_bytes(2, "big")
        self.assertEqual(decode_labels(header + body), (Label(100704, 0, True, 1),))

    @given(st.binary(max_size=200))
    def test_anything_is_read_without_an_error(self, octets: bytes) -> None:
        decode_labels(octets)
        decode_labels(b"\x20\0\0\0" + octets)

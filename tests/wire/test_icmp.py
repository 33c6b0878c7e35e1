"""ICMP echo: RFC 792, RFC 4443, RFC 1071."""

import os
import unittest

from hypothesis import given
from hypothesis import strategies as st

from kuppel.wire.icmp import decode_echo_reply, encode_echo_request, internet_checksum, strip_ipv4_header


class Checksum(unittest.TestCase):
    def test_rfc_1071_example(self) -> None:
        """RFC 1071 §3: 00 01 f2 03 f4 f5 f6 f7 sums to ddf2, its complement is 220d."""
        self.assertEqual(internet_checksum(bytes.fromhex("0001f203f4f5f6f7")), 0x220D)

    def test_odd_length_is_padded(self) -> None:
        """RFC 1071 §1: a missing octet counts as zero."""
        self.assertEqual(internet_checksum(b"\x01\x02\x03"), internet_checksum(b"\x01\x02\x03\x00"))

    @given(st.binary(min_size=2, max_size=200).filter(lambda data: len(data) % 2 == 0))
    def test_a_message_with_its_checksum_sums_to_zero(self, data: bytes) -> None:
        """RFC 1071 §1 (3)."""
        self.assertEqual(internet_checksum(data + internet_checksum(data).to_bytes(2, "big")), 0)


class EchoMessages(unittest.TestCase):
    def test_request_as_an_independent_encoder_writes_it(self) -> None:
        """Identifier 1, sequence 1, data "abcdefgh", as encoded by a general packet library (scapy)."""
        expected = bytes.fromhex("0800666800010001") + b"abcdefgh"
        self.assertEqual(encode_echo_request(1, 1, b"abcdefgh"), expected)

    @given(st.integers(0, 65535), st.integers(0, 65535), st.binary(max_size=100))
    def test_reply_to_a_request_is_read_back(self, identifier: int, sequence: int, data: bytes) -> None:
        """RFC 792: the reply is the request with type 0 and the checksum anew."""
        request = encode_echo_request(identifier, sequence, data)
        bare = b"\0\0\0\0" + request[4:]
        reply = bare[:2] + internet_checksum(bare).to_bytes(2, "big") + bare[4:]
        echo = decode_echo_reply(reply)
        assert echo is not None
        self.assertEqual((echo.identifier, echo.sequence, echo.data), (identifier, sequence, data))

    def test_version_6_leaves_the_checksum_to_the_kernel(self) -> None:
        """RFC 4443 §2.3 covers the pseudo-header, which only the kernel knows; RFC 3542 §3.1 says it fills it in."""
        self.assertEqual(encode_echo_request(1, 2, b"x", is_v6=True)[:8], bytes.fromhex("8000000000010002"))
        echo = decode_echo_reply(bytes.fromhex("8100abcd00010002") + b"x", is_v6=True)
        assert echo is not None
        self.assertEqual(echo.data, b"x")

    def test_other_and_damaged_messages_are_passed_over(self) -> None:
        request = encode_echo_request(1, 1, b"abcdefgh")
        for octets in (b"", request[:7], request, b"\x03\x01" + request[2:], b"\0\0\xff\xff" + request[4:], os.urandom(7)):
            self.assertIsNone(decode_echo_reply(octets))

    def test_header_of_a_raw_socket(self) -> None:
        """RFC 791 §3.1: the header's length in words is in the low half of its first octet."""
        self.assertEqual(strip_ipv4_header(b"\x46" + bytes(23) + b"payload"), b"payload")
        self.assertEqual(strip_ipv4_header(b"\x60" + bytes(40)), b"")
        self.assertEqual(strip_ipv4_header(b""), b"")

"""RTP headers against scapy, test packets, and hostile octets."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from scapy.layers.rtp import RTP

from kuppel.wire.rtp import (
    NotRtp,
    Reflected,
    RtpHeader,
    decode_answer,
    decode_header,
    decode_question,
    encode_header,
    encode_reflected,
    encode_test,
)


class Headers(unittest.TestCase):
    def test_scapy_reads_ours_and_we_read_its(self) -> None:
        ours = RTP(encode_header(RtpHeader(18, 65_535, 4_294_967_295, 0xDEADBEEF, is_marked=True)))
        self.assertEqual(
            (ours.version, ours.payload_type, ours.sequence, ours.timestamp, ours.sourcesync, ours.marker),
            (2, 18, 65_535, 4_294_967_295, 0xDEADBEEF, 1),
        )
        theirs = (
            bytes(RTP(version=2, payload_type=0, sequence=1000, timestamp=160, sourcesync=0x1234, sync=[1, 2])) + b"abc"
        )
        header, payload = decode_header(theirs)
        self.assertEqual((header, payload), (RtpHeader(0, 1000, 160, 0x1234), b"abc"))

    def test_padding_and_extension_are_not_payload(self) -> None:
        """RFC 3550 §5.1: the last octet counts the padding; §5.3.1: an extension has its length in words."""
        octets = bytes.fromhex("b0000001000000020000000300010001aabbccdd") + b"pay" + b"\0\0\3"
        self.assertEqual(decode_header(octets)[1], b"pay")

    def test_what_is_cut_short_is_refused(self) -> None:
        for octets in (
            b"",
            b"\x80" * 11,
            b"\x00" * 12,
            b"\x8f" + bytes(11),
            b"\x90" + bytes(11),
            b"\xa0" + bytes(10) + b"\xff",
        ):
            with self.assertRaises(NotRtp):
                decode_header(octets)


class TestPackets(unittest.TestCase):
    HEADER = RtpHeader(18, 7, 160, 0x1234)

    def test_as_long_as_the_speech_that_it_stands_for(self) -> None:
        self.assertEqual(len(encode_test(self.HEADER, 160)), 172)
        self.assertEqual(len(encode_test(self.HEADER, 20)), 32)

    def test_an_answer_is_as_long_as_its_question_and_says_when(self) -> None:
        question = encode_test(self.HEADER, 160)
        answer = encode_reflected(question, Reflected(1_700_000_000_123_456_789, 41_000, 9))
        self.assertEqual(len(answer), len(question))
        self.assertEqual(decode_answer(answer), (self.HEADER, Reflected(1_700_000_000_123_456_789, 41_000, 9)))

    def test_reflectors_do_not_answer_each_other(self) -> None:
        question = encode_test(self.HEADER, 160)
        self.assertEqual(decode_question(question), self.HEADER)
        with self.assertRaises(NotRtp):
            decode_question(encode_reflected(question, Reflected(1, 0, 0)))

    @given(st.binary(max_size=200))
    def test_anything_else_is_refused_and_nothing_worse(self, octets: bytes) -> None:
        for read in (decode_header, decode_question, decode_answer):
            try:
                read(octets)
            except NotRtp:
                continue

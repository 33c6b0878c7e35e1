"""Two-way test packets against an independent encoder (scapy), the standards' figures, and hostile octets."""

import unittest
from datetime import UTC, datetime

from hypothesis import given
from hypothesis import strategies as st
from scapy.contrib.stamp import STAMPSessionReflectorTestUnauthenticated, STAMPSessionSenderTestUnauthenticated

from kuppel.wire.ntp import from_ntp, to_ntp
from kuppel.wire.stamp import (
    AUTHENTICATED_OCTETS,
    PLAIN_OCTETS,
    ErrorEstimate,
    NotStamp,
    ReflectedPacket,
    SenderPacket,
    decode_reflected,
    decode_sender,
    encode_reflected,
    encode_sender,
)

NOW_NS = 1_790_000_000_123_456_789
KEY = b"a key of the lab"
KNOWN = ErrorEstimate(True, False, 20, 1)
MOMENTS = st.integers(NOW_NS - 10**18, NOW_NS + 10**18)


class Ntp(unittest.TestCase):
    def test_dates_of_rfc_5905(self) -> None:
        """RFC 5905 figure 4: seconds in their era (the last one is in era 1)."""
        for date, seconds in (("1970-01-01", 2_208_988_800), ("1972-01-01", 2_272_060_800), ("1999-12-31", 3_155_587_200),
                              ("2036-02-08", 63_104)):  # fmt: skip
            moment = datetime.fromisoformat(date).replace(tzinfo=UTC)
            self.assertEqual(to_ntp(int(moment.timestamp()) * 10**9) >> 32, seconds, date)

    @given(MOMENTS)
    def test_moments_come_back_across_the_eras(self, time_ns: int) -> None:
        self.assertEqual(from_ntp(to_ntp(time_ns), NOW_NS), time_ns)


class Layout(unittest.TestCase):
    """RFC 8762 figures 2, 3, 5 and 6."""

    def test_lengths(self) -> None:
        question = encode_sender(SenderPacket(7, NOW_NS, KNOWN), 0)
        self.assertEqual((len(question), PLAIN_OCTETS), (44, 44))
        self.assertEqual(len(encode_sender(SenderPacket(7, NOW_NS, KNOWN), 0, KEY)), AUTHENTICATED_OCTETS)
        self.assertEqual(AUTHENTICATED_OCTETS, 112)
        self.assertEqual(len(encode_sender(SenderPacket(7, NOW_NS, KNOWN), 1400)), 1400)

    def test_a_sender_as_scapy_reads_it(self) -> None:
        found = STAMPSessionSenderTestUnauthenticated(encode_sender(SenderPacket(77, NOW_NS, KNOWN), 0))
        self.assertEqual((found.seq, found.ssid), (77, 0))
        self.assertAlmostEqual(float(found.ts) - 2_208_988_800, NOW_NS / 1e9, places=5)
        self.assertEqual((found.err_estimate.S, found.err_estimate.Z, found.err_estimate.scale), (1, 0, 20))
        self.assertEqual(found.err_estimate.multiplier, 1)

    def test_a_reflector_as_scapy_reads_it(self) -> None:
        question = encode_sender(SenderPacket(77, NOW_NS, KNOWN), 60)
        sender = decode_sender(question, NOW_NS)
        answer = encode_reflected(ReflectedPacket(5, NOW_NS + 9_000, KNOWN, NOW_NS + 4_000, sender, 61), question)
        self.assertEqual(len(answer), 60)
        found = STAMPSessionReflectorTestUnauthenticated(answer[:PLAIN_OCTETS])
        self.assertEqual((found.seq, found.seq_sender, found.ttl_sender), (5, 77, 61))
        self.assertAlmostEqual(float(found.ts_rx) - 2_208_988_800, NOW_NS / 1e9, places=4)
        self.assertAlmostEqual(float(found.ts_sender) - 2_208_988_800, NOW_NS / 1e9, places=5)

    def test_fields_of_an_authenticated_answer_stand_where_the_figure_has_them(self) -> None:
        question = encode_sender(SenderPacket(0x01020304, NOW_NS, KNOWN), 0, KEY)
        sender = decode_sender(question, NOW_NS, KEY)
        answer = encode_reflected(ReflectedPacket(0x0A0B0C0D, NOW_NS, KNOWN, NOW_NS, sender, 9), question, KEY)
        self.assertEqual(answer[0:4].hex(), "0a0b0c0d")
        self.assertEqual(answer[4:16], bytes(12))
        self.assertEqual(answer[24:26].hex(), "9401")
        self.assertEqual(answer[48:52].hex(), "01020304")
        self.assertEqual((answer[72:74].hex(), answer[80], len(answer)), ("9401", 9, 112))

    def test_error_estimates(self) -> None:
        """RFC 4656 §4.1.2: multiplier × 2^(scale − 32) s; scale 20, multiplier 1 is 244.14 µs."""
        self.assertAlmostEqual(KNOWN.error_ns, 244_140.625)
        self.assertFalse(ErrorEstimate.of(None).is_synchronised)
        for error_ns in (0, 1, 250, 1e5, 3e8, 5e10):
            told = ErrorEstimate.of(error_ns)
            self.assertGreaterEqual(told.error_ns * (1 + 1e-12), error_ns)
            # Within a step of its eight bits; the least unit is 0.23 ns.
            self.assertLessEqual(told.error_ns, error_ns * 1.01 + 0.24)
            self.assertEqual(ErrorEstimate.decode(told.encode()), told)


class RoundTrip(unittest.TestCase):
    @given(st.integers(0, 2**32 - 1), MOMENTS, MOMENTS, MOMENTS, st.integers(0, 255), st.booleans(), st.integers(0, 1500))
    def test_what_was_sent_comes_back(
        self, sequence: int, sent: int, received: int, answered: int, ttl: int, is_signed: bool, size: int
    ) -> None:
        key = KEY if is_signed else None
        question = encode_sender(SenderPacket(sequence, sent, KNOWN), size, key)
        sender = decode_sender(question, NOW_NS, key)
        self.assertEqual(sender, SenderPacket(sequence, sent, KNOWN))
        made = ReflectedPacket(sequence ^ 1, answered, ErrorEstimate.of(None), received, sender, ttl)
        answer = encode_reflected(made, question, key)
        self.assertEqual(len(answer), len(question))
        self.assertEqual(decode_reflected(answer, NOW_NS, key), made)


class Hostile(unittest.TestCase):
    @given(st.binary(max_size=200), st.booleans())
    def test_any_octets_are_read_or_refused(self, octets: bytes, is_signed: bool) -> None:
        for decode in (decode_sender, decode_reflected):
            try:
                decode(octets, NOW_NS, KEY if is_signed else None)
            except NotStamp as error:
                self.assertTrue(str(error))
            else:
                self.assertGreaterEqual(len(octets), PLAIN_OCTETS)
                self.assertFalse(is_signed, "nobody guesses an HMAC")

    def test_a_changed_octet_does_not_fit_the_key(self) -> None:
        packet = bytearray(encode_sender(SenderPacket(7, NOW_NS, KNOWN), 0, KEY))
        decode_sender(bytes(packet), NOW_NS, KEY)
        for at in (0, 17, 50, 96, 111):
            packet[at] ^= 1
            with self.assertRaisesRegex(NotStamp, "HMAC"):
                decode_sender(bytes(packet), NOW_NS, KEY)
            packet[at] ^= 1
        with self.assertRaisesRegex(NotStamp, "HMAC"):
            decode_sender(bytes(packet), NOW_NS, b"another key")

"""SIP: the messages of RFC 3261 §24.2, and hostile octets."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kuppel.wire.sip import Dialogue, NotSip, Uri, decode_response, new_branch, offer

# RFC 3261 §24.2, F8 and F11 as far as they matter (from memory).
RINGING = (
    b"SIP/2.0 180 Ringing\r\n"
    b"Via: SIP/2.0/UDP pc33.atlanta.com;branch=z9hG4bKnashds8\r\n ;received=192.0.2.1\r\n"
    b"To: Bob <sip:bob@biloxi.com>;tag=a6c85cf\r\n"
    b"From: Alice <sip:alice@atlanta.com>;tag=1928301774\r\n"
    b"Call-ID: a84b4c76e66710\r\n"
    b"Contact: <sip:bob@192.0.2.4>\r\n"
    b"CSeq: 314159 INVITE\r\n"
    b"Content-Length: 0\r\n\r\n"
)


class Responses(unittest.TestCase):
    def test_the_standards_own_ringing(self) -> None:
        found = decode_response(RINGING)
        self.assertEqual((found.status, found.phrase, found.to_tag), (180, "Ringing", "a6c85cf"))
        self.assertEqual(found.headers["call-id"], "a84b4c76e66710")
        self.assertTrue(found.headers["via"].endswith("received=192.0.2.1"))

    def test_short_forms(self) -> None:
        """RFC 3261 §7.3.3."""
        found = decode_response(b"SIP/2.0 200 OK\r\nt: <sip:a@b>;tag=x\r\ni: 77\r\n\r\n")
        self.assertEqual((found.to_tag, found.headers["call-id"]), ("x", "77"))

    def test_a_request_is_no_response(self) -> None:
        for octets in (
            b"INVITE sip:bob@biloxi.com SIP/2.0\r\n\r\n",
            b"",
            b"SIP/2.0 20 OK\r\n\r\n",
            b"HTTP/1.1 200 OK\r\n\r\n",
        ):
            with self.assertRaises(NotSip):
                decode_response(octets)

    @given(st.one_of(st.binary(max_size=300), st.binary(max_size=200).map(lambda tail: b"SIP/2.0 200 " + tail)))
    def test_anything_else_is_refused_and_nothing_worse(self, octets: bytes) -> None:
        try:
            decode_response(octets)
        except NotSip:
            return


class Requests(unittest.TestCase):
    def test_what_a_request_must_hold(self) -> None:
        """RFC 3261 §8.1.1: To, From, CSeq, Call-ID, Max-Forwards, Via; the branch begins with z9hG4bK (§8.1.1.7)."""
        dialogue = Dialogue("sip:bridge@192.0.2.7", "192.0.2.1", 40_000)
        body = offer("192.0.2.1", 40_000, 0, 8000, "PCMU")
        text = dialogue.request("INVITE", 1, new_branch(), body=body).decode()
        head, _, rest = text.partition("\r\n\r\n")
        first, *lines = head.split("\r\n")
        self.assertEqual(first, "INVITE sip:bridge@192.0.2.7 SIP/2.0")
        headers = dict(line.split(": ", 1) for line in lines)
        self.assertLessEqual({"To", "From", "CSeq", "Call-ID", "Max-Forwards", "Via", "Contact"}, headers.keys())
        self.assertIn(";branch=z9hG4bK", headers["Via"])
        self.assertIn(";tag=", headers["From"])
        self.assertEqual((headers["CSeq"], int(headers["Content-Length"])), ("1 INVITE", len(rest.encode())))
        self.assertEqual(rest, body)
        # RFC 8866 §5: v, o, s, t and the stream, in this order.
        self.assertEqual("".join(line[0] for line in body.split("\r\n") if line), "vosctma")

    def test_addresses(self) -> None:
        self.assertEqual(Uri.parse("sip:bridge@[2001:db8::7]:5062"), Uri("bridge", "2001:db8::7", 5062))
        for text in ("bridge@192.0.2.7", "sip:", "sip:a@b:0", "sip:a@b:99999", "sip:a b@c", "sips:a@b"):
            with self.assertRaises(NotSip):
                Uri.parse(text)

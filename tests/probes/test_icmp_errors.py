"""What the kernel's error queue holds: parsed from its octets, in the registry's words, and from a real socket."""

import errno
import select
import socket
import struct
import time
import unittest
from collections.abc import Iterator

from scapy.contrib.mpls import MPLS
from scapy.layers.inet import icmpcodes
from scapy.layers.inet6 import ICMPv6DestUnreach

from kuppel.probes.kernel import icmp_errors
from kuppel.probes.kernel.icmp_errors import IcmpError, SentStamp, entries, time_to_live, want_errors

IP_RECVERR, V6_RECVERR = (socket.IPPROTO_IP, 11), (socket.IPPROTO_IPV6, 25)
# enum of include/uapi/linux/errqueue.h: SO_EE_ORIGIN_*
LOCAL, ICMP, ICMP6, TIMESTAMPING = 1, 2, 3, 4


def extended_error(
    number: int, origin: int, kind: int, code: int, info: int = 0, data: int = 0, offender: str = ""
) -> bytes:
    """struct sock_extended_err with the offender's socket address behind it, as the kernel lays them out."""
    head = struct.pack("=IBBBBII", number, origin, kind, code, 0, info, data)
    if not offender:
        return head
    if ":" in offender:
        return head + struct.pack("=HHI", socket.AF_INET6, 0, 0) + socket.inet_pton(socket.AF_INET6, offender) + bytes(4)
    return head + struct.pack("=HH", socket.AF_INET, 0) + socket.inet_pton(socket.AF_INET, offender) + bytes(8)


class Queue:
    """A socket with this in its error queue."""

    def __init__(self, *messages: tuple[bytes, list[tuple[int, int, bytes]]]) -> None:
        self._messages: Iterator[tuple[bytes, list[tuple[int, int, bytes]]]] = iter(messages)

    def recvmsg(self, _size: int, _ancillary: int, flags: int) -> tuple[bytes, list[tuple[int, int, bytes]], int, None]:
        assert flags == socket.MSG_ERRQUEUE
        try:
            quoted, ancillary = next(self._messages)
        except StopIteration:
            raise BlockingIOError from None
        return quoted, ancillary, 0, None


class Parsing(unittest.TestCase):
    def found(self, *messages: tuple[bytes, list[tuple[int, int, bytes]]], is_v6: bool = False) -> list[object]:
        return list(entries(Queue(*messages), is_v6=is_v6))  # type: ignore[arg-type]

    def one(
        self, data: bytes, *, is_v6: bool = False, quoted: bytes = b"", more: tuple[int, int, bytes] | None = None
    ) -> object:
        level = V6_RECVERR if is_v6 else IP_RECVERR
        ancillary = [(*level, data), *([more] if more else [])]
        (found,) = self.found((quoted, ancillary), is_v6=is_v6)
        return found

    def test_a_router_that_says_time_exceeded(self) -> None:
        """RFC 792: type 11, code 0. RFC 4443 §3.3: type 3, code 0."""
        ttl = (socket.IPPROTO_IP, 2, struct.pack("=i", 253))
        found = self.one(extended_error(113, ICMP, 11, 0, offender="192.0.2.1"), quoted=b"mine", more=ttl)
        assert isinstance(found, IcmpError)
        self.assertEqual((found.address, found.reply_ttl, found.quoted), ("192.0.2.1", 253, b"mine"))
        self.assertTrue(found.is_exceeded)
        self.assertFalse(found.is_unreachable or found.is_too_big)
        hops = (socket.IPPROTO_IPV6, 52, struct.pack("=i", 61))
        found = self.one(extended_error(113, ICMP6, 3, 0, offender="2001:db8::1"), is_v6=True, more=hops)
        assert isinstance(found, IcmpError)
        self.assertEqual((found.address, found.reply_ttl, found.is_exceeded), ("2001:db8::1", 61, True))

    def test_the_far_end_that_nobody_listens_on(self) -> None:
        for is_v6, origin, kind, code in ((False, ICMP, 3, 3), (True, ICMP6, 1, 4)):
            found = self.one(extended_error(111, origin, kind, code), is_v6=is_v6)
            assert isinstance(found, IcmpError)
            self.assertTrue(found.is_unreachable and found.is_port_unreachable)
            self.assertEqual((found.words, found.address), ("port unreachable", ""))

    def test_too_big_says_what_fits_from_a_router_and_from_the_own_uplink(self) -> None:
        """RFC 1191 §4: type 3, code 4 with the next hop's MTU; RFC 8201: type 2; EMSGSIZE of the own kernel."""
        for is_v6, origin, kind, code in ((False, ICMP, 3, 4), (True, ICMP6, 2, 0)):
            found = self.one(extended_error(errno.EMSGSIZE, origin, kind, code, info=1380, offender=""), is_v6=is_v6)
            assert isinstance(found, IcmpError)
            self.assertEqual((found.is_too_big, found.info), (True, 1380))
            own = self.one(extended_error(errno.EMSGSIZE, LOCAL, 0, 0, info=1492), is_v6=is_v6)
            assert isinstance(own, IcmpError)
            self.assertEqual((own.is_too_big, own.info, own.address), (True, 1492, ""))

    def test_labels_of_a_tunnel_are_read_behind_what_is_quoted(self) -> None:
        """RFC 4884 §7 (the structure, version 2) with RFC 4950 §3 (class 1, type 1); the label stack made by scapy."""
        stack = bytes(MPLS(label=16_021, cos=3, s=0, ttl=1)) + bytes(MPLS(label=24, cos=0, s=1, ttl=254))

        extension = struct.pack("!BBH", 0x20, 0, 0) + struct.pack("!HBB", 4 + len(stack), 1, 1) + stack
        quoted = bytes(128) + extension
        found = self.one(extended_error(113, ICMP, 11, 0, data=128, offender="192.0.2.1"), quoted=quoted)
        assert isinstance(found, IcmpError)
        self.assertEqual(found.labels, ("16021 (class 3, time to live 1)", "24 (class 0, time to live 254)"))

    def test_a_send_stamp_is_no_error(self) -> None:
        stamp = (socket.SOL_SOCKET, 37, struct.pack("=qqqqqq", 1_700_000_000, 123_456_789, 0, 0, 0, 0))
        found = self.one(extended_error(42, TIMESTAMPING, 0, 0, data=7), more=stamp)
        self.assertEqual(found, SentStamp(7, 1_700_000_000_123_456_789))

    def test_what_is_none_of_ours_is_passed_over(self) -> None:
        short = (b"", [(*IP_RECVERR, b"\0" * 15)])
        foreign = (b"", [(socket.SOL_SOCKET, 99, bytes(32))])
        unknown = (b"", [(*IP_RECVERR, extended_error(1, 6, 0, 0))])
        good = (b"", [(*IP_RECVERR, extended_error(113, ICMP, 3, 1, offender="192.0.2.9"))])
        found = self.found(short, foreign, unknown, good)
        self.assertEqual([one.words for one in found if isinstance(one, IcmpError)], ["host unreachable"])
        self.assertEqual(len(found), 1)

    def test_no_time_to_live_where_none_was_told(self) -> None:
        self.assertIsNone(time_to_live([]))
        self.assertIsNone(time_to_live([(socket.IPPROTO_IP, 2, b"\1")]))
        self.assertEqual(time_to_live([(socket.IPPROTO_IP, 2, struct.pack("=i", 64))]), 64)


class Words(unittest.TestCase):
    def test_codes_are_those_of_the_registry(self) -> None:
        """IANA "ICMP Type Numbers", type 3, and "ICMPv6 Parameters", type 1, as scapy has them."""
        registry = {
            False: {code: words.lower().replace("-", " ") for code, words in icmpcodes[3].items()},
            True: {code: words.lower() for code, words in ICMPv6DestUnreach().get_field("code").i2s.items()},
        }
        ours = {"no route": "no route to destination", "prohibited by a filter": "communication prohibited"}
        for is_v6, words in icmp_errors._WORDS.items():
            for code, told in words.items():
                official = set(registry[is_v6][code].split())
                self.assertLessEqual(set(ours.get(told, told).split()), official | {"prohibited"}, (is_v6, code))

    def test_a_code_without_words_is_told_by_its_numbers(self) -> None:
        error = IcmpError(False, 3, 14, 0, "192.0.2.1", None, (), None, b"")
        self.assertEqual(error.words, "ICMP 3, 14")


class FromTheKernel(unittest.TestCase):
    def test_a_closed_port_of_this_machine(self) -> None:
        """Through a real socket: the kernel's own answer to a datagram that nobody takes, with what it quotes."""
        for is_v6, address in ((False, "127.0.0.1"), (True, "::1")):
            family = socket.AF_INET6 if is_v6 else socket.AF_INET
            with socket.socket(family, socket.SOCK_DGRAM) as closed:
                closed.bind((address, 0))
                port = closed.getsockname()[1]
            with socket.socket(family, socket.SOCK_DGRAM) as sock:
                want_errors(sock, is_v6=is_v6, dscp=46)
                sock.connect((address, port))
                before_ns = time.time_ns()
                sock.send(b"anybody there?")
                poll = select.poll()
                poll.register(sock, select.POLLERR)
                found: list[IcmpError] = []
                deadline = time.monotonic() + 5
                while not found and time.monotonic() < deadline:
                    poll.poll(100)
                    found = [one for one in entries(sock, is_v6=is_v6) if isinstance(one, IcmpError)]
            (error,) = found
            self.assertTrue(error.is_port_unreachable)
            self.assertEqual((error.address, error.quoted), (address, b"anybody there?"))
            self.assertEqual(error.reply_ttl, 64)
            if error.stamp_ns is not None:
                self.assertTrue(before_ns - 1_000_000 <= error.stamp_ns <= time.time_ns() + 1_000_000)


if __name__ == "__main__":
    unittest.main()

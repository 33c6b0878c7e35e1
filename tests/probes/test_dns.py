"""Names: our questions to a resolver made of another library (dnslib), and resolvers that misbehave."""

import asyncio
import random
import socket
import threading
import unittest
from collections.abc import Callable
from typing import Any

from dnslib import AAAA, MX, QTYPE, RCODE, RR, TXT, A, DNSRecord
from hypothesis import given
from hypothesis import strategies as st

from kuppel.core.error import SettingsError
from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.kernel.network import KernelNet
from kuppel.probes.net import Binding, NameQuery, NameReply, NetError
from kuppel.probes.registry import KINDS
from tests.probes.simulated import SimulatedNet

NAME = "booking.skerry.example"
Answering = Callable[[DNSRecord], DNSRecord | bytes | None]


def answered(request: DNSRecord, *records: RR, code: str = "NOERROR", **flags: int) -> DNSRecord:
    reply = request.reply()
    reply.header.rcode = getattr(RCODE, code)
    for name, value in flags.items():
        setattr(reply.header, name, value)
    for one in records:
        reply.add_answer(one)
    return reply


def addresses(request: DNSRecord) -> DNSRecord:
    return answered(
        request, RR(NAME, QTYPE.A, rdata=A("192.0.2.9"), ttl=300), RR(NAME, QTYPE.A, rdata=A("192.0.2.7"), ttl=60)
    )


class Resolver:
    """Answers by UDP and by TCP on one port; a function makes each answer, None gives none."""

    def __init__(self, by_udp: Answering, by_tcp: Answering | None = None) -> None:
        self._by_udp, self._by_tcp = by_udp, by_tcp or by_udp
        self._udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._udp.bind(("127.0.0.1", 0))
        self.port = self._udp.getsockname()[1]
        self._tcp = socket.create_server(("127.0.0.1", self.port))
        self.asked: list[tuple[str, DNSRecord]] = []
        for serve in (self._serve_udp, self._serve_tcp):
            threading.Thread(target=serve, daemon=True).start()

    def close(self) -> None:
        self._udp.close()
        self._tcp.close()

    def _serve_udp(self) -> None:
        while True:
            try:
                octets, peer = self._udp.recvfrom(65_535)
            except OSError:
                return
            made = self._made("udp", octets, self._by_udp)
            if made is not None:
                self._udp.sendto(made, peer)

    def _serve_tcp(self) -> None:
        while True:
            try:
                sock, _ = self._tcp.accept()
            except OSError:
                return
            with sock:
                size = int.from_bytes(sock.recv(2), "big")
                made = self._made("tcp", sock.recv(size), self._by_tcp)
                if made is not None:
                    sock.sendall(len(made).to_bytes(2, "big") + made)

    def _made(self, how: str, octets: bytes, answer: Answering) -> bytes | None:
        request = DNSRecord.parse(octets)
        self.asked.append((how, request))
        made = answer(request)
        return made.pack() if isinstance(made, DNSRecord) else made


class NamesCase(unittest.TestCase):
    def setUp(self) -> None:
        self.net = KernelNet()
        self.addCleanup(self.net.close)

    def resolver(self, by_udp: Answering, by_tcp: Answering | None = None) -> Resolver:
        resolver = Resolver(by_udp, by_tcp)
        self.addCleanup(resolver.close)
        return resolver

    def run_probe(self, resolver: Resolver, **settings: Any) -> Observation:
        kind = KINDS["dns"]
        told = {"resolver": "127.0.0.1", "port": resolver.port, "name": NAME, "timeout_ms": 400} | settings
        return asyncio.run(kind.attempt(kind.parse(told), self.net, Binding()))

    def failure(self, resolver: Resolver, **settings: Any) -> tuple[Reason | None, str]:
        try:
            found = self.run_probe(resolver, **settings)
        except NetError as error:
            return error.reason, error.note
        return found.reason, found.note


class Answers(NamesCase):
    def test_addresses_with_time_number_and_ttl(self) -> None:
        resolver = self.resolver(addresses)
        found = self.run_probe(resolver)
        self.assertIsNone(found.reason)
        self.assertEqual((found.quantities["answers"], found.quantities["ttl"]), (2, 60))
        self.assertTrue(0 < found.quantities["lookup"] < 400)
        self.assertEqual(found.facts, {"resolver": "127.0.0.1", "answers": "192.0.2.7, 192.0.2.9"})
        self.assertEqual((found.detail["transport"], found.detail["code"]), ("udp", "NOERROR"))
        ((_, asked),) = resolver.asked
        self.assertEqual((str(asked.q.qname), asked.header.rd), (f"{NAME}.", 1))

    def test_other_types_and_the_end_of_a_chain(self) -> None:
        def by_type(request: DNSRecord) -> DNSRecord:
            kind = QTYPE[request.q.qtype]
            data = {"AAAA": AAAA("2001:db8::7"), "MX": MX("mail.skerry.example", 10), "TXT": TXT("v=spf1 -all")}[kind]
            return answered(request, RR(NAME, request.q.qtype, rdata=data, ttl=5))

        resolver = self.resolver(by_type)
        for kind, told in (("AAAA", "2001:db8::7"), ("MX", "10 mail.skerry.example"), ("TXT", '"v=spf1 -all"')):
            self.assertEqual(self.run_probe(resolver, type=kind).facts["answers"], told)
        self.assertIsNone(self.run_probe(resolver, type="MX", expect_answers=["10 Mail.Skerry.Example."]).reason)
        self.assertEqual(self.failure(resolver, type="TXT", expect_answers=['"V=SPF1 -all"'])[0], Reason.UNEXPECTED_ANSWER)
        chain = self.resolver(
            lambda request: answered(
                request,
                *RR.fromZone(f"{NAME} 60 CNAME front.skerry.example\nfront.skerry.example 30 A 192.0.2.7"),
            )
        )
        self.assertEqual(self.run_probe(chain).facts["answers"], "192.0.2.7")

    def test_an_answer_cut_short_is_asked_for_again_by_tcp(self) -> None:
        """RFC 7766 §5: a truncated answer by UDP is repeated by TCP."""
        resolver = self.resolver(lambda request: answered(request, tc=1), addresses)
        found = self.run_probe(resolver)
        self.assertEqual(([how for how, _ in resolver.asked], found.detail["transport"]), (["udp", "tcp"], "tcp"))
        self.assertEqual(found.quantities["answers"], 2)
        resolver.asked.clear()
        self.assertEqual(self.run_probe(resolver, transport="udp").quantities["answers"], 0)
        self.run_probe(resolver, transport="tcp")
        self.assertEqual([how for how, _ in resolver.asked], ["udp", "tcp"])

    def test_what_was_expected(self) -> None:
        resolver = self.resolver(addresses)
        self.assertIsNone(self.run_probe(resolver, expect_answers=["192.0.2.9", "192.0.2.7"]).reason)
        reason, note = self.failure(resolver, expect_answers=["192.0.2.7"])
        self.assertEqual(reason, Reason.UNEXPECTED_ANSWER)
        self.assertIn("192.0.2.7, 192.0.2.9; expected 192.0.2.7", note)
        missing = self.resolver(lambda request: answered(request, code="NXDOMAIN"))
        self.assertEqual(self.failure(missing), (Reason.RESPONSE_CODE, "NXDOMAIN, expected NOERROR"))
        self.assertIsNone(self.run_probe(missing, expect_code="NXDOMAIN").reason)
        self.assertEqual(self.run_probe(missing, expect_code="nxdomain").facts["answers"], "NXDOMAIN")

    def test_signatures_are_the_resolvers_word(self) -> None:
        """RFC 4035 §3.2.3: AD says that the resolver checked; DO (RFC 3225) asks for it."""
        checked = self.resolver(lambda request: answered(request, RR(NAME, rdata=A("192.0.2.7")), ad=1))
        found = self.run_probe(checked, is_signed=True)
        self.assertEqual((found.reason, found.facts["signatures"]), (None, "checked by the resolver"))
        self.assertTrue(any(one.rtype == QTYPE.OPT and one.edns_do for one in checked.asked[0][1].ar))
        self.assertEqual(self.failure(self.resolver(addresses), is_signed=True)[0], Reason.UNEXPECTED_ANSWER)

    def test_without_recursion(self) -> None:
        resolver = self.resolver(addresses)
        self.run_probe(resolver, is_recursive=False)
        self.assertEqual(resolver.asked[0][1].header.rd, 0)


class Misbehaving(NamesCase):
    def test_a_resolver_that_never_answers(self) -> None:
        self.assertEqual(self.failure(self.resolver(lambda _: None))[0], Reason.NAME_TIMEOUT)
        self.assertIn(
            self.failure(self.resolver(lambda _: None), transport="tcp")[0], (Reason.NAME_TIMEOUT, Reason.CONNECTION_RESET)
        )

    def test_nobody_there(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.bind(("127.0.0.1", 0))
            port = sock.getsockname()[1]
        settings = KINDS["dns"].parse({"resolver": "127.0.0.1", "port": port, "name": NAME, "timeout_ms": 400})
        with self.assertRaises(NetError) as caught:
            asyncio.run(KINDS["dns"].attempt(settings, self.net, Binding()))
        self.assertEqual(caught.exception.reason, Reason.CONNECTION_REFUSED)

    def test_an_octet_now_and_then_is_late_as_a_whole(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as server:

            def drip() -> None:
                sock, _ = server.accept()
                with sock:
                    for _ in range(40):
                        try:
                            sock.send(b"\1")
                        except OSError:
                            return
                        threading.Event().wait(0.05)

            threading.Thread(target=drip, daemon=True).start()
            kind = KINDS["dns"]
            settings = kind.parse(
                {
                    "resolver": "127.0.0.1",
                    "port": server.getsockname()[1],
                    "name": NAME,
                    "transport": "tcp",
                    "timeout_ms": 300,
                }
            )
            with self.assertRaises(NetError) as caught:
                asyncio.run(kind.attempt(settings, self.net, Binding()))
        self.assertEqual(caught.exception.reason, Reason.NAME_TIMEOUT)

    def test_octets_and_answers_to_other_questions(self) -> None:
        """A forged answer must have the number; one that has it and answers another question is told as such."""
        generator = random.Random(6)

        def other_name(request: DNSRecord) -> DNSRecord:
            reply = DNSRecord.question("elsewhere.example").reply()
            reply.header.id = request.header.id
            return reply

        self.assertEqual(self.failure(self.resolver(other_name))[0], Reason.PROTOCOL_ERROR)
        for size in (2, 5, 12, 60):
            junk = self.resolver(
                lambda request, size=size: request.header.id.to_bytes(2, "big") + generator.randbytes(size)
            )  # type: ignore[misc]
            self.assertEqual(self.failure(junk)[0], Reason.PROTOCOL_ERROR)
        wrong_number = self.resolver(lambda request: (request.header.id ^ 1).to_bytes(2, "big") + bytes(30))
        self.assertEqual(self.failure(wrong_number)[0], Reason.NAME_TIMEOUT)

    @given(st.binary(max_size=120))
    def test_any_octets_are_read_or_refused(self, octets: bytes) -> None:
        kind = KINDS["dns"]

        def answer(query: NameQuery) -> NameReply:
            return NameReply(query.message[:2] + octets, 1000, "192.0.2.1")

        try:
            found = asyncio.run(
                kind.attempt(kind.parse({"resolver": "192.0.2.53", "name": NAME}), SimulatedNet(on_query=answer), Binding())
            )
        except NetError as error:
            self.assertEqual(error.reason, Reason.PROTOCOL_ERROR)
        else:
            self.assertIsInstance(found, Observation)

    def test_settings_that_cannot_be(self) -> None:
        for wrong, field in (
            ({"name": "a" * 64 + ".example"}, "settings.name"),
            ({"name": "two..dots.example"}, "settings.name"),
            ({"type": "ANY"}, "settings.type"),
            ({"expect_code": "FINE"}, "settings.expect_code"),
        ):
            with self.assertRaises(SettingsError) as caught:
                KINDS["dns"].parse({"resolver": "192.0.2.53", "name": NAME} | wrong)
            self.assertEqual(caught.exception.field, field)

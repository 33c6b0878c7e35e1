"""What holds for every kind, and runs on a network that is not there."""

import itertools
import unittest

from kuppel.core.error import SettingsError
from kuppel.core.quantity import QUANTITIES
from kuppel.core.reason import Reason
from kuppel.core.result import Result
from kuppel.core.sentence import StreamReading, stream_sentence
from kuppel.core.state import State
from kuppel.hub.engine import estate
from kuppel.probes.kind import Kind
from kuppel.probes.net import Binding, Connection, EchoPacket, EchoReport, Exchange, NetError, Phases, Request
from kuppel.probes.registry import KINDS, kind_named
from kuppel.probes.repetition import run_probe
from tests.probes.simulated import SimulatedNet

MS = 1_000_000


async def run(kind: Kind, settings: dict[str, object], net: SimulatedNet, attempts: int = 1) -> Result:
    parsed = kind.parse(settings)
    return await run_probe(kind, parsed, net, binding=Binding(), attempts=attempts, attempt_gap_us=500_000)


class EveryKind(unittest.TestCase):
    def test_each_has_words_units_and_a_place_in_the_matrix(self) -> None:
        for kind in KINDS.values():
            reading = StreamReading("A", "b", kind.name, State.FINE, kind.main, 5.0, 1, {}, None, ())
            self.assertNotIn("measures", stream_sentence(reading), kind.name)
            self.assertLessEqual({kind.main, *kind.phases}, set(kind.quantities))
            self.assertLessEqual(set(kind.quantities), set(QUANTITIES))
            self.assertIn(kind.name, estate.KIND_ORDER)

    def test_they_are_found_by_their_modules(self) -> None:
        self.assertEqual(set(KINDS), set(estate.KIND_ORDER))

    def test_their_settings_explain_themselves(self) -> None:
        """The form and the command line are made from the settings: each field needs a sentence."""
        for kind in KINDS.values():
            for name, field in kind.settings.model_fields.items():
                self.assertTrue(field.description, f"{kind.name}.{name}")

    def test_their_quantities_are_known_and_hold_the_main_one(self) -> None:
        for kind in KINDS.values():
            self.assertIn(kind.main, kind.quantities)
            self.assertLessEqual({*kind.quantities, *kind.phases}, QUANTITIES.keys())

    def test_unknown_kind_and_bad_settings_name_field_value_and_remedy(self) -> None:
        with self.assertRaises(SettingsError) as raised:
            kind_named("smoke")
        self.assertEqual((raised.exception.field, raised.exception.value), ("kind", "smoke"))
        self.assertIn("icmp", raised.exception.must)
        for kind, settings, field in (
            ("icmp", {"host": "192.0.2.1", "count": 0}, "settings.count"),
            ("icmp", {"host": "two words"}, "settings.host"),
            ("icmp", {"host": "192.0.2.1", "dscp": 64}, "settings.dscp"),
            ("tcp", {"host": "192.0.2.1"}, "settings.port"),
            ("http", {"url": "ftp://example/"}, "settings.url"),
            ("http", {"url": "http://example/", "headers": {"X": "a\r\nInjected: yes"}}, "settings.headers"),
            ("http", {"url": "http://example/", "expect_status": ["900"]}, "settings.expect_status.0"),
            ("http", {"url": "http://example/", "speed": 1}, "settings.speed"),
        ):
            with self.assertRaises(SettingsError) as raised:
                KINDS[kind].parse(settings)
            self.assertEqual(raised.exception.field, field)


class Repetition(unittest.IsolatedAsyncioTestCase):
    def net(self, answers: list[Reason | None]) -> SimulatedNet:
        net = SimulatedNet()

        def connect(_address: str, _port: int) -> Connection:
            reason = answers.pop(0)
            net.clock.now_us += 20_000
            if reason is not None:
                raise NetError(reason, "simulated")
            return Connection(20_000, 18_000, "192.0.2.1", "192.0.2.7")

        net.on_connect = connect
        return net

    async def test_the_first_good_attempt_is_the_result_and_every_one_is_kept(self) -> None:
        net = self.net([Reason.CONNECT_TIMEOUT, Reason.CONNECTION_RESET, None])
        result = await run(KINDS["tcp"], {"host": "x", "port": 7}, net, attempts=3)
        self.assertTrue(result.is_ok)
        self.assertEqual([one.reason for one in result.attempts], [Reason.CONNECT_TIMEOUT, Reason.CONNECTION_RESET, None])
        starts = [one.started_us for one in result.attempts]
        self.assertEqual([after - before for before, after in itertools.pairwise(starts)], [520_000, 520_000])
        self.assertEqual(result.quantities["connect"], 20.0)

    async def test_it_fails_with_the_last_reason_when_none_is_good(self) -> None:
        net = self.net([Reason.CONNECT_TIMEOUT, Reason.CONNECTION_REFUSED])
        result = await run(KINDS["tcp"], {"host": "x", "port": 7}, net, attempts=2)
        self.assertEqual(result.reason, Reason.CONNECTION_REFUSED)
        self.assertEqual(len(result.attempts), 2)

    async def test_a_fault_of_the_agent_is_not_told_as_the_networks(self) -> None:
        net = SimulatedNet(on_connect=lambda _address, _port: 1 // 0)  # type: ignore[arg-type, return-value]
        result = await run(KINDS["tcp"], {"host": "x", "port": 7}, net)
        self.assertEqual(result.reason, Reason.AGENT_ERROR)
        self.assertIn("ZeroDivisionError", result.attempts[0].note)


class Reach(unittest.IsolatedAsyncioTestCase):
    def train(self, trips_ms: list[float | None]) -> SimulatedNet:
        packets = tuple(
            EchoPacket(n * 200 * MS, None if trip is None else n * 200 * MS + round(trip * MS))
            for n, trip in enumerate(trips_ms)
        )
        return SimulatedNet(on_icmp=lambda _train: EchoReport(packets, "kernel"))

    async def test_quantities_of_a_train_with_a_loss(self) -> None:
        """The sample of RFC 7679 §5 (100, 110, lost, 90, 500 ms) as a train."""
        result = await run(KINDS["icmp"], {"host": "x"}, self.train([100, 110, None, 90, 500]))
        self.assertTrue(result.is_ok)
        measured = result.quantities
        self.assertEqual(
            (measured["rtt_min"], measured["rtt"], measured["rtt_max"], measured["rtt_mean"]), (90, 100, 500, 200)
        )
        self.assertEqual((measured["sent"], measured["lost"], measured["loss_ratio"]), (5, 1, 0.2))
        # RFC 3393 with RFC 5481 §6.2: the loss leaves 110-100 and 500-90.
        self.assertEqual(measured["ipdv"], (10 + 410) / 2)
        self.assertEqual(result.detail["round_trips_us"], [100_000, 110_000, None, 90_000, 500_000])

    async def test_all_lost_is_a_failure_with_its_loss(self) -> None:
        result = await run(KINDS["icmp"], {"host": "x"}, self.train([None, None]))
        self.assertEqual(result.reason, Reason.NO_REPLY)
        self.assertEqual(result.quantities["loss_ratio"], 1)
        self.assertNotIn("rtt", result.quantities)

    async def test_an_unreachable_address_is_told_as_such(self) -> None:
        report = EchoReport((EchoPacket(0, None),), "kernel", "host unreachable")
        result = await run(KINDS["icmp"], {"host": "x"}, SimulatedNet(on_icmp=lambda _train: report))
        self.assertEqual((result.reason, result.attempts[0].note), (Reason.NO_ROUTE, "host unreachable"))


class Fetch(unittest.IsolatedAsyncioTestCase):
    PHASES = Phases(1000, 20_000, 40_000, 100_000, 5000)

    def answer(self, status: int = 200, location: str = "", body: bytes = b"hello") -> Exchange:
        headers = (("Location", location),) if location else ()
        return Exchange(status, "HTTP/2", headers, body, len(body), self.PHASES, "192.0.2.7", "192.0.2.1")

    async def test_phases_of_redirects_add_up(self) -> None:
        answers = [self.answer(302, "/next"), self.answer()]
        net = SimulatedNet(on_fetch=lambda _request: answers.pop(0))
        result = await run(KINDS["http"], {"url": "https://a.example/"}, net)
        phases = {name: result.quantities[name] for name in KINDS["http"].phases}
        self.assertEqual(phases, {"name_lookup": 2, "connect": 40, "tls": 80, "first_byte": 200, "transfer": 10})
        self.assertEqual(sum(phases.values()), result.quantities["total"])
        self.assertEqual(result.quantities["ttfb"], 322)
        self.assertEqual(result.quantities["redirects"], 1)

    async def test_credentials_stay_with_the_first_host(self) -> None:
        """RFC 9110 §15.4: a redirect to another host must not carry Authorization or Cookie along."""
        answers = [self.answer(302, "https://other.example/"), self.answer()]
        net = SimulatedNet(on_fetch=lambda _request: answers.pop(0))
        headers = {"Authorization": "Bearer x", "Accept": "text/html"}
        await run(KINDS["http"], {"url": "https://a.example/", "headers": headers}, net)
        first, second = (one for one in net.asked if isinstance(one, Request))
        self.assertEqual(dict(first.headers), headers)
        self.assertEqual(dict(second.headers), {"Accept": "text/html"})

    async def test_post_becomes_get_after_303(self) -> None:
        """RFC 9110 §15.4.4."""
        answers = [self.answer(303, "/done"), self.answer()]
        net = SimulatedNet(on_fetch=lambda _request: answers.pop(0))
        await run(KINDS["http"], {"url": "https://a.example/", "method": "POST", "body": "x"}, net)
        requests = [one for one in net.asked if isinstance(one, Request)]
        self.assertEqual([(one.method, one.body) for one in requests], [("POST", b"x"), ("GET", b"")])

    async def test_too_many_redirects(self) -> None:
        net = SimulatedNet(on_fetch=lambda _request: self.answer(301, "/again"))
        result = await run(KINDS["http"], {"url": "https://a.example/", "redirects": 3}, net)
        self.assertEqual(result.reason, Reason.TOO_MANY_REDIRECTS)
        self.assertEqual(len([one for one in net.asked if isinstance(one, Request)]), 4)

    async def test_a_quick_error_page_is_no_quick_answer(self) -> None:
        net = SimulatedNet(on_fetch=lambda _request: self.answer(503))
        result = await run(KINDS["http"], {"url": "https://a.example/"}, net)
        self.assertEqual(result.reason, Reason.UNEXPECTED_STATUS)
        self.assertNotIn("total", result.quantities)
        self.assertEqual(result.detail["timings_ms"]["total"], 166)

    async def test_expected_text(self) -> None:
        net = SimulatedNet(on_fetch=lambda _request: self.answer())
        good = await run(KINDS["http"], {"url": "https://a.example/", "expect_text": "ell"}, net)
        bad = await run(KINDS["http"], {"url": "https://a.example/", "expect_text": "Next sailing"}, net)
        self.assertEqual((good.reason, bad.reason), (None, Reason.UNEXPECTED_TEXT))

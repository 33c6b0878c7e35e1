"""The made-up world: stand-ins that do what they are told, and a scenario that is the same for the same seed."""

import asyncio
import socket
import ssl
import statistics
import time
import unittest
from typing import ClassVar

from cryptography import x509
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from kuppel.core.duration import HOUR_US, MINUTE_US
from kuppel.core.limit import Limit
from kuppel.core.quantity import QUANTITIES
from kuppel.lab import history, scenario
from kuppel.lab.authority import Authority
from kuppel.lab.scenario import POINTS, PROBES, SERVICES, draw, normal, treatment
from kuppel.lab.services import TcpService, Treatment, WebService, same_for_all, server_context
from kuppel.probes.registry import kind_named

BEGUN_US = 1_790_000_000_000_000


class Certificates(unittest.TestCase):
    def test_openssl_accepts_the_name_and_refuses_another(self) -> None:
        """By the standard library's TLS, RFC 5280 path validation and RFC 6125 names."""
        authority = Authority()
        credential = authority.issue(["booking.skerry.example", "127.0.0.1"])
        client = ssl.create_default_context(cadata=authority.certificate)
        self.assertEqual(self.handshake(client, credential, "booking.skerry.example"), "TLSv1.3")
        self.assertEqual(self.handshake(client, credential, "127.0.0.1"), "TLSv1.3")
        with self.assertRaises(ssl.SSLCertVerificationError):
            self.handshake(client, credential, "gates.skerry.example")

    def test_an_expired_one_is_refused(self) -> None:
        authority = Authority()
        client = ssl.create_default_context(cadata=authority.certificate)
        with self.assertRaisesRegex(ssl.SSLCertVerificationError, "expired"):
            self.handshake(client, authority.issue(["a.example"], days=-1, since_days=9), "a.example")

    def test_its_dates_are_the_wanted_ones(self) -> None:
        leaf = x509.load_pem_x509_certificate(Authority().issue(["a.example"], days=71, since_days=19).certificate.encode())
        self.assertEqual((leaf.not_valid_after_utc - leaf.not_valid_before_utc).days, 90)

    @staticmethod
    def handshake(client: ssl.SSLContext, credential: object, name: str) -> str | None:
        """Both ends in memory: no socket, no thread."""
        to_server, to_client = ssl.MemoryBIO(), ssl.MemoryBIO()
        server = server_context(credential).wrap_bio(to_server, to_client, server_side=True)  # type: ignore[arg-type]
        near = client.wrap_bio(to_client, to_server, server_hostname=name)
        for _ in range(6):
            for side in (near, server):
                try:
                    side.do_handshake()
                except ssl.SSLWantReadError:
                    continue
        return near.version()


class Services(unittest.IsolatedAsyncioTestCase):
    async def ask(self, service: WebService, source: str = "127.0.0.1", method: str = "GET") -> tuple[bytes, float]:
        begun = time.monotonic()
        reader, writer = await asyncio.open_connection(service.host, service.port, local_addr=(source, 0))
        writer.write(f"{method} /gate HTTP/1.1\r\nHost: gates.skerry.example\r\n\r\n".encode())
        answer = await asyncio.wait_for(reader.read(), 5)
        writer.close()
        return answer, time.monotonic() - begun

    async def test_each_client_is_treated_as_told(self) -> None:
        def treat(client: str, path: str) -> Treatment:
            return Treatment(status=503 if client == "127.0.0.9" else 200, body=path.encode())

        async with WebService(treat=treat) as service:
            near, _ = await self.ask(service)
            far, _ = await self.ask(service, "127.0.0.9")
        self.assertTrue(near.startswith(b"HTTP/1.1 200"))
        self.assertTrue(near.endswith(b"/gate"))
        self.assertTrue(far.startswith(b"HTTP/1.1 503"))

    async def test_delay_and_cut_and_loss(self) -> None:
        async with WebService(treat=same_for_all(Treatment(delay_s=0.15))) as service:
            _, took = await self.ask(service)
            self.assertGreaterEqual(took, 0.15)
        async with WebService(treat=same_for_all(Treatment(body=b"half", is_cut=True))) as service:
            answer, _ = await self.ask(service)
            self.assertIn(b"Content-Length: 8", answer)
            self.assertTrue(answer.endswith(b"half"))
        async with WebService(treat=same_for_all(Treatment(is_lost=True))) as service:
            reader, writer = await asyncio.open_connection(service.host, service.port)
            writer.write(b"GET / HTTP/1.1\r\nHost: a.example\r\n\r\n")
            with self.assertRaises(TimeoutError):
                await asyncio.wait_for(reader.read(), 0.3)
            writer.close()

    async def test_head_has_headers_alone(self) -> None:
        """RFC 9110 §9.3.2: the answer to HEAD has no content."""
        async with WebService() as service:
            answer, _ = await self.ask(service, method="HEAD")
        self.assertTrue(answer.endswith(b"\r\n\r\n"))

    async def test_a_gate_that_refuses_and_comes_back_on_its_port(self) -> None:
        async with TcpService() as gate:
            port = gate.port
            await gate.refuse()
            with socket.socket() as sock:
                self.assertNotEqual(await asyncio.to_thread(sock.connect_ex, ("127.0.0.1", port)), 0)
            await gate.listen()
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            self.assertEqual(await reader.readline(), b"gate ready\r\n")
            writer.close()


class Draws(unittest.TestCase):
    def test_they_are_uniform_and_normal(self) -> None:
        """Kolmogorov–Smirnov against scipy's distributions; the seed is fixed, so this cannot fail by chance."""
        self.assertGreater(stats.kstest([draw("seed", n) for n in range(20_000)], "uniform").pvalue, 0.001)
        self.assertGreater(stats.kstest([normal("seed", n) for n in range(20_000)], "norm").pvalue, 0.001)

    @given(st.integers(), st.text())
    def test_the_same_seed_gives_the_same_world(self, number: int, word: str) -> None:
        self.assertEqual(draw(number, word), draw(number, word))
        self.assertTrue(0 <= draw(number, word) < 1)


class Scenario(unittest.TestCase):
    services: ClassVar = {one.name: one for one in SERVICES}
    points: ClassVar = {one.name: one for one in POINTS}

    def delays(self, point: str, from_us: int, service: str = "booking site") -> float:
        """Median delay over ten minutes, in ms."""
        times = range(from_us, from_us + 10 * MINUTE_US, 5_000_000)
        found = [treatment(self.services[service], self.points[point], one, BEGUN_US).delay_s for one in times]
        return statistics.median(found) * 1000

    def test_quillnet_is_slow_in_its_rhythm_and_nobody_else(self) -> None:
        during, before = BEGUN_US - 20 * MINUTE_US, BEGUN_US - 60 * MINUTE_US
        self.assertGreater(self.delays("Lundhavn", during) - self.delays("Lundhavn", before), 120)
        self.assertLess(abs(self.delays("Brannick", during) - self.delays("Brannick", before)), 15)

    def test_the_api_errs_for_all_and_the_site_for_nobody(self) -> None:
        times = range(BEGUN_US - 200 * MINUTE_US, BEGUN_US - 170 * MINUTE_US, 20_000_000)
        for point in POINTS:
            statuses = [treatment(self.services["booking API"], point, one, BEGUN_US).status for one in times]
            self.assertAlmostEqual(statuses.count(503) / len(statuses), 0.7, delta=0.17)
            self.assertEqual(
                {treatment(self.services["booking site"], point, one, BEGUN_US).status for one in times}, {200}
            )

    def test_history_is_what_the_live_stand_ins_would_do(self) -> None:
        plan = next(one for one in PROBES if one.name == "sailings API")
        service, point = self.services["booking API"], self.points["North"]
        results = list(history.generate(plan, service, point, BEGUN_US - 4 * HOUR_US, BEGUN_US, BEGUN_US, {}))
        self.assertEqual(len(results), 4 * 3600 // 20)
        for one in results:
            treated = treatment(service, point, one.started_us, BEGUN_US)
            if treated.is_lost or treated.status != 200:
                self.assertIsNotNone(one.attempts[0].reason)
            else:
                self.assertIsNone(one.reason)
                self.assertAlmostEqual(one.quantities["first_byte"], treated.delay_s * 1000, delta=6)

    def test_a_silent_ship_has_no_history_meanwhile(self) -> None:
        plan = next(one for one in PROBES if one.name == "gate controller")
        results = history.generate(
            plan, self.services["ticket gates"], self.points["MV Fulmar"], BEGUN_US - 10 * HOUR_US, BEGUN_US, BEGUN_US, {}
        )
        times = [one.started_us for one in results]
        self.assertFalse([one for one in times if BEGUN_US - 9 * HOUR_US <= one < BEGUN_US - 7 * HOUR_US])
        self.assertTrue([one for one in times if one < BEGUN_US - 9 * HOUR_US])

    def test_generated_results_are_what_their_kind_may_yield(self) -> None:
        for plan in PROBES:
            if not plan.has_history:
                continue
            kind = kind_named(plan.kind)
            for name in plan.points:
                service, point = self.services[plan.service], self.points[name]
                for one in history.generate(plan, service, point, BEGUN_US - 3 * HOUR_US, BEGUN_US, BEGUN_US, {}):
                    self.assertLessEqual(set(one.quantities), set(kind.quantities))
                    self.assertTrue(one.reason is None or one.reason in kind.reasons)
                    if kind.phases and one.is_ok:
                        phases = sum(one.quantities.get(phase, 0.0) for phase in kind.phases)
                        self.assertAlmostEqual(phases, one.quantities["total"], places=6)

    def test_limits_of_the_demo_are_of_quantities_that_its_probes_measure(self) -> None:
        for plan in PROBES:
            for limit in plan.limits:
                self.assertIsInstance(limit, Limit)
                self.assertIn(limit.quantity, kind_named(plan.kind).quantities)
                self.assertIn(limit.quantity, QUANTITIES)

    def test_addresses_and_names_are_made_up(self) -> None:
        """RFC 2606 names; sources and services on loopback (RFC 1122 §3.2.1.3)."""
        self.assertTrue(all(one.host_name.endswith(".example") for one in SERVICES if one.kind != "machine"))
        self.assertTrue(all(one.source.startswith("127.0.") for one in POINTS))
        self.assertTrue(min(map(scenario.busy_share, range(0, 24 * HOUR_US, HOUR_US))) >= 0)


if __name__ == "__main__":
    unittest.main()

"""The real network on loopback: kernel sockets and libcurl against the lab's stand-ins."""

import asyncio
import contextlib
import socket
import statistics
import time
import unittest

from kuppel.core.reason import Reason
from kuppel.core.result import Result
from kuppel.lab.authority import Authority
from kuppel.lab.services import TcpService, Treatment, WebService, same_for_all
from kuppel.probes.kernel import KernelNet
from kuppel.probes.net import Binding
from kuppel.probes.registry import KINDS
from kuppel.probes.repetition import run_probe


class Loopback(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.net = KernelNet()
        self.addCleanup(self.net.close)

    async def run_kind(self, kind: str, binding: Binding | None = None, **settings: object) -> Result:
        found = KINDS[kind]
        parsed = found.parse(settings)
        return await run_probe(found, parsed, self.net, binding=binding or Binding(), attempts=1, attempt_gap_us=0)


class Reach(Loopback):
    async def reach(self, host: str, **settings: object) -> Result:
        result = await self.run_kind("icmp", host=host, interval_ms=10, **settings)
        if result.reason is Reason.NOT_PERMITTED:
            self.skipTest(result.attempts[0].note)
        return result

    async def test_a_train_comes_back_whole_by_kernel_stamps(self) -> None:
        for host in ("127.0.0.1", "::1"):
            result = await self.reach(host, count=20, size=400, dscp=46)
            self.assertTrue(result.is_ok, result)
            self.assertEqual((result.quantities["sent"], result.quantities["lost"]), (20, 0))
            self.assertEqual(result.detail["stamps"], "kernel")
            trips = result.detail["round_trips_us"]
            self.assertTrue(all(0 < trip < result.attempts[0].duration_us for trip in trips))
            # RFC 2330 §11.3: the 50th percentile of 20 is the 10th smallest.
            self.assertAlmostEqual(result.quantities["rtt"] * 1000, sorted(trips)[9], delta=0.1)

    async def test_the_loops_lateness_does_not_enter(self) -> None:
        """Send and receive stamps are the kernel's: an event loop that is blocked for 50 ms a time leaves them alone."""

        async def block() -> None:
            for _ in range(6):
                time.sleep(0.05)  # noqa: ASYNC251 (to block is the point)
                await asyncio.sleep(0)

        result, _ = await asyncio.gather(self.reach("127.0.0.1", count=20), block())
        self.assertLess(statistics.median(result.detail["round_trips_us"]), 25_000)

    async def test_trains_of_one_machine_do_not_take_each_others_replies(self) -> None:
        results = await asyncio.gather(*(self.reach("127.0.0.1", count=10) for _ in range(8)))
        self.assertTrue(all(one.quantities["lost"] == 0 for one in results))

    async def test_families_and_names(self) -> None:
        wrong = await self.run_kind("icmp", host="127.0.0.1", family="ipv6")
        self.assertEqual(wrong.reason, Reason.NO_ADDRESS_OF_FAMILY)
        # RFC 6761 §6.4: names under .invalid never have an address.
        unknown = await self.run_kind("icmp", host="nowhere.invalid")
        self.assertIn(unknown.reason, (Reason.NAME_NOT_FOUND, Reason.NAME_TIMEOUT))

    async def test_a_binding_that_is_not_there(self) -> None:
        for binding in (Binding(source="192.0.2.99"), Binding(interface="nothere0")):
            result = await self.run_kind("icmp", binding, host="127.0.0.1")
            self.assertIn(result.reason, (Reason.BINDING_UNUSABLE, Reason.NOT_PERMITTED))


class Connect(Loopback):
    async def test_handshake_and_the_kernels_own_round_trip(self) -> None:
        async with TcpService() as service:
            result = await self.run_kind("tcp", Binding(source="127.0.0.77"), host="127.0.0.1", port=service.port)
        self.assertTrue(result.is_ok, result)
        self.assertGreater(result.quantities["connect"], 0)
        # The kernel's smoothed round trip of the handshake is a part of what connecting took.
        self.assertLessEqual(result.quantities["rtt"], result.quantities["connect"] + 0.05)
        self.assertEqual(result.detail["local"], "127.0.0.77")

    async def test_refused(self) -> None:
        async with TcpService() as service:
            await service.refuse()
            result = await self.run_kind("tcp", host="127.0.0.1", port=service.port)
        self.assertEqual(result.reason, Reason.CONNECTION_REFUSED)

    async def test_no_answer_in_time(self) -> None:
        """A listener whose queue is full drops connection requests: the nearest thing to a lost packet on loopback."""
        with socket.socket() as listener:
            listener.bind(("127.0.0.1", 0))
            listener.listen(0)
            address = listener.getsockname()
            waiting = [socket.socket() for _ in range(3)]
            for one in waiting:
                one.setblocking(False)
                one.connect_ex(address)
            result = await self.run_kind("tcp", host=address[0], port=address[1], timeout_ms=300)
            for one in waiting:
                one.close()
        self.assertEqual(result.reason, Reason.CONNECT_TIMEOUT)
        # The lookup of the name took its part of the 300 ms.
        self.assertRegex(result.attempts[0].note, r"within 0\.(3|2\d+) s")


class WebFetch(Loopback):
    async def test_phases_against_a_fixed_delay(self) -> None:
        """The stand-in waits 200 ms before its first byte: all of it must be found in that phase and in no other."""
        authority = Authority()
        credential = authority.issue(["booking.skerry.example"], days=40)
        async with WebService(treat=same_for_all(Treatment(delay_s=0.2)), credential=credential) as service:
            result = await self.run_kind(
                "http",
                url=f"https://booking.skerry.example:{service.port}/",
                address="127.0.0.1",
                authority=authority.certificate,
            )
        self.assertTrue(result.is_ok, result)
        measured = result.quantities
        self.assertGreaterEqual(measured["first_byte"], 200)
        self.assertLess(measured["total"] - measured["first_byte"], 150)
        self.assertAlmostEqual(sum(measured[name] for name in KINDS["http"].phases), measured["total"], 6)
        self.assertGreater(measured["tls"], 0)
        self.assertAlmostEqual(measured["certificate_days"], 40, 2)
        self.assertEqual(result.facts["address"], "127.0.0.1")
        self.assertIn("Fjord Trust", result.facts["certificate_issuer"])

    async def test_plain_http_has_no_secure_phase(self) -> None:
        async with WebService() as service:
            result = await self.run_kind("http", url=service.url)
        self.assertNotIn("tls", result.quantities)
        self.assertEqual(result.quantities["body_size"], 19)

    async def test_certificates_that_are_refused_are_still_seen(self) -> None:
        authority, stranger = Authority(), Authority("Another")
        cases = {
            "expired": (authority.issue(["a.example"], days=-1), "a.example"),
            "of another name": (authority.issue(["b.example"]), "a.example"),
            "of another authority": (stranger.issue(["a.example"]), "a.example"),
        }
        for what, (credential, name) in cases.items():
            async with WebService(credential=credential) as service:
                settings = {
                    "url": f"https://{name}:{service.port}/",
                    "address": "127.0.0.1",
                    "authority": authority.certificate,
                }
                refused = await self.run_kind("http", **settings)
                trusted = await self.run_kind("http", **settings, verify=False)
            self.assertEqual(refused.reason, Reason.CERTIFICATE_INVALID, what)
            self.assertTrue(trusted.is_ok, what)
            if what == "expired":
                self.assertLess(refused.quantities["certificate_days"], 0)
            self.assertIn("certificate", refused.facts, what)

    async def test_what_can_go_wrong_has_its_reason(self) -> None:
        cases = {
            Reason.UNEXPECTED_STATUS: (Treatment(status=503), {}),
            Reason.UNEXPECTED_TEXT: (Treatment(), {"expect_text": "not there"}),
            Reason.TIMEOUT: (Treatment(is_lost=True), {"timeout_ms": 300}),
            Reason.CONNECTION_RESET: (Treatment(is_cut=True), {}),
        }
        for reason, (treatment, settings) in cases.items():
            async with WebService(treat=same_for_all(treatment)) as service:
                result = await self.run_kind("http", url=service.url, **settings)
            self.assertEqual(result.reason, reason, result)
        async with TcpService(greeting=b"220 not HTTP\r\n") as service:
            self.assertEqual(
                (await self.run_kind("http", url=f"http://127.0.0.1:{service.port}/")).reason, Reason.PROTOCOL_ERROR
            )
            refused = await self.run_kind("http", url=f"https://127.0.0.1:{service.port}/")
            self.assertEqual(refused.reason, Reason.TLS_FAILED)
            await service.refuse()
            result = await self.run_kind("http", url=f"http://127.0.0.1:{service.port}/")
            self.assertEqual(result.reason, Reason.CONNECTION_REFUSED)

    async def test_method_headers_and_body_arrive(self) -> None:
        async with WebService() as service:
            await self.run_kind("http", url=service.url + "/seats", method="POST", body="two", headers={"X-Crew": "yes"})
        path, headers = service.requests[-1]
        self.assertEqual((path, headers["x-crew"], headers["content-length"]), ("/seats", "yes", "3"))

    async def test_family_six(self) -> None:
        async with WebService(host="::1") as service:
            url = f"http://[::1]:{service.port}/"
            result = await self.run_kind("http", url=url, family="ipv6")
            wrong = await self.run_kind("http", url=url, family="ipv4")
        self.assertEqual(result.facts["address"], "::1")
        self.assertEqual(wrong.reason, Reason.NO_ADDRESS_OF_FAMILY)

    async def test_through_a_proxy(self) -> None:
        """RFC 9112 §3.2.2: a request to a proxy carries the absolute form of its target."""
        async with WebService() as proxy:
            result = await self.run_kind("http", url="http://far.example/page", proxy=proxy.url)
            self.assertEqual(proxy.requests[-1][0], "http://far.example/page")
        gone = await self.run_kind("http", url="http://far.example/", proxy=proxy.url)
        self.assertTrue(result.is_ok)
        self.assertEqual(gone.reason, Reason.PROXY_FAILED)

    async def test_bound_to_a_source_address(self) -> None:
        seen: list[str] = []

        def treat(client: str, _path: str) -> Treatment:
            seen.append(client)
            return Treatment()

        async with WebService(treat=treat) as service:
            await self.run_kind("http", Binding(source="127.0.0.78"), url=service.url)
            missing = await self.run_kind("http", Binding(source="192.0.2.99"), url=service.url)
        self.assertEqual(seen, ["127.0.0.78"])
        self.assertEqual(missing.reason, Reason.BINDING_UNUSABLE)

    async def test_servers_that_never_come_to_an_end_do(self) -> None:
        """One octet now and then, a body without end, a head without end: each ends in time, with its reason."""

        async def drip(_reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            with contextlib.suppress(ConnectionError):
                for octet in b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello":
                    writer.write(bytes([octet]))
                    await writer.drain()
                    await asyncio.sleep(0.5)

        async def flood(_reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            with contextlib.suppress(ConnectionError):
                writer.write(b"HTTP/1.1 200 OK\r\n\r\n")
                while True:
                    writer.write(b"x" * 65_536)
                    await writer.drain()

        async def head(_reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            with contextlib.suppress(ConnectionError):
                writer.write(b"HTTP/1.1 200 OK\r\n")
                while True:
                    writer.write(b"X-More: " + b"y" * 1000 + b"\r\n")
                    await writer.drain()

        kind = KINDS["http"]
        for serve in (drip, flood, head):
            server = await asyncio.start_server(serve, "127.0.0.1", 0)
            port = server.sockets[0].getsockname()[1]
            settings = kind.parse({"url": f"http://127.0.0.1:{port}/", "timeout_ms": 1000})
            begun = time.monotonic()
            found = await kind.attempt(settings, self.net, Binding())
            self.assertLess(time.monotonic() - begun, 3, serve.__name__)
            self.assertIn(found.reason, (Reason.TIMEOUT, Reason.PROTOCOL_ERROR, Reason.CONNECTION_RESET), serve.__name__)
            server.close()

    async def test_a_huge_answer_is_counted_but_not_kept(self) -> None:
        async with WebService(treat=same_for_all(Treatment(body=b"x" * 3_000_000 + b"end"))) as service:
            result = await self.run_kind("http", url=service.url)
            beyond = await self.run_kind("http", url=service.url, expect_text="end")
        self.assertEqual(result.quantities["body_size"], 3_000_003)
        self.assertEqual(beyond.reason, Reason.UNEXPECTED_TEXT)

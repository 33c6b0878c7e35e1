"""Two-way packets over real sockets: our sender and our reflector, an independent peer, and hostile octets."""

import asyncio
import os
import random
import signal
import socket
import subprocess
import sys
import threading
import time
import unittest
from typing import Any

from scapy.contrib.stamp import STAMPSessionReflectorTestUnauthenticated, STAMPSessionSenderTestUnauthenticated

from kuppel.core.error import SettingsError
from kuppel.core.quantity import QUANTITIES
from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.kernel.network import KernelNet
from kuppel.probes.kernel.two_way import Reflector
from kuppel.probes.net import Binding, NetError, StampAnswer, StampReport, StampTrain
from kuppel.probes.registry import KINDS
from kuppel.wire.stamp import ErrorEstimate, SenderPacket, encode_sender
from tests.hub.running import HubInside
from tests.probes.simulated import SimulatedNet

KEY = "a key of the lab"
MS = 1_000_000


def run(net: Any, **settings: Any) -> Observation:
    kind = KINDS["udp"]
    return asyncio.run(kind.attempt(kind.parse({"host": "127.0.0.1", "timeout_ms": 300} | settings), net, Binding()))


class Sockets(unittest.TestCase):
    def setUp(self) -> None:
        self.net = KernelNet()
        self.addCleanup(self.net.close)

    def reflector(self, address: str = "127.0.0.1", **settings: Any) -> Reflector:
        reflector = Reflector(address, 0, **settings)
        thread = threading.Thread(target=reflector.serve, daemon=True)
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(reflector.close)
        return reflector

    def test_a_train_is_answered_and_measured(self) -> None:
        reflector = self.reflector(clock_error_ns=100_000)
        found = run(self.net, port=reflector.port, count=50, interval_ms=2, clock_error_us=100)
        self.assertIsNone(found.reason)
        quantities = found.quantities
        self.assertEqual((quantities["sent"], quantities["lost"], quantities["loss_forth_ratio"]), (50, 0, 0))
        # One machine, one clock: both ways and what the reflector keeps make up the round trip.
        self.assertLess(quantities["rtt"], 20)
        self.assertGreater(quantities["delay_forth"], 0)
        self.assertGreater(quantities["delay_back"], 0)
        self.assertAlmostEqual(quantities["delay_forth"] + quantities["delay_back"], quantities["rtt"], delta=0.5)
        self.assertAlmostEqual(quantities["clock_error"], 0.2, delta=0.002)
        self.assertEqual((quantities["reordered_ratio"], quantities["duplicates"]), (0, 0))
        self.assertEqual(reflector.answered, 50)

    def test_without_a_known_clock_no_one_way_delay_is_told(self) -> None:
        reflector = self.reflector()
        for own in ({}, {"clock_error_us": 50}):
            found = run(self.net, port=reflector.port, count=5, interval_ms=1, **own)
            self.assertNotIn("delay_forth", found.quantities)
            self.assertIn("pdv_forth", found.quantities)

    def test_authenticated_with_the_same_key_only(self) -> None:
        reflector = self.reflector(key=KEY.encode())
        self.assertIsNone(run(self.net, port=reflector.port, count=5, interval_ms=1, key=KEY).reason)
        for wrong in ({"key": "another key"}, {}):
            found = run(self.net, port=reflector.port, count=3, interval_ms=1, **wrong)
            self.assertEqual((found.reason, found.quantities["loss_ratio"]), (Reason.NO_REPLY, 1))
        self.assertEqual(reflector.dropped, 6)

    def test_ipv6_and_large_packets(self) -> None:
        if not socket.has_ipv6:
            self.skipTest("no IPv6 here")
        try:
            reflector = self.reflector("::1")
        except NetError as error:
            self.skipTest(f"no IPv6 loopback here: {error.note}")
        found = run(self.net, host="::1", port=reflector.port, count=5, interval_ms=1, size=1400, dscp=46)
        self.assertIsNone(found.reason)

    def test_nobody_there_is_told_as_such(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.bind(("127.0.0.1", 0))
            port = sock.getsockname()[1]
            self.assertEqual(run(self.net, port=port, count=2, interval_ms=1).reason, Reason.NO_REPLY)
        found = run(self.net, port=port, count=2, interval_ms=1)
        self.assertEqual((found.reason, found.note), (Reason.CONNECTION_REFUSED, "port unreachable"))

    def test_our_reflector_answers_another_sender(self) -> None:
        """scapy's packet, whose SSID and TLV (RFC 8972) are octets that come back as they are."""
        reflector = self.reflector()
        question = bytes(STAMPSessionSenderTestUnauthenticated(seq=9, ts=3_990_000_000.5, ssid=0)) + b"\x20\x01\x00\x04abcd"
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.settimeout(3)
            sock.setsockopt(socket.IPPROTO_IP, socket.IP_TTL, 77)
            for number in range(3):
                sock.sendto(question, ("127.0.0.1", reflector.port))
                answer = sock.recv(2000)
                self.assertEqual(len(answer), len(question))
                found = STAMPSessionReflectorTestUnauthenticated(answer[:44])
                self.assertEqual((found.seq, found.seq_sender, found.ttl_sender), (number, 9, 77))
                self.assertEqual(answer[44:], question[44:])

    def test_hostile_octets_are_dropped_and_nothing_is_amplified(self) -> None:
        reflector = self.reflector()
        generator = random.Random(4)
        sent = received = 0
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.settimeout(0.05)
            for size in [0, 1, 13, 14, 43, 44, 45, 500, 1400] * 6:
                octets = generator.randbytes(size)
                sock.sendto(octets, ("127.0.0.1", reflector.port))
                sent += size
                try:
                    received += len(sock.recv(65_535))
                except TimeoutError:
                    continue
            self.assertLessEqual(received, sent)
            # It still serves those who ask rightly.
            good = encode_sender(SenderPacket(1, time.time_ns(), ErrorEstimate.of(None)), 44)
            sock.settimeout(3)
            sock.sendto(good, ("127.0.0.1", reflector.port))
            self.assertEqual(len(sock.recv(100)), 44)

    def test_sessions_are_bounded(self) -> None:
        reflector = self.reflector()
        good = encode_sender(SenderPacket(1, 5, ErrorEstimate.of(None)), 44)
        for number in range(10_500):
            self.assertIsNotNone(reflector.answer(good, ("192.0.2.1", number), 10**18 + number, 64))
        self.assertLessEqual(len(reflector.sessions._known), 10_000)

    def test_the_command_reflects_until_it_is_stopped(self) -> None:
        environment = os.environ | {"KUPPEL_REFLECT_KEY": KEY}
        command = [sys.executable, "-m", "kuppel.cli", "reflect", "--address", "127.0.0.1", "--port", "0"]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=environment) as process:
            assert process.stdout is not None
            told = process.stdout.readline()
            self.assertIn("authenticated", told)
            port = int(told.split("port ")[1].split(",")[0])
            found = run(self.net, port=port, count=5, interval_ms=1, key=KEY)
            process.send_signal(signal.SIGTERM)
            self.assertIn("5 packets answered, 0 dropped", process.stdout.read())
        self.assertIsNone(found.reason)


class Figures(unittest.TestCase):
    """Above the seam: what a run tells of a train."""

    @staticmethod
    def answer(number: int, far_number: int, **changed: Any) -> StampAnswer:
        sent = number * 20 * MS
        told = {
            "sequence": number, "received_ns": sent + 19 * MS, "far_number": far_number, "far_received_ns": sent + 10 * MS,
            "far_sent_ns": sent + 11 * MS, "far_error_ns": 50_000.0,
        }  # fmt: skip
        return StampAnswer(**(told | changed))

    def test_loss_by_way_and_the_reflectors_own_time(self) -> None:
        """Ten packets: the second lost there, the fourth on the way back; 19 ms less 1 ms at the reflector."""
        answers = [self.answer(n, n - (n > 1)) for n in range(10) if n not in (1, 3)]
        report = StampReport(tuple(n * 20 * MS for n in range(10)), tuple(answers), "kernel")
        found = run(SimulatedNet(on_stamp=lambda _: report), clock_error_us=100).quantities
        self.assertEqual((found["rtt"], found["lost"], found["loss_ratio"]), (18, 2, 0.2))
        self.assertEqual((found["loss_forth_ratio"], found["loss_back_ratio"]), (0.1, 1 / 9))
        self.assertEqual((found["delay_forth"], found["delay_back"]), (10, 8))
        self.assertAlmostEqual(found["clock_error"], 0.15)

    def test_every_quantity_that_a_run_tells_is_one_of_the_kinds(self) -> None:
        answers = tuple(self.answer(n, n) for n in range(5))
        report = StampReport(tuple(n * 20 * MS for n in range(5)), answers, "kernel")
        found = run(SimulatedNet(on_stamp=lambda _: report), clock_error_us=100).quantities
        self.assertEqual(set(found), set(KINDS["udp"].quantities))

    def test_what_was_asked_for_is_what_is_sent(self) -> None:
        asked: list[StampTrain] = []

        def answer(train: StampTrain) -> StampReport:
            asked.append(train)
            return StampReport((0,), (self.answer(0, 0),), "kernel")

        run(SimulatedNet(on_stamp=answer), count=1, size=200, dscp=46, key=KEY, interval_ms=5)
        train = asked[0]
        self.assertEqual((train.count, train.size, train.dscp, train.key, train.port), (1, 200, 46, KEY.encode(), 862))

    def test_the_key_is_a_secret_and_too_short_a_one_is_refused(self) -> None:
        kind = KINDS["udp"]
        settings = kind.parse({"host": "a.example", "key": KEY})
        self.assertEqual(settings.secret_part(), {"key": KEY})
        self.assertNotIn(KEY, repr(settings))
        with self.assertRaises(SettingsError) as caught:
            kind.parse({"host": "a.example", "key": "short"})
        self.assertEqual(caught.exception.field, "settings.key")


class InTheHub(unittest.TestCase):
    def test_its_key_reaches_the_agent_and_nobody_else(self) -> None:
        hub = self.enterContext(HubInside())
        point, agent = hub.enrol()
        limits = [{"quantity": "loss_forth_ratio", "unit": "1", "degraded": 0.01, "breached": 0.05}]
        settings = {"host": "reflector.skerry.example", "key": KEY}
        made = hub.add_probe([point], name="calls to the fleet", kind="udp", settings=settings, limits=limits)
        self.assertEqual(made["settings"]["key"], "(kept secret)")
        self.assertNotIn(KEY, hub.client.get("/api/probes").text + hub.client.get("/api/record").text)
        told = hub.client.get("/api/agents/self/assignment", headers=agent).json()["probes"][0]["settings"]
        self.assertEqual(told["key"], KEY)


class Delivered(unittest.TestCase):
    """What these kinds tell is taken, kept and shown by a hub as it is: every quantity with its unit, facts, detail."""

    def test_a_run_of_each_kind_comes_back_from_the_hub(self) -> None:
        hub = self.enterContext(HubInside())
        point, agent = hub.enrol()
        told: dict[str, dict[str, Any]] = {
            "udp": {
                "quantities": {"rtt": 18.25, "loss_forth_ratio": 0.1, "pdv_back": 0.583, "duplicates": 1.0},
                "facts": {"address": "192.0.2.7"},
                "detail": {"round_trips_us": [18_250.0, None], "stamps": "kernel receive", "refused": 2},
            },
            "dns": {
                "quantities": {"lookup": 12.5, "answers": 2.0, "ttl": 60.0},
                "facts": {"answers": "192.0.2.7, 192.0.2.9"},
                "detail": {"code": "NOERROR", "answers": ["192.0.2.7", "192.0.2.9"], "transport": "udp"},
            },
            "tls": {
                "quantities": {"total": 31.5, "tls": 20.25, "certificate_days": 41.5},
                "facts": {"tls_version": "TLSv1.3", "certificate_names": "booking.skerry.example"},
                "detail": {"chain": [{"certificate_issuer": "CN=Fjord Trust"}], "verification": "accepted"},
            },
        }
        settings = {
            "udp": {"host": "a.example"},
            "dns": {"resolver": "a.example", "name": "b.example"},
            "tls": {"host": "a.example"},
        }
        for kind in told:
            hub.add_probe([point], name=kind, kind=kind, settings=settings[kind], limits=[])
        streams = {one["kind"]: one["stream"] for one in hub.streams()}
        started_us = time.time_ns() // 1000 - 60_000_000
        results = [
            {
                "sequence": number,
                "stream": streams[kind],
                "started_us": started_us + number,
                "attempts": [{"started_us": started_us, "duration_us": 1000, "reason": None, "note": ""}],
                **parts,
            }
            for number, (kind, parts) in enumerate(told.items(), 1)
        ]
        names = {name for parts in told.values() for name in parts["quantities"]}
        units = {name: QUANTITIES[name].unit for name in names}
        batch = {"spool": "spool-number-one", "units": units, "results": results}
        receipt = hub.client.post("/api/agents/self/batches", json=batch, headers=agent).json()
        self.assertEqual((receipt["taken"], receipt["refused"]), (3, []))
        for kind, parts in told.items():
            (run_told,) = hub.client.get(f"/api/streams/{streams[kind]}/runs").json()["runs"]
            self.assertEqual((run_told["quantities"], run_told["facts"]), (parts["quantities"], parts["facts"]))
            for name, value in parts["detail"].items():
                self.assertEqual(run_told["detail"][name], value, name)
            self.assertEqual(hub.client.get(f"/api/streams/{streams[kind]}").json()["state"], "fine")

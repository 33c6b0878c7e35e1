"""Calls over real sockets: speech to a reflector, a call bridge, and what goes wrong."""

import asyncio
import socket
import threading
import unittest
from typing import Any

from kuppel.core.error import SettingsError
from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.core.voice import CODECS, rating
from kuppel.lab.calls import CallService
from kuppel.probes.kernel import KernelNet
from kuppel.probes.kernel.speech import SpeechReflector
from kuppel.probes.net import Binding, SpeechAnswer, SpeechReport
from kuppel.probes.registry import KINDS
from tests.probes.simulated import SimulatedNet

MS = 1_000_000
KIND = KINDS["voice"]


async def measured(net: Any, **settings: Any) -> Observation:
    whole = {"host": "127.0.0.1", "duration_s": 1, "timeout_ms": 300} | settings
    return await KIND.attempt(KIND.parse(whole), net, Binding())


class Calls(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.net = KernelNet()
        self.addCleanup(self.net.close)

    async def test_a_call_to_a_bridge_is_set_up_measured_and_ended(self) -> None:
        async with CallService(ringing_s=0.05) as bridge:
            sip = f"sip:bridge@127.0.0.1:{bridge.port}"
            found = await measured(self.net, port=bridge.speech_port, sip=sip, codec="G.729A")
            self.assertIsNone(found.reason, found.note)
            self.assertEqual(bridge.requests, ["INVITE", "ACK", "BYE"])
        self.assertGreater(found.quantities["call_setup"], 50)
        self.assertLess(found.quantities["ringing"], found.quantities["call_setup"])
        self.assertEqual((found.quantities["sent"], found.quantities["lost"]), (50, 0))
        # Loopback: what is left is a packet of 20 ms, a buffer of 40 and a look-ahead of 5.
        self.assertAlmostEqual(found.quantities["mouth_to_ear"], 65, delta=3)
        self.assertAlmostEqual(found.quantities["rating"], rating(65, CODECS["G.729A"].impairment), delta=1)

    async def test_only_asking(self) -> None:
        async with CallService() as bridge:
            sip = f"sip:bridge@127.0.0.1:{bridge.port}"
            found = await measured(self.net, port=bridge.speech_port, sip=sip, sip_method="OPTIONS")
            self.assertEqual((found.reason, bridge.requests), (None, ["OPTIONS"]))

    async def test_a_busy_bridge_and_a_silent_one(self) -> None:
        async with CallService(status=486) as bridge:
            found = await measured(self.net, port=bridge.speech_port, sip=f"sip:bridge@127.0.0.1:{bridge.port}")
            self.assertEqual(found.reason, Reason.CALL_REFUSED)
            self.assertIn("486 Busy Here", found.note)
            await asyncio.sleep(0.05)
            self.assertEqual(bridge.requests, ["INVITE", "ACK"])
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as silent:
            silent.bind(("127.0.0.1", 0))
            sip = f"sip:bridge@127.0.0.1:{silent.getsockname()[1]}"
            with self.assertRaises(Exception) as raised:
                await measured(self.net, sip=sip)
            self.assertEqual(getattr(raised.exception, "reason", None), Reason.TIMEOUT)

    async def test_nobody_there(self) -> None:
        found = await measured(self.net, port=9)
        self.assertEqual((found.reason, found.note), (Reason.CONNECTION_REFUSED, "port unreachable"))

    def test_the_reflector_answers_test_packets_only_and_no_longer_than_they_were(self) -> None:
        reflector = SpeechReflector("127.0.0.1", 0)
        thread = threading.Thread(target=reflector.serve, daemon=True)
        thread.start()
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.connect(("127.0.0.1", reflector.port))
            sock.settimeout(0.2)
            for octets in (b"", b"x" * 500, b"\x80" + bytes(171), b"\xff" * 1000):
                sock.send(octets)
                with self.assertRaises(TimeoutError):
                    sock.recv(2000)
        reflector.close()
        thread.join(2)
        self.assertEqual((reflector.answered, reflector.dropped), (0, 4))

    def test_settings_that_cannot_be(self) -> None:
        for settings, words in (
            ({"codec": "G.723.1", "packet_ms": 20}, "30 ms"),
            ({"sip": "bridge"}, "no SIP address"),
        ):
            with self.assertRaises(SettingsError) as raised:
                KIND.parse({"host": "x"} | settings)
            self.assertIn(words.lower(), str(raised.exception).lower())


class Judged(unittest.IsolatedAsyncioTestCase):
    """A stream from a script: each way's own fate."""

    async def test_loss_and_lateness_are_told_by_way(self) -> None:
        sent = [n * 20 * MS for n in range(100)]
        answers = []
        counted = 0
        for n, at in enumerate(sent):
            if n in (10, 11):  # lost on the way there
                continue
            number, counted = counted, counted + 1
            if n in (50, 51, 52):  # lost on the way back
                continue
            late = 60 * MS if n == 80 else 0  # held up on the way back
            # The reflector's clock is an hour ahead: nothing may depend on that.
            there = at + 30 * MS + 3_600_000 * MS
            answers.append(SpeechAnswer(n, at + 61 * MS + late, there, MS, number))
        report = SpeechReport(tuple(sent), tuple(answers), "kernel receive")
        net = SimulatedNet(on_speak=lambda _stream: report)
        found = (await measured(net, duration_s=2, codec="G.711")).quantities
        self.assertEqual((found["sent"], found["lost"], found["loss_ratio"]), (100, 5, 0.05))
        self.assertAlmostEqual(found["loss_forth_ratio"], 2 / 97)
        self.assertAlmostEqual(found["loss_back_ratio"], 3 / 98)
        self.assertAlmostEqual(found["discard_ratio"], 1 / 98)
        self.assertEqual((found["rtt"], found["rtt_min"]), (60, 60))
        self.assertEqual(found["mouth_to_ear"], 30 + 40 + 20)
        self.assertLess(found["mos_back"], found["mos_forth"])
        self.assertEqual(found["mos"], found["mos_back"])

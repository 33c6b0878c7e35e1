"""The agent's own machine: against psutil asked apart, and Wi-Fi from what Linux says."""

import asyncio
import os
import socket
import time
import unittest

import psutil

from kuppel.core.result import Observation
from kuppel.probes.kernel import KernelNet
from kuppel.probes.kernel.machine import parse_wireless
from kuppel.probes.net import Binding
from kuppel.probes.registry import KINDS

KIND = KINDS["host"]


def measured(net: KernelNet, **settings: object) -> Observation:
    return asyncio.run(KIND.attempt(KIND.parse(settings), net, Binding()))


class Reading(unittest.TestCase):
    def setUp(self) -> None:
        self.net = KernelNet()
        self.addCleanup(self.net.close)

    def test_levels_are_those_that_the_system_has(self) -> None:
        found = measured(self.net).quantities
        memory = psutil.virtual_memory()
        self.assertAlmostEqual(found["memory_ratio"], 1 - memory.available / memory.total, delta=0.05)
        usage = psutil.disk_usage("/")
        self.assertGreaterEqual(found["disk_ratio"], usage.used / (usage.used + usage.free) - 0.01)
        for name, value in found.items():
            self.assertGreaterEqual(value, 0, name)
            if name.endswith("_ratio"):
                self.assertLessEqual(value, 1, name)

    def test_a_busy_processor_is_seen(self) -> None:
        measured(self.net)
        end = time.monotonic() + 1.2
        while time.monotonic() < end:
            pass
        found = measured(self.net).quantities
        self.assertGreater(found["cpu_ratio"], 0.6 / (os.cpu_count() or 1))

    def test_connections_by_process_and_peer(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as server, socket.create_connection(server.getsockname()) as client:
            accepted, _ = server.accept()
            with accepted:
                found = measured(self.net, connections=True)
                peer = f"127.0.0.1 port {server.getsockname()[1]}"
                row = next(one for one in found.detail["connections"] if one["peer"] == peer)
        self.assertEqual(row["count"], 1)
        self.assertIn("python", row["process"])
        self.assertGreaterEqual(found.quantities["connections"], 2)
        self.assertIsNotNone(client)

    def test_services_that_do_not_run_are_counted(self) -> None:
        found = measured(self.net, services=["no-such-service", psutil.Process().name()])
        self.assertGreaterEqual(found.quantities["services_down"], 1)
        self.assertIn("no-such-service", found.facts["services"])

    def test_nothing_more_is_collected_than_was_asked_for(self) -> None:
        found = measured(self.net)
        self.assertFalse({"connections", "processes"} & (found.detail.keys() | found.quantities.keys()))
        listed = measured(self.net, processes=True).detail["processes"]
        self.assertEqual(set(listed[0]), {"name", "memory", "cpu_s"})


class Wireless(unittest.TestCase):
    """Words of Linux's wireless tools, from memory."""

    LINES = ("  wlan0: 0000   53.  -57.  -256        0      0      0      0    419        0",)
    LINK = (
        "Connected to 02:00:5e:10:00:01 (on wlan0)\n\tSSID: hjem\n\tfreq: 2437\n\tsignal: -79 dBm\n"
        "\ttx bitrate: 58.5 MBit/s MCS 6\n"
    )
    INFO = "Interface wlan0\n\ttype managed\n\tchannel 6 (2437 MHz), width: 20 MHz, center1: 2437 MHz\n"

    def test_signal_network_point_channel_and_rate(self) -> None:
        quantities, facts = parse_wireless(
            list(self.LINES), lambda command: self.LINK if command[-1] == "link" else self.INFO
        )
        self.assertEqual(quantities, {"wifi_signal": -79, "wifi_rate": 58.5})
        self.assertEqual(
            facts,
            {
                "wifi_card": "wlan0", "wifi_access_point": "02:00:5e:10:00:01", "wifi_network": "hjem",
                "wifi_channel": "6 (2437 MHz)",
            },
        )  # fmt: skip

    def test_without_the_tool_the_signal_alone(self) -> None:
        self.assertEqual(parse_wireless(list(self.LINES), lambda _: ""), ({"wifi_signal": -57}, {"wifi_card": "wlan0"}))

"""Probes in the routed lab: what they say against what was configured, or against what the wire wrote down."""

import statistics
import unittest

from kuppel.core.reason import Reason
from kuppel.lab.netns import SERVER, SERVER_V6, wire_log
from tests.lab.routed import RoutedLab

FORKED = "10.9.1.2 > 10.9.2.2|10.9.3.2 > 10.9.4.2|10.9.6.2 > 10.9.5.2"


class Path(RoutedLab):
    def test_every_protocol_finds_the_routers_in_their_order(self) -> None:
        for protocol in ("udp", "icmp", "tcp"):
            for host, network in ((SERVER, "10.9."), (SERVER_V6, "2001:db8:")):
                with self.subTest(protocol=protocol, host=host):
                    found = self.measured("path", host=host, protocol=protocol, names=False)
                    self.assertIsNone(found.reason, found.note)
                    self.assertEqual((found.quantities["hops"], found.quantities["path_mtu"]), (4, 1500))
                    self.assertTrue(all(one["address"].startswith(network) for one in found.detail["hops"]))
                    self.assertEqual(found.detail["hops"][0]["reply_ttl"], 64)

    def test_both_parallel_ways_are_found_and_each_flow_keeps_to_one(self) -> None:
        for _ in range(10):
            found = self.measured("path", host=SERVER, names=False, path_mtu=False)
            self.assertEqual(found.facts["path"], FORKED)
            self.assertEqual(found.quantities["parallel_paths"], 2)
            self.assertGreaterEqual(found.detail["flows"], 11)
            for way in found.detail["ways"]:
                self.assertEqual(way[1][-3] == "2", way[2] == "10.9.4.2", way)

    def test_a_narrow_link_is_found_with_the_hop_that_says_so(self) -> None:
        self.lab.run("r3", ["ip", "link", "set", "wire0", "mtu", "1380"])
        self.addCleanup(self.lab.run, "r3", ["ip", "link", "set", "wire0", "mtu", "1500"])
        for host in (SERVER, SERVER_V6):
            found = self.measured("path", host=host, names=False)
            self.assertEqual(found.quantities["path_mtu"], 1380)
            self.assertTrue(found.detail["limited_by"].startswith(("10.9.4.2", "10.9.6.2", "2001:db8:4", "2001:db8:6")))

    def test_a_router_that_drops_the_traffic_ends_the_path(self) -> None:
        self.lab.run("r3", ["ip", "route", "replace", "blackhole", SERVER])
        self.addCleanup(self.lab.run, "r3", ["ip", "route", "del", "blackhole", SERVER])
        found = self.measured("path", host=SERVER, names=False, timeout_ms=100, path_mtu=False)
        self.assertEqual(found.reason, Reason.NOT_REACHED)
        self.assertIn("hop 2", found.note)

    def test_a_router_that_refuses_says_why(self) -> None:
        self.lab.run("r3", ["ip", "route", "replace", "prohibit", SERVER])
        self.addCleanup(self.lab.run, "r3", ["ip", "route", "del", "prohibit", SERVER])
        found = self.measured("path", host=SERVER, names=False, timeout_ms=200, path_mtu=False)
        self.assertEqual(found.reason, Reason.NOT_REACHED)
        self.assertIn("prohibited by a filter", found.note)


class Delay(RoutedLab):
    DELAY_MS = 4.0

    def test_round_trips_are_what_the_wire_did(self) -> None:
        """Medians, against the delay that was really applied. The rest of the way is four hops of one machine: well under
        a millisecond, unless the machine is busy."""
        found = {
            "icmp": self.measured("icmp", host=SERVER, count=40, interval_ms=10).quantities["rtt"],
            "icmp over IPv6": self.measured("icmp", host=SERVER_V6, count=40, interval_ms=10).quantities["rtt"],
            "path": self.measured("path", host=SERVER, names=False, path_mtu=False).quantities["rtt"],
        }
        self.lab.cut()
        did = wire_log(self.log)
        applied = (statistics.median(did.forth_ns) + statistics.median(did.back_ns)) / 1e6
        self.assertGreaterEqual(applied, 8.0)
        for name, measured in found.items():
            with self.subTest(name):
                self.assertGreater(measured, applied - 0.3)
                self.assertLess(measured, applied + 2.0)


class Loss(RoutedLab):
    LOSS = 0.2

    def test_losses_are_those_of_the_wire(self) -> None:
        found = self.measured("icmp", host=SERVER, count=100, interval_ms=5, timeout_ms=200).quantities
        self.lab.cut()
        did = wire_log(self.log)
        self.assertEqual(found["lost"], did.forth_lost + did.back_lost)
        self.assertEqual(did.forth_came, 100)
        # A binomial of 100 packets with 1 − 0.8² = 0.36: outside of 16 to 58 less than once in 10,000 (mean ± 4 σ).
        self.assertTrue(16 <= found["lost"] <= 58, found["lost"])


if __name__ == "__main__":
    unittest.main()

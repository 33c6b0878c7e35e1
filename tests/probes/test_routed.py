"""Probes in the routed lab: what they say against what was configured, or against what the wire wrote down."""

import statistics

from kuppel.core.reason import Reason
from kuppel.lab.netns import SERVER, SERVER_V6, wire_log
from tests.probes.routed import RoutedLab

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
        """Medians, against the delays that were really applied: never under the shortest, and near the usual one. The
        rest of the way is four hops of one machine: well under a millisecond, unless the machine is busy; what it is busy
        with passes, so that the lowest of three counts."""
        options = {"names": False, "path_mtu": False}
        found = {
            "icmp": [self.rtt("icmp", host=SERVER, count=40, interval_ms=10) for _ in range(3)],
            "icmp over IPv6": [self.rtt("icmp", host=SERVER_V6, count=40, interval_ms=10) for _ in range(3)],
            "path": [self.rtt("path", host=SERVER, **options) for _ in range(3)],
        }
        self.lab.cut()
        did = wire_log(self.log)
        least = (min(did.forth_ns) + min(did.back_ns)) / 1e6
        usual = (statistics.median(did.forth_ns) + statistics.median(did.back_ns)) / 1e6
        self.assertGreaterEqual(least, 8.0)
        for name, medians in found.items():
            with self.subTest(name):
                self.assertGreaterEqual(min(medians), least)
                self.assertLess(min(medians), usual + 2.0)

    def rtt(self, kind: str, **options: object) -> float:
        return self.measured(kind, **options).quantities["rtt"]


class Rate(RoutedLab):
    DELAY_MS = 5.0

    def test_a_shaped_line_carries_what_it_is_shaped_to(self) -> None:
        """A token bucket of 20 Mbit/s each way: payload can be 20 × 1460/1514 of it (Ethernet's header counts for tbf)."""
        for name, device in (("client", "to-r1"), ("r1", "to-client")):
            shape = "root tbf rate 20mbit burst 20kb latency 80ms"
            self.lab.run(name, ["tc", "qdisc", "add", "dev", device, *shape.split()])
        with self.reflecting("server") as ports:
            found = self.measured("throughput", host=SERVER, port=ports["data"], duration_s=3, line_mbit=20)
        best = 20 * 1448 / 1514
        for way in ("up", "down"):
            self.assertLess(found.quantities[f"throughput_{way}"], best * 1.06)
            self.assertGreater(found.quantities[f"throughput_{way}"], best * 0.7)
        # The bucket's queue holds up to 80 ms: that is what a full buffer costs on a path of 10 ms.
        self.assertGreater(found.quantities["buffer_delay"], 0.5)
        self.assertAlmostEqual(found.quantities["rtt_min"], 10, delta=3)


class LossByWay(RoutedLab):
    LOSS = 0.2

    def test_speech_and_two_way_packets_tell_each_ways_loss(self) -> None:
        """Of 500 packets 20 % on each way: within 4 σ (1.8 % each) of it."""
        with self.reflecting("server") as ports:
            voice = self.measured("voice", host=SERVER, port=ports["speech"], duration_s=5, packet_ms=10)
            udp = self.measured("udp", host=SERVER, port=ports["two_way"], count=500, interval_ms=5)
        for found in (voice.quantities, udp.quantities):
            for way in ("loss_forth_ratio", "loss_back_ratio"):
                self.assertAlmostEqual(found[way], 0.2, delta=0.075)
        # G.711 with concealment at 20 %: Ie,eff is 95 × 20 / (20 + 25.1) = 42, so R is about 50 and MOS about 2.6.
        self.assertAlmostEqual(voice.quantities["mos"], 2.6, delta=0.45)


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

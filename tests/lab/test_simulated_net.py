"""The real probes over the simulated internet: without noise they measure what is configured; with faults, what is
wrong."""

import asyncio
import unittest
from typing import Any

import numpy as np

from kuppel.agent.machine import LagMeter
from kuppel.agent.schedule import Schedule
from kuppel.core.reason import Reason
from kuppel.core.result import Result
from kuppel.lab.world.application import Application
from kuppel.lab.world.clock import SimulatedClock
from kuppel.lab.world.net import SimulatedNet
from kuppel.lab.world.world import World
from kuppel.probes.net import Binding
from kuppel.probes.registry import kind_named
from kuppel.probes.repetition import run_probe
from kuppel.wire import delivery
from kuppel.wire.delivery import AssignedProbe, Assignment
from tests.lab.worlds import BEGUN_US, fault, in_simulated_time, measured, minutes, plan_named, quiet_line, skerry

OCTETS_FREE = 0.03  # ms: what the kernel's stamps are apart


class WithoutNoise(unittest.TestCase):
    """A chain of links that add nothing but their configured delay: 12 ms there, 30 ms back."""

    def run_once(self, kind: str, settings: dict[str, Any], world: World | None = None) -> Result:
        found = measured(world or quiet_line(12, 30), kind, settings, "near", minutes(1))[0]
        self.assertIsNone(found.reason, found.attempts[0].note)
        return found

    def test_reach(self) -> None:
        told = self.run_once("icmp", {"host": "far.example"}).quantities
        for name in ("rtt", "rtt_min", "rtt_mean", "rtt_p95", "rtt_max"):
            self.assertAlmostEqual(told[name], 42, delta=OCTETS_FREE)
        self.assertEqual((told["loss_ratio"], told["ipdv"], told["jitter"]), (0, 0, 0))

    def test_two_way_knows_each_way(self) -> None:
        told = self.run_once("udp", {"host": "far.example", "clock_error_us": 100}).quantities
        self.assertAlmostEqual(told["rtt"], 42, places=3)
        self.assertAlmostEqual(told["delay_forth"], 12, places=3)
        self.assertAlmostEqual(told["delay_back"], 30, places=3)
        self.assertEqual((told["pdv_forth"], told["pdv_back"], told["reordered_ratio"]), (0, 0, 0))

    def test_call(self) -> None:
        """Half of the round trip, the buffer of 40 ms and a packet of 20 ms: ITU-T G.107 rates that."""
        told = self.run_once("voice", {"host": "far.example", "duration_s": 2}).quantities
        self.assertAlmostEqual(told["mouth_to_ear"], 21 + 40 + 20, places=2)
        self.assertEqual(told["loss_ratio"], 0)
        self.assertAlmostEqual(told["mos"], 4.36, delta=0.02)

    def test_path(self) -> None:
        found = self.run_once("path", {"host": "far.example"})
        self.assertEqual(found.quantities["hops"], 3)
        self.assertAlmostEqual(found.quantities["rtt"], 42, places=2)
        trips = [round(one["rtt_us"] / 1000, 2) for one in found.detail["hops"]]
        self.assertEqual(trips, [14.0, 28.0, 42.0])
        self.assertEqual([one["address"] for one in found.detail["hops"]], ["192.0.2.2", "192.0.2.3", "192.0.2.4"])

    def test_connect_and_names(self) -> None:
        world = quiet_line(12, 30)
        world.applications["gate"] = Application("gate", "far", 443, 0)
        told = self.run_once("tcp", {"host": "192.0.2.4", "port": 443}, world).quantities
        self.assertAlmostEqual(told["connect"], 42, delta=0.5)  # and what the far kernel takes
        told = self.run_once("dns", {"resolver": "192.0.2.4", "name": "far.example"}, world).quantities
        self.assertAlmostEqual(told["lookup"], 42, places=2)

    def test_a_page_of_one_window_takes_three_round_trips_and_the_servers_time(self) -> None:
        """TCP handshake, then request and answer; the name before it (RFC 9293 §3.5, RFC 6928)."""
        world = quiet_line(12, 30)
        world.applications["shop"] = Application("shop", "far", 80, 100, b"x" * 500, busier=0, error_share=0)
        told = self.run_once("http", {"url": "http://far.example/"}, world).quantities
        self.assertAlmostEqual(told["name_lookup"], 42, delta=0.2)
        self.assertAlmostEqual(told["connect"], 42, delta=0.5)
        self.assertAlmostEqual(told["first_byte"] - 42, 100, delta=75)
        self.assertAlmostEqual(
            told["total"], sum(told[one] for one in ("name_lookup", "connect", "first_byte", "transfer"))
        )

    def test_throughput_is_what_the_line_leaves(self) -> None:
        world = quiet_line(5, 5)
        links = world.topology.links
        for name, one in list(links.items()):
            links[name] = type(one)(one.source, one.target, one.domain, one.network, one.delay_ms, 50.0)
            world.topology.neighbours[one.source] = [
                links[other.name] if other.name == name else other for other in world.topology.neighbours[one.source]
            ]
        told = self.run_once("throughput", {"host": "192.0.2.4", "duration_s": 2}, world).quantities
        self.assertGreater(told["throughput"], 0.92 * 50)
        self.assertLess(told["throughput"], 50)


class WithFaults(unittest.TestCase):
    """Ten and more faults of different kinds, each begun in the world, each seen by real probes in the raw figures."""

    def figures(self, plan: str, point: str, world: World, count: int = 24) -> list[Result]:
        one = plan_named(plan)
        return measured(world, one.kind, one.settings, point, minutes(count), attempts=2)

    def middle(self, plan: str, point: str, quantity: str, world: World) -> float:
        found = [one.quantities[quantity] for one in self.figures(plan, point, world) if quantity in one.quantities]
        return float(np.median(found))

    def failing(self, plan: str, point: str, world: World) -> dict[Reason, int]:
        found: dict[Reason, int] = {}
        for one in self.figures(plan, point, world):
            if one.reason is not None:
                found[one.reason] = found.get(one.reason, 0) + 1
        return found

    def test_a_provider_takes_another_way(self) -> None:
        usual, world = skerry(), skerry(5, fault("provider_detour", "Quillnet"))
        more = [self.middle("reach the booking site", "Lundhavn", "rtt", one) for one in (usual, world)]
        self.assertAlmostEqual(more[1] - more[0], 61, delta=6)
        same = [self.middle("reach the booking site", "Brannick", "rtt", one) for one in (usual, world)]
        self.assertAlmostEqual(same[1], same[0], delta=0.5)
        paths = [self.figures("path to the booking site", "Ines H.", one, 1)[0].facts["path"] for one in (usual, world)]
        self.assertIn("203.0.113.44", paths[1])
        self.assertNotIn("203.0.113.44", paths[0])

    def test_one_of_two_uplinks_is_slow_and_lossy(self) -> None:
        world = skerry(5, fault("slow_uplink", "edge-kelmouth>kel-edge-2"))
        found = self.figures("reach the booking site", "Kelmouth", world, 40)
        trips = [one.quantities["rtt_min"] for one in found if "rtt_min" in one.quantities]
        slow = [one for one in trips if one > 70]
        self.assertTrue(8 < len(slow) < 36, len(slow))
        hops = self.figures("path to the booking site", "Kelmouth", world, 1)[0].detail["hops"]
        second = {one["address"]: one["rtt_us"] for one in hops if one["ttl"] == 2 and one["address"]}
        self.assertEqual(len(second), 2)
        self.assertGreater(max(second.values()) - min(second.values()), 40_000)

    def test_a_home_router_drops_bursts(self) -> None:
        usual, world = skerry(), skerry(5, fault("home_router_bursts", "Runa E."))
        lost = [
            sum(one.quantities["lost"] for one in self.figures("call the bridge, from home", "Runa E.", each))
            for each in (usual, world)
        ]
        self.assertGreater(lost[1], 20 * max(lost[0], 1))

    def test_weak_wifi(self) -> None:
        usual, world = skerry(), skerry(5, fault("weak_wifi", "Tobias R."))
        scores = [self.middle("call the bridge, from home", "Tobias R.", "mos", one) for one in (usual, world)]
        self.assertGreater(scores[0], 4.2)
        self.assertLess(scores[1], 3.6)
        self.assertLess(self.middle("the laptops", "Tobias R.", "wifi_signal", world), -74)

    def test_a_full_uplink(self) -> None:
        world = skerry(5, fault("full_uplink", "Averil"))
        self.assertGreater(self.middle("reach the booking site", "Averil", "rtt", world), 250)
        self.assertGreater(self.middle("reach the booking site", "Averil", "loss_ratio", world), 0.1)

    def test_satellite_fade(self) -> None:
        usual, world = skerry(), skerry(5, fault("satellite_fade", "MV Fulmar"))
        lost = [
            np.mean(
                [one.quantities["loss_ratio"] for one in self.figures("call the bridge, at sea", "MV Fulmar", each, 12)]
            )
            for each in (usual, world)
        ]
        self.assertGreater(lost[1] - lost[0], 0.1)

    def test_a_slow_resolver_and_a_wrong_answer(self) -> None:
        slow = skerry(5, fault("slow_resolver", "dns"))
        self.assertGreater(self.middle("name of the booking site", "Ostrey", "lookup", slow), 400)
        wrong = skerry(5, fault("wrong_names", "dns"))
        self.assertEqual(self.failing("name of the booking site", "Ostrey", wrong), {Reason.UNEXPECTED_ANSWER: 24})

    def test_certificates(self) -> None:
        expired = skerry(5, fault("certificate_expired", "pay"))
        self.assertEqual(self.failing("payments answer", "North", expired), {Reason.CERTIFICATE_INVALID: 24})
        expiring = skerry(5, fault("certificate_expiring", "booking"))
        days = self.middle("certificate of the booking site", "North", "certificate_days", expiring)
        self.assertAlmostEqual(days, 12, delta=0.2)

    def test_errors_after_a_release_and_of_what_a_service_depends_on(self) -> None:
        release = skerry(5, fault("release_errors", "roster"))
        self.assertGreater(self.failing("crew roster", "Ostrey", release)[Reason.UNEXPECTED_STATUS], 4)
        below = skerry(5, fault("failed_dependency", "seats"))
        self.assertGreater(self.failing("sailings API", "North", below)[Reason.UNEXPECTED_STATUS], 8)
        self.assertEqual(self.failing("crew roster", "Ostrey", below), {})

    def test_a_service_runs_out_of_connections(self) -> None:
        usual, world = skerry(), skerry(5, fault("exhausted_pool", "roster"))
        waits = [self.middle("crew roster", "Ostrey", "first_byte", one) for one in (usual, world)]
        self.assertGreater(waits[1], 4 * waits[0])

    def test_broken_ipv6_behind_a_working_ipv4(self) -> None:
        world = skerry(5, fault("broken_ipv6", "edge-a"))
        self.assertEqual(self.failing("booking front page by IPv6", "Brannick", world), {Reason.CONNECT_TIMEOUT: 24})
        either = self.figures("booking front page", "Brannick", world, 6)
        self.assertEqual({one.facts["address"] for one in either}, {"198.51.100.80"})
        self.assertGreater(min(one.quantities["connect"] for one in either), 250)  # RFC 8305 §8
        self.assertEqual(
            {one.facts["address"] for one in self.figures("booking front page", "Brannick", skerry(), 6)},
            {"2001:db8:40::80"},
        )

    def test_a_router_that_is_slow_to_answer_is_no_fault(self) -> None:
        """What lasts to the end of the path counts."""
        usual, world = skerry(), skerry(5, fault("slow_router", "nx-port-4"))
        ends = [self.middle("path to the booking site", "Brannick", "rtt", one) for one in (usual, world)]
        self.assertAlmostEqual(ends[0], ends[1], delta=0.5)
        late = [
            hop["rtt_us"] / 1000
            for one in self.figures("path to the booking site", "Brannick", world, 8)
            for hop in one.detail["hops"]
            if hop["address"] == "192.0.2.66"
        ]
        self.assertGreater(float(np.median(late)), ends[1])

    def test_a_busy_machine_reads_its_own_clock_late(self) -> None:
        world = skerry(5, fault("busy_agent", "Hanna S."))
        found = self.figures("the laptops", "Hanna S.", world, 5)
        self.assertGreater(min(one.quantities["cpu_ratio"] for one in found), 0.95)
        self.assertGreater(min(one.quantities["scheduling_lag"] for one in found), 100)

    def test_maintenance(self) -> None:
        world = skerry(5, fault("maintenance", "tides"))
        self.assertEqual(self.failing("tide gauges", "North", world), {Reason.CONNECTION_REFUSED: 24})

    def test_two_at_once(self) -> None:
        world = skerry(5, fault("full_uplink", "Vessna"), fault("slow_resolver", "dns-quillnet"))
        self.assertGreater(self.middle("reach the booking site", "Vessna", "rtt", world), 150)
        self.assertGreater(self.middle("booking front page", "Ines H.", "name_lookup", world), 400)


class AtAnySpeed(unittest.TestCase):
    def test_an_agents_schedule_measures_a_day_in_seconds(self) -> None:
        """The agent's own schedule over the simulated clock: every slot of six hours, none twice."""
        world = skerry()
        results: list[Result] = []
        plan = plan_named("gate controllers")
        probe = AssignedProbe(
            stream=1, kind=plan.kind, settings=plan.settings, interval_us=plan.interval_us, attempts=2,
            attempt_gap_us=500_000, binding=delivery.Binding(),
        )  # fmt: skip

        async def six_hours() -> None:
            net = SimulatedNet(world, "Ostrey", SimulatedClock(BEGUN_US))
            schedule = Schedule(net, LagMeter(), "test", lambda _, result: results.append(result))
            await schedule.assign(Assignment(probes=[probe]))
            await asyncio.sleep(6 * 3600)
            await schedule.stop()
            self.assertEqual(schedule.missed_slots, 0)

        in_simulated_time(six_hours)
        self.assertIn(len(results), (180, 181))
        times = np.diff([one.started_us for one in results[1:]])
        self.assertLess(np.abs(times - plan.interval_us).max(), 2_000)

    def test_the_same_seed_measures_the_same(self) -> None:
        once, again, other = (
            [
                one.quantities
                for one in measured(skerry(seed), "icmp", {"host": "booking.skerry.example"}, "Averil", minutes(5))
            ]
            for seed in (5, 5, 6)
        )
        self.assertEqual(once, again)
        self.assertNotEqual(once, other)


class Refused(unittest.TestCase):
    def test_what_is_not_there(self) -> None:
        """The reasons are those that the real network gives."""
        world = skerry()
        cases: list[tuple[str, dict[str, Any], Reason]] = [
            ("icmp", {"host": "nobody.example"}, Reason.NAME_NOT_FOUND),
            ("icmp", {"host": "203.0.113.250", "timeout_ms": 500}, Reason.NO_REPLY),
            ("tcp", {"host": "booking.skerry.example", "port": 9}, Reason.CONNECTION_REFUSED),
            ("tcp", {"host": "203.0.113.250", "port": 9}, Reason.CONNECT_TIMEOUT),
            ("icmp", {"host": "roster.skerry.example", "family": "ipv6"}, Reason.NO_ADDRESS_OF_FAMILY),
            ("dns", {"resolver": "192.0.2.53", "name": "nobody.example"}, Reason.RESPONSE_CODE),
            (
                "tls", {"host": "gates.skerry.example", "port": 8443, "server_name": "other.example"},
                Reason.CERTIFICATE_INVALID,
            ),
            ("http", {"url": "https://nobody.example/"}, Reason.NAME_NOT_FOUND),
            ("http", {"url": "https://booking.skerry.example/", "proxy": "http://192.0.2.1:3128"}, Reason.PROXY_FAILED),
            ("page", {"url": "https://booking.skerry.example/"}, Reason.NOT_PERMITTED),
        ]  # fmt: skip
        for kind, settings, wanted in cases:
            with self.subTest(kind=kind, settings=settings):
                found = measured(world, kind, settings, "North", minutes(1))[0]
                self.assertEqual(found.reason, wanted, found.attempts[0].note)

    def test_an_uplink_that_is_not_there(self) -> None:
        world, made = skerry(), kind_named("icmp")
        settings = made.parse({"host": "booking.skerry.example"})

        async def run() -> Result:
            net = SimulatedNet(world, "Kelmouth", SimulatedClock(BEGUN_US))
            return await run_probe(made, settings, net, binding=Binding(interface="eth7"), attempts=1, attempt_gap_us=0)

        self.assertEqual(in_simulated_time(run).reason, Reason.BINDING_UNUSABLE)


if __name__ == "__main__":
    unittest.main()

"""The models of the simulated internet against the formulas of the books, and its routing against networkx."""

import unittest

import networkx as nx
import numpy as np
import topohub
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.lab.carrier import carrier_world
from kuppel.lab.skerry.network import skerry_topology
from kuppel.lab.world import condition, loss, queueing
from kuppel.lab.world.draw import generator, uniform
from kuppel.lab.world.effect import Effect, Effects
from kuppel.lab.world.rhythm import busy_share
from kuppel.lab.world.routing import Routing
from kuppel.lab.world.topology import Host, Link, Topology
from tests.lab.worlds import BEGUN_US

DRAWN = 400_000


class Queues(unittest.TestCase):
    """Kleinrock, Queueing Systems I (1975): M/M/1 §3.2 and §5.12, M/G/1 §5.7 (from memory); seeds are fixed."""

    def test_mean_wait_at_an_exponential_server(self) -> None:
        """W = ρs/(1 − ρ)."""
        for load in (0.1, 0.5, 0.8, 0.95):
            waits = queueing.exponential_waits(np.full(DRAWN, load), 2.0, (DRAWN, 1), generator("mm1", load))
            wanted = load * 2.0 / (1 - load)
            self.assertAlmostEqual(float(waits.mean()) / wanted, 1, delta=0.02)
            self.assertAlmostEqual(queueing.mean_exponential_wait(load, 2.0), wanted)

    def test_mean_wait_at_a_constant_server_is_half_of_it(self) -> None:
        """Pollaczek and Khinchine: W = ρs/(2(1 − ρ))."""
        for load in (0.1, 0.5, 0.8, 0.95):
            waits = queueing.constant_waits(np.full(DRAWN, load), 2.0, (DRAWN, 1), generator("md1", load))
            wanted = load * 2.0 / (2 * (1 - load))
            self.assertAlmostEqual(float(waits.mean()) / wanted, 1, delta=0.02)
            self.assertAlmostEqual(queueing.mean_constant_wait(load, 2.0), wanted)

    def test_the_whole_distribution_is_that_of_a_queue_packet_by_packet(self) -> None:
        """Lindley's recursion W' = max(0, W + S − T), run long and looked at seldom, is another way to the same law."""
        draw = np.random.default_rng(3)
        load, service = 0.7, 1.0
        for waits_of, services in (
            (queueing.exponential_waits, lambda size: draw.exponential(service, size)),
            (queueing.constant_waits, lambda size: np.full(size, service)),
        ):
            size = 300_000
            steps = services(size) - draw.exponential(service / load, size)
            found, wait = np.empty(size), 0.0
            for at, step in enumerate(steps.tolist()):
                found[at] = wait
                wait = max(0.0, wait + step)
            drawn = waits_of(np.full(3000, load), service, (3000, 1), generator("lindley"))[:, 0]
            self.assertGreater(stats.ks_2samp(found[5000::100], drawn).pvalue, 0.01)

    def test_nobody_waits_at_an_empty_line(self) -> None:
        for waits in (queueing.exponential_waits, queueing.constant_waits):
            self.assertEqual(float(waits(np.zeros(100), 5.0, (100, 3), generator("empty")).sum()), 0)


class BurstyLoss(unittest.TestCase):
    """Gilbert 1960, Elliott 1963: stationary loss p/(p + r), mean burst 1/r (from memory)."""

    def test_share_and_length_of_bursts(self) -> None:
        for share, mean_ms, gap_ms in ((0.02, 200.0, 20.0), (0.1, 300.0, 20.0), (0.3, 60.0, 20.0)):
            lost = loss.bursty_losses(np.full(3000, share), mean_ms, gap_ms, 400, generator("bursts", share))
            p, r = (float(one) for one in loss.turning(np.array(share), mean_ms, gap_ms))
            self.assertAlmostEqual(p / (p + r), share)
            self.assertAlmostEqual(float(lost.mean()) / share, 1, delta=0.05)
            self.assertAlmostEqual(self.mean_burst(lost) * r, 1, delta=0.05)

    def test_close_packets_share_a_burst_and_distant_ones_do_not(self) -> None:
        """The chain forgets at the rate α + β: after much longer than a burst, packets are independent."""
        lost = loss.bursty_losses(np.full(4000, 0.1), 100.0, 5_000.0, 60, generator("far"))
        self.assertAlmostEqual(self.mean_burst(lost), 1 / 0.9, delta=0.02)

    @staticmethod
    def mean_burst(lost: loss.Flags) -> float:
        """The mean length of runs of losses that neither the beginning nor the end of a train cuts."""
        lengths = []
        for row in lost:
            edges = np.flatnonzero(np.diff(np.concatenate([[0], row.astype(np.int8), [0]])))
            runs = edges.reshape(-1, 2)
            lengths += [b - a for a, b in runs.tolist() if a > 0 and b < row.size]
        return float(np.mean(lengths))

    def test_a_link_that_is_never_bad_loses_nothing(self) -> None:
        self.assertFalse(loss.bursty_losses(np.zeros(50), 100.0, 20.0, 100, generator("good")).any())


def as_networkx(topology: Topology) -> "nx.DiGraph[str]":
    graph: nx.DiGraph[str] = nx.DiGraph()
    graph.add_nodes_from(topology.hosts)
    for one in topology.links.values():
        graph.add_edge(one.source, one.target, cost=one.cost)
    return graph


class Ways(unittest.TestCase):
    """Against networkx: Dijkstra's distances and all shortest paths."""

    def assert_like_networkx(self, topology: Topology, pairs: list[tuple[str, str]]) -> None:
        routing = Routing(topology, Effects())
        graph = as_networkx(topology)
        for source, target in pairs:
            ways = routing.ways(source, target, 0)
            if not nx.has_path(graph, source, target):
                self.assertEqual(ways, ())
                continue
            wanted = {tuple(one[1:]) for one in nx.all_shortest_paths(graph, source, target, weight="cost")}
            if len(wanted) < 16:  # no more are followed
                self.assertEqual({one.hosts for one in ways}, wanted)
            self.assertAlmostEqual(sum(one.share for one in ways), 1)
            cost = nx.dijkstra_path_length(graph, source, target, weight="cost")
            self.assertEqual({sum(link.cost for link in one.links) for one in ways}, {cost})

    def test_skerry(self) -> None:
        topology = skerry_topology()
        names = sorted(topology.hosts)
        self.assert_like_networkx(topology, [(one, "booking") for one in names if one != "booking"])
        self.assert_like_networkx(topology, [("booking", one) for one in names if one != "booking"])

    def test_maps_of_real_carriers(self) -> None:
        """topohub (PyPI, MIT): maps of the Internet Topology Zoo and of SNDlib."""
        for name in ("topozoo/Abilene", "topozoo/Geant2012", "sndlib/polska"):
            world, _ = carrier_world(name, topohub.get(name), 3, BEGUN_US)
            points = sorted(world.resolver_of)
            self.assert_like_networkx(world.topology, [(one, "shop") for one in points])

    @settings(max_examples=40, deadline=None)
    @given(st.lists(st.tuples(st.integers(0, 7), st.integers(0, 7), st.integers(1, 4)), min_size=4, max_size=30))
    def test_any_graph(self, edges: list[tuple[int, int, int]]) -> None:
        topology = Topology()
        for number in range(8):
            topology.add(Host(str(number), "lab", "transit", f"192.0.2.{number}"))
        for source, target, cost in edges:
            link = Link(str(source), str(target), "transit", "lab", 1.0, cost=cost)
            if source != target and link.name not in topology.links:
                topology.join(link)
        self.assert_like_networkx(topology, [("0", str(number)) for number in range(1, 8)])

    def test_a_line_that_is_down_is_gone_round_while_it_is(self) -> None:
        """nx on the graph without it says the same."""
        topology = skerry_topology()
        down = Effect("down", "lun-edge-2>trs-core-2", 1, 1000, 2000)
        effects = Effects([down])
        routing = Routing(topology, effects)
        epochs = [int(one) for one in effects.epochs(np.array([500, 1500, 2500]))]
        ways = [routing.ways("Lundhavn", "booking", one)[0].hosts for one in epochs]
        graph = as_networkx(topology)
        graph.remove_edge("lun-edge-2", "trs-core-2")
        self.assertEqual(ways[1], tuple(nx.dijkstra_path(graph, "Lundhavn", "booking", weight="cost")[1:]))
        self.assertEqual(ways[0], ways[2])
        self.assertNotEqual(ways[0], ways[1])

    def test_parallel_ways_share_flows_evenly(self) -> None:
        """Equal-cost multipath by a hash of the flow (RFC 2992): shares of half within what chance allows."""
        world, _ = carrier_world("topozoo/Abilene", topohub.get("topozoo/Abilene"), 3, BEGUN_US)
        world.topology = skerry_topology()
        flows = generator("flows").random(4000)
        times = np.full(4000, BEGUN_US, dtype=np.int64)
        counts = [own.size for _, own in world.groups("Brannick", "booking", times, flows)]
        self.assertEqual(len(counts), 2)
        self.assertGreater(stats.binomtest(counts[0], 4000, 0.5).pvalue, 0.001)


class Rhythm(unittest.TestCase):
    def test_people_are_awake_by_day_and_weekends_are_quieter(self) -> None:
        """Common practice, no source: networks of people are busiest in the evening and idle before dawn."""
        thursday = BEGUN_US // DAY_US * DAY_US
        hours = busy_share(thursday + np.arange(24, dtype=np.int64) * HOUR_US)
        self.assertEqual(int(hours.argmax()) in (19, 20, 21), True)
        self.assertIn(int(hours.argmin()), (3, 4, 5))
        self.assertTrue((hours > 0).all() and (hours <= 1).all())
        week = busy_share(thursday + np.arange(7, dtype=np.int64) * DAY_US + 12 * HOUR_US)
        self.assertLess(week[2], week[1])  # Saturday against Friday

    def test_queues_grow_with_the_hour(self) -> None:
        link = Link("a", "b", "local", "lab", 1.0, 20.0, 0.6, "exponential")
        night = BEGUN_US // DAY_US * DAY_US + 4 * HOUR_US
        times = np.arange(600, dtype=np.int64) * 1_000_000
        loads = [condition.load(1, link, Effects(), start + times).mean() for start in (night, night + 16 * HOUR_US)]
        self.assertGreater(loads[1], 4 * loads[0])


class Radio(unittest.TestCase):
    def test_a_weaker_signal_is_slower_and_loses_more(self) -> None:
        signals = np.arange(-90, -49, 1.0)
        failing = condition.try_fails(signals)
        self.assertTrue((np.diff(failing) < 0).all())
        self.assertLess(float(condition.try_fails(np.array([-60.0]))[0]), 0.01)


class Draws(unittest.TestCase):
    def test_they_are_uniform(self) -> None:
        """Kolmogorov–Smirnov against scipy; the seed is fixed, so this cannot fail by chance."""
        self.assertGreater(stats.kstest([uniform("seed", n) for n in range(20_000)], "uniform").pvalue, 0.001)

    @given(st.integers(), st.text())
    def test_the_same_key_gives_the_same_numbers(self, number: int, word: str) -> None:
        self.assertEqual(uniform(number, word), uniform(number, word))
        one, other = generator(number, word).random(3), generator(number, word).random(3)
        self.assertEqual(one.tolist(), other.tolist())


if __name__ == "__main__":
    unittest.main()

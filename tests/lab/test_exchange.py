"""Exchanges of the made-up world against the standards that say how often, and how long, their like is tried again."""

import itertools
import unittest
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kuppel.core.reason import Reason
from kuppel.lab.world import condition, exchange, machine
from kuppel.lab.world.draw import generator
from kuppel.lab.world.exchange import Ends
from kuppel.lab.world.world import Crossing, World
from tests.lab.worlds import BEGUN_US, fault, minutes, quiet_line, skerry

TRIP_MS = 40.0


def losing(world: World, lost: list[bool]) -> "mock._patch[mock.MagicMock]":
    """The world loses the tries that are named, and no later one; every other takes 20 ms each way."""
    tries = iter(lost)

    def cross(source: str, *_: object, **__: object) -> Crossing:
        # A try is a packet there and one back: only the first of the two is asked.
        is_lost = next(tries, False) if source == "near" else False
        return Crossing(np.full((1, 1), TRIP_MS / 2), np.full((1, 1), is_lost))

    return mock.patch.object(world, "cross", cross)


class Again(unittest.TestCase):
    """RFC 6298 §5.5: after each expiry the timeout doubles; §2.1: the first is a second for a SYN."""

    def setUp(self) -> None:
        self.world = quiet_line(20, 20)
        self.ends = Ends("near", "far", np.array([0.5]))
        self.draw = generator(1, "exchange")

    @given(st.integers(0, 3), st.sampled_from([200.0, 500.0, 1000.0]))
    def test_what_is_lost_so_often_waits_for_the_sum_of_the_doubled_timeouts(self, lost: int, timeout_ms: float) -> None:
        waits = [timeout_ms * 2**number for number in range(lost)]
        with losing(self.world, [True] * lost):
            taken = exchange.reliable_trips(self.world, self.ends, minutes(1), self.draw, timeout_ms=timeout_ms)
        self.assertAlmostEqual(float(taken[0]), sum(waits) + TRIP_MS)

    def test_a_handshake_whose_first_packet_is_lost_takes_a_second_more(self) -> None:
        times = []
        for lost in ([], [True]):
            with losing(self.world, lost):
                times.append(float(exchange.connections(self.world, self.ends, minutes(1), self.draw)[0]))
        # What the client itself takes is some hundredths of a millisecond.
        self.assertAlmostEqual(times[1] - times[0], 1000, delta=1)

    def test_four_tries_and_no_more(self) -> None:
        with losing(self.world, [True] * 4):
            taken = exchange.reliable_trips(self.world, self.ends, minutes(1), self.draw, timeout_ms=200)
        self.assertEqual(float(taken[0]), np.inf)

    def test_a_name_is_asked_for_again_after_a_second(self) -> None:
        with losing(self.world, [True]):
            taken = exchange.name_lookups(self.world, "near", minutes(1), self.draw)
        self.assertAlmostEqual(float(taken[0]), 1000 + TRIP_MS, delta=8)


class SlowStart(unittest.TestCase):
    """RFC 5681 §3.1 with the first window of RFC 6928: ten segments, then twice as many every round trip."""

    @settings(max_examples=60)
    @given(st.integers(1, 3_000_000))
    def test_as_many_round_trips_as_doubling_windows_need(self, octets: int) -> None:
        windows = itertools.accumulate(10 * 2**number for number in itertools.count())
        needed = next(number for number, sent in enumerate(windows) if sent * 1_440 >= octets)
        world = quiet_line(20, 20)
        ends = Ends("near", "far", np.array([0.5]))
        with losing(world, []), mock.patch.object(exchange, "bottleneck_ms", return_value=np.zeros(1)):
            taken = float(exchange.transfers(world, ends, minutes(1), octets, generator(1, "transfer"))[0])
        self.assertAlmostEqual(taken, needed * TRIP_MS, delta=1)

    def test_a_line_is_as_fast_as_its_slowest_link(self) -> None:
        """Octets times eight over the rate, which is the textbook's serialisation delay."""
        world = skerry()
        ends = Ends("Brannick", "booking", np.array([0.5]))
        times = minutes(1)
        ways = [way for way, _ in world.groups("booking", "Brannick", times, ends.flows) if way is not None]
        slowest = min(link.rate_mbit for link in ways[0].links if link.rate_mbit)
        taken = float(exchange.bottleneck_ms(world, ends, times, 1_000_000)[0])
        self.assertAlmostEqual(taken, 1_000_000 * 8 / (slowest * 1_000), places=6)


class Families(unittest.TestCase):
    """RFC 8305 §8: IPv4 is begun with when IPv6 has not come about within 250 ms."""

    def connected(self, v6_ms: float, v4_ms: float) -> tuple[float, bool]:
        def took(_world: World, ends: Ends, *_: object) -> np.ndarray:
            return np.full(ends.flows.size, v6_ms if ends.family == 6 else v4_ms)

        with mock.patch.object(exchange, "connections", took):
            taken, is_v6 = exchange._connected(
                quiet_line(5, 5), "near", "far", minutes(1), np.array([0.5]), generator(1, "x"), 0
            )
        return float(taken[0]), bool(is_v6[0])

    def test_a_quick_ipv6_is_taken(self) -> None:
        self.assertEqual(self.connected(249.0, 10.0), (249.0, True))

    def test_a_late_one_is_overtaken(self) -> None:
        self.assertEqual(self.connected(900.0, 60.0), (310.0, False))
        self.assertEqual(self.connected(np.inf, 60.0), (310.0, False))

    def test_whichever_is_there_first(self) -> None:
        self.assertEqual(self.connected(300.0, 60.0), (300.0, True))

    def test_neither(self) -> None:
        self.assertEqual(self.connected(np.inf, np.inf)[0], np.inf)


class BreakingOff(unittest.TestCase):
    """An exchange ends at the first phase that does not come about in time, and takes until then."""

    PHASES = st.lists(st.floats(0, 8_000), min_size=5, max_size=5)

    @given(PHASES, st.sampled_from([1_000.0, 10_000.0]))
    def test_it_never_takes_longer_than_it_may(self, phases: list[float], timeout_ms: float) -> None:
        columns = [np.array([one]) for one in phases]
        found = exchange.Fetched(*columns, [None], np.array([200]), np.array([False]))
        exchange._break_off(found, np.array([False]), timeout_ms)
        total = sum(phases)
        self.assertAlmostEqual(float(found.total_ms[0]), min(total, timeout_ms), places=6)
        ended = next((at for at, sent in enumerate(itertools.accumulate(phases)) if sent > timeout_ms), None)
        reasons = [Reason.NAME_TIMEOUT, Reason.CONNECT_TIMEOUT, *[Reason.TIMEOUT] * 3]
        self.assertEqual(found.failures, [None if ended is None else reasons[ended]])

    def test_a_refusal_is_known_once_it_is_connected(self) -> None:
        columns = [np.array([one]) for one in (20.0, 30.0, 40.0, 50.0, 60.0)]
        found = exchange.Fetched(*columns, [None], np.array([200]), np.array([False]))
        exchange._break_off(found, np.array([True]), 10_000)
        self.assertEqual((found.failures, float(found.total_ms[0])), ([Reason.CONNECTION_REFUSED], 50.0))


class Machines(unittest.TestCase):
    """Readings are made up (docs/lab.md); what is checked is what any machine keeps to."""

    def test_shares_are_shares_and_amounts_agree(self) -> None:
        world = skerry(5, fault("busy_agent", "Nils O."))
        for point in ("Nils O.", "Tobias R.", "Brannick"):
            found = machine.readings(world, point, minutes(600, 3), generator(1, point))
            for name in ("cpu_ratio", "memory_ratio", "disk_ratio"):
                self.assertTrue(((found[name] >= 0) & (found[name] <= 1)).all(), (point, name))
            free = machine._MEMORY_OCTETS * (1 - found["memory_ratio"])
            self.assertLessEqual(float(np.abs(found["memory_free"] - free).max()), 5e5)
            self.assertEqual("wifi_signal" in found, machine.radio_of(world, point) is not None)

    def test_an_overloaded_one_wakes_late_and_has_no_processor_left(self) -> None:
        world = skerry(5, fault("busy_agent", "Nils O."))
        times = minutes(200, from_us=BEGUN_US)
        busy = machine.readings(world, "Nils O.", times, generator(1, "a"))
        idle = machine.readings(world, "Hanna S.", times, generator(1, "a"))
        self.assertGreater(float(np.median(busy["scheduling_lag"])), 100 * float(np.median(idle["scheduling_lag"])))
        self.assertGreater(float(busy["cpu_ratio"].min()), 0.98)
        self.assertLess(float(idle["cpu_ratio"].max()), 0.91)

    def test_a_weak_signal_is_a_slow_radio(self) -> None:
        """The rate never rises as the signal falls."""
        world = skerry(5, fault("weak_wifi", "Tobias R.", 1.5))
        found = machine.readings(world, "Tobias R.", minutes(2_000), generator(1, "b"))
        order = np.argsort(found["wifi_signal"], kind="stable")
        signal, rate = found["wifi_signal"][order], found["wifi_rate"][order]
        means = [float(rate[signal == one].mean()) for one in np.unique(signal)]
        self.assertEqual(means, sorted(means))
        radio = machine.radio_of(world, "Tobias R.")
        assert radio is not None
        usual = condition.signal(world.seed, radio, skerry(5).effects, minutes(2_000))
        self.assertLess(float(np.median(found["wifi_signal"])), float(np.median(usual)) - 5)


if __name__ == "__main__":
    unittest.main()

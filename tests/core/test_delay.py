"""Delay statistics of one packet train, and clock offset."""

import unittest

import numpy as np

from kuppel.core.clock import best_offset, clock_offset
from kuppel.core.delay import inter_arrival_jitter, ipdv, round_trip_summary


class Jitter(unittest.TestCase):
    """RFC 3550 §6.4.1 and appendix A.8: J += (|D| - J)/16."""

    def test_alternating_transit(self) -> None:
        """Transit times alternating between 0 and 160 ticks, by the recursion of A.8: 10, 19.375, 28.164, 36.404 …"""
        for packets, expected in ((2, 10.0), (3, 19.375), (4, 28.1640625), (5, 36.40380859375)):
            send = np.arange(packets, dtype=np.int64) * 160
            transit = np.array([0, 160] * 3, dtype=np.int64)[:packets]
            self.assertAlmostEqual(inter_arrival_jitter(send, send + transit), expected)

    def test_it_tends_to_the_constant_difference(self) -> None:
        send = np.arange(400, dtype=np.int64) * 160
        transit = np.tile(np.array([0, 160], dtype=np.int64), 200)
        self.assertAlmostEqual(inter_arrival_jitter(send, send + transit), 160, 3)

    def test_constant_transit_has_none_whatever_the_clocks_say(self) -> None:
        """A.8 uses differences of transit times only, so an offset between the clocks cancels."""
        send = np.arange(50, dtype=np.int64) * 20_000
        self.assertEqual(inter_arrival_jitter(send, send + 5_000_000_000), 0)

    def test_fewer_than_two_packets(self) -> None:
        one = np.array([7], dtype=np.int64)
        self.assertEqual(inter_arrival_jitter(one, one), 0)


class DelayVariation(unittest.TestCase):
    """RFC 3393; the delays 20, 10, 20, 25, 20 ms are those of RFC 5481 §4 (from memory; the arithmetic is certain)."""

    def test_consecutive_packets(self) -> None:
        self.assertEqual(ipdv([20, 10, 20, 25, 20]), [None, -10, 10, 5, -5])

    def test_a_lost_packet_makes_two_values_undefined(self) -> None:
        """RFC 5481 §6.2."""
        self.assertEqual(ipdv([20, None, 20, 25, 20]), [None, None, None, 5, -5])

    def test_every_other_packet_lost_leaves_nothing(self) -> None:
        """RFC 5481 §6.2."""
        self.assertEqual(ipdv([20, None, 21, None, 22]), [None] * 5)


class RoundTrips(unittest.TestCase):
    def test_loss_ratio(self) -> None:
        """RFC 7680 §4.1: the sample {0, 0, 1, 0, 0} has the loss ratio 0.2."""
        summary = round_trip_summary([10.0, 10.0, None, 10.0, 10.0])
        self.assertEqual(summary.loss.ratio, 0.2)
        self.assertEqual((summary.loss.count, summary.loss.total), (1, 5))

    def test_summary_of_what_came_back(self) -> None:
        """RFC 7679 §5 sample 100, 110, undefined, 90, 500: minimum 90; percentiles of the four that arrived."""
        summary = round_trip_summary([100, 110, None, 90, 500])
        self.assertEqual((summary.minimum_us, summary.maximum_us, summary.mean_us), (90, 500, 200))
        self.assertEqual((summary.p50_us, summary.p95_us), (100, 500))

    def test_nothing_came_back(self) -> None:
        summary = round_trip_summary([None, None])
        self.assertIsNone(summary.p50_us)
        self.assertEqual(summary.loss.ratio, 1)


class ClockOffset(unittest.TestCase):
    """RFC 5905 §8: offset ½[(T2-T1)+(T3-T4)], delay (T4-T1)-(T3-T2)."""

    def test_symmetric_path_gives_the_true_offset(self) -> None:
        found = clock_offset(1000, 1000 + 250 + 40, 1000 + 250 + 60, 1000 + 100)
        self.assertEqual((found.offset_us, found.error_us), (250, 40))

    def test_true_offset_lies_within_the_error_whatever_the_asymmetry(self) -> None:
        for out, back in ((0, 100), (100, 0), (30, 70)):
            found = clock_offset(0, out + 500, out + 500, out + back)
            self.assertLessEqual(abs(found.offset_us - 500), found.error_us)

    def test_the_quickest_exchange_is_kept(self) -> None:
        exchanges = [clock_offset(0, 200, 200, 300), clock_offset(0, 55, 55, 10), clock_offset(0, 90, 90, 80)]
        best = best_offset(exchanges)
        assert best is not None
        self.assertEqual(best.error_us, 5)
        self.assertIsNone(best_offset([]))

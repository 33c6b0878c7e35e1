"""The bulk form's statistics of trains, row by row against numpy and against the algorithms that the standards print."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kuppel.core.reason import Reason
from kuppel.core.series import FloatArray
from kuppel.lab.bulk import web
from kuppel.lab.bulk.columns import (
    Tried,
    are_good,
    arrival_jitter,
    blanked,
    lateness,
    mean_variation,
    microseconds,
    no_reasons,
    train_figures,
    trip_statistics,
)
from kuppel.lab.world.draw import generator
from tests.lab.worlds import fault, minutes, skerry

TRAINS = st.integers(0, 10_000).map(np.random.default_rng)


def drawn(draw: np.random.Generator) -> tuple[FloatArray, np.ndarray]:
    """Some trains of some packets: round trips, and which came back."""
    shape = int(draw.integers(1, 9)), int(draw.integers(2, 25))
    return draw.gamma(3, 10, shape), draw.random(shape) > draw.random() * 0.9


def by_the_standard(sent: list[float], received: list[float]) -> float:
    """RFC 3550 A.8, as it is printed there, in ms and without its integer arithmetic."""
    jitter, transit = 0.0, None
    for at, came in sorted(zip(sent, received, strict=True), key=lambda one: one[1]):
        now = came - at
        if transit is not None:
            jitter += (abs(now - transit) - jitter) / 16.0
        transit = now
    return jitter


class Trains(unittest.TestCase):
    @settings(max_examples=150)
    @given(TRAINS)
    def test_percentiles_mean_and_ends_are_numpys(self, draw: np.random.Generator) -> None:
        """RFC 2330 §11.3 is numpy's `inverted_cdf`."""
        trips, good = drawn(draw)
        told = trip_statistics(trips, good)
        for row in range(trips.shape[0]):
            own = trips[row][good[row]]
            self.assertEqual(told.came_back[row], own.size)
            if own.size == 0:
                self.assertTrue(np.isnan([told.middle[row], told.least[row], told.mean[row], told.most[row]]).all())
                continue
            for found, share in ((told.middle, 50), (told.high, 95)):
                self.assertEqual(found[row], np.percentile(own, share, method="inverted_cdf"))
            self.assertEqual((told.least[row], told.most[row]), (own.min(), own.max()))
            self.assertAlmostEqual(float(told.mean[row]), float(own.mean()))

    @settings(max_examples=150)
    @given(TRAINS)
    def test_variation_is_of_neighbours_that_both_came_back(self, draw: np.random.Generator) -> None:
        """RFC 3393 §2.1: a pair of which one is lost has no variation."""
        trips, good = drawn(draw)
        found = mean_variation(trips, good)
        for row in range(trips.shape[0]):
            pairs = [
                abs(trips[row, at + 1] - trips[row, at])
                for at in range(trips.shape[1] - 1)
                if good[row, at] and good[row, at + 1]
            ]
            if pairs:
                self.assertAlmostEqual(float(found[row]), float(np.mean(pairs)))
            else:
                self.assertTrue(np.isnan(found[row]))

    @settings(max_examples=150)
    @given(TRAINS)
    def test_jitter_is_the_standards_in_the_order_of_arrival(self, draw: np.random.Generator) -> None:
        trips, good = drawn(draw)
        sent = np.arange(trips.shape[1]) * 20.0
        received = sent + trips
        found = arrival_jitter(sent, received, good)
        for row in range(trips.shape[0]):
            own = good[row]
            if own.sum() < 2:
                self.assertTrue(np.isnan(found[row]))
            else:
                wanted = by_the_standard(sent[own].tolist(), received[row][own].tolist())
                self.assertAlmostEqual(float(found[row]), wanted, places=9)

    @settings(max_examples=60)
    @given(TRAINS)
    def test_what_a_train_yields_adds_up(self, draw: np.random.Generator) -> None:
        trips, good = drawn(draw)
        found = train_figures(trip_statistics(trips, good), trips, good)
        np.testing.assert_array_equal(found["sent"] - found["lost"], good.sum(axis=1))
        np.testing.assert_allclose(found["loss_ratio"], 1 - good.mean(axis=1))
        some = good.any(axis=1)
        for low, high in (("rtt_min", "rtt"), ("rtt", "rtt_p95"), ("rtt_p95", "rtt_max"), ("rtt_min", "rtt_mean")):
            self.assertTrue((found[low][some] <= found[high][some] + 1e-9).all(), (low, high))


class Columns(unittest.TestCase):
    def test_what_is_not_kept_is_blank_and_the_rest_as_it_was(self) -> None:
        found = blanked({"total": np.array([1.0, 2.0, 3.0])}, np.array([True, False, True]))
        self.assertEqual(str(found["total"].tolist()), "[1.0, nan, 3.0]")

    def test_a_run_is_good_without_a_reason(self) -> None:
        reasons = no_reasons(3)
        reasons[1] = Reason.TIMEOUT
        self.assertEqual(are_good(reasons).tolist(), [True, False, True])
        self.assertEqual(are_good(no_reasons(0)).size, 0)

    def test_each_run_has_its_own_words_or_those_of_its_reason(self) -> None:
        reasons = no_reasons(4)
        reasons[1:] = [Reason.TIMEOUT, Reason.UNEXPECTED_STATUS, Reason.CONNECTION_REFUSED]
        words = np.array(["", "", "status 502, expected 200", ""], dtype=object)
        notes = {Reason.TIMEOUT: "nothing more within 10 s", Reason.UNEXPECTED_STATUS: words}
        tried = Tried({}, reasons, np.zeros(4, np.int64), notes)
        told = [tried.note(at) for at in range(4)]
        self.assertEqual(told, ["", "nothing more within 10 s", "status 502, expected 200", ""])

    def test_statuses_are_held_against_ranges_one_by_one(self) -> None:
        statuses = np.array([200, 204, 301, 404, 502, 200])
        self.assertEqual(web._are_expected(statuses, ["200-299", "404"]).tolist(), [True, True, False, True, False, True])
        told = web._of_statuses(statuses, ["200"])
        self.assertEqual((told[0], told[4]), ("status 200, expected 200", "status 502, expected 200"))

    def test_what_never_ends_is_cut_before_it_is_counted(self) -> None:
        self.assertEqual(microseconds(np.array([0.0015, 12.3456, np.inf])).tolist(), [2, 12_346, 1_000_000_000_000])

    def test_only_an_overloaded_machine_reads_its_clock_late(self) -> None:
        world = skerry(5, fault("busy_agent", "Nils O."))
        late = lateness(world, "Nils O.", minutes(400), generator(1, "late"))
        self.assertGreater(float(late.max()), 10)
        self.assertGreaterEqual(float(late.min()), 0)
        self.assertFalse(lateness(world, "Hanna S.", minutes(400), generator(1, "late")).any())


if __name__ == "__main__":
    unittest.main()

"""The usual pattern against scipy's and statsmodels' robust statistics."""

import datetime
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from statsmodels.robust import scale

from kuppel.core.baseline import FEWEST, HOURS, bands, baseline, departures, hour_of_week, of_sketches, robust
from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.core.series import FloatArray, IntArray
from kuppel.core.sketch import sketch

MONDAY_US = 4 * DAY_US


class Robust(unittest.TestCase):
    @settings(max_examples=100)
    @given(st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=60))
    def test_spread_is_scipys_and_statsmodels(self, values: list[float]) -> None:
        sample = np.array(values)
        centre, spread = robust(sample)
        self.assertEqual(centre, float(np.median(sample)))
        self.assertAlmostEqual(spread, float(stats.median_abs_deviation(sample, scale="normal")), places=6)
        self.assertAlmostEqual(spread, float(scale.mad(sample)), delta=1e-6 * max(1.0, spread))

    def test_it_is_the_standard_deviation_of_normal_values(self) -> None:
        values = np.random.default_rng(1).normal(40, 3, 200_000)
        self.assertAlmostEqual(robust(values)[1], 3, delta=0.03)


class Weeks(unittest.TestCase):
    def test_the_hour_of_the_week_is_the_calendars(self) -> None:
        """Against Python's own calendar."""
        for hours in range(0, 24 * 40, 7):
            moment = datetime.datetime(1970, 1, 1, tzinfo=datetime.UTC) + datetime.timedelta(hours=hours)
            self.assertEqual(hour_of_week(np.array([hours * HOUR_US]))[0], moment.weekday() * 24 + moment.hour)

    def series(self, weeks: int, every_us: int) -> tuple[IntArray, FloatArray]:
        times = MONDAY_US + np.arange(0, weeks * 7 * DAY_US, every_us, dtype=np.int64)
        hours = hour_of_week(times)
        draw = np.random.default_rng(2)
        return times, 40 + 10 * np.sin(hours / 24 * 2 * np.pi) + (hours >= 120) * 5 + draw.normal(0, 1, times.size)

    def test_each_hour_is_the_median_of_its_own_values(self) -> None:
        times, values = self.series(6, 300_000_000)
        found = baseline(times, values)
        for hour in (0, 13, 99, 167):
            own = values[hour_of_week(times) == hour]
            self.assertEqual(found.centre[hour], np.median(own))
            self.assertEqual(found.count[hour], own.size)

    def test_an_incident_of_a_night_moves_nothing(self) -> None:
        times, values = self.series(6, 300_000_000)
        usual = baseline(times, values)
        values[100:200] += 500
        again = baseline(times, values)
        self.assertLess(np.abs(again.centre - usual.centre).max(), 0.7)
        self.assertGreater(departures(again, times[150:151], values[150:151], 0.1)[0], 50)

    def test_nineteen_of_twenty_normal_values_are_within_the_band(self) -> None:
        times, values = self.series(6, 300_000_000)
        low, high = bands(baseline(times, values), times)
        inside = float(((values >= low) & (values <= high)).mean())
        self.assertAlmostEqual(inside, 0.954, delta=0.02)

    def test_few_values_borrow_from_their_neighbours(self) -> None:
        times, values = self.series(1, 10 * 60_000_000)  # six an hour
        found = baseline(times, values)
        self.assertEqual(set(found.count.tolist()), {18})
        times, values = self.series(1, 2 * HOUR_US)  # every other hour once
        found = baseline(times, values)
        self.assertTrue((found.count >= FEWEST).all())
        self.assertEqual(baseline(times[:3], values[:3]).count.tolist(), [3] * HOURS)

    def test_distributions_of_hours_say_the_same(self) -> None:
        """Within what a sketch promises, 1 % of a value, of the median by numpy and the spread by scipy."""
        times, values = self.series(6, 300_000_000)
        starts = np.unique(times // HOUR_US * HOUR_US)
        kept = [sketch(values[times // HOUR_US * HOUR_US == start]) for start in starts.tolist()]
        found, wanted = of_sketches(starts, kept), baseline(times, values)
        self.assertLess(np.abs(found.centre / wanted.centre - 1).max(), 0.011)
        self.assertLess(np.abs(found.spread - wanted.spread).max(), 0.02 * 50)
        self.assertEqual(found.count.tolist(), wanted.count.tolist())

    def test_nothing_is_usual_where_nothing_was_measured(self) -> None:
        nothing = baseline(np.empty(0, np.int64), np.empty(0))
        self.assertTrue(np.isnan(nothing.centre).all())
        self.assertTrue(np.isnan(departures(nothing, np.array([5]), np.array([1.0]), 0.1)).all())

    def test_a_constant_departs_by_what_matters(self) -> None:
        """Without any spread, the least one that anybody would call a difference is the measure."""
        times = MONDAY_US + np.arange(2000, dtype=np.int64) * 300_000_000
        found = baseline(times, np.full(2000, 7.0))
        self.assertEqual(departures(found, times[:1], np.array([9.0]), 0.5)[0], 4)


if __name__ == "__main__":
    unittest.main()

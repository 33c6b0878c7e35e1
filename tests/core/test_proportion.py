"""Shares with their intervals, and availability."""

import unittest

from statsmodels.stats.proportion import proportion_confint

from kuppel.core.availability import availability
from kuppel.core.proportion import wilson

HOUR_US = 3_600_000_000


class Wilson(unittest.TestCase):
    def test_newcombe_table(self) -> None:
        """R. G. Newcombe, Statistics in Medicine 17 (1998) 857-872, table I, method 3."""
        interval = wilson(81, 263)
        self.assertAlmostEqual(interval.low or 0, 0.2553, 4)
        self.assertAlmostEqual(interval.high or 0, 0.3662, 4)
        nothing = wilson(0, 20)
        self.assertEqual(nothing.low, 0)
        self.assertAlmostEqual(nothing.high or 0, 0.1611, 4)

    def test_against_statsmodels(self) -> None:
        for count, total in ((0, 1), (1, 1), (1, 2), (3, 7), (0, 500), (499, 500), (500, 500), (12345, 98765)):
            low, high = proportion_confint(count, total, 0.05, "wilson")
            interval = wilson(count, total)
            self.assertAlmostEqual(interval.low or 0, low, 12, (count, total))
            self.assertAlmostEqual(interval.high or 0, high, 12, (count, total))

    def test_no_sample_has_no_ratio(self) -> None:
        self.assertIsNone(wilson(0, 0).ratio)

    def test_more_than_there_are_is_refused(self) -> None:
        with self.assertRaises(ValueError):
            wilson(3, 2)


class Availability(unittest.TestCase):
    def test_share_of_runs_and_what_is_missing(self) -> None:
        """1,440 runs a day at one a minute (common practice, no source); 1,430 came, 1,415 were ok."""
        found = availability(1415, 1430, 1440)
        self.assertAlmostEqual(found.answered.ratio or 0, 1415 / 1430)
        self.assertEqual((found.expected, found.missing), (1440, 10))

    def test_three_nines_over_thirty_days_allow_43_minutes(self) -> None:
        """Published availability tables: 99.9 % of 30 days leave 43.2 min, so 43 failed minutes hold it and 44 do not."""
        runs = 30 * 24 * 60
        for failed, holds in ((43, True), (44, False)):
            ratio = availability(runs - failed, runs, runs).answered.ratio or 0
            self.assertEqual(ratio >= 0.999, holds)

    def test_a_silent_window_is_not_available(self) -> None:
        found = availability(0, 0, 60)
        self.assertIsNone(found.answered.ratio)
        self.assertEqual(found.missing, 60)

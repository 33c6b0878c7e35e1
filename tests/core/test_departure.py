"""How far figures depart from what is usual and from another window; classes of answer; arches over the ribbon.

Intervals are checked against statsmodels and scipy; the edges of the classes are common practice, no source.
"""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats
from statsmodels.stats.proportion import confint_proportions_2indep, proportion_confint

from kuppel.core.answer_class import AnswerClass, class_counts, class_of
from kuppel.core.arch import ArchScope, arches
from kuppel.core.baseline import baseline
from kuppel.core.departure import UNUSUAL, from_before, from_before_share, from_usual, from_usual_share
from kuppel.core.difference import difference, of_percentile, of_share
from kuppel.core.duration import DAY_US, HOUR_US
from kuppel.core.limit import Level, Limit
from kuppel.core.percentile import percentile_interval
from kuppel.core.proportion import wilson

MONDAY_US = 4 * DAY_US


class FromUsual(unittest.TestCase):
    def setUp(self) -> None:
        # Mondays at nine 60 ms, all else 40; a normal spread of 2.
        draw = np.random.default_rng(1)
        self.times = MONDAY_US + np.arange(0, 42 * DAY_US, 300_000_000, dtype=np.int64)
        is_nine = (self.times // HOUR_US + 72) % 168 == 9
        self.values = np.where(is_nine, 60.0, 40.0) + draw.normal(0, 2, self.times.size)
        self.usual = baseline(self.times, self.values)
        self.nine = MONDAY_US + 42 * DAY_US + 9 * HOUR_US

    def test_the_hour_of_the_week_counts(self) -> None:
        at_nine = from_usual(self.usual, self.nine, self.nine + HOUR_US, 60.0, "ms", "higher")
        at_ten = from_usual(self.usual, self.nine + HOUR_US, self.nine + 2 * HOUR_US, 56.0, "ms", "higher")
        assert at_nine is not None
        assert at_ten is not None
        self.assertEqual((at_nine.level, at_ten.level), (0, 3))
        self.assertAlmostEqual(at_ten.amount, (56 - self.usual.centre[10]) / self.usual.spread[10])

    def test_a_window_over_two_hours_is_weighed_by_how_much_of_each(self) -> None:
        """Against numpy's weighted mean of the two centres."""
        from_us, to_us = self.nine + HOUR_US // 2, self.nine + HOUR_US + HOUR_US // 4
        found = from_usual(self.usual, from_us, to_us, 50.0, "ms", "higher")
        assert found is not None
        self.assertAlmostEqual(found.usual, float(np.average(self.usual.centre[9:11], weights=[2, 1])), places=9)

    def test_less_is_worse_where_it_is(self) -> None:
        found = from_usual(self.usual, self.nine, self.nine + HOUR_US, 30.0, "Mbit/s", "lower")
        assert found is not None
        self.assertGreaterEqual(found.level, UNUSUAL)
        better = from_usual(self.usual, self.nine, self.nine + HOUR_US, 90.0, "Mbit/s", "lower")
        assert better is not None
        self.assertEqual(better.level, -2)

    def test_the_bad_end_is_held_against_the_usual_bad_end(self) -> None:
        """The 95th percentile of each hour by numpy, the median of those over the weeks."""
        hours = self.times // HOUR_US
        own = [self.values[hours == hour] for hour in np.unique(hours) if (hour + 72) % 168 == 20]
        wanted = np.median([np.percentile(one, 95, method="inverted_cdf") for one in own])
        self.assertAlmostEqual(self.usual.end[20], float(wanted), places=9)
        from_us = MONDAY_US + 42 * DAY_US + 20 * HOUR_US
        found = from_usual(self.usual, from_us, from_us + HOUR_US, self.usual.end[20], "ms", "higher", is_end=True)
        assert found is not None
        self.assertAlmostEqual(found.amount, 0, places=9)

    def test_nobody_calls_a_tenth_of_a_millisecond_a_difference(self) -> None:
        still = baseline(self.times, np.full(self.times.size, 0.2))
        found = from_usual(still, self.nine, self.nine + HOUR_US, 0.3, "ms", "higher")
        assert found is not None
        self.assertEqual(found.level, 0)

    def test_nothing_is_known_of_nothing(self) -> None:
        nothing = baseline(np.empty(0, np.int64), np.empty(0))
        self.assertIsNone(from_usual(nothing, self.nine, self.nine + HOUR_US, 1.0, "ms", "higher"))

    def test_a_share_within_its_interval_is_as_usual(self) -> None:
        """Wilson's interval is statsmodels'."""
        for failed, runs, usual in ((2, 60, 0.01), (20, 60, 0.01), (0, 60, 0.2)):
            low, high = proportion_confint(failed, runs, method="wilson")
            found = from_usual_share(usual, failed / runs, low, high, "higher")
            self.assertEqual(found.level == 0, low <= usual <= high, (failed, runs))


class FromBefore(unittest.TestCase):
    def test_proportions_are_as_statsmodels_has_them(self) -> None:
        """Newcombe's interval of a difference (statsmodels, method "newcomb"); a departure where it excludes zero."""
        for a, n, b, m in ((30, 60, 5, 60), (6, 60, 5, 60), (59, 60, 40, 60), (500, 1000, 470, 1000)):
            low, high = confint_proportions_2indep(a, n, b, m, method="newcomb", compare="diff")
            one, two = of_share(wilson(a, n)), of_share(wilson(b, m))
            assert one is not None
            assert two is not None
            apart = difference(one, two)
            self.assertAlmostEqual(apart.low or 0, low, places=6)
            self.assertAlmostEqual(apart.high or 0, high, places=6)
            found = from_before_share(b / m, apart, "higher")
            self.assertEqual(found.level == 0, low <= 0 <= high or abs(a / n - b / m) < 0.005)

    def test_medians_that_differ_by_chance_are_no_departure(self) -> None:
        """Two hundred pairs of equal samples: at most what a 95 % interval allows, 5 % and chance. Of medians that lie a
        spread apart scipy's Mood test and the interval agree that they differ."""
        draw = np.random.default_rng(4)
        levels = []
        for _ in range(200):
            one, two = (of_percentile(percentile_interval(draw.lognormal(3.7, 0.3, 60), 0.5)) for _ in range(2))
            levels.append(from_before(two.value, difference(one, two), "higher").level)
        self.assertLessEqual(sum(level != 0 for level in levels), 20)
        one, two = draw.normal(56, 8, 80), draw.normal(40, 8, 80)
        self.assertLess(stats.median_test(one, two).pvalue, 0.001)
        told = difference(*(of_percentile(percentile_interval(sample, 0.5)) for sample in (one, two)))
        self.assertEqual(from_before(40.0, told, "higher").level, 2)


class Answers(unittest.TestCase):
    LIMIT = Limit("total", degraded=600, breached=1000, clear=560)

    @given(st.lists(st.floats(0, 2000), max_size=60), st.integers(0, 20))
    def test_each_run_is_in_the_class_of_its_level(self, values: list[float], failed: int) -> None:
        found = class_counts(self.LIMIT, np.array(values), np.ones(len(values), np.int64), failed)
        wanted = [sum(self.LIMIT.level(value) is level for value in values) for level in Level]
        self.assertEqual(found.tolist(), [*wanted, failed])

    @given(st.lists(st.integers(0, 50), min_size=5, max_size=5))
    def test_a_group_answers_as_its_95th_percentile_run_does(self, counts: list[int]) -> None:
        """Against numpy's percentile of the classes, written out one by one."""
        written = np.repeat(np.arange(5), counts)
        found = class_of(np.array(counts))
        if written.size == 0:
            self.assertIsNone(found)
        else:
            self.assertEqual(found, AnswerClass(int(np.percentile(written, 95, method="inverted_cdf"))))


class Arches(unittest.TestCase):
    """Four vantage points of two providers towards three targets; no published source."""

    def setUp(self) -> None:
        pairs = [(point, target) for point in "abcd" for target in "xyz"]
        self.names: dict[ArchScope, list[str]] = {
            "vantage point": [point for point, _ in pairs],
            "target": [target for _, target in pairs],
            "provider": ["P" if point in "ab" else "Q" for point, _ in pairs],
        }
        self.pairs = pairs
        self.nothing = np.zeros((12, 20), dtype=bool)

    def where(self, points: str, targets: str, first: int, last: int) -> np.ndarray:
        found = self.nothing.copy()
        for row, (point, target) in enumerate(self.pairs):
            found[row, first : last + 1] = point in points and target in targets
        return found

    def test_each_fault_is_one_arch_under_what_it_shares(self) -> None:
        degraded = self.where("ab", "xyz", 3, 9)
        breached = self.where("abcd", "y", 14, 17)
        found = arches(degraded, breached, self.names, 10)
        self.assertEqual(
            [(one.scope, one.name, one.first, one.last, one.is_breached) for one in found],
            [("provider", "P", 3, 9, False), ("target", "y", 14, 17, True)],
        )
        self.assertAlmostEqual(found[0].share, 6 / 12)

    def test_a_gap_of_one_slice_does_not_end_it(self) -> None:
        degraded = self.where("c", "xyz", 2, 4) | self.where("c", "xyz", 6, 8)
        found = arches(degraded, self.nothing, self.names, 10)
        self.assertEqual([(one.name, one.first, one.last) for one in found], [("c", 2, 8)])

    def test_one_stream_alone_is_none_and_no_more_than_asked(self) -> None:
        self.assertEqual(arches(self.where("a", "x", 2, 9), self.nothing, self.names, 10), [])
        many = np.zeros_like(self.nothing)
        for first in range(0, 20, 4):
            many |= self.where("d", "xyz", first, first + 1)
        self.assertEqual(len(arches(many, self.nothing, self.names, 3)), 3)


if __name__ == "__main__":
    unittest.main()

"""Windows in slices by any statistic, and differences with their intervals."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kuppel.core import sketch as sketches
from kuppel.core.difference import Estimate, difference, of_percentile, of_share
from kuppel.core.error import SettingsError
from kuppel.core.percentile import percentile_interval
from kuppel.core.proportion import wilson
from kuppel.core.window import (
    DAY_US,
    HOUR_US,
    Statistics,
    Summaries,
    class_counts,
    from_samples,
    from_summaries,
    summary_width,
)

ALL = Statistics.named(["min", "mean", "max", "count", "failed", "p5", "p50", "p99.9", "p100"])


class FromSamples(unittest.TestCase):
    @given(st.integers(0, 300), st.integers(1, 50), st.integers(1, 9))
    def test_every_statistic_is_numpys_slice_by_slice(self, count: int, width: int, slices: int) -> None:
        """Percentiles against numpy's `inverted_cdf`, the definition of RFC 2330 §11.3."""
        generator = np.random.default_rng(count)
        times = generator.integers(-20, width * slices + 20, count)
        values, failed = generator.lognormal(size=count), generator.integers(-20, width * slices + 20, count // 3)
        starts = np.arange(slices, dtype=np.int64) * width
        found = from_samples(times, values, failed, starts, width, ALL)
        for index, start in enumerate(starts.tolist()):
            own = values[(times >= start) & (times < start + width)]
            self.assertEqual(found["count"][index], own.size)
            self.assertEqual(found["failed"][index], np.count_nonzero((failed >= start) & (failed < start + width)))
            for name, share in (("p5", 5), ("p50", 50), ("p99.9", 99.9), ("p100", 100), ("min", 0)):
                expected = np.percentile(own, share, method="inverted_cdf") if own.size else np.nan
                np.testing.assert_equal(found[name][index], expected)
            np.testing.assert_equal(found["max"][index], own.max() if own.size else np.nan)
            np.testing.assert_allclose(found["mean"][index], own.mean() if own.size else np.nan)

    def test_from_summaries_it_is_the_same_but_for_one_percent(self) -> None:
        generator = np.random.default_rng(7)
        times = np.sort(generator.integers(0, 60, 2000))
        values = generator.lognormal(3, 1, 2000)
        failed = generator.integers(0, 60, 50)
        starts = np.arange(4, dtype=np.int64) * 20
        exact = from_samples(times, values, failed, starts, 20, ALL)
        # Pieces of ten make slices of twenty; the last slice holds nothing.
        pieces = [values[(times >= at) & (times < at + 10)] for at in range(0, 60, 10)]
        made = [sketches.sketch(one) for one in pieces]
        of = Summaries(
            np.array([0, 0, 1, 1, 2, 2]),
            np.array([one.size for one in pieces]),
            np.array([one.sum() for one in pieces]),
            np.array([one.min() for one in pieces]),
            np.array([one.max() for one in pieces]),
        )
        merged = [sketches.merged(made[at : at + 2]) for at in (0, 2, 4)] + [sketches.merged([])]
        found = from_summaries(of, merged, np.bincount(failed // 20, minlength=4).astype(float), ALL)
        for name in ("min", "max", "count", "failed"):
            np.testing.assert_array_equal(found[name], exact[name], name)
        np.testing.assert_allclose(found["mean"], exact["mean"])
        for name in ("p5", "p50", "p99.9", "p100"):
            np.testing.assert_allclose(found[name], exact[name], rtol=sketches.ALPHA * 1.0001)

    def test_widths_that_summaries_can_fill(self) -> None:
        for asked, given_ in ((1, 1), (HOUR_US + 1, 2), (5 * HOUR_US, 6), (13 * HOUR_US, 24), (25 * HOUR_US, 48)):
            self.assertEqual(summary_width(asked), given_ * HOUR_US)
        for width in (1, 5 * HOUR_US, DAY_US):
            self.assertEqual(DAY_US % summary_width(width), 0)

    def test_what_is_no_statistic_is_named(self) -> None:
        for name in ("p", "p101", "median", "p9999", "P95", ""):
            with self.assertRaises(SettingsError) as caught:
                Statistics.named(["p50", name])
            self.assertEqual((caught.exception.field, caught.exception.value), ("statistics", name))

    def test_classes(self) -> None:
        values, edges = np.random.default_rng(1).normal(size=500), np.array([-1.0, 0.0, 0.5])
        expected, _ = np.histogram(values, np.array([-np.inf, *edges, np.inf]))
        self.assertEqual(class_counts(values, edges).tolist(), expected.tolist())


class Differences(unittest.TestCase):
    def test_newcombes_examples(self) -> None:
        """R. G. Newcombe, Statistics in Medicine 17 (1998) 873-890, table II, method 10 (values from memory)."""
        for one, of_one, two, of_two, value, low, high in (
            (56, 70, 48, 80, 0.2, 0.0524, 0.3339),
            (9, 10, 3, 10, 0.6, 0.1705, 0.8090),
            (6, 7, 2, 7, 0.5714, 0.0582, 0.8062),
            (5, 56, 0, 29, 0.0893, -0.0381, 0.1926),
        ):
            first, second = of_share(wilson(one, of_one)), of_share(wilson(two, of_two))
            assert first is not None
            assert second is not None
            found = difference(first, second)
            self.assertAlmostEqual(found.value, value, 4)
            self.assertAlmostEqual(found.low or 0, low, 4)
            self.assertAlmostEqual(found.high or 0, high, 4)
            self.assertEqual(found.is_clear, low > 0)

    def test_the_interval_of_two_medians_holds_the_true_difference_as_often_as_it_says(self) -> None:
        """2,000 pairs of skewed samples: coverage of a 95 % interval, within what chance allows for so many (±1.5 %)."""
        generator = np.random.default_rng(3)
        true = np.exp(1.1) - np.exp(1.0)
        hits = 0
        for _ in range(2000):
            one = percentile_interval(generator.lognormal(1.1, 0.5, 80), 0.5)
            two = percentile_interval(generator.lognormal(1.0, 0.5, 120), 0.5)
            found = difference(of_percentile(one), of_percentile(two))
            assert found.low is not None
            assert found.high is not None
            hits += found.low <= true <= found.high
        self.assertGreaterEqual(hits / 2000, 0.935)

    def test_ends_that_are_not_known_stay_unknown(self) -> None:
        found = difference(Estimate(5, None, 7), Estimate(4, 3, None))
        self.assertEqual((found.low, found.is_clear), (None, False))
        self.assertAlmostEqual(found.high or 0, 1 + np.hypot(2, 1))
        self.assertEqual(difference(Estimate(np.inf, 1, None), Estimate(4, 3, 5)).low, None)

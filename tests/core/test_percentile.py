"""Percentiles and their intervals."""

import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from kuppel.core.percentile import empirical_share, interval_ranks, median, percentile, percentile_interval

RFC_2330 = [-2, 7, 7, 4, 18, -5]
# NIST/SEMATECH e-Handbook 7.2.6.2, twelve wafer gauge readings.
NIST = [95.1772, 95.1567, 95.1937, 95.1959, 95.1442, 95.0610, 95.1591, 95.1195, 95.1065, 95.0925, 95.1990, 95.1682]


class Rfc2330Example(unittest.TestCase):
    """RFC 2330 §11.3, the worked sample {-2, 7, 7, 4, 18, -5}."""

    def test_empirical_distribution(self) -> None:
        for x, share in ((-8, 0), (-5.0001, 0), (-5, 1 / 6), (-4.999, 1 / 6), (7, 5 / 6), (18, 1), (239, 1)):
            self.assertAlmostEqual(empirical_share(RFC_2330, x), share)

    def test_percentiles(self) -> None:
        self.assertEqual(percentile(RFC_2330, 0.25), -2)
        self.assertEqual(percentile(RFC_2330, 0.50), 4)
        self.assertEqual(percentile(RFC_2330, 1.00), 18)

    def test_median_is_not_the_50th_percentile(self) -> None:
        self.assertEqual(median(RFC_2330), 5.5)


class LostPackets(unittest.TestCase):
    """RFC 7679 §5 (and RFC 2681 §4): an undefined delay counts as infinite."""

    SAMPLE = (100, 110, math.inf, 90, 500)

    def test_percentile_with_a_loss(self) -> None:
        self.assertEqual(percentile(self.SAMPLE, 0.5), 110)
        self.assertEqual(percentile(self.SAMPLE, 0.9), math.inf)

    def test_minimum_and_inverse_percentile(self) -> None:
        self.assertEqual(percentile(self.SAMPLE, 0.2), 90)
        self.assertEqual(empirical_share(self.SAMPLE, 103), 0.4)


class OtherReferences(unittest.TestCase):
    def test_nist_sample_by_the_inverse_of_the_distribution(self) -> None:
        """NIST e-Handbook 7.2.6.2 data; the 90th by this definition, as numpy's `inverted_cdf` has it."""
        self.assertEqual(percentile(NIST, 0.9), 95.1959)
        self.assertEqual(percentile(NIST, 0.9), np.percentile(NIST, 90, method="inverted_cdf"))

    @given(
        st.lists(st.floats(-1e6, 1e6, allow_subnormal=False), min_size=1, max_size=60),
        st.sampled_from([0.01, 0.05, 0.1, 0.25, 0.5, 0.75, 0.9, 0.95, 0.99, 1.0]),
    )
    def test_definition_holds_for_any_sample(self, values: list[float], share: float) -> None:
        """RFC 2330 §11.3: the smallest value x of the sample with F(x) ≥ share."""
        found = percentile(values, share)
        expected = min(value for value in values if empirical_share(values, value) >= share - 1e-9)
        self.assertEqual(found, expected)

    def test_empty_sample_and_wrong_share_are_refused(self) -> None:
        for values, share in (([], 0.5), ([1.0], 0.0), ([1.0], 1.1)):
            with self.assertRaises(ValueError):
                percentile(values, share)


class Interval(unittest.TestCase):
    """Order-statistic intervals; the ranks follow from the binomial distribution (David and Nagaraja, §7.1)."""

    def test_ranks_of_the_median(self) -> None:
        """Tabulated, for example, in Conover, Practical Nonparametric Statistics, table A3 (from memory)."""
        for count, low, high in ((6, 1, 6), (10, 2, 9), (20, 6, 15), (30, 10, 21)):
            interval = percentile_interval(np.arange(1, count + 1), 0.5)
            self.assertEqual((interval.low, interval.high), (low, high), count)

    def test_five_values_cannot_bound_a_median(self) -> None:
        """With n = 5 the widest interval covers 1 - 2/2^5 = 93.75 %, less than 95 %."""
        interval = percentile_interval([1, 2, 3, 4, 5], 0.5)
        self.assertEqual((interval.low, interval.high, interval.count), (None, None, 5))

    def test_upper_bound_of_p95_needs_enough_values(self) -> None:
        """S. S. Wilks, 1941: 59 values for one-sided 95 %; two-sided 97.5 % at each end takes 72 (0.95^72 < 0.025)."""
        self.assertIsNone(percentile_interval(np.arange(71), 0.95).high)
        self.assertEqual(percentile_interval(np.arange(72), 0.95).high, 71)

    def test_ranks_against_scipy(self) -> None:
        for count in (12, 77, 500, 4321):
            for share in (0.05, 0.5, 0.95, 0.99):
                interval = percentile_interval(np.arange(1, count + 1), share)
                low = int(stats.binom.ppf(0.025, count, share))
                high = int(stats.binom.ppf(0.975, count, share)) + 1
                # ppf gives the smallest k with P(B ≤ k) ≥ q: the lower rank is one of k (P < q just below it).
                self.assertEqual(interval.low or 0, low, (count, share))
                self.assertEqual(interval.high if interval.high is not None else count + 1, high, (count, share))

    def test_ranks_of_large_samples_against_scipy(self) -> None:
        """The normal approximation beyond 20,000 values: at most one rank from scipy's exact binomial ones."""
        for count, share in ((20_001, 0.5), (43_200, 0.95), (250_000, 0.99), (1_000_000, 0.05)):
            lower, upper = interval_ranks(count, share)
            self.assertAlmostEqual(lower, stats.binom.ppf(0.025, count, share), delta=1)
            self.assertAlmostEqual(upper, stats.binom.ppf(0.975, count, share) + 1, delta=1)

    def test_it_covers_the_true_percentile_as_often_as_it_says(self) -> None:
        """The defining property, on 400 samples of a known distribution: coverage of at least 95 % less sampling error."""
        generator = np.random.default_rng(7)
        truth = stats.expon.ppf(0.9)
        hits = 0
        for _ in range(400):
            interval = percentile_interval(generator.exponential(size=200), 0.9)
            assert interval.low is not None
            assert interval.high is not None
            hits += interval.low <= truth <= interval.high
        self.assertGreaterEqual(hits / 400, 0.92)

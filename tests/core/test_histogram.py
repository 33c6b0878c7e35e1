"""Exponential histograms as the OpenTelemetry data model defines them."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from kuppel.core.error import SettingsError
from kuppel.core.histogram import (
    Buckets,
    ExponentialHistogram,
    base,
    bucket_numbers,
    check,
    merged,
    quantile,
)

VALUES = arrays(
    np.float64, st.integers(0, 200), elements=st.floats(-1e6, 1e6).filter(lambda one: one == 0 or abs(one) > 1e-6)
)


def made(values: np.ndarray, scale: int) -> ExponentialHistogram:
    """A histogram of a sample, as a sender would make it."""

    def buckets(sizes: np.ndarray) -> Buckets:
        if sizes.size == 0:
            return Buckets()
        numbers = bucket_numbers(sizes, scale)
        first = int(numbers.min())
        return Buckets(first, np.bincount(numbers - first).astype(np.int64))

    ends = (float(values.min()), float(values.max())) if values.size else (None, None)
    zeros = int(np.count_nonzero(values == 0))
    positive, negative = buckets(values[values > 0]), buckets(-values[values < 0])
    return ExponentialHistogram(scale, zeros, 0.0, positive, negative, float(values.sum()), *ends)


class Histogram(unittest.TestCase):
    def test_bases_of_the_data_model(self) -> None:
        """OpenTelemetry Metrics Data Model, table of selected scales (values from memory)."""
        for scale, expected in ((10, 1.00068), (9, 1.00135), (8, 1.00271), (7, 1.00543), (6, 1.01089), (5, 1.02190),
                                (4, 1.04427), (3, 1.09051), (2, 1.18921), (1, 1.41421), (0, 2), (-1, 4), (-2, 16),
                                (-3, 256), (-4, 65536)):  # fmt: skip
            self.assertAlmostEqual(base(scale), expected, 5)

    def test_upper_edges_belong_to_their_bucket(self) -> None:
        """Data model: (baseⁱ, baseⁱ⁺¹], upper boundary inclusive; powers of two are edges at every scale of 0 or more."""
        powers = np.arange(-30, 31)
        for scale in (0, 3, 10):
            self.assertEqual(bucket_numbers(2.0**powers, scale).tolist(), (powers * 2**scale - 1).tolist())
        self.assertEqual(bucket_numbers(np.array([4.0, 16.0, 16.1, 256.0]), -2).tolist(), [0, 0, 1, 1])

    @given(VALUES, st.integers(-2, 6), st.integers(0, 4))
    def test_a_lower_scale_is_what_sketching_at_it_gives(self, values: np.ndarray, scale: int, steps: int) -> None:
        """Data model, "perfect subsetting": buckets of a scale map exactly into those of the next lower one."""
        low = made(values, scale - steps)
        whole = merged([made(values, scale), made(np.empty(0), scale - steps)])
        self.assertEqual(whole.scale, scale - steps)
        for one, two in ((whole.positive, low.positive), (whole.negative, low.negative)):
            self.assertEqual(one.counts.sum(), two.counts.sum())
            held = {one.offset + at: count for at, count in enumerate(one.counts.tolist()) if count}
            self.assertEqual(held, {two.offset + at: count for at, count in enumerate(two.counts.tolist()) if count})

    @given(VALUES, VALUES, st.sampled_from([0.01, 0.25, 0.5, 0.95, 1.0]))
    def test_percentiles_of_merged_ones_are_within_the_error_of_their_scale(
        self, one: np.ndarray, two: np.ndarray, share: float
    ) -> None:
        whole = merged([made(one, 5), made(two, 4)])
        values = np.concatenate([one, two])
        found = quantile(whole, share)
        if values.size == 0:
            self.assertIsNone(found)
            return
        assert found is not None
        exact = float(np.percentile(values, share * 100, method="inverted_cdf"))
        self.assertLessEqual(abs(found - exact), whole.relative_error * abs(exact) * (1 + 1e-9))
        self.assertEqual(whole.count, values.size)
        self.assertAlmostEqual(whole.sum, float(values.sum()), delta=1e-6 * (1 + float(np.abs(values).sum())))

    def test_what_lies_within_the_larger_zero_threshold_counts_as_zero(self) -> None:
        one = made(np.array([0.25, 0.5, 4.0]), 0)
        two = ExponentialHistogram(0, 1, 0.5, Buckets(), Buckets(), 0.0)
        whole = merged([one, two])
        self.assertEqual((whole.zero_count, whole.positive.count, whole.zero_threshold), (3, 1, 0.5))
        self.assertIsNone(whole.least)

    def test_what_no_sender_may_send(self) -> None:
        good = made(np.array([1.0, 2.0]), 2)
        check(good)
        for changed, field in (
            ({"scale": 21}, "scale"),
            ({"sum": float("nan")}, "sum"),
            ({"zero_threshold": -1.0}, "zero_threshold"),
            ({"zero_count": -1}, "counts"),
        ):
            parts = {name: getattr(good, name) for name in good.__slots__} | changed
            with self.assertRaises(SettingsError) as caught:
                check(ExponentialHistogram(**parts))
            self.assertEqual(caught.exception.field, field)

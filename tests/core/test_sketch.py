"""The sketch against exact percentiles on the kinds of data that break other sketches."""

import math
import unittest

import numpy as np
from ddsketch import LogCollapsingLowestDenseDDSketch
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from kuppel.core.percentile import percentile, percentile_interval
from kuppel.core.sketch import (
    ALPHA,
    Sketch,
    class_counts,
    decode,
    deviation,
    encode,
    grouped_sketches,
    merged,
    merged_octets,
    quantile,
    quantile_interval,
    quantiles,
    sketch,
)

SHARES = (0.001, 0.05, 0.5, 0.9, 0.95, 0.99, 0.999, 1.0)
FINITE = st.floats(-1e12, 1e12, allow_subnormal=False).filter(lambda one: one == 0 or abs(one) > 1e-8)
SAMPLES = arrays(np.float64, st.integers(1, 300), elements=FINITE)


def samples() -> dict[str, np.ndarray]:
    generator = np.random.default_rng(7)
    spikes = np.full(20_000, 12.5)
    spikes[generator.integers(0, spikes.size, 40)] = 4_000.0
    mostly_zero = np.where(generator.random(20_000) < 0.98, 0.0, generator.random(20_000))
    return {
        "lognormal": generator.lognormal(3, 1.2, 20_000),
        "Pareto": (generator.pareto(0.8, 20_000) + 1) * 5,
        "bimodal": np.concatenate([generator.normal(20, 2, 10_000), generator.normal(600, 30, 10_000)]),
        "constant with spikes": spikes,
        "mostly zero": mostly_zero,
    }


class Bound(unittest.TestCase):
    """Every percentile is within 1 % of the exact one of RFC 2330 §11.3 (itself checked against numpy elsewhere)."""

    def near(self, found: float, exact: float) -> None:
        self.assertLessEqual(abs(found - exact), ALPHA * abs(exact) * (1 + 1e-6) + 1e-9)

    def test_on_heavy_tails_spikes_and_zeros(self) -> None:
        for name, values in samples().items():
            made = sketch(values)
            for share in SHARES:
                with self.subTest(name, share=share):
                    self.near(quantile(made, share), percentile(values, share))

    @given(SAMPLES, st.floats(0.001, 1))
    def test_on_anything(self, values: np.ndarray, share: float) -> None:
        self.near(quantile(sketch(values), share), percentile(values, share))

    def test_lost_packets_are_infinite(self) -> None:
        """RFC 7679 §5.1 example: {100, 110, lost, 90, 500}: p50 = 110, p90 = infinite."""
        made = sketch(np.array([100, 110, np.inf, 90, 500]))
        self.near(quantile(made, 0.5), 110)
        self.assertEqual(quantile(made, 0.9), np.inf)

    def test_side_by_side_with_a_published_implementation(self) -> None:
        """The ddsketch package of the method's authors, α = 1 %: both keep the bound on the same data."""
        values = samples()["lognormal"][:4000]
        theirs = LogCollapsingLowestDenseDDSketch(ALPHA, 4096)
        for value in values:
            theirs.add(float(value))
        for share in (0.5, 0.95, 0.99):
            exact = percentile(values, share)
            self.near(quantile(sketch(values), share), exact)
            self.assertLess(abs(theirs.get_quantile_value(share) - exact) / exact, 0.011)

    @given(arrays(np.float64, st.integers(1, 400), elements=st.floats(1, 1e6)), st.sampled_from([0.05, 0.5, 0.95]))
    def test_intervals_are_those_of_the_sample(self, values: np.ndarray, share: float) -> None:
        exact, found = percentile_interval(values, share), quantile_interval(sketch(values), share)
        self.assertEqual((found.count, found.confidence), (exact.count, exact.confidence))
        for one, two in ((found.low, exact.low), (found.value, exact.value), (found.high, exact.high)):
            self.assertEqual(one is None, two is None)
            if one is not None and two is not None:
                self.near(one, two)


class Merging(unittest.TestCase):
    def same(self, one: Sketch, two: Sketch) -> None:
        self.assertEqual(one.keys.tolist(), two.keys.tolist())
        self.assertEqual(one.counts.tolist(), two.counts.tolist())

    @given(SAMPLES, SAMPLES, SAMPLES)
    def test_parts_merge_to_the_whole(self, one: np.ndarray, two: np.ndarray, three: np.ndarray) -> None:
        self.same(merged([sketch(one), sketch(two), sketch(three)]), sketch(np.concatenate([one, two, three])))

    @given(SAMPLES, st.integers(1, 9))
    def test_groups_are_sketched_as_each_alone(self, values: np.ndarray, groups: int) -> None:
        of = np.arange(values.size, dtype=np.int64) * 7 % groups
        for number, found in enumerate(grouped_sketches(values, of, groups)):
            self.same(found, sketch(values[of == number]))

    def test_counts_over_16_bits(self) -> None:
        many = merged([sketch(np.full(40_000, 5.0))] * 3)
        self.same(decode(encode(many)), many)
        self.assertEqual(many.count, 120_000)


class Many(unittest.TestCase):
    @given(st.lists(SAMPLES, max_size=8), st.sampled_from([0.01, 0.5, 0.95, 1.0]))
    def test_quantiles_of_many_are_those_of_each(self, parts: list[np.ndarray], share: float) -> None:
        made = [sketch(one) for one in parts]
        expected = [quantile(one, share) if one.count else math.nan for one in made]
        np.testing.assert_array_equal(quantiles(made, share), expected)


class Shape(unittest.TestCase):
    @given(SAMPLES)
    def test_deviation_and_classes_are_near_those_of_the_sample(self, values: np.ndarray) -> None:
        own = sketch(values)
        spread = deviation(own)
        if values.size > 1 and np.isfinite(values).all():
            assert spread is not None
            # Each value is off by 1 % of itself at the most, and by the least that is told from zero.
            reach = 0.01 * float(np.sqrt((values**2).sum() / (values.size - 1))) * 2 + 1e-8
            self.assertLessEqual(abs(spread - float(values.std(ddof=1))), reach)
        else:
            self.assertIsNone(spread)
        counts = class_counts(own, np.array([-5.0, 0.0, 5.0]))
        self.assertEqual(counts.sum(), values.size)
        for edge, at in ((-5.0, 1), (0.0, 2), (5.0, 3)):
            below = np.count_nonzero(values < edge)
            near = np.count_nonzero(np.abs(values - edge) <= ALPHA * abs(edge) * 1.01 + 1e-9)
            self.assertLessEqual(abs(int(counts[:at].sum()) - below), near)


class Bytes(unittest.TestCase):
    @given(SAMPLES)
    def test_round_trip(self, values: np.ndarray) -> None:
        Merging.same(self, sketch(values), decode(encode(sketch(values))))  # type: ignore[arg-type]

    def test_two_octets_a_bucket_where_they_are_near_and_counts_are_small(self) -> None:
        self.assertEqual(len(encode(sketch(np.array([1.0, 1.1, 1.1, 1.2])))), 5 + 3 * 2)
        self.assertEqual(len(encode(sketch(np.full(300, 1.0)))), 5 + 3)
        self.assertEqual(len(encode(sketch(np.array([0.0, 1.0])))), 5 + 2 * 6)
        self.assertEqual(encode(sketch(np.empty(0))), b"")

    @given(st.lists(SAMPLES, min_size=1, max_size=8), st.integers(1, 3))
    def test_many_are_merged_in_one_pass_as_one_by_one(self, parts: list[np.ndarray], groups: int) -> None:
        made = [sketch(one) for one in parts]
        of = np.arange(len(made), dtype=np.int64) % groups
        for number, found in enumerate(merged_octets([encode(one) for one in made], of, groups)):
            expected = merged([one for one, group in zip(made, of, strict=True) if group == number])
            self.assertEqual(found.keys.tolist(), expected.keys.tolist())
            self.assertEqual(found.counts.tolist(), expected.counts.tolist())

    def test_cut_short_is_refused(self) -> None:
        whole = encode(sketch(np.array([1.0, 2.0, 3.0])))
        for length in range(1, len(whole)):
            with self.assertRaises(ValueError):
                decode(whole[:length])

"""Change points against an exact search by hand, and on series whose changes are published."""

import unittest

import numpy as np
import ruptures
from hypothesis import given, settings
from hypothesis import strategies as st
from statsmodels.datasets import nile

from kuppel.core.baseline import robust
from kuppel.core.change_point import What, change_points, level_and_spread
from kuppel.core.series import FloatArray


def by_search(values: FloatArray, what: What, penalty: float, least: int) -> tuple[float, list[int]]:
    """Optimal partitioning without pruning (Jackson et al., 2005): every segmentation, by dynamic programming."""
    variance = max(1e-12, (np.median(np.abs(np.diff(values) - np.median(np.diff(values)))) * 1.482602218505602) ** 2 / 2)

    def cost(begun: int, end: int) -> float:
        part = values[begun:end]
        apart = float(((part - part.mean()) ** 2).sum())
        return apart / variance if what == "level" else part.size * float(np.log(max(apart / part.size, 1e-12)))

    best: list[tuple[float, list[int]]] = [(-penalty, [])] + [(np.inf, [])] * values.size
    for end in range(least, values.size + 1):
        options = [
            (best[begun][0] + cost(begun, end) + penalty, begun)
            for begun in range(end - least + 1)
            if best[begun][0] < np.inf
        ]
        total, begun = min(options)
        best[end] = (total, [*best[begun][1], begun] if begun else best[begun][1])
    return best[values.size]


class Exact(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10_000), st.sampled_from(["level", "spread"]), st.integers(12, 60))
    def test_pruning_loses_nothing(self, seed: int, what: What, size: int) -> None:
        draw = np.random.default_rng(seed)
        values = draw.normal(0, 1, size)
        values[size // 2 :] += draw.choice([0, 4])
        values[size // 3 : size // 2] *= draw.choice([1, 5])
        penalty = 3 * float(np.log(size))
        found = change_points(values, what, penalty=penalty, least=4)
        self.assertEqual(found, by_search(values, what, penalty, 4)[1])


class Published(unittest.TestCase):
    def test_the_nile_fell_in_1898(self) -> None:
        """Cobb, "The problem of the Nile", Biometrika 65 (1978) 243–251: one change, between 1898 and 1899 (from memory);
        the series is statsmodels', 1871–1970."""
        volumes = nile.load().data["volume"].to_numpy(dtype=np.float64)
        self.assertEqual([1871 + at for at in change_points(volumes)], [1899])


class Ruptures(unittest.TestCase):
    """Against the reference library, on the signals that it makes itself (ruptures, Truong, Oudre and Vayatis, Signal
    Processing 167 (2020) 107299)."""

    def test_piecewise_constant_signals_have_the_same_changes(self) -> None:
        for seed in range(12):
            made, _ = ruptures.pw_constant(300, 1, 4, noise_std=1.0, seed=seed, delta=(3, 8))
            values = made[:, 0].astype(np.float64)
            spread = robust(np.diff(values))[1] / np.sqrt(2)
            penalty = 3 * float(np.log(values.size))
            # Its cost of a segment is ours times the variance; its result ends with the signal's length.
            theirs = ruptures.Pelt(model="l2", min_size=5, jump=1).fit(values / spread).predict(pen=penalty)
            self.assertEqual(change_points(values, penalty=penalty), theirs[:-1], seed)

    def test_normal_signals_that_change_their_spread_have_the_same_changes(self) -> None:
        for seed in range(12):
            values, _ = ruptures.pw_normal(300, 3, seed=seed)
            own = values[:, 0].astype(np.float64)
            own[100:200] = own[100:200] * 4 + 10
            penalty = 6 * float(np.log(own.size))
            theirs = ruptures.Pelt(model="normal", min_size=5, jump=1).fit(own).predict(pen=penalty)
            self.assertEqual(change_points(own, "spread", penalty=penalty), theirs[:-1], seed)

    def test_where_they_were_made(self) -> None:
        for seed in range(12):
            made, at = ruptures.pw_constant(400, 1, 3, noise_std=0.5, seed=seed, delta=(5, 9))
            found = change_points(made[:, 0].astype(np.float64))
            self.assertEqual(len(found), 3, seed)
            self.assertLessEqual(max(abs(a - b) for a, b in zip(found, at, strict=False)), 2)


class OwnSignals(unittest.TestCase):
    def test_level_and_spread_are_told_apart(self) -> None:
        draw = np.random.default_rng(5)
        values = np.concatenate([draw.normal(40, 1, 150), draw.normal(50, 1, 150), draw.normal(50, 6, 150)])
        found = level_and_spread(values)
        self.assertEqual([what for _, what in found], ["level", "spread"])
        self.assertAlmostEqual(found[0][0], 150, delta=2)
        self.assertAlmostEqual(found[1][0], 300, delta=8)

    def test_a_step_is_found_where_it_is(self) -> None:
        for seed in range(20):
            values = np.random.default_rng(seed).normal(40, 1, 400)
            values[250:] += 3
            (found,) = change_points(values)
            self.assertAlmostEqual(found, 250, delta=3)

    def test_chance_seldom_makes_one(self) -> None:
        """Of 200 series without a change, at most one in twenty may seem to have one."""
        noisy = [np.random.default_rng(seed).normal(40, 1, 300) for seed in range(200)]
        self.assertLessEqual(sum(bool(change_points(one)) for one in noisy), 10)
        self.assertLessEqual(sum(bool(change_points(one, "spread")) for one in noisy), 10)

    def test_a_spread_that_grows_is_no_other_level(self) -> None:
        values = np.random.default_rng(3).normal(40, 1, 400)
        values[200:] = 40 + (values[200:] - 40) * 5
        self.assertAlmostEqual(change_points(values, "spread")[0], 200, delta=6)

    def test_little_and_constant_series(self) -> None:
        self.assertEqual(change_points(np.arange(9.0)), [])
        self.assertEqual(change_points(np.full(100, 7.0)), [])
        stepped = np.concatenate([np.full(50, 7.0), np.full(50, 8.0)])
        self.assertEqual(change_points(stepped), [50])
        self.assertEqual(change_points(stepped + 1e9), [50])


if __name__ == "__main__":
    unittest.main()

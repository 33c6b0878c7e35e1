"""Blocks come back as they went in, to the bit, and a broken octet never passes."""

import math
import unittest

import numpy as np
from hypothesis import example, given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from kuppel.store import block
from kuppel.store.block import BlockDamaged

TIMES = st.lists(st.integers(0, 2**53), max_size=200).map(lambda times: np.array(sorted(times), dtype=np.int64))
ANY = arrays(np.float64, st.integers(0, 200), elements=st.floats(width=64))
DECIMALS = st.lists(st.integers(-(10**9), 10**9), max_size=200)


class RoundTrip(unittest.TestCase):
    def same(self, one: np.ndarray, two: np.ndarray) -> None:
        self.assertEqual(one.tobytes(), two.tobytes())

    @given(TIMES)
    def test_times(self, times: np.ndarray) -> None:
        self.same(times, block.decode_times(block.encode_times(times)))

    @given(ANY, st.booleans())
    @example(np.array([-0.0]), False)
    @example(np.array([0.5, -0.0]), True)
    def test_any_values(self, values: np.ndarray, is_quick: bool) -> None:
        """Infinities, subnormals and −0.0 included; NaN says that the run has no value, whatever its payload."""
        values[np.isnan(values)] = np.nan
        self.same(values, block.decode_values(block.encode_values(values, is_quick=is_quick)))

    @given(DECIMALS, st.integers(0, 6), st.data())
    def test_decimals_with_gaps(self, integers: list[int], places: int, data: st.DataObject) -> None:
        values = np.array(integers, dtype=np.float64) / 10**places
        if values.size:
            values[data.draw(arrays(bool, values.size))] = np.nan
        for is_quick in (False, True):
            self.same(values, block.decode_values(block.encode_values(values, is_quick=is_quick)))

    def test_codes_and_bodies(self) -> None:
        codes = np.array([0, 3, 255, 128], dtype=np.uint8)
        self.same(codes, block.decode_codes(block.encode_codes(codes)))
        bodies = [{"headers": [["a", "ø"]]}, None, {"x": 1.5}]
        for is_quick in (False, True):
            self.assertEqual(block.decode_bodies(block.encode_bodies(bodies, is_quick=is_quick)), bodies)


class Size(unittest.TestCase):
    def test_a_day_of_noisy_times_at_a_tenth_of_a_millisecond(self) -> None:
        """1,440 answer times around 50 ms, lognormal, told to 0.1 ms; and their times on the minute."""
        values = np.round(np.random.default_rng(1).lognormal(math.log(50), 0.15, 1440), 1)
        self.assertLess(len(block.encode_values(values)) / 1440, 1.6)
        times = np.arange(1440, dtype=np.int64) * 60_000_000
        self.assertLess(len(block.encode_times(times)), 60)


class Damage(unittest.TestCase):
    def test_no_broken_octet_passes(self) -> None:
        good = block.encode_values(np.arange(100) / 10)
        for at in range(len(good)):
            for change in (1, 2, 64, 255):
                bad = bytearray(good)
                bad[at] ^= change
                with self.assertRaises(BlockDamaged):
                    block.decode_values(bytes(bad))

    def test_another_kind_or_cut_short(self) -> None:
        good = block.encode_times(np.arange(10, dtype=np.int64))
        for bad in (good[:-1], good[:3], b"", block.encode_codes(np.zeros(3, np.uint8))):
            with self.assertRaises(BlockDamaged):
                block.decode_times(bad)

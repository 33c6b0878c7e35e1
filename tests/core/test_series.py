"""Windows in slices, schedules, and sentences."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from kuppel.core.error import SettingsError
from kuppel.core.limit import Limit
from kuppel.core.quantity import QUANTITIES, check_unit
from kuppel.core.reason import SENTENCES, Reason
from kuppel.core.schedule import next_slot, start_offset
from kuppel.core.sentence import StreamReading, figure, stream_sentence
from kuppel.core.series import covered_shares, slice_counts, slice_means, slice_starts, slice_width
from kuppel.core.state import State
from kuppel.core.window import band

MINUTE = 60_000_000


class Slices(unittest.TestCase):
    @given(st.integers(1, 500), st.integers(1, 60), st.integers(0, 1000))
    def test_each_slice_has_the_percentiles_of_its_samples(self, count: int, width: int, shift: int) -> None:
        """Against numpy's `inverted_cdf`, the definition of RFC 2330 §11.3, slice by slice."""
        generator = np.random.default_rng(count)
        times = np.sort(generator.integers(shift, shift + 600, count))
        values = generator.lognormal(size=count)
        found = band(times, values, shift, shift + 600, width)
        for index, start in enumerate(found.starts_us):
            own = values[(times >= start) & (times < start + width) & (times < shift + 600)]
            self.assertEqual(found.counts[index], own.size)
            for column, share in ((found.p5, 5), (found.p50, 50), (found.p95, 95)):
                if own.size:
                    self.assertEqual(column[index], np.percentile(own, share, method="inverted_cdf"))
                else:
                    self.assertTrue(np.isnan(column[index]))

    def test_slices_do_not_wander_with_the_window(self) -> None:
        self.assertTrue(set(slice_starts(65, 300, 60)) >= set(slice_starts(130, 300, 60)))

    def test_width_is_not_finer_than_the_measurement(self) -> None:
        self.assertEqual(slice_width(0, 3600, 100, 60), 60)
        self.assertEqual(slice_width(0, 86_400, 100, 60), 864)
        with self.assertRaises(ValueError):
            slice_width(10, 10, 100, 60)

    def test_counts_and_means(self) -> None:
        times = np.array([0, 1, 10, 25])
        self.assertEqual(slice_counts(times, 0, 30, 10).tolist(), [2, 1, 1])
        means = slice_means(times, np.array([1.0, 3.0, 5.0, 7.0]), 0, 40, 10)
        self.assertEqual(means[:3].tolist(), [2, 5, 7])
        self.assertTrue(np.isnan(means[3]))

    def test_shares_of_states_add_up(self) -> None:
        starts = slice_starts(0, 40, 10)
        fine = covered_shares(np.array([0, 0]), np.array([25, 40]), 2, starts, 10)
        breached = covered_shares(np.array([25]), np.array([40]), 2, starts, 10)
        self.assertEqual(breached.tolist(), [0, 0, 0.25, 0.5])
        self.assertEqual((fine + breached).tolist(), [1, 1, 1, 1])
        self.assertEqual(covered_shares(np.empty(0, np.int64), np.empty(0, np.int64), 2, starts, 10).tolist(), [0] * 4)

    @given(st.lists(st.tuples(st.integers(0, 90), st.integers(1, 40)), max_size=30), st.integers(1, 17))
    def test_shares_are_what_counting_every_moment_gives(self, spans: list[tuple[int, int]], width: int) -> None:
        starts = slice_starts(0, 100, width)
        begun = np.array([start for start, _ in spans], dtype=np.int64)
        ended = np.array([start + length for start, length in spans], dtype=np.int64)
        moments = np.zeros(starts.size * width)
        for start, length in spans:
            moments[start : start + length] += 1
        expected = moments.reshape(-1, width).mean(axis=1) / 7
        np.testing.assert_allclose(covered_shares(begun, ended, 7, starts, width), expected, atol=1e-9)


class Schedule(unittest.TestCase):
    def test_starts_are_spread_evenly(self) -> None:
        """RFC 3432 §4 asks for a random start. A hundred agents' offsets against the uniform distribution."""
        offsets = [start_offset(f"agent {number}/7", MINUTE) / MINUTE for number in range(1000)]
        self.assertGreater(stats.kstest(offsets, "uniform").pvalue, 0.01)

    def test_the_same_seed_gives_the_same_start(self) -> None:
        self.assertEqual(start_offset("a", MINUTE), start_offset("a", MINUTE))
        self.assertNotEqual(start_offset("a", MINUTE), start_offset("b", MINUTE))

    @given(st.integers(-(10**15), 10**15), st.integers(1, 10**10), st.integers(0, 10**10))
    def test_next_slot_is_the_first_after_now(self, now: int, interval: int, offset: int) -> None:
        slot = next_slot(now, offset, interval)
        self.assertEqual((slot - offset) % interval, 0)
        self.assertTrue(now < slot <= now + interval)


class Words(unittest.TestCase):
    def test_every_reason_has_a_sentence(self) -> None:
        self.assertEqual(set(SENTENCES), set(Reason))

    def test_figures_are_rounded_to_what_matters(self) -> None:
        self.assertEqual(figure(48.237, "ms"), "48.2 ms")
        self.assertEqual(figure(0.2, "1"), "20 %")
        for quantity in QUANTITIES.values():  # no code of a unit is left in a sentence
            self.assertNotRegex(figure(12.5, quantity.unit), r"[{}]|\bBy\b|\b1$")

    def test_a_wrong_unit_is_told_with_the_right_one(self) -> None:
        check_unit("rtt", "ms", "unit")
        with self.assertRaises(SettingsError) as raised:
            check_unit("rtt", "s", "units.rtt")
        self.assertEqual((raised.exception.field, raised.exception.value), ("units.rtt", "s"))
        self.assertIn("ms", raised.exception.must)

    def reading(self, state: State, **changed: object) -> StreamReading:
        values = {
            "vantage_point": "Lundhavn", "target": "booking site", "kind": "http", "state": state, "main": "total",
            "median": 508.0, "runs": 100, "newest": {"total": 694.0}, "newest_reason": None,
            "limits": (Limit("total", 650, 800),),
        }  # fmt: skip
        return StreamReading(**(values | changed))  # type: ignore[arg-type]

    def test_a_stream_is_told_with_who_what_and_how_much(self) -> None:
        self.assertEqual(
            stream_sentence(self.reading(State.FINE)), "Lundhavn fetches booking site in 508 ms, within its limits"
        )
        self.assertEqual(
            stream_sentence(self.reading(State.DEGRADED)),
            "Lundhavn fetches booking site in 694 ms, over its degraded limit of 650 ms",
        )
        expiring = self.reading(
            State.DEGRADED,
            kind="tls",
            newest={"total": 14.8, "certificate_days": 12.4},
            limits=(Limit("certificate_days", 30, 7),),
        )
        self.assertEqual(
            stream_sentence(expiring),
            "Lundhavn agrees on TLS with booking site in 14.8 ms, with 12 days left on its certificate,"
            " under its degraded limit of 30 days",
        )
        failed = self.reading(State.BREACHED, newest={}, newest_reason=Reason.CONNECT_TIMEOUT)
        self.assertEqual(stream_sentence(failed), "Lundhavn gets no good answer from booking site: no connection in time")
        self.assertIn("silent", stream_sentence(self.reading(State.SILENT)))

"""State, by the definition in docs/how-it-computes.md: runs against limits, n of m, clearing, silence, groups."""

import itertools
import unittest

from hypothesis import given
from hypothesis import strategies as st

from kuppel.core.error import SettingsError
from kuppel.core.limit import Level, Limit, run_level
from kuppel.core.state import (
    Judgement,
    State,
    StreamState,
    after_run,
    after_time,
    group_state,
    silent_after,
)

LIMIT = Limit("total", degraded=650, breached=800, clear=600)
FINE, DEGRADED, BREACHED, SILENT = State.FINE, State.DEGRADED, State.BREACHED, State.SILENT
SECOND = 1_000_000


def states(values: list[float | None], judgement: Judgement | None = None, limit: Limit = LIMIT) -> list[State]:
    """The stream's state after each run; None is a failed run."""
    state, told = StreamState(), []
    for value in values:
        level = run_level(value is not None, {} if value is None else {limit.quantity: value}, [limit])
        state = after_run(state, level, judgement or Judgement())
        told.append(state.state)
    return told


class Levels(unittest.TestCase):
    def test_beyond_is_strictly_past_the_limit(self) -> None:
        for value, level in (
            (600, Level.INSIDE), (601, Level.BETWEEN), (650, Level.BETWEEN), (651, Level.DEGRADED),
            (800, Level.DEGRADED), (801, Level.BREACHED),
        ):  # fmt: skip
            self.assertEqual(LIMIT.level(value), level, value)

    def test_lower_can_be_worse(self) -> None:
        """A certificate is warned about 30 days before it expires (common practice, no source)."""
        limit = Limit("certificate_days", degraded=30, breached=7)
        self.assertEqual(
            [limit.level(days) for days in (31, 30, 29, 6)], [Level.INSIDE, Level.INSIDE, Level.DEGRADED, Level.BREACHED]
        )

    def test_a_failed_run_is_beyond_every_limit(self) -> None:
        self.assertEqual(run_level(False, {"total": 1}, [LIMIT]), Level.BREACHED)
        self.assertEqual(run_level(False, {}, []), Level.BREACHED)

    def test_the_worst_of_several_limits_counts(self) -> None:
        both = [LIMIT, Limit("ttfb", degraded=100)]
        self.assertEqual(run_level(True, {"total": 100, "ttfb": 101}, both), Level.DEGRADED)

    def test_levels_in_the_wrong_order_are_refused(self) -> None:
        for wrong in ({"degraded": 800, "breached": 650}, {"degraded": 650, "clear": 700}, {}):
            with self.assertRaises(SettingsError) as raised:
                Limit("total", **wrong)
            self.assertIn("limits.total", str(raised.exception))

    def test_unknown_quantity_is_refused_with_the_known_ones(self) -> None:
        with self.assertRaises(SettingsError) as raised:
            Limit("speed", degraded=1)
        self.assertIn("rtt", raised.exception.must)


class Stream(unittest.TestCase):
    def test_two_of_three_by_default(self) -> None:
        self.assertEqual(states([500, 700, 500, 700, 700]), [FINE, FINE, FINE, DEGRADED, DEGRADED])

    def test_one_bad_run_changes_nothing(self) -> None:
        self.assertEqual(states([500, 5000, 500, 500]), [FINE] * 4)

    def test_failures_breach(self) -> None:
        self.assertEqual(states([500, None, None]), [FINE, FINE, BREACHED])

    def test_between_clear_and_degraded_the_state_stays(self) -> None:
        self.assertEqual(states([700, 700, 620, 620, 620, 620]), [FINE, DEGRADED, DEGRADED, DEGRADED, DEGRADED, DEGRADED])
        self.assertEqual(states([620, 620, 620]), [FINE] * 3)

    def test_it_clears_when_n_of_m_are_inside(self) -> None:
        self.assertEqual(states([700, 700, 590, 620, 590]), [FINE, DEGRADED, DEGRADED, DEGRADED, FINE])

    def test_from_breached_by_way_of_degraded(self) -> None:
        self.assertEqual(states([900, 900, 700, 700, 500, 500]), [FINE, BREACHED, BREACHED, DEGRADED, DEGRADED, FINE])

    def test_other_numbers(self) -> None:
        self.assertEqual(states([700], Judgement(1, 1)), [DEGRADED])
        self.assertEqual(states([700] * 5, Judgement(5, 5)), [FINE] * 4 + [DEGRADED])

    def test_n_must_be_a_majority(self) -> None:
        for n, m in ((1, 2), (2, 4), (4, 3), (0, 1), (1, 21)):
            with self.assertRaises(SettingsError):
                Judgement(n, m)

    @given(st.lists(st.sampled_from(list(Level)), max_size=40), st.sampled_from([(1, 1), (2, 3), (3, 5), (3, 3)]))
    def test_the_definition_holds_after_any_runs(self, levels: list[Level], numbers: tuple[int, int]) -> None:
        """The definition itself, word for word, against the table that the code walks."""
        n, m = numbers
        state = StreamState()
        for index, level in enumerate(levels):
            before = state.state
            state = after_run(state, level, Judgement(n, m))
            window = levels[max(0, index + 1 - m) : index + 1]
            if sum(one is Level.BREACHED for one in window) >= n:
                self.assertEqual(state.state, BREACHED)
            elif sum(one is Level.INSIDE for one in window) >= n:
                self.assertEqual(state.state, FINE)
            elif before is FINE:
                worse = sum(one >= Level.DEGRADED for one in window) >= n
                self.assertEqual(state.state, DEGRADED if worse else FINE)
            elif before is DEGRADED:
                self.assertEqual(state.state, DEGRADED)
            self.assertNotEqual(state.state, SILENT)


class Silence(unittest.TestCase):
    def test_after_three_intervals_and_the_delivery_time(self) -> None:
        self.assertEqual(silent_after(60 * SECOND, 10 * SECOND), 190 * SECOND)
        before = StreamState()
        self.assertFalse(after_time(before, 0, 190 * SECOND, 60 * SECOND, 10 * SECOND).is_silent)
        self.assertTrue(after_time(before, 0, 190 * SECOND + 1, 60 * SECOND, 10 * SECOND).is_silent)

    def test_silence_is_never_shown_as_fine(self) -> None:
        silent = after_time(StreamState(), 0, 10**12, SECOND, 0)
        self.assertEqual(silent.state, SILENT)

    def test_a_breach_outlives_silence_until_enough_good_results(self) -> None:
        state = StreamState()
        for _ in range(3):
            state = after_run(state, Level.BREACHED, Judgement())
        state = after_time(state, 0, 10**12, SECOND, 0)
        state = after_run(state, Level.INSIDE, Judgement())
        self.assertEqual(state.state, BREACHED)
        self.assertEqual(after_run(state, Level.INSIDE, Judgement()).state, FINE)


class Group(unittest.TestCase):
    def test_affected_from_a_quarter_and_at_least_one(self) -> None:
        for bad, of, affected in ((1, 1, True), (1, 4, True), (1, 5, False), (2, 8, True), (2, 9, False), (0, 3, False)):
            group = group_state([BREACHED] * bad + [FINE] * (of - bad))
            self.assertEqual(group.is_affected, affected, (bad, of))

    def test_state_is_that_of_the_worst_quarter(self) -> None:
        self.assertEqual(group_state([BREACHED, DEGRADED, *[FINE] * 6]).state, DEGRADED)
        self.assertEqual(group_state([BREACHED, BREACHED, *[FINE] * 6]).state, BREACHED)
        self.assertEqual(group_state([SILENT] * 4).state, SILENT)

    def test_affected_exactly_when_not_fine(self) -> None:
        for counts in itertools.product(range(4), repeat=4):
            members = [
                state for state, count in zip((FINE, DEGRADED, BREACHED, SILENT), counts, strict=True) for _ in range(count)
            ]
            if members:
                group = group_state(members)
                self.assertEqual(group.is_affected, group.state is not FINE, members)

    def test_nobody_is_not_fine(self) -> None:
        self.assertEqual(group_state([]).state, SILENT)

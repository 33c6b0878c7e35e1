"""What arches and matters promise of any estate at all; no published source, so it is held against a count by hand."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kuppel.core.arch import Arch, ArchScope, arches
from kuppel.core.attention import Symptom, Watched, matters
from kuppel.core.state import State

POINTS, TARGETS, SLICES = "abcdef", "xyz", 24
PAIRS = [(point, target) for point in POINTS for target in TARGETS]
PROVIDERS = dict(zip(POINTS, "PPPQQR", strict=True))
NAMES: dict[ArchScope, list[str]] = {
    "vantage point": [point for point, _ in PAIRS],
    "target": [target for _, target in PAIRS],
    "provider": [PROVIDERS[point] for point, _ in PAIRS],
}


def trouble(seed: int, faults: int) -> np.ndarray:
    """Some stretches in which all streams of a vantage point, a target or a provider are in trouble, and chance."""
    draw = np.random.default_rng(seed)
    found = draw.random((len(PAIRS), SLICES)) < 0.01
    for _ in range(faults):
        scope = list(NAMES)[int(draw.integers(3))]
        name = draw.choice(sorted(set(NAMES[scope])))
        first = int(draw.integers(SLICES - 3))
        found[np.array(NAMES[scope]) == name, first : first + int(draw.integers(1, 8))] = True
    return found


def members(arch: Arch) -> np.ndarray:
    return np.flatnonzero(np.array(NAMES[arch.scope]) == arch.name)


class AnyEstate(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(st.integers(0, 100_000), st.integers(0, 6), st.integers(1, 12))
    def test_an_arch_stands_only_where_much_of_its_name_is_in_trouble(self, seed: int, faults: int, most: int) -> None:
        bad = trouble(seed, faults)
        found = arches(bad, np.zeros_like(bad), NAMES, most)
        self.assertLessEqual(len(found), most)
        self.assertEqual(found, sorted(found, key=lambda one: (one.first, one.last)))
        for one in found:
            own = members(one)
            counts = bad[own, one.first : one.last + 1].sum(axis=0)
            needed = max(2, 0.25 * own.size)
            self.assertGreaterEqual(int(counts[0]), needed)
            self.assertGreaterEqual(int(counts[-1]), needed)
            # A gap within is one slice at most.
            self.assertFalse(((counts[:-1] < needed) & (counts[1:] < needed)).any())
            self.assertLessEqual(one.share, int(counts.max()) / len(PAIRS) + 1e-12)
            self.assertFalse(one.is_breached)

    @settings(max_examples=80, deadline=None)
    @given(st.integers(0, 100_000), st.integers(1, 5))
    def test_nothing_that_is_shared_is_left_over(self, seed: int, faults: int) -> None:
        """With arches enough, what no arch explains is no stretch of any name: fewer than two of it at a time, or less
        than a quarter."""
        bad = trouble(seed, faults)
        left = bad.copy()
        for one in arches(bad, np.zeros_like(bad), NAMES, 1000):
            left[members(one), one.first : one.last + 1] = False
        for names in NAMES.values():
            for name in set(names):
                own = np.array(names) == name
                counts = left[own].sum(axis=0)
                self.assertLess(int(counts.max()), max(2, 0.25 * int(own.sum())))

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 100_000))
    def test_breached_is_what_is_mostly_so(self, seed: int) -> None:
        bad = trouble(seed, 3)
        (all_breached, none) = (arches(np.zeros_like(bad), bad, NAMES, 9), arches(bad, np.zeros_like(bad), NAMES, 9))
        self.assertEqual([(one.scope, one.name, one.first, one.last) for one in all_breached],
                         [(one.scope, one.name, one.first, one.last) for one in none])  # fmt: skip
        self.assertTrue(all(one.is_breached for one in all_breached))


class AnyMatters(unittest.TestCase):
    STATES = st.lists(st.sampled_from(list(State)), min_size=len(PAIRS), max_size=len(PAIRS))
    FLAGS = st.lists(st.booleans(), min_size=len(PAIRS), max_size=len(PAIRS))

    def watched(self, states: list[State], unusual: list[bool], failing: list[bool]) -> list[Watched]:
        return [
            Watched(
                number, point, PROVIDERS[point], target, f"fetch the {target}", state, 100 + number,
                "slower" if is_unusual else "", is_failing,
            )
            for number, ((point, target), state, is_unusual, is_failing) in enumerate(
                zip(PAIRS, states, unusual, failing, strict=True)
            )
        ]  # fmt: skip

    @settings(max_examples=200, deadline=None)
    @given(STATES, FLAGS, FLAGS)
    def test_each_stream_that_is_not_fine_is_told_once_and_a_fine_one_never_alone(
        self, states: list[State], unusual: list[bool], failing: list[bool]
    ) -> None:
        watched = self.watched(states, unusual, failing)
        found = matters(watched)
        told = [stream.stream_id for one in found for stream in one.streams]
        self.assertEqual(len(told), len(set(told)))
        bad = {one.stream_id for one in watched if not one.is_fine}
        self.assertLessEqual(bad, set(told))
        self.assertLessEqual(set(told) - bad, {one.stream_id for one in watched if one.unusual})
        for one in found:
            if one.state is State.FINE:
                self.assertGreaterEqual(len(one.streams), 3)
                self.assertGreaterEqual(len(one.streams), len(one.of) / 2)
            self.assertLessEqual({each.stream_id for each in one.streams}, {each.stream_id for each in one.of})
            self.assertTrue(all(each.name(one.scope) == one.name for each in one.streams))

    @settings(max_examples=100, deadline=None)
    @given(STATES, FLAGS)
    def test_the_order_of_the_streams_does_not_matter(self, states: list[State], failing: list[bool]) -> None:
        watched = self.watched(states, [False] * len(PAIRS), failing)

        def shown(some: list[Watched]) -> list[tuple[str, str, int]]:
            return sorted((one.scope, one.name, len(one.streams)) for one in matters(some))

        self.assertEqual(shown(watched), shown(watched[::-1]))

    def test_symptoms(self) -> None:
        def symptom(state: State, is_failing: bool) -> Symptom:
            return self.watched([state] * len(PAIRS), [False] * len(PAIRS), [is_failing] * len(PAIRS))[0].symptom

        self.assertEqual(symptom(State.SILENT, True), "silent")
        self.assertEqual(symptom(State.BREACHED, True), "failing")
        self.assertEqual(symptom(State.DEGRADED, False), "bad")
        self.assertEqual(symptom(State.FINE, True), "bad")


if __name__ == "__main__":
    unittest.main()

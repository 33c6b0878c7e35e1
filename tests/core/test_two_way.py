"""Two-way trains and reordering, against the standards' worked examples."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kuppel.core.delay import pdv
from kuppel.core.reordering import arrivals, reordered_ratio
from kuppel.core.two_way import Answer, Clocks, Losses, losses, two_way

MS = 1_000_000


class Reordering(unittest.TestCase):
    def test_the_example_with_one_late_packet(self) -> None:
        """RFC 4737 §7.1: sent every 20 ms, packet 4 arrives after 8: extent 4, one of ten reordered."""
        order = [1, 2, 3, 5, 6, 7, 8, 4, 9, 10]
        self.assertEqual([one.extent for one in arrivals(order)], [0] * 7 + [4] + [0] * 2)
        self.assertEqual([one.sequence for one in arrivals(order) if one.is_reordered], [4])
        self.assertEqual(reordered_ratio(order), 0.1)

    def test_the_example_with_two_late_packets(self) -> None:
        """RFC 4737 §7.2: 1 2 3 4 7 5 6 8 9 10: extents 1 and 2."""
        found = {one.sequence: one.extent for one in arrivals([1, 2, 3, 4, 7, 5, 6, 8, 9, 10]) if one.is_reordered}
        self.assertEqual(found, {5: 1, 6: 2})

    @given(st.lists(st.integers(0, 20), max_size=30))
    def test_by_the_definition(self, order: list[int]) -> None:
        """§3.3 word by word: reordered when a larger number came before; duplicates of either kind are left out."""
        found = arrivals(order)
        for at, one in enumerate(found):
            before = order[:at]
            self.assertEqual(one.is_duplicate, one.sequence in before)
            self.assertEqual(one.is_reordered, not one.is_duplicate and any(other > one.sequence for other in before))
        self.assertIsNone(reordered_ratio([]))


class Variation(unittest.TestCase):
    def test_delays_of_rfc_5481(self) -> None:
        """RFC 5481 §4 (from memory; the arithmetic is certain): delays 20, 10, 20, 25, 20 ms against the least."""
        self.assertEqual(pdv([20, 10, 20, 25, 20]), [10, 0, 10, 15, 10])

    def test_a_lost_packet_takes_one_value_only(self) -> None:
        """RFC 5481 §6.2: every other packet lost leaves no IPDV at all, but a PDV for each that came."""
        self.assertEqual(pdv([20, None, 21, None, 22]), [0, None, 1, None, 2])


class Trains(unittest.TestCase):
    def train(self, lost_forth: set[int], lost_back: set[int], count: int = 12, offset_ms: float = 0) -> tuple:
        """Packets every 20 ms: 10 ms there (15 for every third), 1 ms kept, 8 ms back; the far clock is off."""
        sent, answers, number = [], [], 0
        for at in range(count):
            sent.append(at * 20 * MS)
            if at in lost_forth:
                answers.append(None)
                continue
            forth = 15 if at % 3 == 0 else 10
            far = sent[-1] + round((forth + offset_ms) * MS)
            answer = Answer(sent[-1] + (forth + 1 + 8) * MS, far, far + MS, number)
            number += 1
            answers.append(None if at in lost_back else answer)
        return sent, answers

    def test_loss_by_way(self) -> None:
        """RFC 7680 for each way; the last lost ones are of neither, since no answer tells how far they came."""
        _, answers = self.train({2, 5}, {3, 10, 11})
        self.assertEqual(losses(answers), Losses(2, 1, 2))
        self.assertEqual(losses([None] * 4), Losses(0, 0, 4))

    @given(st.sets(st.integers(0, 11)), st.sets(st.integers(0, 11)))
    def test_loss_by_way_is_what_was_lost(self, forth: set[int], back: set[int]) -> None:
        _, answers = self.train(forth, back)
        answered = [at for at, one in enumerate(answers) if one is not None]
        if not answered:
            return
        last = max(answered)
        found = losses(answers)
        self.assertEqual(found.forth, len([one for one in forth if one < last]))
        self.assertEqual(found.back, len([one for one in back - forth if one < last]))
        self.assertEqual(found.unknown, 11 - last)

    def test_figures(self) -> None:
        sent, answers = self.train(set(), set())
        order = [0, 1, 3, 2, *range(4, 12), 11]
        found = two_way(sent, answers, order, Clocks(200_000))
        assert found is not None
        self.assertEqual(found.round_trips_us[:3], [23_000, 18_000, 18_000])
        self.assertEqual((found.delay_forth, found.delay_back, found.clock_error), (10, 8, 0.2))
        self.assertEqual((found.pdv_forth, found.pdv_back), (5, 0))
        self.assertAlmostEqual(found.reordered_ratio, 1 / 12)
        self.assertEqual(found.duplicates, 1)
        self.assertIsNone(two_way(sent, [None] * 12, [], Clocks(None)))

    def test_clocks_that_do_not_agree_change_only_the_one_way_delays(self) -> None:
        """Round trip and variation are free of an offset (RFC 8762 §4.2.1); one-way delays are then not told at all."""
        near = two_way(*self.train(set(), set()), list(range(12)), Clocks(None))
        far = two_way(*self.train(set(), set(), offset_ms=7_000), list(range(12)), Clocks(None))
        assert near is not None
        assert far is not None
        self.assertEqual(near.round_trips_us, far.round_trips_us)
        self.assertEqual((near.pdv_forth, near.pdv_back), (far.pdv_forth, far.pdv_back))
        self.assertEqual((near.delay_forth, far.delay_back), (None, None))

"""The E-model and its surroundings against the values that ITU-T and IETF publish."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kuppel.core.two_way import Answer, lost_by_way
from kuppel.core.voice import (
    CODECS,
    absolute_delay_impairment,
    burst_ratio,
    bursts,
    effective_impairment,
    good_or_better,
    judge,
    mean_opinion_score,
    play,
    poor_or_worse,
    rating,
)


class Rating(unittest.TestCase):
    def test_defaults_give_93_2(self) -> None:
        """ITU-T G.107 §7.6: with every parameter at its default, R = 93.2."""
        self.assertAlmostEqual(rating(0), 93.2, 1)
        self.assertAlmostEqual(mean_opinion_score(rating(0)), 4.41, 2)

    def test_one_way_delay_with_the_echo_of_a_good_telephone(self) -> None:
        """G.107 with T = Ta, Tr = 2·Ta, TELR = 65: recomputed from its formulas apart from this code (check values)."""
        for delay_ms, expected in (
            (50, 91.76), (100, 90.66), (150, 89.54), (200, 85.80), (250, 79.18), (300, 72.67), (400, 62.25),
        ):  # fmt: skip
            self.assertAlmostEqual(rating(delay_ms), expected, 2, f"{delay_ms} ms")

    def test_delay_alone(self) -> None:
        """G.107 §7.4, Idd."""
        for delay_ms, expected in (
            (100, 0), (125, 0.005), (150, 0.164), (200, 3.044), (300, 14.761), (400, 24.070), (800, 40.832),
        ):  # fmt: skip
            self.assertAlmostEqual(absolute_delay_impairment(delay_ms), expected, 3)

    def test_categories(self) -> None:
        """G.109 table 1 and G.107 annex B: R against MOS, good or better, poor or worse. The printed MOS of R = 80 is 4.03,
        the formula's 4.024: hence the tolerance."""
        for r, score, good, poor in (
            (90, 4.34, 97.0, 0.2), (80, 4.03, 89.4, 1.4), (70, 3.60, 73.4, 5.9), (60, 3.10, 50.0, 17.4),
            (50, 2.58, 26.6, 37.7),
        ):  # fmt: skip
            self.assertAlmostEqual(mean_opinion_score(r), score, delta=0.01)
            self.assertAlmostEqual(good_or_better(r) * 100, good, delta=0.06)
            self.assertAlmostEqual(poor_or_worse(r) * 100, poor, delta=0.06)

    def test_ends(self) -> None:
        self.assertEqual([mean_opinion_score(r) for r in (-5, 0, 3, 100, 120)], [1, 1, 1, 4.5, 4.5])

    @given(st.floats(0, 100), st.floats(0, 100))
    def test_a_better_rating_is_never_a_worse_score(self, one: float, other: float) -> None:
        low, high = sorted((one, other))
        self.assertLessEqual(mean_opinion_score(low), mean_opinion_score(high) + 1e-12)


class Codecs(unittest.TestCase):
    def test_planning_values_with_loss(self) -> None:
        """G.113 appendix I (Ie, Bpl) in G.107 §7.5, as R = 93.2 − Ie,eff at 0, 1 and 2 % of loss, and the score of each."""
        for name, ratings, scores in (
            ("G.711", (93.20, 75.28, 63.04), (4.41, 3.83, 3.26)),
            ("G.711 with concealment", (93.20, 89.56, 86.19), (4.41, 4.33, 4.23)),
            ("G.729A", (82.20, 78.00, 74.20), (4.10, 3.95, 3.79)),
            ("G.723.1", (78.20, 73.52, 69.36), (3.95, 3.76, 3.57)),
            ("GSM EFR", (88.20, 80.02, 73.20), (4.29, 4.02, 3.74)),
        ):
            for percent, r, score in zip((0, 1, 2), ratings, scores, strict=True):
                found = 93.2 - effective_impairment(CODECS[name], percent / 100)
                self.assertAlmostEqual(found, r, 2, f"{name} at {percent} %")
                self.assertAlmostEqual(mean_opinion_score(found), score, delta=0.006)

    def test_bursts_hurt_more(self) -> None:
        """BurstR = 2 at 2 % for G.729A: Ie,eff 19.40 (from the formula, check values)."""
        self.assertAlmostEqual(effective_impairment(CODECS["G.729A"], 0.02, 2), 19.40, 2)


class Loss(unittest.TestCase):
    def test_a_late_packet_is_as_good_as_lost(self) -> None:
        found = play([10, 12, None, 55, 49.9], 40)
        self.assertEqual((found.lost, found.discarded, found.network_ms), (1, 1, 10))
        self.assertEqual(found.is_played, (True, True, False, False, True))

    def test_bursts_and_gaps(self) -> None:
        """RFC 3611 §4.7.2: losses less than Gmin = 16 packets apart are one burst; a lone one is in the gap."""
        stream = [True] * 200
        for at in (20, 22, 30, 100, 150, 166):
            stream[at] = False
        found = bursts(stream)
        # 20 to 30, and 150 to 166 (15 good ones between); the one at 100 is in the gap.
        self.assertEqual(found.burst_packets, (11 + 17) / 2)
        self.assertAlmostEqual(found.burst_density, 5 / 28)
        self.assertAlmostEqual(found.gap_density, 1 / 172)
        self.assertEqual(bursts(stream, gmin=15).burst_packets, 11)

    def test_no_loss_has_no_burst(self) -> None:
        found = bursts([True] * 10)
        self.assertEqual((found.burst_density, found.gap_density, found.burst_ratio), (0, 0, 1))

    def test_burst_ratio_of_a_two_state_chain(self) -> None:
        """G.107 §7.5: BurstR = 1 / (p + q) for the chain that goes from good to lost with p and back with q. Here runs of
        four lost after sixteen good: p = 1/16, q = 1/4, so 3.2."""
        self.assertAlmostEqual(burst_ratio(([True] * 16 + [False] * 4) * 50), 1 / (1 / 16 + 1 / 4))

    def test_where_packets_were_lost(self) -> None:
        """The reflector counted 0, 1, 4: two of the three between came there; two more it may never have seen."""
        answers = [Answer(9, 5, 6, 0), Answer(9, 5, 6, 1), None, None, None, Answer(9, 5, 6, 4), None, None]
        self.assertEqual(lost_by_way(answers), ({2}, {3, 4}))

    def test_a_way_is_judged_with_delay_buffer_and_loss(self) -> None:
        """A good line: network 30, packet 20, buffer 40 ms; R of 90 ms one way by the model's own table is near 90.9."""
        found = judge(CODECS["G.711 with concealment"], 20, [30.0] * 500, 30, 40)
        self.assertEqual(found.mouth_to_ear_ms, 90)
        self.assertAlmostEqual(found.rating, rating(90))
        worse = judge(CODECS["G.711 with concealment"], 20, [30.0] * 490 + [None] * 10, 30, 40)
        self.assertLess(worse.rating, found.rating)
        self.assertEqual((worse.loss_ratio, worse.discard_ratio), (0.02, 0))

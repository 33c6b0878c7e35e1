"""Paths from answers of hops: how many flows are enough, and what they say together."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kuppel.core.path import HopAnswer, distinct, flows_missing, nodes, stopping_point, ways_of, written

# Augustin, Friedman, Teixeira, "Multipath tracing with Paris traceroute" (2007), table of stopping points at 95 %.
PUBLISHED = (6, 11, 16, 21, 27, 33, 38, 44, 51, 57, 63, 70, 76, 83, 90, 96)


class StoppingPoints(unittest.TestCase):
    def test_the_published_table(self) -> None:
        self.assertEqual(tuple(stopping_point(k, 0.95) for k in range(1, 17)), PUBLISHED)

    def test_more_confidence_needs_more_flows(self) -> None:
        # Two ways, n flows: the chance to miss one is 2 / 2ⁿ; 2⁻⁷ ≤ 1 % and 2⁻¹⁰ ≤ 0.1 %.
        self.assertEqual((stopping_point(1, 0.99), stopping_point(1, 0.999)), (8, 11))


class FlowsMissing(unittest.TestCase):
    def test_one_way_is_enough_after_six_flows_of_it(self) -> None:
        ways = [["a", "b", "t"]] * 6
        self.assertEqual(flows_missing(ways[:1], 0.95), 5)
        self.assertEqual(flows_missing(ways, 0.95), 0)

    def test_a_fork_asks_for_as_many_flows_as_two_next_hops_need(self) -> None:
        ways = [["a", "b", "t"]] * 3 + [["a", "c", "t"]] * 3
        self.assertEqual(flows_missing(ways, 0.95), 11 - 6)

    def test_flows_count_at_the_node_that_they_pass(self) -> None:
        """A fork behind a fork is seen by half of the flows: there need to be twice as many."""
        ways = [["b", "d"], ["b", "e"], ["b", "d"], ["b", "e"], ["b", "d"], ["b", "e"]] + [["c", "f"]] * 6
        self.assertEqual(flows_missing(ways, 0.95), 11 - 6)

    def test_a_silent_hop_is_no_further_next_hop(self) -> None:
        self.assertEqual(flows_missing([["a", None, "t"], ["a", "b", "t"]] * 3, 0.95), 0)


class Ways(unittest.TestCase):
    def answers(self) -> list[HopAnswer]:
        return [
            HopAnswer(0, 1, "exceeded", "a", 100.0, 64),
            HopAnswer(0, 2, "silent"),
            HopAnswer(0, 2, "exceeded", "b", 300.0),
            HopAnswer(0, 3, "reached", "t", 500.0),
            HopAnswer(0, 4, "reached", "t", 510.0),
            HopAnswer(1, 1, "exceeded", "a", 200.0, 64),
            HopAnswer(1, 2, "silent"),
            HopAnswer(1, 3, "reached", "t", 700.0),
        ]

    def test_a_way_ends_where_the_target_answered_first(self) -> None:
        self.assertEqual(ways_of(self.answers()), {0: ["a", "b", "t"], 1: ["a", None, "t"]})

    def test_nodes_count_what_was_sent_and_answered_along_their_flows(self) -> None:
        found = {(one.ttl, one.address): one for one in nodes(self.answers())}
        first = found[1, "a"]
        self.assertEqual((first.sent, first.answered, first.flows, first.rtt_min_us), (2, 2, (0, 1), 100.0))
        self.assertEqual((found[2, "b"].sent, found[2, "b"].answered, found[2, "b"].loss_ratio), (2, 1, 0.5))
        self.assertEqual((found[2, None].sent, found[2, None].answered), (1, 0))
        self.assertNotIn(4, {ttl for ttl, _ in found})

    def test_written_in_one_line(self) -> None:
        self.assertEqual(written(list(ways_of(self.answers()).values())), "a > b > t")

    @given(st.lists(st.lists(st.sampled_from(["a", "b", None]), min_size=1, max_size=4), max_size=8))
    def test_distinct_ways_do_not_depend_on_the_order(self, ways: list[list[str | None]]) -> None:
        found = distinct(ways)
        if all(hop is not None for way in ways for hop in way):
            self.assertEqual(len(found), len(distinct(list(reversed(ways)))))
        self.assertLessEqual(len(found), len(ways))

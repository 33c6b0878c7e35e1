"""What needs attention: every stream that is not fine once, under what it shares. Invented estates; no published source."""

import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from kuppel.core.attention import Watched, matters, summary, told
from kuppel.core.state import SEVERITY, State

POINTS = {"Lundhavn": "Quillnet", "Ines H.": "Quillnet", "Olu A.": "Quillnet", "Brannick": "Vaskfiber", "North": "Harrow"}
TARGETS = ("booking site", "booking API", "crew roster", "island DNS")


def estate(bad: dict[tuple[str, str], State]) -> list[Watched]:
    """Every point towards every target, fine but for those named; `*` stands for all."""
    found = []
    for number, (point, target) in enumerate((point, target) for point in POINTS for target in TARGETS):
        state = next((one for (who, what), one in bad.items() if who in ("*", point) and what in ("*", target)), State.FINE)
        found.append(Watched(number, point, POINTS[point], target, f"fetch the {target}", state, 1000 + number))
    return found


class Gathered(unittest.TestCase):
    def test_a_target_that_all_see_broken(self) -> None:
        (one,) = matters(estate({("*", "booking API"): State.BREACHED}))
        self.assertEqual((one.scope, one.name, one.state, len(one.streams)), ("target", "booking API", State.BREACHED, 5))
        self.assertEqual(told(one), "The booking API is breached from all 5 vantage points")

    def test_a_provider_of_which_all_customers_wait(self) -> None:
        bad = {(point, "*"): State.DEGRADED for point, provider in POINTS.items() if provider == "Quillnet"}
        (one,) = matters(estate(bad))
        self.assertEqual((one.scope, one.name), ("provider", "Quillnet"))
        self.assertEqual(told(one), "All 3 vantage points at Quillnet are degraded: Ines H., Lundhavn and Olu A.")

    def test_one_customer_is_not_its_provider(self) -> None:
        (one,) = matters(estate({("Brannick", "*"): State.BREACHED}))
        self.assertEqual((one.scope, one.name), ("vantage point", "Brannick"))
        self.assertTrue(told(one).startswith("Brannick is breached towards all 4 targets: booking API"))

    def test_two_things_at_once_are_two_matters_worst_first(self) -> None:
        found = matters(estate({("*", "booking API"): State.BREACHED, ("North", "*"): State.SILENT}))
        self.assertEqual([(one.scope, one.name) for one in found], [("target", "booking API"), ("vantage point", "North")])
        self.assertEqual(told(found[1]), "North has sent nothing for its 4 streams")

    def test_one_stream_stands_alone(self) -> None:
        (one,) = matters(estate({("North", "island DNS"): State.DEGRADED}))
        self.assertEqual((one.scope, told(one)), ("stream", "North is degraded towards the island DNS"))

    def test_what_few_of_one_probe_have_is_told_once(self) -> None:
        """Too few of the target's streams to name it, and of nobody else's; but the same probe."""
        watched = [
            Watched(
                number, f"point {number}", f"provider {number}", "site", f"probe {number % 2}",
                State.BREACHED if number in (0, 2, 7) else State.FINE, number,
            )
            for number in range(20)
        ]  # fmt: skip
        found = matters(watched)
        self.assertEqual([(one.scope, one.name) for one in found], [("probe", "probe 0"), ("stream", "7")])
        self.assertEqual(told(found[0]), "The probe “probe 0” is breached from 2 of 10 vantage points: point 0 and point 2")

    def test_a_provider_that_is_slower_than_usual_while_its_streams_keep_their_limits(self) -> None:
        watched = [
            replace(one, unusual="slower" if one.provider == "Quillnet" else "", state=State.DEGRADED)
            if one.vantage_point == "Ines H." and one.target == "booking API"
            else replace(one, unusual="slower" if one.provider == "Quillnet" else "")
            for one in estate({})
        ]
        (one,) = matters(watched)
        self.assertEqual((one.scope, one.name, one.state, len(one.streams)), ("provider", "Quillnet", State.DEGRADED, 12))
        self.assertEqual(
            told(one),
            "All 3 vantage points at Quillnet are slower than usual: Ines H., Lundhavn and Olu A.;"
            " 1 of 12 streams is degraded",
        )
        all_fine = [replace(one, state=State.FINE) for one in watched]
        (one,) = matters(all_fine)
        self.assertEqual((one.state, one.since_us), (State.FINE, None))
        self.assertIn("1 unlike usual", summary([one], [True], [True]))

    def test_a_stream_unlike_itself_within_its_limits_is_no_matter(self) -> None:
        watched = [replace(one, unusual="worse" if one.stream_id in (3, 8) else "") for one in estate({})]
        self.assertEqual(matters(watched), [])

    def test_what_fails_is_not_explained_by_what_is_slow(self) -> None:
        """A provider is slow, and a target fails for all: its customers' failures are the target's."""
        watched = []
        for one in estate({("*", "booking API"): State.BREACHED}):
            is_slow = one.provider == "Quillnet"
            watched.append(replace(one, unusual="slower" if is_slow else "", is_failing=one.state is State.BREACHED))
        found = {(one.scope, one.name): len(one.streams) for one in matters(watched)}
        self.assertEqual(found, {("target", "booking API"): 5, ("provider", "Quillnet"): 9})

    def test_a_vantage_point_of_two_symptoms_is_one_matter(self) -> None:
        watched = [
            replace(one, state=State.BREACHED, is_failing=one.target == "island DNS")
            if one.vantage_point == "North"
            else one
            for one in estate({})
        ]
        (one,) = matters(watched)
        self.assertEqual((one.scope, one.name, len(one.streams)), ("vantage point", "North", 4))

    def test_what_comes_and_goes_is_said_to(self) -> None:
        watched = [
            replace(one, state=State.DEGRADED, is_on_and_off=True) if one.stream_id == 19 else one for one in estate({})
        ]
        (one,) = matters(watched)
        self.assertEqual(told(one), "North is degraded on and off towards the island DNS")

    def test_all_is_fine(self) -> None:
        self.assertEqual(matters(estate({})), [])
        self.assertEqual(summary([], [False] * 5, [False] * 4), "All is fine: 5 vantage points, 4 targets.")
        self.assertEqual(summary([], [], []), "Nothing is measured yet.")

    def test_the_summary_counts_what_is_affected(self) -> None:
        found = matters(estate({("*", "booking API"): State.BREACHED, ("North", "*"): State.SILENT}))
        self.assertEqual(
            summary(found, [True] * 5, [True, False, False, False]),
            "2 things need attention: 1 breached, 1 silent. 5 of 5 vantage points and 1 of 4 targets are affected.",
        )

    def test_many_names_are_cut_and_counted(self) -> None:
        watched = [
            Watched(number, f"point {number:02}", "provider", f"target {number % 7}", f"probe {number}", State.DEGRADED, 0)
            for number in range(9)
        ]
        (one,) = matters(watched)
        self.assertEqual(one.scope, "provider")
        self.assertTrue(told(one).endswith("point 00, point 01, point 02, point 03 and 5 more"), told(one))

    def test_thousands_of_streams_are_gathered_in_one_pass_each(self) -> None:
        """Not a timed test: 6,000 streams of which a third are in trouble would take minutes pair by pair."""
        watched = [
            Watched(
                number, f"point {number % 200}", f"provider {number % 9}", f"target {number % 31}", f"probe {number % 77}",
                State.BREACHED if number % 31 in (3, 4) or number % 200 == 7 else State.FINE, number,
            )
            for number in range(6_000)
        ]  # fmt: skip
        self.assertEqual(
            [(one.scope, one.name) for one in matters(watched)][:3],
            [("target", "target 3"), ("target", "target 4"), ("vantage point", "point 7")],
        )

    @given(st.lists(st.sampled_from(list(State)), min_size=20, max_size=20))
    def test_every_stream_that_is_not_fine_is_in_exactly_one(self, states: list[State]) -> None:
        watched = [
            Watched(one.stream_id, one.vantage_point, one.provider, one.target, one.probe, state, one.since_us)
            for one, state in zip(estate({}), states, strict=True)
        ]
        found = matters(watched)
        told_of = sorted(stream.stream_id for one in found for stream in one.streams)
        self.assertEqual(told_of, [one.stream_id for one in watched if one.state is not State.FINE])
        severities = [SEVERITY[one.state] for one in found]
        self.assertEqual(severities, sorted(severities, reverse=True))
        self.assertTrue(all(told(one) for one in found))


if __name__ == "__main__":
    unittest.main()

"""The ships of the made-up line: to and fro at their speed, with a rest at either end."""

import itertools
import json
import unittest

from kuppel.core.duration import DAY_US, HOUR_US, MINUTE_US
from kuppel.core.position import Position, distance_m
from kuppel.lab.skerry.archipelago import COAST, PLACES
from kuppel.lab.skerry.estate import POINTS
from kuppel.lab.skerry.ferries import LINES

BEGUN = 20_000 * DAY_US
# A knot is 1,852 m an hour (SI brochure, 8th edition, table 8).
KNOTS_15_M_A_MINUTE = 15 * 1852 / 60


class Timetable(unittest.TestCase):
    def moves(self, name: str, hours: int = 24) -> list[float]:
        """How far it went in each minute, in m."""
        where = [LINES[name].at(BEGUN + minute * MINUTE_US) for minute in range(hours * 60)]
        return [distance_m(one, other) for one, other in itertools.pairwise(where)]

    def test_every_ship_sails_at_15_knots_or_lies_still(self) -> None:
        for name in LINES:
            moves = self.moves(name)
            sailing = [one for one in moves if one > 1]
            steady = [one for one in sailing if abs(one / KNOTS_15_M_A_MINUTE - 1) < 0.01]
            # But for the minutes in which it leaves, turns at a place on its way, or comes.
            self.assertGreater(len(steady), 0.9 * len(sailing), name)
            self.assertLess(max(moves), KNOTS_15_M_A_MINUTE * 1.01, name)

    def test_it_rests_half_an_hour_at_either_end_and_nowhere_else(self) -> None:
        for name, line in LINES.items():
            ends = (line.points[0], line.points[-1])
            seen = set()
            for is_still, run in itertools.groupby(enumerate(self.moves(name, 48)), lambda one: one[1] < 1):
                minutes = [at for at, _ in run]
                if not is_still or minutes[0] == 0 or minutes[-1] == 48 * 60 - 2:
                    continue
                self.assertIn(len(minutes), (29, 30), name)
                where = line.at(BEGUN + minutes[5] * MINUTE_US)
                (end,) = [number for number, one in enumerate(ends) if distance_m(one, where) < 1]
                seen.add(end)
            self.assertEqual(seen, {0, 1}, name)

    def test_the_same_moment_is_the_same_place_and_a_round_later_too(self) -> None:
        for line in LINES.values():
            moment = BEGUN + 7 * HOUR_US
            self.assertEqual(line.at(moment), line.at(moment))
            found = [
                minute
                for minute in range(60, 24 * 60)
                if distance_m(line.at(moment), line.at(moment + minute * MINUTE_US)) < KNOTS_15_M_A_MINUTE
            ]
            self.assertTrue(found)

    def test_every_ship_of_the_estate_has_a_line_and_is_told_by_it(self) -> None:
        ships = {one.name: one.words for one in POINTS if one.kind == "mobile"}
        self.assertEqual(ships.keys(), LINES.keys())
        self.assertEqual(ships["MV Fulmar"], "ship, Brannick to Lundhavn")

    def test_no_ship_sails_over_land(self) -> None:
        """Against the coast that the map draws: whether a point is inside a polygon by the crossings of a ray (Shimrat,
        Algorithm 112, CACM 1962)."""
        rings = [feature["geometry"]["coordinates"][0] for feature in json.loads(COAST.read_text())["features"]]

        def is_land(at: Position) -> bool:
            crossed = 0
            for ring in rings:
                for (x, y), (other_x, other_y) in itertools.pairwise([*ring, ring[0]]):
                    if (y > at.latitude) != (other_y > at.latitude):
                        east = x + (at.latitude - y) / (other_y - y) * (other_x - x)
                        crossed += at.longitude < east
            return crossed % 2 == 1

        self.assertTrue(is_land(Position(PLACES["Lundhavn"].longitude, PLACES["Lundhavn"].latitude)))
        for name, line in LINES.items():
            for minute in range(0, 12 * 60, 3):
                self.assertFalse(is_land(line.at(BEGUN + minute * MINUTE_US)), f"{name} after {minute} min")

    def test_roads_lie_off_the_harbour_that_they_are_named_after(self) -> None:
        """Nearer to it than to any other, and within 15 km: the islands are that large."""
        harbours = {name: Position(one.longitude, one.latitude) for name, one in PLACES.items()}
        for line in LINES.values():
            for name, roads in zip(line.harbours, (line.points[0], line.points[-1]), strict=True):
                apart = {each: distance_m(where, roads) for each, where in harbours.items()}
                self.assertEqual(min(apart, key=apart.__getitem__), name)
                self.assertLess(apart[name], 15_000)


if __name__ == "__main__":
    unittest.main()

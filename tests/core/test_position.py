"""Distances over the earth: against a worked example and against geodesics of the ellipsoid."""

import math
import random
import unittest

from geographiclib.geodesic import Geodesic

from kuppel.core.position import EARTH_RADIUS_M, Position, along, distance_m, is_elsewhere


def minutes(degrees: float, arc_minutes: float) -> float:
    return degrees + arc_minutes / 60


class Distance(unittest.TestCase):
    def test_the_formularys_example(self) -> None:
        """E. Williams, Aviation Formulary, "Worked examples": Los Angeles to New York, 0.623585 radians (from memory)."""
        los_angeles = Position(-minutes(118, 24), minutes(33, 57))
        new_york = Position(-minutes(73, 47), minutes(40, 38))
        self.assertAlmostEqual(distance_m(los_angeles, new_york) / EARTH_RADIUS_M, 0.623585, places=6)

    def test_a_sphere_is_within_0_6_percent_of_the_ellipsoid(self) -> None:
        """Karney's geodesics on WGS 84 (geographiclib). A sphere is off by up to 0.56 % (the flattening and its half)."""
        draw = random.Random(8)
        for _ in range(500):
            one, other = (Position(draw.uniform(-180, 180), draw.uniform(-85, 85)) for _ in range(2))
            exact = Geodesic.WGS84.Inverse(one.latitude, one.longitude, other.latitude, other.longitude)["s12"]
            self.assertAlmostEqual(distance_m(one, other) / exact, 1, delta=0.006, msg=f"{one} {other}")
            self.assertEqual(distance_m(one, other), distance_m(other, one))

    def test_over_the_date_line_and_over_a_pole(self) -> None:
        self.assertAlmostEqual(distance_m(Position(179.5, 0), Position(-179.5, 0)), 111_195, delta=1)
        self.assertAlmostEqual(distance_m(Position(0, 89), Position(180, 89)), 2 * 111_195, delta=2)
        # Opposite ends of the earth: half its circumference, and no error of rounding makes it fail.
        self.assertAlmostEqual(distance_m(Position(10, 20), Position(-170, -20)), math.pi * EARTH_RADIUS_M, delta=1)

    def test_what_wanders_by_metres_stays_where_it_is(self) -> None:
        here = Position(0.2, 60.3)
        # A degree of longitude at 60.3° N is 55 km: a thousandth of it 55 m, two thousandths 110 m.
        self.assertFalse(is_elsewhere(here, Position(0.201, 60.3)))
        self.assertTrue(is_elsewhere(here, Position(0.202, 60.3)))


class Along(unittest.TestCase):
    WAY = (Position(0, 60), Position(1, 60), Position(1, 61))

    def test_a_share_of_the_way_is_that_share_of_its_length(self) -> None:
        lengths = [distance_m(self.WAY[0], self.WAY[1]), distance_m(self.WAY[1], self.WAY[2])]
        whole = sum(lengths)
        for share in (0.1, 0.25, 0.5, 0.9):
            found = along(self.WAY, share)
            left = share * whole
            leg = 0 if left < lengths[0] else 1
            # Straight in degrees is not quite the shortest way: over a degree within 0.01 %.
            gone = sum(lengths[:leg]) + distance_m(self.WAY[leg], found)
            self.assertAlmostEqual(gone / whole, share, places=4)

    def test_it_ends_where_the_way_ends(self) -> None:
        for share, wanted in ((-1.0, self.WAY[0]), (0.0, self.WAY[0]), (1.0, self.WAY[2]), (3.0, self.WAY[2])):
            found = along(self.WAY, share)
            self.assertAlmostEqual(distance_m(found, wanted), 0, delta=0.01)

    def test_points_twice_at_one_place_are_no_obstacle(self) -> None:
        twice = (self.WAY[0], self.WAY[0], self.WAY[1])
        self.assertAlmostEqual(along(twice, 0.5).longitude, 0.5, places=6)
        self.assertEqual(along((self.WAY[0], self.WAY[0]), 0.5), self.WAY[0])


if __name__ == "__main__":
    unittest.main()

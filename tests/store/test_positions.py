"""Where what moves has been: kept when it moved, read from where it was when a window began."""

import itertools
import random
import unittest
from functools import partial

from kuppel.core.duration import DAY_US, MINUTE_US
from kuppel.core.position import Position, distance_m
from kuppel.store import inventory, positions
from kuppel.store.compaction import Compaction, Keep
from kuppel.store.positions import Fix
from tests.store.test_store import StoreCase

BEGUN = 20_000 * DAY_US


class Positions(StoreCase):
    def setUp(self) -> None:
        super().setUp()
        self.a_stream()
        self.ship, self.other = self.points

    def note(self, minute: int, longitude: float, latitude: float = 60.0, point: int | None = None) -> None:
        fix = Fix(BEGUN + minute * MINUTE_US, Position(longitude, latitude))
        self.writer.write(partial(positions.note, vantage_point_id=point or self.ship, fix=fix))

    def course(self, from_minute: int, to_minute: int) -> dict[int, list[tuple[int, float]]]:
        with self.database.reading() as connection:
            found = positions.courses(connection, BEGUN + from_minute * MINUTE_US, BEGUN + to_minute * MINUTE_US)
        return {
            point: [((one.time_us - BEGUN) // MINUTE_US, one.position.longitude) for one in fixes]
            for point, fixes in found.items()
        }

    def where(self, point: int) -> tuple[float | None, float | None]:
        with self.database.reading() as connection:
            one = inventory.vantage_point(connection, point)
        return one.longitude, one.latitude

    def test_a_row_for_each_place_and_none_while_it_stands(self) -> None:
        for minute, longitude in enumerate((0.0, 0.0005, 0.001, 0.01, 0.0104, 0.02)):
            self.note(minute, longitude)
        # At 60° N a thousandth of a degree is 56 m: the second and third are the first place still, the fifth the fourth.
        self.assertEqual(self.course(0, 100), {self.ship: [(0, 0.0), (3, 0.01), (5, 0.02)]})
        self.assertEqual(self.where(self.ship), (0.02, 60.0))
        self.assertEqual(self.where(self.other), (None, None))

    def test_a_slow_drift_is_noticed_once_it_adds_up(self) -> None:
        for minute in range(100):
            self.note(minute, 0.0001 * minute)
        (fixes,) = self.course(0, 200).values()
        steps = [distance_m(Position(one, 60), Position(other, 60)) for (_, one), (_, other) in itertools.pairwise(fixes)]
        # Each step is at least 100 m, and no more than one reading (5.6 m) beyond.
        self.assertTrue(all(100 <= step < 106 for step in steps), steps)
        self.assertEqual(len(fixes), 1 + int(0.0099 / 0.0018))

    def test_a_window_begins_where_each_was(self) -> None:
        for minute in range(0, 60, 10):
            self.note(minute, minute / 10)
            self.note(minute + 5, -minute / 10, point=self.other)
        self.assertEqual(
            self.course(20, 40),
            {self.ship: [(10, 1.0), (20, 2.0), (30, 3.0)], self.other: [(15, -1.0), (25, -2.0), (35, -3.0)]},
        )
        # Nothing moved in it: it is where it was.
        self.assertEqual(self.course(100, 200), {self.ship: [(50, 5.0)], self.other: [(55, -5.0)]})
        self.assertEqual(self.course(-10, 0), {})

    def test_any_window_against_all_that_was_told(self) -> None:
        draw = random.Random(4)
        told = sorted(draw.sample(range(1000), 80))
        for minute in told:
            self.note(minute, minute / 100)
        for _ in range(50):
            start, end = sorted(draw.sample(range(1000), 2))
            before = [one for one in told if one < start][-1:]
            wanted = before + [one for one in told if start <= one < end]
            self.assertEqual([minute for minute, _ in self.course(start, end).get(self.ship, [])], wanted)

    def test_many_at_once_and_what_is_there_already_stays(self) -> None:
        fixes = [Fix(BEGUN + minute * MINUTE_US, Position(minute / 10, 60)) for minute in range(5)]
        self.writer.write(partial(positions.add, vantage_point_id=self.ship, fixes=fixes))
        self.writer.write(partial(positions.add, vantage_point_id=self.ship, fixes=[]))
        again = [Fix(BEGUN + 4 * MINUTE_US, Position(9, 60)), Fix(BEGUN + 5 * MINUTE_US, Position(0.5, 60))]
        self.writer.write(partial(positions.add, vantage_point_id=self.ship, fixes=again))
        self.assertEqual([longitude for _, longitude in self.course(0, 10)[self.ship]], [0, 0.1, 0.2, 0.3, 0.4, 0.5])
        self.assertEqual(self.where(self.ship), (0.5, 60.0))

    def test_old_places_are_forgotten_with_the_samples(self) -> None:
        for day in range(5):
            self.note(day * 24 * 60, float(day))
        keep = Keep(details_us=DAY_US, samples_us=2 * DAY_US, summaries_us=DAY_US)
        Compaction(self.database, self.writer).retire(BEGUN + 4 * DAY_US, keep)
        self.assertEqual([longitude for _, longitude in self.course(0, 10_000)[self.ship]], [2.0, 3.0, 4.0])
        # Where it is now is not forgotten, however long ago it came there.
        Compaction(self.database, self.writer).retire(BEGUN + 40 * DAY_US, keep)
        self.assertEqual((self.course(0, 10_000), self.where(self.ship)), ({}, (4.0, 60.0)))


if __name__ == "__main__":
    unittest.main()

"""How long room lasts, against adding it up day by day."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kuppel.core.storage import Growth, at_rest, days_until_full, in_bytes, room_sentence

GROWTHS = st.lists(st.builds(Growth, st.floats(0, 1000), st.none() | st.integers(0, 60).map(float)), max_size=4)


class Room(unittest.TestCase):
    @given(st.integers(1, 20_000), GROWTHS)
    def test_it_is_what_adding_up_the_days_gives(self, free: int, growths: list[Growth]) -> None:
        found = days_until_full(free, growths)
        room, day = float(free), 0
        while day < 70:
            rate = sum(one.bytes_per_day for one in growths if one.days_left is None or one.days_left > day)
            if rate and room / rate <= 1:
                self.assertIsNotNone(found)
                self.assertAlmostEqual(found or 0, day + room / rate, places=3)
                return
            room -= rate
            day += 1
        # What grows after these days grows for ever.
        lasting = sum(one.bytes_per_day for one in growths if one.days_left is None)
        if lasting < 1e-9:
            self.assertTrue(found is None or found > 60)
        else:
            self.assertAlmostEqual((found or 0) / (70 + room / lasting), 1, places=6)

    def test_what_it_comes_to(self) -> None:
        self.assertEqual(at_rest([Growth(10, 5), Growth(3, 0), Growth(2, None)]), (50, 2))

    def test_words(self) -> None:
        self.assertIn("once a day has been finished", room_sentence(None, None, 5))
        self.assertIn("in about 2.4 years", room_sentence(880, (1e9, 5), 5))
        self.assertNotIn("Make room", room_sentence(880, (1e9, 5), 5))
        self.assertIn("Make room", room_sentence(12, (1e9, 5), 5))
        self.assertEqual(room_sentence(None, (1.5e9, 0), 5), "The disk has room: the store comes to about 1.5 GB.")
        self.assertIn("grows by 30.0 kB a day from then on", room_sentence(10**6, (1.5e9, 30_000), 5))
        self.assertIn("server of its own", room_sentence(None, (1e9, 5), None))
        self.assertEqual([in_bytes(one) for one in (0, 1500, 999_600, 2e12)], ["0 B", "1.5 kB", "1000 kB", "2.0 TB"])

"""Vitals against the published definitions and their worked cases (web.dev; figures checked with the npm package
web-vitals)."""

import unittest

from kuppel.core.vitals import (
    Frame,
    Shift,
    Stretch,
    cumulative_layout_shift,
    speed_index,
    time_to_interactive,
    total_blocking_time,
    visual_progress,
    visually_complete,
)


class LayoutShift(unittest.TestCase):
    def score(self, *shifts: tuple[float, float]) -> float:
        return round(cumulative_layout_shift([Shift(at, score) for at, score in shifts]), 6)

    def test_a_gap_of_a_second_begins_a_new_session(self) -> None:
        self.assertEqual(self.score((0, 0.05), (999, 0.05)), 0.1)
        self.assertEqual(self.score((0, 0.05), (1000, 0.05)), 0.05)

    def test_a_session_ends_after_five_seconds(self) -> None:
        self.assertEqual(self.score(*((n * 900, 0.02) for n in range(10))), 0.12)
        self.assertEqual(self.score(*((at, 0.1) for at in (0, 833, 1666, 2499, 3332, 4165, 4999))), 0.7)
        self.assertEqual(self.score(*((at, 0.1) for at in (0, 833, 1666, 2499, 3332, 4165, 5000))), 0.6)

    def test_what_the_user_caused_does_not_count(self) -> None:
        self.assertEqual(cumulative_layout_shift([Shift(0, 0.3, had_recent_input=True), Shift(10, 0.1)]), 0.1)
        self.assertEqual(cumulative_layout_shift([]), 0)

    def test_one_shift(self) -> None:
        """web.dev: impact fraction 0.75 × distance fraction 0.25 = 0.1875."""
        self.assertEqual(self.score((5, 0.75 * 0.25)), 0.1875)


class Blocking(unittest.TestCase):
    def test_the_worked_example(self) -> None:
        """web.dev, "Total Blocking Time": tasks of 250, 90, 35, 30 and 155 ms block for 200 + 40 + 0 + 0 + 105 = 345 ms."""
        lengths, at, tasks = (250, 90, 35, 30, 155), 0.0, []
        for length in lengths:
            tasks.append(Stretch(at, at + length))
            at += length + 10
        self.assertEqual(total_blocking_time(tasks, 0, 10_000), 345)

    def test_only_between_paint_and_interactive(self) -> None:
        tasks = [Stretch(0, 300), Stretch(400, 500), Stretch(900, 1200)]
        self.assertEqual(total_blocking_time(tasks, 200, 800), 50 + 50)


class Interactive(unittest.TestCase):
    """web.dev, "Time to Interactive": quiet is 5 s without long tasks and with at most two requests under way."""

    def test_the_end_of_the_last_long_task_before_the_quiet_window(self) -> None:
        tasks = [Stretch(1000, 1200), Stretch(3000, 3100), Stretch(9000, 9100)]
        self.assertEqual(time_to_interactive(800, 900, tasks, [], 5000), 3100)

    def test_without_long_tasks_it_is_the_first_paint_or_the_content(self) -> None:
        self.assertEqual(time_to_interactive(800, 700, [], [], 5000), 800)
        self.assertEqual(time_to_interactive(800, 1500, [], [], 5000), 1500)

    def test_three_requests_are_not_quiet(self) -> None:
        tasks = [Stretch(1000, 1100), Stretch(6000, 6200)]
        busy = [Stretch(500, 7000)] * 3
        self.assertEqual(time_to_interactive(800, 900, tasks, busy[:2], 4000), 1100)
        self.assertEqual(time_to_interactive(800, 900, tasks, busy, 4000), 6200)


class Looks(unittest.TestCase):
    FRAMES = (Frame(0, (100, 0)), Frame(400, (60, 40)), Frame(1000, (2, 98)), Frame(1500, (0, 100)))

    def test_progress_is_the_distance_to_the_last_frame(self) -> None:
        self.assertEqual([round(share, 6) for _, share in visual_progress(self.FRAMES)], [0, 0.4, 0.98, 1])

    def test_complete_and_the_mean_time_of_appearing(self) -> None:
        progress = visual_progress(self.FRAMES)
        self.assertEqual(visually_complete(progress), 1000)
        # 400 ms of nothing, 600 ms with 60 % missing, 500 ms with 2 % missing.
        self.assertAlmostEqual(speed_index(progress) or 0, 400 + 360 + 10)

    def test_a_page_that_never_changes_was_complete_at_once(self) -> None:
        progress = visual_progress([Frame(50, (1, 1)), Frame(90, (1, 1))])
        self.assertEqual(visually_complete(progress), 50)
        self.assertEqual((visual_progress([]), visually_complete([]), speed_index([])), ([], None, None))

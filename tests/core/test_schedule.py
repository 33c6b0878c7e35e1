"""Schedules against their standards: periodic and Poisson streams, crontab lines over a change of the clock, quiet
hours."""

import itertools
import math
import random
import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from kuppel.core.duration import DAY_US, HOUR_US, MINUTE_US, SECOND_US
from kuppel.core.error import SettingsError
from kuppel.core.schedule import (
    Timing,
    expected_runs,
    exponential_gap,
    is_quiet,
    longest_gap,
    next_run,
    runs_a_day,
    usual_gap,
)

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def at(text: str) -> int:
    return (datetime.fromisoformat(text).replace(tzinfo=UTC) - EPOCH) // timedelta(microseconds=1)


def runs(timing: Timing, after: str, count: int, seed: str = "s") -> list[str]:
    now, found = at(after), []
    for _ in range(count):
        now = next_run(timing, now, seed)
        found.append((EPOCH + timedelta(microseconds=now)).strftime("%m-%d %H:%M"))
    return found


class Periodic(unittest.TestCase):
    def test_even_from_a_start_that_differs(self) -> None:
        """RFC 3432 §4.2: a fixed interval from a random start."""
        timing = Timing("every", 60 * SECOND_US)
        starts = [next_run(timing, 0, f"agent {n}") for n in range(200)]
        self.assertGreater(stats.kstest([one / timing.interval_us for one in starts], "uniform").pvalue, 1e-4)
        first = next_run(timing, 12_345, "a")
        self.assertEqual(next_run(timing, first, "a") - first, 60 * SECOND_US)

    def test_quiet_hours_are_left_out(self) -> None:
        timing = Timing("every", 30 * MINUTE_US, quiet=(("22:00", "06:00"),))
        found = list(itertools.accumulate(range(100), lambda now, _: next_run(timing, now, "s"), initial=at("2026-03-02")))
        hours = {int(one % DAY_US // HOUR_US) for one in found[1:]}
        self.assertEqual(hours, set(range(6, 22)))
        gaps = [after - before for before, after in itertools.pairwise(found[1:])]
        self.assertEqual((min(gaps), max(gaps)), (30 * MINUTE_US, 8 * HOUR_US + 30 * MINUTE_US))
        self.assertEqual(longest_gap(timing), max(gaps))


class Poisson(unittest.TestCase):
    def test_gaps_are_exponential(self) -> None:
        """RFC 2330 §11.1.1: exponentially distributed times between; the mean is the interval."""
        draw = random.Random(7)
        gaps = [exponential_gap(60 * SECOND_US, draw.random()) / SECOND_US for _ in range(5000)]
        self.assertGreater(stats.kstest(gaps, "expon", args=(0, 60)).pvalue, 1e-3)

    def test_it_is_called_silent_once_in_a_thousand_gaps(self) -> None:
        timing = Timing("poisson", 60 * SECOND_US)
        self.assertAlmostEqual(math.exp(-3 * longest_gap(timing) / timing.interval_us), 1 / 1000, 6)


class Crontab(unittest.TestCase):
    """POSIX crontab; over a change of the clock as cron of Debian 12 documents it (cron(8))."""

    def test_working_hours(self) -> None:
        timing = Timing("cron", cron="*/30 8-9 * * 1-5")
        expected = ["11-26 08:00", "11-26 08:30", "11-26 09:00", "11-26 09:30", "11-27 08:00"]
        self.assertEqual(runs(timing, "2026-11-26T00:00", 5), expected)
        # Friday 09:30 to Monday 08:00.
        self.assertEqual((usual_gap(timing), longest_gap(timing)), (30 * MINUTE_US, 70 * HOUR_US + 30 * MINUTE_US))
        self.assertEqual(expected_runs(timing, at("2026-11-23"), at("2026-11-30")), 20)
        self.assertAlmostEqual(runs_a_day(timing), 20 / 7, 1)

    def test_day_and_weekday_together_mean_either(self) -> None:
        """POSIX crontab: if both are restricted, either matching will do. 2026-05-13 is a Wednesday."""
        timing = Timing("cron", cron="0 12 13 * 5")
        self.assertEqual(runs(timing, "2026-05-09T00:00", 3), ["05-13 12:00", "05-15 12:00", "05-22 12:00"])

    def test_a_daily_run_keeps_its_local_time_over_the_change(self) -> None:
        """Oslo leaves summer time on 2026-10-25: 06:00 is 04:00 UTC before and 05:00 UTC after."""
        timing = Timing("daily", at="06:00", zone="Europe/Oslo")
        self.assertEqual(runs(timing, "2026-10-23T12:00", 3), ["10-24 04:00", "10-25 05:00", "10-26 05:00"])

    def test_the_spread_keeps_agents_apart_and_each_to_its_own_time(self) -> None:
        timing = Timing("daily", at="02:00", spread_us=2 * HOUR_US)
        firsts = [next_run(timing, at("2026-03-02"), f"agent {n}") for n in range(300)]
        self.assertTrue(all(at("2026-03-02T02:00") <= one < at("2026-03-02T04:00") for one in firsts))
        self.assertGreater(len(set(firsts)), 290)
        self.assertEqual(next_run(timing, firsts[5], "agent 5"), firsts[5] + DAY_US)


class Bursts(unittest.TestCase):
    TIMING = Timing("every", 300 * SECOND_US, burst_interval_us=15 * SECOND_US, burst_for_us=120 * SECOND_US)

    def test_faster_while_a_burst_lasts(self) -> None:
        calm = next_run(self.TIMING, 0, "s")
        self.assertEqual(next_run(self.TIMING, calm, "s", burst_until_us=calm + 120 * SECOND_US), calm + 15 * SECOND_US)
        self.assertEqual(next_run(self.TIMING, calm, "s", burst_until_us=calm), calm + 300 * SECOND_US)

    def test_not_even_a_burst_breaks_quiet_hours(self) -> None:
        timing = Timing("every", HOUR_US, quiet=(("01:00", "02:00"),), burst_interval_us=SECOND_US, burst_for_us=HOUR_US)
        found = next_run(timing, at("2026-03-02T00:59:59"), "s", burst_until_us=at("2026-03-02T01:59:00"))
        self.assertEqual(found, at("2026-03-02T02:00"))


class Counts(unittest.TestCase):
    def test_a_day_of_each_way(self) -> None:
        for timing, count in (
            (Timing("every", 60 * SECOND_US), 1440),
            (Timing("poisson", 60 * SECOND_US), 1440),
            (Timing("every", 60 * SECOND_US, quiet=(("20:00", "08:00"),)), 720),
            (Timing("daily", at="03:00"), 1),
            (Timing("cron", cron="0 * * * *"), 24),
        ):
            self.assertAlmostEqual(runs_a_day(timing), count, 3, timing.way)
            self.assertEqual(expected_runs(timing, at("2026-03-02"), at("2026-03-03")), count)

    @settings(max_examples=60, deadline=None)
    @given(
        st.sampled_from(["every", "daily", "cron"]),
        st.integers(0, 23),
        st.integers(0, 23),
        st.integers(0, 2 * DAY_US),
    )
    def test_no_run_is_ever_in_quiet_hours_or_not_after(self, way: str, start: int, end: int, now_us: int) -> None:
        quiet = () if start == end else ((f"{start:02}:00", f"{end:02}:00"),)
        try:
            timing = Timing(way, 7 * MINUTE_US, cron="*/7 * * * *", at="12:30", quiet=quiet)  # type: ignore[arg-type]
        except SettingsError as error:  # the one time of its day is quiet
            self.assertEqual((way, error.field), ("daily", "schedule.quiet"))
            return
        found = next_run(timing, now_us, "s")
        self.assertGreater(found, now_us)
        self.assertFalse(is_quiet(timing, found))


class Refused(unittest.TestCase):
    def test_what_cannot_be_is_named(self) -> None:
        for changed, field in (
            ({"way": "cron", "cron": "* * * *"}, "schedule.cron"),
            ({"way": "cron", "cron": "61 * * * *"}, "schedule.cron"),
            ({"way": "cron", "cron": "0 0 30 2 *"}, "schedule.cron"),
            ({"way": "daily", "at": "24:00"}, "schedule.at"),
            ({"zone": "Skerry/Brannick"}, "schedule.zone"),
            ({"interval_us": 10}, "schedule.interval_s"),
            ({"quiet": (("00:00", "12:00"), ("12:00", "00:00"))}, "schedule.quiet"),
            ({"quiet": (("8:00", "12:00"),)}, "schedule.quiet"),
            ({"burst_for_us": SECOND_US}, "schedule.burst_for_s"),
            ({"spread_us": DAY_US}, "schedule.spread_s"),
        ):
            with self.assertRaises(SettingsError) as raised:
                Timing(**changed)  # type: ignore[arg-type]
            self.assertEqual(raised.exception.field, field)

"""Finished days: the same answers before and after, late runs in their place, and nothing lost however it is killed."""

import random
import tempfile
import unittest
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from sqlalchemy import select, text, update

from kuppel.core.duration import DAY_US
from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Result
from kuppel.core.sketch import ALPHA, quantile, sketch
from kuppel.store import days, history, inventory, maintenance, rollup, summary, tables, totals
from kuppel.store.compaction import Compaction, Keep
from kuppel.store.database import Connection, Database, DatabaseUnusable
from kuppel.store.intake import NumberedResult, store_results
from kuppel.store.writer import StoreFull
from tests.store.killing import kill_often
from tests.store.test_store import StoreCase

MINUTE = 60_000_000
FIRST = 20_000 * DAY_US
NOW = FIRST + 3 * DAY_US + 12 * 3_600_000_000


def a_result(time_us: int, generator: random.Random) -> Result:
    """One in fifty fails; the others have two quantities, one of them now and then only."""
    if generator.random() < 0.02:
        return Result(time_us, Reason.TIMEOUT, {}, {}, (Attempt(time_us, 5_000_000, Reason.TIMEOUT, "late"),) * 2)
    quantities = {"total": round(generator.lognormvariate(4, 0.3), 3)}
    if generator.random() < 0.3:
        quantities["tls"] = round(generator.random(), 9)
    return Result(time_us, None, quantities, {"address": "192.0.2.7"}, (Attempt(time_us, 1000),), {"status": 200})


class DaysCase(StoreCase):
    def setUp(self) -> None:
        super().setUp()
        self.stream = self.a_stream()
        self.compaction = Compaction(self.database, self.writer)
        generator = random.Random(3)
        # Three and a half days, a run a minute with a little jitter.
        times = range(FIRST + 7 * MINUTE, NOW, MINUTE)
        self.results = [
            NumberedResult(0, self.stream, a_result(one + generator.randrange(20_000), generator)) for one in times
        ]

    def store(self, results: list[NumberedResult]) -> None:
        self.writer.write(lambda connection: store_results(connection, results, is_generated=False))

    def spoil(self, day_us: int) -> None:
        """Add an octet to the block of times of a day."""

        def job(connection: Connection) -> None:
            (series,) = days.series_of(connection, [self.stream], [days.TIMES])
            own = tables.block.c.key == days.block_key(series, day_us)
            payload = connection.execute(select(tables.block.c.payload).where(own)).scalar_one()
            connection.execute(update(tables.block).where(own).values(payload=payload + b"\0"))

        self.writer.write(job)

    def told(self, from_us: int = 0, to_us: int = NOW) -> object:
        """Everything that reading tells of a window."""
        starts = np.arange(FIRST, NOW, 3_600_000_000)
        starts_of_minutes = np.arange(FIRST, FIRST + DAY_US, 7 * MINUTE)
        with self.database.reading() as connection:
            found = history.samples(connection, [self.stream], ["total", "tls"], from_us, to_us)
            return (
                {name: (times.tolist(), values.tolist()) for (_, name), (times, values) in sorted(found.items())},
                [times.tolist() for times in history.run_times(connection, self.stream, from_us, to_us)],
                totals.run_counts(connection, [self.stream], from_us, to_us),
                history.runs(connection, self.stream, from_us, to_us, 10_000),
                history.runs(connection, self.stream, from_us, to_us, 50, is_failed_only=True),
                history.runs_after(connection, self.stream, to_us - 5000 * MINUTE, 7),
                history.runs_after(connection, self.stream, from_us, 2000),
                history.runs_per_slice(connection, starts, 3_600_000_000, FIRST, NOW).tolist(),
                history.runs_per_slice(connection, starts, 7 * MINUTE, FIRST, FIRST).tolist(),
                history.measured(connection, starts, 3_600_000_000, FIRST, NOW).tolist(),
                history.measured(connection, np.arange(FIRST, NOW, DAY_US), DAY_US, FIRST, NOW).tolist(),
                history.measured(connection, starts_of_minutes, 7 * MINUTE, FIRST + MINUTE, FIRST + DAY_US).tolist(),
            )


class Finishing(DaysCase):
    def test_reading_tells_the_same_before_and_after(self) -> None:
        self.store(self.results)
        windows = [(0, NOW), (FIRST + 90 * MINUTE, FIRST + DAY_US + 5 * MINUTE), (FIRST + DAY_US, FIRST + 2 * DAY_US)]
        before = [self.told(*window) for window in windows]
        self.assertEqual(self.compaction.run(NOW), 3)
        self.assertEqual([self.told(*window) for window in windows], before)
        with self.database.reading() as connection:
            self.assertEqual(days.horizon(connection), FIRST + 3 * DAY_US)
            left = connection.execute(text("SELECT min(time_us), count(*) FROM run")).one()
        self.assertGreaterEqual(left[0], FIRST + 3 * DAY_US)
        self.assertEqual(left[1], sum(one.result.started_us >= FIRST + 3 * DAY_US for one in self.results))

    def test_runs_since_several_moments_are_those_of_the_results(self) -> None:
        """Moments before, at and after the last finished midnight, one after the end; against counting the results."""
        self.store(self.results)
        other = self.stream + 1
        starts = [0, FIRST + 90 * MINUTE, FIRST + 3 * DAY_US, FIRST + 3 * DAY_US + 11 * MINUTE, NOW + MINUTE]
        for _ in range(2):
            with self.database.reading() as connection:
                found = totals.run_counts_since(connection, [self.stream, other], starts, NOW - MINUTE)
            for start, counts in zip(starts, found, strict=True):
                own = [one.result for one in self.results if start <= one.result.started_us < NOW - MINUTE]
                wanted = (sum(one.reason is None for one in own), len(own))
                self.assertEqual(counts, {self.stream: wanted, other: (0, 0)}, start)
            self.compaction.run(NOW)

    def test_a_day_is_finished_only_when_it_is_over(self) -> None:
        self.store(self.results)
        self.assertEqual(self.compaction.run(FIRST + DAY_US + 3_600_000_000), 0)
        self.assertEqual(self.compaction.run(FIRST + DAY_US + 3 * 3_600_000_000), 1)

    def test_late_runs_find_their_place_and_come_once(self) -> None:
        generator = random.Random(9)
        late = [one for one in self.results if generator.random() < 0.1]
        self.store(self.results)
        whole = self.told()
        self.setUp()
        self.store([one for one in self.results if one not in late])
        self.compaction.run(NOW)
        for number in range(0, len(late), 50):
            self.store(late[number : number + 50])
            self.store(late[number : number + 50])
        self.assertEqual(self.told(), whole)

    def test_a_run_that_arrives_while_its_day_is_compressed_is_not_lost(self) -> None:
        held, rest = self.results[100], [one for one in self.results if one is not self.results[100]]
        self.store(rest)
        write = days.write_days
        calls = []

        def interrupted(connection: object, encoded: object) -> None:
            write(connection, encoded)  # type: ignore[arg-type]
            if not calls:
                calls.append(1)
                store_results(connection, [held], is_generated=False)  # type: ignore[arg-type]

        with mock.patch.object(days, "write_days", interrupted):
            self.compaction.run(NOW)
        with self.database.reading() as connection:
            ok, failed = history.run_times(connection, self.stream, 0, NOW)
        self.assertEqual(ok.size + failed.size, len(self.results))
        self.assertIn(held.result.started_us, [*ok.tolist(), *failed.tolist()])

    def test_two_that_finish_the_same_days_do_not_harm_each_other(self) -> None:
        """The command line beside a running hub: the second finds its day finished in the middle of its work."""
        self.store(self.results)
        before = self.told()
        other = Compaction(self.database, self.writer)
        encode = days.encode_day
        calls = []

        def slow(*parts: Any) -> Any:
            if not calls:
                calls.append(1)
                other.run(NOW)
            return encode(*parts)

        with mock.patch.object(days, "encode_day", slow):
            self.compaction.run(NOW)
        self.assertEqual(self.told(), before)

    def test_it_stops_when_asked_and_goes_on_later(self) -> None:
        self.store(self.results)
        before = self.told()
        for allowed in range(1, 40, 9):
            left = iter([True] * allowed)
            self.compaction.run(NOW, lambda left=left: next(left, False))  # type: ignore[misc]
            self.assertEqual(self.told(), before)
        self.compaction.run(NOW)
        self.assertEqual(self.told(), before)


class Summaries(DaysCase):
    def test_they_are_those_of_the_samples(self) -> None:
        """Merged summaries against the samples themselves: counts, sum and ends exactly, percentiles within 1 %."""
        self.store(self.results)
        self.compaction.run(NOW)
        end = FIRST + 3 * DAY_US
        day_two = FIRST + DAY_US
        for from_us, to_us in ((FIRST, end), (FIRST + 100 * MINUTE, end - 3 * MINUTE), (day_two, day_two + 9 * MINUTE)):
            with self.database.reading() as connection:
                found = summary.merged(
                    rollup.finished_summaries(connection, {self.stream: "total"}, from_us, to_us)[self.stream]
                )
            inside = [one.result for one in self.results if from_us <= one.result.started_us < to_us]
            values = np.array([one.quantities["total"] for one in inside if one.is_ok])
            self.assertEqual((found.count, found.failed), (values.size, len(inside) - values.size))
            self.assertAlmostEqual(found.sum, values.sum(), places=6)
            self.assertEqual((found.least, found.most), (values.min(), values.max()))
            for share in (0.5, 0.95, 0.99):
                exact = float(np.percentile(values, share * 100, method="inverted_cdf"))
                self.assertLessEqual(abs(quantile(found.sketch, share) - exact), ALPHA * exact * 1.000001)

    def test_sketches_over_finished_days_and_rows_together(self) -> None:
        self.store(self.results)
        self.compaction.run(NOW)
        with self.database.reading() as connection:
            found = rollup.sketches_of(connection, [(self.stream, "total")], FIRST + 90 * MINUTE, NOW)[self.stream, "total"]
            times, values = history.samples(connection, [self.stream], ["total"], FIRST + 90 * MINUTE, NOW)[
                self.stream, "total"
            ]
        whole = sketch(values)
        self.assertEqual(found.count, times.size)
        self.assertEqual((found.keys.tolist(), found.counts.tolist()), (whole.keys.tolist(), whole.counts.tolist()))

    def test_hours_come_back_as_they_were(self) -> None:
        values = np.random.default_rng(1).lognormal(3, 1, 500)
        times = np.sort(np.random.default_rng(2).integers(FIRST, FIRST + DAY_US, 500))
        hours = summary.hours_of(FIRST, times, values, times[:3])
        back = summary.decode_hours(summary.encode_hours(hours))
        self.assertEqual(back.keys(), hours.keys())
        for hour, one in hours.items():
            self.assertEqual((back[hour].count, back[hour].least, back[hour].most), (one.count, one.least, one.most))
            self.assertAlmostEqual(back[hour].sum, one.sum, places=5)
            self.assertEqual(back[hour].sketch.counts.tolist(), one.sketch.counts.tolist())


class Damage(DaysCase):
    def test_a_broken_block_costs_its_day_and_no_other(self) -> None:
        self.store(self.results)
        self.compaction.run(NOW)

        self.spoil(FIRST + DAY_US)
        with self.database.reading() as connection:
            times, _ = history.samples(connection, [self.stream], ["total"], 0, NOW)[self.stream, "total"]
        found = set((times // DAY_US).tolist())
        self.assertEqual(found, {20_000, 20_002, 20_003})


class Keeping(DaysCase):
    def test_each_kind_is_kept_as_long_as_it_was_said(self) -> None:
        self.store(self.results)
        self.compaction.run(NOW)
        # Details for one day and a half, samples for two and a half, summaries for good.
        self.compaction.retire(NOW, Keep(DAY_US * 3 // 2, DAY_US * 5 // 2, 900 * DAY_US))
        with self.database.reading() as connection:
            found = history.runs(connection, self.stream, 0, NOW, 10_000)
            counted = summary.merged(
                rollup.finished_summaries(connection, {self.stream: "total"}, FIRST, FIRST + 3 * DAY_US)[self.stream]
            )
        self.assertEqual({one.time_us // DAY_US for one in found}, {20_001, 20_002, 20_003})
        self.assertEqual({one.time_us // DAY_US for one in found if not one.attempts}, {20_001})
        before = [one.result for one in self.results if one.result.started_us < FIRST + 3 * DAY_US]
        self.assertEqual(counted.count, sum(one.is_ok for one in before))

    def test_a_removed_probe_takes_its_days_along_and_stops_nothing(self) -> None:
        self.store(self.results)
        self.compaction.run(FIRST + DAY_US + 3 * 3_600_000_000)
        self.writer.write(partial(inventory.remove_probe, probe_id=self.probe.id))
        self.assertEqual(self.compaction.run(NOW), 2)
        with self.database.reading() as connection:
            for table in ("block", "day_summary", "hour_summaries"):
                self.assertEqual(connection.exec_driver_sql(f"SELECT count(*) FROM {table}").scalar(), 0)


class Maintenance(DaysCase):
    def test_a_copy_made_in_use_is_whole_and_can_be_put_back(self) -> None:
        self.store(self.results)
        self.compaction.run(NOW)
        before = self.told()
        copy = self.path.with_name("copy.db")
        maintenance.back_up(self.path, copy)
        with self.assertRaisesRegex(DatabaseUnusable, "exists already"):
            maintenance.back_up(self.path, copy)
        elsewhere = self.path.with_name("elsewhere") / "kuppel.db"
        elsewhere.parent.mkdir()
        elsewhere.write_bytes(b"")
        self.assertEqual(maintenance.restore(copy, elsewhere), elsewhere.with_name("before-restore.db"))
        self.database = Database(elsewhere)
        self.addCleanup(self.database.close)
        self.assertEqual(self.told(), before)
        self.assertTrue(maintenance.check(self.database).is_sound)

    def test_what_is_no_copy_leaves_the_database_alone(self) -> None:
        wrong = self.path.with_name("wrong.db")
        wrong.write_bytes(b"not a database at all" * 100)
        target = self.path.with_name("kept.db")
        target.write_bytes(b"kept")
        with self.assertRaises(DatabaseUnusable):
            maintenance.restore(wrong, target)
        self.assertEqual(target.read_bytes(), b"kept")

    def test_a_check_names_the_damaged_day(self) -> None:
        self.store(self.results)
        self.compaction.run(NOW)
        self.spoil(FIRST + DAY_US)
        report = maintenance.check(self.database)
        self.assertEqual((report.is_sound, len(report.damaged)), (False, 1))
        # Day 20,001 since 1970.
        self.assertIn("2024-10-05", report.damaged[0])


class Killed(unittest.TestCase):
    def test_killed_while_it_takes_results_and_finishes_days(self) -> None:
        """All that was acknowledged is there, once, with its values; `./run bench store` does it a hundred times."""
        with tempfile.TemporaryDirectory() as folder:
            outcome = kill_often(Path(folder), 12, seed=5)
        self.assertGreater(outcome.acknowledged, 500)
        self.assertEqual((outcome.lost, outcome.twice, outcome.wrong, outcome.damaged), (0, 0, 0, 0))


class FullDisk(DaysCase):
    def test_a_day_that_finds_no_room_is_finished_later(self) -> None:
        """SQLite's own limit on pages gives its own error in mid-work: nothing is lost, and it goes on later."""
        self.store(self.results)
        before = self.told()

        def limit(connection: Connection) -> None:
            pages = connection.exec_driver_sql("PRAGMA page_count").scalar_one()
            connection.exec_driver_sql(f"PRAGMA max_page_count={pages}").scalar()

        self.writer.write(limit)
        with self.assertRaises(StoreFull):
            self.compaction.run(NOW)
        self.assertEqual(self.told(), before)
        self.writer.write(lambda connection: connection.exec_driver_sql("PRAGMA max_page_count=1073741823").scalar())
        self.assertEqual(self.compaction.run(NOW), 3)
        self.assertEqual(self.told(), before)


class Odd(DaysCase):
    def test_times_out_of_order_twice_and_with_a_clock_that_jumped(self) -> None:
        """What an agent sends after its clock was set back: runs out of order, some at times that are there already. The
        first of a time is kept, all others are, and days are finished as ever."""
        jumped = [replace(one, result=replace(one.result, started_us=one.result.started_us)) for one in self.results[:900]]
        doubled = [
            replace(one, result=replace(one.result, quantities={"total": 9_999.0}, reason=None))
            for one in self.results[100:200]
        ]
        shuffled = [*jumped[500:], *jumped[:500], *doubled, *self.results[900:]]
        self.store(self.results)
        whole = self.told()
        self.setUp()
        for at in range(0, len(shuffled), 97):
            self.store(shuffled[at : at + 97])
        self.assertEqual(self.told(), whole)
        self.compaction.run(NOW)
        self.store(doubled)
        self.assertEqual(self.told(), whole)

    def test_a_day_with_a_single_run_and_one_with_none(self) -> None:
        lone = self.results[2000]
        self.store([lone, self.results[-1]])
        before = self.told()
        self.assertEqual(self.compaction.run(NOW), 1)
        self.assertEqual(self.told(), before)
